"""The file allocation table of a FAT or exFAT volume being written: chains, and what must go to disk."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np
from numpy.typing import NDArray

from sastrugi.media.extents import Extent
from sastrugi.media.raw import RawImage
from sastrugi.volumes.allocation import Run

_PIECE = 1 << 14  # entries; whole sectors at every width (24, 32 or 64 KiB on disk)


class ChainTable:
    """All FAT entries of one volume, in pieces that exist only where something was linked."""

    def __init__(
        self, image: RawImage, copies: Sequence[Extent], bits: int, head: tuple[int, int], end: int,
        pack: Callable[[NDArray[np.uint32]], bytes],
    ) -> None:  # fmt: skip
        """`copies` are the places of the FATs, `bits` the width of an entry, `head` the two entries that stand for no
        cluster, `end` marks the end of a chain, `pack` gives entries as they stand on disk."""
        self._image, self._copies, self._bits, self._end, self._pack = image, copies, bits, end, pack
        self._pieces: dict[int, NDArray[np.uint32]] = {}
        self._changed: set[int] = set()
        self._set(0, np.array(head, np.uint32))

    def _set(self, start: int, values: NDArray[np.uint32]) -> None:
        """Write consecutive entries from cluster `start` on."""
        done = 0
        while done < len(values):
            index, at = divmod(start + done, _PIECE)
            count = min(_PIECE - at, len(values) - done)
            piece = self._pieces.get(index)
            if piece is None:
                piece = self._pieces[index] = np.zeros(_PIECE, np.uint32)
            piece[at : at + count] = values[done : done + count]
            self._changed.add(index)
            done += count

    def link(self, runs: list[Run]) -> None:
        """Chain the clusters of `runs` in their order."""
        for n, (start, length) in enumerate(runs):
            values = np.arange(start + 1, start + length + 1, dtype=np.uint32)
            values[-1] = runs[n + 1][0] if n + 1 < len(runs) else self._end
            self._set(start, values)

    def unlink(self, runs: list[Run]) -> None:
        """Zero the entries of clusters."""
        for start, length in runs:
            self._set(start, np.zeros(length, np.uint32))

    def entries_of(self, runs: list[Run], copy: int) -> tuple[Extent, ...]:
        """Where the entries of these clusters stand in one copy of the FAT."""
        spans = ((start * self._bits // 8, -(-(start + length) * self._bits // 8)) for start, length in runs)
        return tuple(Extent(self._copies[copy].offset + lo, hi - lo) for lo, hi in spans)

    def flush(self) -> None:
        """Write what changed to every copy of the FAT."""
        for index in sorted(self._changed):
            data = self._pack(self._pieces[index])
            at = index * _PIECE * self._bits // 8
            for fat in self._copies:
                self._image.write(fat.offset + at, data[: fat.length - at])
        self._changed.clear()
