"""Records of ext2, ext3 and ext4 on disk, after the kernel's documentation ("ext4 Data Structures and Algorithms").

A volume is groups of blocks, each with bitmaps of its blocks and inodes and its part of the inode table. A file is an
inode, which tells its blocks (a tree of extents, or lists of block numbers up to three blocks deep); names stand in
folders, whose blocks are chains of entries.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable
from dataclasses import dataclass
from functools import cache, cached_property, lru_cache
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from sastrugi.media.extents import Extent

SUPERBLOCK_AT, SUPERBLOCK_SIZE, MAGIC, MAGIC_AT, GROUP_AT = 1024, 1024, 0xEF53, 56, 90
ROOT, JOURNAL, FIRST_INODE = 2, 8, 11
DESCRIPTOR_SIZE, WIDE_DESCRIPTOR_SIZE = 32, 64

HAS_JOURNAL, EXT_ATTR, DIR_INDEX = 0x4, 0x8, 0x20
"""Features that all may ignore."""
FILETYPE, NEEDS_RECOVERY, META_BG, EXTENTS, WIDE, FLEX_BG = 0x2, 0x4, 0x10, 0x40, 0x80, 0x200
CHECKSUM_SEED, LARGE_FOLDER, INLINE_DATA, ENCRYPTED, CASEFOLD = 0x2000, 0x4000, 0x8000, 0x10000, 0x20000
"""Features that a reader must know."""
KNOWN_FEATURES = (
    0x1 | FILETYPE | NEEDS_RECOVERY | META_BG | EXTENTS | WIDE | 0x100 | FLEX_BG | 0x400 | CHECKSUM_SEED | LARGE_FOLDER
    | INLINE_DATA | ENCRYPTED | CASEFOLD
)  # fmt: skip
SPARSE_SUPER, LARGE_FILE, HUGE_FILE, GROUP_CHECKSUMS, MANY_LINKS, EXTRA_SIZE, CLUSTERS, CHECKSUMS = (
    0x1, 0x2, 0x8, 0x10, 0x20, 0x40, 0x200, 0x400,
)  # fmt: skip
"""Features that a writer must know."""
INODES_UNUSED, BLOCKS_UNUSED, TABLE_ZEROED = 1, 2, 4
"""Of a group: its bitmap of inodes, of blocks was never written; its table is zeros where it is unused."""

KIND_MASK, IS_FILE, IS_FOLDER, IS_LINK = 0xF000, 0x8000, 0x4000, 0xA000
INDEXED, HAS_EXTENTS, HAS_INLINE_DATA = 0x1000, 0x80000, 0x10000000
"""Flags of an inode."""
ENTRY_KINDS = {IS_FILE: 1, IS_FOLDER: 2, IS_LINK: 7}
TAIL_KIND, TAIL_SIZE = 0xDE, 12
"""The last entry of a folder's block where it has a checksum."""
EXTENT_MAGIC, EXTENT_SIZE, INSIDE = 0xF30A, 12, 60
MOST_EXTENT = 1 << 15
DIRECT = 12
"""Blocks that an inode lists itself; three trees of lists follow."""
EXTRA = 32
"""Bytes that an inode has besides the first 128 for times and checksum."""
MOST_NAME = 255
MIRRORED_SEED = 0xFFFFFFFF
"""What checksums that nothing else seeds begin with."""


def _record(size: int, *fields: tuple[str, str, int]) -> np.dtype[np.void]:
    names, formats, offsets = zip(*fields, strict=True)
    return np.dtype({"names": names, "formats": formats, "offsets": offsets, "itemsize": size})


