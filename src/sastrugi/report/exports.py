"""A scorecard for other programs: CSV and Parquet (a row for each file), Markdown, JUnit XML, JSON."""

from __future__ import annotations

import io
import re
from collections.abc import Sequence
from typing import TYPE_CHECKING
from xml.etree import ElementTree

from sastrugi.scoring.names import worth_of_name
from sastrugi.units import format_size, percent, printable

if TYPE_CHECKING:
    from sastrugi.scoring.scorecard import Scorecard

_MOST_LINES = 30
_SHORT_HEAD = ("| fell short | size | content | complete | ceiling | name | why |", "|---|---:|---|---:|---:|---|---|")
_NOT_XML = re.compile("[^\t\n\x20-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")


def as_csv(card: Scorecard) -> str:
    frame = card.frame()
    for column in ("path", "result", "reason"):
        frame[column] = [printable(value) if isinstance(value, str) else value for value in frame[column]]
    text: str = frame.to_csv(index=False, lineterminator="\n")
    return text


def as_parquet(card: Scorecard) -> bytes:
    buffer = io.BytesIO()
    card.frame().to_parquet(buffer, index=False)
    return buffer.getvalue()


def as_markdown(card: Scorecard, title: str, missed: Sequence[str] = ()) -> str:
    """A summary for a merge request or a note."""
    lines = [f"# {_cell(title)}", "", f"Results from `{card.results_from}`, set `{card.set}`.", ""]
    lines += [f"- **Below the floor:** {line}" for line in missed] + ([""] if missed else [])
    lines += ["| | came back | of the set | of the ceiling |", "|---|---:|---:|---:|"]
    for name in ("intact", "complete", "named", "all_three"):
        figure = getattr(card, name)
        lines.append(
            f"| {name.replace('_', ' ')} | {figure.value:.4g} | {percent(figure.share_of_set)} of {figure.of_set} "
            f"| {percent(figure.share_of_ceiling)} |"
        )
    classes = ", ".join(f"{count} {name}" for name, count in card.classes.items() if count) or "none"
    lines += ["", f"{len(card.results)} results: {classes}.", ""]
    short = [file for file in card.files if not (file.intact and file.named)]
    if short:
        lines += [
            "| fell short | size | content | complete | ceiling | name | why |",
            "|---|---:|---|---:|---:|---|---|",
        ]
        lines += [
            f"| {_cell(f.path)} | {format_size(f.size)} | {f.content} | {percent(f.completeness)} "
            f"| {percent(f.ceiling_bytes)} | {f.name} | {_cell(f.reason)} |"
            for f in short[:_MOST_LINES]
        ]
        if len(short) > _MOST_LINES:
            lines += ["", f"… and {len(short) - _MOST_LINES} more."]
    return "\n".join(lines) + "\n"


def _cell(text: str) -> str:
    return printable(text).replace("\\", "\\\\").replace("|", "\\|").replace("<", "&lt;")


def as_junit(card: Scorecard, missed: Sequence[str] = ()) -> str:
    """Each reference file a test case: one that fell short of its ceiling, in bytes or in its name, failed; one that
    could not come back whole and came back as far as it could was skipped.

    Source: the JUnit XML that continuous-integration systems read (testsuite, testcase, failure, skipped).
    """
    cases = [*card.files]
    failed, skipped = [], []
    for file in cases:
        in_part = bool(file.size) and not file.intact
        attainable = file.ceiling_bytes == 1 or file.completeness < file.ceiling_bytes
        unnamed = not file.named and worth_of_name(file.name) < worth_of_name(file.ceiling_name)
        if (in_part and attainable) or (unnamed and (not in_part or file.has_content)):
            failed.append(file)
        elif in_part or not file.named:
            skipped.append(file)
    suite = ElementTree.Element(
        "testsuite", name=_xml(f"{card.specimen}: {card.set}"), tests=str(len(cases) + bool(missed)),
        failures=str(len(failed) + bool(missed)), skipped=str(len(skipped)), errors="0",
    )  # fmt: skip
    for file in cases:
        folder, _, name = file.path.strip("/").rpartition("/")
        case = ElementTree.SubElement(suite, "testcase", classname=_xml(folder or "/"), name=_xml(name))
        if file in skipped:
            ElementTree.SubElement(case, "skipped", message=_xml(file.reason))
        elif file in failed:
            complete, ceiling = percent(file.completeness), percent(file.ceiling_bytes)
            named = f"name {file.name} of {file.ceiling_name}"
            told = f"{file.content}, {complete} complete of {ceiling}, {named}: {file.reason}"
            kind = "name" if file.intact else file.content
            ElementTree.SubElement(case, "failure", message=_xml(told), type=kind)
    if missed:
        case = ElementTree.SubElement(suite, "testcase", classname="floors", name="floors")
        ElementTree.SubElement(case, "failure", message=_xml("; ".join(missed)), type="floor")
    return '<?xml version="1.0" encoding="UTF-8"?>\n' + ElementTree.tostring(suite, encoding="unicode") + "\n"


def _xml(text: str) -> str:
    """Text without what XML 1.0 cannot hold."""
    return _NOT_XML.sub("", printable(text))
