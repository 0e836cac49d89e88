"""The records of FAT12/16/32 on disk, and the arithmetic that goes with them.

Source: Microsoft, "FAT: General Overview of On-Disk Format" (FAT specification, version 1.03). Field names follow
the specification's, without their prefixes.
"""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass
from functools import cached_property, lru_cache

import numpy as np
from numpy.typing import NDArray

from sastrugi.media.extents import Extent

BOOT_SIGNATURE = b"\x55\xaa"
BOOT_SIGNATURE_OFFSET = 510
EXTENDED_BOOT_SIGNATURE = 0x29
FSINFO_LEAD = 0x41615252
FSINFO_STRUCT = 0x61417272
FSINFO_TRAIL = 0xAA550000
MEDIA_FIXED = 0xF8

MAX_CLUSTERS = {12: 4084, 16: 65524, 32: 0x0FFFFFF5}
"""Most clusters a volume of each width has; the count alone decides the width."""
END_OF_CHAIN = {12: 0xFFF, 16: 0xFFFF, 32: 0x0FFFFFFF}
BAD_CLUSTER = {12: 0xFF7, 16: 0xFFF7, 32: 0x0FFFFFF7}
ENTRY_MASK = 0x0FFFFFFF
"""The upper four bits of a FAT32 entry are reserved."""
FIRST_CLUSTER = 2
MAX_FILE_SIZE = 0xFFFFFFFF

ATTR_READ_ONLY, ATTR_HIDDEN, ATTR_SYSTEM, ATTR_VOLUME_ID, ATTR_DIRECTORY, ATTR_ARCHIVE = 1, 2, 4, 8, 16, 32
ATTR_LONG_NAME = ATTR_READ_ONLY | ATTR_HIDDEN | ATTR_SYSTEM | ATTR_VOLUME_ID
ATTR_LONG_NAME_MASK = ATTR_LONG_NAME | ATTR_DIRECTORY | ATTR_ARCHIVE
LAST_LONG_ENTRY = 0x40
DELETED = 0xE5
DELETED_ESCAPE = 0x05
"""Stands for a real first byte of 0xE5."""
LOWER_BASE, LOWER_EXTENSION = 0x08, 0x10
CHARS_PER_LONG_ENTRY = 13
OEM_CODEPAGE = "cp437"

BOOT_SECTOR = np.dtype(
    [
        ("jump", "u1", 3), ("oem_name", "S8"), ("bytes_per_sector", "<u2"), ("sectors_per_cluster", "u1"),
        ("reserved_sectors", "<u2"), ("fats", "u1"), ("root_entries", "<u2"), ("total_sectors_16", "<u2"),
        ("media", "u1"), ("fat_sectors_16", "<u2"), ("sectors_per_track", "<u2"), ("heads", "<u2"),
        ("hidden_sectors", "<u4"), ("total_sectors_32", "<u4"),
    ]
)  # fmt: skip
BOOT_TAIL = np.dtype(
    [
        ("drive", "u1"), ("state", "u1"), ("boot_signature", "u1"), ("volume_id", "<u4"),
        ("volume_label", "V11"), ("file_system_type", "V8"),
    ]
)  # fmt: skip
"""The last fields of the boot parameters: after BOOT_SECTOR on FAT12/16, after BOOT_FAT32 on FAT32."""
BOOT_FAT32 = np.dtype(
    [
        ("fat_sectors_32", "<u4"), ("ext_flags", "<u2"), ("version", "<u2"), ("root_cluster", "<u4"),
        ("fsinfo_sector", "<u2"), ("backup_boot_sector", "<u2"), ("reserved", "V12"),
    ]
)  # fmt: skip
FSINFO = np.dtype(
    [
        ("lead", "<u4"), ("reserved_1", "V480"), ("struct", "<u4"), ("free_count", "<u4"), ("next_free", "<u4"),
        ("reserved_2", "V12"), ("trail", "<u4"),
    ]
)  # fmt: skip
DIR_ENTRY = np.dtype(
    [
        ("name", "u1", 11), ("attr", "u1"), ("case", "u1"), ("created_tenth", "u1"), ("created_time", "<u2"),
        ("created_date", "<u2"), ("accessed_date", "<u2"), ("cluster_high", "<u2"), ("modified_time", "<u2"),
        ("modified_date", "<u2"), ("cluster_low", "<u2"), ("size", "<u4"),
    ]
)  # fmt: skip
LONG_ENTRY = np.dtype(
    [
        ("order", "u1"), ("name_1", "<u2", 5), ("attr", "u1"), ("type", "u1"), ("checksum", "u1"), ("name_2", "<u2", 6),
        ("cluster_low", "<u2"), ("name_3", "<u2", 2),
    ]
)  # fmt: skip
ENTRY_SIZE = DIR_ENTRY.itemsize


ANYWHERE_IN_NAME = np.ones(256, bool)
"""Which bytes a short name can hold behind its first one (section "FAT Directory Structure", DIR_Name)."""
ANYWHERE_IN_NAME[list(b'"*+,./:;<=>?[\\]|\x7f')] = False
ANYWHERE_IN_NAME[:0x20] = False
FIRST_IN_NAME = ANYWHERE_IN_NAME.copy()
"""Which bytes the first of a short name can be, the mark of a deleted one included."""
FIRST_IN_NAME[[DELETED, DELETED_ESCAPE]] = True
FIRST_IN_NAME[0x20] = False


