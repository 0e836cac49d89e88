"""Many file records at once: their headers, names, times and streams, wherever on a medium they stand.

All that repeats is done over arrays, one step for a whole chunk of records: fix-ups, the walk along attributes, names,
times. What a record claims is believed only inside of itself and of its volume.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator
from dataclasses import dataclass, field
from struct import Struct
from typing import Any

import numpy as np
from numpy.typing import NDArray

from sastrugi.media.extents import Extent, within
from sastrugi.media.filemap import UNKNOWN, ZEROS, FileMap, Segment
from sastrugi.volumes.ntfs.layout import (
    ATTRIBUTE_LIST,
    COMPRESSED,
    DATA,
    DOS,
    ENCRYPTED,
    END,
    FILE_MAGIC,
    FILE_NAME,
    IN_USE,
    INDEX_ALLOCATION,
    INDEX_ROOT,
    INFORMATION,
    IS_FOLDER,
    LZNT1,
    MAGIC,
    NAME,
    RECORD,
    REFERENCE,
    STANDARD_INFORMATION,
    STRIDE,
    VOLUME_NAME,
    Geometry,
    decode_runs,
    mended,
    stored_at,
)

_MOST_ATTRIBUTES = 128
_LARGEST_FILE = 1 << 62
_LARGEST_UNIT = 5
"""Units of more clusters than two to this are in no volume (the format says 4)."""
_KEPT = frozenset({ATTRIBUTE_LIST, DATA, INDEX_ROOT, INDEX_ALLOCATION, VOLUME_NAME})
_WHOLE_NAME = FILE_NAME.itemsize
_INSIDE, _ELSEWHERE = Struct("<9xBHH2xIH"), Struct("<9xBHH2xQQHB5xQQQ")
"""Of an attribute: length of its name, where that stands, flags; then size and place of the value, or first and last
cluster, place of the runs, clusters of a unit (as a power of two), bytes allocated, in all, and written."""


@dataclass(frozen=True, slots=True)
class Name:
    """One name of a file: in which folder (its reference) and in which space of names."""

    text: str
    parent: int
    space: int


@dataclass(slots=True)
class Attribute:
    """A part of a file, or one piece of it. Inside of its record (`runs` None) it is `size` bytes from `at` on; else
    clusters from number `vcn` of the part on, `size` bytes in all, of which `valid` were ever written. `unit` is 0, or
    the clusters of a compressed unit. `whole`: its runs could be read to their end."""

    kind: int
    name: str
    record: int
    """The byte of the medium at which its record stands,"""
    usa: int
    """… and where in that its fix-ups are kept."""
    at: int
    size: int
    valid: int = 0
    runs: list[tuple[int, int]] | None = None
    vcn: int = 0
    unit: int = 0
    flags: int = 0
    whole: bool = True
    places: tuple[Extent, ...] = ()
    """Where its record stands, if not in one piece (then `usa` is 0 where it is kept without fix-ups)."""
    cluster: int = 0
    """Bytes of a cluster, as what is allocated to it tells; 0 if it does not."""

    def stored_inside(self) -> FileMap:
        """Where a part inside of its record stands."""
        if self.places:
            parts = stored_at(0, 0, self.usa, self.at, self.size) if self.usa else (Extent(self.at, self.size),)
            return FileMap.of(piece for part in parts for piece in within(self.places, part.offset, part.length))
        if self.size and self.at % STRIDE + self.size <= STRIDE - 2:
            return FileMap((Segment(self.size, (Extent(self.record + self.at, self.size),)),))
        return FileMap.of(stored_at(0, self.record, self.usa, self.at, self.size))


@dataclass(slots=True)
class Record:
    """A file's base record, with what its extension records hold."""

    number: int
    sequence: int
    flags: int
    position: int
    size: int
    names: list[Name] = field(default_factory=list)
    parts: list[Attribute] = field(default_factory=list)
    times: tuple[int, int, int] = (0, 0, 0)
    """Created, modified, accessed, as the volume keeps them."""
    further: list[int] = field(default_factory=list)
    """Where its extension records stand."""
    places: tuple[Extent, ...] = ()
    """Where it stands, if not in one piece."""

    def stands_at(self, places: tuple[Extent, ...], fixups: bool) -> None:
        """It stands in pieces, with fix-ups or without."""
        self.places = places
        for part in self.parts:
            part.places = places
            part.usa = part.usa if fixups else 0

    @property
    def in_use(self) -> bool:
        return bool(self.flags & IN_USE)

    @property
    def folder(self) -> bool:
        return bool(self.flags & IS_FOLDER)

    @property
    def where(self) -> tuple[Extent, ...]:
        return self.places or tuple(Extent(at, self.size) for at in (self.position, *self.further))

    def own_names(self) -> list[Name]:
        """Its names without those that only DOS sees."""
        return [name for name in self.names if name.space != DOS] or self.names

    def streams(self) -> Iterator[tuple[str, list[Attribute]]]:
        """The pieces of each stream in their order; the file's own content is called ''."""
        return self.pieces(DATA)

    def pieces(self, kind: int) -> Iterator[tuple[str, list[Attribute]]]:
        """The pieces of each part of a kind, by its name."""
        found = [part for part in self.parts if part.kind == kind]
        if len(found) == 1:
            yield found[0].name, found
            return
        by_name: defaultdict[str, list[Attribute]] = defaultdict(list)
        for part in found:
            by_name[part.name].append(part)
        for name, pieces in sorted(by_name.items()):
            yield name, sorted(pieces, key=lambda part: part.vcn)


