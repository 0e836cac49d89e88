"""Where a fork lies, by its record and by those of the extents overflow file."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from sastrugi.media.extents import Extent
from sastrugi.media.filemap import FileMap
from sastrugi.volumes.allocation import Run
from sastrugi.volumes.hfsplus.catalog_read import Fork, Overflow
from sastrugi.volumes.hfsplus.layout import INSIDE, Geometry

_MOST_RECORDS = 1 << 20
ForkKey = tuple[int, int]
"""Number of a file, and which fork of it."""


def all_runs(fork: Fork, further: Sequence[Overflow]) -> Sequence[Run]:
    """The extents of a fork, its own and those that follow on, as far as they are told. Of several records for one
    block the first counts."""
    if len(fork.runs) < INSIDE or not further:
        return fork.runs
    runs = list(fork.runs)
    have = sum(count for _, count in runs)
    by_first: dict[int, Overflow] = {}
    for one in further:
        by_first.setdefault(one.first, one)
    for _ in range(min(len(by_first), _MOST_RECORDS)):
        following = by_first.get(have)
        if following is None or have >= fork.blocks:
            break
        runs += following.runs
        have += sum(count for _, count in following.runs)
    return runs


def map_of(fork: Fork, further: Sequence[Overflow], geometry: Geometry) -> tuple[FileMap, list[str]]:
    """Where the bytes of a fork lie, as far as that can be, and what is wrong with it in words."""
    if not fork.size:
        return FileMap(), []
    wrong: list[str] = []
    extents: list[Extent] = []
    left = fork.size
    for start, count in all_runs(fork, further):
        if left <= 0:
            break
        if start + count > geometry.blocks or not start:
            wrong.append("its extents reach beyond the volume")
            break
        length = min(count * geometry.block, left)
        extents.append(Extent(geometry.at(start), length))
        left -= length
    if left > 0 and not wrong:
        wrong.append("its record tells more bytes than its extents hold")
    return FileMap.of(extents), wrong


def grouped(every: Sequence[Overflow]) -> Mapping[ForkKey, list[Overflow]]:
    """Records of the extents overflow file by the forks that they are of."""
    out: dict[ForkKey, list[Overflow]] = {}
    for one in every:
        out.setdefault((one.number, one.fork), []).append(one)
    return out
