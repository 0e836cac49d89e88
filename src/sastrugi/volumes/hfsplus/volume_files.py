"""A volume's own files while it is written: its trees, the bitmap, the journal; how changes of them are committed."""

from __future__ import annotations

import struct
from collections import defaultdict, deque
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np

from sastrugi.errors import VolumeError
from sastrugi.media.extents import Extent, join, within
from sastrugi.media.raw import RawImage
from sastrugi.volumes.allocation import PIECE, ClusterMap, Run, join_runs
from sastrugi.volumes.hfsplus.btree import Key, Tree
from sastrugi.volumes.hfsplus.journal_write import Copy, JournalWriter
from sastrugi.volumes.hfsplus.layout import (
    ATTRIBUTES_FILE,
    ATTRIBUTES_KEY,
    BACKUP_FROM_END,
    BINARY,
    CATALOG_FILE,
    CATALOG_KEY,
    DATA_FORK,
    EXTENTS_FILE,
    EXTENTS_KEY,
    FOLDED,
    HEADER_AT,
    HEADER_SIZE,
    INSIDE,
    JOURNAL_INFO,
    JOURNAL_INFO_FLAGS_INSIDE,
    SECTOR,
)
from sastrugi.volumes.hfsplus.plan import Plan
from sastrugi.volumes.hfsplus.records import ForkState, overflow

_SPARE_NODES = 3
"""Free nodes that a change may need beyond those of its way through a tree."""


@dataclass(slots=True)
class TreeOnVolume:
    """A tree, and the file that it is in: its number, blocks and the bytes it grows by."""

    number: int
    fork: ForkState
    clump: int
    tree: Tree


