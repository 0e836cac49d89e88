"""Partition tables: `mbr` (with logical partitions), `gpt` and `apm`, each written and read."""

from __future__ import annotations

from sastrugi.media.base import Medium
from sastrugi.media.extents import Extent
from sastrugi.media.partitions.apm import DEVICE_SIGNATURE, read_apm, reserved_at_start
from sastrugi.media.partitions.base import Partition
from sastrugi.media.partitions.gpt import GPT_SIGNATURE, read_gpt, reserved_at_end
from sastrugi.media.partitions.mbr import MBR_SIGNATURE, read_mbr

SECTOR_SIZES = (512, 4096)


def taken_by(scheme: str, size: int, sector: int) -> tuple[Extent, Extent]:
    """What a table of a scheme takes of a medium: at its start, and (its backup, if it has one) at its end."""
    if scheme == "gpt":
        reserved = reserved_at_end(sector)
        return Extent(0, sector + reserved), Extent(size - reserved, reserved)
    at_start = reserved_at_start(sector) if scheme == "apm" else sector if scheme else 0
    return Extent(0, at_start), Extent(size, 0)


def read_table(medium: Medium) -> list[Partition]:
    """All partitions that the table of a medium lists; empty on a medium without one."""
    return read_gpt(medium) or read_apm(medium) or [part for part in read_mbr(medium) if part.type_name != "GPT"]


def settle_sector(medium: Medium) -> None:
    """Set the sector size a medium was written with, from where its structures stand; 512 where nothing tells."""
    for sector in SECTOR_SIZES:
        medium.sector = sector
        if medium.read(sector, 8) == GPT_SIGNATURE:
            return
    head = medium.read(0, 512)
    if head[:2] == DEVICE_SIGNATURE and int.from_bytes(head[2:4], "big") in SECTOR_SIZES:
        medium.sector = int.from_bytes(head[2:4], "big")
        return
    for sector in SECTOR_SIZES:
        medium.sector = sector
        if _says_its_sector(head, sector):
            return
    for sector in SECTOR_SIZES:
        medium.sector = sector
        if any(medium.read(part.where.offset + 510, 2) == MBR_SIGNATURE for part in read_mbr(medium)):
            return
    medium.sector = SECTOR_SIZES[0]


def _says_its_sector(head: bytes, sector: int) -> bool:
    """Whether a bare volume's boot sector says that its sectors have this size: in its parameter block at byte 11; or,
    where that is all zero so that nobody takes it for one, as a power of two at byte 108."""
    if head[510:] != MBR_SIGNATURE or head[:1] not in (b"\xeb", b"\xe9"):
        return False
    if not any(head[11:64]):
        return head[108:109] == bytes([sector.bit_length() - 1])
    return head[11:13] == sector.to_bytes(2, "little")


__all__ = ["Partition", "read_apm", "read_gpt", "read_mbr", "read_table", "settle_sector", "taken_by"]
