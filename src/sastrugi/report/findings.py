"""Findings counted, and as rows for other programs."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import asdict
from functools import lru_cache
from typing import TYPE_CHECKING, Any

from rich.table import Table
from rich.text import Text

from sastrugi.report.csv_cells import text_cell
from sastrugi.report.evidence import reasons_of
from sastrugi.report.style import table
from sastrugi.units import format_size, plural, printable

if TYPE_CHECKING:
    from sastrugi.recovery.extract import ExtractSummary
    from sastrugi.recovery.findings import Tally

CSV_COLUMNS = (
    "number", "state", "volume", "folder", "name", "kind", "group", "size", "created", "modified", "accessed",
    "passes", "confidence", "name_sure", "reasons", "start", "map",
)  # fmt: skip


def tally_table(what: str, tallies: Sequence[Tally]) -> Table:
    """Findings counted by one of their properties."""
    out = table(gives_way=("Mean confidence", "0.9 sure or more"))
    out.add_column(what.capitalize(), overflow="fold")
    for name in ("Live", "Deleted", "Found", "Bytes", "0.9 sure or more", "Mean confidence"):
        out.add_column(name, justify="right", no_wrap=True)
    for one in tallies:
        out.add_row(
            Text(printable(one.key) or "–"),
            f"{one.live:,}", f"{one.deleted:,}", f"{one.found:,}", format_size(one.bytes), f"{one.sure:,}",
            f"{one.confidence:.2f}",
        )  # fmt: skip
    return out


def tally_json(tallies: Sequence[Tally]) -> list[dict[str, Any]]:
    return [asdict(one) for one in tallies]


def json_lines(rows: Iterable[tuple[Any, ...]]) -> Iterator[str]:
    """Rows of the scan file as one JSON list (docs/formats/scan-file.md), a line for each.

    Put together by hand: two of the columns are JSON already, and there may be hundreds of thousands of rows.
    """
    text = json.encoder.encode_basestring

    def plain(value: Any) -> str:
        return "null" if value is None else text(value) if isinstance(value, str) else str(value)

    yield "["
    before = ""
    for row in rows:
        passes = ", ".join(map(text, row[11].split(",")))
        yield (
            f'{before}{{"number": {row[0]}, "state": {text(row[1])}, "volume": {plain(row[2])}, '
            f'"folder": {text(row[3])}, "name": {text(row[4])}, "kind": {text(row[5])}, "group": {text(row[6])}, '
            f'"size": {row[7]}, "created": {plain(row[8])}, "modified": {plain(row[9])}, "accessed": {plain(row[10])}, '
            f'"passes": [{passes}], "confidence": {row[12]}, "name_sure": {row[13]}, '
            f'"reasons": {_reasons_json(row[14])}, "evidence": {row[14]}, "start": {plain(row[15])}, "map": {row[16]}}}'
        )
        before = ","
    yield "]"


@lru_cache(1024)
def _reasons_json(packed: str) -> str:
    """The sentences of a row's evidence, as a JSON list."""
    return json.dumps(reasons_of(packed), ensure_ascii=False)


def csv_lines(rows: Iterable[tuple[Any, ...]]) -> Iterator[str]:
    """Rows of the scan file as CSV with a header; reasons and extents as JSON; unprintable characters as escapes."""
    buffer = io.StringIO()
    writer = csv.writer(buffer, lineterminator="")
    writer.writerow(CSV_COLUMNS)
    for row in rows:
        yield buffer.getvalue()
        buffer.seek(0)
        buffer.truncate()
        shown = [*row[:14], _reasons_json(row[14]), *row[15 : len(CSV_COLUMNS)]]
        writer.writerow([text_cell(value) if isinstance(value, str) else value for value in shown])
    yield buffer.getvalue()


def extract_summary(done: ExtractSummary, to: str) -> Text:
    text = Text(f"{plural(done.files, 'file')}, {format_size(done.bytes)} written to {to}")
    notes = []
    if done.skipped:
        notes.append(f"{done.skipped:,} were there from the earlier run")
    if done.placeless:
        notes.append(f"of {done.placeless:,} more nothing is left but a record")
    if done.clashed:
        notes.append(f"{done.clashed:,} left out: their names are taken")
    if done.left_out:
        notes.append(f"{done.left_out:,} left out: parts cannot be read")
    if done.hollow:
        notes.append(f"{done.hollow:,} left out: holes larger than the whole medium (bring them with --holes)")
    if done.unreadable:
        notes.append(f"{done.unreadable:,} with zeros where nothing could be read")
    if done.renamed:
        notes.append(f"{done.renamed:,} under a changed name")
    if done.short:
        notes.append(f"{done.short:,} shorter than their record says")
    return text.append(f" ({'; '.join(notes)}; see manifest.csv)" if notes else " (listed in manifest.csv)")
