"""What FAT and exFAT readers share: chains followed by runs, clusters in use, and whose they are."""

from __future__ import annotations

from abc import abstractmethod
from bisect import bisect_left, bisect_right
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from functools import lru_cache
from typing import Generic, Protocol, TypeVar

import numpy as np
from numpy.typing import NDArray

from sastrugi.media.base import Medium
from sastrugi.media.extents import Extent, cut, join, total
from sastrugi.media.filemap import FileMap
from sastrugi.volumes.allocation import Run, runs_of
from sastrugi.volumes.reader import UNLISTED_OWNER, Conflict, Placement, Volume

MAX_DEPTH = 200
_SWEEP = 4 << 20
_SECTOR = 512
_PIECE = 3 << 14  # entries; a whole number of 12-bit pairs and of sectors


class ClusterGeometry(Protocol):
    """What a geometry must tell for the code here."""

    @property
    def clusters(self) -> int: ...
    @property
    def cluster_size(self) -> int: ...
    @property
    def data(self) -> Extent: ...
    def cluster_offset(self, cluster: int) -> int: ...
    def holds(self, cluster: int) -> bool: ...


G = TypeVar("G", bound=ClusterGeometry)


class ChainReader:
    """The file allocation table of a volume, read in pieces that are kept while they are of use."""

    def __init__(
        self, medium: Medium, fat: Extent, bits: int, bad: int, holds: Callable[[int], bool],
        unpack: Callable[[bytes], NDArray[np.uint32]], spare: Extent | None = None, first: Extent | None = None,
    ) -> None:  # fmt: skip
        """`spare` is another copy, for sectors that are all zero in this one; `first` is the one that drivers read."""
        self.fat, self.bits, self._spare, self._first = fat, bits, spare, first or fat
        self._mended: dict[int, NDArray[np.intp]] = {}
        """Clusters whose entries drivers read otherwise, by the piece of the table, in order."""
        self._medium, self._bad, self._holds, self._unpack = medium, bad, holds, unpack
        self._piece = lru_cache(maxsize=32)(self._load_piece)

    def _load_piece(self, index: int) -> tuple[NDArray[np.uint32], NDArray[np.intp]]:
        """Entries [index*_PIECE, …) of the FAT, and the positions in it where a chain does not go on to the next."""
        at, length = index * _PIECE * self.bits // 8, _PIECE * self.bits // 8
        data = self._medium.read(self.fat.offset + at, min(length, max(self.fat.length - at, 0)))
        plain, spare = data, self._spare
        if spare is not None:
            data = _mended(data, lambda: self._medium.read(spare.offset + at, len(plain)))
        entries = self._unpack(data.ljust(length, b"\0"))
        if data is not plain or self._first != self.fat:
            to_drivers = self._unpack(self._medium.read(self._first.offset + at, len(data)).ljust(length, b"\0"))
            self._mended[index] = np.flatnonzero(entries != to_drivers) + index * _PIECE
        numbers = np.arange(index * _PIECE + 1, index * _PIECE + _PIECE + 1, dtype=np.uint32)
        return entries, np.flatnonzero(entries != numbers)

    def chain(self, first: int, most: int) -> tuple[list[Run], str]:
        """The chain from `first`, up to `most` clusters, as runs; and what is wrong with it, if anything."""
        runs: list[Run] = []
        seen: set[int] = set()
        cluster, count = first, 0
        while count < most:
            if not self._holds(cluster):
                return runs, "its chain leaves the volume" if cluster else "its chain runs into free clusters"
            if cluster in seen:
                return runs, "its chain runs in a loop"
            seen.add(cluster)
            start = cluster
            while True:
                index, inside = divmod(cluster, _PIECE)
                entries, breaks = self._piece(index)
                k = int(np.searchsorted(breaks, inside))
                if k < len(breaks):
                    last, following = index * _PIECE + int(breaks[k]), int(entries[breaks[k]])
                    break
                cluster = (index + 1) * _PIECE
                if cluster - start + count >= most or not self._holds(cluster):
                    last, following = cluster - 1, cluster
                    break
            if not self._holds(last):  # the table says nothing of clusters that there are not
                last = start + bisect_left(range(start, last + 1), True, key=lambda one: not self._holds(one)) - 1
                following = last + 1
            length = min(last + 1 - start, most - count)
            runs.append((start, length))
            count += length
            if following >= self._bad:
                return runs, ""
            cluster = following
        return runs, ""

    def mended(self, runs: Iterable[Run]) -> bool:
        """Whether a chain has entries that had to be taken from another copy than drivers read."""
        return bool(self._mended) and any(
            np.searchsorted(clusters, start) < np.searchsorted(clusters, start + length)
            for start, length in runs
            for clusters in map(self._mended.get, range(start // _PIECE, (start + length - 1) // _PIECE + 1))
            if clusters is not None
        )

    def used_runs(self, start: int, stop: int) -> Iterator[Run]:
        """Runs of clusters in [start, stop) whose entry is not zero."""
        at = start
        while at < stop:
            index, inside = divmod(at, _PIECE)
            upto = min((index + 1) * _PIECE, stop)
            yield from runs_of(self._piece(index)[0][inside : inside + upto - at], at)
            at = upto

    def count_used(self, first: int, end: int) -> int:
        """How many entries in [first, end) are not zero; holes of the medium are not read."""
        step = _PIECE * self.bits // 8
        indices: set[int] = set()
        for extent in self._medium.data_ranges(self.fat.offset, self.fat.end):
            lo, hi = extent.offset - self.fat.offset, extent.end - 1 - self.fat.offset
            indices.update(range(lo // step, hi // step + 1))
        used = 0
        for index in indices:
            lo, hi = max(first - index * _PIECE, 0), max(end - index * _PIECE, 0)
            used += int(np.count_nonzero(self._piece(index)[0][lo:hi]))
        return used


def _mended(data: bytes, spare: Callable[[], bytes]) -> bytes:
    """Data with its all-zero sectors taken from another copy. Drivers write both copies alike, so that a sector which
    is zero in one of them only was written over by something else."""
    sectors = np.frombuffer(data, "u1", len(data) // _SECTOR * _SECTOR).reshape(-1, _SECTOR)
    zero = ~sectors.any(axis=1)
    if not zero.any():
        return data
    other = spare()
    if len(other) < len(data):
        return data
    out = bytearray(data)
    np.frombuffer(out, "u1", sectors.size).reshape(-1, _SECTOR)[zero] = np.frombuffer(
        other, "u1", sectors.size
    ).reshape(-1, _SECTOR)[zero]
    return data if out == data else bytes(out)


class FolderRecord(Protocol):
    """What a record of a folder's table must tell for the code here."""

    name: str
    cluster: int
    deleted: bool
    name_sure: float


R = TypeVar("R", bound=FolderRecord)


@dataclass(slots=True, eq=False)
class Folder(Generic[R]):
    """A folder that was reached: its path is its chain of records up to the root."""

    record: R | None
    parent: Folder[R] | None
    runs: list[Run]
    deleted: bool
    records: list[R] = field(default_factory=list)

    @property
    def depth(self) -> int:
        return 0 if self.parent is None else self.parent.depth + 1

    @property
    def path(self) -> tuple[str, ...]:
        return () if self.parent is None or self.record is None else (*self.parent.path, self.record.name)

    @property
    def sure(self) -> float:
        """How sure the path is, 0 to 1."""
        return 1.0 if self.parent is None or self.record is None else self.parent.sure * self.record.name_sure


_WALK, _WALK_AT_LEAST = 4, 1 << 16
_CONFLICTS, _CONFLICTS_AT_LEAST = 4, 1 << 18


class ClusterVolume(Volume, Generic[G, R]):
    """A volume of clusters: free ones, used ones, and whose they are."""

    geometry: G
    _medium: Medium
    _fat: ChainReader
    _owners: tuple[list[int], list[int], list[str]] = ([], [], [])
    _tree: list[Folder[R]] | None = None
    _clusters_left = _guesses_left = _conflicts_told = 0
    _rejoined: set[int]
    """Clusters that were given to deleted folders as later parts of their tables."""

    @abstractmethod
    def _used_runs(self, start: int, stop: int) -> Iterator[Run]:
        """Runs of clusters in use, of those in [start, stop) that the volume has."""

    @abstractmethod
    def _walk(self) -> list[Folder[R]]:
        """Every folder that can be reached, its records read."""

    @abstractmethod
    def _index_owners(self, tree: list[Folder[R]]) -> None:
        """Tell `_set_owners` whose clusters are."""

    @abstractmethod
    def _folder_runs(self, record: R, deleted: bool) -> list[Run]:
        """Where a folder's table lies, as far as that can be followed."""

    def _settled(self) -> list[Folder[R]]:
        """The tree, read once."""
        if self._tree is None:
            self._begin_walk()
            self._tree = self._walk()
            self._begin_walk()
            self._index_owners(self._tree)
        return self._tree

    def _begin_walk(self) -> None:
        """A look at all records begins: give out as many clusters as several sound volumes of this size would need.

        On a sound volume no cluster is in two chains; where thousands of records claim the same ones, only the first
        of them are followed, so that the work is bounded by the volume and not by what it claims."""
        self._clusters_left = self._guesses_left = _WALK * self.geometry.clusters + _WALK_AT_LEAST

    def _chain(self, first: int, needed: int, table: ChainReader | None = None) -> tuple[list[Run], str]:
        """The chain from a cluster on by a table (the volume's, if none is given), and what is wrong with it."""
        if self._clusters_left <= 0:
            return [], "so many files claim the same clusters that its chain is not followed"
        runs, problem = (table or self._fat).chain(first, needed)
        self._clusters_left -= sum(length for _, length in runs) + len(runs) + 1
        return runs, problem

    def _follow(
        self, record: R, folder: Folder[R], visited: set[int], folders: list[Folder[R]], queue: list[Folder[R]]
    ) -> None:
        """Follow a folder's record, once for each place; a new folder is added to `folders` and to `queue`. Where its
        chain runs into a table that was read already, the two are linked crosswise, and it ends there."""
        if record.cluster in visited or not self.geometry.holds(record.cluster):
            return
        deleted = folder.deleted or record.deleted
        runs: list[Run] = []
        for start, length in self._folder_runs(record, deleted):
            own = next((n for n in range(length) if start + n in visited), length)
            if own:
                runs.append((start, own))
                visited.update(range(start, start + own))
            if own < length:
                break
        child = Folder(record, folder, runs, deleted)
        if runs and child.depth <= MAX_DEPTH:
            folders.append(child)
            queue.append(child)

    def _free_blocks(self, first: int, test: Callable[[bytes, int], NDArray[np.bool_]]) -> Iterator[int]:
        """Free clusters from `first` on for which `test` (of many clusters' bytes and the size of one) holds, in
        order, that no folder has yet."""
        g, size = self.geometry, self.cluster_size
        step = max(_SWEEP // size, 1)
        start = g.cluster_offset(min(max(first, 2), g.clusters + 2))
        for extent in self._medium.data_ranges(start, g.data.end):
            lo = (extent.offset - g.data.offset) // size + 2
            hi = -(-(extent.end - g.data.offset) // size) + 2
            for at in range(lo, hi, step):
                count = min(step, hi - at)
                hits = np.flatnonzero(test(self._medium.read(g.cluster_offset(at), count * size), size))
                used = list(self._used_runs(at, at + count)) if len(hits) else []
                for hit in hits:
                    cluster = at + int(hit)
                    if cluster not in self._rejoined and not any(s <= cluster < s + n for s, n in used):
                        yield cluster

    def _extents(self, runs: Iterable[Run]) -> tuple[Extent, ...]:
        size = self.geometry.cluster_size
        zero = self.geometry.cluster_offset(2) - 2 * size
        return join(Extent(zero + start * size, length * size) for start, length in runs)

    def _guess_placements(self, first: int, size: int) -> tuple[Placement, ...]:
        """A file whose chain is gone: in one piece from its first cluster; and, where that meets clusters in use,
        around those."""
        g = self.geometry
        end = g.clusters + 2
        needed = -(-size // g.cluster_size)
        straight = [(first, min(needed, end - first))]
        told = "in one piece from its first cluster"
        out = [Placement(FileMap.of(self._extents(straight), size), told, certain=needed == 1)]
        if self._guesses_left <= 0 or next(self._used_runs(first, first + straight[0][1]), None) is None:
            return tuple(out)
        around: list[Run] = []
        at, left = first, needed
        for start, length in self._used_runs(first, end):
            self._guesses_left -= 1
            if start > at:
                around.append((at, min(start - at, left)))
                left -= around[-1][1]
            at = start + length
            if not left:
                break
        if left and g.holds(at):
            around.append((at, min(left, end - at)))
            left -= around[-1][1]
        if not left and around[0][0] == first:
            reason = f"around clusters in use, in {len(around)} pieces"
            out.append(Placement(FileMap.of(self._extents(around), size), reason))
        return tuple(out)

    def chain_from(self, offset: int, size: int | None = None) -> tuple[Extent, ...]:
        g = self.geometry
        cluster, beside = divmod(offset - g.data.offset, g.cluster_size)
        if beside or not g.holds(cluster + 2) or size == 0:
            return ()
        runs, problem = self._fat.chain(cluster + 2, g.clusters if size is None else -(-size // g.cluster_size))
        extents = self._extents(runs)
        extents = extents if size is None else cut(extents, size)
        owned = (
            problem or total(extents) < (size or 0) or any(c.owner != UNLISTED_OWNER for c in self.conflicts(extents))
        )
        return () if owned else extents

    def _set_owners(self, owned: list[tuple[int, int, str]]) -> None:
        """Whose allocated clusters are: (first, behind the last, path), in any order."""
        owned.sort()
        self._owners = ([o[0] for o in owned], [o[1] for o in owned], [o[2] for o in owned])

    def conflicts(self, extents: tuple[Extent, ...]) -> list[Conflict]:
        g = self.geometry
        self._settled()
        starts, ends, names = self._owners
        size, zero = g.cluster_size, g.cluster_offset(0)
        most = _CONFLICTS * g.clusters + _CONFLICTS_AT_LEAST
        out: list[Conflict] = []
        for extent in extents:
            first, last = (extent.offset - zero) // size, -(-(extent.end - zero) // size)
            for start, length in self._used_runs(first, last):
                at, stop = start, start + length
                while at < stop:
                    k = bisect_right(starts, at) - 1
                    owner = UNLISTED_OWNER
                    upto = starts[k + 1] if k + 1 < len(starts) else stop
                    if k >= 0 and at < ends[k]:
                        owner, upto = names[k], ends[k]
                    upto = min(max(upto, at + 1), stop)
                    out.append(Conflict(Extent(zero + at * size, (upto - at) * size), owner))
                    at = upto
                    if self._conflicts_told > most:
                        return out  # no sound volume has so many: that there are some must do
                    self._conflicts_told += 1
        return out
