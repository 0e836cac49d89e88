"""Structures of HFS Plus and HFSX volumes. Source: Apple, Technical Note TN1150, "HFS Plus Volume Format"."""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass
from typing import Final

import numpy as np

from sastrugi.media.extents import Extent

HEADER_AT, HEADER_SIZE = 1024, 512
BACKUP_FROM_END = 1024
HFS_PLUS, HFSX = 0x482B, 0x4858
VERSIONS: Final = {HFS_PLUS: 4, HFSX: 5}
UNMOUNTED, JOURNALED = 1 << 8, 1 << 13
"""Bits of a volume's attributes."""
MOUNTED_BY_JOURNAL, MOUNTED_BY_MAC, MOUNTED_BY_LINUX = b"HFSJ", b"10.0", b"H+Lx"
LEAST_BLOCK, MOST_BLOCK = 512, 64 << 10
INSIDE = 8
"""Extents of a fork that stand in its own record, and in each record of the extents overflow file."""

ROOT_PARENT, ROOT, EXTENTS_FILE, CATALOG_FILE, ALLOCATION_FILE, STARTUP_FILE, ATTRIBUTES_FILE = 1, 2, 3, 4, 6, 7, 8
FIRST_NUMBER = 16
"""The lowest catalog node ID of a user's file or folder."""
DATA_FORK, RESOURCE_FORK = 0x00, 0xFF
RESOURCE_STREAM: Final = "rsrc"
"""What the stream of a resource fork is called, as drivers call it below the name of its file."""

EXTENT = np.dtype([("start", ">u4"), ("count", ">u4")])
FORK = np.dtype([("size", ">u8"), ("clump", ">u4"), ("blocks", ">u4"), ("extents", EXTENT, INSIDE)])
VOLUME_HEADER = np.dtype(
    [
        ("signature", ">u2"), ("version", ">u2"), ("attributes", ">u4"), ("mounted_by", "V4"), ("journal", ">u4"),
        ("created", ">u4"), ("modified", ">u4"), ("backed_up", ">u4"), ("checked", ">u4"), ("files", ">u4"),
        ("folders", ">u4"), ("block", ">u4"), ("blocks", ">u4"), ("free", ">u4"), ("next_block", ">u4"),
        ("resource_clump", ">u4"), ("data_clump", ">u4"), ("next_number", ">u4"), ("writes", ">u4"),
        ("encodings", ">u8"), ("finder", ">u4", 6), ("serial", ">u8"), ("allocation_file", FORK),
        ("extents_file", FORK), ("catalog_file", FORK), ("attributes_file", FORK), ("startup_file", FORK),
    ]
)  # fmt: skip
"""The last two of the eight words for the Finder are the volume's identifier."""

# -- B-trees ----------------------------------------------------------------------------------------------------------

DESCRIPTOR = np.dtype(
    [
        ("next", ">u4"), ("before", ">u4"), ("kind", "i1"), ("height", "u1"), ("records", ">u2"), ("reserved", ">u2"),
    ]
)  # fmt: skip
DESCRIPTOR_SIZE = DESCRIPTOR.itemsize
LEAF, INDEX, HEADER, MAP = -1, 0, 1, 2
TREE_HEADER = np.dtype(
    [
        ("depth", ">u2"), ("root", ">u4"), ("leaf_records", ">u4"), ("first_leaf", ">u4"), ("last_leaf", ">u4"),
        ("node", ">u2"), ("longest_key", ">u2"), ("nodes", ">u4"), ("free", ">u4"), ("reserved", ">u2"),
        ("clump", ">u4"), ("type", "u1"), ("compare", "u1"), ("attributes", ">u4"), ("more", ">u4", 16),
    ]
)  # fmt: skip
USER_RECORD_SIZE = 128
BIG_KEYS, VARIABLE_INDEX_KEYS = 2, 4
FOLDED, BINARY = 0xCF, 0xBC
"""How names are compared: without regard to case, or by their code units."""
CATALOG_KEY, EXTENTS_KEY, ATTRIBUTES_KEY = 516, 10, 266
"""The longest keys of the three trees."""
LEAST_NODE, MOST_NODE = 512, 32 << 10

# -- records ----------------------------------------------------------------------------------------------------------

