"""What FAT and exFAT writers share: folders that are tables of 32-byte entries, and files on runs of clusters."""

from __future__ import annotations

import datetime as dt
from abc import abstractmethod
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from itertools import chain

import numpy as np
from numpy.typing import NDArray

from sastrugi.errors import VolumeError
from sastrugi.media.extents import Extent, Laid, within
from sastrugi.media.filemap import FileMap
from sastrugi.media.raw import RawImage
from sastrugi.units import format_size
from sastrugi.volumes._fat_family.names import check_name
from sastrugi.volumes.allocation import ClusterMap, Run, join_runs
from sastrugi.volumes.registry import title_of
from sastrugi.volumes.writer import PLAIN_ATTRIBUTES, Evidence, Habits, Node, VolumeWriter, parts_of

ENTRY_SIZE = 32


@dataclass(slots=True, eq=False)
class EntryNode(Node):
    """`first_slot` and `slots` place its entries in the parent's table, `runs` its clusters. `alias` is the short name
    (FAT), `aliases` those taken in a folder; `laid` is where its table lies, once that was asked for; `chained` tells
    that its clusters are linked in the FAT (exFAT)."""

    first_slot: int
    slots: int
    runs: list[Run]
    table: bytearray = field(default_factory=bytearray)
    laid: Laid | None = None
    search_from: int = 0
    alias: bytes = b""
    aliases: set[bytes] = field(default_factory=set)
    chained: bool = False


