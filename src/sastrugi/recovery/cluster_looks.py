"""What clusters look like: text, packed data, or the inside of a file of some kind."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import cache

import numpy as np
from numpy.typing import NDArray

from sastrugi.kinds import all_kinds
from sastrugi.kinds.following import Follower

_AT_ONCE = 1 << 20
_UNEVEN = 2
"""Times as many pairs of equal bytes as there are among random ones."""
IN_TEXT = np.isin(np.arange(256), [9, 10, 12, 13, *range(32, 127), *range(128, 256)])
"""Which bytes stand in texts, UTF-8 included. Shape: (256,)."""


def text_clusters(rows: NDArray[np.uint8]) -> NDArray[np.bool_]:
    """Which clusters hold nothing but text, and zeros behind its end. Shapes: (clusters, bytes) and (clusters,)."""
    out = np.zeros(len(rows), bool)
    some = max(_AT_ONCE // max(rows.shape[1], 1), 1)
    for at in range(0, len(rows), some):
        part = rows[at : at + some]
        zeros = part == 0
        behind = np.argmax(~zeros[:, ::-1], axis=1)  # zeros at the end of each
        text = (IN_TEXT[part] | zeros).all(axis=1)
        out[at : at + some] = text & (zeros.sum(axis=1) == behind) & ~zeros.all(axis=1)
    return out


def packed_clusters(rows: NDArray[np.uint8]) -> NDArray[np.bool_]:
    """Which clusters can be packed data: no byte is much more frequent in them than others. Shapes: (clusters, bytes)
    and (clusters,)."""
    count, size = rows.shape
    numbered = (np.arange(count)[:, None] << 8 | rows).ravel()
    counts = np.bincount(numbered, minlength=count << 8).reshape(count, 256)
    out: NDArray[np.bool_] = (counts * counts).sum(axis=1) < _UNEVEN * (size + size * size // 256)
    return out


BARE, TEXT, PACKED = 1, 2, 4
_INSIDE = 8
"""Bits of a look; those of the kinds that know their inside follow, from `_INSIDE` on."""
_MOST_KNOWN = 1 << 18


class Looks:
    """What clusters look like, as bits. Each is looked at once, whoever asks. Once 262,144 are known all are forgotten,
    so that memory is bounded."""

    def __init__(self) -> None:
        self._known: dict[tuple[int, int], int] = {}

    def of(
        self, places: Sequence[int], cluster: int, read: Callable[[], NDArray[np.uint8]]
    ) -> tuple[NDArray[np.uint32], int]:
        """The looks of clusters by their first bytes, shape (clusters,), and how many were looked at for that. `read`
        answers what stands in them, shape (clusters, bytes)."""
        known = [self._known.get((place, cluster), -1) for place in places]
        new = [n for n, look in enumerate(known) if look < 0]
        if new:
            if len(self._known) > _MOST_KNOWN:
                self._known.clear()
            for n, look in zip(new, _looks_of(read()[new]).tolist(), strict=True):
                known[n] = self._known[places[n], cluster] = look
        return np.array(known, np.uint32), len(new)


def _looks_of(rows: NDArray[np.uint8]) -> NDArray[np.uint32]:
    tests = (lambda rows: (rows == rows[:, :1]).all(axis=1), text_clusters, packed_clusters, *_insides())
    out = np.zeros(len(rows), np.uint32)
    for n, test in enumerate(tests):
        out |= np.asarray(test(rows)).astype(np.uint32) << n
    return out


@cache
def _insides() -> dict[Callable[[NDArray[np.uint8]], NDArray[np.bool_]], frozenset[type[Follower] | None]]:
    """The tests for the inside of kinds, and how these kinds are followed."""
    kinds = [kind for kind in all_kinds().values() if kind.inside is not None]
    tests = dict.fromkeys(kind.inside for kind in kinds if kind.inside is not None)
    return {test: frozenset(kind.follow for kind in kinds if kind.inside is test) for test in tests}


@cache
def likely_for(begin: type[Follower]) -> Callable[[NDArray[np.uint32]], NDArray[np.bool_]]:
    """What tells by looks, shape (clusters,), which clusters are likely those of files that are followed so."""
    bits = [(_INSIDE << n, begin in followed) for n, followed in enumerate(_insides().values())]
    own = next((bit for bit, mine in bits if mine), 0)
    never = BARE | (0 if own else TEXT | sum(bit for bit, mine in bits if not mine))
    always = own or (PACKED if begin.packed else 0)

    def test(looks: NDArray[np.uint32]) -> NDArray[np.bool_]:
        out: NDArray[np.bool_] = (looks & never == 0) & (looks & always == always)
        return out

    return test
