"""Directory tables, read entry by entry: live and deleted, short and long names.

Source: FAT specification 1.03, "FAT Directory Structure" and "FAT Long Directory Entries".
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from sastrugi.volumes._fat_family.names import LOST
from sastrugi.volumes.fat.layout import (
    ANYWHERE_IN_NAME,
    ATTR_DIRECTORY,
    ATTR_LONG_NAME,
    ATTR_LONG_NAME_MASK,
    ATTR_VOLUME_ID,
    DELETED,
    DIR_ENTRY,
    ENTRY_SIZE,
    FIRST_IN_NAME,
    LAST_LONG_ENTRY,
    LOWER_BASE,
    LOWER_EXTENSION,
    OEM_CODEPAGE,
    decode_time,
    short_name_checksums,
    short_name_text,
    times_valid,
)
from sastrugi.volumes.reader import Times

_RESERVED_ATTR = 0xC0
_MOST_LONG = 20
LONGEST_RECORD = (_MOST_LONG + 1) * ENTRY_SIZE
"""Bytes of the entries of one file, at most."""
_ORDER = 0x3F
CHECKSUM, _MOST_EDGES = 13, 10_000
"""Where an entry of a long name has the checksum of the short one; pairs of tables that are compared."""
_CUT_SURE = 0.3
"""How sure a long name is whose end is gone."""


@dataclass(slots=True)
class Record:
    """One file, folder or label of a directory table, as its bytes tell it.

    `position` and `length` place its entries within the table. `name` still holds `LOST` in front while
    `first_char_lost`; `settle_lost_characters` fills it in.
    """

    name: str
    short: bytes
    deleted: bool
    attr: int
    cluster: int
    size: int
    times: Times
    position: int
    length: int
    case: int = 0
    first_char_lost: bool = False
    name_sure: float = 1.0
    name_note: str = ""
    notes: list[str] = field(default_factory=list)

    @property
    def folder(self) -> bool:
        return bool(self.attr & ATTR_DIRECTORY)

    @property
    def label(self) -> bool:
        return bool(self.attr & ATTR_VOLUME_ID)


def looks_like_folder(data: bytes, own_cluster: int | None = None) -> bool:
    """Whether a cluster begins a folder: entries `.` and `..`, and `.` naming `own_cluster` if that is given."""
    if len(data) < 2 * ENTRY_SIZE:
        return False
    dots = np.frombuffer(data, DIR_ENTRY, 2)
    if data[:11] != b".".ljust(11) or data[ENTRY_SIZE : ENTRY_SIZE + 11] != b"..".ljust(11):
        return False
    if not all(attr & ATTR_DIRECTORY for attr in dots["attr"]):
        return False
    return own_cluster is None or int(dots[0]["cluster_high"]) << 16 | int(dots[0]["cluster_low"]) == own_cluster


def folder_blocks(data: bytes, size: int) -> NDArray[np.bool_]:
    """For each block of `size` bytes: whether it can be the second or a later block of a folder's table.

    Every entry up to the end mark must be possible, and there must be at least one.
    """
    each = size // ENTRY_SIZE
    entries = np.frombuffer(data, DIR_ENTRY, len(data) // size * each).reshape(-1, each)
    first = entries["name"][:, 0, 0]
    out: NDArray[np.bool_] = (first != 0) & (first != ord(".")) & ((entries["attr"][:, 0] & _RESERVED_ATTR) == 0)
    # What costs less leaves less for what costs more: the first entry of each block, then all of them.
    for some, possible in ((1, _entries_possible), (each, _attributes_possible), (each, _entries_possible)):
        rows = np.flatnonzero(out)
        blocks = entries[rows, :some]
        used = ~np.logical_or.accumulate(blocks["name"][..., 0] == 0, axis=1)
        out[rows] = possible(blocks, used)
    return out


def _attributes_possible(blocks: NDArray[np.void], used: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """Which blocks, shape (blocks, entries), have no reserved bit in entries that are used, and zeros behind them."""
    possible: NDArray[np.bool_] = ((blocks["attr"] & _RESERVED_ATTR == 0) | ~used).all(axis=1)
    rows = np.flatnonzero(possible)
    words = blocks[rows].view("<u8").reshape(*used[rows].shape, ENTRY_SIZE // 8)
    possible[rows] = (used[rows] | ~words.any(axis=2)).all(axis=1)
    return possible


def _entries_possible(blocks: NDArray[np.void], used: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """Which blocks, shape (blocks, entries), have only entries that a file or a part of a long name can have."""
    order = blocks["name"][..., 0]
    number = order & ~np.uint8(LAST_LONG_ENTRY)
    part = (blocks["case"] == 0) & (blocks["cluster_low"] == 0)
    part &= (order == DELETED) | ((number >= 1) & (number <= _MOST_LONG))
    short = _short_names_valid(blocks["name"]) & (blocks["case"] & ~np.uint8(LOWER_BASE | LOWER_EXTENSION) == 0)
    short &= times_valid(blocks["modified_date"], blocks["modified_time"])
    is_long = blocks["attr"] & ATTR_LONG_NAME_MASK == ATTR_LONG_NAME
    possible: NDArray[np.bool_] = (np.where(is_long, part, short) | ~used).all(axis=1)
    return possible


def parse_table(table: bytes, width: int) -> list[Record]:
    """All records of a directory table up to its end mark; `width` is the FAT's (the high word counts at 32 only).

    Entries that cannot be real (reserved attribute bits, impossible characters) are left out.
    """
    entries = np.frombuffer(table, DIR_ENTRY, len(table) // ENTRY_SIZE)
    ends = np.flatnonzero(entries["name"][:, 0] == 0)
    entries = entries[: ends[0]] if len(ends) else entries
    short = np.flatnonzero(entries["attr"] & ATTR_LONG_NAME_MASK != ATTR_LONG_NAME)
    if not len(short):
        return []
    good = _short_names_valid(entries["name"][short]) & (entries["attr"][short] & _RESERVED_ATTR == 0)
    before = np.concatenate(([0], short[:-1] + 1))[good]  # where the entries of its long name can begin
    short = short[good]
    own = entries[short]
    checksums = short_name_checksums(own["name"])
    columns = (
        short, before, checksums, own["attr"], own["case"], own["created_tenth"], own["created_time"],
        own["created_date"], own["accessed_date"], own["cluster_high"] if width == 32 else np.zeros_like(short),
        own["modified_time"], own["modified_date"], own["cluster_low"], own["size"],
    )  # fmt: skip
    out: list[Record] = []
    for row in zip(*(column.tolist() for column in columns), strict=True):
        slot, first_long, checksum, attr, case, tenth, time, date, accessed_date, high, m_time, m_date, low, size = row
        name = table[slot * ENTRY_SIZE : slot * ENTRY_SIZE + 11]
        accessed = decode_time(accessed_date, 0)
        times = Times(
            decode_time(date, time, tenth), decode_time(m_date, m_time), accessed.date() if accessed else None
        )
        deleted = name[0] == DELETED
        text = short_name_text(name, case)
        record = Record(
            LOST + text[1:] if deleted else text, name, deleted, attr, high << 16 | low, size, times,
            slot * ENTRY_SIZE, ENTRY_SIZE, case, deleted, 0.1 if deleted else 1.0, "short name",
        )  # fmt: skip
        if first_long < slot and not record.label:
            _take_long_name(record, table, first_long, slot, checksum)
        out.append(record)
    return out


def table_ends(table: bytes) -> bool:
    """Whether the end mark (an entry beginning with zero) stands in this piece of a directory table."""
    return 0 in table[::ENTRY_SIZE]


def joined_record(before: bytes, behind: bytes) -> Record | None:
    """The record of which a long name reaches from one piece of a table into another; its position counts from the
    beginning of the second."""
    count, lead = _long_entries(before[::-1], reverse=True), _long_entries(behind)
    checksum, short = before[CHECKSUM - ENTRY_SIZE], behind[lead * ENTRY_SIZE : (lead + 1) * ENTRY_SIZE]
    if not count or len(short) < ENTRY_SIZE or (lead and behind[CHECKSUM] != checksum):
        return None
    if not lead and short[0] == DELETED:  # nothing but its lost first letter can be wrong: it is asked first
        first = before[1 - ENTRY_SIZE : 3 - ENTRY_SIZE].decode("utf-16-le", "replace")
        if (
            first.isascii()
            and first.isalnum()
            and _first_byte_for(short[:11], checksum) not in (first + first.upper()).encode()
        ):
            return None
    tail = before[-count * ENTRY_SIZE :]
    record = next(iter(parse_table(tail + behind[: lead * ENTRY_SIZE] + short, 32)), None)
    if record is None or record.label or not record.position < len(tail) < record.position + record.length:
        return None
    record.position -= len(tail)
    return record


def goes_on(before: bytes, behind: bytes) -> bool | None:
    """Whether a table that is full with `before` can go on with `behind`: yes where a long name reaches from one into
    the other (the checksum in its entries is of the short name at its end), no where it is cut off, or where an alias
    begins the other without the long name that it stands for; None where a file ends with the one and another begins
    with the other."""
    if _long_entries(before[::-1], reverse=True):
        return joined_record(before, behind) is not None
    lead = _long_entries(behind)
    if not lead:
        return False if b"~" in behind[:8] else None
    first = next(iter(parse_table(behind[: (lead + 1) * ENTRY_SIZE], 32)), None)
    return None if first is None or (first.length > lead * ENTRY_SIZE and first.name_sure > _CUT_SURE) else False


def links(edges: Sequence[tuple[bytes, bytes]], ended: Sequence[bool]) -> dict[int, int]:
    """Which part of a folder goes on in which, by numbers, as long names tell it. Of each part there are its first and
    its last bytes, and whether the folder ends in it. The checksums of names are short: of several parts that fit, what
    was written next after the one before is it."""
    cut = [n for n, (_, last) in enumerate(edges) if not ended[n] and _long_entries(last[::-1], reverse=True)]
    wanted: dict[int, list[int]] = {}
    for n in cut:
        wanted.setdefault(edges[n][1][CHECKSUM - ENTRY_SIZE], []).append(n)
    left = _MOST_EDGES
    fit: list[tuple[int, int]] = []
    for number, (first, _) in enumerate(edges):
        # A part that begins with a short name does not tell its checksum where the first letter is lost.
        able = wanted.get(first[CHECKSUM], []) if _long_entries(first) else cut
        left -= len(able)
        if left < 0:
            break
        fit += [(n, number) for n in able if n != number and goes_on(edges[n][1], first)]
    return _one_to_one(fit, lambda n, number: _seconds_between(edges[n][1], edges[number][0]))


def _one_to_one(fit: list[tuple[int, int]], seconds: Callable[[int, int], float]) -> dict[int, int]:
    """Of pairs that fit: those without a choice, then what is left without one by these; where there is a choice, the
    pair with the fewest seconds between."""
    out: dict[int, int] = {}
    waiting: list[tuple[float, int, int]] | None = None
    while fit:
        befores, behinds = Counter(n for n, _ in fit), Counter(number for _, number in fit)
        sure = [(n, number) for n, number in fit if befores[n] == behinds[number] == 1]
        if not sure:
            if waiting is None:
                waiting = sorted((seconds(n, number), n, number) for n, number in fit)
            open_pairs = set(fit)
            waiting = [one for one in waiting if one[1:] in open_pairs and one[0] >= 0]
            if not waiting:
                break
            sure = [waiting[0][1:]]
        out |= dict(sure)
        done, placed = {n for n, _ in sure}, {number for _, number in sure}
        fit = [(n, number) for n, number in fit if n not in done and number not in placed]
    return out


def _seconds_between(before: bytes, behind: bytes) -> float:
    """From when the last file of one part was created until the first one of another was; -1 if that is not known."""
    last = next(reversed(parse_table(before, 32)), None)
    first = next(iter(parse_table(behind, 32)), None)
    moments = [record.times.created for record in (last, first) if record is not None and record.times.created]
    return (moments[1] - moments[0]).total_seconds() if len(moments) == 2 else -1.0


def _long_entries(table: bytes, reverse: bool = False) -> int:
    """How many entries of long names stand at the beginning of a table, or at its end if its bytes are reversed."""
    attributes = table[ENTRY_SIZE - 1 - 11 if reverse else 11 :: ENTRY_SIZE]
    parts = (attr & ATTR_LONG_NAME_MASK == ATTR_LONG_NAME for attr in attributes[: _MOST_LONG + 1])
    return next((n for n, part in enumerate(parts) if not part), len(attributes[: _MOST_LONG + 1]))


def _short_names_valid(names: NDArray[np.uint8]) -> NDArray[np.bool_]:
    """Which short names, shape (…, 11), are possible; `.` and `..` are not."""
    valid: NDArray[np.bool_] = FIRST_IN_NAME[names[..., 0]] & ANYWHERE_IN_NAME[names[..., 1:]].all(axis=-1)
    return valid


@dataclass(frozen=True, slots=True)
class _LongName:
    """The text of long-name entries, how many they are, the checksum of the short name that they are of, and whether
    their end was seen."""

    text: str
    entries: int
    checksum: int
    ended: bool


def _take_long_name(record: Record, table: bytes, first: int, slot: int, checksum: int) -> None:
    """Give the record the long name that stands in front of it, in entries [first, slot), if one does that belongs to
    it. `checksum` is of its short name."""
    found = _long_name_before(table, first, slot, None if record.deleted else checksum)
    if found is None or (not record.deleted and not found.ended):
        return
    name: str | None = found.text
    if record.deleted:
        name = _rejoined(record, found)
        if name is None:
            return
    else:
        record.name_note = "long name"
    record.name = name or ""
    record.position -= found.entries * ENTRY_SIZE
    record.length += found.entries * ENTRY_SIZE


def _long_name_before(table: bytes, first: int, slot: int, wanted: int | None) -> _LongName | None:
    """The long name in the entries in front of `slot`: a live one of the checksum `wanted`, or (None) a deleted one."""
    units: list[bytes] = []
    ended, deleted = False, wanted is None
    for order in range(1, min(slot - first, _MOST_LONG) + 1):
        entry = table[(slot - order) * ENTRY_SIZE : (slot - order + 1) * ENTRY_SIZE]
        if (entry[0] == DELETED) != deleted or entry[12] or entry[26] or entry[27]:
            break
        wanted = entry[13] if wanted is None else wanted
        if entry[13] != wanted or (not deleted and entry[0] & _ORDER != order):
            break
        part = entry[1:11] + entry[14:26] + entry[28:32]
        stop = part.find(b"\0\0")
        while stop > 0 and stop % 2:
            stop = part.find(b"\0\0", stop + 1)
        units.append(part[:stop] if stop >= 0 else part)
        ended = stop >= 0 or bool(not deleted and entry[0] & LAST_LONG_ENTRY)
        if ended:
            break
    name = b"".join(units).decode("utf-16-le", "replace")
    return None if not name or "\uffff" in name else _LongName(name, len(units), wanted or 0, ended)


def _rejoined(record: Record, found: _LongName) -> str | None:
    """The name of a deleted record by the long name in front of it, which also tells the short one's lost first
    character; None if it is another file's."""
    byte = _first_byte_for(record.short, found.checksum)
    if not ANYWHERE_IN_NAME[byte]:
        return None
    char = bytes([byte]).decode(OEM_CODEPAGE)
    begins = found.text.lstrip(" .")[:1]
    letter = begins.isalnum() if begins.isascii() else not char.isascii()
    if letter and char not in (begins, begins.upper()):  # ß has no upper case of one letter
        return None  # a short name begins as its long name does
    extension = record.short[8:11].decode(OEM_CODEPAGE).rstrip(" ").lower()
    known = extension and "_" not in extension  # which may stand for a character that a short name cannot hold
    told = found.text.lower().rpartition(".")[2].replace(" ", "")  # short names hold no spaces
    ends_otherwise = bool(known and not told.startswith(extension))
    bare = not extension and "." in found.text.strip(".") and found.ended
    if (found.ended and ends_otherwise and extension.isascii()) or bare:
        return None  # both have one extension, or none
    record.short = bytes([byte]) + record.short[1:]
    record.first_char_lost = False
    if not found.ended and ends_otherwise:
        # Names whose length is a multiple of 13 have no end mark; this one does not end in its extension.
        record.name_note = "the end of its long name is overwritten; the short name tells the extension"
        record.name_sure = _CUT_SURE
        return f"{found.text}.{extension}"
    record.name_note = f"long name whole; its checksum gives the short name's lost first character, {char}"
    record.name_sure = 0.98
    return found.text