class EntryTableWriter(VolumeWriter[EntryNode]):
    """Folders as tables of entries. A subclass says how entries look and how clusters are linked."""

    max_file_size: int
    max_file_size_words: str
    max_folder_entries: int
    sector: int

    def __init__(self, image: RawImage, clusters: ClusterMap, cluster_size: int, sector: int) -> None:
        self.image, self.clusters, self.cluster_size, self.sector = image, clusters, cluster_size, sector
        self.root = EntryNode("", None, True, 0, 0, 0, [])
        self._touched: dict[int, tuple[EntryNode, dt.datetime, bool]] = {}

    # -- what a file system fills in --------------------------------------------------------

    @abstractmethod
    def _free_slot(self, first_bytes: NDArray[np.uint8]) -> NDArray[np.bool_]:
        """Which entries of a table are free, by their first bytes."""

    @abstractmethod
    def _new_record(self, node: EntryNode, when: dt.datetime, modified: dt.datetime) -> bytes:
        """The entries of a new node (its alias is chosen here)."""

    @abstractmethod
    def _renamed_record(self, node: EntryNode, name: str, parent: EntryNode) -> bytes:
        """The entries of `node` under another name, all else as it is (its new alias is chosen here)."""

    @abstractmethod
    def _refresh(self, node: EntryNode, when: dt.datetime, accessed: bool = False) -> None:
        """Bring size, first cluster and modified time of a node's record up to date, on the medium too."""

    @abstractmethod
    def _first_table(self, node: EntryNode, when: dt.datetime) -> bytearray:
        """The table of a new folder whose clusters are known."""

    @abstractmethod
    def _erase(self, node: EntryNode, habits: Habits | None) -> None:
        """Mark the entries of a node as deleted in its parent's table (`habits` None: after a rename)."""

    @abstractmethod
    def _link(self, node: EntryNode) -> None:
        """Write the chain of a node's runs where the file system wants one."""

    @abstractmethod
    def _link_on(self, folder: EntryNode, last: int, more: list[Run]) -> None:
        """Write the part of a folder's chain that leads from what was its last cluster to those it got."""

    @abstractmethod
    def _unlink(self, node: EntryNode, runs: list[Run], habits: Habits) -> None:
        """Take the chain of runs away, as far as these habits do."""

    def _root_place(self) -> tuple[Extent, ...]:
        """Where a root folder without clusters lies (FAT12/16)."""
        raise NotImplementedError

    # -- folders ----------------------------------------------------------------------------

    def make_folder(self, path: str, when: dt.datetime) -> EntryNode:
        node = self.root
        for part in parts_of(path):
            child = node.children.get(self.fold(part))
            if child is None:
                child = self._add_folder(node, part, when)
            elif not child.folder:
                raise VolumeError(f"{child.path}: a file is there already, no folder can be made")
            node = child
        return node

    def _add_folder(self, parent: EntryNode, name: str, when: dt.datetime) -> EntryNode:
        check_name(name, title_of(self.file_system))
        node = EntryNode(name, parent, True, self.cluster_size, 0, 0, self.clusters.take(1))
        node.table = self._first_table(node, when)
        self.image.write(self.run_extents(node.runs)[0].offset, bytes(node.table))
        self._link(node)
        self._enter(node, when, when)
        return node

    def _enter(self, node: EntryNode, when: dt.datetime, modified: dt.datetime) -> None:
        """Give a new node its entries in its parent's table."""
        parent = node.parent
        assert parent is not None
        data = self._new_record(node, when, modified)
        node.slots = len(data) // ENTRY_SIZE
        node.first_slot = self._free_slots(parent, node.slots)
        self._put(parent, node.first_slot, data)
        parent.children[self.fold(node.name)] = node
        self._touch(parent, when)

    def _put(self, folder: EntryNode, slot: int, data: bytes) -> None:
        folder.table[slot * ENTRY_SIZE : slot * ENTRY_SIZE + len(data)] = data
        self._write_table(folder, slot * ENTRY_SIZE, len(data))

    def _record_bytes(self, node: EntryNode) -> bytearray:
        assert node.parent is not None
        at = node.first_slot * ENTRY_SIZE
        return node.parent.table[at : at + node.slots * ENTRY_SIZE]

    def _free_slots(self, folder: EntryNode, count: int) -> int:
        """The first slot of `count` free ones in a row; the folder grows by a cluster when there are none."""
        while True:
            first = np.frombuffer(folder.table[folder.search_from * ENTRY_SIZE :: ENTRY_SIZE], "u1")
            free = np.flatnonzero(self._free_slot(first))
            if len(free) >= count:
                hits = np.flatnonzero(free[count - 1 :] - free[: len(free) - count + 1] == count - 1)
                if len(hits):
                    slot = folder.search_from + int(free[hits[0]])
                    if hits[0] == 0:
                        folder.search_from = slot + count
                    return slot
            self._grow_folder(folder)

    def _grow_folder(self, folder: EntryNode) -> None:
        if not folder.runs:
            raise VolumeError(
                f"the root folder is full: it holds {len(folder.table) // ENTRY_SIZE} entries on this volume"
            )
        if len(folder.table) + self.cluster_size > self.max_folder_entries * ENTRY_SIZE:
            raise VolumeError(f"{folder.path}: the folder is full: it holds {self.max_folder_entries:,} entries here")
        last = sum(folder.runs[-1]) - 1
        more = self.clusters.take(1)
        self._where(folder).grow(self.run_extents(more))
        folder.runs[-1:] = join_runs([folder.runs[-1], *more])
        folder.table += bytes(self.cluster_size)
        folder.size = len(folder.table)
        self.image.zero(self.run_extents(more)[0].offset, self.cluster_size)
        self._link_on(folder, last, more)
        if folder.parent is not None:
            self._folder_grew(folder)

    def _folder_grew(self, folder: EntryNode) -> None:
        """FAT folders have no size in their record."""

    def _table_extents(self, folder: EntryNode, position: int, length: int) -> tuple[Extent, ...]:
        return self._where(folder).within(position, length)

    def _where(self, folder: EntryNode) -> Laid:
        if folder.laid is None:
            folder.laid = Laid(self.run_extents(folder.runs) if folder.runs else self._root_place())
        return folder.laid

    def _write_table(self, folder: EntryNode, position: int, length: int) -> None:
        for extent in self._table_extents(folder, position, length):
            self.image.write(extent.offset, bytes(folder.table[position : position + extent.length]))
            position += extent.length

    def map(self, node: EntryNode) -> FileMap:
        whole = self.run_extents(node.runs)
        return FileMap.of(whole) if node.folder else FileMap.of(whole, node.size)

    @abstractmethod
    def _chain(self, node: EntryNode) -> tuple[Extent, ...]:
        """The entries of the first FAT that a driver reads to follow a node's clusters; empty if none."""

    def needs(self, node: EntryNode) -> tuple[Extent, ...]:
        return (*self.record(node), *self._chain(node))

    def record(self, node: EntryNode) -> tuple[Extent, ...]:
        assert node.parent is not None
        return self._table_extents(node.parent, node.first_slot * ENTRY_SIZE, node.slots * ENTRY_SIZE)

    def _touch(self, folder: EntryNode, when: dt.datetime, accessed: bool = False) -> None:
        """A folder takes the time of a change in it. Its entry is written at the next flush, as by a driver that
        caches: a folder that is deleted before then keeps the times it had."""
        if folder.parent is not None:
            self._touched[id(folder)] = (folder, when, accessed or self._touched.get(id(folder), (0, 0, False))[2])

    def _write_touched(self) -> None:
        for folder, when, accessed in self._touched.values():
            self._refresh(folder, when, accessed)
        self._touched.clear()

    # -- files ------------------------------------------------------------------------------

    def store(
        self, path: str, size: int, chunks: Iterable[bytes], when: dt.datetime, modified: dt.datetime | None = None,
        lie: Sequence[Extent] | None = None, attributes: int = 0,
    ) -> EntryNode:  # fmt: skip
        parent, name = self.new_place(path)
        self._check_size(path, size)
        if attributes & ~PLAIN_ATTRIBUTES:
            raise VolumeError(f"{path}: {title_of(self.file_system)} has no compressed files")
        taken = self.clusters.take(self.clusters_for(size)) if lie is None else self.extent_runs(lie)
        node = EntryNode(name, parent, False, size, 0, 0, taken, attributes=attributes)
        self._fill(path, self.run_extents(taken), size, chunks)
        self._link(node)
        self._enter(node, when, modified or when)
        return node

    def check_name(self, name: str, parent: EntryNode) -> None:
        check_name(name, title_of(self.file_system))

    def _check_size(self, path: str, size: int) -> None:
        if size > self.max_file_size:
            raise VolumeError(f"{path}: {format_size(size)} is too large: {self.max_file_size_words}")

    def _fill(self, path: str, extents: tuple[Extent, ...], size: int, chunks: Iterable[bytes], skip: int = 0) -> None:
        """Write content over `extents` from byte `skip` on; the rest of the last sector becomes zero, the rest of the
        cluster stays as it was."""
        padding = bytes(-(skip + size) % self.sector)
        room = sum(extent.length for extent in extents) - skip
        places = iter(within(extents, skip, room))
        at = left = written = 0
        for chunk in chain(chunks, (padding,)):
            view = memoryview(chunk)
            written += len(view)
            while view:
                if not left:
                    place = next(places, None)
                    if place is None:
                        raise VolumeError(f"{path}: more content came than the {size} bytes announced")
                    at, left = place
                part = view[:left]
                self.image.write(at, part)
                at, left, view = at + len(part), left - len(part), view[len(part) :]
        if written != size + len(padding):
            raise VolumeError(f"{path}: {written - len(padding)} bytes came where {size} were announced")

    def grow(self, node: EntryNode, size: int, chunks: Iterable[bytes], when: dt.datetime) -> None:
        self._check_size(node.path, node.size + size)
        more = self.clusters_for(node.size + size) - self.clusters_for(node.size)
        whole = join_runs([*node.runs, *self.clusters.take(more)])
        self._fill(node.path, self.run_extents(whole), size, chunks, node.size)
        node.runs, node.size = whole, node.size + size
        self._link(node)
        self._refresh(node, when)

    def rewrite(self, node: EntryNode, size: int, chunks: Iterable[bytes], when: dt.datetime, in_place: bool) -> None:
        self._check_size(node.path, size)
        needed, old = self.clusters_for(size), node.runs
        kept = first_clusters(old, needed) if in_place else []
        rest = without(old, kept)
        self._unlink(node, rest, "linux")
        self.clusters.release(rest)
        node.runs = join_runs([*kept, *self.clusters.take(needed - sum(length for _, length in kept))])
        node.size = size
        self._fill(node.path, self.run_extents(node.runs), size, chunks)
        self._link(node)
        self._refresh(node, when)

    def rename(self, node: EntryNode, path: str, when: dt.datetime) -> None:
        old_parent, old_name = node.parent, node.name
        assert old_parent is not None
        parent, name = self.new_home(node, path)
        check_name(name, title_of(self.file_system))
        del old_parent.children[self.fold(old_name)]
        old_parent.aliases.discard(node.alias)
        data = self._renamed_record(node, name, parent)
        self._move_record(node, parent, data)
        node.name, node.parent = name, parent
        parent.children[self.fold(name)] = node
        for folder in (old_parent, parent):
            self._touch(folder, when)

    def _move_record(self, node: EntryNode, parent: EntryNode, data: bytes) -> None:
        """The new entries first, then the old ones are marked deleted (as Linux does on FAT)."""
        slot = self._free_slots(parent, len(data) // ENTRY_SIZE)
        self._put(parent, slot, data)
        self._erase(node, None)
        assert node.parent is not None
        node.parent.search_from = min(node.parent.search_from, node.first_slot)
        node.first_slot, node.slots = slot, len(data) // ENTRY_SIZE

    def delete(self, node: EntryNode, when: dt.datetime, habits: Habits = "linux") -> Evidence:
        parent = node.parent
        if parent is None:
            raise VolumeError("the root folder cannot be deleted")
        if node.children:
            raise VolumeError(f"{node.path}: the folder is not empty: delete what is in it first")
        self._erase(node, habits)
        self._unlink(node, node.runs, habits)
        self.clusters.release(node.runs)
        parent.search_from = min(parent.search_from, node.first_slot)
        del parent.children[self.fold(node.name)]
        parent.aliases.discard(node.alias)
        self._touched.pop(id(node), None)
        self._touch(parent, when, accessed=True)
        return self.evidence_after(node, habits)


def first_clusters(runs: list[Run], count: int) -> list[Run]:
    """The first `count` clusters of a chain."""
    out: list[Run] = []
    for start, length in runs:
        if count <= 0:
            break
        out.append((start, min(length, count)))
        count -= length
    return out


def without(runs: list[Run], kept: list[Run]) -> list[Run]:
    """What follows `kept`, which `runs` begins with."""
    skip = sum(length for _, length in kept)
    out: list[Run] = []
    for start, length in runs:
        gone = min(skip, length)
        skip -= gone
        if gone < length:
            out.append((start + gone, length - gone))
    return out
