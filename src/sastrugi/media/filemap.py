"""The map of a file's bytes: where on a medium each of them lies, or why it has no place there.

A file is a row of segments. Most are one segment of bytes that stand as they are, in one or more extents (which may lie
anywhere, inside of metadata records too); others are holes and unwritten ends, which read as zeros, units that stand
coded, and ranges of which nobody knows the place.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple

from sastrugi.media.base import Medium
from sastrugi.media.codings import DECODERS
from sastrugi.media.extents import Extent, RangeSet, cut, join, total, within

AS_IT_STANDS, ZEROS, UNKNOWN = "", "zeros", "unknown"
_LARGEST = (1 << 63) - 1
_LARGEST_UNIT = 16 << 20
"""Bytes of a coded unit, and of what it stands on: file systems have units of 64 KiB."""
_CHUNK = 1 << 20
_NONE: frozenset[str] = frozenset()
_NO_CODINGS = frozenset({AS_IT_STANDS, ZEROS, UNKNOWN})
_PART = re.compile(r"([a-z0-9]+)\+(\d{1,18})(?:\(([\d+ ]*)\))?")
_EXTENT = re.compile(r"(\d{1,18})\+(\d{1,18})")


class Segment(NamedTuple):
    """The next `length` bytes of a file. `coding` is AS_IT_STANDS (`stored` are as many bytes), ZEROS or UNKNOWN
    (nothing is stored), or the name of a decoder, which makes them of all that is stored."""

    length: int
    stored: tuple[Extent, ...] = ()
    coding: str = AS_IT_STANDS


@dataclass(frozen=True, slots=True)
class FileMap:
    """A file's segments in order, each as long as it can be: equal maps are equal objects. Make one with `of`, `made`,
    `unpacked` or `of_text`."""

    segments: tuple[Segment, ...] = ()

    # -- making -----------------------------------------------------------------------------

    @classmethod
    def of(cls, extents: Iterable[Extent], size: int | None = None, valid: int | None = None) -> FileMap:
        """Bytes as they stand in a row of extents, cut to `size`; those from `valid` on were never written and read as
        zeros. What the extents are too short for is unknown."""
        stored = join(extents)
        if len(stored) == 1 and valid is None and size is not None and 0 < size <= stored[0].length:
            one = stored[0]
            return cls((Segment(size, stored if size == one.length else (Extent(one.offset, size),)),))
        if size is None:
            size = total(stored)
        written = size if valid is None else min(valid, size)
        if total(stored) > written:
            stored = join(cut(stored, written))
        there = total(stored)
        if there == size:
            return cls((Segment(size, stored),)) if size else _EMPTY
        return cls.made(
            (
                Segment(there, stored),
                Segment(written - there, (), UNKNOWN),
                Segment(size - written, (), ZEROS),
            )
        )

    @classmethod
    def made(cls, segments: Iterable[Segment]) -> FileMap:
        """A map of these segments: empty ones go, neighbours that are alike become one."""
        out: list[tuple[int, list[Extent], str]] = []
        for length, stored, coding in segments:
            if length <= 0:
                continue
            if out and out[-1][2] == coding and coding in (AS_IT_STANDS, ZEROS, UNKNOWN):
                before, parts, _ = out[-1]
                parts += stored
                out[-1] = (before + length, parts, coding)
            else:
                out.append((length, list(stored), coding))
        return cls(tuple(Segment(length, join(stored), coding) for length, stored, coding in out))

    def head(self, length: int) -> FileMap:
        """The map of its first `length` bytes."""
        if length >= self.size:
            return self
        out: list[Segment] = []
        for one in self.segments:
            if length <= 0:
                break
            part = min(one.length, length)
            stored = cut(one.stored, part) if one.coding == AS_IT_STANDS else one.stored
            out.append(Segment(part, stored, one.coding))
            length -= part
        return FileMap.made(out)

    def part(self, position: int, length: int) -> FileMap:
        """The map of some of its bytes. A coded unit that is cut in front stays whole: its bytes are unknown then."""
        out: list[Segment] = []
        for start, one in self._placed():
            lo, hi = max(position, start), min(position + length, start + one.length)
            if lo >= hi:
                continue
            if one.coding == AS_IT_STANDS:
                out.append(Segment(hi - lo, within(one.stored, lo - start, hi - lo)))
            elif one.coding in (ZEROS, UNKNOWN) or lo == start:
                out.append(Segment(hi - lo, one.stored, one.coding))
            else:
                out.append(Segment(hi - lo, (), UNKNOWN))
        return FileMap.made(out)

    # -- what it says -----------------------------------------------------------------------

    @property
    def _simple(self) -> bool:
        """Whether it is one segment that stands as it is, as nearly every file is: the short way to most answers."""
        return len(self.segments) == 1 and not self.segments[0].coding

    @property
    def size(self) -> int:
        return self.segments[0].length if len(self.segments) == 1 else sum(one.length for one in self.segments)

    @property
    def stored(self) -> tuple[Extent, ...]:
        """All parts of the medium on which the file's bytes stand, in the order of the file."""
        if len(self.segments) == 1:
            return self.segments[0].stored
        return join(extent for one in self.segments for extent in one.stored)

    @property
    def start(self) -> int | None:
        """The first byte of the medium that it stands on; None if it stands on none."""
        if self._simple:
            return self.segments[0].stored[0].offset
        return next((extent.offset for one in self.segments for extent in one.stored), None)

    @property
    def plain(self) -> bool:
        """Whether all of it stands as it is."""
        return self._simple or all(one.coding == AS_IT_STANDS for one in self.segments)

    @property
    def reach(self) -> int:
        """Bytes from its start that have a place or are zeros: all but an unknown end."""
        if self._simple:
            return self.segments[0].length
        last = self.segments[-1] if self.segments else None
        return self.size - (last.length if last is not None and last.coding == UNKNOWN else 0)

    @property
    def zeros(self) -> int:
        """Bytes that were never written, and read as zeros."""
        return 0 if self._simple else sum(one.length for one in self.segments if one.coding == ZEROS)

    @property
    def coded(self) -> frozenset[str]:
        """The codings in which units of it stand."""
        return _NONE if self._simple else frozenset(one.coding for one in self.segments) - _NO_CODINGS

    def unknown(self) -> tuple[Extent, ...]:
        """The ranges of the file (not of the medium) of which nobody knows the place."""
        if self._simple:
            return ()
        return tuple(Extent(at, length) for at, length, coding in self.nowhere() if coding == UNKNOWN)

    def nowhere(self) -> Iterator[tuple[int, int, str]]:
        """What stands on nothing: position, length, and whether it is ZEROS or UNKNOWN."""
        return ((at, one.length, one.coding) for at, one in self._placed() if one.coding in (ZEROS, UNKNOWN))

    def pieces(self) -> Iterator[tuple[int, Extent]]:
        """What stands as it is, in order: the position in the file, and where on the medium."""
        for position, one in self._placed():
            for extent in one.stored if one.coding == AS_IT_STANDS else ():
                yield position, extent
                position += extent.length

    def owned(self) -> Iterator[tuple[int, Extent, str]]:
        """Everything that it stands on: the position in the file, where on the medium, and the coding. Of a coded unit
        the position is the first of all its bytes."""
        for position, one in self._placed():
            for extent in one.stored:
                yield position, extent, one.coding
                position += extent.length if one.coding == AS_IT_STANDS else 0

    def units(self) -> Iterator[tuple[int, Segment]]:
        """Its coded units, each with its position in the file."""
        return ((at, one) for at, one in self._placed() if one.coding not in (AS_IT_STANDS, ZEROS, UNKNOWN))

    def _placed(self) -> Iterator[tuple[int, Segment]]:
        """Each segment with its position in the file."""
        position = 0
        for one in self.segments:
            yield position, one
            position += one.length

    def right(self, gone: RangeSet) -> RangeSet:
        """The ranges of the file that are still right once bytes of the medium are gone. Of a coded unit all are lost
        with any byte of it; zeros are never lost; what is unknown counts as lost."""
        if not gone and not any(one.coding == UNKNOWN for one in self.segments):
            return RangeSet((Extent(0, self.size),))
        out = RangeSet()
        for position, one in self._placed():
            if one.coding == UNKNOWN:
                continue
            if one.coding != AS_IT_STANDS:
                if not any(gone.overlap(extent) for extent in one.stored):
                    out.add(Extent(position, one.length))
                continue
            for extent in one.stored:
                for part in gone.gaps(extent):
                    out.add(Extent(position + part.offset - extent.offset, part.length))
                position += extent.length
        return out

    # -- reading ----------------------------------------------------------------------------

    def read(self, medium: Medium, position: int, length: int) -> bytes:
        """Bytes of the file, as many as it has there. Unknown ones, and those of a damaged unit, read as zeros."""
        if self._simple:
            stored = self.segments[0].stored
            if len(stored) == 1 and position >= 0:
                offset, there = stored[0]
                return medium.read(offset + position, min(length, there - position))
            return medium.read_extents(within(stored, position, length))
        out: list[bytes] = []
        end = position + length
        for start, one in self._placed():
            lo, hi = max(position, start), min(end, start + one.length)
            if lo < hi:
                out.append(_bytes_of(medium, one, lo - start, hi - lo))
        return b"".join(out)

    def chunks(self, medium: Medium, size: int = _CHUNK) -> Iterator[bytes]:
        """The whole file in pieces of at most `size` bytes."""
        for one in self.segments:
            if one.coding == AS_IT_STANDS:
                for offset, length in one.stored:
                    for at in range(offset, offset + length, size):
                        yield medium.read(at, min(size, offset + length - at))
                continue
            data = _bytes_of(medium, one, 0, one.length) if one.stored else b""
            for at in range(0, one.length, size):
                yield data[at : at + size] if data else bytes(min(size, one.length - at))

    # -- as text ----------------------------------------------------------------------------

    def packed(self) -> list[Any]:
        """As JSON: `[offset, length]` for bytes that stand as they are, else `[coding, length]`, of a coded unit with a
        list of where it stands (docs/formats/truth.md)."""
        if self._simple:
            return list(map(list, self.segments[0].stored))
        out: list[Any] = []
        for one in self.segments:
            if one.coding == AS_IT_STANDS:
                out += map(list, one.stored)
            else:
                out.append([one.coding, one.length, *([list(map(list, one.stored))] if one.stored else [])])
        return out

    @classmethod
    def unpacked(cls, packed: Any, size: int | None = None) -> FileMap:
        """The map that was packed; what it says less than `size` of is unknown. Raises ValueError."""
        if not isinstance(packed, (list, tuple)):
            raise ValueError("a map of a file is a list")
        if len(packed) == 1 and isinstance(packed[0], list) and len(packed[0]) == 2:  # nearly every file's
            offset, length = packed[0]
            whole = type(offset) is type(length) is int and offset >= 0 < length <= _LARGEST - offset
            if whole and size in (None, length):
                return cls((Segment(length, (Extent(offset, length),)),))
        segments: list[Segment] = []
        for item in packed:
            if not isinstance(item, (list, tuple)) or not 2 <= len(item) <= 3:
                raise ValueError(f"{item!r:.40} is no part of a file")
            segments.append(_unpacked(item))
        covered = sum(one.length for one in segments)
        if size is not None and covered < size:
            segments.append(Segment(size - covered, (), UNKNOWN))
        if max(covered, size or 0) > _LARGEST:
            raise ValueError("it is larger than any file")
        return cls.made(segments).head(covered if size is None else size)

    def text(self) -> str:
        """The same on one line: `4096+512 zeros+1000 zlib+65536(8192+4096)`."""
        return " ".join(
            " ".join(f"{offset}+{length}" for offset, length in one.stored)
            if one.coding == AS_IT_STANDS
            else f"{one.coding}+{one.length}" + (f"({FileMap.of(one.stored).text()})" if one.stored else "")
            for one in self.segments
        )

    @classmethod
    def of_text(cls, text: str) -> FileMap:
        """The map of a line; anything may stand between its parts. Raises ValueError where there is none."""
        segments: list[Segment] = []
        for coding, length, inside in _PART.findall(text):
            if coding.isdigit():
                segments.append(_unpacked((int(coding), int(length))))
            else:
                segments.append(_unpacked((coding, int(length), _EXTENT.findall(inside))))
        if bool(text.strip()) != bool(segments):
            raise ValueError("it is no list of extents")
        return cls.made(segments)