@dataclass(frozen=True)
class Geometry:
    """Where the parts of one volume lie. `offset` is the volume's first byte on the medium; sizes count sectors."""

    offset: int
    sector: int
    sectors_per_cluster: int
    reserved: int
    fats: int
    fat_sectors: int
    root_entries: int
    total_sectors: int
    root_cluster: int = 0

    @cached_property
    def cluster_size(self) -> int:
        return self.sector * self.sectors_per_cluster

    @cached_property
    def root_sectors(self) -> int:
        """Sectors of the fixed root directory of FAT12/16 (section "FAT Data Structure")."""
        return -(-self.root_entries * ENTRY_SIZE // self.sector)

    @cached_property
    def clusters(self) -> int:
        data = self.total_sectors - self.reserved - self.fats * self.fat_sectors - self.root_sectors
        return max(data, 0) // self.sectors_per_cluster

    @cached_property
    def bits(self) -> int:
        """Width of a FAT entry: by the count of clusters, and 32 where the 16-bit FAT size is zero (as drivers do)."""
        if self.root_cluster:
            return 32
        return 12 if self.clusters <= MAX_CLUSTERS[12] else 16

    @property
    def where(self) -> Extent:
        return Extent(self.offset, self.total_sectors * self.sector)

    def fat(self, copy: int) -> Extent:
        return Extent(
            self.offset + (self.reserved + copy * self.fat_sectors) * self.sector,
            self.fat_sectors * self.sector,
        )

    @cached_property
    def fixed_root(self) -> Extent:
        return Extent(self.fat(self.fats).offset, self.root_sectors * self.sector)

    @cached_property
    def data(self) -> Extent:
        return Extent(self.fixed_root.end, self.clusters * self.cluster_size)

    def cluster_offset(self, cluster: int) -> int:
        return self.data.offset + (cluster - FIRST_CLUSTER) * self.cluster_size

    def holds(self, cluster: int) -> bool:
        return FIRST_CLUSTER <= cluster < self.clusters + FIRST_CLUSTER


def pack_fat(entries: NDArray[np.uint32], bits: int) -> bytes:
    """FAT entries as they stand on disk; for 12 bits the number of entries must be even."""
    if bits == 32:
        return entries.astype("<u4").tobytes()
    if bits == 16:
        return entries.astype("<u2").tobytes()
    pairs = entries.reshape(-1, 2)
    joined = pairs[:, 0] | pairs[:, 1] << 12
    return np.stack([joined & 0xFF, joined >> 8 & 0xFF, joined >> 16], axis=1).astype("u1").tobytes()


def unpack_fat(data: bytes, bits: int) -> NDArray[np.uint32]:
    """The entries in a piece of FAT; a piece of a 12-bit FAT must begin on an even entry."""
    if bits == 32:
        return np.frombuffer(data, "<u4", len(data) // 4) & np.uint32(ENTRY_MASK)
    if bits == 16:
        return np.frombuffer(data, "<u2", len(data) // 2).astype(np.uint32)
    triples = np.frombuffer(data, "u1", len(data) // 3 * 3).reshape(-1, 3).astype(np.uint32)
    joined = triples[:, 0] | triples[:, 1] << 8 | triples[:, 2] << 16
    return np.stack([joined & 0xFFF, joined >> 12], axis=1).reshape(-1)


def short_name_checksum(name: bytes) -> int:
    """The sum over the eleven bytes of a short name that each of its long-name entries carries."""
    return int(short_name_checksums(np.frombuffer(name, "u1").reshape(1, 11))[0])


def short_name_checksums(names: NDArray[np.uint8]) -> NDArray[np.uint8]:
    """The same of many names, shape (names, 11)."""
    value = np.zeros(len(names), np.uint8)
    for column in range(11):
        value = ((value >> 1 | value << 7) + names[:, column]).astype(np.uint8)
    return value


def short_name_text(name: bytes, case: int = 0) -> str:
    """`FRN00012JPG` as `FRN00012.JPG`, with the lower-case flags of byte 12 applied."""
    if name[:1] == bytes([DELETED_ESCAPE]):
        name = bytes([DELETED]) + name[1:]
    text = name.decode("ascii" if name.isascii() else OEM_CODEPAGE)
    base, extension = text[:8].rstrip(" "), text[8:11].rstrip(" ")
    if case & LOWER_BASE:
        base = base.lower()
    if case & LOWER_EXTENSION:
        extension = extension.lower()
    return f"{base}.{extension}" if extension else base


def encode_time(when: dt.datetime) -> tuple[int, int, int]:
    """Date word, time word and hundredths (0 to 199) of a local time; years outside 1980-2107 are clamped."""
    when = min(max(when, dt.datetime(1980, 1, 1)), dt.datetime(2107, 12, 31, 23, 59, 59))
    date = (when.year - 1980) << 9 | when.month << 5 | when.day
    time = when.hour << 11 | when.minute << 5 | when.second // 2
    return date, time, when.second % 2 * 100 + when.microsecond // 10000


@lru_cache(1 << 14)
def decode_time(date: int, time: int, hundredths: int = 0) -> dt.datetime | None:
    """A local time from its words, or None where they are no date."""
    try:
        return dt.datetime(
            1980 + (date >> 9), date >> 5 & 15, date & 31,
            time >> 11, time >> 5 & 63, (time & 31) * 2 + hundredths // 100, hundredths % 100 * 10000,
        )  # fmt: skip
    except ValueError:
        return None


_DAYS = np.array([0, 31, 29, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31, 0, 0, 0])


def times_valid(dates: NDArray[np.uint16], times: NDArray[np.uint16]) -> NDArray[np.bool_]:
    """Which words, of any one shape, are a local time: those that `decode_time` answers for."""
    year, month, day = 1980 + (dates >> 9), dates >> 5 & 15, dates & 31
    common = (year % 4 != 0) | (year == 2100)
    valid: NDArray[np.bool_] = (day >= 1) & (day <= _DAYS[month] - ((month == 2) & common))
    return valid & (times >> 11 < 24) & (times >> 5 & 63 < 60) & (times & 31 < 30)