FOLDER_RECORD, FILE_RECORD, FOLDER_THREAD, FILE_THREAD = 1, 2, 3, 4
LOCKED, HAS_THREAD, HAS_ATTRIBUTES = 1, 2, 4
_COMMON = [
    ("type", ">u2"), ("flags", ">u2"), ("valence", ">u4"), ("number", ">u4"), ("created", ">u4"), ("modified", ">u4"),
    ("changed", ">u4"), ("accessed", ">u4"), ("backed_up", ">u4"), ("owner", ">u4"), ("group", ">u4"),
    ("admin_flags", "u1"), ("owner_flags", "u1"), ("mode", ">u2"), ("special", ">u4"), ("file_type", "V4"),
    ("creator", "V4"), ("finder_flags", ">u2"), ("finder", "V22"), ("encoding", ">u4"), ("reserved", ">u4"),
]  # fmt: skip
FOLDER = np.dtype(_COMMON)
FILE = np.dtype([*_COMMON, ("data", FORK), ("resource", FORK)])
"""A file's record; a folder's is the part in front of the forks."""
THREAD_HEAD = 8
"""Bytes of a thread record in front of the characters' number: type, reserved, folder."""
INVISIBLE = 0x4000
LINK_TYPE, LINK_CREATOR = b"hlnk", b"hfs+"
PRIVATE_FOLDER: Final = "\0\0\0\0HFS+ Private Data"
INDIRECT_NAME: Final = "iNode{}"
JOURNAL_NAME, JOURNAL_INFO_NAME = ".journal", ".journal_info_block"
IS_FOLDER, IS_FILE, IS_LINK, KIND_MASK = 0o040000, 0o100000, 0o120000, 0o170000
INLINE_ATTRIBUTE = 0x10
MOST_NAME = 255
"""UTF-16 units of a name."""

# -- the journal ------------------------------------------------------------------------------------------------------

SECTOR = 512
"""What places in a journal are counted in, and the least that its header takes."""
JOURNAL_INFO_FLAGS_INSIDE = 1
JOURNAL_INFO = ">I32sQQ"
"""Of the block that says where the journal is: flags, device signature, offset and size in bytes."""
JOURNAL_MAGIC, JOURNAL_ENDIAN = 0x4A4E4C78, 0x12345678
JOURNAL_HEADER = "IIQQQIII"
"""Magic, byte order, offset of the first transaction and behind the last, size, size of a block list, checksum, size of
this header: in the byte order of the machine that wrote it."""
JOURNAL_HEADER_SUMMED, BLOCK_LIST_SUMMED = 44, 32
BLOCK_LIST = "HHIII"
"""Most blocks, blocks (the list's own place counts), bytes of list and copies, checksum, padding."""
BLOCK_INFO = np.dtype([("sector", "<u8"), ("size", "<u4"), ("next", "<u4")])

_EPOCH = dt.datetime(1904, 1, 1, tzinfo=dt.UTC)
_LAST_SECOND = (1 << 32) - 1


def to_seconds(moment: dt.datetime) -> int:
    """Whole seconds since 1904, UTC, as far as the field reaches (into 2040)."""
    zoned = moment if moment.tzinfo else moment.replace(tzinfo=dt.UTC)
    return min(max(int((zoned - _EPOCH).total_seconds()), 0), _LAST_SECOND)


def of_seconds(seconds: int) -> dt.datetime | None:
    """The moment of a field; None for 0, which says that there is none."""
    return _EPOCH + dt.timedelta(seconds=seconds) if seconds else None


def journal_sum(data: bytes) -> int:
    """The checksum of headers and block lists of a journal, in which the field itself counts as zero."""
    value = 0
    for byte in data:
        value = ((value << 8) ^ (value + byte)) & 0xFFFFFFFF
    return ~value & 0xFFFFFFFF


@dataclass(frozen=True, slots=True)
class Geometry:
    """Where a volume's blocks are: `blocks` of `block` bytes from byte `offset` of the medium on, block 0 the first.
    `size` is the volume's whole length, of which less than a block may be over at the end."""

    offset: int
    size: int
    block: int
    blocks: int

    @property
    def where(self) -> Extent:
        return Extent(self.offset, self.size)

    def at(self, block: int) -> int:
        """The byte of the medium at which a block begins."""
        return self.offset + block * self.block

    @property
    def backup_at(self) -> int:
        return self.offset + self.size - BACKUP_FROM_END
