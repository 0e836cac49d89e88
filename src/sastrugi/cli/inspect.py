"""`sastrugi look`, `map` and `hex`: what is on a medium, or in a scan, before anything is brought back."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from sastrugi.cli.console import JsonOption, medium_at, progress, quoted, say, show, show_json, width
from sastrugi.cli.selection_options import SelectionOptions, selecting
from sastrugi.cli.targets import ReplaceOption, picture_target

if TYPE_CHECKING:
    from sastrugi.media import Extent, Medium
    from sastrugi.report.layers import MediumLayers

_LOOK_HELP = """Show the partitions and volumes of a medium, or what a scan found and how.

\b
Example: sastrugi look card.img --lives
Volumes that no table lists are told, too; --lives reads all of the medium for earlier ones."""
_MAP_HELP = """Draw what lies where on a medium, or what the findings of a scan claim of it.

\b
Example: sastrugi map card.scan --state lost --out card.png"""
_HEX_HELP = """Show bytes of a medium, and which structure or file owns each.

\b
Example: sastrugi hex card.img 0x100000 --length 256
OFFSET: bytes (1048576), with a unit (1 MiB), or hexadecimal (0x100000)."""
_MOST_BYTES = 1 << 16

MediumArgument = Annotated[Path, typer.Argument(help="An image, a device or a specimen folder.", metavar="MEDIUM")]
EitherArgument = Annotated[
    Path, typer.Argument(help="An image, a device, a specimen folder or a scan file.", metavar="MEDIUM|SCAN")
]


def register(app: typer.Typer) -> None:
    app.command("look", help=_LOOK_HELP)(look)
    app.command("map", help=_MAP_HELP)(selecting(map_medium))
    app.command("hex", help=_HEX_HELP)(hex_bytes)


def look(
    medium: EitherArgument,
    lives: Annotated[bool, typer.Option("--lives", help="Look for earlier lives: reads the whole medium.")] = False,
    as_json: JsonOption = False,
) -> None:
    from sastrugi.recovery.layout import boot_sectors, find_places, missing_bytes, outside_of, unlisted_places
    from sastrugi.recovery.passes import describe
    from sastrugi.recovery.relics import earlier_lives
    from sastrugi.recovery.scan_file import is_scan_file
    from sastrugi.report.tables import volume_json, volume_table
    from sastrugi.specimen.truth import TRUTH_FILE
    from sastrugi.units import format_size

    if is_scan_file(medium):
        _look_at_scan(medium, as_json)
        return
    with medium_at(medium) as opened:
        places = find_places(opened)
        missing = missing_bytes(opened, places)
        places += unlisted_places(opened, places, boot_sectors(opened, outside_of(opened, places)))
        if lives:
            with progress() as watched:
                places += earlier_lives(opened, places, watched)
        volumes = [describe(place) for place in places]
        if as_json:
            listed = [volume_json(volume) for volume in volumes]
            show_json({"medium": str(medium), "size": opened.size, "sector": opened.sector, "volumes": listed})
        else:
            show(volume_table(str(medium), opened.size, volumes))
            if (medium / TRUTH_FILE).is_file():
                _lead_on(medium, opened.path)
    if missing > 0:
        say(f"{medium} is cut short: {format_size(missing)} that its tables speak of are not there")
        raise typer.Exit(3)


def _lead_on(specimen: Path, image: Path) -> None:
    """What to do with a specimen, for those who have a program of their own."""
    say(f"a specimen: let any program search {image}, then")
    for word, more in (("score", ""), ("explain", " NAME"), ("report", "")):
        say(f"  {quoted('sastrugi', word, specimen)} RESULTS{more}")


def _look_at_scan(path: Path, as_json: bool) -> None:
    from sastrugi.recovery.scan_file import ScanFile
    from sastrugi.report.scan_view import scan_json, scan_view

    with ScanFile.open(path) as scan:
        if as_json:
            show_json(scan_json(scan))
        else:
            show(scan_view(path.name, scan))
            if not scan.finished:
                say("this scan is not finished: more may be found")


def map_medium(
    medium: EitherArgument,
    out: Annotated[
        Path | None,
        typer.Option(help="The picture to make [default: the medium's name with .map.png]", metavar="FILE.png"),
    ] = None,
    replace: ReplaceOption = False,
    as_json: JsonOption = False,
    *,
    chosen: SelectionOptions,
) -> None:
    from sastrugi.errors import SastrugiError
    from sastrugi.recovery.scan_file import is_scan_file
    from sastrugi.report.map_picture import draw_map
    from sastrugi.report.medium_map import map_json, map_text

    default = f"{medium.resolve().name.removesuffix('.img').removesuffix('.scan')}.map.png"
    of_scan = is_scan_file(medium)
    if not (of_scan or chosen.none):
        raise SastrugiError(f"{medium}: a selection picks findings of a scan file, not parts of a medium")
    layers, guarded = _layers_of_scan(medium, chosen) if of_scan else _layers_of(medium)
    target = picture_target(out, default, replace, *guarded, medium)
    draw_map(layers, target)
    if as_json:
        show_json({"map": str(target), **map_json(layers)})
        return
    show(*map_text(layers, min(width(), 96)))
    say(f"map in {target}")


def _layers_of(medium: Path) -> tuple[MediumLayers, list[Path]]:
    from sastrugi.report.layers import layers_of_medium, layers_of_specimen
    from sastrugi.specimen.truth import TRUTH_FILE, Specimen

    if (medium / TRUTH_FILE).is_file():
        with Specimen(medium) as specimen:
            return layers_of_specimen(specimen), [specimen.medium.path]
    with medium_at(medium) as opened:
        return layers_of_medium(opened), [opened.path]


def _layers_of_scan(path: Path, chosen: SelectionOptions) -> tuple[MediumLayers, list[Path]]:
    from sastrugi.recovery.extract import check_medium
    from sastrugi.recovery.scan_file import ScanFile
    from sastrugi.report.layers import layers_of_scan

    with ScanFile.open(path) as scan, medium_at(scan.medium_path) as opened:
        check_medium(scan, opened)
        selection = chosen.of(scan, "any")
        selection.pick(scan)
        return layers_of_scan(path.name, scan, selection, opened), [opened.path]


def hex_bytes(
    medium: MediumArgument,
    offset: Annotated[str, typer.Argument(help="Where to begin.", metavar="OFFSET")],
    length: Annotated[str, typer.Option(help="How much to show.", metavar="SIZE")] = "256 B",
    scan_file: Annotated[
        Path | None, typer.Option("--scan", help="Also say which findings of this scan own them.", metavar="SCAN")
    ] = None,
    as_json: JsonOption = False,
) -> None:
    from sastrugi.errors import SastrugiError
    from sastrugi.media import Extent
    from sastrugi.recovery.scan_file import ScanFile
    from sastrugi.report.byte_owners import claims_of, hex_json, hex_title, hex_view, stretches_of
    from sastrugi.specimen.truth import TRUTH_FILE, Specimen

    start, count = _offset(offset), _offset(length)
    if not 0 < count <= _MOST_BYTES:
        raise SastrugiError(f"--length goes from 1 to {_MOST_BYTES:,} bytes: for more, write them out with 'capture'")
    with medium_at(medium) as opened:
        window = _window(opened, start, count)
        truth = None
        if (medium / TRUTH_FILE).is_file():
            with Specimen(medium) as specimen:
                truth = specimen.truth
        findings = []
        if scan_file is not None:
            with ScanFile.open(scan_file) as scan:
                findings = list(scan.findings("state != 'live' AND size > 0"))
        claims = claims_of(opened, window, truth, findings)
        data = opened.read(*window)
    stretches = stretches_of(Extent(window.offset, len(data)), claims)
    if as_json:
        show_json(hex_json(window, data, stretches))
    else:
        show(hex_title(str(medium), window), hex_view(window, data, stretches))


_MOST_DIGITS = 24
"""Of a hexadecimal offset, with its sign."""


def _offset(text: str) -> int:
    from sastrugi.errors import SastrugiError
    from sastrugi.units import parse_size

    if text.lower().startswith("0x"):
        try:
            number = int(text[:_MOST_DIGITS], 16)
        except ValueError:
            raise SastrugiError(f"'{text[:40]}' is no hexadecimal number") from None
        if len(text) > _MOST_DIGITS:
            raise SastrugiError(f"'{text[:40]}…' is no place on any medium: give a smaller one")
        return number
    return parse_size(text)


def _window(medium: Medium, start: int, count: int) -> Extent:
    from sastrugi.errors import SastrugiError
    from sastrugi.media import Extent

    if start >= medium.size:
        raise SastrugiError(f"{medium.path}: has {medium.size:,} bytes; {start:,} lies behind its end")
    return Extent(start, min(count, medium.size - start))
