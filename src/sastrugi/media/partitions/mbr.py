"""Partition tables: the master boot record, with an extended partition.

Source: the de-facto PC layout as written down in the UEFI specification, section 5.2.1 (Legacy MBR). Logical
partitions: each has a boot record of its own in front, whose second entry leads to the next (counted from the start of
the extended partition).
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from sastrugi.errors import MediumError
from sastrugi.media.base import Medium
from sastrugi.media.extents import Extent
from sastrugi.media.partitions.base import Partition, place_note
from sastrugi.media.partitions.types import mbr_type_name

MBR_SIGNATURE = b"\x55\xaa"
SIGNATURE_OFFSET = 510
RECORDS_OFFSET = 446
RECORD_COUNT = 4
TYPE_EXTENDED_LBA, TYPE_EXTENDED = 0x0F, 0x05
PROTECTIVE_TYPE = 0xEE
_EXTENDED_TYPES = frozenset({0x05, 0x0F, 0x85})
_MOST_LOGICAL = 128
_GAP = 1 << 20
"""Room that is left for the boot record in front of a logical partition, where there is so much."""

RECORD = np.dtype(
    [
        ("boot", "u1"), ("first_chs", "u1", 3), ("type", "u1"), ("last_chs", "u1", 3), ("first_lba", "<u4"),
        ("sectors", "<u4"),
    ]
)  # fmt: skip
_Row = tuple[int, int, int]
"""Type, first sector and number of sectors of one record."""


def _chs(lba: int) -> tuple[int, int, int]:
    """Cylinder/head/sector bytes of a block for 255 heads of 63 sectors; the highest triple when it does not fit."""
    cylinder, rest = divmod(lba, 255 * 63)
    head, sector = divmod(rest, 63)
    if cylinder > 1023:
        return 254, 0xFF, 0xFF
    return head, (sector + 1) | (cylinder >> 2 & 0xC0), cylinder & 0xFF


def _boot_record(rows: Sequence[_Row | None], disk_id: int, chs_from: int = 0) -> bytes:
    """512 bytes with these records; `chs_from` is the sector that the first sectors are counted from."""
    records = np.zeros(RECORD_COUNT, RECORD)
    for record, row in zip(records, rows, strict=False):
        if row is None:
            continue
        type_, first, count = row
        if first + count > 0xFFFFFFFF:
            raise MediumError("a master boot record cannot reach beyond 4,294,967,295 sectors: use table = 'gpt'")
        record["first_chs"], record["last_chs"] = _chs(chs_from + first), _chs(chs_from + first + count - 1)
        record["type"], record["first_lba"], record["sectors"] = type_, first, count
    return bytes(440) + disk_id.to_bytes(4, "little") + bytes(2) + records.tobytes() + MBR_SIGNATURE


def lay_mbr(places: Sequence[tuple[Extent, int, bool]], disk_id: int, sector: int) -> list[tuple[int, bytes]]:
    """The boot records that list `places` (where, partition type, whether logical), each with its offset.

    Raises MediumError where primary partitions are more than fit, or there is no room for a logical one's record.
    """
    rows: list[_Row | None] = []
    logical: list[tuple[Extent, int]] = []
    for where, type_, is_logical in places:
        if is_logical:
            logical.append((where, type_))
        else:
            rows.append((type_, where.offset // sector, where.length // sector))
    out: list[tuple[int, bytes]] = []
    if logical:
        records = _records_of(places, logical, sector)
        start, end = records[0] // sector, logical[-1][0].end // sector
        rows.append((TYPE_EXTENDED_LBA, start, end - start))
        for n, (where, type_) in enumerate(logical):
            own = records[n] // sector
            first = where.offset // sector - own
            row = (type_, first, where.length // sector)
            following: _Row | None = None
            if n + 1 < len(logical):
                ahead = records[n + 1] // sector
                following = (TYPE_EXTENDED, ahead - start, logical[n + 1][0].end // sector - ahead)
            out.append((records[n], _boot_record([row, following], 0, own)))
    if len(rows) > RECORD_COUNT:
        raise MediumError(
            f"a master boot record lists {RECORD_COUNT} partitions, not {len(rows)}: make some 'logical = true'"
        )
    return [(0, _boot_record(rows, disk_id)), *out]


def _records_of(
    places: Sequence[tuple[Extent, int, bool]], logical: Sequence[tuple[Extent, int]], sector: int
) -> list[int]:
    """Where the boot record of each logical partition goes: up to 1 MiB before it, behind what comes before."""
    out: list[int] = []
    for where, _ in logical:
        before = max([p.end for p, _, _ in places if p.end <= where.offset], default=sector)
        at = max(before, where.offset - _GAP)
        if at + sector > where.offset:
            raise MediumError(
                f"a logical partition needs a free sector before it, for its boot record: nothing is free "
                f"before byte {where.offset:,}"
            )
        out.append(at)
    return out


def read_mbr(medium: Medium) -> list[Partition]:
    """The partitions that the first sector lists, logical ones included; empty if it is no plausible table.

    A boot sector of a bare volume carries the same signature: it is told apart by its records, which are then
    no partition entries (boot flag neither 0x00 nor 0x80, or nothing in them).
    """
    out: list[Partition] = []
    for n, (type_, where, bootable) in enumerate(_rows(medium, 0), 1):
        if not type_ or not where.length:
            continue
        if type_ in _EXTENDED_TYPES:
            out += _read_logical(medium, where, 5)
            continue
        name = "GPT" if type_ == PROTECTIVE_TYPE else mbr_type_name(type_)
        out.append(Partition(n, name, where, bootable, note=place_note(where, medium.size)))
    return out


def _rows(medium: Medium, offset: int) -> list[tuple[int, Extent, bool]]:
    block = medium.read(offset, 512)
    if len(block) < 512 or block[SIGNATURE_OFFSET:] != MBR_SIGNATURE:
        return []
    records = np.frombuffer(block, RECORD, RECORD_COUNT, RECORDS_OFFSET)
    if np.any((records["boot"] & 0x7F) != 0):
        return []
    s = medium.sector
    return [(int(r["type"]), Extent(int(r["first_lba"]) * s, int(r["sectors"]) * s), bool(r["boot"])) for r in records]


def _read_logical(medium: Medium, extended: Extent, number: int) -> list[Partition]:
    """The chain of logical partitions; it ends at the first record that is none, or was seen before."""
    out: list[Partition] = []
    seen: set[int] = set()
    at = extended.offset
    while at not in seen and len(seen) < _MOST_LOGICAL:
        seen.add(at)
        rows = _rows(medium, at)
        following = 0
        for type_, place, bootable in rows[:2]:
            if type_ in _EXTENDED_TYPES:
                following = place.offset
            elif type_ and place.length:
                where = Extent(at + place.offset, place.length)
                note = place_note(where, medium.size)
                out.append(Partition(number + len(out), mbr_type_name(type_), where, bootable, True, note=note))
        if not following:
            break
        at = extended.offset + following
    return out
