"""One result against one content, byte for byte at its own offsets, in pieces of bounded size."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from sastrugi.scoring import damage
from sastrugi.specimen.blocks import BLOCK

Bytes = NDArray[np.uint8]

_TELLING = BLOCK - BLOCK // 8
"""Bytes of a block that are right by more than chance, even among texts and tables that look alike."""

_RUN, _FEWEST = 64, 8
"""Bytes in a row that tell as much; and fewer bytes than these may be right by chance."""
_FIRST = 8
"""Blocks that are looked at before all others are."""


@dataclass(frozen=True, slots=True)
class Compared:
    """What a result holds of a content: `right` bytes in blocks that are right at least by half, `wrong` blocks that
    are not right as a whole, the first wrong byte, the map of blocks (see damage), whether blocks are right that nobody
    could have any more, and whether any block tells that the content is this one."""

    right: int
    wrong: int
    first_wrong: int | None
    damage: str
    beyond: bool
    telling: bool


def right_bytes(then: Bytes, now: Bytes) -> NDArray[np.int16]:
    """How many bytes of each 512-byte block of `then` are the same in `now`, which may be shorter. Shape: (blocks,)."""
    blocks = -(-len(then) // BLOCK)
    out = np.zeros(blocks, np.int16)
    same = min(len(then), len(now))
    whole = same // BLOCK
    if whole:
        a, b = then[: whole * BLOCK], now[: whole * BLOCK]
        differs = a.view("<u8") != b.view("<u8")
        out[:whole] = BLOCK
        wrong = np.flatnonzero(differs)
        if len(wrong):
            at = wrong // (BLOCK // 8)
            at = at[np.concatenate(([True], at[1:] != at[:-1]))]
            rows = a.reshape(-1, BLOCK)[at] == b.reshape(-1, BLOCK)[at]
            out[at] = rows.sum(axis=1)
    if same > whole * BLOCK:
        out[whole] = np.count_nonzero(then[whole * BLOCK : same] == now[whole * BLOCK : same])
    return out


class Comparison:
    """Takes a content and a result piece by piece, from the first byte on; `gone` are the blocks of the content that no
    longer stand anywhere on the medium, shape (blocks,), or None if all do."""

    def __init__(self, size: int, result_size: int, gone: NDArray[np.bool_] | None) -> None:
        self._size, self._result_size, self._gone = size, result_size, gone
        self._letters: list[NDArray[np.uint8]] = []
        self._right = self._wrong = 0
        self._first_wrong: int | None = None
        self.telling = self._varied = self._beyond = False

    def add(self, position: int, then: Bytes, now: Bytes) -> None:
        """The next piece: the content's bytes, and the result's at the same place (fewer where it ends)."""
        counts = right_bytes(then, now)
        sizes = np.full(len(counts), BLOCK, np.int16)
        if len(sizes):
            sizes[-1] -= len(counts) * BLOCK - len(then)
        right = counts == sizes
        first = position // BLOCK
        if self._first_wrong is None and not right.all():
            at = int(np.argmin(right)) * BLOCK
            block, came = then[at : at + BLOCK], now[at : at + BLOCK]
            wrong = np.flatnonzero(block[: len(came)] != came)
            self._first_wrong = position + at + (int(wrong[0]) if len(wrong) else len(came))
        came_to = np.clip(len(now) - np.arange(len(counts)) * BLOCK, 0, sizes)
        if not self.telling:
            self._look_for_telling(then, now, counts, came_to)
        self._wrong += int(np.count_nonzero(~right))
        if self._gone is not None:
            here = self._gone[first : first + len(counts)]
            self._beyond = self._beyond or any_varied(then, here & right)
            counts = np.where(here & ~right, 0, counts)
        self._right += int(counts[counts.astype(np.int32) * 2 >= np.maximum(came_to, 1)].sum(dtype=np.int64))
        absent = position + np.arange(len(counts)) * BLOCK >= self._result_size
        self._letters.append(np.where(right, damage.RIGHT, np.where(absent, damage.ABSENT, damage.WRONG)))

    def _look_for_telling(
        self, then: Bytes, now: Bytes, counts: NDArray[np.int16], came_to: NDArray[np.integer]
    ) -> None:
        near = (counts.astype(np.int32) * BLOCK >= came_to.astype(np.int32) * _TELLING) & (came_to >= _FEWEST)
        self.telling = any_varied(then, near) or _any_run(then, now)
        self._varied = self._varied or self.telling or any_varied(then, np.ones(len(counts), bool))

    def result(self, most: int) -> Compared:
        """All of it; no more than `most` bytes are right where nothing is that should be gone."""
        right = self._right if self._beyond else min(self._right, most)
        letters = damage.encode(np.concatenate(self._letters)) if self._letters else ""
        # A content that is constant through and through can be told by nothing but its bytes.
        telling = self.telling or (not self._varied and right > 0)
        return Compared(right, self._wrong, self._first_wrong, letters, self._beyond, telling)


def _any_run(then: Bytes, now: Bytes) -> bool:
    """Whether so many bytes in a row are right, and not all the same, as chance does not make."""
    whole = min(len(then), len(now)) // _RUN * _RUN
    rows, came = then[:whole].reshape(-1, _RUN), now[:whole].reshape(-1, _RUN)
    same = rows[(rows == came).all(axis=1)]
    return bool((same != same[:, :1]).any())


def any_varied(data: Bytes, blocks: NDArray[np.bool_]) -> bool:
    """Whether any of these blocks has bytes that are not all the same."""
    wanted = np.flatnonzero(blocks)
    whole = len(data) // BLOCK
    if len(wanted) and wanted[-1] == whole:
        tail = data[whole * BLOCK :]
        if (tail != tail[0]).any():
            return True
        wanted = wanted[:-1]
    rows = data[: whole * BLOCK].reshape(-1, BLOCK)
    # Nearly always the first ones tell.
    return any(len(some) and (rows[some] != rows[some, :1]).any() for some in (wanted[:_FIRST], wanted[_FIRST:]))
