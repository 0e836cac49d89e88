"""The books of a medium being laid down: what lies where, and what later writes take away.

Every write passes by here before it happens. Where it changes grains of something that is watched, its content is saved
first (if that is asked for), the grains are noted as gone, and to whom.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from sastrugi.media.extents import Extent, RangeSet
from sastrugi.media.raw import RawImage

_BUCKET = 1 << 17
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
        return not any(self.gone.overlap(extent) for extent in part)


class WriteTracker:
    """Watches all writes to an image. `writer` says who is writing, so that takers are known."""

    def __init__(self, image: RawImage) -> None:
        self._image = image
        self._buckets: defaultdict[int, list[tuple[int, int, TrackedExtents]]] = defaultdict(list)
        self.writer = ""
        image.observers.append(self._before_write)

    def watch(
        self, extents: Sequence[Extent], grain: int = SECTOR, save: Callable[[], None] | None = None
    ) -> TrackedExtents:
        """Watch extents from now on. `grain` is the unit in which a change counts (sectors for content); `save` is
        called once, before the first byte goes."""
        remains = TrackedExtents(tuple(extents), grain, save)
        for start, stop, bucket in self._places(remains):
            self._buckets[bucket].append((start, stop, remains))
        return remains

    def forget(self, remains: TrackedExtents) -> None:
        """Watch these no more: something newer stands for them."""
        for _, _, bucket in self._places(remains):
            self._buckets[bucket] = [entry for entry in self._buckets[bucket] if entry[2] is not remains]

    @staticmethod
    def _places(remains: TrackedExtents) -> list[tuple[int, int, int]]:
        return [
            (offset, offset + length, bucket)
            for offset, length in remains.extents
            if length
            for bucket in range(offset // _BUCKET, (offset + length - 1) // _BUCKET + 1)
        ]

    def _met(self, offset: int, end: int) -> list[tuple[int, int, TrackedExtents]]:
        """Start, end and whole of every watched extent of which anything lies in a range and is not all gone."""
        met: dict[tuple[int, int], tuple[int, int, TrackedExtents]] = {}
        for bucket in range(offset // _BUCKET, (end - 1) // _BUCKET + 1):
            entries = self._buckets.get(bucket)
            if not entries:
                continue
            hit = [entry for entry in entries if entry[0] < end and entry[1] > offset]
            over = [entry for entry in hit if entry[2].gone.covers(Extent(entry[0], entry[1] - entry[0]))]
            if over:  # nothing more can be taken of these
                spent = {(start, id(remains)) for start, _, remains in over}
                self._buckets[bucket] = [e for e in entries if (e[0], id(e[2])) not in spent]
            met.update(((start, id(remains)), (start, stop, remains)) for start, stop, remains in hit)
        return list(met.values())

    def _before_write(self, offset: int, data: bytes | memoryview) -> None:
        end = offset + len(data)
        for start, stop, remains in self._met(offset, end):
            lo, hi = max(start, offset), min(stop, end)
            if not remains.gone.covers(Extent(lo, hi - lo)):
                for changed in self._changed(lo, data[lo - offset : hi - offset], start, stop, remains.grain):
                    self.take(remains, changed)

    def lose(self, part: Extent) -> None:
        """Note that all that is watched in `part` goes now, whatever its bytes are: it cannot be read any more."""
        for start, stop, remains in self._met(part.offset, part.end):
            lo, hi = max(start, part.offset), min(stop, part.end)
            first = start + (lo - start) // remains.grain * remains.grain
            behind = min(start - (start - hi) // remains.grain * remains.grain, stop)
            if not remains.gone.covers(Extent(first, behind - first)):
                self.take(remains, Extent(first, behind - first))

    def take(self, remains: TrackedExtents, part: Extent) -> None:
        """Note that `part` of something watched goes now, to the present writer."""
        if remains.save is not None:
            remains.save()
            remains.save = None
        if remains.gone is _NOTHING:
            remains.gone = RangeSet()
        remains.gone.add(part)
        if self.writer and self.writer not in remains.takers:
            remains.takers += (self.writer,)

    def _changed(self, at: int, new: bytes | memoryview, start: int, stop: int, grain: int) -> list[Extent]:
        """The grains of [start, stop) that `new` at `at` changes, as extents."""
        old = self._image.read(at, len(new))
        if old == new:
            return []
        differs = np.flatnonzero(np.frombuffer(old, "u1") != np.frombuffer(new, "u1"))
        grains = (differs + (at - start)) // grain
        last = np.flatnonzero(np.diff(grains) > 1)  # of each row of neighbours but the last
        firsts = grains[np.concatenate([[0], last + 1])] * grain + start
        ends = np.minimum((grains[np.append(last, -1)] + 1) * grain + start, stop)
        return [Extent(lo, hi - lo) for lo, hi in zip(firsts.tolist(), ends.tolist(), strict=True)]
