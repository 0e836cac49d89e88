"""Folders of exFAT, read set by set: in use and deleted, with names and checksums.

Source: exFAT specification, sections 6 and 7. A set's checksum was made with all in-use bits set, so it also proves a
deleted set, wherever it is found.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from struct import Struct

import numpy as np
from numpy.typing import NDArray

from sastrugi.volumes.exfat.layout import (
    ATTR_DIRECTORY,
    ENTRY_SIZE,
    IN_USE,
    NO_FAT_CHAIN,
    TYPE_FILE,
    TYPE_NAME,
    TYPE_STREAM,
    decode_time,
    set_checksum,
    set_checksums,
)
from sastrugi.volumes.reader import Times

# FILE_ENTRY and STREAM_ENTRY of the layout, for one at a time.
_FILE, _STREAM = Struct("<BBHH2xIIIBB10x"), Struct("<BBxB4xQ4xIQ")
_MOST_SECONDARY = 18
_SIDE_BY_SIDE, _AT_ONCE = 8, 4096


@dataclass(slots=True)
class Record:
    """One file or folder, as its entry set tells it. `position` and `length` place the set within the table; `proven`
    tells that its checksum is right."""

    name: str
    deleted: bool
    folder: bool
    cluster: int
    size: int
    valid_size: int
    no_chain: bool
    times: Times
    position: int
    length: int
    proven: bool
    name_sure: float = 1.0
    name_note: str = "name entries whole, checksum of the set right"
    notes: list[str] = field(default_factory=list)


def parse_table(table: bytes) -> list[Record]:
    """All records of a folder's table up to its end mark. Deleted sets that were partly written over are kept while
    size and first cluster still stand; what cannot be a set is left out."""
    types = np.frombuffer(table, "u1")[::ENTRY_SIZE][: len(table) // ENTRY_SIZE]
    ends = np.flatnonzero(types == 0)
    count = int(ends[0]) if len(ends) else len(types)
    out: list[Record] = []
    starts = np.flatnonzero((types[:count] | IN_USE) == TYPE_FILE)
    checksums = _checksums(table, starts)
    for n in starts.tolist():
        data = table[n * ENTRY_SIZE : (n + 1 + _MOST_SECONDARY) * ENTRY_SIZE]
        record = parse_set(data, n * ENTRY_SIZE, checksums.get(n))
        if record is not None:
            out.append(record)
    return out


def _checksums(table: bytes, starts: NDArray[np.intp]) -> dict[int, int]:
    """The checksums of the sets that begin at these entries, so far as they have the length of many others, which are
    worked out side by side."""
    entries = np.frombuffer(table, "u1", len(table) // ENTRY_SIZE * ENTRY_SIZE).reshape(-1, ENTRY_SIZE)
    lengths = entries[starts, 1].astype(np.intp) + 1
    inside = starts + lengths <= len(entries)
    out: dict[int, int] = {}
    for length in range(3, _MOST_SECONDARY + 2):
        own = starts[inside & (lengths == length)]
        for at in range(0, len(own) if len(own) >= _SIDE_BY_SIDE else 0, _AT_ONCE):
            part = own[at : at + _AT_ONCE]
            sets = entries[part[:, None] + np.arange(length)].reshape(len(part), -1)
            sets[:, ::ENTRY_SIZE] |= IN_USE
            out.update(zip(part.tolist(), set_checksums(sets).tolist(), strict=True))
    return out


def table_ends(table: bytes) -> bool:
    """Whether the end mark (an entry of type 0) stands in this piece of a folder's table."""
    return 0 in table[::ENTRY_SIZE]


def table_heads(data: bytes, size: int) -> NDArray[np.bool_]:
    """For each cluster of `size` bytes: whether its first entry can stand in the middle of a folder's table."""
    heads = np.frombuffer(data, "u1")[::size] | IN_USE
    return np.isin(heads, (TYPE_FILE, TYPE_STREAM, TYPE_NAME))


def tail_of(table: bytes) -> bytes:
    """The end of a table, as far back as a set that reaches over it can begin."""
    return table[-(_MOST_SECONDARY + 1) * ENTRY_SIZE :]


