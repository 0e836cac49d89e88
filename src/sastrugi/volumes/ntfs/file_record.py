"""A file as its records are written: its attributes in order, and what has no room in extension records."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from typing import NamedTuple

import numpy as np

from sastrugi.errors import VolumeError
from sastrugi.media.extents import Extent, Laid
from sastrugi.volumes.allocation import join_runs
from sastrugi.volumes.ntfs.index import Index
from sastrugi.volumes.ntfs.layout import (
    ATTRIBUTE_LIST,
    BELOW_EXTEND,
    BITMAP,
    COMPRESSED,
    DATA,
    END,
    EXTEND,
    FILE_FOLDER,
    FILE_MAGIC,
    FILE_NAME,
    FILE_VIEWS,
    FOLDER_INDEX,
    HAS_VIEWS,
    IN_USE,
    INDEX_ALLOCATION,
    INDEX_ROOT,
    INFORMATION,
    IS_FOLDER,
    NAME,
    RECORD,
    REFERENCE,
    SPARSE,
    STANDARD_INFORMATION,
    STRIDE,
    USA_AT,
    Runs,
    encode_run,
    encode_runs,
    to_ticks,
)

FILE_NAME_COLLATION = 1
UNIT = 16
"""Clusters of a unit that is packed."""
ARCHIVE = 0x20
_HEAD, _HEAD_ELSEWHERE, _HEAD_UNITS = 24, 64, 72
_MANY_RUNS = 16
"""Runs from which on it pays to keep how records tell them."""
_LIST_ENTRY = 26
_MOST_INSTANCES = 1 << 10
_MOST_LISTED = 256 << 10
"""Bytes of the list of a file's attributes."""


class ToldRuns(NamedTuple):
    """Runs of a stream as its records tell them, clusters of these, and of the whole stream."""

    pairs: bytes
    clusters: int
    all_clusters: int


class MappingPairs:
    """Many runs as records tell them (NTFS, mapping pairs): each with the distance from the one before."""

    def __init__(self) -> None:
        self._runs: Runs = []
        self._each: list[bytes] = []
        self._ends: list[int] = []
        """Where each ends, in bytes from the first."""
        self._counts: list[int] = []
        """Clusters up to the end of each."""

    def tell(self, runs: Runs) -> None:
        """These are the runs now."""
        known = len(self._runs)
        if runs[:known] != self._runs:
            known = known - 1 if runs[: known - 1] == self._runs[:-1] else 0
            del self._each[known:], self._ends[known:], self._counts[known:]
        for n in range(known, len(runs)):
            start, count = runs[n]
            self._each.append(encode_run(start - (runs[n - 1][0] if n else 0), count))
            self._ends.append((self._ends[-1] if n else 0) + len(self._each[-1]))
            self._counts.append((self._counts[-1] if n else 0) + count)
        self._runs = list(runs)

    def length(self, first: int, behind: int) -> int:
        """Bytes that the runs from one up to another take, told by themselves."""
        return len(self._alone(first)) + self._ends[behind - 1] - self._ends[first] + 1

    def told(self, first: int, behind: int) -> ToldRuns:
        """The runs from one up to another."""
        pairs = b"".join((self._alone(first), *self._each[first + 1 : behind], b"\0"))
        before = self._counts[first - 1] if first else 0
        return ToldRuns(pairs, self._counts[behind - 1] - before, self._counts[-1])

    def _alone(self, first: int) -> bytes:
        return encode_run(*self._runs[first])


