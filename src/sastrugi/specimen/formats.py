"""The file systems a recipe can ask for: how each is planned and formatted. A new one is one more row."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable
from dataclasses import dataclass

from sastrugi.errors import VolumeError
from sastrugi.media import Extent
from sastrugi.media.raw import RawImage
from sastrugi.volumes.exfat import write as exfat
from sastrugi.volumes.fat import write as fat
from sastrugi.volumes.writing import Habits, VolumeWriter


@dataclass(frozen=True, slots=True)
class _FileSystem:
    default_cluster: Callable[[int, int, Habits], int]
    lay: Callable[[RawImage, Extent, int, str, int, dt.datetime, Habits], VolumeWriter]


def _fat(bits: int) -> _FileSystem:
    def lay(
        image: RawImage, where: Extent, cluster: int, label: str, serial: int, when: dt.datetime, habits: Habits
    ) -> VolumeWriter:
        geometry = fat.plan(where.offset, where.length, bits, cluster, image.sector, habits)
        return fat.FatWriter(image, geometry, label, serial, when)

    return _FileSystem(lambda size, sector, habits: fat.default_cluster(size, bits, sector, habits), lay)


def _lay_exfat(
    image: RawImage, where: Extent, cluster: int, label: str, serial: int, when: dt.datetime, habits: Habits
) -> VolumeWriter:
    geometry = exfat.plan(where.offset, where.length, cluster, image.sector, habits)
    return exfat.ExfatWriter(image, geometry, label, serial, when)


_FILE_SYSTEMS = {
    "fat12": _fat(12),
    "fat16": _fat(16),
    "fat32": _fat(32),
    "exfat": _FileSystem(exfat.default_cluster, _lay_exfat),
}
FILE_SYSTEMS = tuple(_FILE_SYSTEMS)


def format_volume(
    image: RawImage, where: Extent, file_system: str, cluster: int | None, label: str, serial: int, when: dt.datetime,
    habits: Habits = "linux",
) -> VolumeWriter:  # fmt: skip
    """Format a range of the image (quick). Without `cluster` the size that is usual is taken.

    Raises VolumeError, with the limits, if the file system cannot be so large or so small.
    """
    known = _FILE_SYSTEMS.get(file_system)
    if known is None:
        raise VolumeError(f"'{file_system}' is no file system here: there are {', '.join(FILE_SYSTEMS)}")
    size = cluster or known.default_cluster(where.length, image.sector, habits)
    return known.lay(image, where, size, label, serial, when, habits)
