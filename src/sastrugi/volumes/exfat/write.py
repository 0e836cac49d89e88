"""Lay exFAT volumes down: format, store, make folders, grow, rename, delete.

A file in one piece carries the no-chain flag and has no entries in the FAT; one in several pieces is chained there. A
deletion clears the in-use bit of each entry of the set and the bits of the bitmap; the FAT is left as it is, so that a
chain stays (Linux, fs/exfat: exfat_unlink, exfat_free_cluster). A rename that needs no more entries than before is
written over the old name (exfat_rename_file).
"""

from __future__ import annotations

import datetime as dt

import numpy as np
from numpy.typing import NDArray

from sastrugi.errors import VolumeError
from sastrugi.media.extents import Extent, cut, within
from sastrugi.media.raw import RawImage
from sastrugi.volumes._fat_family.fat_table import ChainTable
from sastrugi.volumes._fat_family.writer import EntryNode, EntryTableWriter
from sastrugi.volumes.allocation import PIECE, ClusterMap, Run
from sastrugi.volumes.exfat.layout import (
    ALLOCATION_POSSIBLE,
    ATTR_ARCHIVE,
    ATTR_DIRECTORY,
    BITMAP_ENTRY,
    BOOT_REGION_SECTORS,
    BOOT_SECTOR,
    BOOT_SIGNATURE,
    BOOT_SIGNATURE_OFFSET,
    CHARS_PER_NAME_ENTRY,
    CHECKSUM_SECTOR,
    END_OF_CHAIN,
    ENTRY_SIZE,
    EXTENDED_BOOT_SIGNATURE,
    FILE_ENTRY,
    FILE_SYSTEM_NAME,
    FIRST_CLUSTER,
    IN_USE,
    LABEL_ENTRY,
    MAX_FOLDER_BYTES,
    MAX_LABEL,
    MEDIA_ENTRY,
    NAME_ENTRY,
    NO_FAT_CHAIN,
    STREAM_ENTRY,
    TYPE_BITMAP,
    TYPE_FILE,
    TYPE_LABEL,
    TYPE_NAME,
    TYPE_STREAM,
    TYPE_UPCASE,
    UPCASE_ENTRY,
    UTC,
    Geometry,
    boot_checksum,
    encode_time,
    name_hash,
    set_checksum,
    table_checksum,
    upper_name,
)
from sastrugi.volumes.exfat.upcase import table_bytes, upcase
from sastrugi.volumes.writer import Evidence, Habits, Trace

_PERCENT_IN_USE = 112


