"""Witnesses: blocks that only one content among the references holds, by which it is known where results come from."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from pathlib import Path
from threading import Lock
from typing import Any

import numpy as np
from numpy.typing import NDArray

from sastrugi.errors import SpecimenError
from sastrugi.progress import Progress
from sastrugi.specimen.blocks import BLOCK, Hashes, block_hashes
from sastrugi.specimen.digests import blake3_file
from sastrugi.specimen.truth import Specimen, TruthFile
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
_MOST_ANCHORS = 512
"""Places where a block may begin that are looked at in one result."""

Found = Counter[tuple[int, int]]
"""How many witnesses stand in some bytes: by reference and shift, which is by how many bytes the result has them later
than the reference."""
Blocks = tuple[Hashes, NDArray[Any], NDArray[np.uint64]]
"""Hash, number and first word of blocks that are not constant."""
Batch = list[tuple[int, int, int]]
"""(reference, position, length) of bytes of references that are looked at together."""


class _Index:
    """Where each value stands that is in an array once; those that are in it more often are not found.

    The high bits of a value and its place are one word, so that a plain sort, many times as fast as one that keeps
    places, does for both. Of two values with like high bits neither is found: one in a million is lost by that.
    """

    def __init__(self, values: NDArray[np.uint64], packed: NDArray[np.uint64], low: np.uint64) -> None:
        self._values, self._packed, self._low = values, packed, low
        bits = min(max((8 * len(values)).bit_length(), 10), 26)
        self._spread = np.uint64(64 - bits)
        sieve = np.zeros(1 << bits, bool)
        for odd in _ODD:
            for part in np.array_split(values, -(-len(values) // _SIFTED) or 1):
                sieve[(part * odd) >> self._spread] = True
        self._sieve = np.packbits(sieve, bitorder="little")  # as bits it stays near the processor

    def _sifted(self, wanted: NDArray[np.uint64]) -> NDArray[np.int64]:
        """Which of the wanted values do not fall through a sieve of few bits, as nearly all do that are not there."""
        left: NDArray[np.int64] = np.arange(len(wanted))
        for odd in _ODD:
            bit = (wanted[left] * odd) >> self._spread
            left = left[(self._sieve[bit >> _3] >> (bit & _7).astype(np.uint8)) & 1 != 0]
        return left

    @classmethod
    def of(cls, values: NDArray[np.uint64]) -> _Index:
        low = np.uint64((1 << len(values).bit_length()) - 1)
        packed = values & ~low
        packed |= np.arange(len(values), dtype=np.uint64)
        packed.sort()
        same = packed[1:] ^ packed[:-1] <= low
        single = np.ones(len(packed), bool)
        single[1:] &= ~same
        single[:-1] &= ~same
        return cls(values, packed[single], low)

    def find(self, wanted: NDArray[np.uint64]) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
        """Which of the wanted values are there, and where in the array each of those stands."""
        maybe = self._sifted(wanted) if len(self._packed) else np.zeros(0, np.int64)
        at = np.minimum(np.searchsorted(self._packed, wanted[maybe] & ~self._low), len(self._packed) - 1)
        places = (self._packed[at] & self._low).astype(np.int64)
        right = self._values[places] == wanted[maybe]
        return maybe[right], places[right]


class Witnesses:
    """Witnesses of references, by hash. `where` counts blocks through all references, of which `files` names the
    indices and `starts` the count at which each begins; `anchors` are the first eight bytes of each block, by which it
    is looked for where it does not begin at a whole block."""

    def __init__(
        self,
        single: _Index,
        where: NDArray[Any],
        anchors: NDArray[np.uint64],
        files: NDArray[np.int64],
        starts: NDArray[np.int64],
    ) -> None:
        self._single, self._where, self._anchors, self._files, self._starts = single, where, anchors, files, starts
        self._by_anchor: _Index | None = None
        self._lock = Lock()

    @classmethod
    def of(cls, specimen: Specimen, files: list[TruthFile], progress: Progress) -> Witnesses:
        """Witnesses of `files`; of references with the same content the first stands for all."""
        first_of: dict[str, int] = {}
        for n, file in enumerate(files):
            first_of.setdefault(file.blake3, n)
        chosen = [n for n in first_of.values() if files[n].size >= BLOCK]
        counts = np.array([files[n].size // BLOCK for n in chosen], np.int64)
        starts = np.cumsum(counts) - counts
        at = dict(zip(chosen, starts.tolist(), strict=True))
        every = -(-int(counts.sum()) // _MOST_BLOCKS) or 1
        columns: list[list[NDArray[Any]]] = [[], [], []]

        def look(batch: Batch) -> Blocks:
            return _blocks_of(specimen, batch, [(files[n], at[n]) for n, _, _ in batch], every)

        progress.start("references", int(counts.sum()) * BLOCK)
        done = 0
        for batch, one in in_threads(look, _batches(files, chosen)):
            parts: tuple[NDArray[Any], ...] = one
            for column, part in zip(columns, parts, strict=True):
                column.append(part)
            done += sum(length for _, _, length in batch)
            progress.at(done)
            progress.check()
        progress.finish()
        hashes, where, anchors = (_joined(column) for column in columns)
        return cls(_Index.of(hashes), where, anchors, np.array(chosen, np.int64), starts)

    def standing_in(self, data: bytes, position: int) -> Found:
        """Those in `data`, which is at `position` of a result; looked for at whole blocks."""
        hit, blocks = self._single.find(block_hashes(data))
        return self._counted(blocks, position + hit * BLOCK)

    def anywhere_in(self, data: bytes) -> Found:
        """Those in the first bytes of a result, `data`; looked for at every byte."""
        if len(data) < BLOCK:
            return Counter()
        with self._lock:
            if self._by_anchor is None:
                self._by_anchor = _Index.of(self._anchors)
        blocks: list[int] = []
        places: list[int] = []
        words = np.ndarray(len(data) - _WORD + 1, "<u8", data, strides=(1,))
        hit, maybe = self._by_anchor.find(words)
        for place, block in zip(hit[:_MOST_ANCHORS].tolist(), maybe.tolist(), strict=False):
            hashes = block_hashes(data[place : place + BLOCK])
            if len(hashes) and self._single.find(hashes)[1].tolist() == [block]:
                blocks.append(block)
                places.append(place)
        return self._counted(np.array(blocks, np.int64), np.array(places, np.int64))

    def _counted(self, blocks: NDArray[np.int64], places: NDArray[np.int64]) -> Found:
        """`places` are where in the result each of these blocks stands, in bytes."""
        where = self._where[blocks].astype(np.int64)
        owner = np.searchsorted(self._starts, where, "right") - 1
        shifts = places - (where - self._starts[owner]) * BLOCK
        return Counter(zip(self._files[owner].tolist(), shifts.tolist(), strict=True))


def _joined(parts: list[NDArray[Any]]) -> NDArray[Any]:
    """The parts as one array; they themselves are given up, so that memory holds them once."""
    out = np.concatenate(parts) if parts else np.zeros(0, np.uint64)
    parts.clear()
    return out


def _batches(files: list[TruthFile], chosen: list[int]) -> Iterator[Batch]:
    """All whole blocks of the chosen files, in batches of as many bytes as a buffer holds."""
    batch: Batch = []
    room = _BATCH
    for n in chosen:
        position, whole = 0, files[n].size // BLOCK * BLOCK
        while position < whole:
            length = min(whole - position, room)
            batch.append((n, position, length))
            position, room = position + length, room - length
            if not room:
                yield batch
                batch, room = [], _BATCH
    if batch:
        yield batch


def _blocks_of(specimen: Specimen, batch: Batch, of: list[tuple[TruthFile, int]], every: int) -> Blocks:
    """The blocks of a batch. `of` are the file of each of its pieces, and the number of that file's first block."""
    buffer = np.empty(sum(length for _, _, length in batch), np.uint8)
    at = 0
    for (_, position, length), (file, _) in zip(batch, of, strict=True):
        if not position and not file.untouched:
            _require_original(specimen, file)
        specimen.original_into(file, position, buffer[at : at + length])
        at += length
    counts = np.array([length // BLOCK for _, _, length in batch])
    inside = np.array([position // BLOCK for _, position, _ in batch])
    before = np.array([number for _, number in of])
    nth = np.arange(len(buffer) // BLOCK) - np.repeat(np.cumsum(counts) - counts - inside, counts)  # of its file
    hashes = block_hashes(buffer)
    kept = hashes != 0
    if every > 1:
        kept &= (hashes % np.uint64(every) == 0) | (nth < _FIRST_BLOCKS)
    anchors = buffer.view("<u8")[:: BLOCK // _WORD]
    numbers = nth + np.repeat(before, counts)
    numbers = numbers.astype(np.uint32) if every < _MOST_NARROW else numbers
    return hashes[kept], numbers[kept], anchors[kept]


def _require_original(specimen: Specimen, file: TruthFile) -> None:
    where = specimen.original_at(file)
    assert isinstance(where, Path)
    try:
        same = blake3_file(where) == file.blake3
    except OSError:
        same = False
    if not same:
        raise SpecimenError(
            f"{specimen.folder}: does not match its truth any more: {file.path}, in originals, is missing or has other "
            "bytes: build it again, or see all with 'sastrugi audit'"
        )
