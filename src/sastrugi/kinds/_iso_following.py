"""Films in boxes followed picture by picture, as their index tells. Source: as `_iso_boxes` and `_film_samples`."""

from __future__ import annotations

import numpy as np

from sastrugi.kinds._film_samples import Pictures, pictures_told
from sastrugi.kinds._iso_boxes import BOX, TOP, boxes_in
from sastrugi.kinds.base import BytesSource, Source
from sastrugi.kinds.following import UnitFollower

_HEAD, _MOST_INDEX = 16, 4 << 20
"""Bytes of a picture, or of a part of it, that a test looks at; and of an index that is kept."""
_BITS = 20.0


class _Window(Source):
    """Bytes of a file from one on."""

    def __init__(self, data: bytes, at: int) -> None:
        self._data, self._at = data, at
        self.size = at + len(data)

    def read(self, position: int, length: int) -> bytes:
        return self._data[max(position - self._at, 0) : max(position - self._at, 0) + max(length, 0)]


class Boxes(UnitFollower):
    """Boxes one after the other; where the index is known, each picture of the media begins as its coding has it. An
    index that stands behind the media is asked for `ahead`."""

    cost = 2.0
    _media_end = 0
    _pictures: Pictures | None = None
    _next = 0

    def may_be_ahead(self, data: bytes) -> bool:
        return data[4:8] == b"moov"

    def learn(self, data: bytes) -> bool:
        size = int.from_bytes(data[:4], "big")
        if not 8 < size <= len(data):
            return False
        data = data[:size]
        self._pictures = pictures_told(BytesSource(data), boxes_in, 8, len(data))
        return self._pictures is not None

    def could_go_on(self, data: bytes) -> bool:
        if self._pictures is None or self._kept or self.fed >= self._media_end:
            return super().could_go_on(data)
        test, starts, sizes = self._pictures
        number = max(self._next, int(np.searchsorted(starts, self.fed)))
        if number >= len(starts):
            return True
        start = int(starts[number])
        inside = start - self.fed
        if inside + _HEAD > len(data):
            return True
        wrong = test(_Window(data[inside:], start), start, int(sizes[number]))
        return wrong is None or wrong + _HEAD > self.fed + len(data)

    def _unit(self, kept: bytes, at: int) -> int:
        if at < self._media_end:
            return self._media(kept, at)
        if len(kept) < 16:
            return 0
        size: int
        name: bytes
        size, name = BOX.unpack_from(kept)
        head = 8
        if size == 1:
            size, head = int.from_bytes(kept[8:16], "big"), 16
        if name not in TOP or size < head:
            self.wrong = at + 8
            return 0
        if name == b"moov" and self._pictures is None:
            if len(kept) < min(size, _MOST_INDEX):
                return 0
            self.learn(kept[:size])  # a longer one is not known whole
        self._passed(at + head, 24.0)
        if name == b"mdat":
            self._media_end = at + size
            self.ahead = None if self._pictures is not None else at + size
            return head
        return size

    def _media(self, kept: bytes, at: int) -> int:
        """Up to the next picture, or over one that is right."""
        if self._pictures is None:
            return self._media_end - at
        test, starts, sizes = self._pictures
        self._next = max(self._next, int(np.searchsorted(starts, at)))
        if self._next >= len(starts):
            return self._media_end - at
        start, size = int(starts[self._next]), int(sizes[self._next])
        if start > at:
            return min(start, self._media_end) - at
        if len(kept) < _HEAD:
            return 0
        wrong = test(_Window(kept, at), start, size)
        if wrong is None:
            self._next += 1
            self._passed(at + _HEAD, _BITS)
            return size
        if wrong + _HEAD <= at + len(kept):
            self.wrong = wrong + _HEAD
        return 0
