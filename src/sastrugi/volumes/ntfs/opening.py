"""Where a volume can be, by a boot sector or the copy of one. What reads it is imported where there is one."""

from __future__ import annotations

from typing import TYPE_CHECKING

from sastrugi.media.base import Medium
from sastrugi.media.extents import Extent
from sastrugi.volumes.ntfs.layout import STRIDE, Geometry, geometry_of

if TYPE_CHECKING:
    from sastrugi.volumes.ntfs.read import NtfsVolume


def starts(medium: Medium, at: int) -> list[tuple[int, bool]]:
    """Where the volume of a boot sector may begin: there, or so far before that this is its last sector."""
    geometry = geometry_of(medium.read(at, STRIDE), at)
    return [] if geometry is None else [(at, False), (at - geometry.sectors * geometry.sector, True)]


def open_ntfs(medium: Medium, where: Extent) -> NtfsVolume | None:
    """By the boot sector, or by its copy in the last sector."""
    by_copy = False
    found = geometry_of(medium.read(where.offset, STRIDE), where.offset)
    if found is None:
        found, by_copy = _by_the_last_sector(medium, where), True
    if found is None:
        return None
    from sastrugi.volumes.ntfs.read import NtfsVolume

    return NtfsVolume(medium, found, by_copy)


def _by_the_last_sector(medium: Medium, where: Extent) -> Geometry | None:
    for sector in dict.fromkeys((STRIDE, medium.sector, 4096)):
        last = where.length // STRIDE * STRIDE - sector
        copy = geometry_of(medium.read(where.offset + last, STRIDE), where.offset) if last > 0 else None
        if copy is not None and copy.sectors * copy.sector == last:
            return copy
    return None
