"""`sastrugi list`, `preview` and `extract`: looking at findings, and bringing them back."""

from __future__ import annotations

from collections.abc import Iterable
from enum import StrEnum
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from sastrugi.cli.console import JsonOption, ink, medium_at, progress, quoted, say, show, show_json, show_lines, width
from sastrugi.cli.selection_options import SelectionOptions, selecting
from sastrugi.cli.targets import ReplaceOption, picture_target, renamed

if TYPE_CHECKING:
    from sastrugi.recovery.scan_file import ScanFile

_LIST_HELP = """List the findings of a scan.

\b
Example: sastrugi list card.scan --state lost --name "FRN*" --min-confidence 0.9 --why"""
_PREVIEW_HELP = """Draw a contact sheet of findings, straight from the medium: pictures, pages, frames, waves, text.

\b
Example: sastrugi preview card.scan --group picture --out card.png"""
_EXTRACT_HELP = """Bring findings back, to another place. Nothing is ever overwritten, and the medium is only read.

\b
Example: sastrugi extract card.scan --into results --min-confidence 0.5"""

_MOST_SEARCHED = 20
"""Findings that are searched for again in one call."""
ScanArgument = Annotated[Path, typer.Argument(help="The scan file.", metavar="SCAN")]
MediumOption = Annotated[
    Path | None, typer.Option("--medium", help="The medium, if it has moved since the scan.", metavar="MEDIUM")
]


class By(StrEnum):
    """What findings can be counted by."""

    kind = "kind"
    group = "group"
    volume = "volume"
    pass_ = "pass"
    date = "date"
    folder = "folder"
    state = "state"
    confidence = "confidence"


class Order(StrEnum):
    """What findings can be sorted by."""

    path = "path"
    name = "name"
    size = "size"
    date = "date"
    confidence = "confidence"
    kind = "kind"
    place = "place"
    number = "number"


class Arrange(StrEnum):
    """Into which folders extracted files go."""

    tree = "tree"
    kind = "kind"
    flat = "flat"


class Clash(StrEnum):
    """What becomes of a second file of one name."""

    count_up = "count"
    number = "number"
    skip = "skip"


class Unreadable(StrEnum):
    """What becomes of findings over sectors that cannot be read."""

    fill = "fill"
    leave = "leave"


def register(app: typer.Typer) -> None:
    app.command("list", help=_LIST_HELP)(selecting(list_findings))
    app.command("preview", help=_PREVIEW_HELP)(selecting(preview))
    app.command("extract", help=_EXTRACT_HELP)(selecting(extract))


def _without_bench_files(where: str, scan_file: Path, specimen: Path) -> str:
    """The condition, but for findings that are files which the bench laid down to make a case."""
    from sastrugi.recovery.select import Selection
    from sastrugi.scoring.scorer import judge
    from sastrugi.specimen.truth import Specimen
    from sastrugi.units import plural

    with progress() as watched, Specimen(specimen) as opened:
        own = judge(opened, scan_file, watched, Selection("any"), "all").bench_findings()
    if own:
        say(f"left out: {plural(len(own), 'finding')} that are the bench's own files (buffers, later use)")
    return f"({where}) AND number NOT IN ({', '.join(map(str, own))})"


