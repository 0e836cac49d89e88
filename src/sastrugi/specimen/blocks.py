"""Content known by its 512-byte blocks: hashes of many at once, and the ends of files that fill no whole block."""

from __future__ import annotations

import threading

import numpy as np
from numpy.typing import NDArray

BLOCK = 512
"""Bytes. Files begin and go on at multiples of a sector, and no sector is smaller."""
_WORDS = BLOCK // 8
_MULTIPLIERS = np.frombuffer(np.random.RandomState(20310203).bytes(BLOCK), "<u8") | np.uint64(1)
_AT_ONCE = 512
"""Blocks whose mixed words (256 KiB) stay near the processor; each thread has room for them of its own."""
_own = threading.local()

Hashes = NDArray[np.uint64]
Buffer = bytes | memoryview | NDArray[np.uint8]


def block_hashes(data: Buffer) -> Hashes:
    """A 64-bit hash of each whole block; 0 stands for one whose words are all the same, which tells nothing."""
    words = _words(data)
    out = _products(words)
    like = np.flatnonzero(words[:, 0] == words[:, -1])
    out[like[(words[like] == words[like, :1]).all(axis=1)]] = 0
    return out


def prefix_hashes(data: Buffer, length: int) -> Hashes:
    """A hash of the first `length` bytes (a multiple of 8) of each whole block."""
    return _products(_words(data)[:, : length // 8])


def _words(data: Buffer) -> NDArray[np.uint64]:
    return np.frombuffer(data, "<u8", len(data) // BLOCK * _WORDS).reshape(-1, _WORDS)


def _products(words: NDArray[np.uint64]) -> Hashes:
    """The sum of each row's words by their multipliers, high bits brought down first so that all of a word is mixed."""
    out = np.empty(len(words), np.uint64)
    if not hasattr(_own, "mixed"):
        _own.mixed = np.empty((_AT_ONCE, _WORDS), np.uint64)
    for first in range(0, len(words), _AT_ONCE):
        part = words[first : first + _AT_ONCE]
        mixed = _own.mixed[: len(part), : part.shape[1]]
        np.right_shift(part, np.uint64(29), out=mixed)
        np.bitwise_xor(mixed, part, out=mixed)
        np.matmul(mixed, _MULTIPLIERS[: part.shape[1]], out=out[first : first + _AT_ONCE])
    return out


def runs_where(flags: NDArray[np.bool_]) -> list[tuple[int, int]]:
    """[first, behind the last) of each run of True."""
    edges = np.flatnonzero(np.diff(np.concatenate(([False], flags, [False]))))
    return [(int(lo), int(hi)) for lo, hi in edges.reshape(-1, 2)]