_EMPTY = FileMap()


def _unpacked(item: Sequence[Any]) -> Segment:
    if len(item) == 2 and isinstance(item[0], int):
        extent = _extent(item)
        return Segment(extent.length, (extent,))
    coding, length = item[0], item[1]
    parts = item[2] if len(item) > 2 else ()
    if not isinstance(parts, (list, tuple)):
        raise ValueError(f"{item!r:.40} is no part of a file")
    stored = tuple(map(_extent, parts))
    if not isinstance(coding, str) or not isinstance(length, int) or not 0 <= length <= _LARGEST:
        raise ValueError(f"{item!r:.40} is no part of a file")
    if coding in (ZEROS, UNKNOWN) and not stored:
        return Segment(length, (), coding)
    if coding not in DECODERS or not stored or max(length, total(stored)) > _LARGEST_UNIT:
        raise ValueError(f"'{coding:.20}' is no coding that is known")
    return Segment(length, stored, coding)


def _extent(pair: Sequence[Any]) -> Extent:
    try:
        offset, length = map(int, pair)
    except (TypeError, OverflowError):
        raise ValueError(f"{pair!r:.40} is no place on a medium") from None
    if offset < 0 or length < 0 or offset + length > _LARGEST:
        raise ValueError(f"{offset}+{length} is no place on a medium")
    return Extent(offset, length)


def _bytes_of(medium: Medium, segment: Segment, inside: int, length: int) -> bytes:
    if segment.coding == AS_IT_STANDS:
        return medium.read_extents(within(segment.stored, inside, length)).ljust(length, b"\0")
    decode = DECODERS.get(segment.coding)
    if decode is None:
        return bytes(length)
    try:
        data = decode(medium.read_extents(segment.stored), segment.length)
    except ValueError:
        data = b""
    return data[inside : inside + length].ljust(length, b"\0")
