"""The records of a volume that is written: its table, which grows, and what stands in it; the indexes of folders; and
clusters for what the volume keeps for itself."""

from __future__ import annotations

import datetime as dt
import heapq
from dataclasses import dataclass

import numpy as np

from sastrugi.media.extents import Extent, within
from sastrugi.media.raw import RawImage
from sastrugi.volumes.allocation import ClusterMap, join_runs
from sastrugi.volumes.ntfs.file_record import FileState, RecordPacker, Stream
from sastrugi.volumes.ntfs.index import Index
from sastrugi.volumes.ntfs.layout import (
    FILE_MAGIC,
    FIRST_FREE,
    MFT,
    RECORD,
    STRIDE,
    USA_AT,
    Geometry,
    mended_block,
    with_fixups,
)
from sastrugi.volumes.ntfs.log_write import LogWriter
from sastrugi.volumes.ntfs.plan import INDEX_BLOCK
from sastrugi.volumes.writer import PLAIN_ATTRIBUTES, Node, VolumeWriter

BATCH, _LEAST_BATCH = 64, 4
"""Records that are made at once."""
_FIXUP = 1


@dataclass(slots=True, eq=False)
class NtfsNode(Node):
    """A name; `file` is shared by all names and streams of a file."""

    file: FileState

    def __post_init__(self) -> None:
        self.file.nodes.append(self)


class RecordWriter(VolumeWriter[NtfsNode]):
    """Keeps the table of records, its mirror and bitmap, and the log that Windows writes of it."""

    _table: Stream
    _record_bits: Stream
    _mirrored: int
    """Records that stand a second time."""
    _states: list[FileState]
    """The volume's own files."""
    _log_extents: tuple[Extent, ...]

    def __init__(self, image: RawImage, geometry: Geometry) -> None:
        self.image, self.geometry = image, geometry
        self.cluster_size, self.where = geometry.cluster, geometry.where
        self.clusters = ClusterMap(0, geometry.clusters, geometry.cluster)
        self.data = Extent(geometry.offset, geometry.clusters * geometry.cluster)
        self._free_records: list[int] = []
        self._sequences: dict[int, int] = {}
        self._fixups: dict[int, int] = {}
        self._touched: dict[int, FileState] = {}
        self._log: LogWriter | None = None
        self._record_bits_changed = True
        self._packer = RecordPacker(
            geometry.record, geometry.cluster, self._take_record, self._free_record, self._put_list
        )
        self._index_room = self._packer.room // 2 - 128

    # -- clusters of the volume's own -------------------------------------------------------

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

    def _new_index(self) -> Index:
        step = INDEX_BLOCK // self.cluster_size if self.cluster_size <= INDEX_BLOCK else INDEX_BLOCK // STRIDE
        return Index(INDEX_BLOCK, self._index_room, step)

    # -- records ----------------------------------------------------------------------------

    def _place(self, number: int) -> tuple[Extent, ...]:
        """Where a record stands."""
        size = self.geometry.record
        return self._table.laid(self.run_extents).within(number * size, size)

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
            count = min(max(first // 64, _LEAST_BATCH), BATCH)  # drivers make few ahead: behind may be older ones
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
            need = self.clusters_for(index.length) - folder.blocks.laid(self.run_extents).size // self.cluster_size
            if need > 0:
                folder.blocks.grow(self.clusters.take(need), self.run_extents)
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
        return folder.blocks.laid(self.run_extents).within(number * index.size, index.size)

    def _touch(self, folder: FileState, when: dt.datetime) -> None:
        folder.modified = folder.changed = when
        self._touched[folder.number] = folder
        self._put_index(folder)
