"""Reading a journal: where it is, and what a driver would write back.

Source: TN1150, "Journal".
"""

from __future__ import annotations

import struct
from dataclasses import dataclass

import numpy as np

from sastrugi.media.base import Medium
from sastrugi.media.extents import Extent
from sastrugi.volumes.hfsplus.layout import (
    BLOCK_INFO,
    BLOCK_LIST,
    BLOCK_LIST_SUMMED,
    JOURNAL_ENDIAN,
    JOURNAL_HEADER,
    JOURNAL_HEADER_SUMMED,
    JOURNAL_INFO,
    JOURNAL_INFO_FLAGS_INSIDE,
    JOURNAL_MAGIC,
    SECTOR,
    Geometry,
    journal_sum,
)

_MOST_JOURNAL = 1 << 30
_MOST_LIST = 1 << 20
_HEAD_SIZE = struct.calcsize("<" + JOURNAL_HEADER)


@dataclass(frozen=True, slots=True)
class Journal:
    """Where a journal's buffer lies (its header counts to it), in what byte order it is, and from where to where
    transactions wait to be written back (bytes of the buffer)."""

    where: Extent
    order: str
    head: int
    first: int
    behind: int
    list_size: int

    def inside(self, at: int) -> int:
        """A byte of the buffer, which goes round."""
        return self.head + (at - self.head) % (self.where.length - self.head)


def find_journal(medium: Medium, geometry: Geometry, info_block: int) -> Journal | None:
    """The journal that a volume's header speaks of, if it is there."""
    info = medium.read(geometry.at(info_block), struct.calcsize(JOURNAL_INFO))
    if not info_block or info_block >= geometry.blocks or len(info) < struct.calcsize(JOURNAL_INFO):
        return None
    flags, _, offset, size = struct.unpack(JOURNAL_INFO, info)
    if not flags & JOURNAL_INFO_FLAGS_INSIDE or not 2 * SECTOR < size <= _MOST_JOURNAL or offset + size > geometry.size:
        return None
    where = Extent(geometry.offset + offset, size)
    data = medium.read(where.offset, _HEAD_SIZE)
    for order in "<>":
        if len(data) < _HEAD_SIZE:
            break
        magic, endian, first, behind, told, list_size, checksum, head = struct.unpack(order + JOURNAL_HEADER, data)
        if magic != JOURNAL_MAGIC or endian != JOURNAL_ENDIAN:
            continue
        blank = data[: JOURNAL_HEADER_SUMMED - 8] + bytes(4) + data[JOURNAL_HEADER_SUMMED - 4 : JOURNAL_HEADER_SUMMED]
        fits = SECTOR <= head < size and told == size and head <= first < size + 1 and head <= behind < size + 1
        if fits and head % SECTOR == 0 and SECTOR <= list_size <= _MOST_LIST and journal_sum(blank) == checksum:
            return Journal(where, order, head, first, behind, list_size)
    return Journal(where, "<", SECTOR, SECTOR, SECTOR, 0)


def waiting_sectors(medium: Medium, geometry: Geometry, journal: Journal) -> dict[int, int]:
    """What a driver would write back: for places of sectors where their newest copies stand. Ends at the first
    transaction that is not whole."""
    out: dict[int, int] = {}
    at, left = journal.first, (journal.behind - journal.first) % (journal.where.length - journal.head)
    while left >= journal.list_size > 0:
        found = _one_list(medium, journal, at)
        if found is None:
            break
        used, infos = found
        if used > left or used < journal.list_size:
            break
        place = at + journal.list_size
        for sector, size in infos:
            if sector != _KILLED:
                for n in range(size // SECTOR):
                    copy = journal.where.offset + journal.inside(place + n * SECTOR)
                    target = geometry.offset + (sector + n) * SECTOR
                    if target < geometry.offset + geometry.size:
                        out[target] = copy
            place += size
        at, left = journal.inside(at + used), left - used
    return out


_KILLED = (1 << 64) - 1
"""The place of a copy that is not to be written back any more."""


def _one_list(medium: Medium, journal: Journal, at: int) -> tuple[int, list[tuple[int, int]]] | None:
    """A block list: the bytes that it and its copies take, and of each copy the sector it belongs to and its size."""
    data = b"".join(
        medium.read(journal.where.offset + journal.inside(at + n), SECTOR) for n in range(0, journal.list_size, SECTOR)
    )
    if len(data) < journal.list_size:
        return None
    _, count, used, checksum, _ = struct.unpack_from(journal.order + BLOCK_LIST, data)
    head = data[:8] + bytes(4) + data[12:BLOCK_LIST_SUMMED]
    if journal_sum(head) != checksum or not 1 <= count <= len(data) // BLOCK_INFO.itemsize - 1:
        return None
    rows = np.frombuffer(
        data, BLOCK_INFO.newbyteorder(">" if journal.order == ">" else "<"), count, struct.calcsize(BLOCK_LIST)
    )[1:]
    infos = list(zip(rows["sector"].tolist(), rows["size"].tolist(), strict=True))
    if used != journal.list_size + sum(size for _, size in infos):
        return None
    return used, infos
