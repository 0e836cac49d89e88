"""Partition tables: `mbr` (with logical partitions) and `gpt`, each written and read."""

from __future__ import annotations

from sastrugi.media.base import Medium
from sastrugi.media.partitions.base import Partition
from sastrugi.media.partitions.gpt import GPT_SIGNATURE, read_gpt
from sastrugi.media.partitions.mbr import MBR_SIGNATURE, read_mbr

SECTOR_SIZES = (512, 4096)


def read_table(medium: Medium) -> list[Partition]:
    """All partitions that the table of a medium lists; empty on a medium without one."""
    return read_gpt(medium) or [part for part in read_mbr(medium) if part.type_name != "GPT"]


def settle_sector(medium: Medium) -> None:
    """Set the sector size a medium was written with, from where its structures stand; 512 where nothing tells."""
    for sector in SECTOR_SIZES:
        medium.sector = sector
        if medium.read(sector, 8) == GPT_SIGNATURE:
            return
    head = medium.read(0, 512)
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


__all__ = ["Partition", "read_gpt", "read_mbr", "read_table", "settle_sector"]
