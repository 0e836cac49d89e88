"""Byte sources over a medium, for measuring: from an offset on, or over the extents of a placement."""

from __future__ import annotations

from sastrugi.kinds import Source
from sastrugi.media import Extent, Medium
from sastrugi.media.extents import total, within

_AHEAD = 1 << 16


class MediumSource(Source):
    """The bytes of `extents` in a row; small reads are served from a window read ahead."""

    def __init__(self, medium: Medium, extents: tuple[Extent, ...]) -> None:
        self._medium = medium
        self._extents = extents
        self.size = total(extents)
        self._window, self._window_at = b"", 0

    def read(self, position: int, length: int) -> bytes:
        if position < 0 or position >= self.size or length <= 0:
            return b""
        inside = position - self._window_at
        if inside >= 0 and inside + length <= len(self._window):
            return self._window[inside : inside + length]
        if length >= _AHEAD:
            return self._read(position, length)
        self._window, self._window_at = self._read(position, _AHEAD), position
        return self._window[:length]

    def _read(self, position: int, length: int) -> bytes:
        return self._medium.read_extents(within(self._extents, position, length))
