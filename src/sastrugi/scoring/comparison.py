"""One result against one content, byte for byte at its own offsets, in pieces of bounded size."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from sastrugi.media.extents import Extent, RangeSet
from sastrugi.scoring import damage
from sastrugi.specimen.blocks import BLOCK, runs_where

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


@dataclass(frozen=True, slots=True)
class Gone:
    """What of a content stands nowhere any more: `blocks` marks the 512-byte blocks of which anything is gone, shape
    (blocks,); `parts` are the ranges of the file that stand in such blocks, by number of the block."""

    blocks: NDArray[np.bool_]
    parts: dict[int, list[tuple[int, int]]]

    @classmethod
    def of(cls, size: int, standing: RangeSet) -> Gone:
        """Of a content of so many bytes, from the ranges of it that stand."""
        blocks = np.zeros(-(-size // BLOCK), bool)
        cut: set[int] = set()
        for gap in standing.gaps(Extent(0, size)):
            blocks[gap.offset // BLOCK : -(-gap.end // BLOCK)] = True
            cut.update((gap.offset // BLOCK, (gap.end - 1) // BLOCK))
        parts: dict[int, list[tuple[int, int]]] = {}
        for n in sorted(cut):
            block = Extent(n * BLOCK, min(BLOCK, size - n * BLOCK))
            if found := standing.overlap(block):
                parts[n] = [(part.offset, part.end) for part in found]
        return cls(blocks, parts)

    def standing(self, position: int, length: int) -> Iterator[tuple[int, int]]:
        """[first byte, behind the last) of each range that stands, of `length` bytes from a whole block on."""
        first = position // BLOCK
        for lo, hi in runs_where(~self.blocks[first : -(-(position + length) // BLOCK)]):
            yield position + lo * BLOCK, min(position + hi * BLOCK, position + length)
        for n, parts in self.parts.items():
            if position <= n * BLOCK < position + length:
                yield from parts


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
    """Takes a content and a result piece by piece, from the first byte on; `gone` is what of the content no longer
    stands anywhere on the medium, or None if all does. `named`: the result bears the name of a file with this content,
    so that less tells that it is this one."""

    def __init__(self, size: int, result_size: int, gone: Gone | None, named: bool = False) -> None:
        self._size, self._result_size, self._gone, self._named = size, result_size, gone, named
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
            here = self._gone.blocks[first : first + len(counts)]
            self._beyond = self._beyond or any_varied(then, here & right)
            counts = np.where(here & ~right, 0, counts)
            self._right += self._in_parts(position, then, now, right)
        self._right += int(counts[counts.astype(np.int32) * 2 >= np.maximum(came_to, 1)].sum(dtype=np.int64))
        absent = position + np.arange(len(counts)) * BLOCK >= self._result_size
        self._letters.append(np.where(right, damage.RIGHT, np.where(absent, damage.ABSENT, damage.WRONG)))

    def _in_parts(self, position: int, then: Bytes, now: Bytes, right: NDArray[np.bool_]) -> int:
        """Right bytes of what stands in blocks that are gone in part, where at least half of that is right."""
        assert self._gone is not None
        first, found = position // BLOCK, 0
        for n, parts in self._gone.parts.items():
            if not first <= n < first + len(right) or right[n - first] or not self._gone.blocks[n]:
                continue
            pairs = [(then[lo - position : hi - position], now[lo - position : hi - position]) for lo, hi in parts]
            same = np.concatenate([old[: len(new)][old[: len(new)] == new] for old, new in pairs])
            if len(same) * 2 >= sum(len(old) for old, _ in pairs):
                found += len(same)
                if self._named and len(same) >= _FEWEST and (same != same[0]).any():
                    self.telling = True
        return found

    def _look_for_telling(
        self, then: Bytes, now: Bytes, counts: NDArray[np.int16], came_to: NDArray[np.integer]
    ) -> None:
        enough = BLOCK // 2 if self._named else _TELLING
        near = (counts.astype(np.int32) * BLOCK >= came_to.astype(np.int32) * enough) & (came_to >= _FEWEST)
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
