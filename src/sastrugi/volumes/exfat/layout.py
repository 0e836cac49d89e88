"""The records of exFAT on disk, and the arithmetic that goes with them.

Source: Microsoft, "exFAT file system specification", revision 1.00; section numbers are given where they help. Field
names follow the specification's.
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
FILE_SYSTEM_NAME = b"EXFAT   "
EXTENDED_BOOT_SIGNATURE = b"\x00\x00\x55\xaa"
BOOT_REGION_SECTORS = 12
"""Sectors of the boot region and of its backup (section 2.1): boot, 8 extended, OEM, reserved, checksum."""
CHECKSUM_SECTOR = 11
NOT_IN_CHECKSUM = (106, 107, 112)
"""Volume flags and percent in use change while a volume is mounted (section 3.4)."""

FIRST_CLUSTER = 2
MAX_CLUSTERS = 0xFFFFFFF5
BAD_CLUSTER = 0xFFFFFFF7
END_OF_CHAIN = 0xFFFFFFFF
MEDIA_ENTRY = 0xFFFFFFF8
ENTRY_SIZE = 32
MAX_FOLDER_BYTES = 256 << 20

IN_USE = 0x80
TYPE_BITMAP, TYPE_UPCASE, TYPE_LABEL = 0x81, 0x82, 0x83
TYPE_FILE, TYPE_STREAM, TYPE_NAME = 0x85, 0xC0, 0xC1
ALLOCATION_POSSIBLE, NO_FAT_CHAIN = 1, 2
ATTR_READ_ONLY, ATTR_HIDDEN, ATTR_SYSTEM, ATTR_DIRECTORY, ATTR_ARCHIVE = 1, 2, 4, 16, 32
CHARS_PER_NAME_ENTRY = 15
MAX_LABEL = 11
UTC = 0x80
"""A time-zone byte that says: valid, offset zero (section 7.4.10)."""

BOOT_SECTOR = np.dtype(
    [
        ("jump", "u1", 3), ("name", "V8"), ("must_be_zero", "V53"), ("partition_offset", "<u8"),
        ("volume_length", "<u8"), ("fat_offset", "<u4"), ("fat_length", "<u4"), ("heap_offset", "<u4"),
        ("clusters", "<u4"), ("root_cluster", "<u4"), ("serial", "<u4"), ("revision", "<u2"), ("flags", "<u2"),
        ("sector_shift", "u1"), ("cluster_shift", "u1"),
        ("fats", "u1"), ("drive", "u1"), ("percent_in_use", "u1"), ("reserved", "V7"),
    ]
)  # fmt: skip
"""Section 3.1, up to the boot code. Offsets and lengths count sectors."""
BITMAP_ENTRY = np.dtype(
    [("type", "u1"), ("flags", "u1"), ("reserved", "V18"), ("first_cluster", "<u4"), ("length", "<u8")]
)
UPCASE_ENTRY = np.dtype(
    [
        ("type", "u1"), ("reserved_1", "V3"), ("checksum", "<u4"), ("reserved_2", "V12"), ("first_cluster", "<u4"),
        ("length", "<u8"),
    ]
)  # fmt: skip
LABEL_ENTRY = np.dtype([("type", "u1"), ("count", "u1"), ("label", "<u2", MAX_LABEL), ("reserved", "V8")])
FILE_ENTRY = np.dtype(
    [
        ("type", "u1"), ("secondary_count", "u1"), ("checksum", "<u2"), ("attributes", "<u2"), ("reserved_1", "<u2"),
        ("created", "<u4"), ("modified", "<u4"), ("accessed", "<u4"), ("created_10ms", "u1"), ("modified_10ms", "u1"),
        ("created_zone", "u1"), ("modified_zone", "u1"), ("accessed_zone", "u1"), ("reserved_2", "V7"),
    ]
)  # fmt: skip
STREAM_ENTRY = np.dtype(
    [
        ("type", "u1"), ("flags", "u1"), ("reserved_1", "u1"), ("name_length", "u1"), ("name_hash", "<u2"),
        ("reserved_2", "<u2"), ("valid_length", "<u8"), ("reserved_3", "<u4"), ("first_cluster", "<u4"),
        ("length", "<u8"),
    ]
)  # fmt: skip
NAME_ENTRY = np.dtype([("type", "u1"), ("flags", "u1"), ("name", "<u2", CHARS_PER_NAME_ENTRY)])


@dataclass(frozen=True)
class Geometry:
    """Where the parts of one volume lie. `offset` is the volume's first byte on the medium; the rest counts sectors."""

    offset: int
    sector: int
    sectors_per_cluster: int
    total_sectors: int
    fat_offset: int
    fat_sectors: int
    heap_offset: int
    clusters: int
    root_cluster: int
    fats: int = 1

    @cached_property
    def cluster_size(self) -> int:
        return self.sector * self.sectors_per_cluster

    @property
    def where(self) -> Extent:
        return Extent(self.offset, self.total_sectors * self.sector)

    def fat(self, copy: int = 0) -> Extent:
        return Extent(
            self.offset + (self.fat_offset + copy * self.fat_sectors) * self.sector, self.fat_sectors * self.sector
        )

    @cached_property
    def data(self) -> Extent:
        return Extent(self.offset + self.heap_offset * self.sector, self.clusters * self.cluster_size)

    def cluster_offset(self, cluster: int) -> int:
        return self.data.offset + (cluster - FIRST_CLUSTER) * self.cluster_size

    def holds(self, cluster: int) -> bool:
        return FIRST_CLUSTER <= cluster < self.clusters + FIRST_CLUSTER