def list_findings(
    scan_file: ScanArgument,
    why: Annotated[bool, typer.Option("--why", help="Add the reasons to each finding.")] = False,
    not_surer: Annotated[
        bool, typer.Option("--why-not", help="Search again for each, and say how far that came and what it lacks.")
    ] = False,
    as_tree: Annotated[bool, typer.Option("--tree", help="In their folders.")] = False,
    by: Annotated[By | None, typer.Option("--by", help="Count them by this instead.")] = None,
    sort: Annotated[Order, typer.Option("--sort", help="In this order.")] = Order.path,
    descending: Annotated[bool, typer.Option("--descending", help="The greatest first.")] = False,
    limit: Annotated[int, typer.Option(help="Rows to print; 0 prints all.", min=0, metavar="COUNT")] = 200,
    as_csv: Annotated[bool, typer.Option("--csv", help="Print CSV, all rows.")] = False,
    save_as: Annotated[
        str, typer.Option("--save-as", help="Keep this selection in the scan file, for --saved.", metavar="NAME")
    ] = "",
    specimen: Annotated[
        Path | None,
        typer.Option(help="Leave out the bench's own files (buffers, later use), by the truth of this.", metavar="DIR"),
    ] = None,
    medium: MediumOption = None,
    as_json: JsonOption = False,
    *,
    chosen: SelectionOptions,
) -> None:
    from sastrugi.recovery.scan_file import ScanFile
    from sastrugi.recovery.select import nothing_selected, ordered
    from sastrugi.report.findings import csv_lines, json_lines, tally_json, tally_table
    from sastrugi.report.listing import columns_for, reason_lines, table_lines, tree_lines

    with ScanFile.open(scan_file, for_writing=bool(save_as)) as scan:
        selection = chosen.of(scan, "any")
        where, values = selection.condition(scan)
        if specimen is not None:
            where = _without_bench_files(where, scan_file, specimen)
        if save_as:
            scan.save_selection(save_as, selection.text())
            say(f"kept as '{save_as}': use it with --saved {quoted(save_as)}")
        if by is not None:
            tallies = scan.tally(by.value, where, values)
            if as_json:
                show_json(tally_json(tallies))
            else:
                show(tally_table(by.value, tallies))
            return
        if not_surer:
            _show_why_not(scan, medium, scan.count(where, values), scan.numbers(where, values), as_json)
            return
        if as_json or as_csv:
            rows = scan.rows(where, values, ordered(sort.value, descending))
            show_lines(csv_lines(rows) if as_csv else json_lines(rows))
            return
        if not scan.finished:
            say("this scan is not finished: more may be found")
        count = scan.count(where, values)
        if not count:
            say(nothing_selected(scan))
            return
        rows = scan.rows(where, values, ordered(sort.value, descending), limit)
        wide, pen = width(), ink()
        if as_tree:
            show_lines(tree_lines(rows, scan_file.name, wide, pen))
        elif why:
            show_lines(reason_lines(rows, wide, pen))
        else:
            show_lines(table_lines(rows, columns_for(wide, scan.last_number(), scan.kinds()), wide, pen))
        if limit and count > limit:
            say(f"{count - limit:,} more: --limit 0 prints all")


def _show_why_not(scan: ScanFile, medium: Path | None, count: int, numbers: Iterable[int], as_json: bool) -> None:
    from sastrugi.errors import SastrugiError
    from sastrugi.recovery.extract import check_medium
    from sastrugi.recovery.select import nothing_selected
    from sastrugi.recovery.why_not import why_not
    from sastrugi.report.why_not import why_not_json, why_not_lines

    if not count:
        say(nothing_selected(scan))
        return
    if count > _MOST_SEARCHED:
        raise SastrugiError(f"--why-not searches for each of {count:,} findings: pick a few, by --number or --name")
    with medium_at(medium or scan.medium_path) as opened:
        check_medium(scan, opened)
        told = [why_not(opened, scan, number) for number in numbers]
    if as_json:
        show_json([why_not_json(one) for one in told])
    else:
        wide, pen = width(), ink()
        show_lines(line for one in told for line in why_not_lines(one, wide, pen))


