"""Extents: runs of bytes on a medium, and the few operations everything else is built on."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Iterable, Iterator, Sequence
from itertools import accumulate
from typing import NamedTuple

import numpy as np


class Extent(NamedTuple):
    """A run of bytes: `offset` from the start of the medium and `length`, both in bytes."""

    offset: int
    length: int

    @property
    def end(self) -> int:
        return self.offset + self.length


def total(extents: Iterable[Extent]) -> int:
    """Bytes in all."""
    return sum(extent.length for extent in extents)


def join(extents: Iterable[Extent]) -> tuple[Extent, ...]:
    """Neighbours in the given order that touch become one; empty ones go."""
    out: list[Extent] = []
    end = 0
    for offset, length in extents:
        if length <= 0:
            continue
        if out and end == offset:
            first, before = out[-1]
            out[-1] = Extent(first, before + length)
        else:
            out.append(Extent(offset, length))
        end = offset + length
    return tuple(out)


def cut(extents: Sequence[Extent], length: int) -> tuple[Extent, ...]:
    """The first `length` bytes of a file that lies on `extents`."""
    out: list[Extent] = []
    left = length
    for extent in extents:
        if left <= 0:
            break
        out.append(Extent(extent.offset, min(left, extent.length)))
        left -= extent.length
    return tuple(out)


def within(extents: Sequence[Extent], position: int, length: int) -> tuple[Extent, ...]:
    """Where bytes `position … position+length` of a file lie, if the file lies on `extents`."""
    out: list[Extent] = []
    at = 0
    for extent in extents:
        lo, hi = max(position, at), min(position + length, at + extent.length)
        if lo < hi:
            out.append(Extent(extent.offset + lo - at, hi - lo))
        at += extent.length
        if at >= position + length:
            break
    return tuple(out)


class Laid:
    """The extents that a file lies on, asked for many small parts of it."""

    def __init__(self, extents: Sequence[Extent]) -> None:
        self._extents = list(extents)
        self._ends = list(accumulate(extent.length for extent in self._extents))

    @property
    def size(self) -> int:
        """Bytes in all."""
        return self._ends[-1] if self._ends else 0

    def grow(self, more: Sequence[Extent]) -> None:
        """Add what lies behind the rest."""
        for extent in more:
            if self._extents and self._extents[-1].end == extent.offset:
                last = self._extents[-1]
                self._extents[-1] = Extent(last.offset, last.length + extent.length)
                self._ends[-1] += extent.length
            else:
                self._ends.append(self.size + extent.length)
                self._extents.append(extent)

    def within(self, position: int, length: int) -> tuple[Extent, ...]:
        """Where bytes `position … position+length` of the file lie."""
        out: list[Extent] = []
        n = bisect_right(self._ends, position)
        while length > 0 and n < len(self._ends):
            part = min(length, self._ends[n] - position)
            if part > 0:
                out.append(Extent(self._extents[n].end - (self._ends[n] - position), part))
            position, length, n = position + part, length - part, n + 1
        return tuple(out)


class RangeSet:
    """A set of byte positions kept as sorted, separate ranges; grows and shrinks by extents."""

    __slots__ = ("_ends", "_starts", "_sums")

    def __init__(self, extents: Iterable[Extent] = ()) -> None:
        self._starts: list[int] = []
        self._ends: list[int] = []
        self._sums: list[int] = []
        """Bytes in front of each range, and in all; empty where they have to be worked out anew."""
        if isinstance(extents, RangeSet):
            self._starts, self._ends, self._sums = extents._starts.copy(), extents._ends.copy(), extents._sums
            return
        for extent in extents:
            self.add(extent)

    def __iter__(self) -> Iterator[Extent]:
        for start, end in zip(self._starts, self._ends, strict=True):
            yield Extent(start, end - start)

    def __len__(self) -> int:
        return len(self._starts)

    def _span(self, start: int, end: int) -> tuple[int, int]:
        """Indices [i, j) of the ranges that overlap or touch [start, end]."""
        i = bisect_right(self._starts, start)
        if i and self._ends[i - 1] >= start:
            i -= 1
        return i, bisect_right(self._starts, end, lo=i)

    def add(self, extent: Extent) -> None:
        if extent.length <= 0:
            return
        start, end = extent.offset, extent.end
        self._sums = []
        if not self._ends or start > self._ends[-1]:  # they come in order, mostly
            self._starts.append(start)
            self._ends.append(end)
            return
        i, j = self._span(start, end)
        if i < j:
            start, end = min(start, self._starts[i]), max(end, self._ends[j - 1])
        self._starts[i:j] = [start]
        self._ends[i:j] = [end]

    def add_ordered(self, starts: list[int], ends: list[int]) -> None:
        """Add many ranges at once: in order, none of them empty, none touching the next."""
        if not starts:
            return
        self._sums = []
        if not self._ends or starts[0] > self._ends[-1]:
            self._starts += starts
            self._ends += ends
            return
        i, _ = self._span(starts[0], starts[0])
        j = bisect_right(self._starts, ends[-1], lo=i)
        if i == j:
            self._starts[i:j], self._ends[i:j] = starts, ends
            return
        every = np.array([self._starts[i:j] + starts, self._ends[i:j] + ends], np.int64)
        every = every[:, np.argsort(every[0])]
        upto = np.maximum.accumulate(every[1])
        apart = np.flatnonzero(every[0, 1:] > upto[:-1])  # behind these, a new range begins
        self._starts[i:j] = every[0, np.concatenate(([0], apart + 1))].tolist()
        self._ends[i:j] = upto[np.append(apart, -1)].tolist()

    def remove(self, extent: Extent) -> None:
        if extent.length <= 0:
            return
        start, end = extent.offset, extent.end
        i, j = self._span(start, end)
        if i == j:
            return
        kept = [(a, b) for a, b in ((self._starts[i], start), (end, self._ends[j - 1])) if a < b]
        self._starts[i:j] = [a for a, _ in kept]
        self._ends[i:j] = [b for _, b in kept]
        self._sums = []

    def overlap(self, extent: Extent) -> tuple[Extent, ...]:
        """The parts of `extent` that are in the set, in order."""
        part = self.within(extent)
        return tuple(Extent(start, end - start) for start, end in zip(part._starts, part._ends, strict=True))

    def within(self, extent: Extent) -> RangeSet:
        """The part of the set that is in `extent`, as a set of its own."""
        part = RangeSet()
        i, j = bisect_right(self._ends, extent.offset), bisect_left(self._starts, extent.end)
        if i < j and extent.length > 0:
            part._starts, part._ends = self._starts[i:j], self._ends[i:j]
            part._starts[0] = max(part._starts[0], extent.offset)
            part._ends[-1] = min(part._ends[-1], extent.end)
        return part

    def same_as(self, other: RangeSet) -> bool:
        """Whether both hold the same bytes. (Sets change, so `==` and hashes go by which they are.)"""
        return self._starts == other._starts and self._ends == other._ends

    def meets(self, extent: Extent) -> bool:
        """Whether anything of `extent` is in the set."""
        i = bisect_right(self._starts, extent.offset)
        if i and self._ends[i - 1] > extent.offset:
            return extent.length > 0
        return i < len(self._starts) and self._starts[i] < extent.end

    def count(self, extent: Extent) -> int:
        """How many bytes of `extent` are in the set; costs nothing for each range of it, once the set stands."""
        if not self._sums:
            lengths = (end - start for start, end in zip(self._starts, self._ends, strict=True))
            self._sums = list(accumulate(lengths, initial=0))
        i, j = self._span(extent.offset, extent.end)
        if i == j:
            return 0
        before = max(extent.offset - self._starts[i], 0)
        behind = max(self._ends[j - 1] - extent.end, 0)
        return max(self._sums[j] - self._sums[i] - before - behind, 0)

    def gaps(self, extent: Extent) -> tuple[Extent, ...]:
        """The parts of `extent` that are not in the set, in order."""
        out: list[Extent] = []
        at = extent.offset
        for part in self.overlap(extent):
            out.append(Extent(at, part.offset - at))
            at = part.end
        out.append(Extent(at, extent.end - at))
        return tuple(part for part in out if part.length > 0)

    def covers(self, extent: Extent) -> bool:
        """Whether all of `extent` is in the set."""
        i = bisect_right(self._starts, extent.offset) - 1
        return extent.length <= 0 or (i >= 0 and self._ends[i] >= extent.end)

    def free_from(self, position: int, end: int) -> Extent:
        """From `position`, which must not be in the set, to where the set begins again, or to `end`."""
        i = bisect_right(self._starts, position)
        stop = min(self._starts[i], end) if i < len(self._starts) else end
        return Extent(position, stop - position)

    def end_at(self, position: int) -> int:
        """Where the range ends that holds `position`, which must be in the set."""
        return self._ends[bisect_right(self._starts, position) - 1]

    def __contains__(self, position: int) -> bool:
        i = bisect_right(self._starts, position) - 1
        return i >= 0 and position < self._ends[i]
