"""Lay HFS Plus and HFSX volumes down: format, store, make folders, link, grow, rename, delete.

What tells of a file once it is gone are bytes that nobody put anything on: behind the end of a node from which its
records were taken, in a node that records went from when it was split, and in the copies that a journal keeps. They are
not worked out but looked for, in the nodes in which the records ever stood.
"""

from __future__ import annotations

import datetime as dt
import random
import struct
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import replace

from sastrugi.errors import VolumeError
from sastrugi.media.extents import Extent
from sastrugi.media.filemap import FileMap
from sastrugi.media.raw import RawImage
from sastrugi.volumes.allocation import ClusterMap, join_runs, runs_without
from sastrugi.volumes.hfsplus.btree import Key
from sastrugi.volumes.hfsplus.catalog_write import CatalogWriter
from sastrugi.volumes.hfsplus.evidence import HfsNode, Telling, evidence_of, record_at, telling_of
from sastrugi.volumes.hfsplus.layout import (
    DATA_FORK,
    JOURNAL_INFO_NAME,
    JOURNAL_NAME,
    RESOURCE_FORK,
    RESOURCE_STREAM,
    ROOT,
    ROOT_PARENT,
)
from sastrugi.volumes.hfsplus.names import composed, decomposed, folded, to_units
from sastrugi.volumes.hfsplus.plan import Plan
from sastrugi.volumes.hfsplus.records import (
    FileState,
    ForkState,
    attribute_record,
    packed_file,
)
from sastrugi.volumes.hfsplus.volume_files import VolumeFiles
from sastrugi.volumes.hfsplus.volume_header import Identity, packed_header
from sastrugi.volumes.writer import Evidence, Habits, Reuse, VolumeWriter, parts_of

