"""Lay NTFS volumes down: format, store, make folders, link, grow, rename, delete.

A deletion clears the in-use flag of a file's records and counts their sequence numbers on; names, times and runs stay
(as both Linux drivers and Windows leave them). Small files stand inside of their records.
"""

from __future__ import annotations

import datetime as dt
import heapq
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

import numpy as np

from sastrugi.errors import VolumeError
from sastrugi.media import lznt1
from sastrugi.media.extents import Extent, within
from sastrugi.media.filemap import FileMap
from sastrugi.media.raw import RawImage
from sastrugi.volumes._fat_family.names import check_name
from sastrugi.volumes.allocation import PIECE, ClusterMap, Run, join_runs
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
    ChangeJournal,
    journal_clusters,
)
from sastrugi.volumes.ntfs.change_journal import LIMITS as JOURNAL_LIMITS
from sastrugi.volumes.ntfs.change_journal import RECORDS as JOURNAL_RECORDS
from sastrugi.volumes.ntfs.file_record import UNIT, FileState, Named, RecordPacker, Stream, file_flags, pack_name
from sastrugi.volumes.ntfs.index import Index, Item
from sastrugi.volumes.ntfs.layout import (
    BITMAP,
    BOOT,
    BOOT_SIGNATURE,
    DATA,
    DOS,
    EXTEND,
    FILE_FOLDER,
    FILE_MAGIC,
    FIRST_FREE,
    MFT,
    OEM,
    POSIX,
    RECORD,
    ROOT,
    STRIDE,
    USA_AT,
    VOLUME_INFORMATION,
    VOLUME_NAME,
    WIN32,
    WIN32_AND_DOS,
    Geometry,
    mended_block,
    stored_at,
    with_fixups,
)
from sastrugi.volumes.ntfs.log_write import LogWriter
from sastrugi.volumes.ntfs.names import with_short_name
from sastrugi.volumes.ntfs.plan import BOOT_BYTES, INDEX_BLOCK, log_size
from sastrugi.volumes.ntfs.system_files import attribute_definitions, extended, order_of, security, upper_bytes
from sastrugi.volumes.ntfs.units import in_units, joined_with_holes, unit_map
from sastrugi.volumes.registry import title_of
from sastrugi.volumes.writer import ATTRIBUTES, PLAIN_ATTRIBUTES, Evidence, Habits, Node, Trace, VolumeWriter, parts_of

_BATCH, _LEAST_BATCH = 64, 4
"""Records that are made at once."""
_MIRRORED = 4
_FIXUP, _MOST_LABEL = 1, 32
COMPRESSED_FILE = ATTRIBUTES["compressed"]
_SYSTEM = 6
"""Hidden and system."""


@dataclass(slots=True, eq=False)
class NtfsNode(Node):
    """A name; `file` is shared by all names and streams of a file."""

    file: FileState

    def __post_init__(self) -> None:
        self.file.nodes.append(self)


