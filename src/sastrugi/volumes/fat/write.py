"""Lay FAT12/16/32 volumes down: format, store, make folders, delete.

What a deletion leaves is what the Linux vfat driver leaves: first byte 0xE5 in every entry of the file, a zeroed
chain in both FATs, and first cluster, size and times untouched (fs/fat/namei_vfat.c: vfat_unlink, vfat_rmdir).
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from itertools import chain

import numpy as np
from numpy.typing import NDArray

from sastrugi.errors import VolumeError
from sastrugi.media.extents import Extent, cut, join, within
from sastrugi.media.raw import RawImage
from sastrugi.units import format_size
from sastrugi.volumes.fat.allocation import AllocationTable, Run
from sastrugi.volumes.fat.layout import (
    ATTR_ARCHIVE,
    ATTR_DIRECTORY,
    ATTR_VOLUME_ID,
    BOOT_FAT32,
    BOOT_SECTOR,
    BOOT_SIGNATURE,
    BOOT_SIGNATURE_OFFSET,
    BOOT_TAIL,
    DELETED,
    DIR_ENTRY,
    ENTRY_SIZE,
    EXTENDED_BOOT_SIGNATURE,
    FSINFO,
    FSINFO_LEAD,
    FSINFO_STRUCT,
    FSINFO_TRAIL,
    MAX_CLUSTERS,
    MAX_FILE_SIZE,
    MEDIA_FIXED,
    OEM_CODEPAGE,
    Geometry,
    encode_time,
)
from sastrugi.volumes.fat.names import check_name, fold, long_entries, short_alias

_FSINFO_SECTOR, _BACKUP_BOOT_SECTOR = 1, 6
_ROOT_ENTRIES = 512
_MAX_FOLDER_ENTRIES = 65536
_RESERVED = {12: 1, 16: 4, 32: 32}
_NO_SYSTEM = b"No system on this volume.\r\n"


def plan(offset: int, size: int, bits: int, cluster_size: int, sector: int = 512) -> Geometry:
    """The geometry of a volume of `size` bytes at `offset`; raises VolumeError with the limits if it cannot be."""
    per_cluster, rest = divmod(cluster_size, sector)
    if rest or per_cluster not in (1, 2, 4, 8, 16, 32, 64, 128) or cluster_size > 65536:
        raise VolumeError(
            f"a FAT cluster cannot be {format_size(cluster_size)}: it is 1, 2, 4 … 128 sectors "
            f"of {sector} bytes, 64 KiB at most"
        )
    root_entries = 0 if bits == 32 else _ROOT_ENTRIES
    fat_sectors = 1
    while True:
        geometry = Geometry(
            offset, sector, per_cluster, _RESERVED[bits], 2, fat_sectors, root_entries, size // sector,
            root_cluster=2 if bits == 32 else 0,
        )  # fmt: skip
        needed = -(-((geometry.clusters + 2) * bits) // (8 * sector))
        if needed <= fat_sectors:
            break
        fat_sectors = needed
    fewest = MAX_CLUSTERS[{32: 16, 16: 12}.get(bits, 0)] + 1 if bits != 12 else 1
    if not fewest <= geometry.clusters <= MAX_CLUSTERS[bits] or geometry.total_sectors > 0xFFFFFFFF:
        raise VolumeError(
            f"FAT{bits} with clusters of {format_size(cluster_size)} needs {fewest:,} to "
            f"{MAX_CLUSTERS[bits]:,} clusters "
            f"(about {format_size(fewest * cluster_size)} to {format_size(MAX_CLUSTERS[bits] * cluster_size)}); "
            f"{format_size(size)} gives {geometry.clusters:,}: choose another cluster size or volume size"
        )
    return geometry


@dataclass(slots=True)
class Node:
    """A live file or folder of the volume being written."""

    name: str
    short: bytes
    parent: Node | None
    folder: bool
    first_slot: int
    slots: int
    runs: list[Run]
    size: int
    children: dict[str, Node] = field(default_factory=dict)
    shorts: set[bytes] = field(default_factory=set)
    table: bytearray = field(default_factory=bytearray)
    """A folder's directory table, as it stands on disk."""
    search_from: int = 0
    """No slot of the table before this one is free."""

    @property
    def path(self) -> str:
        return f"{self.parent.path}/{self.name}" if self.parent else ""


