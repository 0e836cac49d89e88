"""Which part of a folder goes on in which, where no chain of clusters tells it any more.

An entry set that reaches from one part into another tells it (`linked`). Else a folder takes a new cluster when it is
full: so a part belongs to the folder that was filled last before its own first file was created; or, where times do not
tell, to the one whose last file ends nearest before it, as drivers allocate.
"""

from __future__ import annotations

import datetime as dt
from bisect import bisect_left, bisect_right, insort
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

_MOST_ASKED = 8
"""Folders that are asked, for each part, whether it can be one of theirs."""


@dataclass(frozen=True, slots=True)
class FolderPart:
    """A part of a folder: where it begins and where its last file ends (in one unit), when its first and its last file
    were created, and whether the folder ends in it. `head`: it is the first of its folder. `names` are in no other part
    of the same folder."""

    place: int
    behind: int
    begun: dt.datetime | None
    filled: dt.datetime | None
    ended: bool
    head: bool
    names: frozenset[bytes] = frozenset()


class _Open:
    """Parts that are full and of which nothing tells yet where they go on."""

    def __init__(self, parts: Sequence[FolderPart]) -> None:
        self._parts = parts
        self._by_time: list[tuple[dt.datetime, int]] = []
        self._by_place: list[tuple[int, int]] = []

    def add(self, number: int) -> None:
        part = self._parts[number]
        if part.filled is not None:
            insort(self._by_time, (part.filled, number))
        insort(self._by_place, (part.behind, number))

    def remove(self, number: int) -> None:
        part = self._parts[number]
        if part.filled is not None:
            del self._by_time[bisect_left(self._by_time, (part.filled, number))]
        del self._by_place[bisect_left(self._by_place, (part.behind, number))]

    def before(self, part: FolderPart) -> list[int]:
        """Those that may go on with a part, the likeliest first."""
        ranked: list[tuple[dt.timedelta, float, int]] = []
        if part.begun is not None:
            n = bisect_right(self._by_time, part.begun, key=lambda one: one[0])
            for at, number in self._by_time[max(n - _MOST_ASKED, 0) : n]:
                ranked.append((part.begun - at, self._far(number, part), number))
        n = bisect_right(self._by_place, part.place, key=lambda one: one[0])
        near = [number for _, number in reversed(self._by_place[max(n - _MOST_ASKED, 0) : n])]
        able = [number for *_, number in sorted(ranked)] + [one for one in near if not self._later(one, part)]
        return list(dict.fromkeys(able))

    def _far(self, number: int, part: FolderPart) -> float:
        behind = self._parts[number].behind
        return part.place - behind if behind <= part.place else float("inf")

    def _later(self, number: int, part: FolderPart) -> bool:
        filled = self._parts[number].filled
        return filled is not None and part.begun is not None and filled > part.begun


def join_parts(
    parts: Sequence[FolderPart], linked: Mapping[int, int], goes_on: Callable[[int, int], bool | None]
) -> dict[int, int]:  # fmt: skip
    """The part before each, by numbers, where there is one. `linked` says which is surely before which;
    `goes_on(before, behind)` whether one can be (see fat.directory.goes_on)."""
    out: dict[int, int] = {}
    still_open = _Open(parts)
    names: dict[int, set[bytes]] = {}
    """All names of a folder, by the number of each of its parts."""

    def follow(number: int, before: int | None = None) -> None:
        """From a part on along what is linked; the last one waits for more."""
        names[number] = set() if before is None else names[before]
        names[number] |= parts[number].names
        while number in linked and linked[number] not in out and not parts[linked[number]].head:
            out[linked[number]] = number
            names[linked[number]] = names[number]
            number = linked[number]
            names[number] |= parts[number].names
        if not parts[number].ended:
            still_open.add(number)

    for number, part in enumerate(parts):
        if part.head:
            follow(number)
    told = {*linked.values()}
    loose = [number for number, part in enumerate(parts) if not part.head and number not in told]
    for number in sorted(loose, key=lambda one: (parts[one].begun or dt.datetime.min, parts[one].place)):
        part = parts[number]
        able = [one for one in still_open.before(part) if names[one].isdisjoint(part.names)]
        if able:
            out[number] = next((one for one in able[:_MOST_ASKED] if goes_on(one, number) is not False), able[0])
            still_open.remove(out[number])
        follow(number, out.get(number))
    return out
