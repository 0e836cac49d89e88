"""Blocks, inodes and transactions of a volume that is written: what files get, and how changes come to the medium."""

from __future__ import annotations

import datetime as dt
from collections import deque
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field

from sastrugi.media.extents import Extent, total, within
from sastrugi.media.raw import RawImage
from sastrugi.volumes.allocation import ClusterMap, Run, join_runs
from sastrugi.volumes.ext.folders import FolderBlocks
from sastrugi.volumes.ext.groups import Groups
from sastrugi.volumes.ext.inode import FileState, InodePacker, lists_for, split_runs, tokens, tree_for
from sastrugi.volumes.ext.journal_write import Copy, JournalWriter
from sastrugi.volumes.ext.layout import HAS_EXTENTS, Geometry
from sastrugi.volumes.ext.meta_blocks import MetaBlocks
from sastrugi.volumes.writer import Node, Reuse, VolumeWriter

_COMMIT_AFTER = dt.timedelta(seconds=5)
"""What comes within this is one transaction, as drivers have it."""
_FEW_RUNS = 256
_LEAST_AHEAD, _MOST_AHEAD = 16 << 10, 8 << 20
_DELAYED = 32 << 20
"""Bytes of a file that wait for their place where extents are used ("delayed allocation")."""
"""Free runs that are looked at for one that is long enough."""


@dataclass(slots=True, eq=False)
class ExtNode(Node):
    """A name; `file` is shared by all names of a file. `slot` is the block of its folder and the byte of it at which
    its entry stands, `named` the transaction since which it does."""

    file: FileState
    slot: tuple[int, int] = (0, 0)
    named: int = 0
    blocks: FolderBlocks | None = field(default=None, repr=False)


