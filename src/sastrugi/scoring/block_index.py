"""Witnesses: blocks that few contents among the references hold, by which it is known where results come from."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from threading import Lock
from typing import Any

import numpy as np
from numpy.typing import NDArray

from sastrugi.progress import Progress
from sastrugi.scoring.contents import Contents
from sastrugi.specimen.blocks import BLOCK, Hashes, block_hashes
from sastrugi.threads import in_threads

_BATCH = 8 << 20
_WORD = 8
_3, _7 = np.uint64(3), np.uint64(7)
_SIFTED = 1 << 16
"""Values that are made ready for a sieve at once."""
_ODD = (np.uint64(0x9E3779B97F4A7C15), np.uint64(0xC2B2AE3D27D4EB4F))
_MOST_BLOCKS, _FIRST_BLOCKS = 8 << 20, 64
"""Blocks that are kept in memory (of 4 GiB of references); of more, those of the first 64 of each file and of a share
of the others that is chosen by their hash, so that like blocks are kept or left alike."""
_MOST_NARROW = (1 << 32) // _MOST_BLOCKS
"""Up to here a block's number fits into 32 bits."""
_MOST_SHARED = 8
"""Contents that may hold a witness; a block of more of them tells nothing."""
_MOST_ANCHORS, _FEW_ANCHORS = 512, 3
"""Places where a block may begin that are looked at in one result; and so many that agree are believed."""
HEAD_BLOCKS = 8
NO_SHIFT = 1 << 62
"""The shift of a block that one content holds more than once."""

Found = Counter[tuple[int, int]]
"""The weight of the witnesses that stand in some bytes (one of k contents that hold a block counts 1/k): by content and
shift, which is by how many bytes the result has them later than the content."""
Blocks = tuple[Hashes, NDArray[Any], NDArray[np.uint64]]
"""Hash, number and first word of blocks that are not constant."""
Batch = list[tuple[int, int, int]]
"""(content, position, length) of bytes of contents that are looked at together."""