class NtfsWriter(VolumeWriter[NtfsNode]):
    """A mounted NTFS volume that can be written. Call `flush` to bring bitmaps and folder times to disk."""

    file_system = "ntfs"
    fatal_structures = frozenset({"boot", "mft"})
    spare_structures = frozenset({"backup-boot", "mft-mirror", "logfile", "secure", "attrdef"})

    def __init__(
        self, image: RawImage, geometry: Geometry, label: str, serial: int, when: dt.datetime, habits: Habits
    ) -> None:
        """Format the range of `geometry` (quick: only what the volume needs itself is written)."""
        self.image, self.geometry, self._habits = image, geometry, habits
        self.cluster_size, self.where = geometry.cluster, geometry.where
        self.clusters = ClusterMap(0, geometry.clusters, geometry.cluster)
        self.data = Extent(geometry.offset, geometry.clusters * geometry.cluster)
        self._free_records: list[int] = []
        self._sequences: dict[int, int] = {}
        self._fixups: dict[int, int] = {}
        self._touched: dict[int, FileState] = {}
        self._folders: dict[int, FileState] = {}
        self._log: LogWriter | None = None
        self._journal: ChangeJournal | None = None
        self._record_bits_changed = True
        self._packer = RecordPacker(
            geometry.record, geometry.cluster, self._take_record, self._free_record, self._put_list
        )
        self._index_room = self._packer.room // 2 - 128
        self._format(label, serial, when)

    # -- formatting -------------------------------------------------------------------------

    def _format(self, label: str, serial: int, when: dt.datetime) -> None:
        g, image = self.geometry, self.image
        if len(label.encode("utf-16-le")) > 2 * _MOST_LABEL:
            raise VolumeError(f"'{label}': an NTFS label has at most {_MOST_LABEL} characters")
        self.image.zero(g.offset, max(BOOT_BYTES, g.cluster))
        self._system: dict[str, FileState] = {}
        boot = self._fixed(0, BOOT_BYTES)
        bitmap_bytes = -(-g.clusters // 64) * 8
        self._mirrored = max(_MIRRORED, g.cluster // g.record)  # a whole cluster, as the drivers want it
        first_records = max(_BATCH, self._mirrored)
        mirror = self._fixed(g.mirror, self._mirrored * g.record)
        table = self._fixed(g.mft, first_records * g.record)
        zone = g.mft + self.clusters_for(self.data.length // 8)
        self.clusters.last = min(zone, g.clusters // 4) + table.runs[0][1]
        log = self._claimed(log_size(self.where.length))
        self._log_extents = self.run_extents(log.runs)
        if self._habits == "windows":
            self._log = LogWriter(log.size, self._put_log)
        else:  # as the system's mkntfs leaves it: to be made by the first driver that writes one
            for extent in self._log_extents:
                for at in range(extent.offset, extent.end, 1 << 20):
                    image.write(at, b"\xff" * min(1 << 20, extent.end - at))
        self._bits = self._claimed(bitmap_bytes)
        self._record_bits = self._claimed(max(g.cluster, 8))
        self._record_bits.size = self._record_bits.valid = 8
        definitions = self._written(attribute_definitions())
        cases = self._written(upper_bytes())
        descriptors, views = security(INDEX_BLOCK, self._index_room)
        secured = self._written(descriptors)
        bad = Stream(g.clusters * g.cluster, 0, runs=[(-1, g.clusters)])
        nothing = Stream(inside=b"")
        self._table = table
        table.size = table.valid = 0
        self._make_records(first_records)
        version = bytes(8) + bytes([3, 1, 0, 0])
        files: tuple[tuple[str, dict[str, Stream]], ...] = (
            ("$MFT", {"": table}), ("$MFTMirr", {"": mirror}), ("$LogFile", {"": log}), ("$Volume", {"": nothing}),
            ("$AttrDef", {"": definitions}), (".", {}), ("$Bitmap", {"": self._bits}), ("$Boot", {"": boot}),
            ("$BadClus", {"": Stream(inside=b""), "$Bad": bad}), ("$Secure", {"$SDS": secured}),
            ("$UpCase", {"": cases}), ("$Extend", {}),
        )  # fmt: skip
        self._states = [
            FileState(n, max(n, 1), not streams, when, when, when, when, _SYSTEM, [], streams, cluster=g.cluster)
            for n, (_, streams) in enumerate(files)
        ]
        for n in range(len(files), 24):
            spare = FileState(n, n, False, when, when, when, when, _SYSTEM, streams={"": Stream(inside=b"")})
            self._states.append(spare)
        root = self._states[ROOT]
        self._states[MFT].outside.append((BITMAP, "", self._record_bits))
        self._states[3].more = [(VOLUME_NAME, "", label.encode("utf-16-le")), (VOLUME_INFORMATION, "", version)]
        self._states[9].views = views
        for state in (root, self._states[EXTEND]):
            state.index = self._new_index()
        self.root = NtfsNode("", None, True, 0, file=root)
        self._folders[root.reference] = root
        for state, (name, _) in zip(self._states, files, strict=False):
            named = Named(root.reference, name, WIN32_AND_DOS)
            state.names.append(named)
            assert root.index is not None
            root.index.insert(Item(order_of(name), pack_name(state, named), state.reference))
            self._system[name] = state
        self._extend(when)
        for number in range(self._first_given, first_records):
            heapq.heappush(self._free_records, number)
        for state in (root, self._states[EXTEND]):
            self._put_index(state)
        for state in self._states:
            self._put(state)
        self._write_boot(serial)
        self.flush()

    def _extend(self, when: dt.datetime) -> None:
        """The files in $Extend; Windows keeps a journal of changes there."""
        files: dict[str, FileState] = {}
        above = self._states[EXTEND]
        for name, views in extended(INDEX_BLOCK, self._index_room).items():
            files[name] = FileState(0, 1, False, when, when, when, when, _SYSTEM, views=views)
        if self._habits == "windows":
            count, step = journal_clusters(self.where.length, self.cluster_size)
            claimed = self._claimed(count * self.cluster_size)
            self._journal = ChangeJournal(claimed.runs, step, self.cluster_size, when, self._put_journal)
            streams = {JOURNAL_LIMITS: Stream(), JOURNAL_RECORDS: self._journal.records}
            files["$UsnJrnl"] = FileState(0, 1, False, when, when, when, when, _SYSTEM, [], streams)
        for state, (name, made) in zip(range(FIRST_FREE, FIRST_FREE + len(files)), files.items(), strict=True):
            made.number, made.cluster = state, self.cluster_size
            named = Named(above.reference, name, WIN32_AND_DOS)
            made.names.append(named)
            assert above.index is not None
            above.index.insert(Item(order_of(name), pack_name(made, named), made.reference))
            self._states.append(made)
            self._system[name] = made
        self._first_unused = FIRST_FREE + len(files)
        self._first_given = self._first_unused if self._habits == "windows" else 64
        self._close_journal()

    def _put_journal(self, stream: Stream, place: int, data: bytes) -> None:
        self.write_over(within(self.run_extents(stream.stored), place, len(data)), data)

    def _close_journal(self) -> None:
        """What the journal's own record tells of it."""
        if self._journal is not None and self._journal.changed:
            self._journal.changed = False
            state, limits = self._system["$UsnJrnl"], self._journal.limits
            state.streams[JOURNAL_LIMITS] = Stream(len(limits), len(limits), inside=limits)
            self._put(state)

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

    def _put_log(self, place: int, data: bytes) -> None:
        self.write_over(within(self._log_extents, place, len(data)), data)

    def _fixed(self, first: int, size: int) -> Stream:
        """A file of the volume's own at a cluster of its own."""
        runs = [(first, self.clusters_for(size))]
        self.clusters.mark(runs, True)
        return Stream(size, size, runs=list(runs))

    def _claimed(self, size: int) -> Stream:
        """Clusters for one of the volume's own files, zeroed."""
        runs = self.clusters.take(self.clusters_for(size))
        for extent in self.run_extents(runs):
            self.image.zero(*extent)
        return Stream(size, size, runs=list(runs))

    def _written(self, content: bytes) -> Stream:
        stream = self._claimed(len(content))
        self.write_over(self.run_extents(stream.runs), content)
        return stream

    def _write_boot(self, serial: int) -> None:
        g = self.geometry
        boot = np.zeros((), BOOT)
        boot["jump"], boot["oem"], boot["sector"] = (0xEB, 0x52, 0x90), np.void(OEM), g.sector
        per_cluster = g.cluster // g.sector
        boot["cluster_sectors"] = per_cluster if per_cluster <= 0x80 else 256 - (per_cluster.bit_length() - 1)
        boot["media"], boot["track_sectors"], boot["heads"] = 0xF8, 63, 255
        boot["hidden"], boot["drive"], boot["extended"] = g.offset // g.sector & 0xFFFFFFFF, 0x80, 0x80
        boot["sectors"], boot["mft"], boot["mirror"] = g.sectors, g.mft, g.mirror
        for name, size in (("record_clusters", g.record), ("index_clusters", g.index)):
            boot[name] = size // g.cluster if size >= g.cluster else -(size.bit_length() - 1)
        boot["serial"] = serial | (serial ^ 0x5A5A5A5A) << 32
        data = boot.tobytes().ljust(510, b"\xf4") + BOOT_SIGNATURE.to_bytes(2, "little")
        self.image.write(g.offset, data.ljust(g.sector, b"\0"))
        self.image.write(g.offset + g.sectors * g.sector, data.ljust(g.sector, b"\0"))

    def _new_index(self) -> Index:
        step = INDEX_BLOCK // self.cluster_size if self.cluster_size <= INDEX_BLOCK else INDEX_BLOCK // STRIDE
        return Index(INDEX_BLOCK, self._index_room, step)

    # -- records ----------------------------------------------------------------------------

    def _place(self, number: int) -> tuple[Extent, ...]:
        """Where a record stands."""
        size = self.geometry.record
        extents = self._table.placed(self.run_extents)
        first = extents[0]
        if (number + 1) * size <= first.length:  # of most volumes the table is one piece
            return (Extent(first.offset + number * size, size),)
        return within(extents, number * size, size)

    def _make_records(self, count: int) -> None:
        """Further records at the end of the table, not in use."""
        g, first = self.geometry, self._table.size // self.geometry.record
        need = self.clusters_for((first + count) * g.record) - sum(n for _, n in self._table.runs)
        if need > 0:
            step = max(need, min(self.clusters_for(self._table.size // 8), self.clusters.free // 8))
            last = self._table.runs[-1][0] + self._table.runs[-1][1]
            before = self.clusters.last
            self._table.runs = join_runs([*self._table.runs, *self.clusters.take(step, last)])
            self.clusters.last = before
        head = np.zeros((), RECORD)
        head["magic"], head["usa"] = int.from_bytes(FILE_MAGIC, "little"), USA_AT
        head["usa_count"], head["sequence"] = g.record // STRIDE + 1, 1
        head["attributes"], head["used"] = self._packer.first, self._packer.first + 8
        head["allocated"] = g.record
        blank = bytearray(
            with_fixups((head.tobytes().ljust(self._packer.first, b"\0") + b"\xff" * 4).ljust(g.record, b"\0"), _FIXUP)
        )
        rows = np.tile(np.frombuffer(blank, "u1"), (count, 1))
        rows[:, 0x2C:0x30] = np.arange(first, first + count, dtype="<u4").view("u1").reshape(-1, 4)
        self.write_over(within(self.run_extents(self._table.runs), first * g.record, count * g.record), rows.tobytes())
        self._mirror(first, rows.tobytes())
        self._table.size = self._table.valid = (first + count) * g.record
        bits = -(-(first + count) // 64) * 8
        have = sum(n for _, n in self._record_bits.runs) * g.cluster
        if bits > have:
            runs = self.clusters.take(1)
            for extent in self.run_extents(runs):
                self.image.zero(*extent)
            self._record_bits.runs = join_runs([*self._record_bits.runs, *runs])
        self._record_bits.size = self._record_bits.valid = bits

    def _take_record(self) -> tuple[int, int]:
        """A free record, and its sequence number."""
        if not self._free_records:
            first = self._table.size // self.geometry.record
            count = min(max(first // 64, _LEAST_BATCH), _BATCH)  # drivers make few ahead: behind may be older ones
            self._make_records(count)
            for number in range(first, first + count):
                heapq.heappush(self._free_records, number)
            self._put(self._states[MFT])
        number = heapq.heappop(self._free_records)
        self._record_bits_changed = True
        return number, self._sequences.get(number, 1)

    def _free_record(self, number: int) -> None:
        """Mark a record as free; its bytes stay."""
        place = self._place(number)
        data = mended_block(self.image.read_extents(place))
        if data is not None:  # else it was damaged past this writer
            record = bytearray(data)
            sequence = int.from_bytes(record[0x10:0x12], "little") % 0xFFFF + 1
            self._sequences[number] = sequence
            record[0x10:0x14] = sequence.to_bytes(2, "little") + bytes(2)
            record[0x16] &= 0xFE
            whole = with_fixups(bytes(record), self._next_fixup(number))
            self.write_over(place, whole)
            self._mirror(number, whole)
        heapq.heappush(self._free_records, number)
        self._record_bits_changed = True

    def _put(self, state: FileState) -> None:
        """Write all records of a file, and again (where they changed) the index blocks that name it."""
        records = self._packer.records(state)
        state.written = [(number, attributes) for number, _, _, attributes in records]
        state.logged.clear()
        state.logged_content.clear()
        for number, sequence, base, attributes in records:
            used = self._packer.packed(number, sequence, base, attributes, state)
            data = with_fixups(used.ljust(self.geometry.record, b"\0"), self._next_fixup(number))
            self.write_over(self._place(number), data)
            if self._log is not None and number >= FIRST_FREE:
                self._tell_log(state, number, used)
            self._mirror(number, data)

    def _tell_log(self, state: FileState, number: int, data: bytes) -> None:
        assert self._log is not None
        logged = self._log.record_made(number, number * self.geometry.record, data, self.cluster_size)
        for kept, parts in ((state.logged, (*logged.head, *logged.content)), (state.logged_content, logged.content)):
            kept.append(tuple(e for place, count in parts for e in within(self._log_extents, place, count)))

    def _put_list(self, stream: Stream, data: bytes) -> None:
        """Write the list of a file's attributes on clusters of its own; those of an empty one are free again."""
        need, have = self.clusters_for(len(data)), sum(count for _, count in stream.runs)
        if not data:
            self.clusters.release(stream.runs)
            stream.runs = []
        elif need > have:
            before = self.clusters.last
            stream.runs = join_runs([*stream.runs, *self.clusters.take(need - have)])
            self.clusters.last = before
        stream.size = stream.valid = len(data)
        self.write_over(self.run_extents(stream.runs), data.ljust(-(-len(data) // STRIDE) * STRIDE, b"\0"))

    def _next_fixup(self, number: int) -> int:
        """Drivers count with every writing of a record."""
        self._fixups[number] = found = self._fixups.get(number, 0) % 0xFFFE + 1
        return found

    def _mirror(self, number: int, data: bytes) -> None:
        """Write a record, or the first ones, to where the first ones stand a second time."""
        room = (self._mirrored - number) * self.geometry.record
        if room > 0:
            self.image.write(self.geometry.at(self.geometry.mirror) + number * self.geometry.record, data[:room])

    def _new_file(self, folder: bool, when: dt.datetime, modified: dt.datetime, attributes: int) -> FileState:
        number, sequence = self._take_record()
        return FileState(
            number,
            sequence,
            folder,
            when,
            modified,
            when,
            when,
            attributes & PLAIN_ATTRIBUTES,
            cluster=self.cluster_size,
        )

    # -- indexes ----------------------------------------------------------------------------

    def _put_index(self, folder: FileState) -> None:
        """Write what changed of a folder's index."""
        index = folder.index
        assert index is not None
        if index.length > folder.blocks.size:
            need = self.clusters_for(index.length) - sum(n for _, n in folder.blocks.runs)
            if need > 0:
                folder.blocks.runs = join_runs([*folder.blocks.runs, *self.clusters.take(need)])
            folder.blocks.size = folder.blocks.valid = index.length
            index.root_changed = True
        for block in index.changed.values():
            self.write_over(self._block_place(folder, block.vcn), index.block_bytes(block))
        index.changed.clear()
        if index.root_changed:
            index.root_changed = False
            self._put(folder)
            self._touched.pop(folder.number, None)

    def _block_place(self, folder: FileState, vcn: int) -> tuple[Extent, ...]:
        index = folder.index
        assert index is not None
        number = vcn // (index._step)
        return within(folder.blocks.placed(self.run_extents), number * index.size, index.size)

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

    def _touch(self, folder: FileState, when: dt.datetime) -> None:
        folder.modified = folder.changed = when
        self._touched[folder.number] = folder
        self._put_index(folder)

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

    # -- making and storing -----------------------------------------------------------------

    def fold(self, name: str) -> str:
        return order_of(name)[0].decode("utf-16-be", "surrogatepass")

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

    # -- changing ---------------------------------------------------------------------------

    def _stream_of(self, node: NtfsNode) -> Stream:
        return node.file.streams[node.stream]

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
        return [one for one in node.parent.children.values() if one.of is node] if node.parent is not None else []

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

    # -- what tells of a file ---------------------------------------------------------------

    def map(self, node: NtfsNode) -> FileMap:
        if node.folder:
            return FileMap.of(self.run_extents(node.file.blocks.runs))
        stream = self._stream_of(node)
        if stream.inside is not None:
            return FileMap.of(self._inside_at(node, len(stream.inside)))
        extents = self.run_extents(stream.stored)
        if stream.unit:
            return unit_map(stream, self.cluster_size, self.run_extents)
        return FileMap.of(extents).head(stream.size)

    def _inside_at(self, node: NtfsNode, size: int) -> tuple[Extent, ...]:
        """Where the bytes of a stream inside of its record stand."""
        found = self._inside_record(node)
        if found is None:
            return ()
        record = self._place(node.file.written[found[0]][0])
        parts = stored_at(0, 0, USA_AT, found[1], size)
        return tuple(piece for part in parts for piece in within(record, part.offset, part.length))

    def _inside_record(self, node: NtfsNode) -> tuple[int, int] | None:
        """In which of a file's records a stream stands, and at which byte of it."""
        for n, (_, attributes) in enumerate(node.file.written):
            at = 0
            while attributes[at : at + 4] != b"\xff\xff\xff\xff":
                length = int.from_bytes(attributes[at + 4 : at + 8], "little")
                chars, name_at = attributes[at + 9], int.from_bytes(attributes[at + 10 : at + 12], "little")
                name = attributes[at + name_at : at + name_at + 2 * chars].decode("utf-16-le") if chars else ""
                if attributes[at] == DATA and name == node.stream:
                    return n, self._packer.first + at + int.from_bytes(attributes[at + 20 : at + 22], "little")
                at += length
        return None

    def record(self, node: NtfsNode) -> tuple[Extent, ...]:
        numbers = (node.file.number, *(number for number, _ in node.file.extensions))
        return tuple(part for number in numbers for part in self._place(number))

    def needs(self, node: NtfsNode) -> tuple[Extent, ...]:
        return (*self.record(node), *self.run_extents(node.file.listing.runs))

    def evidence(self, node: NtfsNode) -> Evidence:
        where, told = self.record(node), self._told_by_log(node)
        own = (Trace("place", "whole", where), Trace("name", "full", where))
        return Evidence(where, (*own, *told.traces), told.copies)

    def _told_by_log(self, node: NtfsNode) -> Evidence:
        """What the log tells of a file as it is now, if all of that stands."""
        state = node.file
        where = tuple(part for one in state.logged for part in one)
        if len(state.logged) != len(state.written) or not state.logged or state.number < FIRST_FREE:
            return Evidence((), ())
        for (_, attributes), content in zip(state.written, state.logged_content, strict=True):
            if not self.image.read_extents(content).endswith(attributes):
                return Evidence((), ())  # newer records of the log stand there
        copies: tuple[FileMap, ...] = ()
        stream = None if node.folder else state.streams.get(node.stream)
        if stream is not None and stream.inside:
            inside = self._inside_record(node)
            if inside is not None:
                index, start = inside
                copies = (FileMap.of(within(state.logged_content[index], start, len(stream.inside))),)
        traces = (Trace("place", "whole", where, "log"), Trace("name", "full", where, "log"))
        return Evidence(where, traces, copies)

    def evidence_after(self, node: NtfsNode, habits: Habits) -> Evidence:
        if self.names_of(node) > 1:
            return Evidence((), ())
        return self.evidence(node)

    def structures(self) -> dict[str, tuple[Extent, ...]]:
        g = self.geometry
        names = {"logfile": "$LogFile", "attrdef": "$AttrDef", "bitmap": "$Bitmap", "upcase": "$UpCase"}
        found = {
            "boot": (Extent(g.offset, min(BOOT_BYTES, self.data.length)),),
            "backup-boot": (Extent(g.offset + g.sectors * g.sector, g.sector),),
            "mft": self._place(0),
            "mft-mirror": self.run_extents(self._system["$MFTMirr"].streams[""].runs),
            **{key: self.run_extents(self._system[name].streams[""].runs) for key, name in names.items()},
            "secure": self.run_extents(self._system["$Secure"].streams["$SDS"].runs),
        }
        root = self.run_extents(self.root.file.blocks.runs)
        return found | ({"root": root} if root else {})

    def flush(self) -> None:
        for state in list(self._touched.values()):
            self._put(state)
        self._touched.clear()
        self._close_journal()
        if self._log is not None:
            self._log.close()
        length = -(-self.geometry.clusters // 64) * 8
        extents = self.run_extents(self._bits.runs)
        for index in sorted(self.clusters.changed):
            bits = np.packbits(self.clusters.piece(index), bitorder="little").tobytes()
            at = index * PIECE // 8
            bits = bits[: max(min(len(bits), length - at), 0)]
            if 8 * (at + len(bits)) > self.geometry.clusters:  # what is behind the last cluster counts as used
                ones = bytearray(bits)
                for n in range(self.geometry.clusters - 8 * at, 8 * len(bits)):
                    ones[n // 8] |= 1 << n % 8
                bits = bytes(ones)
            self.write_over(within(extents, at, len(bits)), bits)
        self.clusters.changed.clear()
        if self._record_bits_changed:
            self._record_bits_changed = False
            used = np.zeros(8 * self._record_bits.size, bool)
            used[: self._table.size // self.geometry.record] = True
            used[self._free_records] = False
            used[self._first_unused : self._first_given] = False
            self.write_over(self.run_extents(self._record_bits.runs), np.packbits(used, bitorder="little").tobytes())


def _check_length(path: str, came: int, size: int) -> None:
    if came != size:
        raise VolumeError(f"{path}: {came:,} bytes came where {size:,} were announced")