@dataclass(slots=True)
class Stream:
    """A part of a file: bytes in the record (`inside`), or clusters. `unit` is not 0 where units of it are packed,
    `sparse` tells that it may have holes."""

    size: int = 0
    valid: int = 0
    inside: bytes | None = None
    runs: Runs = field(default_factory=list)
    unit: int = 0
    sparse: bool = False
    _laid: tuple[Runs, Laid] | None = None
    _pairs: MappingPairs | None = None

    def laid(self, places: Callable[[Runs], tuple[Extent, ...]]) -> Laid:
        """Where it lies, by `places`; worked out once for the runs that it has, which may grow (see `grow`)."""
        if self._laid is None or self._laid[0] is not self.runs:
            self._laid = (self.runs, Laid(places(self.runs)))
        return self._laid[1]

    def grow(self, more: Runs, places: Callable[[Runs], tuple[Extent, ...]]) -> None:
        """Add runs behind the others."""
        self.laid(places).grow(places(more))
        self.runs[-1:] = join_runs([*self.runs[-1:], *more])

    def pairs(self) -> MappingPairs | None:
        """Its runs as records tell them, kept while they grow; None of one that records tell otherwise, or in a few
        bytes."""
        if len(self.runs) < _MANY_RUNS or self.unit or self.sparse:
            return None
        if self._pairs is None:
            self._pairs = MappingPairs()
        self._pairs.tell(self.runs)
        return self._pairs

    @property
    def stored(self) -> Runs:
        return [run for run in self.runs if run[0] >= 0]


@dataclass(slots=True)
class Named:
    """A name: where, what, and in which space."""

    parent: int
    text: str
    space: int


@dataclass(slots=True, eq=False)
class FileState:
    """A file on a volume being written."""

    number: int
    sequence: int
    folder: bool
    created: dt.datetime
    modified: dt.datetime
    changed: dt.datetime
    accessed: dt.datetime
    attributes: int = 0
    names: list[Named] = field(default_factory=list)
    streams: dict[str, Stream] = field(default_factory=dict)
    index: Index | None = None
    """Of a folder: its names,"""
    blocks: Stream = field(default_factory=Stream)
    """… and where the index's blocks stand."""
    more: list[tuple[int, str, bytes]] = field(default_factory=list)
    """Further attributes inside of the record: (kind, name, value)."""
    views: list[tuple[str, int, Index]] = field(default_factory=list)
    """Further indexes, small ones: (name, collation, index)."""
    extensions: list[tuple[int, int]] = field(default_factory=list)
    """Number and sequence of its extension records."""
    outside: list[tuple[int, str, Stream]] = field(default_factory=list)
    """Further attributes on clusters."""
    listing: Stream = field(default_factory=Stream)
    """Where the list of its attributes stands, if that has no room in its record."""
    security: int = 0x100
    usn: int = 0
    logged: list[tuple[Extent, ...]] = field(default_factory=list)
    """Where the log tells of its records as they are now: of each head and content,"""
    logged_content: list[tuple[Extent, ...]] = field(default_factory=list)
    """… and the content alone."""
    nodes: list[object] = field(default_factory=list)
    """The writer's names and streams of it, past ones too."""
    written: list[tuple[int, bytes]] = field(default_factory=list)
    """Its records as they were written last: number and attributes."""
    cluster: int = 4096

    @property
    def reference(self) -> int:
        return self.number | self.sequence << 48

    @property
    def links(self) -> int:
        return len(self.names)


@dataclass(slots=True)
class _Part:
    """An attribute to be written. `cut` makes pieces of one whose runs have no room together."""

    kind: int
    name: str
    data: bytes
    first: int = 0
    stream: Stream | None = None