class ExfatWriter(EntryTableWriter):
    """A mounted exFAT volume that can be written. Call `flush` to bring bitmap and FAT to disk."""

    file_system = "exfat"
    max_file_size = (1 << 63) - 1
    max_file_size_words = "no file system holds that"
    max_folder_entries = MAX_FOLDER_BYTES // ENTRY_SIZE
    fatal_structures = frozenset({"boot", "upcase"})
    spare_structures = frozenset({"backup-boot"})

    def __init__(self, image: RawImage, geometry: Geometry, label: str, serial: int, when: dt.datetime) -> None:
        """Format the range of `geometry` (quick: boot regions, FAT, bitmap, up-case table and root are written)."""
        clusters = ClusterMap(FIRST_CLUSTER, geometry.clusters, geometry.cluster_size)
        super().__init__(image, clusters, geometry.cluster_size, geometry.sector)
        self.geometry = geometry
        self.where, self.data = geometry.where, geometry.data
        image.zero(geometry.offset, self.data.offset - geometry.offset)
        self._table = ChainTable(
            image, [geometry.fat()], 32, (MEDIA_ENTRY, END_OF_CHAIN), END_OF_CHAIN, lambda e: e.astype("<u4").tobytes()
        )
        bitmap_bytes = -(-geometry.clusters // 8)
        table = table_bytes()
        self._bitmap = self.run_extents(self._claim(bitmap_bytes))
        self._upcase_runs = self._claim(len(table))
        upcase_place = self.run_extents(self._upcase_runs)[0]
        self.image.write(upcase_place.offset, table)
        self.root.runs, self.root.size, self.root.chained = self._claim(1), self.cluster_size, True
        self.root.table = bytearray(self.cluster_size)
        self._write_boot(serial)
        entries = [_label_entry(label)] if label else []
        bitmap = np.zeros((), BITMAP_ENTRY)
        bitmap["type"], bitmap["first_cluster"], bitmap["length"] = TYPE_BITMAP, FIRST_CLUSTER, bitmap_bytes
        cases = np.zeros((), UPCASE_ENTRY)
        cases["type"], cases["checksum"] = TYPE_UPCASE, table_checksum(table)
        cases["first_cluster"], cases["length"] = self._upcase_runs[0][0], len(table)
        self._put(self.root, 0, b"".join([*entries, bitmap.tobytes(), cases.tobytes()]))
        self.flush()

    def _claim(self, size: int) -> list[Run]:
        """Clusters for one of the volume's own structures: zeroed, and chained in the FAT as these always are."""
        runs = self.clusters.take(self.clusters_for(size))
        for extent in self.run_extents(runs):
            self.image.zero(*extent)
        self._table.link(runs)
        return runs

    def _write_boot(self, serial: int) -> None:
        g = self.geometry
        boot = np.zeros((), BOOT_SECTOR)
        boot["jump"], boot["name"] = (0xEB, 0x76, 0x90), np.void(FILE_SYSTEM_NAME)
        boot["partition_offset"], boot["volume_length"] = g.offset // g.sector, g.total_sectors
        boot["fat_offset"], boot["fat_length"] = g.fat_offset, g.fat_sectors
        boot["heap_offset"], boot["clusters"], boot["root_cluster"] = g.heap_offset, g.clusters, g.root_cluster
        boot["serial"], boot["revision"], boot["fats"], boot["drive"] = serial, 0x0100, 1, 0x80
        boot["sector_shift"] = g.sector.bit_length() - 1
        boot["cluster_shift"] = g.sectors_per_cluster.bit_length() - 1
        # Boot code of nothing but halts, as section 3.1.18 recommends.
        first = boot.tobytes().ljust(BOOT_SIGNATURE_OFFSET, b"\xf4") + BOOT_SIGNATURE
        extended = EXTENDED_BOOT_SIGNATURE.rjust(g.sector, b"\0")
        region = first.ljust(g.sector, b"\0") + 8 * extended + bytes(2 * g.sector)
        checksum = boot_checksum(region, g.sector).to_bytes(4, "little")
        region += checksum * (g.sector // 4)
        assert len(region) == (CHECKSUM_SECTOR + 1) * g.sector
        for copy in range(2):
            self.image.write(g.offset + copy * len(region), region)

    def flush(self) -> None:
        self._write_touched()
        self._table.flush()
        length = -(-self.geometry.clusters // 8)
        for index in sorted(self.clusters.changed):
            bits = np.packbits(self.clusters.piece(index), bitorder="little").tobytes()
            at = index * PIECE // 8
            for extent in within(self._bitmap, at, min(len(bits), length - at)):
                self.image.write(extent.offset, bits[: extent.length])
                bits = bits[extent.length :]
        self.clusters.changed.clear()
        percent = (self.geometry.clusters - self.clusters.free) * 100 // self.geometry.clusters
        self.image.write(self.geometry.offset + _PERCENT_IN_USE, bytes([percent]))

    def fold(self, name: str) -> str:
        return upper_name(name, upcase()).decode("utf-16-le", "surrogatepass")

    def structures(self) -> dict[str, tuple[Extent, ...]]:
        g = self.geometry
        region = BOOT_REGION_SECTORS * g.sector
        return {
            "boot": (Extent(g.offset, region),),
            "backup-boot": (Extent(g.offset + region, region),),
            "fat1": (g.fat(),),
            "bitmap": cut(self._bitmap, -(-g.clusters // 8)),
            "upcase": self.run_extents(self._upcase_runs),
            "root": self.run_extents(self.root.runs),
        }

    # -- how entries look -------------------------------------------------------------------

    def _free_slot(self, first_bytes: NDArray[np.uint8]) -> NDArray[np.bool_]:
        free: NDArray[np.bool_] = first_bytes < IN_USE
        return free

    def _new_record(self, node: EntryNode, when: dt.datetime, modified: dt.datetime) -> bytes:
        entry = np.zeros((), FILE_ENTRY)
        entry["type"] = TYPE_FILE
        entry["attributes"] = (ATTR_DIRECTORY if node.folder else ATTR_ARCHIVE) | node.attributes
        entry["created"], entry["created_10ms"] = encode_time(when)
        entry["modified"], entry["modified_10ms"] = encode_time(modified)
        entry["accessed"] = encode_time(when)[0]
        entry["created_zone"] = entry["modified_zone"] = entry["accessed_zone"] = UTC
        return _entry_set(entry, self._stream(node), node.name)

    def _stream(self, node: EntryNode) -> NDArray[np.void]:
        stream = np.zeros((), STREAM_ENTRY)
        stream["type"] = TYPE_STREAM
        no_chain = NO_FAT_CHAIN if node.runs and not node.chained else 0
        stream["flags"] = ALLOCATION_POSSIBLE | no_chain
        stream["length"] = stream["valid_length"] = node.size
        stream["first_cluster"] = node.runs[0][0] if node.runs else 0
        return stream

    def _renamed_record(self, node: EntryNode, name: str, parent: EntryNode) -> bytes:
        entry = np.frombuffer(bytes(self._record_bytes(node)[:ENTRY_SIZE]), FILE_ENTRY)[0].copy()
        return _entry_set(entry, self._stream(node), name)

    def _move_record(self, node: EntryNode, parent: EntryNode, data: bytes) -> None:
        count = len(data) // ENTRY_SIZE
        if parent is not node.parent or count > node.slots:
            super()._move_record(node, parent, data)
            return
        for slot in range(node.first_slot + count, node.first_slot + node.slots):
            parent.table[slot * ENTRY_SIZE] &= ~IN_USE & 0xFF
        self._write_table(parent, (node.first_slot + count) * ENTRY_SIZE, (node.slots - count) * ENTRY_SIZE)
        self._put(parent, node.first_slot, data)
        parent.search_from = min(parent.search_from, node.first_slot + count)
        node.slots = count

    def _refresh(self, node: EntryNode, when: dt.datetime | None, accessed: bool = False) -> None:
        entry = np.frombuffer(bytes(self._record_bytes(node)[:ENTRY_SIZE]), FILE_ENTRY)[0].copy()
        if when is not None:
            entry["modified"], entry["modified_10ms"] = encode_time(when)
            if accessed:
                entry["accessed"] = entry["modified"]
        assert node.parent is not None
        self._put(node.parent, node.first_slot, _entry_set(entry, self._stream(node), node.name))

    def _folder_grew(self, folder: EntryNode) -> None:
        self._refresh(folder, None)

    def _first_table(self, node: EntryNode, when: dt.datetime) -> bytearray:
        return bytearray(self.cluster_size)

    def _erase(self, node: EntryNode, habits: Habits | None) -> None:
        parent = node.parent
        assert parent is not None
        for slot in range(node.first_slot, node.first_slot + node.slots):
            parent.table[slot * ENTRY_SIZE] &= ~IN_USE & 0xFF
        self._write_table(parent, node.first_slot * ENTRY_SIZE, node.slots * ENTRY_SIZE)

    # -- how clusters are linked ------------------------------------------------------------

    def _link(self, node: EntryNode) -> None:
        node.chained = bool(node.runs) and (node.chained or len(node.runs) > 1)
        if node.chained:
            self._table.link(node.runs)

    def _link_on(self, folder: EntryNode, last: int, more: list[Run]) -> None:
        if folder.chained:
            self._table.link([(last, 1), *more])
        else:  # one run so far: nothing of it is in the table
            self._link(folder)

    def _unlink(self, node: EntryNode, runs: list[Run], habits: Habits) -> None:
        """No driver's habit that we know of clears the FAT here."""

    def _chain(self, node: EntryNode) -> tuple[Extent, ...]:
        return self._table.entries_of(node.runs, 0) if node.chained else ()

    # -- what tells of a file ---------------------------------------------------------------

    def evidence(self, node: EntryNode) -> Evidence:
        record = self.record(node)
        placing = cut(record, 2 * ENTRY_SIZE)
        whole = [Trace("place", "whole", placing)] if len(node.runs) <= 1 else []
        if node.chained:
            whole.append(Trace("place", "whole", (*placing, *self._table.entries_of(node.runs, 0)), "chain"))
        return Evidence(
            record,
            (
                *whole,
                Trace("place", "start", placing),
                Trace("name", "full", within(record, ENTRY_SIZE, (node.slots - 1) * ENTRY_SIZE)),
                Trace("name", "near", within(record, 2 * ENTRY_SIZE, ENTRY_SIZE)),
            ),
        )

    def evidence_after(self, node: EntryNode, habits: Habits) -> Evidence:
        return self.evidence(node)


def _entry_set(entry: NDArray[np.void], stream: NDArray[np.void], name: str) -> bytes:
    """File, stream and name entries as they stand on disk, with name hash and set checksum."""
    units = np.frombuffer(name.encode("utf-16-le", "surrogatepass"), "<u2")
    count = -(-len(units) // CHARS_PER_NAME_ENTRY)
    names = np.zeros(count, NAME_ENTRY)
    names["type"] = TYPE_NAME
    padded = np.zeros(count * CHARS_PER_NAME_ENTRY, "<u2")
    padded[: len(units)] = units
    names["name"] = padded.reshape(count, CHARS_PER_NAME_ENTRY)
    stream["name_length"], stream["name_hash"] = len(units), name_hash(upper_name(name, upcase()))
    entry["secondary_count"], entry["checksum"] = count + 1, 0
    data = entry.tobytes() + stream.tobytes() + names.tobytes()
    entry["checksum"] = set_checksum(data)
    return entry.tobytes() + data[ENTRY_SIZE:]


def _label_entry(label: str) -> bytes:
    """The label entry; raises VolumeError if the label does not fit."""
    units = np.frombuffer(label.encode("utf-16-le", "surrogatepass"), "<u2")
    if len(units) > MAX_LABEL:
        raise VolumeError(f"'{label}': an exFAT label has at most {MAX_LABEL} characters")
    entry = np.zeros((), LABEL_ENTRY)
    entry["type"], entry["count"] = TYPE_LABEL, len(units)
    entry["label"][: len(units)] = units
    return entry.tobytes()
