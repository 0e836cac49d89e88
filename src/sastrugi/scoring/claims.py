"""What a program says of its own results: a table with any order of columns (docs/formats/claims.md)."""

from __future__ import annotations

import datetime as dt
import math
import re
from collections import Counter
from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from sastrugi.errors import SastrugiError, system_words
from sastrugi.media import FileMap
from sastrugi.recovery.manifest import MANIFEST, MANIFEST_HEAD
from sastrugi.safety import entries_below
from sastrugi.texts import csv_rows, parse_json, read_text

COLUMNS: dict[str, tuple[str, ...]] = {
    "file": ("file", "result", "result file", "path", "output"),
    "confidence": ("confidence", "sure", "certainty", "probability"),
    "original": ("original_path", "original path", "original", "original name"),
    "modified": ("modified", "modified time", "mtime"),
    "extents": ("extents", "ranges", "places"),
}
"""What is read of a table, and the headings under which it may stand, in any order and case."""
_LARGEST, _LARGEST_JSON = 256 << 20, 32 << 20
"""Bytes of a table; JSON is held in memory as a whole."""
_USUAL = {
    "confidence": re.compile(r"0(\.\d{1,20})?|1(\.0+)?|\d\d?%|"),
    "extents": re.compile(r"(\d{1,18}\+\d{1,18}( \d{1,18}\+\d{1,18})*)?"),
    "modified": re.compile(r"((19|20)\d\d-(0[1-9]|1[0-2])-(0[1-9]|1\d|2[0-8])[ T]([01]\d|2[0-3]):[0-5]\d:[0-5]\d)?"),
}
_MOST_ABOVE = 32
"""Folders above the results that a path in a table may name."""
_NOWHERE = FileMap()


@dataclass(frozen=True, slots=True)
class Claim:
    """What a program says of one result: how sure it is (0 to 1) that it is intact, what the file was called, and where
    on the medium it lay, and when it was modified. `no_time`: that it knows no modified time, so that the result's is
    when it was written."""

    confidence: float | None = None
    original_path: str = ""
    map: FileMap = _NOWHERE
    no_time: bool = False
    modified: dt.datetime | None = None


@dataclass(frozen=True, slots=True)
class Claims:
    """The claims of a table by the path that it gives, of those that can be of results; and how many rows it has."""

    by_path: dict[str, Claim]
    rows: int = 0


def read_claims(table: Path | None, results: Path) -> Claims:
    """Claims by the result's path below the results folder; from `table` (CSV, or a JSON list of objects), or from our
    own manifest in the folder. Rows whose last name no result has are checked and counted, not kept. Raises
    SastrugiError if a table that was named cannot be used."""
    if table is None:
        manifest = results / MANIFEST
        try:
            if manifest.is_symlink() or not manifest.is_file():  # a pipe would be waited for
                return Claims({})
            with manifest.open("rb") as file:
                if not file.read(64).startswith(MANIFEST_HEAD.encode()):
                    return Claims({})
        except OSError:
            return Claims({})
        table = manifest
    out: dict[str, Claim] = {}
    names = {entry.name.encode("utf-8", "replace").decode() for entry in entries_below(results)}
    roots = (f"{results.resolve()}/", f"{results}/", f"{results.name}/")
    known: dict[tuple[Any, ...], dict[str, list[int]]] = {}
    number = 1
    try:
        for number, (heads, row) in enumerate(_rows(table), 2):
            if heads not in known:
                known[heads] = {key: _columns(heads, words) for key, words in COLUMNS.items()}
            columns = known[heads]
            name = _value(row, columns["file"])
            if not name:
                has, words = ", ".join(sorted(map(str, heads))[:8]), ", ".join(COLUMNS["file"])
                raise SastrugiError(
                    f"{table}, row {number}: has no column 'file' (it has {has}): name it one of {words}"
                )
            path = _below(name, roots)
            if path.rpartition("/")[2] in names:
                out[path] = _claim(f"{table}, row {number}", row, columns)
            elif not _is_usual(row, columns):
                _claim(f"{table}, row {number}", row, columns)  # a table that is wrong somewhere is wrong
    except OSError as error:
        raise SastrugiError(f"{table}: cannot be read: {system_words(error)}") from error
    except ValueError as error:
        raise SastrugiError(f"{table}: cannot be read as a table: {error}") from error
    return Claims(out, number - 1)


