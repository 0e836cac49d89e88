"""Lay HFS Plus and HFSX volumes down: format, store, make folders, link, grow, rename, delete.

What tells of a file once it is gone are bytes that nobody put anything on: behind the end of a node from which its
records were taken, in a node that records went from when it was split, and in the copies that a journal keeps. They are
not worked out but looked for, in the nodes in which the records ever stood.
"""

from __future__ import annotations

import datetime as dt
import random
import struct
from collections import defaultdict, deque
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field

import numpy as np

from sastrugi.errors import VolumeError
from sastrugi.media.extents import Extent, within
from sastrugi.media.filemap import FileMap
from sastrugi.media.raw import RawImage
from sastrugi.volumes.allocation import PIECE, ClusterMap, join_runs
from sastrugi.volumes.hfsplus.btree import Key, Tree
from sastrugi.volumes.hfsplus.journal_write import SECTOR, Copy, JournalWriter
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
    FIRST_NUMBER,
    FOLDED,
    FOLDER,
    HEADER_AT,
    HFS_PLUS,
    HFSX,
    INDIRECT_NAME,
    IS_FILE,
    IS_FOLDER,
    JOURNAL_INFO,
    JOURNAL_INFO_FLAGS_INSIDE,
    JOURNAL_INFO_NAME,
    JOURNAL_NAME,
    JOURNALED,
    MOUNTED_BY_JOURNAL,
    MOUNTED_BY_LINUX,
    MOUNTED_BY_MAC,
    PRIVATE_FOLDER,
    RESOURCE_FORK,
    RESOURCE_STREAM,
    ROOT,
    ROOT_PARENT,
    UNMOUNTED,
    VERSIONS,
    VOLUME_HEADER,
    to_seconds,
)
from sastrugi.volumes.hfsplus.names import composed, decomposed, folded, to_units
from sastrugi.volumes.hfsplus.plan import Plan
from sastrugi.volumes.hfsplus.records import (
    FileState,
    ForkState,
    attribute_record,
    catalog_key,
    overflow,
    packed_file,
    packed_fork,
    packed_link,
    packed_thread,
)
from sastrugi.volumes.writer import RECORD, Evidence, Habits, Node, PlaceWorth, Reuse, Trace, VolumeWriter, parts_of

_COMMIT_AFTER = dt.timedelta(seconds=5)
"""What comes within this is one transaction, as drivers have it."""
_UNNAMED = "untitled"
_PRIVATE_MODE, _OWN_MODE = 0o555, 0o400
_LAST_USED = "com.apple.lastuseddate#PS"
"""An attribute that macOS gives files that were opened."""
_MOST_TOLD = 24
"""Places of one record that are told; in a journal the oldest go first when it is written on."""
_PLACE_END = FOLDER.itemsize + 80
"""Bytes of a file's record up to the end of its data fork."""
_NAME_END = 12
"""Bytes of a file's record that tell whose it is: type, flags, number."""
_MOST_LINKS = 32_767
_OTHER = "journal"


@dataclass(slots=True, eq=False)
class HfsNode(Node):
    """A name. `link` is the number of the record that gives it: the file's own, unless the file has several names."""

    file: FileState
    link: int = 0
    key: tuple[int, bytes] = (0, b"")

    @property
    def units(self) -> bytes:
        """The name as it is stored."""
        return to_units(self.name)


@dataclass(slots=True)
class _File:
    """One of the volume's own files: its number, blocks and the bytes it grows by."""

    number: int
    fork: ForkState
    clump: int
    tree: Tree | None = None


@dataclass(slots=True)
class _Sought:
    """Bytes that tell something of a file, and the nodes in which they may stand."""

    file: _File
    needle: bytes
    nodes: list[int] = field(default_factory=list)


