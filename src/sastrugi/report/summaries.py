"""Comparisons and campaigns for merge requests and continuous integration: Markdown, and JUnit XML."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING
from xml.etree import ElementTree

from sastrugi.report.campaign_view import by_engine, tallies
from sastrugi.report.exports import cell_of_table, table_lines, xml_text
from sastrugi.report.trial_view import details, verdict
from sastrugi.scoring.scorecard import METHOD
from sastrugi.units import format_seconds, format_size, percent, span_of_shares

if TYPE_CHECKING:
    from sastrugi.campaign.run import CampaignState, CellState
    from sastrugi.campaign.sides import Side
    from sastrugi.scoring.paired import Comparison, Pair
    from sastrugi.scoring.scorecard import FileScore

_WORSE = ("lost", "worse")
_CHANGES = ("lost", "worse", "won", "better")


def comparison_markdown(sides: Sequence[Side], found: Sequence[Comparison], detect: float | None = None) -> str:
    """Each verdict with what is behind it, and the files that changed."""
    first = sides[0].name
    lines = [f"# {cell_of_table(' against '.join(side.name for side in sides))}", "", f"By {METHOD}.", ""]
    for side, one in zip(sides[1:], found, strict=True):
        lines += [f"**{cell_of_table(verdict(first, side.name, one.intact, 'files are intact'))}.**", ""]
        lines += [f"- {cell_of_table(line)}" for line in details(one.intact, detect)]
        lines += [f"- {cell_of_table(verdict(first, side.name, one.named, 'files have their whole names'))}", ""]
        for change in _CHANGES:
            pairs = one.of(change)
            lines += table_lines(
                (f"{change} ({len(pairs):,})", "size", "specimen", first, side.name),
                [
                    (pair.first.path, format_size(pair.first.size), pair.specimen, *map(_came_back, pair.sides))
                    for pair in pairs
                ],
            )
    return "\n".join(lines).rstrip() + "\n"


def _came_back(score: FileScore) -> str:
    return f"{score.content} {percent(score.completeness)}"


def comparison_junit(sides: Sequence[Side], found: Sequence[Comparison]) -> str:
    """A suite for each further side, and a test case for each pair of files: it fails where less came back than on the
    first side."""
    root = ElementTree.Element("testsuites", name=xml_text(f"against {sides[0].name}"))
    for side, one in zip(sides[1:], found, strict=True):
        worse = [pair for change in _WORSE for pair in one.of(change)]
        suite = _suite(root, side.name, len(one.pairs), len(worse), 0)
        for pair in one.pairs:
            case = ElementTree.SubElement(
                suite, "testcase", classname=xml_text(pair.specimen), name=xml_text(pair.first.path)
            )
            if pair.change in _WORSE:
                ElementTree.SubElement(case, "failure", message=xml_text(_told(pair)), type=pair.change)
        told = [verdict(sides[0].name, side.name, one.intact, "files are intact"), *details(one.intact)]
        ElementTree.SubElement(suite, "system-out").text = "\n".join(map(xml_text, told))
    return _document(root)


def _told(pair: Pair) -> str:
    return f"{_came_back(pair.second)} against {_came_back(pair.first)}: {pair.second.reason}"


def campaign_markdown(state: CampaignState) -> str:
    """The ranking, the gate, the matrix, and what did not end well."""
    tally = tallies(state)
    specimens = list(dict.fromkeys(cell.specimen for cell in state.cells))
    lines = [f"# {cell_of_table(state.title or state.name)}", ""]
    lines += [f"{state.ended:,} of {len(state.cells):,} cells have ended. By {METHOD}.", ""]
    lines += [f"- **Below the gate:** {cell_of_table(_below(cell))}" for cell in state.cells if cell.below_the_gate]
    lines += [""] if lines[-1] else []
    heads = (
        "engine",
        "intact, of what could come back whole",
        "95 %",
        "whole names, of all lost files",
        "noise, of the results",
        "time",
    )
    lines += table_lines(
        heads,
        [
            (
                engine, f"{one.intact:,.0f} of {one.attainable:,.0f} ({percent(one.share)})",
                span_of_shares(one.interval), f"{one.named:,.0f} of {one.named_of:,}",
                f"{one.noise:,} of {one.results:,}", format_seconds(one.seconds),
            )
            for engine, one in by_engine(tally).items()
        ],
    )  # fmt: skip
    rows = []
    for specimen in specimens:
        cells = (tally.get((specimen, engine)) for engine in state.engines)
        rows.append((specimen, *(f"{one.intact:,.0f} of {one.attainable:,.0f}" if one else "…" for one in cells)))
    lines += table_lines(("specimen", *state.engines), rows)
    badly = [(cell.label, _trouble(cell)) for cell in state.cells if _trouble(cell)]
    lines += table_lines(("cell", "how it ended"), badly)
    return "\n".join(lines).rstrip() + "\n"


def campaign_junit(state: CampaignState) -> str:
    """A suite for each engine, and a test case for each cell: it fails below the gate, and is an error where the cell
    could not be carried out or its engine did not end well."""
    root = ElementTree.Element("testsuites", name=xml_text(state.name))
    for engine in state.engines:
        cells = [cell for cell in state.cells if cell.engine == engine]
        errors = [cell for cell in cells if _trouble(cell)]
        failed = [cell for cell in cells if cell.below_the_gate and not _trouble(cell)]
        waiting = [cell for cell in cells if cell.trial is None and not cell.problem]
        suite = _suite(root, engine, len(cells), len(failed), len(errors), len(waiting))
        for cell in cells:
            seconds = cell.trial.measures.seconds if cell.trial else None
            case = ElementTree.SubElement(suite, "testcase", classname=xml_text(engine), name=xml_text(_named(cell)))
            case.set("time", f"{seconds or 0.0:.3f}")
            if trouble := _trouble(cell):
                ElementTree.SubElement(case, "error", message=xml_text(trouble), type="outcome")
            elif cell.below_the_gate:
                ElementTree.SubElement(case, "failure", message=xml_text("; ".join(cell.below_the_gate)), type="gate")
            elif cell.trial is None:
                ElementTree.SubElement(case, "skipped", message="not carried out yet")
    return _document(root)


def _named(cell: CellState) -> str:
    return f"{cell.specimen}, {cell.repeat}" if cell.repeat > 1 else cell.specimen


def _below(cell: CellState) -> str:
    return f"{cell.label}: {'; '.join(cell.below_the_gate)}"


def _trouble(cell: CellState) -> str:
    """Why a cell could not be carried out, or how its engine ended, if not well."""
    return cell.problem or (cell.trial.outcome if cell.trial is not None and not cell.trial.ended_well else "")


def _suite(
    root: ElementTree.Element, name: str, tests: int, failures: int, errors: int, skipped: int = 0
) -> ElementTree.Element:
    counts = {"tests": tests, "failures": failures, "errors": errors, "skipped": skipped}
    return ElementTree.SubElement(
        root, "testsuite", {key: str(count) for key, count in counts.items()}, name=xml_text(name)
    )


def _document(root: ElementTree.Element) -> str:
    return '<?xml version="1.0" encoding="UTF-8"?>\n' + ElementTree.tostring(root, encoding="unicode") + "\n"
