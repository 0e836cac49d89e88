"""Partition tables: the master boot record.

Source: the de-facto PC layout as written down in the UEFI specification, section 5.2.1 (Legacy MBR).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from sastrugi.errors import MediumError
from sastrugi.media.base import Medium
from sastrugi.media.extents import Extent

MBR_SIGNATURE = b"\x55\xaa"
SIGNATURE_OFFSET = 510
RECORDS_OFFSET = 446
RECORD_COUNT = 4

TYPE_FAT32_LBA = 0x0C
TYPE_FAT16_LBA = 0x0E
TYPE_FAT12 = 0x01
EXTENDED_TYPES = frozenset({0x05, 0x0F, 0x85})
PROTECTIVE_TYPE = 0xEE
TYPE_NAMES = {
    0x01: "FAT12", 0x04: "FAT16", 0x06: "FAT16", 0x07: "NTFS or exFAT", 0x0B: "FAT32", 0x0C: "FAT32",
    0x0E: "FAT16", 0x05: "extended", 0x0F: "extended", 0x82: "Linux swap", 0x83: "Linux", 0xEE: "GPT",
    0xAF: "HFS+",
}  # fmt: skip

RECORD = np.dtype(
    [
        ("boot", "u1"),
        ("first_chs", "u1", 3),
        ("type", "u1"),
        ("last_chs", "u1", 3),
        ("first_lba", "<u4"),
        ("sectors", "<u4"),
    ]
)


@dataclass(frozen=True, slots=True)
class Partition:
    """One entry of a partition table. `where` is in bytes and may reach beyond the medium: `note` says so."""

    number: int
    type: int
    where: Extent
    bootable: bool = False
    note: str = ""

    @property
    def type_name(self) -> str:
        return TYPE_NAMES.get(self.type, f"type {self.type:#04x}")


def _chs(lba: int) -> tuple[int, int, int]:
    """Cylinder/head/sector bytes of a block for 255 heads of 63 sectors; the highest triple when it does not fit."""
    cylinder, rest = divmod(lba, 255 * 63)
    head, sector = divmod(rest, 63)
    if cylinder > 1023:
        return 254, 0xFF, 0xFF
    return head, (sector + 1) | (cylinder >> 2 & 0xC0), cylinder & 0xFF


def mbr_bytes(partitions: list[Partition], disk_id: int, sector: int = 512) -> bytes:
    """A 512-byte master boot record that lists `partitions` (four at most)."""
    if len(partitions) > RECORD_COUNT:
        raise MediumError(f"a master boot record lists {RECORD_COUNT} partitions, not {len(partitions)}")
    records = np.zeros(RECORD_COUNT, RECORD)
    for record, part in zip(records, partitions, strict=False):
        first, count = part.where.offset // sector, part.where.length // sector
        if first + count > 0xFFFFFFFF:
            raise MediumError("a master boot record cannot reach beyond 2 TiB of 512-byte sectors")
        record["boot"] = 0x80 if part.bootable else 0
        record["first_chs"], record["last_chs"] = _chs(first), _chs(first + count - 1)
        record["type"], record["first_lba"], record["sectors"] = part.type, first, count
    head = bytes(440) + disk_id.to_bytes(4, "little") + bytes(2)
    return head + records.tobytes() + MBR_SIGNATURE


def read_mbr(medium: Medium) -> list[Partition]:
    """The partitions that the first sector lists; empty if it is not a plausible master boot record.

    A boot sector of a bare volume carries the same signature: it is told apart by its records, which are then
    no partition entries (boot flag neither 0x00 nor 0x80, or nothing in them).
    """
    block = medium.read(0, 512)
    if len(block) < 512 or block[SIGNATURE_OFFSET:] != MBR_SIGNATURE:
        return []
    records = np.frombuffer(block, RECORD, RECORD_COUNT, RECORDS_OFFSET)
    if np.any((records["boot"] & 0x7F) != 0):
        return []
    out: list[Partition] = []
    for n, record in enumerate(records, 1):
        first, count = int(record["first_lba"]) * medium.sector, int(record["sectors"]) * medium.sector
        if not record["type"] or not count:
            continue
        note = ""
        if first >= medium.size:
            note = "starts beyond the end of the medium"
        elif first + count > medium.size:
            note = f"ends {first + count - medium.size:,} bytes beyond the end of the medium"
        elif first == 0:
            note = "starts at sector 0, where the table itself is"
        out.append(Partition(n, int(record["type"]), Extent(first, count), bool(record["boot"]), note))
    return out
