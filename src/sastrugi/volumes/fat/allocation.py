"""The file allocation table of a volume being written: chains, free clusters, and what must go to disk.

Kept in pieces that exist only where something was allocated, so that a table's memory follows the data on the
volume and not its capacity.
"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from sastrugi.errors import VolumeError
from sastrugi.media.raw import RawImage
from sastrugi.units import format_size
from sastrugi.volumes.fat.layout import (
    END_OF_CHAIN,
    ENTRY_MASK,
    FIRST_CLUSTER,
    MEDIA_FIXED,
    Geometry,
    pack_fat,
)

_PIECE = 1 << 14  # entries; whole sectors at every width (24, 32 or 64 KiB on disk)

Run = tuple[int, int]
"""First cluster and number of clusters."""


class AllocationTable:
    """All FAT entries of one volume. `next_free` is the hint of FSInfo: the cluster allocated last."""

    def __init__(self, image: RawImage, geometry: Geometry) -> None:
        self._image = image
        self._geometry = geometry
        self._pieces: dict[int, NDArray[np.uint32]] = {}
        self._changed: set[int] = set()
        self._end = geometry.clusters + FIRST_CLUSTER
        self.free_clusters = geometry.clusters
        self.next_free = FIRST_CLUSTER
        end = END_OF_CHAIN[geometry.bits]
        first = self._piece(0)
        first[0], first[1] = end & ~0xFF | MEDIA_FIXED, end

    def _piece(self, index: int) -> NDArray[np.uint32]:
        self._changed.add(index)
        return self._pieces.setdefault(index, np.zeros(_PIECE, np.uint32))

    def _set(self, start: int, values: NDArray[np.uint32]) -> None:
        """Write consecutive entries from cluster `start` on."""
        done = 0
        while done < len(values):
            index, at = divmod(start + done, _PIECE)
            count = min(_PIECE - at, len(values) - done)
            self._piece(index)[at : at + count] = values[done : done + count]
            done += count

    def _free_runs(self, start: int, stop: int) -> Iterator[Run]:
        """Runs of free clusters in [start, stop)."""
        at = start
        while at < stop:
            index, inside = divmod(at, _PIECE)
            upto = min((index + 1) * _PIECE, stop)
            piece = self._pieces.get(index)
            if piece is None:
                yield at, upto - at
            else:
                free = np.flatnonzero(piece[inside : inside + upto - at] == 0)
                for group in np.split(free, np.flatnonzero(np.diff(free) != 1) + 1) if len(free) else ():
                    yield at + int(group[0]), len(group)
            at = upto

    def allocate(self, count: int, first_gap: bool = False) -> list[Run]:
        """`count` free clusters as a chain, searching from the last allocation on and around (as Linux does).

        With `first_gap` the search begins at the start of the volume instead, so that freed space is filled first.
        """
        if count > self.free_clusters:
            missing = (count - self.free_clusters) * self._geometry.cluster_size
            raise VolumeError(f"the volume is full: {format_size(missing)} more are needed")
        runs: list[Run] = []
        left = count
        begin = FIRST_CLUSTER if first_gap or self.next_free + 1 >= self._end else self.next_free + 1
        for span in ((begin, self._end), (FIRST_CLUSTER, begin)):
            for start, length in self._free_runs(*span):
                if not left:
                    break
                length = min(length, left)
                if runs and runs[-1][0] + runs[-1][1] == start:
                    runs[-1] = (runs[-1][0], runs[-1][1] + length)
                else:
                    runs.append((start, length))
                left -= length
        self._link(runs)
        self.free_clusters -= count
        if runs:
            self.next_free = runs[-1][0] + runs[-1][1] - 1
        return runs

    def _link(self, runs: list[Run]) -> None:
        for n, (start, length) in enumerate(runs):
            values = np.arange(start + 1, start + length + 1, dtype=np.uint32)
            values[-1] = runs[n + 1][0] if n + 1 < len(runs) else END_OF_CHAIN[self._geometry.bits]
            self._set(start, values)

    def extend(self, runs: list[Run], count: int) -> list[Run]:
        """The chain `runs` with `count` more clusters at its end."""
        more = self.allocate(count)
        if runs and more:
            self._set(runs[-1][0] + runs[-1][1] - 1, np.array([more[0][0]], np.uint32))
        joined = list(runs)
        for start, length in more:
            if joined and joined[-1][0] + joined[-1][1] == start:
                joined[-1] = (joined[-1][0], joined[-1][1] + length)
            else:
                joined.append((start, length))
        return joined

    def release(self, runs: list[Run]) -> None:
        """Zero the entries of a chain, as every driver does on deletion."""
        for start, length in runs:
            self._set(start, np.zeros(length, np.uint32))
            self.free_clusters += length

    def flush(self) -> None:
        """Write what changed to every copy of the FAT."""
        geometry = self._geometry
        for index in sorted(self._changed):
            data = pack_fat(self._pieces[index] & np.uint32(ENTRY_MASK), geometry.bits)
            at = index * _PIECE * geometry.bits // 8
            for copy in range(geometry.fats):
                fat = geometry.fat(copy)
                self._image.write(fat.offset + at, data[: fat.length - at])
        self._changed.clear()