def boot_checksum(region: bytes, sector: int) -> int:
    """The 32-bit sum over the first eleven sectors of a boot region (section 3.4)."""
    value = 0
    for n, byte in enumerate(region[: CHECKSUM_SECTOR * sector]):
        if n not in NOT_IN_CHECKSUM:
            value = (value >> 1 | value << 31 & 0x80000000) + byte & 0xFFFFFFFF
    return value


def set_checksum(entries: bytes | bytearray) -> int:
    """The 16-bit sum over an entry set, without the place where it stands itself (section 6.3.3)."""
    value = 0
    for byte in bytes((*entries[:2], *entries[4:])):
        value = (value >> 1 | value << 15 & 0x8000) + byte & 0xFFFF
    return value


def set_checksums(sets: NDArray[np.uint8]) -> NDArray[np.uint16]:
    """The same of many sets of one length, shape (sets, bytes)."""
    value = np.zeros(len(sets), np.uint16)
    for n, column in enumerate(np.ascontiguousarray(sets.T).astype(np.uint16)):
        if n not in (2, 3):
            value = ((value >> 1 | value << 15) + column).astype(np.uint16)
    return value


def name_hash(upper: bytes) -> int:
    """The 16-bit hash of an up-cased name in UTF-16 (section 7.6.4)."""
    value = 0
    for byte in upper:
        value = (value >> 1 | value << 15 & 0x8000) + byte & 0xFFFF
    return value


def table_checksum(table: bytes) -> int:
    """The 32-bit sum over an up-case table (section 7.2.2)."""
    value = 0
    for byte in table:
        value = (value >> 1 | value << 31 & 0x80000000) + byte & 0xFFFFFFFF
    return value


def encode_time(when: dt.datetime) -> tuple[int, int]:
    """The 32-bit time stamp and its hundredths (0 to 199) of a local time; years outside 1980-2107 are clamped."""
    when = min(max(when, dt.datetime(1980, 1, 1)), dt.datetime(2107, 12, 31, 23, 59, 59))
    stamp = (when.year - 1980) << 25 | when.month << 21 | when.day << 16 | when.hour << 11 | when.minute << 5
    return stamp | when.second // 2, when.second % 2 * 100 + when.microsecond // 10000


@lru_cache(1 << 14)
def decode_time(stamp: int, hundredths: int = 0) -> dt.datetime | None:
    """A local time from its stamp, or None where it is no date."""
    try:
        return dt.datetime(
            1980 + (stamp >> 25), stamp >> 21 & 15, stamp >> 16 & 31, stamp >> 11 & 31, stamp >> 5 & 63,
            (stamp & 31) * 2 + hundredths // 100, hundredths % 100 * 10000,
        )  # fmt: skip
    except ValueError:
        return None


def upper_name(name: str, upcase: NDArray[np.uint16]) -> bytes:
    """A name in UTF-16 with every unit mapped to its upper case."""
    units = np.frombuffer(name.encode("utf-16-le", "surrogatepass"), "<u2")
    return bytes(upcase[units].astype("<u2"))
