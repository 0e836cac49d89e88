"""Lay FAT12/16/32 volumes down: format, store, make folders, grow, rename, delete.

What a deletion leaves is what the Linux vfat driver leaves: first byte 0xE5 in every entry of the file, a zeroed
chain in both FATs, and first cluster, size and times untouched (fs/fat/namei_vfat.c: vfat_unlink, vfat_rmdir).
Windows, on FAT32, zeroes the high word of the first cluster as well. A rename writes the new entries first and then
marks the old ones (vfat_rename).
"""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Sequence
from functools import partial

import numpy as np
from numpy.typing import NDArray

from sastrugi.errors import VolumeError
from sastrugi.media.extents import Extent, cut, within
from sastrugi.media.raw import RawImage
from sastrugi.volumes._fat_family.fat_table import ChainTable
from sastrugi.volumes._fat_family.writer import EntryNode, EntryTableWriter
from sastrugi.volumes.allocation import ClusterMap, Run
from sastrugi.volumes.fat.layout import (
    ATTR_ARCHIVE,
    ATTR_DIRECTORY,
    ATTR_VOLUME_ID,
    BOOT_FAT32,
    BOOT_SECTOR,
    BOOT_SIGNATURE,
    BOOT_SIGNATURE_OFFSET,
    BOOT_TAIL,
    CHARS_PER_LONG_ENTRY,
    DELETED,
    DIR_ENTRY,
    END_OF_CHAIN,
    ENTRY_SIZE,
    EXTENDED_BOOT_SIGNATURE,
    FIRST_CLUSTER,
    FSINFO,
    FSINFO_LEAD,
    FSINFO_STRUCT,
    FSINFO_TRAIL,
    MAX_FILE_SIZE,
    MEDIA_FIXED,
    OEM_CODEPAGE,
    Geometry,
    encode_time,
    pack_fat,
)
from sastrugi.volumes.fat.names import fold, long_entries, short_alias
from sastrugi.volumes.writer import Evidence, Habits, Trace

_FSINFO_SECTOR, _BACKUP_BOOT_SECTOR = 1, 6
_CLUSTER_HIGH = 20
"""Where the high word of the first cluster stands in an entry."""
_NO_SYSTEM = b"No system on this volume.\r\n"


