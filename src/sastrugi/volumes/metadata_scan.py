"""Pieces of folders found anywhere on a medium, whatever life they are of, by their shape alone."""

from __future__ import annotations

from array import array
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from functools import cache

import numpy as np
from numpy.typing import NDArray

from sastrugi.media.base import Medium
from sastrugi.media.extents import Extent
from sastrugi.volumes.registry import file_systems

_SECTOR = 512
HEAD = 32
"""Bytes of the start of each sector that tests get on their own, one behind the other."""
_STEP = 4 << 20
_LARGEST = 8 << 20
"""Bytes of one loose table; more of them in a row are several."""
SectorTest = Callable[[NDArray[np.uint8], NDArray[np.uint8]], NDArray[np.bool_]]
"""Of whole sectors, shape (sectors, 512), and of the first HEAD bytes of each: which are marked."""


@cache
def families() -> dict[str, SectorTest]:
    """For each family of file systems, what tells sectors of its folders."""
    return {name: one.metadata_sectors for name, one in file_systems().items() if one.metadata_sectors}


FIRST_FAMILY_BIT = 8
"""Of the marks of a sector; lower bits are for others who look at the same sectors."""


@dataclass(frozen=True, slots=True)
class LooseTable:
    """Sectors in a row that can be parts of folders."""

    family: str
    offset: int
    data: bytes


@cache
def _boot_tests() -> tuple[SectorTest, ...]:
    return tuple(dict.fromkeys(one.boot.test for one in file_systems().values()))


def boots_in(sectors: NDArray[np.uint8], heads: NDArray[np.uint8]) -> NDArray[np.bool_]:
    """Which sectors, shape (sectors, 512), may be ones by which a volume of any file system is known."""
    out = np.zeros(len(sectors), bool)
    for test in _boot_tests():
        out |= test(sectors, heads)
    return out


def heads_of(sectors: NDArray[np.uint8]) -> NDArray[np.uint8]:
    """The first HEAD bytes of each sector side by side, where the processor reads them several times faster."""
    return np.ascontiguousarray(sectors[:, :HEAD])


def family_marks(sectors: NDArray[np.uint8], heads: NDArray[np.uint8]) -> NDArray[np.uint16]:
    """A bit for each family whose folders a sector can be of."""
    marks = np.zeros(len(sectors), np.uint16)
    for number, test in enumerate(families().values()):
        marks |= test(sectors, heads).astype(np.uint16) << np.uint16(FIRST_FAMILY_BIT + number)
    return marks


def marked(medium: Medium, ranges: Iterable[Extent]) -> Iterator[tuple[int, NDArray[np.uint16]]]:
    """The family marks of all sectors of `ranges` that hold data, (offset, marks), in order."""
    for extent in data_sectors(medium, ranges):
        for at in range(extent.offset, extent.end, _STEP):
            data = medium.read(at, min(_STEP, extent.end - at))
            sectors = np.frombuffer(data, "u1", len(data) // _SECTOR * _SECTOR).reshape(-1, _SECTOR)
            yield at, family_marks(sectors, heads_of(sectors))


def data_sectors(medium: Medium, ranges: Iterable[Extent]) -> Iterator[Extent]:
    """What of `ranges`, which are in order, is no hole, in whole sectors, none of them twice."""
    behind = 0
    for wanted in ranges:
        for extent in medium.data_ranges(wanted.offset, wanted.end):
            first = max(extent.offset // _SECTOR * _SECTOR, behind)
            behind = max(-(-extent.end // _SECTOR) * _SECTOR, behind)
            if first < behind:
                yield Extent(first, behind - first)


def loose_tables(
    medium: Medium, marks: Iterable[tuple[int, NDArray[np.uint16]]], others: dict[str, array[int]]
) -> Iterator[LooseTable]:
    """What looks like folders by the marks of sectors, (offset, marks) in order. Those that touch go on. Sectors of
    families whose metadata are no tables of folders come into `others`, by their bytes."""
    for family, run in _runs(marks):
        if file_systems()[family].lives is None:
            others.setdefault(family, array("q")).extend(range(run.offset, run.end, _SECTOR))
        else:
            yield LooseTable(family, run.offset, medium.read(*run))


def _runs(marks: Iterable[tuple[int, NDArray[np.uint16]]]) -> Iterator[tuple[str, Extent]]:
    open_runs: dict[str, Extent] = {}
    for offset, values in marks:
        some = int(np.bitwise_or.reduce(values)) >> FIRST_FAMILY_BIT if len(values) else 0
        for number, family in enumerate(families()):
            if not some >> number & 1:
                continue
            flags = (values >> np.uint16(FIRST_FAMILY_BIT + number) & np.uint16(1)).astype(bool)
            edges = np.flatnonzero(np.diff(np.concatenate(([False], flags, [False])))).reshape(-1, 2) * _SECTOR
            for lo, hi in (edges + offset).tolist():
                run = open_runs.get(family, Extent(lo, 0))
                if run.end == lo and hi - run.offset <= _LARGEST:
                    open_runs[family] = Extent(run.offset, hi - run.offset)
                    continue
                if run.length:
                    yield family, run
                open_runs[family] = Extent(lo, hi - lo)
    yield from open_runs.items()
