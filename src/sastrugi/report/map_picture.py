"""The map of a medium as a picture: a row of cells for each stretch, split by what lies in them."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from sastrugi.report.fonts import font
from sastrugi.report.layers import COLOURS, FREE, MediumLayers
from sastrugi.report.medium_map import Grid, grid_of
from sastrugi.report.style import GREY, INK
from sastrugi.safety import atomic_file
from sastrugi.units import format_size, percent, printable

if TYPE_CHECKING:
    from PIL.ImageDraw import ImageDraw

_WIDTH, _HEIGHT = 1280, 800
_LEFT, _TOP, _CELL, _ROW = 104, 76, 15, 17
_COLUMNS, _ROWS = 64, 32
_LEGEND_TOP = 690
_RULE, _FAINT = "#c8c8c8", "#555555"
_DARK_LETTERS = ("F", "L", "P", "O", "B", FREE)


def draw_map(medium: MediumLayers, out: Path) -> None:
    """Draw the map to a PNG file of 1280 x 800 points."""
    from PIL import Image, ImageDraw

    grid = grid_of(medium, _COLUMNS, _ROWS)
    picture = Image.new("RGB", (_WIDTH, _HEIGHT), "#ffffff")
    draw = ImageDraw.Draw(picture)
    draw.text((24, 16), printable(medium.title)[:110], INK, font(18))
    facts = (
        f"{format_size(medium.size)}; one cell is {format_size(grid.cell)}, one row {format_size(grid.cell * _COLUMNS)}"
    )
    draw.text((24, 44), facts, _FAINT, font(13))
    for n, row in enumerate(grid.rows):
        y = _TOP + n * _ROW
        text = format_size(row.start)
        draw.text((_LEFT - 10 - draw.textlength(text, font(11)), y + 2), text, _FAINT, font(11))
        for column in range(row.shares.shape[1]):
            _draw_cell(draw, grid, row.shares[:, column], _LEFT + column * _CELL, y)
        if row.skipped:  # a broken edge where free space was left out
            draw.line((_LEFT, y - 1, _LEFT + _COLUMNS * _CELL, y - 1), INK, 1)
            draw.text((_LEFT + _COLUMNS * _CELL + 8, y - 9), f"{format_size(row.skipped)} free", _FAINT, font(10))
        upto = row.start + grid.cell * _COLUMNS
        begins = [what for offset, what in medium.marks if row.start <= offset < upto]
        draw.text((_LEFT + _COLUMNS * _CELL + 8, y + 3), " ".join(begins)[:32], INK, font(10))
    if grid.after:
        y = _TOP + len(grid.rows) * _ROW + 4
        draw.text((_LEFT, y), f"… {format_size(grid.after)} free to the end", _FAINT, font(12))
    _draw_legend(draw, medium)
    with atomic_file(out) as temporary:
        picture.save(temporary, "PNG")


def _draw_cell(draw: ImageDraw, grid: Grid, shares: NDArray[np.int64], x: int, y: int) -> None:
    """One cell, split from left to right by the share of each layer; its letter is that of the largest."""
    draw.rectangle((x, y, x + _CELL - 2, y + _ROW - 3), COLOURS[FREE])
    whole, left, room = int(shares.sum()), float(x), _CELL - 1
    for letter, share in zip(grid.letters[:-1], shares[:-1], strict=True):
        if share:
            width = share / whole * room
            draw.rectangle((round(left), y, max(round(left + width) - 1, round(left)), y + _ROW - 3), COLOURS[letter])
            left += width
    letter = grid.letter(shares)
    if letter != FREE:
        mostly = shares.max() * 2 > whole and shares[-1] * 4 < whole
        ink = "#ffffff" if mostly and letter not in _DARK_LETTERS else INK
        draw.text((x + 4, y + 1), letter, ink, font(11))


def _draw_legend(draw: ImageDraw, medium: MediumLayers) -> None:
    draw.line((24, _LEGEND_TOP - 10, _WIDTH - 24, _LEGEND_TOP - 10), _RULE)
    for n, layer in enumerate(medium.layers):
        x, y = 24 + n % 4 * 310, _LEGEND_TOP + n // 4 * 32
        draw.rectangle((x, y, x + 20, y + 20), layer.colour, GREY)
        draw.text((x + 6, y + 2), layer.letter, INK if layer.letter in _DARK_LETTERS else "#ffffff", font(14))
        draw.text((x + 28, y - 1), layer.meaning, INK, font(13))
        told = f"{format_size(layer.bytes)}, {percent(layer.bytes / medium.size)}"
        draw.text((x + 28, y + 13), told, _FAINT, font(11))