class HfsWriter(VolumeWriter[HfsNode]):
    """A mounted volume that can be written. Call `flush` to bring everything to disk, as at an unmount."""

    fatal_structures = frozenset({"header", "catalog", "extents", "attributes"})
    spare_structures = frozenset({"backup-header", "bitmap", "journal"})

    def __init__(
        self, image: RawImage, plan: Plan, variant: str, label: str, serial: int, when: dt.datetime, habits: Habits
    ) -> None:
        """Format the range of a plan (quick: only what the volume needs itself is written)."""
        self.file_system, self.image, self.geometry, self._habits = variant, image, plan.geometry, habits
        g = plan.geometry
        self.cluster_size, self.where = g.block, g.where
        self.data = Extent(g.offset, g.blocks * g.block)
        self.clusters = ClusterMap(0, g.blocks, g.block)
        self._by_case = variant == "hfsx"
        self._serial = random.Random(serial).getrandbits(64)
        self._created = self._begun = self._last = when
        self._next_number = FIRST_NUMBER
        self._files = self._folders = self._writes = 0
        self._backup_due = True
        self._journal: JournalWriter | None = None
        self._journal_block = 0
        self._copies: defaultdict[int, deque[Copy]] = defaultdict(deque)
        self._been: defaultdict[Key, list[int]] = defaultdict(list)
        """Nodes from which records went when they were split, by their keys."""
        self._left: Evidence | None = None
        self._changed = False
        self._format(plan, label, when)

    # -- formatting -------------------------------------------------------------------------

    def _format(self, plan: Plan, label: str, when: dt.datetime) -> None:
        g, image = self.geometry, self.image
        units = to_units(label or _UNNAMED)
        image.zero(g.offset, min(3 * 512, g.size))
        front = -(-(HEADER_AT + 512) // g.block)
        back = (g.size - BACKUP_FROM_END) // g.block
        self.clusters.mark([(0, front), (back, max(g.blocks - back, 0))] if back < g.blocks else [(0, front)], True)
        self.clusters.last = front - 1
        bits = -(-g.blocks // (8 * g.block)) * g.block
        self._bitmap = _File(0, self._own_fork(bits), bits)
        image.zero(*self._part(self._bitmap.fork, 0, bits))
        journal: list[tuple[str, ForkState]] = []
        if plan.journal:
            info, buffer = self._own_fork(g.block), self._own_fork(plan.journal)
            self._begin_journal(info, buffer)
            journal = [(JOURNAL_INFO_NAME, info), (JOURNAL_NAME, buffer)]
        compare = BINARY if self._by_case else FOLDED
        wanted = (
            (EXTENTS_FILE, plan.extents, plan.extents_node, EXTENTS_KEY, 0),
            (ATTRIBUTES_FILE, plan.attributes, plan.attributes_node, ATTRIBUTES_KEY, BINARY),
            (CATALOG_FILE, plan.catalog, plan.catalog_node, CATALOG_KEY, compare),
        )
        made = [self._tree(*one) for one in wanted]
        self._extents, self._attributes, self._catalog = made
        root = FileState(ROOT, True, when, when, when)
        self.root = HfsNode("", None, True, 0, file=root)
        self._insert(self._catalog, (ROOT_PARENT, self._sorted(units)), catalog_key(ROOT_PARENT, units), root)
        self._root_key = (ROOT_PARENT, self._sorted(units))
        self._put_thread(ROOT, True, ROOT_PARENT, units)
        self._private: FileState | None = None
        for name, fork in journal:
            self._make_own(name, fork, when)
        self.flush()

    def _own_fork(self, size: int) -> ForkState:
        """Blocks in one piece for one of the volume's own files."""
        count = size // self.cluster_size
        runs = self.clusters.take(count)
        if len(runs) > 1:  # right behind the format's other structures all is free
            raise VolumeError("the volume has no room in one piece for its own files")
        return ForkState(size, runs)

    def _tree(self, number: int, size: int, node: int, longest: int, compare: int) -> _File:
        file = _File(number, self._own_fork(size), size)
        file.tree = Tree(
            node, longest, compare, size // node, lambda: self._grow_tree(file),
            lambda keys, from_node: self._has_moved(file, keys, from_node),
        )  # fmt: skip
        return file

    def _has_moved(self, file: _File, keys: list[Key], from_node: int) -> None:
        for key in keys:
            been = self._been[file.number, key]
            if from_node not in been:
                been.append(from_node)

    def _grow_tree(self, file: _File) -> int:
        """More nodes for a tree that has no free one left."""
        tree = file.tree
        assert tree is not None
        unit = max(tree.node_size, self.cluster_size)
        wanted = file.clump
        while wanted >= unit:
            found = self._in_one_piece(wanted // self.cluster_size)
            if found is not None:
                break
            wanted = wanted // 2 // unit * unit
        else:
            raise VolumeError(f"the volume is full: its own tree {file.number} has no room to grow")
        taken = self.clusters.take(wanted // self.cluster_size, found)
        before = len(file.fork.runs)
        file.fork.runs = join_runs([*file.fork.runs, *taken])
        file.fork.size += wanted
        self._backup_due = True
        if tree is not self._extents.tree and max(before, len(file.fork.runs)) > 8:
            self._put_overflow(file.number, DATA_FORK, file.fork)
        return file.fork.size // tree.node_size

    def _in_one_piece(self, count: int) -> int | None:
        """Where so many free blocks begin side by side, if they are anywhere."""
        last = self.clusters.last + 1
        for begin, end in ((last, self.clusters.end), (0, last)):
            for start, length in self.clusters.free_runs(begin, end):
                if length >= count:
                    return start
        return None

    def _begin_journal(self, info: ForkState, buffer: ForkState) -> None:
        g = self.geometry
        self._journal_block = info.runs[0][0]
        self._journal_at = self._part(buffer, 0, buffer.size)
        block = struct.pack(JOURNAL_INFO, JOURNAL_INFO_FLAGS_INSIDE, bytes(32), self._journal_at.offset - g.offset, buffer.size)
        self.image.write(g.at(self._journal_block), block.ljust(g.block, b"\0"))
        self.image.zero(*self._journal_at)
        self._journal = JournalWriter(buffer.size, lambda at, data: self.image.write(self._journal_at.offset + at, data))

    def _make_own(self, name: str, fork: ForkState, when: dt.datetime) -> None:
        """The files of the journal are in the root, hidden."""
        state = FileState(self._take_number(), False, when, when, when, fork, mode=IS_FILE | _OWN_MODE)
        state.bits = 2
        units = name.encode("utf-16-be")
        self._insert(self._catalog, (ROOT, self._sorted(units)), catalog_key(ROOT, units), state)
        self._put_thread(state.number, False, ROOT, units)
        self._files += 1
        self._in_folder(self.root, 1, when)

    # -- records ----------------------------------------------------------------------------

    def _sorted(self, units: bytes) -> bytes:
        return units if self._by_case else folded(units)

    def _insert(self, file: _File, key: Key, key_bytes: bytes, state: FileState) -> None:
        assert file.tree is not None
        file.tree.insert(key, key_bytes + packed_file(state, self.cluster_size))
        self._changed = True

    def _put_thread(self, number: int, folder: bool, parent: int, units: bytes) -> None:
        assert self._catalog.tree is not None
        self._catalog.tree.insert((number, b""), catalog_key(number, b"") + packed_thread(folder, parent, units))

    def _take_number(self) -> int:
        if self._next_number >= 1 << 32:
            raise VolumeError("the volume has given out all of its numbers")
        self._next_number += 1
        return self._next_number - 1

    def _key_of(self, node: HfsNode) -> tuple[int, bytes]:
        assert node.parent is not None
        return node.parent.file.number, self._sorted(node.units)

    def _home(self, state: FileState, node: HfsNode) -> tuple[int, bytes]:
        """The key of the record that has the forks of a file, or is a folder's."""
        if node.parent is None:
            return self._root_key
        return state.home or (node.of or node).key

    def _put(self, node: HfsNode) -> None:
        """Write the record of a file or folder anew."""
        assert self._catalog.tree is not None
        self._catalog.tree.replace(self._home(node.file, node), packed_file(node.file, self.cluster_size))
        self._changed = True

    def _in_folder(self, folder: HfsNode, more: int, when: dt.datetime) -> None:
        folder.file.valence += more
        folder.file.modified = folder.file.changed = when
        self._put(folder)

    def _put_overflow(self, number: int, fork: int, state: ForkState) -> None:
        """Write the extents of a fork that its record has no room for."""
        tree = self._extents.tree
        assert tree is not None
        self._drop_overflow(number, fork)
        for key, record in overflow(fork, number, state.runs):
            tree.insert(key, record)

    def _drop_overflow(self, number: int, fork: int) -> None:
        for key in self._overflow_keys(number, fork):
            assert self._extents.tree is not None
            self._extents.tree.remove(key)
            self._been.pop((EXTENTS_FILE, key), None)

    def _overflow_keys(self, number: int, fork: int) -> list[Key]:
        tree = self._extents.tree
        assert tree is not None
        return tree.keys_from((number, fork, 0), (number, fork, 1 << 32))

    def _part(self, fork: ForkState, at: int, length: int) -> Extent:
        """Where bytes of one of the volume's own files lie, which are in one piece."""
        (extent,) = within(self.run_extents(fork.runs), at, length)
        return extent

    def _node_at(self, file: _File, number: int) -> Extent:
        assert file.tree is not None
        return self._part(file.fork, number * file.tree.node_size, file.tree.node_size)

    # -- transactions -----------------------------------------------------------------------

    def _at(self, when: dt.datetime) -> None:
        """A change comes at this moment: what is older than some seconds is committed first."""
        if self._changed and abs(when - self._begun) >= _COMMIT_AFTER:
            self._commit()
        if not self._changed:
            self._begun = when
        self._last, self._changed = when, True

    def _commit(self) -> None:
        """Write what changed: into the journal, then in its place."""
        if not self._changed:
            return
        self._changed = False
        self._writes += 1
        pieces = dict(self._changed_pieces())
        pieces[self.geometry.offset + HEADER_AT] = self._header()
        if self._journal is not None:
            self._write_journal(pieces)
        for at in sorted(pieces):
            self.image.write(at, pieces[at])

    def _changed_pieces(self) -> Iterator[tuple[int, bytes]]:
        """Nodes and parts of the bitmap that changed, by the byte of the medium where they belong."""
        for file in (self._catalog, self._attributes, self._extents):
            assert file.tree is not None
            for number, data in file.tree.changes(file.clump).items():
                yield self._node_at(file, number).offset, data
        for index in sorted(self.clusters.changed):
            data = np.packbits(self.clusters.piece(index)).tobytes()
            at = index * PIECE // 8
            length = min(len(data), self._bitmap.fork.size - at)
            yield self._part(self._bitmap.fork, at, length).offset, data[:length]
        self.clusters.changed.clear()

    def _write_journal(self, pieces: dict[int, bytes]) -> None:
        assert self._journal is not None
        some: dict[int, bytes] = {}
        size = 0
        for place in [*pieces, None]:
            if place is None or (some and size + len(pieces[place]) > self._journal.most):
                for at, copy in self._journal.write(some).items():
                    copies = self._copies[at + self.geometry.offset]
                    copies.append(copy)
                    while not self._journal.stands(copies[0]):
                        copies.popleft()
                some, size = {}, 0
            if place is not None:
                some[place - self.geometry.offset] = pieces[place]
                size += len(pieces[place])

    def _header(self) -> bytes:
        g = self.geometry
        row = np.zeros((), VOLUME_HEADER)
        signature = HFSX if self._by_case else HFS_PLUS
        row["signature"], row["version"] = signature, VERSIONS[signature]
        row["attributes"] = UNMOUNTED | (JOURNALED if self._journal else 0)
        by = MOUNTED_BY_MAC if self._habits == "macos" else MOUNTED_BY_LINUX
        row["mounted_by"] = np.void(MOUNTED_BY_JOURNAL if self._journal else by)
        row["journal"] = self._journal_block
        row["created"], row["checked"] = to_seconds(self._created), to_seconds(self._created)
        row["modified"] = to_seconds(self._last)
        row["files"], row["folders"] = self._files, self._folders
        row["block"], row["blocks"], row["free"] = g.block, g.blocks, self.clusters.free
        row["next_block"] = min(self.clusters.last + 1, g.blocks - 1)
        row["resource_clump"] = row["data_clump"] = max(g.block, 16 << 10)
        row["next_number"], row["writes"], row["encodings"] = self._next_number, self._writes, 1
        row["serial"] = self._serial
        row["allocation_file"] = packed_fork(self._bitmap.fork, g.block, self._bitmap.clump)
        for name, file in (
            ("extents_file", self._extents), ("catalog_file", self._catalog), ("attributes_file", self._attributes),
        ):  # fmt: skip
            row[name] = packed_fork(file.fork, g.block, file.clump)
        return row.tobytes()

    def flush(self) -> None:
        """Bring everything to the medium, as at an unmount."""
        self._commit()
        if self._journal is not None:
            self.image.write(self._journal_at.offset, self._journal.header())
        if self._backup_due:  # it tells of the volume's own files, and is written when those change
            self.image.write(self.geometry.backup_at, self._header())
            self._backup_due = False

    # -- making and storing -----------------------------------------------------------------

    def fold(self, name: str) -> str:
        if self._by_case:
            return decomposed(name)
        return folded(decomposed(name).encode("utf-16-be", "surrogatepass")).decode("utf-16-be", "surrogatepass")

    def moment(self, when: dt.datetime) -> dt.datetime:
        return when if when.tzinfo else when.replace(tzinfo=dt.UTC)

    def check_name(self, name: str, parent: HfsNode) -> None:
        if not name or "/" in name or "\0" in name or name in (".", ".."):
            raise VolumeError(f"'{name}' cannot be a name: it is empty, '.' or '..', or has a slash or a zero in it")
        units = to_units(name)
        if parent is self.root and composed(units.decode("utf-16-be")) in (JOURNAL_NAME, JOURNAL_INFO_NAME):
            raise VolumeError(f"{name}: there is already a file of this name: the volume's own")

    def _enter(self, node: HfsNode, data: bytes, when: dt.datetime) -> None:
        """Give a file or folder its name: its record, and the thread that leads back to it."""
        parent = node.parent
        assert parent is not None and self._catalog.tree is not None
        node.key = self._key_of(node)
        self._catalog.tree.insert(node.key, catalog_key(parent.file.number, node.units) + data)
        self._put_thread(node.link, node.folder, parent.file.number, node.units)
        parent.children[self.fold(node.name)] = node
        self._in_folder(parent, 1, when)

    def _leave(self, node: HfsNode, when: dt.datetime) -> None:
        parent, tree = node.parent, self._catalog.tree
        assert parent is not None and tree is not None
        for key in (node.key, (node.link, b"")):
            tree.remove(key)
            self._been.pop((CATALOG_FILE, key), None)
        del parent.children[self.fold(node.name)]
        self._in_folder(parent, -1, when)

    def make_folder(self, path: str, when: dt.datetime) -> HfsNode:
        node = self.root
        for part in parts_of(path):
            child = node.children.get(self.fold(part))
            if child is None:
                _, name = self.new_place(f"{node.path}/{part}")
                self._at(when)
                state = FileState(self._take_number(), True, when, when, when)
                child = HfsNode(name, node, True, 0, file=state, link=state.number)
                self._enter(child, packed_file(state, self.cluster_size), when)
                self._folders += 1
            elif not child.folder:
                raise VolumeError(f"{child.path}: a file is there already")
            node = child
        return node

    def store(
        self, path: str, size: int, chunks: Iterable[bytes], when: dt.datetime, modified: dt.datetime | None = None,
        lie: Sequence[Extent] | None = None, attributes: int = 0,
    ) -> HfsNode:  # fmt: skip
        if path.endswith(":" + RESOURCE_STREAM) and (file := self.find(path.rpartition(":")[0])) is not None:
            return self._store_resource(file, size, chunks, when, lie)
        parent, name = self.new_place(path)
        self._at(when)
        state = FileState(self._take_number(), False, when, modified or when, when, bits=attributes)
        node = HfsNode(name, parent, False, size, attributes=attributes, file=state, link=state.number)
        with self._whole_or_not(state.data):
            self._lay_out(state.data, size, lie)
            self._fill(path, state.data, size, chunks)
            if self._habits == "macos":
                self._set_attribute(state, _LAST_USED, struct.pack("<QQ", int(self.moment(when).timestamp()), 0))
            self._enter(node, packed_file(state, self.cluster_size), when)
            self._put_overflow(state.number, DATA_FORK, state.data)
        self._files += 1
        return node

    def _store_resource(
        self, file: HfsNode, size: int, chunks: Iterable[bytes], when: dt.datetime, lie: Sequence[Extent] | None
    ) -> HfsNode:
        """The resource fork of a file that has none yet."""
        path = f"{file.path}:{RESOURCE_STREAM}"
        if file.folder or file.of is not None:
            raise VolumeError(f"{path}: only a file has a resource fork")
        if file.file.resource.size or self.streams_of(file):
            raise VolumeError(f"{path}: there is already a stream of this name")
        self._at(when)
        fork = file.file.resource
        with self._whole_or_not(fork):
            self._lay_out(fork, size, lie)
            self._fill(path, fork, size, chunks)
        self._put(file)
        self._put_overflow(file.file.number, RESOURCE_FORK, fork)
        return self._enter_resource(file)

    def _enter_resource(self, file: HfsNode) -> HfsNode:
        assert file.parent is not None
        name = f"{file.name}:{RESOURCE_STREAM}"
        node = HfsNode(name, file.parent, False, file.file.resource.size, of=file, file=file.file, link=file.link)
        file.parent.children[self.fold(name)] = node
        return node

    def _set_attribute(self, state: FileState, name: str, value: bytes) -> None:
        """An extended attribute of a file that has none of this name yet."""
        tree = self._attributes.tree
        assert tree is not None
        tree.insert(*attribute_record(state.number, name, value))
        state.attributes[name] = value

    def _drop_attributes(self, state: FileState) -> None:
        for name, value in state.attributes.items():
            assert self._attributes.tree is not None
            self._attributes.tree.remove(attribute_record(state.number, name, value)[0])
        state.attributes.clear()

    @contextmanager
    def _whole_or_not(self, fork: ForkState) -> Iterator[None]:
        """What cannot be made whole, as there is no room for it, leaves nothing."""
        before = len(fork.runs)
        try:
            yield
        except VolumeError:
            self.clusters.release(fork.runs[before:])
            del fork.runs[before:]
            fork.size = 0 if not before else fork.size
            raise

    def _lay_out(self, fork: ForkState, size: int, lie: Sequence[Extent] | None) -> None:
        """Give a fork the blocks that `size` bytes need in all, and that size."""
        have = sum(count for _, count in fork.runs)
        more = self.clusters_for(size) - have
        if lie is not None:
            fork.runs = self.extent_runs(lie)
        elif more > 0:
            begin = fork.runs[-1][0] + fork.runs[-1][1] if fork.runs else None
            fork.runs = join_runs([*fork.runs, *self.clusters.take(more, begin)])
        fork.size = size

    def _fill(self, path: str, fork: ForkState, size: int, chunks: Iterable[bytes], skip: int = 0) -> None:
        self.fill(path, self.run_extents(fork.runs), size, chunks, skip, self.cluster_size)

    # -- changing ---------------------------------------------------------------------------

    def _fork_of(self, node: HfsNode) -> tuple[int, ForkState]:
        return (RESOURCE_FORK, node.file.resource) if node.of is not None else (DATA_FORK, node.file.data)

    def grow(self, node: HfsNode, size: int, chunks: Iterable[bytes], when: dt.datetime) -> None:
        self._at(when)
        _, fork = self._fork_of(node)
        before, kept = fork.size, list(fork.runs)
        try:
            self._lay_out(fork, before + size, None)
            self._fill(node.path, fork, size, chunks, before)
        except VolumeError:
            self.clusters.release(_without(fork.runs, kept))
            fork.size, fork.runs = before, kept
            raise
        self._resized(node, when)

    def rewrite(self, node: HfsNode, size: int, chunks: Iterable[bytes], when: dt.datetime, in_place: bool) -> None:
        self._at(when)
        _, fork = self._fork_of(node)
        content = list(chunks)  # which may come from this very file
        begin = fork.runs[0][0] if in_place and fork.runs else None
        self.clusters.release(fork.runs)
        fork.runs = self.clusters.take(self.clusters_for(size), begin)
        fork.size = size
        self._fill(node.path, fork, size, content)
        self._resized(node, when)

    def _resized(self, node: HfsNode, when: dt.datetime) -> None:
        kind, fork = self._fork_of(node)
        state = node.file
        state.modified = state.changed = when
        for one in self._names(state) if state.links > 1 else [node]:
            if (one.of is None) == (node.of is None):
                one.size = fork.size
        self._put(node)
        self._put_overflow(state.number, kind, fork)

    def _names(self, state: FileState) -> list[HfsNode]:
        return [node for node in self.walk() if node.file is state]

    def names_of(self, node: HfsNode) -> int:
        return 1 if node.folder else node.file.links

    def streams_of(self, node: HfsNode) -> list[HfsNode]:
        if node.parent is None or node.of is not None:
            return []
        found = node.parent.children.get(self.fold(f"{node.name}:{RESOURCE_STREAM}"))
        return [found] if found is not None and found.of is node else []

    def link(self, node: HfsNode, path: str, when: dt.datetime) -> HfsNode:
        parent, name = self.new_place(path)
        if node.folder or node.of is not None:
            raise VolumeError(f"{node.path}: only a file has several names")
        if node.file.links >= _MOST_LINKS:
            raise VolumeError(f"{node.path}: a file has at most {_MOST_LINKS:,} names")
        self._at(when)
        if node.file.home is None:
            self._move_apart(node, when)
        node.file.links += 1
        node.file.changed = when
        new = HfsNode(name, parent, False, node.size, attributes=node.attributes, file=node.file, link=self._take_number())
        self._enter(new, self._link_data(new), when)
        self._put(node)
        self._files += 1
        for _ in self.streams_of(node):
            self._enter_resource(new)
        return new

    def _link_data(self, node: HfsNode) -> bytes:
        return packed_link(node.link, node.file.number, self._created, self._last)

    def _private_folder(self, when: dt.datetime) -> FileState:
        """The folder in which files are kept that have several names."""
        if self._private is None:
            state = self._private = FileState(
                self._take_number(), True, self._created, when, when, bits=2, mode=IS_FOLDER | _PRIVATE_MODE
            )
            units = PRIVATE_FOLDER.encode("utf-16-be")
            self._private_key = (ROOT, self._sorted(units))
            self._insert(self._catalog, self._private_key, catalog_key(ROOT, units), state)
            self._put_thread(state.number, True, ROOT, units)
            self._folders += 1
            self._in_folder(self.root, 1, when)
        return self._private

    def _count_private(self, more: int, when: dt.datetime) -> None:
        state = self._private_folder(when)
        assert self._catalog.tree is not None
        state.valence += more
        state.modified = state.changed = when
        self._catalog.tree.replace(self._private_key, packed_file(state, self.cluster_size))

    def _move_apart(self, node: HfsNode, when: dt.datetime) -> None:
        """Keep a file in the private folder; what was its record becomes one of a name."""
        state, parent = node.file, node.parent
        private = self._private_folder(when)
        assert parent is not None and self._catalog.tree is not None
        self._leave(node, when)
        units = INDIRECT_NAME.format(state.number).encode("utf-16-be")
        state.home = (private.number, self._sorted(units))
        self._insert(self._catalog, state.home, catalog_key(private.number, units), state)
        self._put_thread(state.number, False, private.number, units)
        self._count_private(1, when)
        self._files += 1
        node.link = self._take_number()
        self._enter(node, self._link_data(node), when)

    def rename(self, node: HfsNode, path: str, when: dt.datetime) -> None:
        if node.of is not None or node.parent is None:
            raise VolumeError(f"{node.path}: a stream or the root cannot be renamed here")
        parent, name = self.new_home(node, path)
        self.check_name(name, parent)
        self._commit()
        self._at(when)
        was, sought = self.record(node), self._sought(node)
        old, streams = node.parent, self.streams_of(node)
        for one in streams:
            del old.children[self.fold(one.name)]
        self._leave(node, when)
        node.name, node.parent = name, parent
        node.file.changed = when
        data = self._link_data(node) if node.file.home else packed_file(node.file, self.cluster_size)
        self._enter(node, data, when)
        for one in streams:
            one.name, one.parent = f"{name}:{RESOURCE_STREAM}", parent
            parent.children[self.fold(one.name)] = one
        self._commit()
        self._left = self._evidence_of(was, sought)

    def left_by_renaming(self, node: HfsNode, before: Evidence) -> Evidence:
        assert self._left is not None
        return self._left

    def delete(self, node: HfsNode, when: dt.datetime, habits: Habits = "linux") -> Evidence:
        parent, state = node.parent, node.file
        if parent is None or node.children:
            raise VolumeError(f"{node.path}: the root and folders that are not empty cannot be deleted")
        self._commit()
        self._at(when)
        was, sought = self.record(node), self._sought(node)
        if node.of is not None:
            self._empty(node)
            state.changed = when
            del parent.children[self.fold(node.name)]
            self._put(node)
        else:
            for one in self.streams_of(node):
                del parent.children[self.fold(one.name)]
            self._leave(node, when)
            if node.folder:
                self._folders -= 1
            else:
                self._files -= 1
                state.links -= 1
                self._unlinked(node, when)
        self._commit()
        return self._evidence_of(was, sought)

    def _unlinked(self, node: HfsNode, when: dt.datetime) -> None:
        """A file has lost a name; with the last one it goes itself."""
        state = node.file
        if state.links:
            state.changed = when
            self._put(node)
            return
        for kind, fork in ((DATA_FORK, state.data), (RESOURCE_FORK, state.resource)):
            self.clusters.release(fork.runs)
            self._drop_overflow(state.number, kind)
        self._drop_attributes(state)
        if state.home is not None:
            assert self._catalog.tree is not None
            for key in (state.home, (state.number, b"")):
                self._catalog.tree.remove(key)
                self._been.pop((CATALOG_FILE, key), None)
            self._files -= 1
            self._count_private(-1, when)

    def _empty(self, stream: HfsNode) -> None:
        fork = stream.file.resource
        self.clusters.release(fork.runs)
        self._drop_overflow(stream.file.number, RESOURCE_FORK)
        fork.size, fork.runs = 0, []

    # -- what tells of a file ---------------------------------------------------------------

    def map(self, node: HfsNode) -> FileMap:
        if node.folder:  # it has no table of its own: the records of what is in it
            records = (self._record_at(self._catalog, one.key)[1] for one in node.children.values() if one.of is None)
            return FileMap.of(sorted(records))
        fork = self._fork_of(node)[1]
        return FileMap.of(self.run_extents(fork.runs)).head(fork.size)

    def _record_at(self, file: _File, key: Key) -> tuple[int, Extent]:
        """The node in which a record stands, and where on the medium it does."""
        assert file.tree is not None
        found = file.tree.find(key)
        assert found is not None
        node, n = found
        at = self._node_at(file, node.number).offset + node.ends[n]
        return node.number, Extent(at, node.ends[n + 1] - node.ends[n])

    def record(self, node: HfsNode) -> tuple[Extent, ...]:
        own = (node.of or node).key if node.parent is not None else self._root_key
        first = self._record_at(self._catalog, own)[1]
        home = node.file.home
        return (first, self._record_at(self._catalog, home)[1]) if home else (first,)

    def needs(self, node: HfsNode) -> tuple[Extent, ...]:
        more = [self._record_at(self._extents, key)[1] for key in self._overflow_of(node)]
        return (*self.record(node), *more)

    def _overflow_of(self, node: HfsNode) -> list[Key]:
        return [] if node.folder else self._overflow_keys(node.file.number, self._fork_of(node)[0])

    def evidence(self, node: HfsNode) -> Evidence:
        self._commit()
        return self._evidence_of(self.record(node), self._sought(node))

    def evidence_after(self, node: HfsNode, habits: Habits) -> Evidence:
        """What stands elsewhere than in the records themselves: what a deletion leaves in their place is seen then."""
        self._commit()
        sought = self._sought(node)
        own = set(self.needs(node)) | {self._record_at(self._catalog, ((node.of or node).link, b""))[1]}
        return self._evidence_of(self.record(node), sought, own)

    def _look_for(self, file: _File, key: Key, length: int | None, skip_key: bool = False) -> _Sought:
        assert file.tree is not None
        found = file.tree.find(key)
        assert found is not None
        node, n = found
        record = node.record(n)
        head = len(node.key_bytes(n))
        needle = record[head if skip_key else 0 : len(record) if length is None else head + length]
        return _Sought(file, needle, [node.number, *self._been.get((file.number, key), ())])

    def _sought(self, node: HfsNode) -> dict[str, list[_Sought]]:
        """The bytes that tell of a name as it is now, by what they tell: `name` any of them, `place` the first of them
        with all the others."""
        own, home = (node.of or node), node.file.home
        end = _PLACE_END + 80 if node.of is not None else None if node.folder else _PLACE_END
        name_end = FOLDER.itemsize if home else _NAME_END
        names = [
            self._look_for(self._catalog, own.key, name_end),
            self._look_for(self._catalog, (own.link, b""), None),
        ]
        if node.folder:
            return {"name": names, "place": []}
        place = [self._look_for(self._catalog, home or own.key, end, skip_key=True)]
        place += [self._look_for(self._extents, key, None) for key in self._overflow_of(node)]
        return {"name": names[:1] if home else names, "place": place}

    def _standing(self, one: _Sought) -> list[tuple[str, tuple[Extent, ...]]]:
        """Where bytes stand, in nodes and in the journal's copies of them: by what source, and where."""
        out: list[tuple[str, tuple[Extent, ...]]] = []
        for number in dict.fromkeys(one.nodes):
            node = self._node_at(one.file, number)
            for at in _places(self.image.read(*node), one.needle):
                out.append((RECORD, (Extent(node.offset + at, len(one.needle)),)))
            for copy in reversed(self._copies.get(node.offset, ())):
                if len(out) > _MOST_TOLD:
                    break
                data = b"".join(self.image.read(*part) for part in self._in_journal(copy.at, node.length))
                for at in _places(data, one.needle):
                    out.append((_OTHER, self._in_journal(copy.at + at, len(one.needle))))
        return out

    def _in_journal(self, at: int, length: int) -> tuple[Extent, ...]:
        """Where bytes of the journal's buffer are, which goes round."""
        size, start = self._journal_at.length, self._journal_at.offset
        if at >= size:
            at = SECTOR + (at - size)
        first = min(length, size - at)
        rest = (Extent(start + SECTOR, length - first),) if first < length else ()
        return (Extent(start + at, first), *rest)

    def _evidence_of(
        self, was: Sequence[Extent], sought: dict[str, list[_Sought]], but: Iterable[Extent] = ()
    ) -> Evidence:
        """What stands of the bytes that tell of a file whose record was somewhere; not what lies in `but`."""

        def kept(one: _Sought) -> list[tuple[str, tuple[Extent, ...]]]:
            return [
                (source, where)
                for source, where in self._standing(one)
                if not any(part.offset <= where[0].offset and where[0].end <= part.end for part in but)
            ]

        traces = [Trace("name", "full", where, source) for one in sought["name"] for source, where in kept(one)]
        places: list[Trace] = []
        if sought["place"]:
            rest = [kept(one) for one in sought["place"][1:]]
            more = tuple(part for found in rest if found for part in found[0][1])
            worth: PlaceWorth = "whole" if all(rest) else "start"
            places = [
                Trace("place", worth, (*where, *more), source) for source, where in kept(sought["place"][0])
            ]
        first = [*places, *traces]
        return Evidence(first[0].where[:1] if first else tuple(was[:1]), tuple(first))

    def structures(self) -> dict[str, tuple[Extent, ...]]:
        g = self.geometry
        found = {
            "header": (Extent(g.offset + HEADER_AT, 512),),
            "backup-header": (Extent(g.backup_at, 512),),
            "bitmap": self.run_extents(self._bitmap.fork.runs),
            "catalog": self.run_extents(self._catalog.fork.runs),
            "extents": self.run_extents(self._extents.fork.runs),
            "attributes": self.run_extents(self._attributes.fork.runs),
        }
        return found | ({"journal": (self._journal_at,)} if self._journal is not None else {})

    def reserve(
        self, space: int, where: Reuse | int = "next", pick: Callable[[int, int], int] = lambda lo, hi: lo
    ) -> tuple[Extent, ...]:
        self._changed = True
        return super().reserve(space, where, pick)


def _places(data: bytes, needle: bytes) -> list[int]:
    """Every place of some bytes in others."""
    out: list[int] = []
    at = data.find(needle)
    while at >= 0:
        out.append(at)
        at = data.find(needle, at + 1)
    return out


def _without(runs: Sequence[tuple[int, int]], kept: Sequence[tuple[int, int]]) -> list[tuple[int, int]]:
    """What runs have that others, which are their beginning, have not."""
    skip = sum(count for _, count in kept)
    out: list[tuple[int, int]] = []
    for start, count in runs:
        if skip < count:
            out.append((start + skip, count - skip))
        skip = max(skip - count, 0)
    return out
