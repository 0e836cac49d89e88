"""The geometry of a new volume."""

from __future__ import annotations

from typing import TYPE_CHECKING

from sastrugi.errors import VolumeError
from sastrugi.units import format_size
from sastrugi.volumes.ntfs.layout import Geometry

if TYPE_CHECKING:
    from sastrugi.volumes.writer import Habits

BOOT_BYTES, INDEX_BLOCK = 8192, 4096
_LEAST_VOLUME = 1 << 20
_LARGEST_CLUSTER = 2 << 20
_USUAL = ((16 << 40, 4 << 10), (32 << 40, 8 << 10), (64 << 40, 16 << 10), (128 << 40, 32 << 10), (1 << 62, 64 << 10))
"""Volume size up to which a cluster size is usual."""


def default_cluster(size: int, sector: int = 512, habits: Habits = "linux") -> int:
    """The cluster size that is usual for a volume of `size` bytes."""
    return max(next(cluster for limit, cluster in _USUAL if size <= limit), sector)


def plan(offset: int, size: int, cluster: int, sector: int, habits: Habits) -> Geometry:
    """The geometry of a volume of `size` bytes at `offset`; raises VolumeError with the limits if it cannot be."""
    if cluster < sector or cluster & (cluster - 1) or cluster > _LARGEST_CLUSTER:
        raise VolumeError(
            f"an NTFS cluster cannot be {format_size(cluster)}: it is {format_size(sector)}, "
            f"{format_size(2 * sector)}, {format_size(4 * sector)} … 2 MiB"
        )
    sectors = size // sector - 1  # the last one holds the copy of the boot sector
    clusters = sectors * sector // cluster
    needed = (BOOT_BYTES + log_size(size) + (1 << 19)) // cluster + 24
    if habits == "windows":
        from sastrugi.volumes.ntfs.change_journal import journal_clusters

        needed += journal_clusters(size, cluster)[0]
    if size < _LEAST_VOLUME or clusters < needed:
        raise VolumeError(
            f"NTFS with clusters of {format_size(cluster)} needs {format_size(max(needed * cluster, _LEAST_VOLUME))} "
            f"at least, not {format_size(size)}: choose a larger volume or smaller clusters"
        )
    if clusters >= 1 << 32:
        raise VolumeError(f"NTFS holds 2^32 clusters: choose clusters larger than {format_size(cluster)}")
    first = -(-BOOT_BYTES // cluster)
    if habits == "windows":
        mirror, mft = max(first, 2), min((3 << 30) // cluster, clusters // 3)
    else:
        mirror, mft = clusters // 2, max(first, (16 << 10) // cluster)
    return Geometry(
        offset, sector, cluster, sectors, mft, mirror, 4096 if sector > 1024 else 1024, INDEX_BLOCK, 0
    )  # fmt: skip


def log_size(size: int) -> int:
    """Bytes of $LogFile that are usual for a volume: about a hundredth, of which the least is 256 KiB."""
    return min(max(size // 100 // 4096 * 4096, 256 << 10), 64 << 20)