def pack_name(state: FileState, name: Named) -> bytes:
    """The value of a name: also what an index has as its key."""
    value = np.zeros((), FILE_NAME)
    text = name.text.encode("utf-16-le", "surrogatepass")
    value["parent"], value["length"], value["space"] = name.parent, len(text) // 2, name.space
    for key in ("created", "modified", "changed", "accessed"):
        value[key] = to_ticks(getattr(state, key))
    main = state.streams.get("")
    if main is not None:
        value["size"] = main.size
        inside = main.inside is not None
        value["allocated"] = -(-main.size // 8) * 8 if inside else state.cluster * sum(n for _, n in main.stored)
    value["flags"] = file_flags(state) | (FILE_FOLDER if state.folder else 0) | (FILE_VIEWS if state.views else 0)
    return value.tobytes() + text


def file_flags(state: FileState) -> int:
    main = state.streams.get("")
    flags = state.attributes | (0 if state.folder or (state.attributes & 6 and state.number < 24) else ARCHIVE)
    if main is not None and main.unit:
        flags |= 0x800
    if main is not None and main.sparse:
        flags |= 0x200
    return flags


def inside_attribute(kind: int, name: str, value: bytes, instance: int, indexed: bool = False) -> bytes:
    """An attribute inside of its record."""
    text = name.encode("utf-16-le")
    at = -(-(_HEAD + len(text)) // 8) * 8
    length = -(-(at + len(value)) // 8) * 8
    head = kind.to_bytes(4, "little") + length.to_bytes(4, "little") + bytes([0, len(text) // 2])
    head += _HEAD.to_bytes(2, "little") + bytes(2) + instance.to_bytes(2, "little")
    head += len(value).to_bytes(4, "little") + at.to_bytes(2, "little") + bytes([1 if indexed else 0, 0])
    return ((head + text).ljust(at, b"\0") + value).ljust(length, b"\0")


def outside_attribute(
    kind: int, name: str, stream: Stream, runs: Runs, first: int, cluster: int, instance: int,
    told: ToldRuns | None = None,
) -> bytes:  # fmt: skip
    """An attribute on clusters, or a piece of one that begins with cluster `first` of it; its runs may be
    `told` already."""
    text = name.encode("utf-16-le")
    if told is None:
        count, every = (sum(number for _, number in some) for some in (runs, stream.runs))
        told = ToldRuns(encode_runs(runs), count, every)
    pairs, count = told.pairs, told.clusters
    spread = (stream.unit or stream.sparse) and not first
    name_at = _HEAD_UNITS if spread else _HEAD_ELSEWHERE
    at = -(-(name_at + len(text)) // 8) * 8
    length = -(-(at + len(pairs)) // 8) * 8
    flags = (COMPRESSED if stream.unit else 0) | (SPARSE if stream.sparse else 0)
    allocated = told.all_clusters * cluster
    head = kind.to_bytes(4, "little") + length.to_bytes(4, "little") + bytes([1, len(text) // 2])
    head += name_at.to_bytes(2, "little") + flags.to_bytes(2, "little") + instance.to_bytes(2, "little")
    head += first.to_bytes(8, "little") + ((first + count - 1) % (1 << 64)).to_bytes(8, "little")
    head += at.to_bytes(2, "little") + bytes([4 if stream.unit or stream.sparse else 0]) + bytes(5)
    sizes = (allocated, stream.size, stream.valid) if not first else (0, 0, 0)
    head += b"".join(size.to_bytes(8, "little") for size in sizes)
    if spread:
        head += (sum(number for _, number in stream.stored) * cluster).to_bytes(8, "little")
    return ((head + text).ljust(at, b"\0") + pairs).ljust(length, b"\0")


class RecordPacker:
    """Makes the records of files. `take_record` gives out one for an extension, `release` takes one back; `put_list`
    writes bytes over the clusters of a stream, of which it gets as many as it needs (of no bytes: none)."""

    def __init__(
        self, size: int, cluster: int, take_record: Callable[[], tuple[int, int]], release: Callable[[int], None],
        put_list: Callable[[Stream, bytes], None],
    ) -> None:  # fmt: skip
        self.size, self._cluster = size, cluster
        self._take, self._release, self._put_list = take_record, release, put_list
        usa = 2 * (size // STRIDE + 1)
        self.first = -(-(USA_AT + usa) // 8) * 8
        self.room = size - self.first - 8
        """Bytes of a record for attributes."""

    def records(self, state: FileState) -> list[tuple[int, int, int, bytes]]:
        """(number, sequence, the base's reference or 0, attributes) of all records of a file, the base first."""
        parts = list(self._parts(state))
        count = sum(len(part.data) for part in parts)
        if count <= self.room:
            while state.extensions:
                self._release(state.extensions.pop()[0])
            self._put_list(state.listing, b"")
            return [(state.number, state.sequence, 0, _joined(parts))]
        return self._spread(state, parts)

    def _parts(self, state: FileState) -> Iterator[_Part]:
        info = np.zeros((), INFORMATION)
        for key in ("created", "modified", "changed", "accessed"):
            info[key] = to_ticks(getattr(state, key))
        info["flags"], info["security"], info["usn"] = file_flags(state), state.security, state.usn
        found = [_Part(STANDARD_INFORMATION, "", inside_attribute(STANDARD_INFORMATION, "", info.tobytes(), 0))]
        for name in state.names:
            found.append(_Part(NAME, "", inside_attribute(NAME, "", pack_name(state, name), 0, True)))
        for kind, text, value in state.more:
            found.append(_Part(kind, text, inside_attribute(kind, text, value, 0)))
        for text, stream in sorted(state.streams.items()):
            found.append(self._of_stream(DATA, text, stream))
        for kind, text, stream in state.outside:
            found.append(self._of_stream(kind, text, stream))
        if state.index is not None:
            value = state.index.root_value(NAME, FILE_NAME_COLLATION, self._per_block(state.index))
            found.append(_Part(INDEX_ROOT, FOLDER_INDEX, inside_attribute(INDEX_ROOT, FOLDER_INDEX, value, 0)))
            if state.index.length:
                found.append(self._of_stream(INDEX_ALLOCATION, FOLDER_INDEX, state.blocks))
                bits = np.packbits(state.index.in_use(), bitorder="little").tobytes()
                bits = bits.ljust(-(-len(bits) // 8) * 8, b"\0")
                found.append(_Part(BITMAP, FOLDER_INDEX, inside_attribute(BITMAP, FOLDER_INDEX, bits, 0)))
        for text, collation, view in state.views:
            value = view.root_value(0, collation, self._per_block(view))
            found.append(_Part(INDEX_ROOT, text, inside_attribute(INDEX_ROOT, text, value, 0)))
        yield from sorted(found, key=_by_kind)

    def _per_block(self, index: Index) -> int:
        """Clusters of a block of an index; of larger clusters units of 512 bytes."""
        return index.size // self._cluster if self._cluster <= index.size else index.size // STRIDE

    def _of_stream(self, kind: int, name: str, stream: Stream) -> _Part:
        if stream.inside is not None:
            return _Part(kind, name, inside_attribute(kind, name, stream.inside, 0))
        many = stream.pairs()
        told = many.told(0, len(stream.runs)) if many else None
        data = outside_attribute(kind, name, stream, stream.runs, 0, self._cluster, 0, told)
        return _Part(kind, name, data, stream=stream)

    def _spread(self, state: FileState, parts: list[_Part]) -> list[tuple[int, int, int, bytes]]:
        """Parts that need not be in the base record into others, cut where they have no room in one."""
        kept = [part for part in parts if part.kind in (STANDARD_INFORMATION, INDEX_ROOT)]
        moved = [part for part in parts if part.kind not in (STANDARD_INFORMATION, INDEX_ROOT)]
        while moved and self._list_size(parts) + sum(len(one.data) for one in (*kept, moved[0])) <= self.room // 2:
            kept.append(moved.pop(0))
        pieces = self._in_records(moved)
        if self._list_size([one for those in pieces for one in those]) > _MOST_LISTED:
            raise VolumeError(f"record {state.number}: the list of its attributes would be too long")
        while len(state.extensions) < len(pieces):
            state.extensions.append(self._take())
        while len(state.extensions) > len(pieces):
            self._release(state.extensions.pop()[0])
        return self._with_list(state, sorted(kept, key=_by_kind), pieces)

    def _with_list(
        self, state: FileState, kept: list[_Part], pieces: list[list[_Part]]
    ) -> list[tuple[int, int, int, bytes]]:
        """The records of a file whose base record has room for `kept` only, and for a list of where all stands."""
        # The list itself comes in behind the first attribute, and counts among them.
        listed = [(part, state.reference, n + (part.kind > ATTRIBUTE_LIST)) for n, part in enumerate(kept)]
        further: list[tuple[int, int, int, bytes]] = []
        for (number, sequence), those in zip(state.extensions, pieces, strict=True):
            listed += [(part, number | sequence << 48, n) for n, part in enumerate(those)]
            further.append((number, sequence, state.reference, _joined(those)))
        listed.sort(key=lambda item: (*_by_kind(item[0]), item[0].first))
        value = b"".join(_list_entry(*item) for item in listed)
        own = inside_attribute(ATTRIBUTE_LIST, "", value, 0)
        fits = sum(len(part.data) for part in kept) + len(own) <= self.room
        self._put_list(state.listing, b"" if fits else value)
        if not fits:
            place = state.listing
            own = outside_attribute(ATTRIBUTE_LIST, "", place, place.runs, 0, self._cluster, 0)
        kept = sorted([*kept, _Part(ATTRIBUTE_LIST, "", own)], key=_by_kind)
        return [(state.number, state.sequence, 0, _joined(kept)), *further]

    def _in_records(self, moved: list[_Part]) -> list[list[_Part]]:
        """Parts by the further records that they go into."""
        out: list[list[_Part]] = [[]]
        room = self.room
        for part in moved:
            for piece in self._pieces(part):
                if len(piece.data) > room:
                    out.append([])
                    room = self.room
                out[-1].append(piece)
                room -= len(piece.data)
        return [those for those in out if those]

    @staticmethod
    def _list_size(parts: list[_Part]) -> int:
        return _HEAD + sum(-(-(_LIST_ENTRY + 2 * len(part.name)) // 8) * 8 for part in parts) + 8 * _LIST_ENTRY

    def _pieces(self, part: _Part) -> Iterator[_Part]:
        """A part, or pieces of it that each have room in a record."""
        if part.stream is None or len(part.data) <= self.room:
            yield part
            return
        runs, first, at = part.stream.runs, 0, 0
        many = part.stream.pairs()
        head = -(-(_HEAD_ELSEWHERE + 2 * len(part.name)) // 8) * 8
        while at < len(runs):
            count = len(runs) - at
            while True:
                if many is not None:
                    length = -(-(head + many.length(at, at + count)) // 8) * 8
                else:
                    data = self._piece(part, part.stream, at, count, first)
                    length = len(data)
                if length <= self.room or count == 1:
                    break
                count = max(count * self.room // (length + 8), 1)
            if many is not None:
                data = self._piece(part, part.stream, at, count, first, many.told(at, at + count))
            yield _Part(part.kind, part.name, data, first, part.stream)
            first += sum(number for _, number in runs[at : at + count])
            at += count

    def _piece(
        self, part: _Part, stream: Stream, at: int, count: int, first: int, told: ToldRuns | None = None
    ) -> bytes:  # fmt: skip
        runs = stream.runs[at : at + count]
        return outside_attribute(part.kind, part.name, stream, runs, first, self._cluster, 0, told)

    def packed(self, number: int, sequence: int, base: int, attributes: bytes, state: FileState) -> bytes:
        """A record without fix-ups, as far as it is used."""
        head = np.zeros((), RECORD)
        head["magic"], head["usa"] = int.from_bytes(FILE_MAGIC, "little"), USA_AT
        head["usa_count"], head["sequence"] = self.size // STRIDE + 1, sequence
        head["links"] = 0 if base else state.links
        own = (IS_FOLDER if state.folder else 0) | (HAS_VIEWS if state.views else 0)
        own |= BELOW_EXTEND if any(name.parent & REFERENCE == EXTEND for name in state.names) else 0
        head["attributes"], head["flags"] = self.first, IN_USE | (0 if base else own)
        head["used"], head["allocated"] = self.first + len(attributes), self.size
        head["base"], head["number"] = base, number
        head["next"] = _MOST_INSTANCES
        return head.tobytes().ljust(self.first, b"\0") + attributes


def _by_kind(part: _Part) -> tuple[int, str]:
    return part.kind, part.name


def _joined(parts: list[_Part]) -> bytes:
    """Attributes one behind the other, each with its own number."""
    out = bytearray()
    for n, part in enumerate(parts):
        out += part.data[:14] + n.to_bytes(2, "little") + part.data[16:]
    return bytes(out) + END.to_bytes(4, "little") + bytes(4)


def _list_entry(part: _Part, reference: int, instance: int) -> bytes:
    text = part.name.encode("utf-16-le")
    length = -(-(_LIST_ENTRY + len(text)) // 8) * 8
    out = part.kind.to_bytes(4, "little") + length.to_bytes(2, "little") + bytes([len(text) // 2, _LIST_ENTRY])
    out += part.first.to_bytes(8, "little") + reference.to_bytes(8, "little") + instance.to_bytes(2, "little")
    return (out + text).ljust(length, b"\0")