class FatWriter(EntryTableWriter):
    """A mounted FAT volume that can be written. Call `flush` to bring the FATs and FSInfo to disk."""

    max_file_size = MAX_FILE_SIZE
    max_file_size_words = "a file on FAT ends at 4 GiB less one byte"
    max_folder_entries = 65536
    fatal_structures = frozenset({"boot"})
    spare_structures = frozenset({"backup-boot", "fsinfo", "fat2"})

    def __init__(self, image: RawImage, geometry: Geometry, label: str, volume_id: int, when: dt.datetime) -> None:
        """Format the range of `geometry` (quick: boot area, FATs and root are written, the data area is left)."""
        clusters = ClusterMap(FIRST_CLUSTER, geometry.clusters, geometry.cluster_size)
        super().__init__(image, clusters, geometry.cluster_size, geometry.sector)
        self.geometry = geometry
        self.file_system = f"fat{geometry.bits}"
        self.where, self.data = geometry.where, geometry.data
        image.zero(geometry.offset, self.data.offset - geometry.offset)
        end = END_OF_CHAIN[geometry.bits]
        copies = [geometry.fat(n) for n in range(geometry.fats)]
        head = end & ~0xFF | MEDIA_FIXED, end
        self._table = ChainTable(image, copies, geometry.bits, head, end, partial(pack_fat, bits=geometry.bits))
        if geometry.bits == 32:
            self.root.runs = self.clusters.take(1, geometry.root_cluster)
            self._table.link(self.root.runs)
            image.zero(self.data.offset, geometry.cluster_size)
        self.root.table = bytearray(geometry.cluster_size if self.root.runs else geometry.root_entries * ENTRY_SIZE)
        self._write_boot(label, volume_id)
        if label:
            entry = self._entry(_label_bytes(label), ATTR_VOLUME_ID, when)
            entry["created_tenth"] = entry["created_time"] = entry["created_date"] = entry["accessed_date"] = 0
            self._put(self.root, 0, entry.tobytes())
        self.flush()

    def _write_boot(self, label: str, volume_id: int) -> None:
        g = self.geometry
        boot = np.zeros((), BOOT_SECTOR)
        boot["jump"] = (0xEB, 0x58 if g.bits == 32 else 0x3C, 0x90)
        boot["oem_name"] = b"SASTRUGI"
        boot["bytes_per_sector"], boot["sectors_per_cluster"] = g.sector, g.sectors_per_cluster
        boot["reserved_sectors"], boot["fats"], boot["root_entries"] = g.reserved, g.fats, g.root_entries
        boot["media"], boot["sectors_per_track"], boot["heads"] = MEDIA_FIXED, 63, 255
        boot["hidden_sectors"] = min(g.offset // g.sector, 0xFFFFFFFF)
        short_count = g.bits != 32 and g.total_sectors <= 0xFFFF
        boot["total_sectors_16" if short_count else "total_sectors_32"] = g.total_sectors
        tail = np.zeros((), BOOT_TAIL)
        tail["drive"], tail["boot_signature"], tail["volume_id"] = 0x80, EXTENDED_BOOT_SIGNATURE, volume_id
        tail["volume_label"] = np.void(_label_bytes(label or "NO NAME"))
        tail["file_system_type"] = np.void(f"FAT{g.bits}".ljust(8).encode())
        middle = b""
        if g.bits == 32:
            extra = np.zeros((), BOOT_FAT32)
            extra["fat_sectors_32"], extra["root_cluster"] = g.fat_sectors, g.root_cluster
            extra["fsinfo_sector"], extra["backup_boot_sector"] = _FSINFO_SECTOR, _BACKUP_BOOT_SECTOR
            middle = extra.tobytes()
        else:
            boot["fat_sectors_16"] = g.fat_sectors
        # The code after the parameters stops the machine, should anybody boot from the medium.
        start = boot.tobytes() + middle + tail.tobytes() + b"\xf4\xeb\xfd" + _NO_SYSTEM
        sector = start.ljust(BOOT_SIGNATURE_OFFSET, b"\0") + BOOT_SIGNATURE
        copies = (0, _BACKUP_BOOT_SECTOR) if g.bits == 32 else (0,)
        for copy in copies:
            self.image.write(g.offset + copy * g.sector, sector.ljust(g.sector, b"\0"))

    def flush(self) -> None:
        self._write_touched()
        self._table.flush()
        g = self.geometry
        if g.bits != 32:
            return
        info = np.zeros((), FSINFO)
        info["lead"], info["struct"], info["trail"] = FSINFO_LEAD, FSINFO_STRUCT, FSINFO_TRAIL
        info["free_count"], info["next_free"] = self.clusters.free, self.clusters.last
        for copy in (0, _BACKUP_BOOT_SECTOR):
            self.image.write(g.offset + (copy + _FSINFO_SECTOR) * g.sector, info.tobytes().ljust(g.sector, b"\0"))

    def fold(self, name: str) -> str:
        return fold(name)

    def structures(self) -> dict[str, tuple[Extent, ...]]:
        g = self.geometry
        out = {"boot": (Extent(g.offset, g.sector),)}
        if g.bits == 32:
            out["backup-boot"] = (Extent(g.offset + _BACKUP_BOOT_SECTOR * g.sector, g.sector),)
            out["fsinfo"] = (Extent(g.offset + _FSINFO_SECTOR * g.sector, g.sector),)
        out |= {f"fat{copy + 1}": (g.fat(copy),) for copy in range(g.fats)}
        return out | {"root": self.run_extents(self.root.runs) or self._root_place()}

    # -- how entries look -------------------------------------------------------------------

    def _entry(
        self, alias: bytes, attr: int, when: dt.datetime, cluster: int = 0, size: int = 0,
        modified: dt.datetime | None = None,
    ) -> NDArray[np.void]:  # fmt: skip
        entry = np.zeros((), DIR_ENTRY)
        entry["name"] = np.frombuffer(alias, "u1")
        entry["attr"] = attr
        entry["created_date"], entry["created_time"], entry["created_tenth"] = encode_time(when)
        entry["accessed_date"] = entry["created_date"]
        entry["modified_date"], entry["modified_time"], _ = encode_time(modified or when)
        entry["cluster_high"], entry["cluster_low"], entry["size"] = cluster >> 16, cluster & 0xFFFF, size
        return entry

    def _root_place(self) -> tuple[Extent, ...]:
        return (self.geometry.fixed_root,)

    def _free_slot(self, first_bytes: NDArray[np.uint8]) -> NDArray[np.bool_]:
        free: NDArray[np.bool_] = (first_bytes == 0) | (first_bytes == DELETED)
        return free

    def _new_record(self, node: EntryNode, when: dt.datetime, modified: dt.datetime) -> bytes:
        attr, size = (ATTR_DIRECTORY, 0) if node.folder else (ATTR_ARCHIVE | node.attributes, node.size)
        assert node.parent is not None
        longs = self._take_alias(node, node.name, node.parent)
        return longs + self._entry(node.alias, attr, when, _first_cluster(node), size, modified).tobytes()

    def _take_alias(self, node: EntryNode, name: str, parent: EntryNode) -> bytes:
        """Give the node a short name that is free in its folder; answers the long-name entries it needs."""
        node.alias, long_needed = short_alias(name, parent.aliases)
        parent.aliases.add(node.alias)
        return long_entries(name, node.alias) if long_needed else b""

    def _renamed_record(self, node: EntryNode, name: str, parent: EntryNode) -> bytes:
        short = self._record_bytes(node)[-ENTRY_SIZE:]
        return self._take_alias(node, name, parent) + node.alias + bytes(short[len(node.alias) :])

    def _move_record(self, node: EntryNode, parent: EntryNode, data: bytes) -> None:
        if node.folder and parent is not node.parent:
            cluster = _first_cluster(parent) if parent.parent else 0
            dots = np.frombuffer(node.table, DIR_ENTRY, 1, ENTRY_SIZE).copy()
            dots["cluster_high"], dots["cluster_low"] = cluster >> 16, cluster & 0xFFFF
            self._put(node, 1, dots.tobytes())
        super()._move_record(node, parent, data)

    def _refresh(self, node: EntryNode, when: dt.datetime, accessed: bool = False) -> None:
        entry = np.frombuffer(self._record_bytes(node)[-ENTRY_SIZE:], DIR_ENTRY).copy()
        entry["modified_date"], entry["modified_time"], _ = encode_time(when)
        if accessed:
            entry["accessed_date"] = entry["modified_date"]
        if not node.folder:
            cluster = _first_cluster(node)
            entry["cluster_high"], entry["cluster_low"], entry["size"] = cluster >> 16, cluster & 0xFFFF, node.size
        assert node.parent is not None
        self._put(node.parent, node.first_slot + node.slots - 1, entry.tobytes())

    def _first_table(self, node: EntryNode, when: dt.datetime) -> bytearray:
        """Entries . and .. (which says 0 for the root)."""
        assert node.parent is not None
        above = _first_cluster(node.parent) if node.parent.parent else 0
        dots = [(b".", _first_cluster(node)), (b"..", above)]
        head = b"".join(self._entry(name.ljust(11), ATTR_DIRECTORY, when, cluster).tobytes() for name, cluster in dots)
        return bytearray(head.ljust(self.cluster_size, b"\0"))

    def _erase(self, node: EntryNode, habits: Habits | None) -> None:
        parent = node.parent
        assert parent is not None
        for slot in range(node.first_slot, node.first_slot + node.slots):
            parent.table[slot * ENTRY_SIZE] = DELETED
        if habits == "windows" and self.geometry.bits == 32:
            at = (node.first_slot + node.slots - 1) * ENTRY_SIZE + _CLUSTER_HIGH
            parent.table[at : at + 2] = bytes(2)
        self._write_table(parent, node.first_slot * ENTRY_SIZE, node.slots * ENTRY_SIZE)

    # -- how clusters are linked ------------------------------------------------------------

    def _link(self, node: EntryNode) -> None:
        self._table.link(node.runs)

    def _link_on(self, folder: EntryNode, last: int, more: list[Run]) -> None:
        self._table.link([(last, 1), *more])

    def _unlink(self, node: EntryNode, runs: list[Run], habits: Habits) -> None:
        self._table.unlink(runs)

    def _chain(self, node: EntryNode) -> tuple[Extent, ...]:
        return self._table.entries_of(node.runs, 0)

    def reserve_more(self, given: Sequence[Extent], space: int) -> tuple[Extent, ...]:
        """Behind what was given out last, whichever file that was (Linux, `fs/fat/fatent.c`, `fat_alloc_clusters`)."""
        return self.reserve(space)

    # -- what tells of a file ---------------------------------------------------------------

    def evidence(self, node: EntryNode) -> Evidence:
        record = self.record(node)
        length = node.slots * ENTRY_SIZE
        short, longs = within(record, length - ENTRY_SIZE, ENTRY_SIZE), cut(record, length - ENTRY_SIZE)
        whole = [Trace("place", "whole", short)] if len(node.runs) <= 1 else []
        for n in range(self.geometry.fats) if not whole else ():
            whole.append(Trace("place", "whole", (*short, *self._table.entries_of(node.runs, n)), "chain"))
        names = [Trace("name", "full", part) for part in (record, longs) if part]
        if _ends_in_its_extension(node):  # which the short name tells, too: its last part may be gone
            names.append(Trace("name", "full", within(record, ENTRY_SIZE, length - ENTRY_SIZE)))
        traces = [*whole, Trace("place", "start", short), *names, Trace("name", "near", short)]
        return Evidence(record, tuple(traces))

    def evidence_after(self, node: EntryNode, habits: Habits) -> Evidence:
        live = self.evidence(node).of_record()
        places = [trace for trace in live.traces if trace.tells == "place"]
        if habits == "windows" and self.geometry.bits == 32 and _first_cluster(node) >= 1 << 16:
            places = [Trace("place", "hint", places[-1].where)]
        names = [trace for trace in live.traces if trace.tells == "name"]
        if node.slots == 1:  # the mark takes the place of the first byte of the entry, and so of the name's
            names = [Trace("name", "like", live.record)]
        return Evidence(live.record, (*places, *names))


def _ends_in_its_extension(node: EntryNode) -> bool:
    """Whether the last part of a long name (the first of its entries) holds the extension and nothing else, as its
    short name spells it."""
    last = node.name.encode("utf-16-le", "surrogatepass")[2 * CHARS_PER_LONG_ENTRY * (node.slots - 2) :]
    extension = last.decode("utf-16-le", "replace")
    return node.slots > 2 and bool(re.fullmatch(r"\.[a-z0-9]{1,3}", extension))


def _first_cluster(node: EntryNode) -> int:
    return node.runs[0][0] if node.runs else 0


def _label_bytes(label: str) -> bytes:
    """The eleven bytes of a volume label; raises VolumeError if it does not fit."""
    try:
        raw = label.upper().encode(OEM_CODEPAGE)
    except UnicodeEncodeError as error:
        raise VolumeError(f"'{label}': a FAT label holds only characters of code page 437") from error
    if len(raw) > 11 or set(label) & set('"*+,./:;<=>?[\\]|'):
        raise VolumeError(f"'{label}': a FAT label has at most 11 characters and none of \"*+,./:;<=>?[\\]|")
    return raw.ljust(11)
