"""Whose the bytes of a volume are: for readers whose structures say at once where every file lies."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Callable, Iterable, Iterator

from sastrugi.media.extents import Extent, RangeSet
from sastrugi.volumes.reader import UNLISTED_OWNER, Conflict

_MOST_CONFLICTS = 1 << 18


class OwnedSpace:
    """`used` gives the parts of a stretch that the volume's allocation structures call used, in order; `owned` are the
    stretches of which more is known, each with its owner and the owner's identity (0: none). Where owners overlap, the
    first of them counts."""

    def __init__(self, used: Callable[[Extent], Iterator[Extent]], owned: Iterable[tuple[Extent, str, int]]) -> None:
        self._used = used
        taken = RangeSet()
        parts: list[tuple[int, int, str, int]] = []
        for extent, owner, identity in owned:
            parts += [(gap.offset, gap.end, owner, identity) for gap in taken.gaps(extent)]
            taken.add(extent)
        parts.sort()
        self._parts = parts
        self._starts = [part[0] for part in parts]

    def conflicts(self, extents: Iterable[Extent]) -> list[Conflict]:
        """Which parts of `extents` are not free, and whose they are."""
        out: list[Conflict] = []
        for extent in extents:
            for part in self._used(extent):
                out += self._owners(part)
                if len(out) > _MOST_CONFLICTS:
                    return out
        return out

    def _owners(self, part: Extent) -> Iterator[Conflict]:
        at = part.offset
        n = max(bisect_right(self._starts, at) - 1, 0)
        while at < part.end:
            while n < len(self._parts) and self._parts[n][1] <= at:
                n += 1
            start, end, owner, identity = self._parts[n] if n < len(self._parts) else (part.end, part.end, "", 0)
            if at < start:
                stop = min(start, part.end)
                yield Conflict(Extent(at, stop - at), UNLISTED_OWNER)
            else:
                stop = min(end, part.end)
                yield Conflict(Extent(at, stop - at), owner, identity)
            at = stop