def goes_on(table: bytes, block: bytes) -> bool:
    """Whether `block` is the next cluster of the table: it completes the set that reaches over the edge, or begins with
    a set of its own, with the right checksum."""
    for n in range(1, min(_MOST_SECONDARY, len(table) // ENTRY_SIZE) + 1):
        at = len(table) - n * ENTRY_SIZE
        if table[at] | IN_USE == TYPE_FILE:
            if table[at + 1] < n:
                break
            across = parse_set(table[at:] + block)
            return across is not None and across.proven
    first = parse_set(block)
    return first is not None and first.proven


def missing_entries(table: bytes) -> int:
    """How many entries the last set of a table lacks, which goes on in the next cluster; 0 if none does."""
    for n in range(1, min(_MOST_SECONDARY, len(table) // ENTRY_SIZE) + 1):
        at = len(table) - n * ENTRY_SIZE
        if table[at] | IN_USE == TYPE_FILE:
            return max(table[at + 1] + 1 - n, 0)
    return 0


def leading_entries(block: bytes) -> int:
    """How many entries at the beginning of a block belong to a set that began before it."""
    types = block[: (_MOST_SECONDARY + 1) * ENTRY_SIZE : ENTRY_SIZE]
    return next((n for n, one in enumerate(types) if one | IN_USE not in (TYPE_STREAM, TYPE_NAME)), len(types))


def parse_set(data: bytes, position: int = 0, checksum: int | None = None) -> Record | None:
    """The entry set that `data` begins with, or None if there is none. `checksum` is what the set's should be, where
    that is known."""
    if len(data) < 2 * ENTRY_SIZE or data[0] | IN_USE != TYPE_FILE:
        return None
    bit = data[0] & IN_USE
    _, secondary, stated, attributes, *times, created_10ms, modified_10ms = _FILE.unpack_from(data)
    kind, flags, name_length, valid_length, first_cluster, length = _STREAM.unpack_from(data, ENTRY_SIZE)
    if not 2 <= secondary <= _MOST_SECONDARY or kind != TYPE_STREAM & ~IN_USE | bit:
        return None
    whole = bytearray(data[: (secondary + 1) * ENTRY_SIZE])
    names = 0
    while names < secondary - 1 and whole[(2 + names) * ENTRY_SIZE : (2 + names) * ENTRY_SIZE + 1] == bytes(
        [TYPE_NAME & ~IN_USE | bit]
    ):
        names += 1
    if checksum is None:
        for at in range(0, len(whole), ENTRY_SIZE):
            whole[at] |= IN_USE
        checksum = set_checksum(whole)
    proven = len(whole) == (secondary + 1) * ENTRY_SIZE and checksum == stated
    created, modified = decode_time(times[0], created_10ms), decode_time(times[1], modified_10ms)
    accessed = decode_time(times[2])
    if not proven and (modified is None or created is None or valid_length > length):
        return None
    text = b"".join(data[(2 + n) * ENTRY_SIZE + 2 : (3 + n) * ENTRY_SIZE] for n in range(names))
    name = text[: 2 * name_length].decode("utf-16-le", "replace")
    record = Record(
        name=name, deleted=not bit, folder=bool(attributes & ATTR_DIRECTORY),
        cluster=first_cluster, size=length, valid_size=valid_length, no_chain=bool(flags & NO_FAT_CHAIN),
        times=Times(created, modified, accessed.date() if accessed else None),
        position=position, length=len(whole), proven=proven,
    )  # fmt: skip
    if not proven:
        record.name_sure, record.name_note = 0.7, "the checksum of its entry set is wrong"
        record.notes.append("the checksum of its entry set is wrong")
        if len(name) < name_length or names < secondary - 1:
            record.name_sure, record.name_note = 0.3, "the end of its name is overwritten"
            record.length = (2 + names) * ENTRY_SIZE
        if not name:
            record.name, record.name_sure = f"cluster-{record.cluster}", 0.0
            record.name_note = "its name is overwritten"
    return record
