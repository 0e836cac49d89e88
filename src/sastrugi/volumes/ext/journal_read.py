"""Reading a journal as what it is to a search: copies of blocks of the volume, each with its transaction."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from sastrugi.media.base import Medium
from sastrugi.media.filemap import FileMap
from sastrugi.volumes.ext.journal_layout import (
    COMMIT_BLOCK,
    DESCRIPTOR_BLOCK,
    ESCAPED,
    HEAD,
    JOURNAL_MAGIC,
    JOURNAL_SUPERBLOCK,
    LAST,
    MAGIC_BYTES,
    REVOKE_BLOCK,
    SAME_UUID,
    SUMS_2,
    SUMS_3,
    SUPERBLOCK_1,
    SUPERBLOCK_2,
    UUID_SIZE,
    WIDE_NUMBERS,
    copy_sum,
    tag_size,
)
from sastrugi.volumes.ext.layout import MIRRORED_SEED, raw_crc32c

_AT_ONCE = 8 << 20
_LARGEST = 4 << 30
_TYPES = 5


@dataclass(slots=True)
class Copies:
    """Copies of blocks, sorted by block and transaction: arrays of one length. `at` are bytes of the medium, `escaped`
    copies lack their first four bytes (they are the journal's magic), `good` are not told wrong by their checksum."""

    block: NDArray[np.int64]
    transaction: NDArray[np.int64]
    at: NDArray[np.int64]
    escaped: NDArray[np.bool_]
    good: NDArray[np.bool_]

    def __len__(self) -> int:
        return len(self.block)

    def of(self, block: int) -> slice:
        """The copies of one block, the oldest first."""
        return slice(int(np.searchsorted(self.block, block)), int(np.searchsorted(self.block, block, side="right")))


def read_copies(medium: Medium, journal: FileMap, block: int, blocks: int) -> Copies:
    """All copies that still stand in a journal, of a volume of `blocks` blocks of `block` bytes; also of transactions
    that were written back long ago, and where its superblock is gone."""
    count = min(journal.size, _LARGEST) // block
    if count < 2:  # a superblock, and nothing behind it
        count = 0
    heads = _heads(medium, journal, block, count)
    features, seed = _superblock(medium, journal)
    parts: list[NDArray[np.int64]] = []
    for n in np.flatnonzero((heads["magic"] == JOURNAL_MAGIC) & (heads["type"] == DESCRIPTOR_BLOCK)).tolist():
        data = journal.read(medium, n * block, block)
        found = _tags(data, features, blocks)
        places: list[int] = []
        at = n
        for _ in range(len(found)):
            at = _next(at, count)
            head = heads[at]
            if head["magic"] == JOURNAL_MAGIC and 0 < head["type"] <= _TYPES:
                break  # what stood here was written over
            places.append(at)
        transaction = int(heads[n]["transaction"])
        rows = [
            (number, transaction, at, escaped, told) for (number, escaped, told), at in zip(found, places, strict=False)
        ]
        parts.append(np.array(rows, np.int64).reshape(-1, 5))
    rows_of_all = np.concatenate(parts) if parts else np.zeros((0, 5), np.int64)
    number, transactions, place, escaped, told = rows_of_all.T
    where = _places(journal, block, count)
    order = np.lexsort((place, transactions, number))
    order = order[where[place[order]] >= 0]
    out = Copies(
        number[order], transactions[order], where[place[order]], escaped[order].astype(bool), np.ones(len(order), bool)
    )
    for n, expected in enumerate(told[order].tolist()):
        if expected >= 0:
            data = medium.read(int(out.at[n]), block)
            out.good[n] = copy_sum(seed, int(out.transaction[n]), data) == expected
    return out


def pending_blocks(medium: Medium, journal: FileMap, block: int, blocks: int) -> dict[int, int]:
    """What a driver would write back before it mounts the volume: for each block the byte of the medium at which its
    newest copy stands. Of a volume that was unmounted, nothing."""
    count = min(journal.size, _LARGEST) // block
    row = np.frombuffer(journal.read(medium, 0, JOURNAL_SUPERBLOCK.itemsize).ljust(1024, b"\0"), JOURNAL_SUPERBLOCK)[0]
    features, _ = _superblock(medium, journal)
    at, sequence = int(row["start"]), int(row["sequence"])
    if features is None or not 0 < at < count:
        return {}
    places = _places(journal, block, count)
    done: list[tuple[int, int, int]] = []
    revoked: dict[int, int] = {}
    open_copies: list[tuple[int, int, int]] = []
    open_revokes: list[int] = []
    for _ in range(count):
        data = journal.read(medium, at * block, block)
        magic, kind, transaction = HEAD.unpack_from(data.ljust(HEAD.size, b"\0"))
        if magic != JOURNAL_MAGIC or transaction != sequence:
            break
        at = _next(at, count)
        if kind == DESCRIPTOR_BLOCK:
            for number, escaped, _ in _tags(data, features, blocks):
                if not escaped:
                    open_copies.append((number, int(places[at]), sequence))
                at = _next(at, count)
        elif kind == REVOKE_BLOCK:
            width = 8 if features & WIDE_NUMBERS else 4
            numbers = data[16 : min(int.from_bytes(data[12:16], "big"), len(data))]
            open_revokes += [int.from_bytes(numbers[n : n + width], "big") for n in range(0, len(numbers), width)]
        elif kind == COMMIT_BLOCK:
            done += open_copies
            revoked.update(dict.fromkeys(open_revokes, sequence))
            open_copies, open_revokes, sequence = [], [], sequence + 1
    return {number: place for number, place, then in done if place >= 0 and revoked.get(number, 0) < then}


def _next(at: int, count: int) -> int:
    return at + 1 if at + 1 < count else 1


def _heads(medium: Medium, journal: FileMap, block: int, count: int) -> NDArray[np.void]:
    """The first words of all blocks."""
    out = np.zeros(count, [("magic", "<u4"), ("type", "<u4"), ("transaction", "<u4")])
    step = max(_AT_ONCE // block, 1)
    for first in range(0, count, step):
        some = min(step, count - first)
        data = journal.read(medium, first * block, some * block).ljust(some * block, b"\0")
        rows = np.ascontiguousarray(np.frombuffer(data, "u1").reshape(some, block)[:, : HEAD.size]).view(">u4")
        for n, name in enumerate(("magic", "type", "transaction")):
            out[name][first : first + some] = rows[:, n]
    return out


def _superblock(medium: Medium, journal: FileMap) -> tuple[int | None, int]:
    """The features that the journal tells, and what its checksums begin with; None if its superblock is gone."""
    data = journal.read(medium, 0, JOURNAL_SUPERBLOCK.itemsize).ljust(JOURNAL_SUPERBLOCK.itemsize, b"\0")
    row = np.frombuffer(data, JOURNAL_SUPERBLOCK)[0]
    if data[:4] != MAGIC_BYTES or row["type"] not in (SUPERBLOCK_1, SUPERBLOCK_2):
        return None, 0
    return int(row["incompatible"]) if row["type"] != SUPERBLOCK_1 else 0, raw_crc32c(MIRRORED_SEED, bytes(row["uuid"]))


Tags = list[tuple[int, bool, int]]
"""(block, whether its copy is escaped, the copy's checksum or -1) of the tags of a descriptor."""


def _tags(data: bytes, features: int | None, blocks: int) -> Tags:
    """The tags of a descriptor. Where the features are not known, by that form
    of tags that fits."""
    forms = (features,) if features is not None else (SUMS_3, WIDE_NUMBERS, 0)
    for form in forms:
        tags, whole = _tags_of_form(data, form, blocks)
        if whole or len(forms) == 1:
            return tags if features is not None else [(number, escaped, -1) for number, escaped, _ in tags]
    return []


def _tags_of_form(data: bytes, features: int, blocks: int) -> tuple[Tags, bool]:
    size, at, end = tag_size(features), HEAD.size, len(data) - (4 if features & (SUMS_2 | SUMS_3) else 0)
    out: Tags = []
    while at + size <= end:
        number = int.from_bytes(data[at : at + 4], "big")
        if features & SUMS_3:
            flags, high = int.from_bytes(data[at + 4 : at + 8], "big"), int.from_bytes(data[at + 8 : at + 12], "big")
        else:
            flags = int.from_bytes(data[at + 6 : at + 8], "big")
            high = int.from_bytes(data[at + 8 : at + 12], "big") if features & WIDE_NUMBERS else 0
        number |= high << 32
        if number >= blocks or flags & ~0xF:
            return out, False
        told = int.from_bytes(data[at + 12 : at + 16], "big") if features & SUMS_3 else -1
        out.append((number, bool(flags & ESCAPED), told))
        at += size if flags & SAME_UUID else size + UUID_SIZE
        if flags & LAST:
            return out, True
    return out, False


def _places(journal: FileMap, block: int, count: int) -> NDArray[np.int64]:
    """The byte of the medium at which each block of the journal stands; -1 where it has no place."""
    out = np.full(count, -1, np.int64)
    for position, extent in journal.pieces():
        first, behind = -(-position // block), (position + extent.length) // block
        behind = min(behind, count)
        if first < behind:
            out[first:behind] = extent.offset + (np.arange(first, behind) * block - position)
    return out