SUPERBLOCK = _record(
    1024,
    ("inodes", "<u4", 0), ("blocks", "<u4", 4), ("reserved", "<u4", 8), ("free_blocks", "<u4", 12),
    ("free_inodes", "<u4", 16), ("first_block", "<u4", 20), ("block_log", "<u4", 24), ("cluster_log", "<u4", 28),
    ("group_blocks", "<u4", 32), ("group_clusters", "<u4", 36), ("group_inodes", "<u4", 40), ("mounted", "<u4", 44),
    ("written", "<u4", 48), ("mounts", "<u2", 52), ("most_mounts", "<u2", 54), ("magic", "<u2", 56),
    ("state", "<u2", 58), ("errors", "<u2", 60), ("minor", "<u2", 62), ("checked", "<u4", 64),
    ("creator", "<u4", 72), ("revision", "<u4", 76), ("first_inode", "<u4", 84), ("inode_size", "<u2", 88),
    ("group", "<u2", 90), ("compatible", "<u4", 92), ("incompatible", "<u4", 96), ("read_only", "<u4", 100),
    ("uuid", "V16", 104), ("label", "V16", 120), ("reserved_descriptors", "<u2", 206), ("journal_inode", "<u4", 224),
    ("last_orphan", "<u4", 232), ("hash_seed", "V16", 236), ("hash", "u1", 252),
    ("journal_backup", "u1", 253), ("descriptor_size", "<u2", 254), ("mount_options", "<u4", 256),
    ("made", "<u4", 264), ("journal_blocks", "V68", 268), ("blocks_high", "<u4", 336), ("reserved_high", "<u4", 340),
    ("free_blocks_high", "<u4", 344), ("least_extra", "<u2", 348), ("wanted_extra", "<u2", 350),
    ("flags", "<u4", 352), ("flex_log", "u1", 372), ("checksum_kind", "u1", 373), ("checksum_seed", "<u4", 624),
    ("checksum", "<u4", 1020),
)  # fmt: skip
DESCRIPTOR = _record(
    64,
    ("block_bits", "<u4", 0), ("inode_bits", "<u4", 4), ("table", "<u4", 8), ("free_blocks", "<u2", 12),
    ("free_inodes", "<u2", 14), ("folders", "<u2", 16), ("flags", "<u2", 18), ("block_sum", "<u2", 24),
    ("inode_sum", "<u2", 26), ("unused", "<u2", 28), ("checksum", "<u2", 30), ("block_bits_high", "<u4", 32),
    ("inode_bits_high", "<u4", 36), ("table_high", "<u4", 40), ("free_blocks_high", "<u2", 44),
    ("free_inodes_high", "<u2", 46), ("folders_high", "<u2", 48), ("unused_high", "<u2", 50),
    ("block_sum_high", "<u2", 56), ("inode_sum_high", "<u2", 58),
)  # fmt: skip
INODE = _record(
    160,
    ("mode", "<u2", 0), ("user", "<u2", 2), ("size", "<u4", 4), ("accessed", "<u4", 8), ("changed", "<u4", 12),
    ("modified", "<u4", 16), ("deleted", "<u4", 20), ("gid", "<u2", 24), ("links", "<u2", 26), ("sectors", "<u4", 28),
    ("flags", "<u4", 32), ("blocks", "V60", 40), ("generation", "<u4", 100), ("size_high", "<u4", 108),
    ("sectors_high", "<u2", 116), ("checksum", "<u2", 124), ("extra", "<u2", 128), ("checksum_high", "<u2", 130),
    ("changed_extra", "<u4", 132), ("modified_extra", "<u4", 136), ("accessed_extra", "<u4", 140),
    ("created", "<u4", 144), ("created_extra", "<u4", 148),
)  # fmt: skip


class Inode(NamedTuple):
    """One inode's fields, as `INODE` declares them."""

    mode: int
    user: int
    size: int
    accessed: int
    changed: int
    modified: int
    deleted: int
    gid: int
    links: int
    sectors: int
    flags: int
    blocks: bytes
    generation: int
    size_high: int
    sectors_high: int
    checksum: int
    extra: int
    checksum_high: int
    changed_extra: int
    modified_extra: int
    accessed_extra: int
    created: int
    created_extra: int

    @classmethod
    def of(cls, row: Any) -> Inode:
        """Of a record of `INODE`."""
        return cls(*row.item())

    @property
    def length(self) -> int:
        """Bytes of its content."""
        return self.size | self.size_high << 32


assert Inode._fields == INODE.names
BLOCKS_AT, CHECKSUM_LOW_AT, CHECKSUM_HIGH_AT = 40, 124, 130
OLD_INODE = 128
EXTENT_HEAD = np.dtype([("magic", "<u2"), ("entries", "<u2"), ("most", "<u2"), ("depth", "<u2"), ("generation", "<u4")])
EXTENT = np.dtype([("logical", "<u4"), ("length", "<u2"), ("start_high", "<u2"), ("start", "<u4")])
BRANCH = np.dtype([("logical", "<u4"), ("below", "<u4"), ("below_high", "<u2"), ("unused", "<u2")])
Runs = list[tuple[int, int, int]]
"""(block of the file, block of the volume, blocks) of runs in order; what none of them covers is a hole."""

_EPOCH = dt.datetime(1970, 1, 1, tzinfo=dt.UTC)


def to_seconds(moment: dt.datetime) -> tuple[int, int]:
    """The two fields of a time: seconds since 1970, and nanoseconds with two further bits of the seconds. A moment
    without a zone counts as UTC."""
    since = (moment if moment.tzinfo else moment.replace(tzinfo=dt.UTC)) - _EPOCH
    seconds = since.days * 86400 + since.seconds
    low = seconds & 0xFFFFFFFF
    signed = low - (1 << 32) if low >> 31 else low
    return low, (seconds - signed) >> 32 & 3 | since.microseconds * 1000 << 2


