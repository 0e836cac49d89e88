"""Records of the drift file system, which exists in these tests alone: it has all that FAT has not.

A volume is two groups of blocks of 1 KiB. Each group begins with an unused block, a copy of the superblock (whose magic
stands 40 bytes into it), a bitmap of its blocks and its part of the inode table; in the first group a journal follows.
Files are inodes; names stand in folders, several may be of one inode. A file's content stands in up to 17 runs of
blocks, of which some are holes and some are 4 KiB packed by zlib; a second stream of up to 64 bytes stands inside of the
inode. Times are nanoseconds of UTC. Every change of metadata is first written to the journal, block by block.
"""

from __future__ import annotations

import datetime as dt

import numpy as np

BLOCK = 1024
MAGIC, MAGIC_AT = b"DRIFTFS1", 40
JOURNAL_MAGIC = b"DJNL"
INODE_SIZE, DIRENT_SIZE = 256, 128
INODES_PER_BLOCK, DIRENTS_PER_BLOCK = BLOCK // INODE_SIZE, BLOCK // DIRENT_SIZE
INODE_MAGIC = 0xD21F
ROOT = 1
MOST_RUNS, MOST_NOTE, MOST_NAME, MOST_STREAM_NAME = 17, 64, 122, 14
UNIT = 4 * BLOCK
PLAIN, PACKED = 0, 1
FILE, FOLDER = 1, 2
JOURNAL_BLOCKS = 96

SUPERBLOCK = np.dtype(
    [
        ("blocks", "<u8"), ("group_blocks", "<u4"), ("bitmap_blocks", "<u4"), ("inode_blocks", "<u4"),
        ("journal", "<u4"), ("group", "<u4"), ("serial", "<u4"), ("sequence", "<u8"), ("magic", "S8"), ("label", "S32"),
    ]
)  # fmt: skip
RUN = np.dtype([("start", "<u4"), ("blocks", "<u2"), ("coding", "u1"), ("pad", "u1")])
INODE = np.dtype(
    [
        ("magic", "<u2"), ("kind", "<u2"), ("links", "<u4"), ("size", "<u8"), ("modified", "<i8"), ("changed", "<i8"),
        ("created", "<i8"), ("note_size", "u1"), ("note_name", "S15"), ("note", "u1", MOST_NOTE),
        ("runs", RUN, MOST_RUNS),
    ]
)  # fmt: skip
DIRENT = np.dtype([("inode", "<u4"), ("kind", "u1"), ("length", "u1"), ("name", "S122")])
JOURNAL_HEAD = np.dtype([("magic", "S4"), ("serial", "<u4"), ("sequence", "<u8"), ("count", "<u4"), ("check", "<u4")])
NOTE_AT = INODE.fields["note"][1]  # type: ignore[index]
assert SUPERBLOCK.fields["magic"][1] == MAGIC_AT  # type: ignore[index]
assert INODE.itemsize <= INODE_SIZE and DIRENT.itemsize == DIRENT_SIZE


def to_nanoseconds(moment: dt.datetime) -> int:
    """A moment without a zone counts as UTC."""
    since = moment.replace(tzinfo=dt.UTC) - dt.datetime(1970, 1, 1, tzinfo=dt.UTC)
    return (since.days * 86400 + since.seconds) * 10**9 + since.microseconds * 1000


def of_nanoseconds(value: int) -> dt.datetime | None:
    try:
        return dt.datetime(1970, 1, 1, tzinfo=dt.UTC) + dt.timedelta(microseconds=value // 1000)
    except OverflowError:
        return None


class Geometry:
    """Where everything lies; blocks count from the start of the volume."""

    def __init__(self, offset: int, blocks: int, group_blocks: int, inode_blocks: int, journal: int) -> None:
        self.offset, self.blocks, self.group_blocks = offset, blocks, group_blocks
        self.inode_blocks, self.journal = inode_blocks, journal
        self.bitmap_blocks = -(-group_blocks // (8 * BLOCK))

    @classmethod
    def plan(cls, offset: int, length: int) -> Geometry:
        blocks = length // BLOCK
        group_blocks = blocks // 2
        inode_blocks = max(group_blocks // 32, 4)
        geometry = cls(offset, 2 * group_blocks, group_blocks, inode_blocks, 0)
        geometry.journal = 2 + geometry.bitmap_blocks + inode_blocks
        return geometry

    def at(self, block: int) -> int:
        """The byte of the medium at which a block lies."""
        return self.offset + block * BLOCK

    def head_blocks(self, group: int) -> int:
        """Blocks at the beginning of a group that files never have."""
        return 2 + self.bitmap_blocks + self.inode_blocks + (JOURNAL_BLOCKS if group == 0 else 0)

    def inode_block(self, number: int) -> tuple[int, int]:
        """The block in which an inode stands, and at which byte of it."""
        group, inside = divmod(number - 1, self.inode_blocks * INODES_PER_BLOCK)
        block, slot = divmod(inside, INODES_PER_BLOCK)
        return group * self.group_blocks + 2 + self.bitmap_blocks + block, slot * INODE_SIZE

    @property
    def inodes(self) -> int:
        return 2 * self.inode_blocks * INODES_PER_BLOCK
