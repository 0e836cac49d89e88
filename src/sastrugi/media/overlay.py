"""A medium as it once was: some of its blocks as copies of them stand elsewhere on it, all else as it is now."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterator, Mapping

from sastrugi.media.base import Medium
from sastrugi.media.extents import Extent


class OverlayMedium(Medium):
    """`blocks` says for the place of a block where its copy stands; all are `size` bytes long and none overlap. What is
    under it stays open."""

    def __init__(self, under: Medium, blocks: Mapping[int, int], size: int) -> None:
        super().__init__()
        self.path, self.size, self.sector = under.path, under.size, under.sector
        self._under, self._blocks, self._block = under, dict(blocks), size
        self._places = sorted(self._blocks)
        self.unreadable, self.unread = under.unreadable, under.unread

    def _parts(self, offset: int, length: int) -> Iterator[tuple[int, int]]:
        """Where the bytes of a stretch are read from: (place, length), in order."""
        at, end = offset, min(offset + length, self.size)
        n = max(bisect_right(self._places, at) - 1, 0)
        while at < end:
            while n < len(self._places) and self._places[n] + self._block <= at:
                n += 1
            place = self._places[n] if n < len(self._places) else end
            if at < place:
                stop = min(place, end)
                yield at, stop - at
            else:
                stop = min(place + self._block, end)
                yield self._blocks[place] + at - place, stop - at
            at = stop

    def read(self, offset: int, length: int) -> bytes:
        if offset < 0 or length <= 0:
            return b""
        return b"".join(self._under.read(at, count).ljust(count, b"\0") for at, count in self._parts(offset, length))

    def data_ranges(self, start: int = 0, end: int | None = None) -> Iterator[Extent]:
        end = self.size if end is None else min(end, self.size)
        at = start
        for place in [*self._places, end]:
            if place + self._block <= start:
                continue
            stop = max(min(place, end), at)
            if at < stop:
                yield from self._under.data_ranges(at, stop)
            if place >= end:
                break
            lo, hi = max(place, at), min(place + self._block, end)
            if lo < hi:
                yield Extent(lo, hi - lo)
            at = max(at, hi)

    def close(self) -> None:
        """Nothing of its own is open."""
