"""Lay NTFS volumes down: format, store, make folders, link, grow, rename, delete.

A deletion clears the in-use flag of a file's records and counts their sequence numbers on; names, times and runs stay
(as both Linux drivers and Windows leave them). Small files stand inside of their records.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterable, Sequence

from sastrugi.errors import VolumeError
from sastrugi.media import lznt1
from sastrugi.media.extents import Extent, total
from sastrugi.volumes._fat_family.names import check_name
from sastrugi.volumes.allocation import Run, join_runs
from sastrugi.volumes.ntfs.change_journal import (
    CLOSED,
    CREATED,
    CUT,
    DELETED,
    EXTENDED,
    LINKED,
    NEW_NAME,
    OLD_NAME,
    OVERWRITTEN,
    STREAM_CHANGED,
    STREAM_EXTENDED,
)
from sastrugi.volumes.ntfs.evidence import TellingVolume
from sastrugi.volumes.ntfs.file_record import UNIT, FileState, Named, Stream, file_flags, pack_name
from sastrugi.volumes.ntfs.index import Index, Item
from sastrugi.volumes.ntfs.layout import DOS, FILE_FOLDER, POSIX, WIN32
from sastrugi.volumes.ntfs.names import with_short_name
from sastrugi.volumes.ntfs.record_writer import NtfsNode
from sastrugi.volumes.ntfs.system_files import order_of
from sastrugi.volumes.ntfs.units import in_units, joined_with_holes
from sastrugi.volumes.registry import title_of
from sastrugi.volumes.writer import ATTRIBUTES, Evidence, Habits, parts_of

COMPRESSED_FILE = ATTRIBUTES["compressed"]
_LEAST_AHEAD = 64 << 10


class NtfsWriter(TellingVolume):
    """A mounted NTFS volume that can be written. Call `flush` to bring bitmaps and folder times to disk."""

    file_system = "ntfs"
    fatal_structures = frozenset({"boot", "mft"})
    spare_structures = frozenset({"backup-boot", "mft-mirror", "logfile", "secure", "attrdef"})

    def _tell_journal(self, node: NtfsNode, reason: int, when: dt.datetime, closed: bool = True) -> None:
        """A change of a file, by one of its names, and that it was closed again."""
        if self._journal is None or node.parent is None:
            return
        state, name = node.file, (node.of or node).name
        flags = file_flags(state) | (FILE_FOLDER if state.folder else 0)
        for told in (reason, reason | CLOSED) if closed else (reason,):
            state.usn = self._journal.tell(
                state.reference, node.parent.file.reference, name, told, flags, state.security, when
            )

    def _names_for(self, parent: NtfsNode, name: str) -> list[Named]:
        """The names that a file of this name gets: Windows adds a short one."""
        reference, index = parent.file.reference, parent.file.index
        assert index is not None
        if self._habits != "windows":
            return [Named(reference, name, POSIX)]
        return with_short_name(name, reference, lambda short: index.has(order_of(short)))

    def _enter(self, node: NtfsNode, names: list[Named], when: dt.datetime) -> None:
        """Give a file names in a folder."""
        parent = node.parent
        assert parent is not None and parent.file.index is not None
        node.file.names += names
        for named in names:
            item = Item(order_of(named.text), pack_name(node.file, named), node.file.reference)
            parent.file.index.insert(item)
        parent.children[self.fold(node.name)] = node
        self._touch(parent.file, when)

    def _leave(self, node: NtfsNode, when: dt.datetime, keep: bool) -> None:
        """Take the names that a file has by this node from its folder; `keep` them in its record."""
        parent = node.parent
        assert parent is not None and parent.file.index is not None
        for named in self._own_names(node):
            parent.file.index.remove(order_of(named.text))
            if not keep:
                node.file.names.remove(named)
        del parent.children[self.fold(node.name)]
        self._touch(parent.file, when)

    def _own_names(self, node: NtfsNode) -> list[Named]:
        """The names that a node stands for: its own, and the short one that came with it."""
        assert node.parent is not None
        here = [named for named in node.file.names if named.parent == node.parent.file.reference]
        at = next(n for n, named in enumerate(here) if named.text == node.name and named.space != DOS)
        return here[at : at + 2] if here[at + 1 : at + 2] and here[at + 1].space == DOS else here[at : at + 1]

    def _refresh_names(self, state: FileState) -> None:
        """Sizes and times of a file in the indexes that name it."""
        for named in state.names:
            folder = self._folders[named.parent]
            assert folder.index is not None
            item = self._item(folder.index, named.text)
            key = pack_name(state, named)
            if item.key != key:
                item.key = key
                for block in folder.index.leading_to(item.order)[-1:]:
                    folder.index.changed[block.vcn] = block
                folder.index.root_changed |= item in folder.index.root.items
                self._put_index(folder)

    @staticmethod
    def _item(index: Index, text: str) -> Item:
        order = order_of(text)
        holding = [index.root, *index.leading_to(order)][-1]
        return next(item for node in (holding, index.root) for item in node.items if item.order == order)

    def fold(self, name: str) -> str:
        return name.upper() if name.isascii() else order_of(name)[0].decode("utf-16-be", "surrogatepass")

    def moment(self, when: dt.datetime) -> dt.datetime:
        return when if when.tzinfo else when.replace(tzinfo=dt.UTC)

    def check_name(self, name: str, parent: NtfsNode) -> None:
        check_name(name, title_of(self.file_system))
        if parent is self.root and name in self._system:
            raise VolumeError(f"{name}: there is already a file of this name: the volume's own")

    def make_folder(self, path: str, when: dt.datetime) -> NtfsNode:
        node = self.root
        for part in parts_of(path):
            child = node.children.get(self.fold(part))
            if child is None:
                self.new_place(f"{node.path}/{part}")
                state = self._new_file(True, when, when, 0)
                state.index = self._new_index()
                self._folders[state.reference] = state
                child = NtfsNode(part, node, True, 0, file=state)
                state.index.root_changed = False
                self._tell_journal(child, CREATED, when)
                self._enter(child, self._names_for(node, part), when)
                self._put(state)
            elif not child.folder:
                raise VolumeError(f"{child.path}: a file is there already")
            node = child
        return node

    def space_for(self, size: int) -> int:
        return 0 if size <= self._inside else super().space_for(size)

    def reserve_more(self, given: Sequence[Extent], space: int) -> tuple[Extent, ...]:
        """With room ahead, as much again as the file has."""
        ahead = max(total(given), _LEAST_AHEAD) // self.cluster_size * self.cluster_size
        return super().reserve_more(given, self.with_room_ahead(space, ahead))

    @property
    def _inside(self) -> int:
        """Up to how many bytes a file stands inside of its record."""
        return self.geometry.record - 512

    def store(
        self, path: str, size: int, chunks: Iterable[bytes], when: dt.datetime, modified: dt.datetime | None = None,
        lie: Sequence[Extent] | None = None, attributes: int = 0,
    ) -> NtfsNode:  # fmt: skip
        if ":" in path.rpartition("/")[2]:
            return self._store_stream(path, size, chunks, when, lie)
        parent, name = self.new_place(path)
        stream = self._new_stream(path, size, chunks, lie, attributes)
        state = self._new_file(False, when, modified or when, attributes)
        state.streams[""] = stream
        node = NtfsNode(name, parent, False, size, attributes=attributes, file=state)
        self._tell_journal(node, CREATED, when, closed=False)
        self._tell_journal(node, CREATED | EXTENDED | CLOSED, when, closed=False)
        self._enter(node, self._names_for(parent, name), when)
        self._put(state)
        return node

    def _store_stream(
        self, path: str, size: int, chunks: Iterable[bytes], when: dt.datetime, lie: Sequence[Extent] | None
    ) -> NtfsNode:
        file, _, name = path.rpartition(":")
        node = self.find(file)
        if node is None or node.folder or node.of is not None:
            raise VolumeError(f"{path}: there is no file {file} that could have a stream")
        check_name(name, title_of(self.file_system))
        if name in node.file.streams:
            raise VolumeError(f"{path}: there is already a stream of this name")
        node.file.streams[name] = self._new_stream(path, size, chunks, lie, 0)
        self._tell_journal(node, STREAM_CHANGED | STREAM_EXTENDED, when)
        self._put(node.file)
        return self._enter_stream(node, name)

    def _enter_stream(self, node: NtfsNode, name: str) -> NtfsNode:
        assert node.parent is not None
        size = node.file.streams[name].size
        new = NtfsNode(f"{node.name}:{name}", node.parent, False, size, of=node, file=node.file)
        node.parent.children[self.fold(new.name)] = new
        return new

    def _new_stream(
        self, path: str, size: int, chunks: Iterable[bytes], lie: Sequence[Extent] | None, attributes: int
    ) -> Stream:
        if size <= self._inside and not lie:
            data = b"".join(chunks)
            _check_length(path, len(data), size)
            return Stream(size, size, inside=data)
        taken = self.clusters.take(self.clusters_for(size)) if lie is None else self.extent_runs(lie)
        if attributes & COMPRESSED_FILE and self.cluster_size <= 4096:
            return self._packed_stream(path, size, chunks, taken)
        self.fill(path, self.run_extents(taken), size, chunks, grain=self.geometry.sector)
        return Stream(size, size, runs=list(taken))

    def _packed_stream(self, path: str, size: int, chunks: Iterable[bytes], taken: list[Run]) -> Stream:
        """Unit by unit: packed where that saves a cluster, a hole where all of it is zeros."""
        unit = UNIT * self.cluster_size
        free = [start + n for start, count in taken for n in range(count)]
        runs: list[tuple[int, int]] = []
        came = 0
        for data in in_units(chunks, unit):
            came += len(data)
            packed = lznt1.pack(data) if any(data) else b""
            if len(packed) > unit - self.cluster_size:
                packed = data
            count = -(-len(packed) // self.cluster_size) if packed is not data else UNIT
            if count > len(free):  # of a last unit that does not pack all clusters must be there
                free += [
                    n for start, length in self.clusters.take(count - len(free)) for n in range(start, start + length)
                ]
            own, free = free[:count], free[count:]
            self.write_over(self.run_extents([(n, 1) for n in own]), packed.ljust(count * self.cluster_size, b"\0"))
            runs += [(n, 1) for n in own]
            if count < UNIT:
                runs.append((-1, UNIT - count))
        _check_length(path, came, size)
        self.clusters.release(join_runs((n, 1) for n in free))
        return Stream(size, size, runs=joined_with_holes(runs), unit=UNIT)

    def grow(self, node: NtfsNode, size: int, chunks: Iterable[bytes], when: dt.datetime) -> None:
        stream = self._stream_of(node)
        before = stream.size
        if stream.unit:
            content = b"".join((*self.map(node).chunks(self.image), *chunks))
            self._replace(node, len(content), [content], when, None)
            return
        if stream.inside is not None:
            content = stream.inside + b"".join(chunks)
            _check_length(node.path, len(content), before + size)
            node.file.streams[node.stream] = self._new_stream(node.path, before + size, [content], None, 0)
        else:
            more = self.clusters_for(before + size) - sum(count for _, count in stream.runs)
            stream.runs = join_runs([*stream.runs, *self.clusters.take(more)])
            self.fill(node.path, self.run_extents(stream.runs), size, chunks, before, self.geometry.sector)
            stream.size = stream.valid = before + size
        self._changed(node, before + size, when, EXTENDED)

    def rewrite(self, node: NtfsNode, size: int, chunks: Iterable[bytes], when: dt.datetime, in_place: bool) -> None:
        old = self._stream_of(node).stored
        self._replace(node, size, chunks, when, old[0][0] if in_place and old else None)

    def _replace(
        self, node: NtfsNode, size: int, chunks: Iterable[bytes], when: dt.datetime, begin: int | None
    ) -> None:
        """New content in the place of the old; on clusters from `begin` on, where the old ones are free again."""
        content = list(chunks)
        old = self._stream_of(node)
        inside = size <= self._inside
        if begin is not None:
            self.clusters.release(old.stored)
        lie = () if inside else self.run_extents(self.clusters.take(self.clusters_for(size), begin))
        packed = COMPRESSED_FILE if old.unit else 0
        node.file.streams[node.stream] = self._new_stream(node.path, size, content, lie, packed)
        if begin is None:
            self.clusters.release(old.stored)
        self._changed(node, size, when, OVERWRITTEN if begin is not None else CUT | EXTENDED)

    def _changed(self, node: NtfsNode, size: int, when: dt.datetime, reason: int) -> None:
        state = node.file
        self._tell_journal(node, reason, when)
        if not node.stream:
            state.modified = when
        state.changed = when
        node.size = size
        self._put(state)
        self._refresh_names(state)

    def sharing(self, node: NtfsNode) -> list[NtfsNode]:
        return [one for one in node.file.nodes if isinstance(one, NtfsNode) and self._stands(one)]

    def _stands(self, node: NtfsNode) -> bool:
        return node.parent is not None and node.parent.children.get(self.fold(node.name)) is node

    def names_of(self, node: NtfsNode) -> int:
        return sum(named.space != DOS for named in node.file.names)

    def streams_of(self, node: NtfsNode) -> list[NtfsNode]:
        if node.parent is None or node.of is not None:
            return []
        inside = (node.parent.children.get(self.fold(f"{node.name}:{stream}")) for stream in node.file.streams)
        return [one for one in inside if one is not None and one.of is node]

    def link(self, node: NtfsNode, path: str, when: dt.datetime) -> NtfsNode:
        parent, name = self.new_place(path)
        new = NtfsNode(name, parent, False, node.size, attributes=node.attributes, file=node.file)
        node.file.changed = when
        self._tell_journal(new, LINKED, when)
        space = POSIX if self._habits != "windows" else WIN32
        self._enter(new, [Named(parent.file.reference, name, space)], when)
        self._put(node.file)
        for one in self.streams_of(node):
            self._enter_stream(new, one.stream)
        return new

    def rename(self, node: NtfsNode, path: str, when: dt.datetime) -> None:
        if node.of is not None or node.parent is None:
            raise VolumeError(f"{node.path}: a stream or the root cannot be renamed here")
        parent, name = self.new_home(node, path)
        check_name(name, title_of(self.file_system))
        streams, old = self.streams_of(node), node.parent
        for one in streams:
            del old.children[self.fold(one.name)]
        self._tell_journal(node, OLD_NAME, when, closed=False)
        self._leave(node, when, keep=False)
        node.name, node.parent = name, parent
        self._tell_journal(node, NEW_NAME, when)
        node.file.changed = when
        self._enter(node, self._names_for(parent, name), when)
        for one in streams:
            one.name, one.parent = f"{name}:{one.stream}", parent
            parent.children[self.fold(one.name)] = one
        self._put(node.file)

    def delete(self, node: NtfsNode, when: dt.datetime, habits: Habits = "linux") -> Evidence:
        parent, state = node.parent, node.file
        if parent is None or node.children:
            raise VolumeError(f"{node.path}: the root and folders that are not empty cannot be deleted")
        if node.of is not None:
            stream = state.streams.pop(node.stream)
            self.clusters.release(stream.stored)
            self._tell_journal(node, STREAM_CHANGED, when)
            del parent.children[self.fold(node.name)]
            self._put(state)
            return Evidence((), ())
        for one in self.streams_of(node):
            del parent.children[self.fold(one.name)]
        last = self.names_of(node) == 1
        evidence = self.evidence_after(node, habits)
        self._tell_journal(node, DELETED if last else LINKED, when)
        self._leave(node, when, keep=last)
        if not last:
            self._put(state)
            return evidence
        for stream in (*state.streams.values(), state.blocks, state.listing):
            self.clusters.release(stream.stored)
        for number, _ in (*state.extensions, (state.number, 0)):
            self._free_record(number)
        self._touched.pop(state.number, None)
        return evidence


def _check_length(path: str, came: int, size: int) -> None:
    if came != size:
        raise VolumeError(f"{path}: {came:,} bytes came where {size:,} were announced")