def preview(
    scan_file: ScanArgument,
    out: Annotated[
        Path | None,
        typer.Option(help="The picture to make [default: the scan's name with .preview.png]", metavar="FILE.png"),
    ] = None,
    replace: ReplaceOption = False,
    limit: Annotated[int, typer.Option(help="Findings on the sheet.", min=1, max=600, metavar="COUNT")] = 120,
    sort: Annotated[Order, typer.Option("--sort", help="In this order.")] = Order.path,
    medium: MediumOption = None,
    as_json: JsonOption = False,
    *,
    chosen: SelectionOptions,
) -> None:
    from sastrugi.recovery.extract import check_medium
    from sastrugi.recovery.scan_file import ScanFile
    from sastrugi.report.preview import draw_preview

    with ScanFile.open(scan_file) as scan:
        source = medium or scan.medium_path
        findings = chosen.of(scan, "lost").pick(scan, sort.value)
        with medium_at(source) as opened, progress() as watched:
            check_medium(scan, opened)
            default = f"{scan_file.name.removesuffix('.scan')}.preview.png"
            target = picture_target(out, default, replace, opened.path, scan_file)
            shown = draw_preview(opened, findings, limit, scan_file.name, target, watched)
    if as_json:
        broken = [{"number": one.finding.number, "problem": one.problem} for one in shown if one.problem]
        show_json({"preview": str(target), "selected": len(findings), "shown": len(shown), "broken": broken})
        return
    dark = [one for one in shown if one.problem]
    say(f"{len(shown):,} of {len(findings):,} selected findings drawn to {target}")
    if dark:
        one = dark[0]
        say(f"{len(dark):,} of them cannot be shown, such as {one.finding.number}, {one.finding.name}: {one.problem}")
    if len(dark) == len(shown):
        raise typer.Exit(3)


def extract(
    scan_file: ScanArgument,
    into: Annotated[
        Path | None,
        typer.Option(help="The new folder to write to [default: the scan's name with .results]", metavar="DIR"),
    ] = None,
    old_to: Annotated[Path | None, typer.Option("--to", hidden=True)] = None,
    replace: ReplaceOption = False,
    arrange: Annotated[
        Arrange, typer.Option("--arrange", help="In the folders they had, one folder a kind, or one for all.")
    ] = Arrange.tree,
    clashes: Annotated[
        Clash,
        typer.Option("--names", help="A second file of one name: counted, with its number in the scan, or skipped."),
    ] = Clash.count_up,
    unreadable: Annotated[
        Unreadable, typer.Option("--unreadable", help="Files over unreadable sectors: fill with zeros, or leave out.")
    ] = Unreadable.fill,
    holes: Annotated[
        bool, typer.Option("--holes", help="Also files whose holes alone are larger than the whole medium.")
    ] = False,
    sha256: Annotated[bool, typer.Option("--sha256", help="Add SHA-256 to the manifest (slower).")] = False,
    with_live: Annotated[bool, typer.Option("--with-live", help="Also the files that are not lost.")] = False,
    go_on: Annotated[bool, typer.Option("--go-on", help="Continue an extraction that was stopped.")] = False,
    medium: MediumOption = None,
    as_json: JsonOption = False,
    *,
    chosen: SelectionOptions,
) -> None:
    import sys
    from dataclasses import asdict

    from sastrugi.recovery.extract import ExtractOptions, check_destination, check_medium, is_extracted
    from sastrugi.recovery.extract import extract as run_extract
    from sastrugi.recovery.manifest import MANIFEST
    from sastrugi.recovery.scan_file import ScanFile
    from sastrugi.report.findings import extract_summary
    from sastrugi.safety import clear_folder, require_not_holding, require_replaceable

    if old_to is not None:
        renamed("--to", "--into")
    to = into or old_to or Path(f"{scan_file.name.removesuffix('.scan')}.results")
    with ScanFile.open(scan_file) as scan:
        source = medium or scan.medium_path
        if replace and not go_on:
            require_not_holding(to, source, "the medium")
            require_not_holding(to, scan_file, "the scan file")
            require_replaceable(to, MANIFEST, "what extract wrote", is_extracted(to))
        else:
            check_destination(to, source, go_on)
        findings = chosen.of(scan, "any" if with_live else "lost").pick(scan)
        with medium_at(source) as opened:
            check_medium(scan, opened)
            words = [word for word in sys.argv[1:] if word != "--go-on"]
            line = quoted("sastrugi", *words, "--go-on")
            if replace and not go_on:
                clear_folder(to)
                check_destination(to, source, go_on)
            manner = ExtractOptions(arrange.value, clashes.value, unreadable.value == "fill", sha256, holes)
            with progress(line) as watched:
                done = run_extract(opened, findings, to, watched, go_on, manner)
    if as_json:
        show_json({"to": str(to), **asdict(done)})
    else:
        show(extract_summary(done, str(to)))
    if done.unreadable:
        say(f"{done.unreadable:,} of them reach over sectors that cannot be read")
        raise typer.Exit(3)