class Records:
    """The records of a volume, or of what is left of one. `number` tells which a record is where its place does."""

    def __init__(self, geometry: Geometry) -> None:
        self.geometry = geometry
        self.by_number: dict[int, Record] = {}
        self._extensions: list[tuple[int, Record]] = []

    def add(self, blocks: NDArray[np.uint8], positions: NDArray[np.int64], numbers: NDArray[np.int64] | None) -> None:
        """Records as they stand on disk, shape (n, bytes), and the byte of the medium at which each stands. Of two with
        one number (where their headers tell it) the later one counts."""
        for record, base in dissected(blocks, positions, numbers, self.geometry):
            self.take(record, base)

    def take(self, record: Record, base: int) -> None:
        """One record; it extends the one that `base` refers to, if that is not 0."""
        if base:
            self._extensions.append((base, record))
            return
        there = self.by_number.get(record.number)
        if there is None or _rank(there) < _rank(record):
            self.by_number[record.number] = record

    def extend(self, base: int, record: Record) -> None:
        """A record that extends the one that `base` refers to."""
        self._extensions.append((base, record))

    def join_references(self) -> None:
        """As `join`, where records are kept by whole references and not by numbers."""
        for base, further in self._extensions:
            record = self.by_number.get(base)
            if record is not None:
                record.names += further.names
                record.parts += further.parts
                record.places += further.places
        self._extensions.clear()

    def join(self) -> None:
        """Give extension records to those they are of. Deleting a file counts its sequence number on by one."""
        for base, further in self._extensions:
            record = self.by_number.get(base & REFERENCE)
            given_back = record is not None and record.in_use and not further.in_use
            if record is not None and is_of(base >> 48, record) and not given_back:
                record.names += further.names
                record.parts += further.parts
                record.further.append(further.position)
        self._extensions.clear()


def is_of(sequence: int, record: Record) -> bool:
    """Whether a reference with this sequence number is to this record."""
    return record.sequence == sequence or (not record.in_use and record.sequence == sequence % 0xFFFF + 1)


def _rank(record: Record) -> tuple[bool, int, int]:
    return bool(record.names), record.sequence, record.times[1]


