"""The geometry of a new FAT volume."""

from __future__ import annotations

from typing import TYPE_CHECKING

from sastrugi.errors import VolumeError
from sastrugi.units import format_size
from sastrugi.volumes.fat.layout import MAX_CLUSTERS, Geometry

if TYPE_CHECKING:
    from sastrugi.volumes.writer import Habits

_ROOT_ENTRIES = 512
_USUAL_FAT32 = ((260 << 20, 512), (8 << 30, 4 << 10), (16 << 30, 8 << 10), (32 << 30, 16 << 10), (1 << 60, 32 << 10))
"""Volume size up to which a cluster size is usual (FAT specification 1.03, table DskTableFAT32)."""
_RESERVED = {12: 1, 16: 4, 32: 32}


def default_cluster(size: int, bits: int, sector: int = 512, habits: Habits = "linux") -> int:
    """The cluster size that is usual for a volume of `size` bytes, among those that give it a fitting count."""
    sizes = [sector << n for n in range(8) if sector << n <= 65536]
    fitting = [c for c in sizes if _fewest(bits) <= size // c <= MAX_CLUSTERS[bits]]
    if not fitting:
        return sizes[0] if size // sizes[0] < _fewest(bits) else sizes[-1]
    if habits == "camera":
        usual = 32 << 10
    elif bits == 32:
        usual = next(cluster for limit, cluster in _USUAL_FAT32 if size <= limit)
    else:
        usual = fitting[0]
    return max([c for c in fitting if c <= usual], default=fitting[0])


def _fewest(bits: int) -> int:
    """The fewest clusters of a volume of this width: one more than the next narrower one holds."""
    return MAX_CLUSTERS[{32: 16, 16: 12}[bits]] + 1 if bits != 12 else 1


def plan(offset: int, size: int, bits: int, cluster_size: int, sector: int = 512, habits: Habits = "linux") -> Geometry:
    """The geometry of a volume of `size` bytes at `offset`; raises VolumeError with the limits if it cannot be.

    Cameras and Windows choose the number of reserved sectors so that the clusters begin on an even place.
    """
    per_cluster, rest = divmod(cluster_size, sector)
    if rest or per_cluster not in (1, 2, 4, 8, 16, 32, 64, 128) or cluster_size > 65536:
        raise VolumeError(
            f"a FAT cluster cannot be {format_size(cluster_size)}: it is 1, 2, 4 … 128 sectors "
            f"of {sector} bytes, 64 KiB at most"
        )
    reserved = _RESERVED[bits]
    align = {"camera": (4 << 20) if size >= 256 << 20 else cluster_size, "windows": cluster_size}.get(habits, sector)
    root_entries = 0 if bits == 32 else _ROOT_ENTRIES
    fat_sectors = 1
    while True:
        geometry = Geometry(
            offset, sector, per_cluster, reserved, 2, fat_sectors, root_entries, size // sector,
            root_cluster=2 if bits == 32 else 0,
        )  # fmt: skip
        needed = -(-((geometry.clusters + 2) * bits) // (8 * sector))
        if needed > fat_sectors:
            fat_sectors = needed
        elif geometry.data.offset % align:
            reserved += (-geometry.data.offset % align) // sector
        else:
            break
    fewest = _fewest(bits)
    if not fewest <= geometry.clusters <= MAX_CLUSTERS[bits] or geometry.total_sectors > 0xFFFFFFFF:
        raise VolumeError(
            f"FAT{bits} with clusters of {format_size(cluster_size)} needs {fewest:,} to "
            f"{MAX_CLUSTERS[bits]:,} clusters "
            f"(about {format_size(fewest * cluster_size)} to "
            f"{format_size(min(MAX_CLUSTERS[bits] * cluster_size, 0xFFFFFFFF * sector))}); "
            f"{format_size(size)} gives {geometry.clusters:,}: choose another cluster size or volume size"
        )
    return geometry