class FatWriter:
    """A mounted FAT volume that can be written. Call `flush` to bring the FATs and FSInfo to disk."""

    def __init__(self, image: RawImage, geometry: Geometry, label: str, volume_id: int, when: dt.datetime) -> None:
        """Format the range of `geometry` (quick: boot area, FATs and root are written, the data area is left)."""
        self.image, self.geometry = image, geometry
        self._touched: dict[int, tuple[Node, dt.datetime, bool]] = {}
        data = geometry.data
        image.zero(geometry.offset, data.offset - geometry.offset)
        self._table = AllocationTable(image, geometry)
        runs: list[Run] = []
        if geometry.bits == 32:
            self._table.next_free = geometry.root_cluster - 1
            runs = self._table.allocate(1)
            image.zero(geometry.cluster_offset(geometry.root_cluster), geometry.cluster_size)
        self.root = Node("", b"", None, True, 0, 0, runs, 0)
        self.root.table = bytearray(geometry.cluster_size if runs else geometry.root_entries * ENTRY_SIZE)
        self._write_boot(label, volume_id)
        if label:
            entry = self._new_entry(_label_bytes(label), ATTR_VOLUME_ID, when)
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
        """Bring folder times, both FATs and FSInfo up to date on the medium."""
        self._write_touched()
        self._table.flush()
        g = self.geometry
        if g.bits != 32:
            return
        info = np.zeros((), FSINFO)
        info["lead"], info["struct"], info["trail"] = FSINFO_LEAD, FSINFO_STRUCT, FSINFO_TRAIL
        info["free_count"], info["next_free"] = self._table.free_clusters, self._table.next_free
        for copy in (0, _BACKUP_BOOT_SECTOR):
            self.image.write(g.offset + (copy + _FSINFO_SECTOR) * g.sector, info.tobytes().ljust(g.sector, b"\0"))

    @property
    def free_bytes(self) -> int:
        return self._table.free_clusters * self.geometry.cluster_size

    # -- finding ----------------------------------------------------------------------------

    def find(self, path: str) -> Node | None:
        """The live file or folder at `path` (case does not count), or None."""
        node = self.root
        for part in _parts(path):
            child = node.children.get(fold(part))
            if child is None:
                return None
            node = child
        return node

    def walk(self, under: Node | None = None) -> Iterator[Node]:
        """Every live node below `under` (the root), folders before what is in them, in the order they were made."""
        for child in (under or self.root).children.values():
            yield child
            yield from self.walk(child) if child.folder else ()

    def extents(self, node: Node) -> tuple[Extent, ...]:
        """Where the content of a file (or the table of a folder) lies on the medium, cut to its size."""
        whole = self._run_extents(node.runs)
        return whole if node.folder else cut(whole, node.size)

    def _run_extents(self, runs: list[Run]) -> tuple[Extent, ...]:
        g = self.geometry
        return join(Extent(g.cluster_offset(start), length * g.cluster_size) for start, length in runs)

    def record(self, node: Node) -> tuple[Extent, ...]:
        """Where the directory entries of `node` stand on the medium."""
        assert node.parent is not None
        return self._table_extents(node.parent, node.first_slot * ENTRY_SIZE, node.slots * ENTRY_SIZE)

    # -- writing ----------------------------------------------------------------------------

    def make_folder(self, path: str, when: dt.datetime) -> Node:
        """The folder at `path`, made with all the folders above it if it is not there."""
        node = self.root
        for part in _parts(path):
            child = node.children.get(fold(part))
            if child is None:
                child = self._add_folder(node, part, when)
            elif not child.folder:
                raise VolumeError(f"{child.path}: a file is there already, no folder can be made")
            node = child
        return node

    def _add_folder(self, parent: Node, name: str, when: dt.datetime) -> Node:
        check_name(name)
        runs = self._table.allocate(1)
        size = self.geometry.cluster_size
        first = runs[0][0]
        table = bytearray(size)
        for n, (dots, cluster) in enumerate(((b".", first), (b"..", _first_cluster(parent) if parent.parent else 0))):
            entry = self._new_entry(dots.ljust(11), ATTR_DIRECTORY, when, cluster)
            table[n * ENTRY_SIZE : (n + 1) * ENTRY_SIZE] = entry.tobytes()
        self.image.write(self.geometry.cluster_offset(first), bytes(table))
        node = self._enter(parent, name, ATTR_DIRECTORY, when, when, runs, 0)
        node.table = table
        return node

    def store(
        self, path: str, size: int, chunks: Iterable[bytes], when: dt.datetime, modified: dt.datetime | None = None,
        first_gap: bool = False,
    ) -> Node:  # fmt: skip
        """Write a new file of exactly `size` bytes, given in pieces, into a folder that exists.

        `first_gap` fills freed space from the start of the volume on, instead of going on behind the last file.
        """
        folder_path, _, name = path.rstrip("/").rpartition("/")
        parent = self.find(folder_path)
        if parent is None or not parent.folder:
            raise VolumeError(f"{folder_path}: there is no such folder to store {name} in")
        check_name(name)
        if fold(name) in parent.children:
            raise VolumeError(f"{path}: there is already a file of this name")
        if size > MAX_FILE_SIZE:
            raise VolumeError(f"{path}: {format_size(size)} is too large: a file on FAT ends at 4 GiB less one byte")
        runs = self._table.allocate(-(-size // self.geometry.cluster_size), first_gap)
        self._fill(path, self._run_extents(runs), size, chunks)
        return self._enter(parent, name, ATTR_ARCHIVE, when, modified or when, runs, size)

    def _fill(self, path: str, extents: tuple[Extent, ...], size: int, chunks: Iterable[bytes]) -> None:
        """Write content over `extents`; the rest of the last sector becomes zero, the rest of the cluster stays."""
        padding = bytes(-size % self.geometry.sector)
        places = iter(extents)
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
                self.image.write(at, bytes(part))
                at, left, view = at + len(part), left - len(part), view[len(part) :]
        if written != size + len(padding):
            raise VolumeError(f"{path}: {written - len(padding)} bytes came where {size} were announced")

    def delete(self, path: str, when: dt.datetime) -> Node:
        """Delete a file or an empty folder as Linux does; the node is returned as it was."""
        node = self.find(path)
        if node is None or node.parent is None:
            raise VolumeError(f"{path}: there is no such file or folder to delete")
        if node.children:
            raise VolumeError(f"{path}: the folder is not empty: delete what is in it first")
        parent = node.parent
        for slot in range(node.first_slot, node.first_slot + node.slots):
            parent.table[slot * ENTRY_SIZE] = DELETED
        self._write_table(parent, node.first_slot * ENTRY_SIZE, node.slots * ENTRY_SIZE)
        self._table.release(node.runs)
        parent.search_from = min(parent.search_from, node.first_slot)
        del parent.children[fold(node.name)]
        parent.shorts.discard(node.short)
        self._touched.pop(id(node), None)
        self._touch(parent, when, accessed=True)
        return node

    # -- directory tables -------------------------------------------------------------------

    def _new_entry(
        self,
        short: bytes,
        attr: int,
        when: dt.datetime,
        cluster: int = 0,
        size: int = 0,
        modified: dt.datetime | None = None,
    ) -> NDArray[np.void]:
        entry = np.zeros((), DIR_ENTRY)
        entry["name"] = np.frombuffer(short, "u1")
        entry["attr"] = attr
        entry["created_date"], entry["created_time"], entry["created_tenth"] = encode_time(when)
        entry["accessed_date"] = entry["created_date"]
        entry["modified_date"], entry["modified_time"], _ = encode_time(modified or when)
        entry["cluster_high"], entry["cluster_low"], entry["size"] = cluster >> 16, cluster & 0xFFFF, size
        return entry

    def _enter(
        self,
        parent: Node,
        name: str,
        attr: int,
        when: dt.datetime,
        modified: dt.datetime,
        runs: list[Run],
        size: int,
    ) -> Node:
        short, long_needed = short_alias(name, parent.shorts)
        entry = self._new_entry(short, attr, when, runs[0][0] if runs else 0, size, modified)
        data = (long_entries(name, short) if long_needed else b"") + entry.tobytes()
        slot = self._free_slots(parent, len(data) // ENTRY_SIZE)
        self._put(parent, slot, data)
        node = Node(name, short, parent, bool(attr & ATTR_DIRECTORY), slot, len(data) // ENTRY_SIZE, runs, size)
        parent.children[fold(name)] = node
        parent.shorts.add(short)
        self._touch(parent, when)
        return node

    def _put(self, folder: Node, slot: int, data: bytes) -> None:
        folder.table[slot * ENTRY_SIZE : slot * ENTRY_SIZE + len(data)] = data
        self._write_table(folder, slot * ENTRY_SIZE, len(data))

    def _free_slots(self, folder: Node, count: int) -> int:
        """The first slot of `count` free ones in a row; the folder grows by a cluster when there are none."""
        while True:
            first = np.frombuffer(folder.table[folder.search_from * ENTRY_SIZE :: ENTRY_SIZE], "u1")
            free = np.flatnonzero((first == 0) | (first == DELETED))
            if len(free) >= count:
                hits = np.flatnonzero(free[count - 1 :] - free[: len(free) - count + 1] == count - 1)
                if len(hits):
                    slot = folder.search_from + int(free[hits[0]])
                    if hits[0] == 0:
                        folder.search_from = slot + count
                    return slot
            self._grow(folder)

    def _grow(self, folder: Node) -> None:
        size = self.geometry.cluster_size
        if not folder.runs:
            raise VolumeError(f"the root folder is full: it holds {self.geometry.root_entries} entries on this volume")
        if len(folder.table) + size > _MAX_FOLDER_ENTRIES * ENTRY_SIZE:
            raise VolumeError(f"{folder.path}: the folder is full: FAT folders hold {_MAX_FOLDER_ENTRIES:,} entries")
        folder.runs = self._table.extend(folder.runs, 1)
        folder.table += bytes(size)
        self.image.zero(self._run_extents(folder.runs)[-1].end - size, size)

    def _table_extents(self, folder: Node, position: int, length: int) -> tuple[Extent, ...]:
        whole = self._run_extents(folder.runs) if folder.runs else (self.geometry.fixed_root,)
        return within(whole, position, length)

    def _write_table(self, folder: Node, position: int, length: int) -> None:
        for extent in self._table_extents(folder, position, length):
            self.image.write(extent.offset, bytes(folder.table[position : position + extent.length]))
            position += extent.length

    def _touch(self, folder: Node, when: dt.datetime, accessed: bool = False) -> None:
        """A folder takes the time of a change in it. Its entry is written at the next flush, as by a driver that
        caches: a folder that is deleted before then keeps the times it had."""
        if folder.parent is not None:
            self._touched[id(folder)] = (folder, when, accessed or self._touched.get(id(folder), (0, 0, False))[2])

    def _write_touched(self) -> None:
        for folder, when, accessed in self._touched.values():
            assert folder.parent is not None
            slot = folder.first_slot + folder.slots - 1
            entry = np.frombuffer(folder.parent.table, DIR_ENTRY, 1, slot * ENTRY_SIZE).copy()
            entry["modified_date"], entry["modified_time"], _ = encode_time(when)
            if accessed:
                entry["accessed_date"] = entry["modified_date"]
            self._put(folder.parent, slot, entry.tobytes())
        self._touched.clear()


def _parts(path: str) -> list[str]:
    return [part for part in path.split("/") if part]


def _first_cluster(node: Node) -> int:
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
