"""The geometry of a new exFAT volume."""

from __future__ import annotations

from typing import TYPE_CHECKING

from sastrugi.errors import VolumeError
from sastrugi.units import format_size
from sastrugi.volumes.exfat.layout import BOOT_REGION_SECTORS, FIRST_CLUSTER, MAX_CLUSTERS, Geometry
from sastrugi.volumes.exfat.upcase import table_bytes

if TYPE_CHECKING:
    from sastrugi.volumes.writer import Habits

_USUAL = ((256 << 20, 4 << 10), (32 << 30, 32 << 10), (1 << 62, 128 << 10))
"""Volume size up to which a cluster size is usual."""
_MAX_CLUSTER = 32 << 20
_MIN_VOLUME = 1 << 20


def default_cluster(size: int, sector: int = 512, habits: Habits = "linux") -> int:
    """The cluster size that is usual for a volume of `size` bytes; cameras take 32 KiB at least."""
    usual = next(cluster for limit, cluster in _USUAL if size <= limit)
    if habits == "camera" and size >= 8 << 20:
        usual = max(usual, 32 << 10)
    return max(usual, sector)


def plan(offset: int, size: int, cluster_size: int, sector: int = 512, habits: Habits = "linux") -> Geometry:
    """The geometry of a volume of `size` bytes at `offset`; raises VolumeError with the limits if it cannot be.

    FAT and clusters begin on even places of the medium: 1 MiB, with cameras 4 MiB, on small volumes a cluster.
    """
    if cluster_size < sector or cluster_size & (cluster_size - 1) or cluster_size > _MAX_CLUSTER:
        raise VolumeError(
            f"an exFAT cluster cannot be {format_size(cluster_size)}: it is {format_size(sector)}, "
            f"{format_size(2 * sector)}, {format_size(4 * sector)} … 32 MiB"
        )
    if size < _MIN_VOLUME:
        raise VolumeError(f"exFAT needs a volume of 1 MiB at least, not {format_size(size)}")
    align = cluster_size if size < 64 << 20 else 4 << 20 if habits == "camera" and size >= 256 << 20 else 1 << 20
    align = max(align, sector)
    fat_start = _aligned(offset + 2 * BOOT_REGION_SECTORS * sector, min(align, 1 << 20))
    most = (size - (fat_start - offset)) // cluster_size
    fat_bytes = _aligned((most + FIRST_CLUSTER) * 4, sector)
    heap = _aligned(fat_start + fat_bytes, max(align, sector))
    clusters = (offset + size - heap) // cluster_size
    bitmap_bytes = (clusters + 7) // 8
    needed = sum(-(-size // cluster_size) for size in (bitmap_bytes, len(table_bytes()), 1))
    if not needed < clusters <= MAX_CLUSTERS:
        raise VolumeError(
            f"exFAT with clusters of {format_size(cluster_size)} holds up to "
            f"{format_size(MAX_CLUSTERS * cluster_size)} and needs {needed + 1} clusters; "
            f"{format_size(size)} gives {max(clusters, 0):,}: choose another cluster size or volume size"
        )
    return Geometry(
        offset, sector, cluster_size // sector, size // sector, (fat_start - offset) // sector, fat_bytes // sector,
        (heap - offset) // sector, clusters, FIRST_CLUSTER + needed - 1,
    )  # fmt: skip


def _aligned(place: int, align: int) -> int:
    return -(-place // align) * align
