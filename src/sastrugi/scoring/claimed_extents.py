"""Where a program says that a file lay, against where it did."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal

from sastrugi.media import Extent
from sastrugi.media.extents import cut
from sastrugi.specimen.truth import TruthFile

PlaceWord = Literal["same", "part", "other", "untold"]


def compare_places(claimed: Sequence[Extent], file: TruthFile) -> PlaceWord:
    """`same` if every byte of the file is claimed where it lay, `part` if some are, `other` if none is (a copy may have
    been taken for it), `untold` where nothing is claimed."""
    if not claimed or not file.size:
        return "untold"
    if not file.unplaced and cut(claimed, file.size) == cut(file.extents, file.size):
        return "same"
    lay = list(file.places())
    position = right = 0
    for offset, length in claimed:
        for inside, where in lay:
            if offset - position == where.offset - inside:
                right += max(min(offset + length, where.end) - max(offset, where.offset), 0)
        position += length
    return "same" if right >= file.size else "part" if right else "other"
