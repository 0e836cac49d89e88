"""`sastrugi scan`: search a medium for live and lost files."""

from __future__ import annotations

from enum import StrEnum
from pathlib import Path
from typing import Annotated

import typer

from sastrugi.cli.console import JsonOption, medium_at, progress, quoted, say, show, show_json
from sastrugi.cli.targets import ReplaceOption, file_target

_SCAN_HELP = """Search a medium for live and lost files; the findings go to a scan file. The medium is only read.

\b
Example: sastrugi scan card.img --out card.scan
A scan that was stopped goes on with --go-on. Limits (kinds, groups, range, sizes, volume) make
it quicker where they can; they stay with the scan file."""
KindOption = Annotated[
    list[str] | None, typer.Option("--kind", help="Only this kind (may be given again).", metavar="KIND")
]


class ProgressStyle(StrEnum):
    """How progress is shown."""

    line = "line"
    json = "json"


def register(app: typer.Typer) -> None:
    app.command("scan", help=_SCAN_HELP)(scan)


def scan(
    medium: Annotated[Path, typer.Argument(help="An image, a device or a specimen folder.", metavar="MEDIUM")],
    out: Annotated[
        Path | None,
        typer.Option(help="The scan file to make [default: the medium's name with .scan]", metavar="FILE"),
    ] = None,
    replace: ReplaceOption = False,
    passes: Annotated[
        str, typer.Option(help="Which passes: tables is the fast look.", metavar="PASSES")
    ] = "layout,tables,relics,journals,pieces,content",
    go_on: Annotated[bool, typer.Option("--go-on", help="Continue an unfinished scan file.")] = False,
    as_is: Annotated[
        bool, typer.Option("--as-is", help="Accept a medium that is shorter than its tables say.")
    ] = False,
    kind: KindOption = None,
    group: Annotated[
        list[str] | None, typer.Option(help="Only kinds of this group (may be given again).", metavar="GROUP")
    ] = None,
    within: Annotated[
        str, typer.Option("--range", help='Only this part of the medium, as "1 GiB..2 GiB".', metavar="FROM..TO")
    ] = "",
    min_size: Annotated[str, typer.Option(help="Only files of at least this size.", metavar="SIZE")] = "0 B",
    max_size: Annotated[str, typer.Option(help="Only files of at most this size.", metavar="SIZE")] = "",
    volume: Annotated[
        int, typer.Option(help="Only this volume, by its number in 'look'; 0: all.", min=0, metavar="NUMBER")
    ] = 0,
    effort: Annotated[
        float,
        typer.Option(
            help="How much work may go into putting pieces together: 1 is usual, 0 none.",
            min=0,
            max=1000,
            metavar="TIMES",
        ),
    ] = 1.0,
    deleted_only: Annotated[bool, typer.Option("--deleted-only", help="Leave live files out.")] = False,
    shown: Annotated[
        ProgressStyle, typer.Option("--progress", help="How progress is shown on stderr: a line, or JSON lines.")
    ] = ProgressStyle.line,
    as_json: JsonOption = False,
) -> None:
    from sastrugi.errors import SastrugiError
    from sastrugi.media.extents import total
    from sastrugi.recovery.findings import PASSES
    from sastrugi.recovery.limits import Limits
    from sastrugi.recovery.scan import scan as run_scan
    from sastrugi.recovery.scan_file import ScanFile
    from sastrugi.report.tables import scan_summary
    from sastrugi.units import parse_size

    wanted = [name.strip() for name in passes.split(",")]
    if unknown := [name for name in wanted if name not in PASSES]:
        raise SastrugiError(f"'{unknown[0]}' is no pass: there are {', '.join(PASSES)}")
    first, _, behind = within.partition("..")
    limits = Limits(
        tuple(kind or ()), tuple(group or ()), parse_size(first or "0 B"), parse_size(behind or "0 B"),
        parse_size(min_size), parse_size(max_size or "0 B"), volume, deleted_only,
    )  # fmt: skip
    with medium_at(medium) as opened:
        target = file_target(out, f"{medium.resolve().name.removesuffix('.img')}.scan", replace or go_on, opened.path)
        line = quoted("sastrugi", "scan", medium, "--out", target, "--go-on", *(["--as-is"] if as_is else []))
        with progress(line, shown is ProgressStyle.json) as watched:
            result = run_scan(opened, target, watched, wanted, go_on, as_is, limits, replace, effort=effort)
        unread = total(opened.unread)
    with ScanFile.open(target) as done:
        if as_json:
            show_json(
                {
                    "scan": str(target),
                    "findings": result.findings,
                    "seconds": round(result.seconds, 3),
                    "swept": result.bytes_swept,
                    "unread": unread,
                }
            )
        else:
            show(scan_summary(done, result.seconds))
            for note in done.notes():
                say(note)
            say(f"findings in {target}; next: {quoted('sastrugi', 'list', target)}")
    if unread:
        say(f"{unread:,} bytes of {medium} could not be read")
        raise typer.Exit(3)
