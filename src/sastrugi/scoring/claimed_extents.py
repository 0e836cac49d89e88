"""Where a program says that a file lay, against where it did."""

from __future__ import annotations

from typing import Literal

from sastrugi.media import FileMap
from sastrugi.specimen.truth import TruthFile

PlaceWord = Literal["same", "part", "other", "untold"]


def compare_places(claimed: FileMap, file: TruthFile) -> PlaceWord:
    """`same` if every byte of the file is claimed where it lay, `part` if some are, `other` if none is (a copy may have
    been taken for it), `untold` where nothing is claimed."""
    if not claimed.segments or not file.size:
        return "untold"
    if not file.unplaced and (claimed.head(file.size) == file.map or claimed.stored == file.map.stored):
        return "same"
    lay = list(file.map.owned())
    right = 0
    for position, (offset, length), coding in claimed.owned():
        for inside, where, as_coded in lay:
            if coding == as_coded and offset - position == where.offset - inside:
                right += max(min(offset + length, where.end) - max(offset, where.offset), 0)
    return "same" if right >= file.size else "part" if right else "other"
