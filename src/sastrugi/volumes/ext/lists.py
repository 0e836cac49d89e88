"""Lists of blocks that outlive their inode, wherever on a medium they lie.

The first entry of a list tells which block of the volume is the thirteenth of its file (Linux,
`Documentation/filesystems/ext4/blockmap.rst`), so the file begins twelve blocks before it, or thirteen where the list
itself stands between. Further lists go on where one ends: the blocks around their borders are given out together.
"""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Iterator, Sequence

import numpy as np
from numpy.typing import NDArray

from sastrugi.media.base import Medium
from sastrugi.media.extents import Extent, join
from sastrugi.volumes.ext.layout import DIRECT
from sastrugi.volumes.registry import ListedFile

_BLOCK_SIZES, _SECTOR = (1024, 2048, 4096), 512
_MOSTLY = 0.8
"""Blocks of a file are given out from low to high, but for few."""
_MOST_KNOWN, _MOST_BASES = 1 << 20, 16
"""Lists that are kept in mind; bytes at which volumes may have begun that are tried."""
_MOST_BETWEEN, _DEEPEST = 4, 2
"""Lists, of lists too, that may stand between one list's last block and the next one's first; and in each other."""
_READ_AT_LEAST, _BYTES_PER_LIST = 10_000, 64 << 10
"""Lists that are read, and bytes of a medium for each more: as many as a medium can be full of."""
_FEWEST_AGREE, _FEWEST_LISTS, _NEARLY_ALL = 2, 4, 0.9


def list_sectors(sectors: NDArray[np.uint8], heads: NDArray[np.uint8]) -> NDArray[np.bool_]:
    """Sectors that can be the beginning of a list: numbers that rise, most of them by one, and then zeros."""
    words = heads.view("<u4")
    first, second = words[:, 0], words[:, 1]
    out: NDArray[np.bool_] = (first > DIRECT) & ((second == first + 1) | (second == 0))
    maybe = np.flatnonzero(out)
    if len(maybe):
        rows = np.ascontiguousarray(sectors[maybe]).view("<u4").astype(np.int64)
        used = rows != 0
        count = np.where(used.all(axis=1), rows.shape[1], np.argmin(used, axis=1))
        pairs = used[:, 1:] & used[:, :-1]
        rising = ((np.diff(rows, axis=1) > 0) & pairs).sum(axis=1)
        out[maybe] = (used.sum(axis=1) == count) & (rising >= _MOSTLY * (count - 1))
    return out


