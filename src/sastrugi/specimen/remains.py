"""The books of a medium being laid down: what lies where, and what later writes take away.

Every write passes by here before it happens. Where it changes sectors of a file that is gone from its volume, the
file's content is saved first (`originals`), the sectors are noted as gone, and to whom.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np

from sastrugi.media.extents import Extent, RangeSet
from sastrugi.media.raw import RawImage

_BUCKET = 1 << 20
_SECTOR = 512


@dataclass(slots=True)
class Remains:
    """What is left of one file (or directory record): `extents` as laid, `gone` of them, and who took them."""

    key: int
    extents: tuple[Extent, ...]
    size: int
    grain: int
    gone: RangeSet = field(default_factory=RangeSet)
    takers: list[str] = field(default_factory=list)
    saved: bool = False


class Books:
    """Watches all writes to an image. `writer` is the path of what is being written, so that takers are known."""

    def __init__(self, image: RawImage, save: Callable[[Remains], None]) -> None:
        self._image = image
        self._save = save
        self._buckets: defaultdict[int, list[tuple[int, int, Remains]]] = defaultdict(list)
        self.writer = ""
        image.observers.append(self._before_write)

    def enter(self, key: int, extents: tuple[Extent, ...], size: int, grain: int = _SECTOR) -> Remains:
        """Watch a file from now on; `grain` is the unit in which a change counts (sectors for content)."""
        remains = Remains(key, extents, size, grain)
        for offset, length in extents:
            for bucket in range(offset // _BUCKET, (offset + length - 1) // _BUCKET + 1):
                self._buckets[bucket].append((offset, offset + length, remains))
        return remains

    def _before_write(self, offset: int, data: bytes) -> None:
        end = offset + len(data)
        met: list[tuple[int, int, Remains]] = []
        for bucket in range(offset // _BUCKET, (end - 1) // _BUCKET + 1):
            met += [entry for entry in self._buckets.get(bucket, ()) if entry[0] < end and entry[1] > offset]
        for start, stop, remains in met:
            lo, hi = max(start, offset), min(stop, end)
            for changed in self._changed(lo, data[lo - offset : hi - offset], start, stop, remains):
                if not remains.saved:
                    self._save(remains)
                    remains.saved = True
                remains.gone.add(changed)
                if self.writer and self.writer not in remains.takers:
                    remains.takers.append(self.writer)

    def _changed(self, at: int, new: bytes, start: int, stop: int, remains: Remains) -> list[Extent]:
        """The grains of [start, stop) that `new` at `at` changes, as extents."""
        old = self._image.read(at, len(new))
        if old == new:
            return []
        differs = np.flatnonzero(np.frombuffer(old, "u1") != np.frombuffer(new, "u1"))
        grains = np.unique((differs + (at - start)) // remains.grain)
        groups = np.split(grains, np.flatnonzero(np.diff(grains) != 1) + 1)
        out: list[Extent] = []
        for group in groups:
            lo = start + int(group[0]) * remains.grain
            out.append(Extent(lo, min(start + (int(group[-1]) + 1) * remains.grain, stop) - lo))
        return out