_COMMIT_AFTER = dt.timedelta(seconds=5)
"""What comes within this is one transaction, as drivers have it."""
_UNNAMED = "untitled"
_CLUMP = 64 << 10
"""Bytes that a file that grows is given at a time."""
_LAST_USED = "com.apple.lastuseddate#PS"
"""An attribute that macOS gives files that were opened."""
_MOST_LINKS = 32_767


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
        self._identity = Identity(self._by_case, habits == "macos", random.Random(serial).getrandbits(64), when)
        self._begun = self._last = when
        self._writes = 0
        self._left: Evidence | None = None
        self._gone: dict[Evidence, Telling] = {}
        """What told of files that are gone, by what was left of them."""
        self._changed = True
        self._own = VolumeFiles(image, plan, self._by_case, self.clusters)
        self._catalog = CatalogWriter(self._own, self._by_case, when)
        self._begin(label, when)

    def _begin(self, label: str, when: dt.datetime) -> None:
        """The records that a new volume has."""
        units = to_units(label or _UNNAMED)
        root = FileState(ROOT, True, when, when, when)
        self.root = HfsNode("", None, True, 0, file=root)
        self._root_key = self._catalog.insert(ROOT_PARENT, units, packed_file(root), ROOT, folder=True)
        if self._own.journal is not None:
            files = ((JOURNAL_INFO_NAME, self._own.journal_info), (JOURNAL_NAME, self._own.journal_buffer))
            for name, fork in files:
                self._catalog.make_own(name, fork, when)
                self._in_folder(self.root, 1, when)
        self.flush()

    # -- records ----------------------------------------------------------------------------

    def _home(self, state: FileState, node: HfsNode) -> tuple[int, bytes]:
        """The key of the record that has the forks of a file, or is a folder's."""
        if node.parent is None:
            return self._root_key
        return state.home or (node.of or node).key

    def _put(self, node: HfsNode) -> None:
        """Write the record of a file or folder anew."""
        self._catalog.replace(self._home(node.file, node), node.file)

    def _in_folder(self, folder: HfsNode, more: int, when: dt.datetime) -> None:
        folder.file.valence += more
        folder.file.modified = folder.file.changed = when
        self._put(folder)

    # -- transactions -----------------------------------------------------------------------

    def _at(self, when: dt.datetime, pieces: int = 0) -> None:
        """A change comes at this moment (of a fork of so many pieces): what is older than some seconds is committed
        first. Raises VolumeError where the trees have no room for it, with nothing changed."""
        self._own.make_room(pieces)
        if self._changed and abs(when - self._begun) >= _COMMIT_AFTER:
            self._commit()
        if not self._changed:
            self._begun = when
        self._last, self._changed = when, True

    def _commit(self) -> None:
        """Write what changed."""
        if self._changed:
            self._changed = False
            self._writes += 1
            self._own.commit(self._header())

    def _header(self) -> bytes:
        return packed_header(self._own, self._catalog, self._identity, self._last, self._writes)

    def flush(self) -> None:
        """Bring everything to the medium, as at an unmount."""
        self._commit()
        self._own.settle(self._header())

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
        assert parent is not None
        node.key = self._catalog.insert(parent.file.number, node.units, data, node.link, node.folder)
        parent.children[self.fold(node.name)] = node
        self._in_folder(parent, 1, when)

    def _leave(self, node: HfsNode, when: dt.datetime) -> None:
        parent = node.parent
        assert parent is not None
        self._catalog.remove(node.key, node.link)
        del parent.children[self.fold(node.name)]
        self._in_folder(parent, -1, when)

    def make_folder(self, path: str, when: dt.datetime) -> HfsNode:
        node = self.root
        for part in parts_of(path):
            child = node.children.get(self.fold(part))
            if child is None:
                _, name = self.new_place(f"{node.path}/{part}")
                self._at(when)
                state = FileState(self._catalog.take_number(), True, when, when, when)
                child = HfsNode(name, node, True, 0, file=state, link=state.number)
                self._enter(child, packed_file(state), when)
                self._catalog.folders += 1
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
        self._at(when, len(lie or ()))
        state = FileState(self._catalog.take_number(), False, when, modified or when, when, bits=attributes)
        node = HfsNode(name, parent, False, size, attributes=attributes, file=state, link=state.number)
        with self._whole_or_not(state.data):
            self._lay_out(state.data, size, lie)
            self._fill(path, state.data, size, chunks)
            if self._habits == "macos":
                self._set_attribute(state, _LAST_USED, struct.pack("<QQ", int(self.moment(when).timestamp()), 0))
                self._enter(node, packed_file(state), when)
            else:  # the Linux driver makes a file empty, and tells its size and places once they are written
                self._enter(node, packed_file(replace(state, data=ForkState())), when)
                self._put(node)
            self._own.put_overflow(state.number, DATA_FORK, state.data)
        self._catalog.files += 1
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
        self._own.put_overflow(file.file.number, RESOURCE_FORK, fork)
        return self._enter_resource(file)

    def _enter_resource(self, file: HfsNode) -> HfsNode:
        assert file.parent is not None
        name = f"{file.name}:{RESOURCE_STREAM}"
        node = HfsNode(name, file.parent, False, file.file.resource.size, of=file, file=file.file, link=file.link)
        file.parent.children[self.fold(name)] = node
        return node

    def _set_attribute(self, state: FileState, name: str, value: bytes) -> None:
        """An extended attribute of a file that has none of this name yet."""
        self._own.attributes.tree.insert(*attribute_record(state.number, name, value))
        state.attributes[name] = value

    def _drop_attributes(self, state: FileState) -> None:
        for name, value in state.attributes.items():
            self._own.attributes.tree.remove(attribute_record(state.number, name, value)[0])
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
        self._own.make_room(len(fork.runs))
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
            self.clusters.release(runs_without(fork.runs, kept))
            fork.size, fork.runs = before, kept
            raise
        self._resized(node, when)

    def rewrite(self, node: HfsNode, size: int, chunks: Iterable[bytes], when: dt.datetime, in_place: bool) -> None:
        self._at(when)
        _, fork = self._fork_of(node)
        content = list(chunks)  # which may come from this very file
        begin = fork.runs[0][0] if in_place and fork.runs else None
        kept = list(fork.runs)
        self.clusters.release(kept)
        try:
            fork.runs = self.clusters.take(self.clusters_for(size), begin)
        except VolumeError:
            self.clusters.mark(kept, True)
            raise
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
        self._own.put_overflow(state.number, kind, fork)

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
        new = HfsNode(
            name, parent, False, node.size, attributes=node.attributes, file=node.file, link=self._catalog.take_number()
        )
        self._enter(new, self._link_data(new), when)
        self._put(node)
        self._catalog.files += 1
        for _ in self.streams_of(node):
            self._enter_resource(new)
        return new

    def _link_data(self, node: HfsNode) -> bytes:
        return self._catalog.link_data(node.link, node.file.number, self._last)

    def _move_apart(self, node: HfsNode, when: dt.datetime) -> None:
        """Keep a file in the private folder; what was its record becomes one of a name."""
        if self._catalog.private_folder(when):
            self._in_folder(self.root, 1, when)
        self._leave(node, when)
        self._catalog.keep_apart(node.file, when)
        node.link = self._catalog.take_number()
        self._enter(node, self._link_data(node), when)

    def rename(self, node: HfsNode, path: str, when: dt.datetime) -> None:
        if node.of is not None or node.parent is None:
            raise VolumeError(f"{node.path}: a stream or the root cannot be renamed here")
        parent, name = self.new_home(node, path)
        self.check_name(name, parent)
        self._commit()
        self._at(when)
        was, telling = self.record(node), telling_of(self._own, node, self._overflow_of(node))
        old, streams = node.parent, self.streams_of(node)
        for one in streams:
            del old.children[self.fold(one.name)]
        self._leave(node, when)
        node.name, node.parent = name, parent
        node.file.changed = when
        data = self._link_data(node) if node.file.home else packed_file(node.file)
        self._enter(node, data, when)
        for one in streams:
            one.name, one.parent = f"{name}:{RESOURCE_STREAM}", parent
            parent.children[self.fold(one.name)] = one
        self._commit()
        self._left = self._left_of(was, telling)

    def left_by_renaming(self, node: HfsNode, before: Evidence) -> Evidence:
        assert self._left is not None
        return self._left

    def delete(self, node: HfsNode, when: dt.datetime, habits: Habits = "linux") -> Evidence:
        parent, state = node.parent, node.file
        if parent is None or node.children:
            raise VolumeError(f"{node.path}: the root and folders that are not empty cannot be deleted")
        self._commit()
        self._at(when)
        was, telling = self.record(node), telling_of(self._own, node, self._overflow_of(node))
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
                self._catalog.folders -= 1
            else:
                self._catalog.files -= 1
                state.links -= 1
                self._unlinked(node, when)
        self._commit()
        return self._left_of(was, telling)

    def _unlinked(self, node: HfsNode, when: dt.datetime) -> None:
        """A file has lost a name; with the last one it goes itself."""
        state = node.file
        if state.links:
            state.changed = when
            self._put(node)
            return
        for kind, fork in ((DATA_FORK, state.data), (RESOURCE_FORK, state.resource)):
            self.clusters.release(fork.runs)
            self._own.drop_overflow(state.number, kind)
        self._drop_attributes(state)
        if state.home is not None:
            self._catalog.drop_apart(state, when)

    def _empty(self, stream: HfsNode) -> None:
        fork = stream.file.resource
        self.clusters.release(fork.runs)
        self._own.drop_overflow(stream.file.number, RESOURCE_FORK)
        fork.size, fork.runs = 0, []

    # -- what tells of a file ---------------------------------------------------------------

    def map(self, node: HfsNode) -> FileMap:
        if node.folder:  # it has no table of its own: the records of what is in it
            records = (
                record_at(self._own, self._own.catalog, one.key) for one in node.children.values() if one.of is None
            )
            return FileMap.of(sorted(records))
        fork = self._fork_of(node)[1]
        return FileMap.of(self.run_extents(fork.runs)).head(fork.size)

    def record(self, node: HfsNode) -> tuple[Extent, ...]:
        own = (node.of or node).key if node.parent is not None else self._root_key
        keys = [own, node.file.home] if node.file.home else [own]
        return tuple(record_at(self._own, self._own.catalog, key) for key in keys)

    def needs(self, node: HfsNode) -> tuple[Extent, ...]:
        more = [record_at(self._own, self._own.extents, key) for key in self._overflow_of(node)]
        return (*self.record(node), *more)

    def _overflow_of(self, node: HfsNode) -> list[Key]:
        return [] if node.folder else self._own.overflow_keys(node.file.number, self._fork_of(node)[0])

    def evidence(self, node: HfsNode) -> Evidence:
        self._commit()
        return self._evidence_of(self.record(node), telling_of(self._own, node, self._overflow_of(node)))

    def evidence_after(self, node: HfsNode, habits: Habits) -> Evidence:
        """What stands elsewhere than in the records themselves: what a deletion leaves in their place is seen then."""
        self._commit()
        thread = record_at(self._own, self._own.catalog, ((node.of or node).link, b""))
        return self._evidence_of(
            self.record(node), telling_of(self._own, node, self._overflow_of(node)), {*self.needs(node), thread}
        )

    def _evidence_of(self, was: Sequence[Extent], telling: Telling, but: Iterable[Extent] = ()) -> Evidence:
        return evidence_of(self.image, self._own, telling, was, but)

    def _left_of(self, was: Sequence[Extent], telling: Telling) -> Evidence:
        """What is left of a file that just went, or of an old name."""
        found = self._evidence_of(was, telling)
        self._gone[found] = telling
        return found

    def told_since(self, gone: Evidence) -> Evidence | None:
        telling = self._gone.get(gone)
        self._commit()
        return self._evidence_of(gone.record, telling) if telling is not None else None

    def structures(self) -> dict[str, tuple[Extent, ...]]:
        return self._own.structures()

    def reserve(
        self, space: int, where: Reuse | int = "next", pick: Callable[[int, int], int] = lambda lo, hi: lo
    ) -> tuple[Extent, ...]:
        self._changed = True
        return super().reserve(space, where, pick)

    def reserve_more(self, given: Sequence[Extent], space: int) -> tuple[Extent, ...]:
        """In clumps (TN1150, "Volume Header", dataClumpSize; Linux, `hfsplus_file_extend`)."""
        return super().reserve_more(given, self.with_room_ahead(space, _CLUMP // self.cluster_size * self.cluster_size))
