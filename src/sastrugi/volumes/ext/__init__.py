"""ext2, ext3 and ext4, after the kernel's documentation of their structures and of the journal.

`layout` declares the structures; `plan`, `groups`, `folders`, `inode`, `journal_write`, `space_write`, `format_write`,
`evidence` and `write` (each on the one before) lay volumes down; `sector_tests` and `opening` find them, `inodes`,
`entries`, `mapping` and `read` read them, `journal_read`, `past` and `earlier` what they were before.
"""

from __future__ import annotations

import datetime as dt
import random
from functools import partial
from typing import TYPE_CHECKING, Any
from uuid import UUID

from sastrugi.volumes.ext.opening import open_ext, starts
from sastrugi.volumes.ext.plan import default_block, plan
from sastrugi.volumes.ext.sector_tests import marked_sectors, superblock_sectors
from sastrugi.volumes.registry import BootMark, FileSystem, Variant, later

if TYPE_CHECKING:
    from sastrugi.media.extents import Extent
    from sastrugi.media.raw import RawImage
    from sastrugi.volumes.writer import Habits, VolumeWriter

_FINE, _COARSE = 1e-6, 1.0
"""Seconds between two times that can be told apart; inodes of 256 bytes keep nanoseconds."""


def _format(
    variant: str, image: RawImage, where: Extent, block: int, label: str, serial: int, when: dt.datetime, habits: Habits
) -> VolumeWriter[Any]:
    from sastrugi.volumes.ext.write import ExtWriter  # what only reads starts without it

    dice = random.Random(serial)
    geometry = plan(
        variant, where.offset, where.length, block, image.sector, habits, dice.randbytes(16), dice.randbytes(16)
    )
    return ExtWriter(image, geometry, variant, label, when, habits)


def _mkfs(variant: str, block: int, _sector: int, label: str) -> list[str]:
    return [f"mkfs.{variant}", "-q", "-F", "-E", "nodiscard", "-b", str(block), *(["-L", label] if label else [])]


def _variant(name: str, grain: float) -> Variant:
    return Variant(
        name, name, 0x83, grain, default_block, partial(_format, name), partial(_mkfs, name),
        UUID("0fc63daf-8483-4772-8e79-3d69d8477de4"), "Apple_UNIX_SVR2",
    )  # fmt: skip


FILE_SYSTEM = FileSystem(
    family="ext",
    title="ext",
    variants=(_variant("ext2", _COARSE), _variant("ext3", _FINE), _variant("ext4", _FINE)),
    open=open_ext,
    boot=BootMark(superblock_sectors, starts),
    peek=later(f"{__name__}.peek", "peek"),
    metadata_sectors=marked_sectors,
    earlier=later(f"{__name__}.earlier", "earlier_volumes"),
    list_sectors=later(f"{__name__}.lists", "list_sectors"),
    lists=later(f"{__name__}.lists", "BlockLists"),
    mounts=(("mount", "-t", "ext4"),),
    tools="e2fsprogs",
)
