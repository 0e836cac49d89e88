"""Files on a medium as byte sources, for measuring."""

from __future__ import annotations

from weakref import WeakKeyDictionary

from sastrugi.kinds import Source
from sastrugi.kinds.base import UnpackBudget
from sastrugi.media import FileMap, Medium

_AHEAD = 1 << 16


class MediumSource(Source):
    """The bytes of a file, to where nobody knows them; small reads are served from a window read ahead. `looked` counts
    the bytes that were read."""

    def __init__(self, medium: Medium, file: FileMap) -> None:
        self._medium = medium
        self._map = file
        self.size = file.reach
        self._window, self._window_at = b"", 0
        self.looked = 0
        self.unpacking = _budget_of(medium)

    def read(self, position: int, length: int) -> bytes:
        inside = position - self._window_at
        if inside >= 0 and 0 < length <= len(self._window) - inside:
            return self._window[inside : inside + length]
        if position < 0 or position >= self.size or length <= 0:
            return b""
        if length >= _AHEAD:
            return self._read(position, length)
        self._window, self._window_at = self._read(position, _AHEAD), position
        return self._window[:length]

    def _read(self, position: int, length: int) -> bytes:
        data = self._map.read(self._medium, position, min(length, self.size - position))
        self.looked += len(data)
        return data


_BUDGETS: WeakKeyDictionary[Medium, UnpackBudget] = WeakKeyDictionary()
_OF_A_MEDIUM = 4 << 30


def _budget_of(medium: Medium) -> UnpackBudget:
    found = _BUDGETS.get(medium)
    if found is None:
        found = _BUDGETS[medium] = UnpackBudget(_OF_A_MEDIUM)
    return found
