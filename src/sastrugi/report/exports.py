"""A scorecard for other programs: CSV and Parquet (a row for each file), Markdown, JUnit XML, JSON."""

from __future__ import annotations

import io
import re
from collections.abc import Sequence
from typing import TYPE_CHECKING
from xml.etree import ElementTree

from sastrugi.report.csv_cells import csv_of
from sastrugi.report.scorecard import SHORTFALLS, bench_line, classes_line
from sastrugi.scoring.names import worth_of_name
from sastrugi.units import format_size, percent, printable

if TYPE_CHECKING:
    import pandas as pd

    from sastrugi.scoring.scorecard import FileScore, Scorecard

_MOST_LINES = 30
_NOT_XML = re.compile("[^\t\n\x20-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")


def as_csv(card: Scorecard) -> str:
    return csv_of(_frame(card))


def _frame(card: Scorecard) -> pd.DataFrame:
    """A row for each reference file; behind them one for each result that nobody asked for, without a path. Column
    `shortfall` says what a file is short of, `class` what such a result is."""
    import pandas as pd

    frame = card.frame().assign(shortfall=[file.shortfall for file in card.files])
    frame.insert(0, "specimen", card.specimen)
    frame.insert(1, "identity", card.identity)
    frame["class"] = ["" if file.result is None else "reference" for file in card.files]
    others = [
        {
            "specimen": card.specimen,
            "identity": card.identity,
            "result": one.path,
            "size": one.size,
            "class": one.is_,
            "reason": one.problem,
        }
        for one in card.listed_results
    ]
    if not others:
        return frame
    both = pd.concat([frame.astype(object), pd.DataFrame(others).astype(object)], ignore_index=True)
    return both.convert_dtypes(convert_floating=False)


def as_parquet(card: Scorecard) -> bytes:
    buffer = io.BytesIO()
    _frame(card).to_parquet(buffer, index=False)
    return buffer.getvalue()


def as_markdown(card: Scorecard, title: str, missed: Sequence[str] = ()) -> str:
    """A summary for a merge request or a note."""
    lines = [f"# {cell_of_table(title)}", "", f"Results from `{card.results_from}`, set `{card.set}`.", ""]
    lines += [f"- **Below the floor:** {line}" for line in missed] + ([""] if missed else [])
    lines += ["| | came back | of the set | of the ceiling |", "|---|---:|---:|---:|"]
    for name in ("intact", "complete", "named", "all_three"):
        figure = getattr(card, name)
        lines.append(
            f"| {name.replace('_', ' ')} | {figure.value:.4g} | {percent(figure.share_of_set)} of {figure.of_set} "
            f"| {percent(figure.share_of_ceiling)} |"
        )
    lines += ["", f"{card.counted_results:,} results: {classes_line(card)}.", ""]
    lines += [f"{bench}.", ""] if (bench := bench_line(card)) else []
    for which, words in SHORTFALLS.items():
        own = [file for file in card.short if file.shortfall == which]
        lines += table_lines(
            (f"{words} ({len(own):,})", "size", "content", "complete", "ceiling", "name", "why"),
            [
                (
                    f.path,
                    format_size(f.size),
                    f.content,
                    percent(f.completeness),
                    percent(f.ceiling_bytes),
                    f.name,
                    f.reason,
                )
                for f in own
            ],
        )
    others = card.listed_results
    told = (f"{card.listed_title} ({len(others):,})", "size", "what it is", "of")
    lines += table_lines(told, [(one.path, format_size(one.size), one.is_, one.of or "–") for one in others])
    return "\n".join(lines) + "\n"


def table_lines(head: Sequence[str], rows: Sequence[Sequence[str]]) -> list[str]:
    """A table of at most _MOST_LINES rows; nothing where there are none."""
    if not rows:
        return []
    out = [f"| {' | '.join(head)} |", "|---|---:|" + "---|" * (len(head) - 2)]
    out += [f"| {' | '.join(map(cell_of_table, row))} |" for row in rows[:_MOST_LINES]]
    return [*out, *(["", f"… and {len(rows) - _MOST_LINES:,} more."] if len(rows) > _MOST_LINES else []), ""]


def cell_of_table(text: str) -> str:
    return printable(text).replace("\\", "\\\\").replace("|", "\\|").replace("<", "&lt;")


def as_junit(card: Scorecard, missed: Sequence[str] = ()) -> str:
    """Each reference file a test case: one that fell short of its ceiling, in bytes or in its name, failed; one that
    could not come back whole and came back as far as it could was skipped.

    Source: the JUnit XML that continuous-integration systems read (testsuite, testcase, failure, skipped).
    """
    cases = [*card.files]
    failed, skipped = _failed_and_skipped(cases)
    suite = ElementTree.Element(
        "testsuite", name=xml_text(f"{card.specimen}: {card.set}"), tests=str(len(cases) + bool(missed)),
        failures=str(len(failed) + bool(missed)), skipped=str(len(skipped)), errors="0",
    )  # fmt: skip
    told_of = ElementTree.SubElement(suite, "properties")
    for key, value in (("specimen", card.specimen), ("identity", card.identity), ("results", card.results_from)):
        ElementTree.SubElement(told_of, "property", name=key, value=xml_text(value))
    for file in cases:
        folder, _, name = file.path.strip("/").rpartition("/")
        case = ElementTree.SubElement(suite, "testcase", classname=xml_text(folder or "/"), name=xml_text(name))
        if file.id in skipped:
            ElementTree.SubElement(case, "skipped", message=xml_text(file.reason))
        elif file.id in failed:
            complete, ceiling = percent(file.completeness), percent(file.ceiling_bytes)
            named = f"name {file.name} of {file.ceiling_name}"
            told = f"{file.content}, {complete} complete of {ceiling}, {named}: {file.reason}"
            kind = "name" if file.intact else file.content
            ElementTree.SubElement(case, "failure", message=xml_text(told), type=kind)
    if card.listed_results:
        told = "\n".join(f"{one.is_}: {one.path} ({format_size(one.size)})" for one in card.listed_results)
        ElementTree.SubElement(suite, "system-out").text = _xml_lines(told)
    if missed:
        case = ElementTree.SubElement(suite, "testcase", classname="floors", name="floors")
        ElementTree.SubElement(case, "failure", message=xml_text("; ".join(missed)), type="floor")
    return '<?xml version="1.0" encoding="UTF-8"?>\n' + ElementTree.tostring(suite, encoding="unicode") + "\n"


def _failed_and_skipped(cases: Sequence[FileScore]) -> tuple[set[int], set[int]]:
    """The numbers of files that fell short of their ceiling, and of those that could not come back whole."""
    failed: set[int] = set()
    skipped: set[int] = set()
    for file in cases:
        in_part = bool(file.size) and not file.intact
        attainable = file.ceiling_bytes == 1 or file.completeness < file.ceiling_bytes
        unnamed = not file.named and worth_of_name(file.name) < worth_of_name(file.ceiling_name)
        if (in_part and attainable) or (unnamed and (not in_part or file.has_content)):
            failed.add(file.id)
        elif in_part or not file.named:
            skipped.add(file.id)
    return failed, skipped


def _xml_lines(text: str) -> str:
    return "\n".join(xml_text(line) for line in text.split("\n"))


def xml_text(text: str) -> str:
    """Text without what XML 1.0 cannot hold."""
    return _NOT_XML.sub("", printable(text))
