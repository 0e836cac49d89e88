"""FAT12, FAT16 and FAT32, after Microsoft's "FAT File System Specification" (version 1.03, 2000).

`layout` declares the records, `write` lays volumes down, `read` reads them; the two share only `layout`.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from functools import partial
from typing import TYPE_CHECKING, Any

from sastrugi.volumes.boot_sectors import boots_in, copies_at
from sastrugi.volumes.fat.directory import parse_table
from sastrugi.volumes.fat.layout import ENTRY_SIZE
from sastrugi.volumes.fat.plan import default_cluster, plan
from sastrugi.volumes.fat.read import open_fat
from sastrugi.volumes.fat.sector_tests import table_sectors
from sastrugi.volumes.registry import BootMark, FileSystem, LifeRules, SeenRecord, Variant

if TYPE_CHECKING:
    from sastrugi.media.extents import Extent
    from sastrugi.media.raw import RawImage
    from sastrugi.volumes.writer import Habits, VolumeWriter

_TIME_GRAIN = 2.0
"""Seconds ("FAT Directory Structure", DIR_WrtTime)."""


def _format(
    bits: int, image: RawImage, where: Extent, cluster: int, label: str, serial: int, when: dt.datetime, habits: Habits
) -> VolumeWriter[Any]:
    from sastrugi.volumes.fat.write import FatWriter  # what only reads starts without it

    geometry = plan(where.offset, where.length, bits, cluster, image.sector, habits)
    return FatWriter(image, geometry, label, serial, when)


def _usual_cluster(bits: int, size: int, sector: int, habits: Habits) -> int:
    return default_cluster(size, bits, sector, habits)


def _mkfs(bits: int, cluster: int, sector: int, label: str) -> list[str]:
    named = ["-n", label.upper()] if label else []
    return ["mkfs.fat", "-I", "-F", str(bits), "-s", str(cluster // sector), "-S", str(sector), *named]


def _peek(variant: str, data: bytes, _where: Sequence[Extent], first: int, cluster: int) -> SeenRecord | None:
    width = int(variant.removeprefix("fat"))
    found = parse_table(data, width)
    if not found or found[-1].position + found[-1].length != len(data):
        # Long-name entries may be written over while the short entry, the last, stands.
        found = parse_table(data[-ENTRY_SIZE:], width)
    return SeenRecord(found[-1].name, found[-1].size, first + (found[-1].cluster - 2) * cluster) if found else None


FILE_SYSTEM = FileSystem(
    family="fat",
    title="FAT",
    variants=tuple(
        Variant(
            f"fat{bits}", f"FAT{bits}", type_, _TIME_GRAIN, partial(_usual_cluster, bits), partial(_format, bits),
            partial(_mkfs, bits),
        )
        for bits, type_ in ((12, 0x01), (16, 0x0E), (32, 0x0C))
    ),
    open=open_fat,
    boot=BootMark(boots_in, copies_at(0, 6)),
    metadata_sectors=table_sectors,
    peek=_peek,
    lives=LifeRules(
        [512 << n for n in range(8)], folders_tell_their_place=True, low_halves=True, loses_first_letters=True
    ),
    mounts=(("mount", "-t", "vfat", "-o", "utf8=1,tz=UTC"),),
    tools="dosfstools",
)  # fmt: skip
