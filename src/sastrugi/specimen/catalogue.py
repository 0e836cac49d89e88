"""Known contents by their blocks: every whole block of the originals is hashed, and the end of each that fills none."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Sequence
from typing import NamedTuple, Protocol

import numpy as np
from blake3 import blake3
from numpy.typing import NDArray

from sastrugi.media.read_ahead import ahead
from sastrugi.progress import Progress
from sastrugi.specimen.blocks import BLOCK, Hashes, block_hashes, prefix_hashes

PIECE = 4 << 20
"""Bytes that are read at once."""
MOST_PLACES = 64
"""Places of one block, or owners of one end, that are tried; more of them tell nothing."""
_PREFIXES = (8, 16, 32, 64, 128, 256)
_ODD = np.uint64(0x9E3779B97F4A7C15)


class Original(Protocol):
    """Known content."""

    @property
    def size(self) -> int: ...
    def read(self, position: int, length: int) -> bytes:
        """Bytes of it; shorter only at its end."""


class Catalogue:
    """The blocks of many originals. `digests` are their BLAKE3, in the same order."""

    def __init__(self, originals: Sequence[Original], progress: Progress) -> None:
        self.originals = originals
        self.digests: list[str] = []
        self.tails_of: list[bytes] = []
        """The end of each that fills no block."""
        self.first = np.zeros(len(originals) + 1, np.int64)
        tails: defaultdict[_Window, list[tuple[int, int]]] = defaultdict(list)
        hashes: Hashes = np.zeros(sum(original.size // BLOCK for original in originals), np.uint64)
        done = 0
        progress.start("originals", sum(original.size for original in originals))
        for n, original in enumerate(originals):
            digest = blake3()
            count, first = 0, int(self.first[n])
            for data in _chunks(original):
                digest.update(data)
                whole = len(data) // BLOCK
                hashes[first + count : first + count + whole] = block_hashes(data)
                count += whole
                done += len(data)
                progress.at(done)
                progress.check()
            self.digests.append(digest.hexdigest())
            self.first[n + 1] = first + count
            tail = original.read(count * BLOCK, original.size - count * BLOCK)
            self.tails_of.append(tail)
            window = _telling_window(tail)
            if window.length:
                tails[window].append((int(window.hashes(tail.ljust(BLOCK, b"\0"))[0]), n))
        progress.finish()
        self.tails = {window: _TailIndex(entries) for window, entries in tails.items()}
        self._group(hashes)

    def _group(self, hashes: Hashes) -> None:
        """Equal blocks get one number: `groups` (of each block; -1 for constant ones), `values` (their hashes, sorted),
        `used_once` (whether one block of the originals is in it). Sorts `hashes` on the way."""
        order = np.argsort(hashes).astype(np.int32 if len(hashes) < 1 << 31 else np.int64)
        hashes[:] = hashes[order]
        fresh = np.ones(len(hashes), bool)
        np.not_equal(hashes[1:], hashes[:-1], out=fresh[1:])
        fresh &= hashes != 0
        numbers = np.cumsum(fresh, dtype=np.int32)
        numbers -= 1
        self.groups = np.empty(len(hashes), np.int32)
        self.groups[order] = numbers  # constant blocks, with hash 0, come first: number -1
        del order, numbers
        self.used_once = (fresh & np.append(fresh[1:], True))[fresh]
        self.values = hashes[fresh]

    def blocks_of(self, n: int) -> NDArray[np.int32]:
        """Group numbers of the blocks of an original."""
        out: NDArray[np.int32] = self.groups[self.first[n] : self.first[n + 1]]
        return out


class _Window(NamedTuple):
    """Bytes of a block by which the end of a file is looked for: its first ones, or eight that are not all the same."""

    start: int
    length: int

    def hashes(self, data: bytes) -> Hashes:
        """Of each whole block of `data`."""
        if not self.start:
            return prefix_hashes(data, self.length)
        words = np.ndarray(len(data) // BLOCK, "<u8", data, self.start, (BLOCK,))
        return words * _ODD


def _telling_window(tail: bytes) -> _Window:
    """Where a file's end is looked at; of no length where that tells nothing. Zeros begin everywhere, so an end that
    begins with them is known by what comes first after them."""
    word = _PREFIXES[0]
    for start in (0, *range(word, len(tail) - word, word), len(tail) - word) if len(tail) >= word else ():
        if tail[start : start + word].strip(tail[start : start + 1]):
            return _Window(start, word if start else max(size for size in _PREFIXES if size <= len(tail)))
    return _Window(0, 0)


class _TailIndex:
    """Ends of files by the hash of their first bytes; a coarse table answers nearly every sector at once."""

    def __init__(self, entries: list[tuple[int, int]]) -> None:
        self.owners: defaultdict[int, list[int]] = defaultdict(list)
        for value, n in entries:
            self.owners[value].append(n)
        self._coarse = np.zeros(1 << 20, bool)
        self._coarse[np.array(list(self.owners), np.uint64) >> np.uint64(44)] = True

    def hits(self, hashes: Hashes) -> Iterable[tuple[int, list[int]]]:
        """(index in `hashes`, originals whose end may stand there)."""
        for at in np.flatnonzero(self._coarse[hashes >> np.uint64(44)]):
            owners = self.owners.get(int(hashes[at]))
            if owners:
                yield int(at), owners[:MOST_PLACES]


def _chunks(original: Original) -> Iterable[bytes]:
    pieces = (original.read(at, PIECE) for at in range(0, original.size, PIECE))
    return ahead(pieces) if original.size > 2 * PIECE else pieces
