"""A contact sheet: a small picture of every file, so that a person can look instead of reading."""

from __future__ import annotations

import io
import textwrap
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from sastrugi.kinds import kind_for_name
from sastrugi.progress import Progress
from sastrugi.report.fonts import font
from sastrugi.report.tiles import HEIGHT, WIDTH
from sastrugi.safety import atomic_file
from sastrugi.subprocess_pool import run_in_children
from sastrugi.units import format_size, plural, printable

COLUMNS, MOST = 6, 120
_GAP, _CAPTION, _HEAD = 12, 30, 40
_GROUND, _INK, _FAINT, _BROKEN = "#f2f2f2", "#222222", "#666666", "#D55E00"


@dataclass(frozen=True, slots=True)
class Tile:
    """One place of a sheet: a name, facts, and a picture (PNG bytes) or the problem that there is none."""

    name: str
    facts: str
    picture: bytes = b""
    problem: str = ""


def draw_sheet(folder: Path, paths: Sequence[Path], out: Path, progress: Progress) -> None:
    """Draw the first MOST files of `paths` to a PNG file."""
    shown = list(paths[:MOST])
    progress.start("draw", len(shown), "files")
    outcomes = run_in_children("sastrugi.report.tiles:tile", shown, progress)
    progress.finish()
    tiles: list[Tile] = []
    for path, outcome in zip(shown, outcomes, strict=True):
        named = kind_for_name(path.name)
        kind, picture = outcome.value or (named.name if named else "other", b"")
        facts = f"{kind}, {format_size(path.stat().st_size)}"
        tiles.append(Tile(str(path.relative_to(folder)), facts, picture, outcome.problem))
    more = f" (the first {MOST} shown)" if len(paths) > MOST else ""
    draw_tiles(tiles, f"{printable(folder.name)}: {plural(len(paths), 'file')}{more}", out)


def draw_tiles(tiles: Sequence[Tile], title: str, out: Path) -> None:
    """Draw tiles in rows of COLUMNS to a PNG file."""
    from PIL import Image, ImageDraw

    rows = -(-len(tiles) // COLUMNS)
    size = _GAP + COLUMNS * (WIDTH + _GAP), _HEAD + rows * (HEIGHT + _CAPTION + _GAP)
    sheet = Image.new("RGB", size, _GROUND)
    draw = ImageDraw.Draw(sheet)
    draw.text((_GAP, 12), title, _INK, font(16))
    for n, tile in enumerate(tiles):
        x, y = _GAP + n % COLUMNS * (WIDTH + _GAP), _HEAD + n // COLUMNS * (HEIGHT + _CAPTION + _GAP)
        if tile.picture:
            with Image.open(io.BytesIO(tile.picture)) as picture:
                sheet.paste(picture, (x, y))
        else:
            draw.rectangle((x, y, x + WIDTH - 1, y + HEIGHT - 1), "#ffffff")
        if tile.problem:
            draw.rectangle((x, y, x + WIDTH - 1, y + HEIGHT - 1), None, _BROKEN)
            told = textwrap.wrap(f"cannot be shown: {tile.problem}", 34)[: 2 if tile.picture else 8]
            top = y + HEIGHT - 4 - 12 * len(told) if tile.picture else y + 8
            draw.rectangle((x + 1, top - 3, x + WIDTH - 2, top + 12 * len(told) + 2), "#ffffff")
            for line, words in enumerate(told):
                draw.text((x + 6, top + 12 * line), words, _BROKEN, font(9))
        name = printable(tile.name)
        draw.text((x, y + HEIGHT + 2), name if len(name) <= 32 else f"…{name[-31:]}", _INK, font(10))
        draw.text((x, y + HEIGHT + 14), tile.facts, _FAINT, font(10))
    with atomic_file(out) as temporary:
        sheet.save(temporary, "PNG")