class _Index:
    """Where each value stands that few owners have; those of more are not found.

    The high bits of a value and its place are one word, so that a plain sort, many times as fast as one that keeps
    places, does for both.
    """

    def __init__(self, values: NDArray[np.uint64], owners: NDArray[np.int64] | None = None, most: int = 1) -> None:
        """`owners` are those of the values, in ascending order (each its own if None); a value of more than `most` of
        them is left out. Of one that an owner has more than once, the first is kept."""
        low = np.uint64((1 << len(values).bit_length()) - 1)
        packed = values & ~low
        packed |= np.arange(len(values), dtype=np.uint64)
        packed.sort()
        like = packed[1:] ^ packed[:-1] <= low
        self.often: NDArray[np.bool_] = np.zeros(len(packed), bool)
        if owners is not None and like.any():
            own = owners[(packed & low).astype(np.int64)]
            again = np.append(False, like & (own[1:] == own[:-1]))
            self.often[:-1] = again[1:]
            packed, often = packed[~again], self.often[~again]
            # The first of several that one owner has stands before them.
            self.often = often
            like = packed[1:] ^ packed[:-1] <= low
        begins = np.flatnonzero(np.append(True, ~like)) if len(packed) else np.zeros(0, np.int64)
        lengths = np.diff(np.append(begins, len(packed)))
        kept = np.repeat(lengths <= most, lengths)
        self._packed, self.often = packed[kept], self.often[kept]
        self._values, self._low, self._most = values, low, most
        bits = min(max((8 * len(self._packed)).bit_length(), 10), 26)
        self._spread = np.uint64(64 - bits)
        sieve = np.zeros(1 << bits, bool)
        places = (self._packed & low).astype(np.int64)
        for part in np.array_split(places, -(-len(places) // _SIFTED) or 1):
            chosen = values[part]
            for odd in _ODD:
                sieve[(chosen * odd) >> self._spread] = True
        self._sieve = np.packbits(sieve, bitorder="little")  # as bits it stays near the processor

    def _sifted(self, wanted: NDArray[np.uint64]) -> NDArray[np.int64]:
        """Which of the wanted values do not fall through a sieve of few bits, as nearly all do that are not there."""
        left: NDArray[np.int64] = np.arange(len(wanted))
        for odd in _ODD:
            bit = (wanted[left] * odd) >> self._spread
            left = left[(self._sieve[bit >> _3] >> (bit & _7).astype(np.uint8)) & 1 != 0]
        return left

    def find(self, wanted: NDArray[np.uint64]) -> tuple[NDArray[np.int64], NDArray[np.int64], NDArray[np.bool_]]:
        """Which of the wanted values are there, where in the array each of those stands, and whether its owner has it
        more than once. One wanted value may stand in several places."""
        maybe = self._sifted(wanted) if len(self._packed) else np.zeros(0, np.int64)
        maybe = maybe[np.argsort(wanted[maybe])]  # in order, so that neighbours are looked for in the same memory
        at = np.searchsorted(self._packed, wanted[maybe] & ~self._low)
        hits: list[NDArray[np.int64]] = []
        places: list[NDArray[np.int64]] = []
        often: list[NDArray[np.bool_]] = []
        for _ in range(self._most):
            inside = at < len(self._packed)
            maybe, at = maybe[inside], at[inside]
            word = self._packed[at]
            like = word ^ wanted[maybe] <= self._low
            maybe, at = maybe[like], at[like]
            if not len(maybe):
                break
            place = (word[like] & self._low).astype(np.int64)
            right = self._values[place] == wanted[maybe]
            hits.append(maybe[right])
            places.append(place[right])
            often.append(self.often[at[right]])
            at = at + 1
        if not hits:
            return np.zeros(0, np.int64), np.zeros(0, np.int64), np.zeros(0, bool)
        return np.concatenate(hits), np.concatenate(places), np.concatenate(often)


class Witnesses:
    """Witnesses of contents, by hash. `where` counts blocks through all contents, of which `contents` has the names and
    `starts` the count at which each begins; `anchors` are the first eight bytes of each block, by which it is looked
    for where it does not begin at a whole block."""

    def __init__(
        self,
        hashes: Hashes,
        where: NDArray[Any],
        anchors: NDArray[np.uint64],
        contents: NDArray[np.int64],
        starts: NDArray[np.int64],
    ) -> None:
        self._where, self._anchors, self._contents, self._starts = where, anchors, contents, starts
        self._index = _Index(hashes, self._owner(where), _MOST_SHARED)
        self._by_anchor: _Index | None = None
        self._lock = Lock()

    @classmethod
    def of(cls, contents: Contents, progress: Progress) -> Witnesses:
        chosen = [n for n in contents if contents.files[n].size >= BLOCK]
        counts = np.array([contents.files[n].size // BLOCK for n in chosen], np.int64)
        starts = np.cumsum(counts) - counts
        every = -(-int(counts.sum()) // _MOST_BLOCKS) or 1
        wanted = [(n, contents.files[n].size // BLOCK) for n in chosen]
        hashes, where, anchors = _blocks(contents, wanted, starts, every, progress)
        return cls(hashes, where, anchors, np.array(chosen, np.int64), starts)

    def _owner(self, where: NDArray[Any]) -> NDArray[np.int64]:
        return np.searchsorted(self._starts, where, "right") - 1

    def standing_in(self, data: bytes, position: int) -> Found:
        """Those in `data`, which is at `position` of a result; looked for at whole blocks."""
        hit, blocks, often = self._index.find(block_hashes(data))
        return self._weighed(hit, blocks, position + hit * BLOCK, often)

    def anywhere_in(self, data: bytes) -> Found:
        """Those in the first bytes of a result, `data`; looked for at every byte. Blocks that are not right as a
        whole count where several begin as they should."""
        if len(data) < BLOCK:
            return Counter()
        with self._lock:
            if self._by_anchor is None:
                self._by_anchor = _Index(self._anchors)
        words = np.ndarray(len(data) - _WORD + 1, "<u8", data, strides=(1,))
        hit, maybe, _ = self._by_anchor.find(words)
        order = np.argsort(hit)[:_MOST_ANCHORS]
        hit, maybe = hit[order], maybe[order]
        begun = self._weighed(np.arange(len(hit)), maybe, hit, np.zeros(len(hit), bool))
        found = Counter({key: weight for key, weight in begun.items() if weight >= _FEW_ANCHORS})
        blocks: list[int] = []
        places: list[int] = []
        for place, block in zip(hit.tolist(), maybe.tolist(), strict=True):
            hashes = block_hashes(data[place : place + BLOCK])
            if len(hashes) and block in self._index.find(hashes)[1]:
                blocks.append(block)
                places.append(place)
        whole = np.arange(len(blocks))
        return found + self._weighed(whole, np.array(blocks, np.int64), np.array(places, np.int64), whole < 0)

    def _weighed(
        self, hit: NDArray[np.int64], blocks: NDArray[np.int64], places: NDArray[np.int64], often: NDArray[np.bool_]
    ) -> Found:
        """`hit` says which block of the result each of `blocks` is, `places` where in it that stands, in bytes."""
        if not len(hit):
            return Counter()
        where = self._where[blocks].astype(np.int64)
        owner = self._owner(where)
        shifts = np.where(often, NO_SHIFT, places - (where - self._starts[owner]) * BLOCK)
        shared = np.bincount(hit)[hit]
        order = np.lexsort((shifts, owner))
        owner, shifts, weights = owner[order], shifts[order], 1.0 / shared[order]
        begins = np.flatnonzero(np.append(True, (owner[1:] != owner[:-1]) | (shifts[1:] != shifts[:-1])))
        sums = np.add.reduceat(weights, begins)
        keys = zip(self._contents[owner[begins]].tolist(), shifts[begins].tolist(), strict=True)
        return Counter(dict(zip(keys, sums.tolist(), strict=True)))


class Heads:
    """The first blocks of every content: what a result that is right but for a few blocks can be told by, without
    reading all the contents that there are."""

    SEVERAL, NOBODY, CONSTANT = -1, -2, -3

    def __init__(self, hashes: Hashes, owners: NDArray[np.int64]) -> None:
        order = np.argsort(hashes, kind="stable")
        hashes, owners = hashes[order], owners[order]
        begins = np.flatnonzero(np.append(True, hashes[1:] != hashes[:-1])) if len(hashes) else np.zeros(0, np.int64)
        self._hashes = hashes[begins]
        self._owner = owners[begins]
        last = owners[np.append(begins[1:], len(hashes)) - 1] if len(hashes) else owners
        self._owner[last != self._owner] = self.SEVERAL  # as they are in ascending order, several have it

    @classmethod
    def of(cls, contents: Contents, progress: Progress) -> Heads:
        chosen = [n for n in contents if contents.files[n].size >= BLOCK]
        counts = np.array([min(contents.files[n].size // BLOCK, HEAD_BLOCKS) for n in chosen], np.int64)
        starts = np.cumsum(counts) - counts
        hashes, where, _ = _blocks(contents, list(zip(chosen, counts.tolist(), strict=True)), starts, 1, progress)
        return cls(hashes, np.array(chosen, np.int64)[np.searchsorted(starts, where, "right") - 1])

    def owners(self, hashes: Hashes) -> NDArray[np.int64]:
        """The content that each block is a first one of; NOBODY, SEVERAL, or CONSTANT for one that tells nothing."""
        if not len(self._hashes):
            return np.where(hashes == 0, self.CONSTANT, self.NOBODY)
        at = np.minimum(np.searchsorted(self._hashes, hashes), len(self._hashes) - 1)
        known = np.where(self._hashes[at] == hashes, self._owner[at], self.NOBODY)
        return np.where(hashes == 0, self.CONSTANT, known)


def _blocks(
    contents: Contents, wanted: Sequence[tuple[int, int]], starts: NDArray[np.int64], every: int, progress: Progress
) -> Blocks:
    """The first blocks of contents, of each so many as `wanted` says; `starts` are the numbers of their first ones."""
    at = {n: int(start) for (n, _), start in zip(wanted, starts, strict=True)}
    columns: list[list[NDArray[Any]]] = [[], [], []]

    def look(batch: Batch) -> Blocks:
        return _blocks_of(contents, batch, [at[n] for n, _, _ in batch], every)

    total = sum(count for _, count in wanted) * BLOCK
    progress.start("references", total)
    done = 0
    for batch, one in in_threads(look, _batches(wanted)):
        parts: tuple[NDArray[Any], ...] = one
        for column, part in zip(columns, parts, strict=True):
            column.append(part)
        done += sum(length for _, _, length in batch)
        progress.at(done)
        progress.check()
    progress.finish()
    hashes, where, anchors = (_joined(column) for column in columns)
    return hashes, where, anchors


def _joined(parts: list[NDArray[Any]]) -> NDArray[Any]:
    """The parts as one array; they themselves are given up, so that memory holds them once."""
    out = np.concatenate(parts) if parts else np.zeros(0, np.uint64)
    parts.clear()
    return out


def _batches(wanted: Sequence[tuple[int, int]]) -> Iterator[Batch]:
    """The wanted (content, blocks), in batches of as many bytes as a buffer holds."""
    batch: Batch = []
    room = _BATCH
    for n, count in wanted:
        position, whole = 0, count * BLOCK
        while position < whole:
            length = min(whole - position, room)
            batch.append((n, position, length))
            position, room = position + length, room - length
            if not room:
                yield batch
                batch, room = [], _BATCH
    if batch:
        yield batch


def _blocks_of(contents: Contents, batch: Batch, before: list[int], every: int) -> Blocks:
    """The blocks of a batch. `before` are the numbers of the first block of the content of each of its pieces."""
    buffer = np.empty(sum(length for _, _, length in batch), np.uint8)
    at = 0
    for n, position, length in batch:
        contents.original_into(n, position, buffer[at : at + length])
        at += length
    counts = np.array([length // BLOCK for _, _, length in batch])
    inside = np.array([position // BLOCK for _, position, _ in batch])
    nth = np.arange(len(buffer) // BLOCK) - np.repeat(np.cumsum(counts) - counts - inside, counts)  # of its content
    hashes = block_hashes(buffer)
    kept = hashes != 0
    if every > 1:
        kept &= (hashes % np.uint64(every) == 0) | (nth < _FIRST_BLOCKS)
    anchors = buffer.view("<u8")[:: BLOCK // _WORD]
    numbers = nth + np.repeat(np.array(before), counts)
    numbers = numbers.astype(np.uint32) if every < _MOST_NARROW else numbers
    return hashes[kept], numbers[kept], anchors[kept]
