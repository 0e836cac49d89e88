"""The books of a medium being laid down: what lies where, and what later writes take away.

Every write passes by here before it happens. Where it changes grains of something that is watched, its content is saved
first (if that is asked for), the grains are noted as gone, and to whom.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from sastrugi.media.extents import Extent, RangeSet
from sastrugi.media.raw import RawImage

_BUCKET, _FINE = 1 << 17, 1 << 12
"""Bytes of the medium whose large pieces are kept together, and those whose small ones are (there are many of them)."""
SECTOR = 512
_NOTHING = RangeSet()
"""Shared, and never added to: of nearly everything that is watched nothing goes."""


@dataclass(slots=True, eq=False)
class TrackedExtents:
    """What is left of something that was written: `extents` as laid, `gone` of them, and who took them."""

    extents: tuple[Extent, ...]
    grain: int
    save: Callable[[], None] | None = None
    gone: RangeSet = _NOTHING
    takers: tuple[str, ...] = ()

    def stands(self, part: Sequence[Extent]) -> bool:
        """Whether nothing of `part` is gone."""
        return self.gone is _NOTHING or not any(self.gone.meets(extent) for extent in part)


_Watched = tuple[int, int, TrackedExtents]
"""Where an extent that is watched begins and ends, and what it is part of."""


class WriteTracker:
    """Watches all writes to an image. `writer` says who is writing, so that takers are known."""

    def __init__(self, image: RawImage) -> None:
        self._image = image
        self._buckets = {size: defaultdict[int, list[_Watched]](list) for size in (_BUCKET, _FINE)}
        self.writer = ""
        image.observers.append(self._before_write)

    def watch(
        self, extents: Sequence[Extent], grain: int = SECTOR, save: Callable[[], None] | None = None
    ) -> TrackedExtents:
        """Watch extents from now on. `grain` is the unit in which a change counts (sectors for content); `save` is
        called once, before the first byte goes."""
        remains = TrackedExtents(tuple(extents), grain, save)
        for watched, size, bucket in self._places(remains):
            self._buckets[size][bucket].append(watched)
        return remains

    def forget(self, remains: TrackedExtents) -> None:
        """Watch these no more: something newer stands for them."""
        for _, size, bucket in self._places(remains):
            entries = self._buckets[size]
            entries[bucket] = [entry for entry in entries[bucket] if entry[2] is not remains]

    @staticmethod
    def _places(remains: TrackedExtents) -> Iterator[tuple[_Watched, int, int]]:
        """Each extent, with the size and the number of every bucket that it is kept in."""
        for offset, length in remains.extents:
            size = _FINE if length <= _FINE else _BUCKET
            for bucket in range(offset // size, (offset + length - 1) // size + 1) if length else ():
                yield (offset, offset + length, remains), size, bucket

    def _met(self, offset: int, end: int) -> list[_Watched]:
        """Start, end and whole of every watched extent of which anything lies in a range and is not all gone."""
        met: dict[tuple[int, int], _Watched] = {}
        for size, buckets in self._buckets.items():
            first, behind = offset // size, (end - 1) // size + 1
            few = behind - first <= len(buckets)
            for bucket in range(first, behind) if few else [n for n in buckets if first <= n < behind]:
                entries = buckets.get(bucket)
                if not entries:
                    continue
                hit = [entry for entry in entries if entry[0] < end and entry[1] > offset]
                over = {(entry[0], id(entry[2])) for entry in hit if _all_gone(entry)}
                if over:  # nothing more can be taken of these
                    buckets[bucket] = [e for e in entries if (e[0], id(e[2])) not in over]
                for entry in hit:
                    met[entry[0], id(entry[2])] = entry
        return list(met.values())

    def _before_write(self, offset: int, data: bytes | memoryview) -> None:
        met = self._met(offset, offset + len(data)) if len(data) else []
        if not met:
            return
        old = self._image.read(offset, len(data))
        if old == data:
            return
        differs = np.flatnonzero(np.frombuffer(old, "u1") != np.frombuffer(data, "u1")) + offset
        apart = np.flatnonzero(np.diff(differs) > 1)  # behind these bytes, one or more are the same
        starts, ends = differs[np.append(-1, apart) + 1], differs[np.append(apart, -1)] + 1
        limits = np.array([entry[:2] for entry in met], np.int64)
        firsts = np.searchsorted(ends, limits[:, 0], "right").tolist()
        behinds = np.searchsorted(starts, limits[:, 1], "left").tolist()
        for (start, stop, remains), first, behind in zip(met, firsts, behinds, strict=True):
            if first < behind and not remains.gone.covers(Extent(start, stop - start)):
                some, upto = starts[first:behind], ends[first:behind]
                if remains.grain > 1:
                    some, upto = _grains(np.maximum(some, start), upto, start, remains.grain)
                firsts_gone, ends_gone = some.tolist(), upto.tolist()
                firsts_gone[0], ends_gone[-1] = max(firsts_gone[0], start), min(ends_gone[-1], stop)
                self._take(remains, firsts_gone, ends_gone)

    def lose(self, part: Extent) -> None:
        """Note that all that is watched in `part` goes now, whatever its bytes are: it cannot be read any more."""
        for start, stop, remains in self._met(part.offset, part.end):
            lo, hi = max(start, part.offset), min(stop, part.end)
            first = start + (lo - start) // remains.grain * remains.grain
            behind = min(start - (start - hi) // remains.grain * remains.grain, stop)
            if not remains.gone.covers(Extent(first, behind - first)):
                self._take(remains, [first], [behind])

    def _take(self, remains: TrackedExtents, starts: list[int], ends: list[int]) -> None:
        """Note that ranges of something watched, in order, go now, to the present writer."""
        if remains.save is not None:
            remains.save()
            remains.save = None
        if remains.gone is _NOTHING:
            remains.gone = RangeSet()
        remains.gone.add_ordered(starts, ends)
        if self.writer and self.writer not in remains.takers:
            remains.takers += (self.writer,)


def _all_gone(watched: _Watched) -> bool:
    start, end, remains = watched
    return remains.gone is not _NOTHING and remains.gone.covers(Extent(start, end - start))


def _grains(
    starts: NDArray[np.int64], ends: NDArray[np.int64], base: int, grain: int
) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Where the grains, counted from `base`, begin and end that hold anything of some ranges: those that touch are
    one."""
    firsts = (starts - base) // grain * grain + base
    behinds = -((base - ends) // grain) * grain + base
    apart = np.flatnonzero(firsts[1:] > behinds[:-1])
    return firsts[np.append(-1, apart) + 1], behinds[np.append(apart, -1)]