def _first_byte_for(name: bytes, checksum: int) -> int:
    """The only first byte with which the short name has this checksum (each step of the sum can be undone)."""
    value = checksum
    for byte in reversed(name[1:]):
        value = value - byte & 0xFF
        value = (value << 1 | value >> 7) & 0xFF
    return value


def _shape(name: str) -> tuple[str, str]:
    """What neighbours of one series share: the name after its first character, digits alike, and the extension."""
    stem, _, extension = name.rpartition(".") if "." in name else (name, "", "")
    return re.sub(r"\d", "#", stem[1:]), extension


def _telling_names(record: Record) -> set[str]:
    """The names of a record, short and long, that tell first characters of others of their series."""
    if record.first_char_lost or record.label:
        return set()
    return {short_name_text(record.short, record.case), record.name}


def settle_lost_characters(folders: Iterable[list[Record]]) -> None:
    """Work out lost first characters from records of the same series: same folder first, then the whole volume."""
    tables = list(folders)
    if not any(record.first_char_lost for table in tables for record in table):
        return
    everywhere: dict[tuple[str, str], Counter[str]] = {}
    stems: dict[str, Counter[str]] = {}
    for table in tables:
        for record in table:
            for name in _telling_names(record):
                shape = _shape(name)
                everywhere.setdefault(shape, Counter())[name[:1]] += 1
                stems.setdefault(shape[0], Counter())[name[:1]] += 1
    for table in tables:
        here: dict[tuple[str, str], Counter[str]] = {}
        for record in table:
            for name in _telling_names(record):
                here.setdefault(_shape(name), Counter())[name[:1]] += 1
        for record in table:
            if not record.first_char_lost:
                continue
            shape = _shape(record.name)
            for votes, where, weight in (
                (here.get(shape), "in this folder", 0.9),
                (everywhere.get(shape), "on this volume", 0.8),
                (stems.get(shape[0]), "of other types", 0.7),
            ):
                if votes:
                    char, count = votes.most_common(1)[0]
                    record.name = char + record.name[1:]
                    record.name_sure = weight * count / votes.total()
                    record.name_note = (
                        f"first character {char} worked out from {count} of {votes.total()} like names {where}"
                    )
                    break
            else:
                record.name_note = "first character lost, and no like name tells it"
