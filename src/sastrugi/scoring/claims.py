"""What a program says of its own results: a table with any order of columns (docs/formats/claims.md)."""

from __future__ import annotations

import csv
import json
import math
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from sastrugi.errors import SastrugiError
from sastrugi.recovery.manifest import MANIFEST, MANIFEST_HEAD

COLUMNS: dict[str, tuple[str, ...]] = {
    "file": ("file", "result", "result file", "path", "output"),
    "confidence": ("confidence", "sure", "certainty", "probability"),
}
"""What is read of a table, and the headings under which it may stand, in any order and case."""
_LARGEST = 256 << 20


@dataclass(frozen=True, slots=True)
class Claim:
    """What a program says of one result: how sure it is (0 to 1) that it is intact."""

    confidence: float | None = None


def read_claims(table: Path | None, results: Path) -> dict[str, Claim]:
    """Claims by the result's path below the results folder; from `table` (CSV, or a JSON list of objects), or from our
    own manifest in the folder. Raises SastrugiError if a table that was named cannot be used."""
    if table is None:
        manifest = results / MANIFEST
        try:
            if not manifest.read_bytes()[:64].startswith(MANIFEST_HEAD.encode()):
                return {}
        except OSError:
            return {}
        table = manifest
    rows = _rows(table)
    out: dict[str, Claim] = {}
    roots = (f"{results.resolve()}/", f"{results}/", f"{results.name}/")
    for number, row in enumerate(rows, 2):
        given = {str(key).strip().casefold(): value for key, value in row.items() if key is not None}
        found = {key: _value(given, names) for key, names in COLUMNS.items()}
        if not found["file"]:
            heads = ", ".join(sorted(map(str, row))[:8])
            known = ", ".join(COLUMNS["file"])
            raise SastrugiError(f"{table}, row {number}: has no column 'file' (it has {heads}): name it one of {known}")
        out[_below(found["file"], roots)] = Claim(_confidence(table, number, found["confidence"]))
    return out


def _rows(table: Path) -> list[dict[str, Any]]:
    try:
        if table.stat().st_size > _LARGEST:
            raise SastrugiError(f"{table}: is larger than any table of results")
        text = table.read_text("utf-8-sig")
        if table.suffix.lower() == ".json":
            rows = json.loads(text)
            if not isinstance(rows, list) or not all(isinstance(row, dict) for row in rows):
                raise SastrugiError(f"{table}: is no list of objects, one for each result")
            return rows
        sample = text[:4096].partition("\n")[0]
        separator = max(",;\t", key=sample.count)
        return list(csv.DictReader(text.splitlines(), delimiter=separator))
    except (OSError, ValueError, csv.Error, RecursionError) as error:
        raise SastrugiError(f"{table}: cannot be read as a table: {error}") from error


def _value(given: dict[str, Any], names: tuple[str, ...]) -> str:
    return next((str(given[name]) for name in names if given.get(name) not in (None, "")), "")


def _below(path: str, roots: tuple[str, ...]) -> str:
    """The path as results are named: below their folder, with slashes."""
    path = path.replace("\\", "/")
    for root in roots:
        if path.startswith(root):
            return path.removeprefix(root)
    return path.lstrip("/").removeprefix("./")


def _confidence(table: Path, number: int, text: str) -> float | None:
    if not text:
        return None
    try:
        value = float(text.strip().removesuffix("%")) / (100 if text.strip().endswith("%") else 1)
    except ValueError:
        value = math.nan
    if not 0 <= value <= 1:
        raise SastrugiError(f"{table}, row {number}: '{text[:40]}' is no confidence: write 0 to 1, or a percentage")
    return value