class VolumeFiles:
    """What a volume needs itself. `been` are nodes from which records went when they were split, by tree and key;
    `copies` where the journal has which pieces of the volume, by their places on the medium, the newest last."""

    def __init__(self, image: RawImage, plan: Plan, by_case: bool, clusters: ClusterMap) -> None:
        self.geometry, self.clusters, self._image = plan.geometry, clusters, image
        self.been: defaultdict[tuple[int, Key], list[int]] = defaultdict(list)
        self.copies: defaultdict[int, deque[Copy]] = defaultdict(deque)
        self.grown = True
        """Whether one of the files changed its size: then the copy of the header is to be written."""
        g = self.geometry
        image.zero(g.offset, min(3 * SECTOR, g.size))
        front, back = -(-(HEADER_AT + HEADER_SIZE) // g.block), (g.size - BACKUP_FROM_END) // g.block
        self.clusters.mark([(0, front), *([(back, g.blocks - back)] if back < g.blocks else [])], True)
        self.clusters.last = front - 1
        bits = -(-g.blocks // (8 * g.block)) * g.block
        self.bitmap = self._in_front(bits)
        image.zero(*self.part(self.bitmap, 0, bits))
        self.journal: JournalWriter | None = None
        self.journal_info = self.journal_buffer = ForkState()
        if plan.journal:
            self.journal_info, self.journal_buffer = self._in_front(g.block), self._in_front(plan.journal)
            self._begin_journal()
        self.extents = self._tree(EXTENTS_FILE, plan.extents, plan.extents_node, EXTENTS_KEY, 0)
        node = plan.attributes_node
        self.attributes = self._tree(ATTRIBUTES_FILE, plan.attributes, node, ATTRIBUTES_KEY, BINARY)
        compare = BINARY if by_case else FOLDED
        self.catalog = self._tree(CATALOG_FILE, plan.catalog, plan.catalog_node, CATALOG_KEY, compare)

    # -- space ------------------------------------------------------------------------------

    def _in_front(self, size: int) -> ForkState:
        """Blocks in one piece for a file of a new volume, of which all behind the last one are free."""
        runs = self.clusters.take(size // self.geometry.block)
        if len(runs) > 1:
            raise VolumeError("the volume has no room in one piece for its own files")
        return ForkState(size, runs)

    def placed(self, runs: Sequence[Run]) -> tuple[Extent, ...]:
        """Where blocks are on the medium."""
        g = self.geometry
        return join(Extent(g.at(start), count * g.block) for start, count in runs)

    def part(self, fork: ForkState, at: int, length: int) -> Extent:
        """Where bytes of one of these files lie, which are in one piece."""
        (extent,) = within(self.placed(fork.runs), at, length)
        return extent

    def node_at(self, file: TreeOnVolume, number: int) -> Extent:
        return self.part(file.fork, number * file.tree.node_size, file.tree.node_size)

    def _tree(self, number: int, size: int, node: int, longest: int, compare: int) -> TreeOnVolume:
        def moved(keys: list[Key], from_node: int) -> None:
            for key in keys:
                nodes = self.been[number, key]
                if from_node not in nodes:
                    nodes.append(from_node)

        tree = Tree(node, longest, compare, size // node, lambda: self._grow(file), moved)
        file = TreeOnVolume(number, self._in_front(size), size, tree)
        return file

    def _grow(self, file: TreeOnVolume) -> int:
        """More nodes for a tree that has no free one left; answers how many it has then."""
        block = self.geometry.block
        unit = max(file.tree.node_size, block)
        wanted = file.clump
        begin = self._in_one_piece(wanted // block)
        while begin is None and wanted > unit:
            wanted = max(wanted // 2 // unit, 1) * unit
            begin = self._in_one_piece(wanted // block)
        if begin is None or (file is self.extents and len(file.fork.runs) >= INSIDE):
            raise VolumeError("the volume is full: its own trees have no room to grow")
        file.fork.runs = join_runs([*file.fork.runs, *self.clusters.take(wanted // block, begin)])
        file.fork.size += wanted
        self.grown = True
        if len(file.fork.runs) > INSIDE:
            self.put_overflow(file.number, DATA_FORK, file.fork)
        return file.fork.size // file.tree.node_size

    def _in_one_piece(self, count: int) -> int | None:
        """Where so many free blocks begin side by side, if they are anywhere."""
        last = self.clusters.last + 1
        for begin, end in ((last, self.clusters.end), (0, last)):
            for start, length in self.clusters.free_runs(begin, end):
                if length >= count:
                    return start
        return None

    def make_room(self, runs: int = 0) -> None:
        """Let the trees grow, where a change (of a fork of so many pieces) could find no free node half-way. Raises
        VolumeError where the volume is too full, with nothing changed."""
        for file, records in ((self.extents, runs // INSIDE), (self.attributes, 1), (self.catalog, 4)):
            per_node = file.tree.node_size // 600 if file is not self.extents else file.tree.node_size // 160
            file.tree.make_room(2 * file.tree.depth + _SPARE_NODES + records // per_node)

    # -- extents that have no room in a record ----------------------------------------------

    def put_overflow(self, number: int, fork: int, state: ForkState) -> None:
        """Write the extents of a fork that its record has no room for."""
        self.drop_overflow(number, fork)
        for key, record in overflow(fork, number, state.runs):
            self.extents.tree.insert(key, record)

    def drop_overflow(self, number: int, fork: int) -> None:
        for key in self.overflow_keys(number, fork):
            self.remove(self.extents, key)

    def overflow_keys(self, number: int, fork: int) -> list[Key]:
        return self.extents.tree.keys_from((number, fork, 0), (number, fork, 1 << 32))

    def remove(self, file: TreeOnVolume, key: Key) -> None:
        """Take a record out of a tree."""
        file.tree.remove(key)
        self.been.pop((file.number, key), None)

    # -- the journal ------------------------------------------------------------------------

    @property
    def _journal_at(self) -> Extent:
        return self.part(self.journal_buffer, 0, self.journal_buffer.size)

    @property
    def journal_block(self) -> int:
        """The block that says where the journal is; 0 if there is none."""
        return self.journal_info.runs[0][0] if self.journal is not None else 0

    def _begin_journal(self) -> None:
        g, where = self.geometry, self._journal_at
        fields = (JOURNAL_INFO_FLAGS_INSIDE, bytes(32), where.offset - g.offset, where.length)
        self._image.write(g.at(self.journal_info.runs[0][0]), struct.pack(JOURNAL_INFO, *fields).ljust(g.block, b"\0"))
        self._image.zero(*where)
        self.journal = JournalWriter(where.length, lambda at, data: self._image.write(where.offset + at, data))

    def in_journal(self, at: int, length: int) -> tuple[Extent, ...]:
        """Where bytes of the journal's buffer are, which goes round."""
        size, start = self._journal_at.length, self._journal_at.offset
        at = at if at < size else SECTOR + (at - size)
        first = min(length, size - at)
        rest = (Extent(start + SECTOR, length - first),) if first < length else ()
        return (Extent(start + at, first), *rest)

    def _write_journal(self, journal: JournalWriter, pieces: dict[int, bytes]) -> None:
        offset = self.geometry.offset
        some: dict[int, bytes] = {}
        for place, data in pieces.items():
            if some and sum(map(len, some.values())) + len(data) > journal.most:
                self._transaction(journal, some)
                some = {}
            some[place - offset] = data
        self._transaction(journal, some)

    def _transaction(self, journal: JournalWriter, pieces: dict[int, bytes]) -> None:
        for at, copy in journal.write(pieces).items():
            copies = self.copies[at + self.geometry.offset]
            copies.append(copy)
            while not journal.stands(copies[0]):
                copies.popleft()

    # -- the medium -------------------------------------------------------------------------

    def _changed_pieces(self) -> Iterator[tuple[int, bytes]]:
        """Nodes and parts of the bitmap that changed, by the byte of the medium where they belong."""
        for file in (self.catalog, self.attributes, self.extents):
            for number, data in file.tree.changes(file.clump).items():
                yield self.node_at(file, number).offset, data
        for index in sorted(self.clusters.changed):
            data = np.packbits(self.clusters.piece(index)).tobytes()
            at = index * PIECE // 8
            length = min(len(data), self.bitmap.size - at)
            yield self.part(self.bitmap, at, length).offset, data[:length]
        self.clusters.changed.clear()

    def commit(self, header: bytes) -> None:
        """Write what changed, and the volume header: into the journal, then in its place."""
        pieces = dict(self._changed_pieces())
        pieces[self.geometry.offset + HEADER_AT] = header
        if self.journal is not None:
            self._write_journal(self.journal, pieces)
        for at in sorted(pieces):
            self._image.write(at, pieces[at])

    def settle(self, header: bytes) -> None:
        """What is left to be written at an unmount."""
        if self.journal is not None:
            self._image.write(self._journal_at.offset, self.journal.header())
        if self.grown:
            self._image.write(self.geometry.backup_at, header)
            self.grown = False

    def structures(self) -> dict[str, tuple[Extent, ...]]:
        """Where they are, by name."""
        g = self.geometry
        found = {
            "header": (Extent(g.offset + HEADER_AT, HEADER_SIZE),),
            "backup-header": (Extent(g.backup_at, HEADER_SIZE),),
            "bitmap": self.placed(self.bitmap.runs),
            "catalog": self.placed(self.catalog.fork.runs),
            "extents": self.placed(self.extents.fork.runs),
            "attributes": self.placed(self.attributes.fork.runs),
        }
        return found | ({"journal": (self._journal_at,)} if self.journal is not None else {})
