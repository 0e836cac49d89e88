"""How the files of a medium are proved, or seen, to lie, by where they begin: an allocator does alike what it does at
one time, so what nothing proves is told by those beside it."""

from __future__ import annotations

from bisect import bisect_left, insort
from collections import Counter
from collections.abc import Iterable
from dataclasses import dataclass, field
from enum import StrEnum
from typing import NamedTuple


class Manner(StrEnum):
    """How files of an allocator lie, or took turns. The value is how scan files call it."""

    EVEN = "even"
    """In so many turns, as even as can be."""
    ONE_LENGTH = "one-length"
    NESTED = "nested"
    """One whole inside of another."""
    CLUSTERS = "clusters"
    """As what stands in the clusters shows."""
    ONE_PIECE = "one-piece"
    EVEN_GAPS = "even-gaps"
    """In so many even pieces with gaps of so many clusters."""
    OTHER = "other"
    AS_NEARBY = "as-nearby"


class Sort(NamedTuple):
    """One manner, with how many turns or pieces, and the clusters of a gap, where it has such."""

    manner: Manner
    pieces: int = 0
    gap: int = 0


_OFFERS, _FAR_FROM_CHANCE = 8, 12.0
"""Groups on either side whose beginnings tell of a way, and bits that they must be worth together."""
_NEIGHBOURS, _MOSTLY = 6, 0.8
"""Proved groups whose ways tell of the one among them, and the share of them that must be alike."""


@dataclass(slots=True)
class Habit:
    """In which ways files are proved to have taken turns, by where they begin: those beside them did alike."""

    _places: list[int] = field(default_factory=list)
    _sorts: dict[int, frozenset[Sort]] = field(default_factory=dict)
    _offered_at: list[int] = field(default_factory=list)
    _offers: dict[int, tuple[frozenset[Sort], float]] = field(default_factory=dict)

    def learn(self, place: int, sorts: Iterable[Sort]) -> None:
        """Files that begin there are proved to have taken turns so."""
        if place not in self._sorts:
            insort(self._places, place)
        self._sorts[place] = frozenset(sorts)

    def near(self, place: int) -> set[Sort]:
        """The sorts of ways that nearly all of the nearest took that could be taken by them."""
        n = bisect_left(self._places, place)
        beside = self._places[max(n - _NEIGHBOURS, 0) : n + _NEIGHBOURS]
        nearest = sorted(beside, key=lambda at: abs(at - place))[:_NEIGHBOURS]
        counts = Counter(sort for at in nearest for sort in self._sorts[at])
        usual = {sort for sort, count in counts.items() if count >= max(2, _MOSTLY * len(nearest))}
        return usual or self._offered_near(place)

    def offer(self, place: int, sorts: Iterable[Sort], bits: float) -> None:
        """Files that begin there begin where these ways would have them, which is worth so many bits: each begins at
        one place of as many as it could."""
        if place not in self._offers:
            insort(self._offered_at, place)
        self._offers[place] = frozenset(sorts), bits

    def _offered_near(self, place: int) -> set[Sort]:
        """Ways by which nearly all of those nearby begin as they do, more often than chance would have it."""
        n = bisect_left(self._offered_at, place)
        nearest = self._offered_at[max(n - _OFFERS, 0) : n + _OFFERS]
        counts, bits = Counter[Sort](), Counter[Sort]()
        for at in nearest:
            sorts, worth = self._offers[at]
            counts.update(sorts)
            bits.update(dict.fromkeys(sorts, worth))
        return {sort for sort in counts if counts[sort] >= _MOSTLY * len(nearest) and bits[sort] >= _FAR_FROM_CHANCE}
