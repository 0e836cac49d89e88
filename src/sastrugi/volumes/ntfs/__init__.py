"""NTFS 3.1, after what its Linux drivers' authors and the drivers themselves document of it.

`layout` declares the structures; `plan`, `file_record`, `index`, `log_write`, `record_writer`, `format_write`,
`evidence` and `write` lay volumes down; `sector_tests` and `opening` find them, `records` (many at once),
`recorded_files` and `read` read them, `earlier` those that are no more.
"""

from __future__ import annotations

import datetime as dt
from typing import TYPE_CHECKING, Any

from sastrugi.volumes.boot_sectors import boots_in
from sastrugi.volumes.ntfs.opening import open_ntfs, starts
from sastrugi.volumes.ntfs.plan import default_cluster, plan
from sastrugi.volumes.ntfs.sector_tests import record_sectors
from sastrugi.volumes.registry import BootMark, FileSystem, Variant, later

if TYPE_CHECKING:
    from sastrugi.media.extents import Extent
    from sastrugi.media.raw import RawImage
    from sastrugi.volumes.writer import Habits, VolumeWriter

_TIME_GRAIN = 1e-6
"""Seconds; the volume keeps tenths of that."""


def _format(
    image: RawImage, where: Extent, cluster: int, label: str, serial: int, when: dt.datetime, habits: Habits
) -> VolumeWriter[Any]:
    from sastrugi.volumes.ntfs.write import NtfsWriter  # what only reads starts without it

    geometry = plan(where.offset, where.length, cluster, image.sector, habits)
    return NtfsWriter(image, geometry, label, serial, when, habits)


def _mkfs(cluster: int, _sector: int, label: str) -> list[str]:
    return ["mkntfs", "-F", "-Q", "-q", "-c", str(cluster), *(["-L", label] if label else [])]


FILE_SYSTEM = FileSystem(
    family="ntfs",
    title="NTFS",
    variants=(Variant("ntfs", "NTFS", 0x07, _TIME_GRAIN, default_cluster, _format, _mkfs),),
    open=open_ntfs,
    boot=BootMark(boots_in, starts),
    peek=later(f"{__name__}.peek", "peek"),
    metadata_sectors=record_sectors,
    earlier=later(f"{__name__}.earlier", "earlier_volumes"),
    mounts=(("mount.ntfs-3g",),),
    tools="ntfs-3g",
)