def _is_usual(row: Sequence[Any], columns: dict[str, list[int]]) -> bool:
    """Whether a row says what it says in the way that nearly all do, which is quickly told to be right."""
    return all(form.fullmatch(_value(row, columns[key])) for key, form in _USUAL.items())


def _claim(told: str, row: Sequence[Any], columns: dict[str, list[int]]) -> Claim:
    modified = _value(row, columns["modified"])
    return Claim(
        _confidence(told, _value(row, columns["confidence"])),
        _value(row, columns["original"]).replace("\\", "/"),
        _map(told, _value(row, columns["extents"])),
        bool(columns["modified"]) and not modified,
        _moment(told, modified),
    )


def matched_claims(claims: dict[str, Claim], names: Collection[str]) -> dict[str, Claim]:
    """The claims of results that are there, by their names. Where paths begin elsewhere (on another machine, or on a
    drive), the beginning is left out with which most of them fit."""
    out = {path: claim for path, claim in claims.items() if path in names}
    others = [path for path in claims if path not in out]
    above: Counter[str] = Counter()
    for path in others:
        parts = path.split("/")
        for n in range(1, min(len(parts), _MOST_ABOVE)):
            if "/".join(parts[n:]) in names:
                above["/".join(parts[:n]) + "/"] += 1
    for prefix, _ in above.most_common(1):
        for path in others:
            if path.startswith(prefix) and path.removeprefix(prefix) in names:
                out.setdefault(path.removeprefix(prefix), claims[path])
    return out


def _moment(row: str, text: str) -> dt.datetime | None:
    if not text.strip():
        return None
    try:
        found = dt.datetime.fromisoformat(text.strip())
        return found.astimezone().replace(tzinfo=None) if found.tzinfo else found
    except (ValueError, OverflowError):
        pass
    try:
        return dt.datetime.fromtimestamp(float(text))
    except (ValueError, OverflowError, OSError):
        raise SastrugiError(f"{row}: '{text[:40]}' is no time: write 2031-02-03 08:00:00") from None


def _rows(table: Path) -> Iterator[tuple[tuple[Any, ...], Sequence[Any]]]:
    """Headings and values of each row. Raises OSError, ValueError, SastrugiError."""
    if table.suffix.lower() == ".json":
        rows = parse_json(read_text(table, _LARGEST_JSON, "utf-8-sig"))
        if not isinstance(rows, list) or not all(isinstance(row, dict) for row in rows):
            raise SastrugiError(f"{table}: is no list of objects, one for each result")
        yield from ((tuple(row), list(row.values())) for row in rows)
        return
    values = csv_rows(table, _LARGEST, ",;\t")
    heads = tuple(next(values, ()))
    yield from ((heads, row) for row in values)


def _columns(heads: tuple[Any, ...], names: tuple[str, ...]) -> list[int]:
    """The columns whose headings are one of `names`, in their order."""
    plain = {str(head).strip().casefold(): column for column, head in enumerate(heads)}
    return [plain[name] for name in names if name in plain]


def _value(row: Sequence[Any], columns: list[int]) -> str:
    for column in columns:
        if column < len(row) and row[column] not in (None, ""):
            return str(row[column])
    return ""


def _below(path: str, roots: tuple[str, ...]) -> str:
    """The path as results are named: below their folder, with slashes."""
    path = path.replace("\\", "/")
    for root in roots:
        if path.startswith(root):
            return path.removeprefix(root)
    return path.lstrip("/").removeprefix("./")


def _map(row: str, text: str) -> FileMap:
    """`offset+length`, in bytes, with anything but digits and plus signs between them (see FileMap.of_text)."""
    try:
        return FileMap.of_text(text) if text else _NOWHERE
    except ValueError:
        raise SastrugiError(
            f"{row}: '{text[:40]}' are no extents: write offset+length in bytes: 4096+512 8192+100"
        ) from None


def _confidence(row: str, text: str) -> float | None:
    if not text:
        return None
    try:
        value = float(text.strip().removesuffix("%")) / (100 if text.strip().endswith("%") else 1)
    except ValueError:
        value = math.nan
    if not 0 <= value <= 1:
        raise SastrugiError(f"{row}: '{text[:40]}' is no confidence: write 0 to 1, or a percentage")
    return value
