"""Where things lie on a medium, as rows of letters with colours."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray
from rich.text import Text

from sastrugi.media.extents import RangeSet
from sastrugi.report.style import GREEN, GREY, ORANGE, PURPLE, SKY, VERMILION
from sastrugi.units import format_size

if TYPE_CHECKING:
    from sastrugi.media.extents import Extent
    from sastrugi.specimen.truth import Truth

_COLUMNS, _ROWS = 96, 6
_LEGEND = (
    ("T", "tables", PURPLE),
    ("L", "live", SKY),
    ("W", "lost, still whole", GREEN),
    ("P", "lost, part gone", ORANGE),
    ("X", "lost, written over", VERMILION),
    ("·", "free", GREY),
)
_STYLES = {letter: colour for letter, _, colour in _LEGEND}


def map_of_truth(truth: Truth) -> list[Text]:
    """A heading, the map and its legend. Each letter stands for what fills most of its stretch of the medium."""
    files = [file for file in truth.files if file.size]
    last = max([extent.end for file in files for extent in file.extents], default=truth.medium.size)
    cell = max(-(-last // (_COLUMNS * _ROWS) // 512) * 512, 512)
    count = -(-last // cell)
    live = [e for f in files if not f.lost for e in f.extents]
    over = RangeSet(e for f in files for e in f.gone)
    layers = {
        "T": _coverage(_tables(truth), cell, count),
        "L": _coverage(live, cell, count) - _coverage(over, cell, count),
        "W": _coverage((e for f in files if f.lost and not f.gone for e in f.extents), cell, count),
        "P": _coverage((part for f in files if f.gone for e in f.extents for part in over.gaps(e)), cell, count),
        "X": _coverage(over, cell, count),
    }
    stack = np.stack(list(layers.values()))
    letters = np.array([*layers, "·"])
    best = np.where(stack.sum(axis=0) * 2 < cell, len(layers), stack.argmax(axis=0))
    text = "".join(letters[best])
    beyond = truth.medium.size - count * cell
    out = [
        Text(
            f"Where things lie: each letter is {format_size(cell)}"
            + (f"; {format_size(beyond)} of free space follow" if beyond > 0 else ""),
            style="bold",
        )
    ]
    for at in range(0, len(text), _COLUMNS):
        row = Text()
        for letter in text[at : at + _COLUMNS]:
            row.append(letter, style=_STYLES[letter])
        out.append(row)
    legend = Text()
    for letter, meaning, colour in _LEGEND:
        if letter in text:
            legend.append(letter, style=f"bold {colour}").append(f" {meaning}   ")
    return [*out, legend]


def _tables(truth: Truth) -> Iterable[Extent]:
    """What lies before the first cluster of each volume (boot area and FATs), and the partition table."""
    from sastrugi.media.extents import Extent

    for volume in truth.volumes:
        first = min(
            (e.offset for f in truth.files if f.volume == volume.name for e in f.extents),
            default=volume.where.offset,
        )
        yield Extent(volume.where.offset, first - volume.where.offset)


def _coverage(extents: Iterable[Extent], cell: int, count: int) -> NDArray[np.int64]:
    """Bytes of each cell that `extents` cover. Shape: (count,)."""
    out = np.zeros(count + 1, np.int64)
    for offset, length in extents:
        first, last = offset // cell, min((offset + length - 1) // cell, count - 1)
        if first >= count:
            continue
        out[first : last + 1] += cell
        out[first] -= offset - first * cell
        out[last] -= max((last + 1) * cell - offset - length, 0)
    return out[:count]