def dissected(
    blocks: NDArray[np.uint8], positions: NDArray[np.int64], numbers: NDArray[np.int64] | None, geometry: Geometry
) -> Iterator[tuple[Record, int]]:
    """Each record that is one, with the reference of the record that it extends (0: none)."""
    size = blocks.shape[1]
    heads = np.ascontiguousarray(blocks[:, : RECORD.itemsize]).view(RECORD)[:, 0]
    rows = np.flatnonzero(heads["magic"] == MAGIC[FILE_MAGIC])
    blocks = np.ascontiguousarray(blocks[rows])
    usa = heads["usa"][rows].astype(np.int64)
    good = mended(blocks, usa) if len(rows) else np.zeros(0, bool)
    rows, blocks, usa = rows[good], blocks[good], usa[good]
    heads = np.ascontiguousarray(blocks[:, : RECORD.itemsize]).view(RECORD)[:, 0]
    own = heads["number"].astype(np.int64) if numbers is None else numbers[rows]
    made = [
        Record(number, sequence, flags, position, size)
        for number, sequence, flags, position in zip(
            own.tolist(), heads["sequence"].tolist(), heads["flags"].tolist(), positions[rows].tolist(), strict=True
        )
    ]
    raw = blocks.tobytes()
    fixups = usa.tolist()
    for kind, row, at, length, resident in _walked(blocks, heads):
        if kind == NAME:
            for n, name in _names(blocks, raw, row[resident], at[resident], length[resident]):
                made[n].names.append(name)
        elif kind == STANDARD_INFORMATION:
            _put_times(blocks, made, row[resident], at[resident], length[resident])
        else:
            inside = resident.tolist()
            for n, (k, start, count) in enumerate(zip(row.tolist(), at.tolist(), length.tolist(), strict=True)):
                data = raw[k * size + start : k * size + start + count]
                part = _attribute(kind, data, inside[n], made[k].position, fixups[k], start, geometry)
                if part is not None:
                    made[k].parts.append(part)
    return zip(made, heads["base"].tolist(), strict=True)


