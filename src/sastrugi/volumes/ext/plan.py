"""The geometry of a new volume, as mke2fs chooses it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from sastrugi.errors import VolumeError
from sastrugi.units import format_size
from sastrugi.volumes.ext.layout import (
    CHECKSUMS,
    DESCRIPTOR_SIZE,
    DIR_INDEX,
    EXT_ATTR,
    EXTENTS,
    EXTRA_SIZE,
    FILETYPE,
    FLEX_BG,
    GROUP_CHECKSUMS,
    HAS_JOURNAL,
    HUGE_FILE,
    LARGE_FILE,
    MANY_LINKS,
    MIRRORED_SEED,
    SPARSE_SUPER,
    WIDE,
    WIDE_DESCRIPTOR_SIZE,
    Geometry,
    raw_crc32c,
)

if TYPE_CHECKING:
    from sastrugi.volumes.writer import Habits

_SMALL, _TINY = 512 << 20, 3 << 20
_LEAST_BLOCKS, _MOST_INODES = 64, (1 << 32) - 1
_FLEX = 16
_JOURNALS = ((32768, 1024), (256 << 10, 4096), (512 << 10, 8192), (4096 << 10, 16384), (8192 << 10, 32768))
"""Up to how many blocks of a volume a journal has how many."""
_LARGEST_JOURNAL = 65536
_LEAST_FOR_JOURNAL = 2048


@dataclass(frozen=True, slots=True)
class Kind:
    """What sets one of the three apart: `folder_index` says whether folders are hashed."""

    compatible: int
    incompatible: int
    read_only: int
    inode: int


def kind_of(variant: str, habits: Habits) -> Kind:
    """The features of a new volume as today's tools make it, or as those of before 2015 did (`old-linux`)."""
    old = habits == "old-linux"
    small = 128 if old or variant == "ext2" else 256
    if variant == "ext2":
        return Kind(EXT_ATTR, FILETYPE, SPARSE_SUPER | LARGE_FILE, small)
    if variant == "ext3":
        return Kind(HAS_JOURNAL | EXT_ATTR | DIR_INDEX, FILETYPE, SPARSE_SUPER | LARGE_FILE, small)
    base = SPARSE_SUPER | LARGE_FILE | HUGE_FILE | MANY_LINKS | EXTRA_SIZE
    if old:
        return Kind(HAS_JOURNAL | EXT_ATTR | DIR_INDEX, FILETYPE | EXTENTS | FLEX_BG, base | GROUP_CHECKSUMS, 256)
    return Kind(HAS_JOURNAL | EXT_ATTR | DIR_INDEX, FILETYPE | EXTENTS | FLEX_BG | WIDE, base | CHECKSUMS, 256)


def default_block(size: int, sector: int = 512, habits: Habits = "linux") -> int:
    """The block size that is usual for a volume of `size` bytes."""
    return max(1024 if size < _SMALL else 4096, sector)


def journal_blocks(blocks: int) -> int:
    """Blocks of the journal that is usual for a volume of so many; 0 if it is too small for one."""
    if blocks < _LEAST_FOR_JOURNAL:
        return 0
    return next((size for limit, size in _JOURNALS if blocks < limit), _LARGEST_JOURNAL)


def plan(
    variant: str, offset: int, size: int, block: int, sector: int, habits: Habits, uuid: bytes, hash_seed: bytes
) -> Geometry:  # fmt: skip
    """The geometry of a volume of `size` bytes at `offset`; raises VolumeError with the limits if it cannot be."""
    if block not in (1024, 2048, 4096) or block < sector:
        raise VolumeError(f"a block of {variant} cannot be {format_size(block)}: it is 1 KiB, 2 KiB or 4 KiB")
    kind = kind_of(variant, habits)
    blocks, first = size // block, 1 if block == 1024 else 0
    if blocks < _LEAST_BLOCKS:
        raise VolumeError(f"{variant} needs {format_size(_LEAST_BLOCKS * block)} at least, not {format_size(size)}")
    if blocks >= 1 << 32:
        raise VolumeError(f"{variant} holds 2^32 blocks here: choose blocks larger than {format_size(block)}")
    compatible = kind.compatible if journal_blocks(blocks) else kind.compatible & ~HAS_JOURNAL
    ratio = 16384 if size >= _SMALL else 4096 if size >= _TINY else 8192
    group_blocks = 8 * block
    groups = -(-(blocks - first) // group_blocks)
    wanted = min(max(size // max(ratio, block), 16), _MOST_INODES)
    per_block = max(block // kind.inode, 8)
    each = -(-wanted // groups)
    each = min(max(-(-each // per_block) * per_block, 16), 8 * block)
    descriptor = WIDE_DESCRIPTOR_SIZE if kind.incompatible & WIDE else DESCRIPTOR_SIZE
    while True:
        found = Geometry(
            offset, block, blocks, first, group_blocks, each, kind.inode, descriptor, compatible,
            kind.incompatible, kind.read_only, raw_crc32c(MIRRORED_SEED, uuid), uuid, hash_seed, 1, 0,
            _FLEX if kind.incompatible & FLEX_BG else 1,
        )  # fmt: skip
        last = found.groups - 1
        # A last group that has no room for what it needs itself is left out, as mke2fs does.
        least = found.table_blocks + 2 + (1 + found.descriptor_blocks if found.has_copy(last) else 0) + 50
        if (last and found.blocks_of(last) < least and not kind.incompatible & FLEX_BG) or found.blocks_of(last) < 8:
            if not last:
                break
            blocks = found.group_start(last)
            continue
        break
    if 2 * (found.table_blocks + 4 + found.descriptor_blocks) > found.blocks_of(0):
        raise VolumeError(f"{variant}: {format_size(size)} are too few for its tables: choose a larger volume")
    return found
