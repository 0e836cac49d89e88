"""exFAT, after Microsoft's "exFAT file system specification" (revision 1.00, 2019).

`layout` declares the records, `write` lays volumes down, `read` reads them; the two share only `layout`.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from sastrugi.volumes.boot_sectors import boots_in, copies_at
from sastrugi.volumes.exfat.directory import parse_set
from sastrugi.volumes.exfat.plan import default_cluster, plan
from sastrugi.volumes.exfat.read import open_exfat
from sastrugi.volumes.exfat.sector_tests import table_sectors
from sastrugi.volumes.registry import BootMark, FileSystem, LifeRules, SeenRecord, Variant

if TYPE_CHECKING:
    from sastrugi.media.extents import Extent
    from sastrugi.media.raw import RawImage
    from sastrugi.volumes.writer import Habits, VolumeWriter

_TIME_GRAIN = 0.01
"""Seconds (section 7.4.8, the 10 ms increment)."""


def _format(
    image: RawImage, where: Extent, cluster: int, label: str, serial: int, when: dt.datetime, habits: Habits
) -> VolumeWriter[Any]:
    from sastrugi.volumes.exfat.write import ExfatWriter  # what only reads starts without it

    geometry = plan(where.offset, where.length, cluster, image.sector, habits)
    return ExfatWriter(image, geometry, label, serial, when)


def _mkfs(cluster: int, _sector: int, label: str) -> list[str]:
    return ["mkfs.exfat", "-c", str(cluster), *(["-L", label] if label else [])]


def _peek(_variant: str, data: bytes, _where: Sequence[Extent], first: int, cluster: int) -> SeenRecord | None:
    seen = parse_set(data)
    return SeenRecord(seen.name, seen.size, first + (seen.cluster - 2) * cluster) if seen else None


FILE_SYSTEM = FileSystem(
    family="exfat",
    title="exFAT",
    variants=(Variant("exfat", "exFAT", 0x07, _TIME_GRAIN, default_cluster, _format, _mkfs),),
    open=open_exfat,
    boot=BootMark(boots_in, copies_at(0, 12)),
    metadata_sectors=table_sectors,
    peek=_peek,
    lives=LifeRules(
        [512 << n for n in range(17)], folders_tell_their_place=False, low_halves=False, loses_first_letters=False
    ),
    mounts=(("mount", "-t", "exfat"), ("mount.exfat-fuse",)),
    tools="exfatprogs",
)