def _walked(
    blocks: NDArray[np.uint8], heads: NDArray[np.void]
) -> Iterator[tuple[int, NDArray[np.int64], NDArray[np.int64], NDArray[np.int64], NDArray[np.bool_]]]:
    """The attributes of all records, kind by kind: (kind, rows, where they begin, lengths, which are resident)."""
    size = blocks.shape[1]
    words = blocks.view("<u4")
    row = np.arange(len(blocks), dtype=np.int64)
    at = heads["attributes"].astype(np.int64)
    used = np.minimum(heads["used"].astype(np.int64), size)
    found: list[tuple[NDArray[np.int64], NDArray[np.int64], NDArray[np.int64], NDArray[np.int64]]] = []
    for _ in range(_MOST_ATTRIBUTES):
        inside = (at % 8 == 0) & (at + 24 <= used)
        row, at, used = row[inside], at[inside], used[inside]
        kind = words[row, at // 4].astype(np.int64)
        length = words[row, at // 4 + 1].astype(np.int64)
        good = (kind != END) & (length >= 24) & (at + length <= used)
        row, at, used, kind, length = row[good], at[good], used[good], kind[good], length[good]
        if not len(row):
            break
        found.append((kind, row, at, length))
        at = at + length
    if not found:
        return
    kind, row, at, length = (np.concatenate(column) for column in zip(*found, strict=True))
    for one in (STANDARD_INFORMATION, NAME, *sorted(_KEPT)):
        chosen = np.flatnonzero(kind == one)
        if len(chosen):
            chosen = chosen[np.argsort(row[chosen], kind="stable")]
            resident = blocks[row[chosen], at[chosen] + 8] == 0
            yield one, row[chosen], at[chosen], length[chosen], resident


def _values(
    blocks: NDArray[np.uint8], row: NDArray[np.int64], at: NDArray[np.int64], length: NDArray[np.int64], least: int
) -> tuple[NDArray[np.int64], NDArray[np.int64], NDArray[np.int64]]:
    """(rows, where their values begin, how long they are) of resident attributes of at least so many bytes."""
    start = at + blocks[row, at + 0x14] + 256 * blocks[row, at + 0x15].astype(np.int64)
    count = blocks.view("<u4")[row, (at + 0x10) // 4].astype(np.int64)
    good = (count >= least) & (start + count <= at + length)
    return row[good], start[good], count[good]


def _fields(
    blocks: NDArray[np.uint8], row: NDArray[np.int64], start: NDArray[np.int64], dtype: np.dtype[np.void], count: int
) -> NDArray[Any]:
    """The first `count` bytes from `start` on of each row, as records."""
    taken = blocks[row[:, None], start[:, None] + np.arange(count)]
    out = np.zeros((len(row), dtype.itemsize), np.uint8)
    out[:, :count] = taken
    return out.view(dtype)[:, 0]


def _names(
    blocks: NDArray[np.uint8], raw: bytes, row: NDArray[np.int64], at: NDArray[np.int64], length: NDArray[np.int64]
) -> Iterator[tuple[int, Name]]:
    row, start, count = _values(blocks, row, at, length, _WHOLE_NAME)
    if not len(row):
        return
    fields = _fields(blocks, row, start, FILE_NAME, _WHOLE_NAME)
    good = (_WHOLE_NAME + 2 * fields["length"].astype(np.int64) <= count) & (fields["length"] > 0)
    begin = (row * blocks.shape[1] + start + _WHOLE_NAME)[good].tolist()
    columns = (row[good].tolist(), begin, *(fields[name][good].tolist() for name in ("length", "parent", "space")))
    for k, first, chars, parent, space in zip(*columns, strict=True):
        yield k, Name(text_of(raw[first : first + 2 * chars]), parent, space)


def text_of(data: bytes) -> str:
    """A name as people see it; what is no letter, or no part of a name, is replaced."""
    text = data.decode("utf-16-le", "replace")
    return text.replace("/", "\N{FULLWIDTH SOLIDUS}").replace("\0", "\N{REPLACEMENT CHARACTER}")


def _put_times(
    blocks: NDArray[np.uint8], made: list[Record], row: NDArray[np.int64], at: NDArray[np.int64],
    length: NDArray[np.int64],
) -> None:  # fmt: skip
    row, start, _ = _values(blocks, row, at, length, 0x20)
    if not len(row):
        return
    fields = _fields(blocks, row, start, INFORMATION, 0x20)
    columns = (row.tolist(), *(fields[name].tolist() for name in ("created", "modified", "accessed")))
    for k, created, modified, accessed in zip(*columns, strict=True):
        made[k].times = (created, modified, accessed)


def _attribute(
    kind: int, data: bytes, resident: bool, position: int, usa: int, start: int, geometry: Geometry
) -> Attribute | None:
    if resident:
        chars, name_at, flags, size, value = _INSIDE.unpack_from(data)
        if value + size > len(data):
            return None
        name = text_of(data[name_at : name_at + 2 * chars]) if chars and name_at + 2 * chars <= len(data) else ""
        return Attribute(kind, name, position, usa, start + value, size, size, flags=flags)
    if len(data) < _ELSEWHERE.size:
        return None
    chars, name_at, flags, vcn, last, pairs, unit, allocated, size, valid = _ELSEWHERE.unpack_from(data)
    name = text_of(data[name_at : name_at + 2 * chars]) if chars and name_at + 2 * chars <= len(data) else ""
    if max(size, vcn) > _LARGEST_FILE or unit > _LARGEST_UNIT or not 0x40 <= pairs < len(data):
        return None
    runs, whole = decode_runs(data[pairs:], geometry.clusters)
    whole &= sum(count for _, count in runs) == last + 1 - vcn or (last + 1) % (1 << 64) == vcn
    cluster = allocated // (last + 1) if whole and not vcn and last + 1 and not allocated % (last + 1) else 0
    return Attribute(
        kind, name, position, usa, start, size, min(valid, size), runs, vcn, 1 << unit if unit else 0, flags, whole,
        cluster=cluster if cluster & (cluster - 1) == 0 else 0,
    )  # fmt: skip


# -- where streams lie ------------------------------------------------------------------------------------------------


def map_of(pieces: list[Attribute], geometry: Geometry) -> tuple[FileMap, list[str]]:
    """Where a stream lies, by its pieces in their order, and what is wrong with that, in words."""
    first = pieces[0]
    if first.runs is None:
        return first.stored_inside(), []
    if len(first.runs) == 1 == len(pieces) and 0 < first.size == first.valid and not first.flags:  # as nearly all are
        ((start, count),) = first.runs
        if start >= 0 and first.size <= count * geometry.cluster and first.whole and not first.vcn:
            return FileMap((Segment(first.size, (Extent(geometry.at(start), first.size),)),)), []
    notes: list[str] = []
    runs: list[tuple[int, int]] = []
    at = 0
    if first.vcn:
        return FileMap.of((), first.size), ["the record with its first clusters is gone"]
    for piece in pieces:
        if piece.runs is None or piece.vcn != at:
            break
        runs += piece.runs
        at += sum(count for _, count in piece.runs)
        if not piece.whole:
            notes.append("its list of clusters cannot be read to its end")
            break
    if first.flags & ENCRYPTED:
        notes.append("it is encrypted")
    if first.unit and first.flags & COMPRESSED:
        found = _compressed(runs, first, geometry)
    else:
        found = _plain(runs, first, geometry)
    if found.size < first.size:
        found = FileMap.made((*found.segments, Segment(first.size - found.size, (), UNKNOWN)))
        notes = notes or ["a record with a part of its clusters is gone"]
    return found.head(first.size), notes


def _plain(runs: list[tuple[int, int]], first: Attribute, geometry: Geometry) -> FileMap:
    """Runs as they stand, holes among them; what was never written reads as zeros."""
    if all(start >= 0 for start, _ in runs) and first.valid == first.size:
        return FileMap.of(geometry.extents(runs)).head(first.size)
    segments: list[Segment] = []
    left, valid = first.size, first.valid
    for start, count in runs:
        length = min(count * geometry.cluster, left)
        written = max(min(length, valid), 0) if start >= 0 else 0
        if written:
            segments.append(Segment(written, (Extent(geometry.at(start), written),)))
        if length > written:
            segments.append(Segment(length - written, (), ZEROS))
        left, valid = left - length, valid - length
        if left <= 0:
            break
    return FileMap.made(segments)


def _compressed(runs: list[tuple[int, int]], first: Attribute, geometry: Geometry) -> FileMap:
    """Unit by unit: all of its clusters are there (as they stand), some (packed), or none (zeros)."""
    segments: list[Segment] = []
    unit, left = first.unit, first.size
    waiting = list(reversed(runs))
    while waiting and left > 0:
        own: list[tuple[int, int]] = []
        need = max(waiting[-1][1] // unit * unit, unit)  # whole units of one run are alike
        length = min(need * geometry.cluster, left)
        while need and waiting:
            start, count = waiting.pop()
            taken = min(count, need)
            own.append((start, taken))
            need -= taken
            if count > taken:
                waiting.append((start + taken if start >= 0 else -1, count - taken))
        stored = geometry.extents(own)
        packed = need or any(start < 0 for start, _ in own)
        if not stored:
            segments.append(Segment(length, (), ZEROS))
        elif packed:
            segments.append(Segment(length, stored, LZNT1))
        else:
            segments += FileMap.of(stored, length).segments
        left -= length
    return FileMap.made(segments)
