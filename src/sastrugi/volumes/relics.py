"""Pieces of folders found anywhere on a medium, whatever life they are of, by their shape alone."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from sastrugi.media.base import Medium
from sastrugi.media.extents import Extent
from sastrugi.volumes.exfat import relics as exfat
from sastrugi.volumes.fat import relics as fat

_SECTOR = 512
_LARGEST = 8 << 20
"""Bytes of one loose table; more of them in a row are several."""
FAMILIES: dict[str, Callable[[bytes], NDArray[np.bool_]]] = {"fat": fat.table_sectors, "exfat": exfat.table_sectors}
"""For each family of file systems, what tells sectors of its folders. A new one is one more row."""


@dataclass(frozen=True, slots=True)
class LooseTable:
    """Sectors in a row that can be parts of folders."""

    family: str
    offset: int
    data: bytes


def loose_tables(pieces: Iterable[tuple[int, bytes]]) -> Iterator[LooseTable]:
    """What looks like folders in pieces of a medium, (offset, bytes) each, in order. Pieces that touch go on."""
    open_ones: dict[str, tuple[int, list[bytes]]] = {}
    at = -1
    for offset, data in pieces:
        if offset != at:
            yield from _closed(open_ones)
        at = offset + len(data)
        for family, test in FAMILIES.items():
            flags = test(data)
            edges = np.flatnonzero(np.diff(np.concatenate(([False], flags, [False])))).reshape(-1, 2) * _SECTOR
            goes_on = len(edges) > 0 and edges[0, 0] == 0
            if family in open_ones and not goes_on:
                yield _loose(family, *open_ones.pop(family))
            for lo, hi in edges.tolist():
                start, parts = open_ones.pop(family, (offset + lo, []))
                parts.append(data[lo:hi])
                if hi + _SECTOR > len(data) and offset + hi - start < _LARGEST:
                    open_ones[family] = (start, parts)
                else:
                    yield _loose(family, start, parts)
    yield from _closed(open_ones)


def _closed(open_ones: dict[str, tuple[int, list[bytes]]]) -> Iterator[LooseTable]:
    for family in list(open_ones):
        yield _loose(family, *open_ones.pop(family))


def _loose(family: str, start: int, parts: list[bytes]) -> LooseTable:
    return LooseTable(family, start, b"".join(parts))


def sweep(medium: Medium, ranges: Iterable[Extent], step: int = 4 << 20) -> Iterator[tuple[int, bytes]]:
    """The data of `ranges` that is no hole, in pieces of whole sectors, for `loose_tables`."""
    for wanted in ranges:
        behind = wanted.offset
        for extent in medium.data_ranges(wanted.offset, wanted.end):
            first = max(extent.offset // _SECTOR * _SECTOR, behind)
            behind = -(-extent.end // _SECTOR) * _SECTOR
            for at in range(first, behind, step):
                yield at, medium.read(at, min(step, behind - at))