class SpaceWriter(VolumeWriter[ExtNode]):
    """Gives out blocks, and commits what changes of the metadata: into the journal, then in its place."""

    groups: Groups
    _journal_extents: tuple[Extent, ...]

    def __init__(self, image: RawImage, geometry: Geometry, when: dt.datetime) -> None:
        self.image, self.geometry = image, geometry
        self.holds_back = _DELAYED if geometry.extents else 0
        self.cluster_size, self.where = geometry.block, geometry.where
        self.clusters = ClusterMap(geometry.first, geometry.blocks - geometry.first, geometry.block)
        self.data = Extent(geometry.at(geometry.first), (geometry.blocks - geometry.first) * geometry.block)
        self._meta = MetaBlocks(image, geometry)
        self._packer = InodePacker(geometry, self._meta.put)
        self._journal: JournalWriter | None = None
        self._copies: dict[int, deque[Copy]] = {}
        self._in_order: deque[tuple[int, Copy]] = deque()
        self._begun = self._last = when
        self._revoked: list[int] = []
        self._unwritten: list[FileState | ExtNode] = []

    # -- transactions -----------------------------------------------------------------------

    def _put_journal(self, block: int, data: bytes) -> None:
        self.write_over(within(self._journal_extents, block * self.geometry.block, len(data)), data)

    def _at(self, when: dt.datetime) -> None:
        """A change comes at this moment: what is older than some seconds is committed first."""
        if self._meta.pending and abs(when - self._begun) >= _COMMIT_AFTER:
            self._commit()
        if not self._meta.pending:
            self._begun = when
        self._last = when

    def _commit(self) -> None:
        """Write what changed: into the journal, then in its place."""
        self.groups.bring()
        if not self._meta.pending:
            return
        since = 0
        if self._journal is not None:
            since = self._journal.sequence
            changes = list(self._meta.changes().items())
            step = self._journal.most
            for n in range(0, len(changes), step):
                copies = self._journal.write(dict(changes[n : n + step]), self._revoked, self._last)
                self._revoked = []
                for block, copy in copies.items():
                    self._copies.setdefault(block, deque()).append(copy)
                    self._in_order.append((block, copy))
            oldest = self._journal.turn - (self._journal.length - 1)
            while self._in_order and self._in_order[0][1].turn < oldest:
                block, _ = self._in_order.popleft()
                self._copies[block].popleft()
        self._revoked = []
        self._meta.write()
        for one in self._unwritten:
            if isinstance(one, FileState):
                one.mapped = since
            else:
                one.named = since
        self._unwritten.clear()

    def _put(self, state: FileState) -> None:
        """Write an inode and its tree into the blocks of metadata."""
        block, at = self.groups.inode_place(state.number)
        self._meta.edit(block)[at : at + self.geometry.inode] = self._packer.packed(state)

    def _remapped(self, state: FileState) -> None:
        """Size or places of a file changed."""
        self._put(state)
        state.mapped = 0
        self._unwritten.append(state)

    # -- space ------------------------------------------------------------------------------

    def space_for(self, size: int) -> int:
        """With the lists of blocks that lie among a file's own."""
        blocks = self.clusters_for(size)
        if not self.geometry.extents:
            blocks += lists_for(blocks, self.geometry.block // 4)
        return blocks * self.cluster_size

    def _take(self, count: int, goal: int | None) -> list[Run]:
        """Blocks side by side where such are free, from a goal on."""
        clusters = self.clusters
        goal = clusters.last + 1 if goal is None else goal
        found: int | None = None
        if self.geometry.extents and count > 1:
            for n, (start, length) in enumerate(clusters.free_runs(goal, clusters.end)):
                if length >= count or n > _FEW_RUNS:
                    found = start if length >= count else None
                    break
        runs = clusters.take(count, goal if found is None else found)
        self.groups.count(runs, -1)
        return runs

    def _lay_out(self, state: FileState, blocks: int, lie: list[Run] | None, goal: int | None = None) -> None:
        """Give a file `blocks` more blocks of content, and what its tree needs."""
        g, have = self.geometry, state.blocks
        if state.runs:
            goal = state.runs[-1][1] + state.runs[-1][2]
        elif goal is None:
            goal = self._goal(state)
        if g.extents:
            state.flags |= HAS_EXTENTS
            taken = self._take(blocks, goal) if lie is None else lie
            logical = have
            for start, count in taken:
                _append(state.runs, (logical, start, count))
                logical += count
            need = tree_for(len(split_runs(state.runs)), g.block) - len(state.tree)
            if need > 0:
                state.tree += _singles(self._take(need, goal))
            return
        per = g.block // 4
        need = lists_for(have + blocks, per) - len(state.tree)
        free = deque(self._take(blocks + need, goal) if lie is None else lie)
        logical, lists = 0, 0
        for level, count in tokens(have + blocks, per):
            if level:
                lists += 1
                if lists > len(state.tree):
                    state.tree.append(_one(free))
                continue
            left = logical + count - max(logical, have)
            at = max(logical, have)
            while left > 0:
                start, length = free.popleft()
                part = min(left, length)
                _append(state.runs, (at, start, part))
                if length > part:
                    free.appendleft((start + part, length - part))
                at, left = at + part, left - part
            logical += count
        self.clusters.release(free)
        self.groups.count(list(free), 1)

    def _goal(self, state: FileState) -> int:
        """Where a file's first block goes: into the group of its inode, behind what was given out there last."""
        group = (state.number - 1) // self.geometry.group_inodes
        last = self.clusters.last
        start = self.geometry.group_start(group)
        return last + 1 if start <= last < start + self.geometry.group_blocks else start

    def reserve(
        self, space: int, where: Reuse | int = "next", pick: Callable[[int, int], int] = lambda lo, hi: lo
    ) -> tuple[Extent, ...]:
        extents = super().reserve(space, where, pick)
        self.groups.count(self.extent_runs(extents), -1)
        return extents

    def reserve_more(self, given: Sequence[Extent], space: int) -> tuple[Extent, ...]:
        """With room ahead, as much again as the file has: the driver rounds what it gives out up to a power of two
        (Linux, `fs/ext4/mballoc.c`, `ext4_mb_normalize_request`)."""
        ahead = min(max(total(given), _LEAST_AHEAD), _MOST_AHEAD) // self.cluster_size * self.cluster_size
        return super().reserve_more(given, self.with_room_ahead(space, ahead))

    def give_back(self, extents: Iterable[Extent]) -> None:
        runs = self.extent_runs(extents)
        self.clusters.release(runs)
        self.groups.count(runs, 1)

    def _release(self, state: FileState) -> None:
        """All blocks of a file become free."""
        runs = join_runs(sorted([*state.placed(), *((block, 1) for block in state.tree)]))
        self.clusters.release(runs)
        self.groups.count(runs, 1)
        own = list(state.tree)
        if state.folder:
            own += _singles(state.placed())
        for block in own:
            self._meta.forget(block)
        if self._journal is not None:
            self._revoked += [block for block in own if self._copies.get(block)]
        state.runs, state.tree = [], []


def _append(runs: list[tuple[int, int, int]], run: tuple[int, int, int]) -> None:
    """A run at the end of others; one that goes on where the last ended joins it."""
    logical, start, count = run
    if runs and runs[-1][0] + runs[-1][2] == logical and runs[-1][1] + runs[-1][2] == start:
        runs[-1] = (runs[-1][0], runs[-1][1], runs[-1][2] + count)
    elif count:
        runs.append(run)


def _singles(runs: Iterable[Run]) -> list[int]:
    return [start + n for start, count in runs for n in range(count)]


def _one(free: deque[Run]) -> int:
    """The first of free blocks."""
    start, length = free.popleft()
    if length > 1:
        free.appendleft((start + 1, length - 1))
    return start