@lru_cache(1 << 12)
def of_seconds(low: int, extra: int = 0) -> dt.datetime | None:
    """The moment of two fields; None where none was kept."""
    if not low and not extra:
        return None
    seconds = (low - (1 << 32) if low >> 31 else low) + ((extra & 3) << 32)
    return _EPOCH + dt.timedelta(seconds=seconds, microseconds=min(extra >> 2, 999_999_999) // 1000)


@dataclass(frozen=True)
class Geometry:
    """What a superblock tells; block numbers count from the start of the volume, lengths are bytes."""

    offset: int
    block: int
    blocks: int
    first: int
    """The first block of the first group."""
    group_blocks: int
    group_inodes: int
    inode: int
    descriptor: int
    compatible: int
    incompatible: int
    read_only: int
    seed: int
    """What checksums of metadata begin with."""
    uuid: bytes = bytes(16)
    hash_seed: bytes = bytes(16)
    hash_kind: int = 1
    reserved_descriptors: int = 0
    flex: int = 1
    first_meta: int = 0
    ratio: int = 1
    """Blocks that one bit of a group's bitmap stands for."""

    @property
    def where(self) -> Extent:
        return Extent(self.offset, self.blocks * self.block)

    @property
    def groups(self) -> int:
        return -(-(self.blocks - self.first) // self.group_blocks)

    def can_be_on(self, size: int) -> bool:
        """Whether a medium of `size` bytes can hold the volume's start, with the descriptors of all groups."""
        return self.offset >= 0 and self.groups * self.descriptor <= size - self.offset

    @property
    def inodes(self) -> int:
        return self.groups * self.group_inodes

    @property
    def checksums(self) -> bool:
        return bool(self.read_only & CHECKSUMS)

    @property
    def extents(self) -> bool:
        return bool(self.incompatible & EXTENTS)

    def at(self, block: int) -> int:
        """The byte of the medium at which a block begins."""
        return self.offset + block * self.block

    def group_start(self, group: int) -> int:
        return self.first + group * self.group_blocks

    def blocks_of(self, group: int) -> int:
        """How many blocks a group has: the last one may be short."""
        return min(self.group_blocks, self.blocks - self.group_start(group))

    def has_copy(self, group: int) -> bool:
        """Whether a copy of the superblock and of the descriptors stands at a group's start."""
        if not self.read_only & SPARSE_SUPER or group < 2:
            return True
        return any(_is_power(group, base) for base in (3, 5, 7))

    @cached_property
    def descriptor_blocks(self) -> int:
        return -(-self.groups * self.descriptor // self.block)

    @cached_property
    def table_blocks(self) -> int:
        """Blocks of the inode table of a group."""
        return -(-self.group_inodes * self.inode // self.block)

    def descriptor_places(self) -> list[tuple[int, int]]:
        """(block, how many descriptors) of the blocks of descriptors, in order."""
        each, left = self.block // self.descriptor, self.groups
        out: list[tuple[int, int]] = []
        for n in range(self.descriptor_blocks):
            place = SUPERBLOCK_AT // self.block + 1 + n
            if self.incompatible & META_BG and n >= self.first_meta:
                group = n * each
                place = self.group_start(group) + (1 if self.has_copy(group) else 0)
            out.append((place, min(each, left)))
            left -= each
        return out

    @property
    def extra(self) -> int:
        """Bytes of an inode behind the first 128 that are used."""
        return min(EXTRA, self.inode - OLD_INODE)


def _is_power(number: int, base: int) -> bool:
    while number % base == 0:
        number //= base
    return number == 1


def geometry_of(data: bytes, offset: int) -> Geometry | None:
    """What a superblock in `data` says of a volume at `offset`; None if it is none that can be read."""
    if len(data) < SUPERBLOCK_SIZE or data[MAGIC_AT : MAGIC_AT + 2] != MAGIC.to_bytes(2, "little"):
        return None
    row = np.frombuffer(data, SUPERBLOCK, 1)[0]
    old = int(row["revision"]) == 0
    incompatible = 0 if old else int(row["incompatible"])
    size = OLD_INODE if old else int(row["inode_size"])
    log, wide = int(row["block_log"]), incompatible & WIDE
    if log > 6 or incompatible & ~KNOWN_FEATURES:
        return None
    clustered = not old and int(row["read_only"]) & CLUSTERS
    ratio = 1 << min(max(int(row["cluster_log"]) - log, 0), 20) if clustered else 1
    block = 1024 << log
    descriptor = max(int(row["descriptor_size"]), WIDE_DESCRIPTOR_SIZE) if wide else DESCRIPTOR_SIZE
    blocks = int(row["blocks"]) | (int(row["blocks_high"]) << 32 if wide else 0)
    uuid = bytes(row["uuid"])
    seed = int(row["checksum_seed"]) if incompatible & CHECKSUM_SEED else raw_crc32c(MIRRORED_SEED, uuid)
    found = Geometry(
        offset, block, blocks, int(row["first_block"]), int(row["group_blocks"]), int(row["group_inodes"]), size,
        descriptor, int(row["compatible"]), incompatible, 0 if old else int(row["read_only"]), seed, uuid,
        bytes(row["hash_seed"]), int(row["hash"]), int(row["reserved_descriptors"]),
        1 << min(int(row["flex_log"]), 31) if incompatible & FLEX_BG else 1,
        int.from_bytes(data[260:264], "little"),
        ratio,
    )  # fmt: skip
    possible = OLD_INODE <= size <= block and not size & (size - 1) and descriptor <= block
    possible &= 0 < found.group_blocks <= 8 * block * ratio and 0 < found.group_inodes <= 8 * block
    possible &= found.first == (1 if block == 1024 and ratio == 1 else 0) < blocks < 1 << 48
    if not possible or found.groups > _MOST_GROUPS:
        return None
    return found


_MOST_GROUPS = 1 << 19
"""64 TiB in blocks of 4 KiB."""


def raw_crc32c(seed: int, data: bytes | memoryview) -> int:
    """The checksum of metadata: CRC-32C that goes on from `seed`, and is not turned over at its end."""
    return _crc32c()(data, ~seed & 0xFFFFFFFF) ^ 0xFFFFFFFF


@cache
def _crc32c() -> Callable[[bytes | memoryview, int], int]:
    """Imported where it is needed: its package brings a command line of its own along."""
    from crc32c import crc32c

    return crc32c


def _crc16_table() -> NDArray[np.uint16]:
    values = np.arange(256, dtype=np.uint16)
    for _ in range(8):
        values = np.where(values & 1, values >> 1 ^ 0xA001, values >> 1).astype(np.uint16)
    return values


_CRC16 = _crc16_table().tolist()


def crc16(seed: int, data: bytes) -> int:
    """CRC-16 of older checksums of groups (polynomial 0x8005, mirrored)."""
    for byte in data:
        seed = seed >> 8 ^ _CRC16[(seed ^ byte) & 0xFF]
    return seed


def superblock_sum(data: bytes) -> int:
    return raw_crc32c(MIRRORED_SEED, data[:1020])


def descriptor_sum(geometry: Geometry, group: int, data: bytes) -> int:
    """The checksum of a group's descriptor, by the kind that the volume has; 0 if none."""
    number = group.to_bytes(4, "little")
    if geometry.checksums:
        value = raw_crc32c(geometry.seed, number + data[:30] + bytes(2) + data[32 : geometry.descriptor])
        return value & 0xFFFF
    if geometry.read_only & GROUP_CHECKSUMS:
        return crc16(0xFFFF, geometry.uuid + number + data[:30] + data[32 : geometry.descriptor])
    return 0


def inode_seed(geometry: Geometry, number: int, generation: int) -> int:
    """What checksums of an inode, its folder blocks and its extent blocks begin with."""
    return raw_crc32c(geometry.seed, number.to_bytes(4, "little") + generation.to_bytes(4, "little"))


def inode_sum(geometry: Geometry, number: int, data: bytes) -> int:
    """The checksum of an inode, of which the fields for it count as zeros."""
    body = bytearray(data)
    body[CHECKSUM_LOW_AT : CHECKSUM_LOW_AT + 2] = bytes(2)
    has_high = len(body) > OLD_INODE and int.from_bytes(body[128:130], "little") >= 4
    if has_high:
        body[CHECKSUM_HIGH_AT : CHECKSUM_HIGH_AT + 2] = bytes(2)
    value = raw_crc32c(inode_seed(geometry, number, int.from_bytes(body[100:104], "little")), bytes(body))
    return value if has_high else value & 0xFFFF


def told_inode_sum(data: bytes) -> int:
    """The checksum that an inode tells."""
    low = int.from_bytes(data[CHECKSUM_LOW_AT : CHECKSUM_LOW_AT + 2], "little")
    if len(data) > OLD_INODE and int.from_bytes(data[128:130], "little") >= 4:
        return low | int.from_bytes(data[CHECKSUM_HIGH_AT : CHECKSUM_HIGH_AT + 2], "little") << 16
    return low


def entry_size(name: bytes) -> int:
    """Bytes of a folder's entry with a name."""
    return -(-(8 + len(name)) // 4) * 4