class BlockLists:
    """The lists that stand in some sectors of a medium, by what they list. `starts` are bytes at which volumes begin,
    or can have begun; others are told by lists that stand right in front of the first block that they name."""

    def __init__(self, medium: Medium, sectors: Sequence[int], starts: Sequence[int]) -> None:
        self._medium = medium
        self._left = _READ_AT_LEAST + medium.size // _BYTES_PER_LIST
        heads, alone = _heads_of(medium, sectors[:_MOST_KNOWN])
        self._heads = heads
        self._bases = list(dict.fromkeys([*starts, *_bases_told({at: heads[at] for at in alone})]))
        self._by_start: defaultdict[int, list[tuple[int, int, int]]] = defaultdict(list)
        """(base, block size, byte of the list) by the byte at which its file can begin."""
        self._by_first: dict[tuple[int, int, int], int] = {}
        """The byte of a list by base, block size, and the first block that it names."""
        for base in self._bases:
            for block in _blocks_told([at - base for at in alone if at >= base]):
                for at, first in heads.items():
                    if at >= base and not (at - base) % block and base + first * block < medium.size:
                        self._keep(base, block, at, first)

    def _keep(self, base: int, block: int, at: int, first: int) -> None:
        self._by_first.setdefault((base, block, first), at)
        for before in (DIRECT, DIRECT + 1) if at == base + (first - 1) * block else (DIRECT,):
            if first > before:
                self._by_start[base + (first - before) * block].append((base, block, at))

    @property
    def starts(self) -> list[int]:
        """The bytes at which files can begin, in order."""
        return sorted(self._by_start)

    def files_at(self, offset: int) -> Iterator[ListedFile]:
        """The files that can begin at a byte, by the lists that tell of such: the longest first."""
        told = [self._followed(offset, *which) for which in self._by_start.get(offset, ())]
        yield from sorted((one for one in told if one is not None), key=lambda one: -one.space)

    def _followed(self, offset: int, base: int, block: int, at: int) -> ListedFile | None:
        extents = [Extent(offset, DIRECT * block)]
        seen: set[int] = set()
        lists = 0
        place: int | None = at
        while place is not None and place not in seen:
            seen.add(place)
            leaves = list(self._leaves(place, block, base, _DEEPEST))
            place = None
            for numbers in leaves:
                breaks = np.flatnonzero(np.diff(numbers) != 1) + 1
                extents += [Extent(base + int(run[0]) * block, len(run) * block) for run in np.split(numbers, breaks)]
            lists += len(leaves)
            if leaves and len(leaves[-1]) == block // 4:
                later = (
                    self._by_first.get((base, block, int(leaves[-1][-1]) + n)) for n in range(1, _MOST_BETWEEN + 1)
                )
                place = next((one for one in later if one is not None), None)
        if not lists:
            return None
        places = join(extents)
        return ListedFile(at, base, block, places, sum(extent.length for extent in places))

    def _leaves(self, at: int, block: int, base: int, most: int) -> Iterator[NDArray[np.int64]]:
        """The blocks that a list names, or the lists that it is a list of."""
        numbers = self._numbers(at, block, base)
        if numbers is None:
            return
        if most and all(base + below * block in self._heads for below in numbers.tolist()):
            for below in numbers.tolist():
                yield from self._leaves(base + below * block, block, base, most - 1)
        else:
            yield numbers

    def _numbers(self, at: int, block: int, base: int) -> NDArray[np.int64] | None:
        """The blocks that a list names; None if it is none."""
        self._left -= 1
        if self._left < 0:
            return None
        data = self._medium.read(at, block)
        numbers = np.frombuffer(data.ljust(block, b"\0"), "<u4").astype(np.int64)
        count = int(np.argmax(numbers == 0)) if (numbers == 0).any() else len(numbers)
        used = numbers[:count]
        if not count or numbers[count:].any() or base + int(used.max() + 1) * block > self._medium.size:
            return None
        if len(np.unique(used)) < count or (count > 4 and (np.diff(used) > 0).mean() < _MOSTLY):
            return None
        return None if base + int(used[0]) * block == at else used


def _heads_of(medium: Medium, sectors: Sequence[int]) -> tuple[dict[int, int], list[int]]:
    """The first number in each of some sectors; and those that surely begin a list: what goes on where the sector in
    front of it is full may be a part of the same."""
    heads: dict[int, int] = {}
    alone: list[int] = []
    behind, last = -1, 0
    for at in sectors:
        numbers = np.frombuffer(medium.read(at, _SECTOR).ljust(_SECTOR, b"\0"), "<u4")
        first = int(numbers[0])
        heads[at] = first
        if at != behind or first <= last:
            alone.append(at)
        behind, last = (at + _SECTOR, int(numbers[-1])) if numbers[-1] else (-1, 0)
    return heads, alone


def _blocks_told(places: Sequence[int]) -> tuple[int, ...]:
    """The size of blocks, by where lists stand: the largest on which nearly all of them do. All sizes, where they are
    few."""
    if len(places) < _FEWEST_LISTS:
        return _BLOCK_SIZES
    each = np.array(places)
    fitting = [block for block in _BLOCK_SIZES if (each % block == 0).mean() >= _NEARLY_ALL]
    return (max(fitting),) if fitting else _BLOCK_SIZES[:1]


def _bases_told(heads: dict[int, int]) -> list[int]:
    """Where volumes began, by lists that stand right in front of the first block that they name: what several agree
    on."""
    told: Counter[int] = Counter()
    for at, first in heads.items():
        for block in _BLOCK_SIZES:
            base = at + block - first * block
            if base >= 0 and not base % _SECTOR:
                told[base] += 1
    return [base for base, count in told.most_common(_MOST_BASES) if count >= _FEWEST_AGREE]
