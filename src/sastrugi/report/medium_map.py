"""Where things lie on a medium, as cells with letters and colours; long stretches of free space are left out."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from sastrugi.media.extents import Extent, RangeSet
from sastrugi.report.layers import COLOURS, FREE, MediumLayers
from sastrugi.units import format_size

if TYPE_CHECKING:
    from rich.text import Text

_SMALLEST_CELL = 512
_WORTH_A_LETTER = 0.25
"""Share of a cell that must be in use for it to carry another letter than that of free space."""


@dataclass(frozen=True, slots=True)
class Row:
    """One row of cells: where it begins, and how many bytes of each layer lie in each cell. `shares` has the shape
    (layers, cells); `skipped` are free bytes left out before the row."""

    start: int
    shares: NDArray[np.int64]
    skipped: int = 0


@dataclass(frozen=True, slots=True)
class Grid:
    """A medium as rows of cells of `cell` bytes; `after` are free bytes left out at the end."""

    cell: int
    columns: int
    letters: tuple[str, ...]
    rows: tuple[Row, ...]
    after: int

    def letter(self, shares: NDArray[np.int64]) -> str:
        """What fills most of a cell, free space only if little else is there."""
        used = shares[:-1]
        if not len(used) or used.sum() < self.cell * _WORTH_A_LETTER:
            return FREE
        return self.letters[int(used.argmax())]


def grid_of(medium: MediumLayers, columns: int, most_rows: int) -> Grid:
    """The medium in at most `most_rows` rows, with the smallest cells for which that is enough."""
    used = RangeSet(part for layer in medium.layers if layer.letter != FREE for part in layer.ranges)
    stretches = _stretches(used, medium.size, most_rows // 2)
    cell = _SMALLEST_CELL
    while sum(count for _, count in _rows(stretches, cell, columns)) > most_rows:
        cell *= 2
    letters = tuple(layer.letter for layer in medium.layers if layer.letter != FREE)
    rows: list[Row] = []
    at = 0
    for start, count in _rows(stretches, cell, columns):
        skipped = start - at
        for n in range(count):
            first = start + n * cell * columns
            window = Extent(first, min(cell * columns, medium.size - first))
            cells = -(-window.length // cell)
            shares = [_coverage(layer.ranges.overlap(window), window, cell, cells) for layer in medium.layers
                      if layer.letter != FREE]  # fmt: skip
            whole = np.minimum(cell, window.length - cell * np.arange(cells))
            stack = np.array(shares, np.int64).reshape(len(shares), cells)
            rows.append(Row(first, np.vstack([stack, whole - stack.sum(axis=0)]), 0 if n else skipped))
        at = start + count * cell * columns
    return Grid(cell, columns, (*letters, FREE), tuple(rows), max(medium.size - at, 0))


def _rows(stretches: Iterable[Extent], cell: int, columns: int) -> Iterator[tuple[int, int]]:
    """Where the rows of each stretch begin, and how many there are."""
    at = 0
    for stretch in stretches:
        start = max(stretch.offset // cell * cell, at)  # the last row of the stretch before may reach into this one
        count = max(-(-(stretch.end - start) // (cell * columns)), 0)
        yield start, count
        at = start + count * cell * columns


def _stretches(used: RangeSet, size: int, most: int) -> list[Extent]:
    """The medium without its long free stretches: what is in use, with free space between where it is short."""
    parts = list(used) or [Extent(0, min(size, 1 << 20))]
    shortest = max(sum(part.length for part in parts) // 16, 1 << 16)
    while True:
        out: list[Extent] = []
        for part in parts:
            if out and part.offset - out[-1].end < shortest:
                out[-1] = Extent(out[-1].offset, part.end - out[-1].offset)
            else:
                out.append(part)
        if len(out) <= max(most, 1):
            return out
        shortest *= 2


def _coverage(extents: Iterable[Extent], window: Extent, cell: int, count: int) -> NDArray[np.int64]:
    """Bytes of each cell of the window that `extents` cover. Shape: (count,)."""
    out = np.zeros(count, np.int64)
    for offset, length in extents:
        lo, hi = offset - window.offset, offset + length - window.offset
        first, last = lo // cell, (hi - 1) // cell
        out[first : last + 1] += cell
        out[first] -= lo - first * cell
        out[last] -= (last + 1) * cell - hi
    return out


def map_text(medium: MediumLayers, columns: int = 96, rows: int = 6) -> list[Text]:
    """The small version for a terminal: a heading, rows of letters, and what they mean."""
    from rich.text import Text

    grid = grid_of(medium, columns, rows)
    out = [Text(f"Where things lie: each letter is {format_size(grid.cell)}", style="bold")]
    seen: set[str] = set()
    for row in grid.rows:
        if row.skipped:
            out.append(Text(f"… {format_size(row.skipped)} free …", style="dim"))
        line = Text()
        for n in range(row.shares.shape[1]):
            letter = grid.letter(row.shares[:, n])
            seen.add(letter)
            line.append(letter, style=COLOURS[letter] if letter != FREE else "dim")
        out.append(line)
    if grid.after:
        out.append(Text(f"… {format_size(grid.after)} free", style="dim"))
    legend = [Text()]
    for layer in medium.layers:
        told = f" {layer.meaning} {format_size(layer.bytes)}   "
        if legend[-1] and len(legend[-1]) + len(told) > columns:
            legend.append(Text())
        legend[-1].append(layer.letter, style=f"bold {layer.colour}" if layer.letter != FREE else "bold")
        legend[-1].append(told)
    return [*out, *legend]


def map_json(medium: MediumLayers) -> dict[str, Any]:
    return {
        "title": medium.title,
        "size": medium.size,
        "layers": [
            {"letter": layer.letter, "meaning": layer.meaning, "bytes": layer.bytes,
             "extents": [list(extent) for extent in layer.ranges] if layer.letter != FREE else []}
            for layer in medium.layers
        ],
        "marks": [{"offset": offset, "what": what} for offset, what in medium.marks],
    }  # fmt: skip
