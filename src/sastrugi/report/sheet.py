"""A contact sheet: a small picture of every file, so that a person can look instead of reading."""

from __future__ import annotations

import io
from collections.abc import Sequence
from pathlib import Path

from sastrugi.children import run_in_children
from sastrugi.kinds import kind_for_name
from sastrugi.progress import Progress
from sastrugi.report.fonts import font
from sastrugi.report.tiles import HEIGHT, WIDTH
from sastrugi.safety import atomic_file
from sastrugi.units import format_size, plural, printable

COLUMNS, MOST = 6, 120
_GAP, _CAPTION, _HEAD = 12, 30, 40
_GROUND, _INK, _FAINT, _BROKEN = "#f2f2f2", "#222222", "#666666", "#D55E00"


def draw_sheet(folder: Path, paths: Sequence[Path], out: Path, progress: Progress) -> None:
    """Draw the first MOST files of `paths` to a PNG file."""
    from PIL import Image, ImageDraw

    shown = list(paths[:MOST])
    progress.start("draw", len(shown), "files")
    outcomes = run_in_children("sastrugi.report.tiles:tile", shown, progress)
    progress.finish()
    rows = -(-len(shown) // COLUMNS)
    size = _GAP + COLUMNS * (WIDTH + _GAP), _HEAD + rows * (HEIGHT + _CAPTION + _GAP)
    sheet = Image.new("RGB", size, _GROUND)
    draw = ImageDraw.Draw(sheet)
    more = f" (the first {MOST} shown)" if len(paths) > MOST else ""
    draw.text((_GAP, 12), f"{printable(folder.name)}: {plural(len(paths), 'file')}{more}", _INK, font(16))
    for n, outcome in enumerate(outcomes):
        x, y = _GAP + n % COLUMNS * (WIDTH + _GAP), _HEAD + n // COLUMNS * (HEIGHT + _CAPTION + _GAP)
        if outcome.value is not None:
            kind, data = outcome.value
            with Image.open(io.BytesIO(data)) as picture:
                sheet.paste(picture, (x, y))
        else:
            named = kind_for_name(outcome.path.name)
            kind = named.name if named else "other"
            draw.rectangle((x, y, x + WIDTH - 1, y + HEIGHT - 1), "#ffffff", _BROKEN)
            draw.text((x + 8, y + 8), "cannot be shown", _BROKEN, font(12))
            for line in range(4):
                draw.text((x + 8, y + 28 + 13 * line), outcome.problem[line * 30 : line * 30 + 30], _FAINT, font(10))
        name = printable(str(outcome.path.relative_to(folder)))
        draw.text((x, y + HEIGHT + 2), name if len(name) <= 32 else f"…{name[-31:]}", _INK, font(10))
        facts = f"{kind}, {format_size(outcome.path.stat().st_size)}"
        draw.text((x, y + HEIGHT + 14), facts, _FAINT, font(10))
    with atomic_file(out) as temporary:
        sheet.save(temporary, "PNG")
