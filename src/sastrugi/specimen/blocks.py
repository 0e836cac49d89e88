"""Content known by its 512-byte blocks: hashes of many at once, and the ends of files that fill no whole block."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

BLOCK = 512
"""Bytes. Files begin and go on at multiples of a sector, and no sector is smaller."""
_WORDS = BLOCK // 8
_MULTIPLIERS = np.frombuffer(np.random.RandomState(20310203).bytes(BLOCK), "<u8") | np.uint64(1)

Hashes = NDArray[np.uint64]


def block_hashes(data: bytes | memoryview) -> Hashes:
    """A 64-bit hash of each whole block; 0 stands for one whose words are all the same, which tells nothing."""
    words = _words(data)
    out: Hashes = np.einsum("ij,j->i", _mixed(words), _MULTIPLIERS)
    like = np.flatnonzero(words[:, 0] == words[:, -1])
    out[like[(words[like] == words[like, :1]).all(axis=1)]] = 0
    return out


def prefix_hashes(data: bytes | memoryview, length: int) -> Hashes:
    """A hash of the first `length` bytes (a multiple of 8) of each whole block."""
    count = length // 8
    out: Hashes = np.einsum("ij,j->i", _mixed(_words(data)[:, :count]), _MULTIPLIERS[:count])
    return out


def _words(data: bytes | memoryview) -> NDArray[np.uint64]:
    return np.frombuffer(data, "<u8", len(data) // BLOCK * _WORDS).reshape(-1, _WORDS)


def _mixed(words: NDArray[np.uint64]) -> NDArray[np.uint64]:
    """High bits brought down, so that the products below mix all of a word."""
    shifted = words >> np.uint64(29)
    np.bitwise_xor(shifted, words, out=shifted)
    return shifted


def runs_where(flags: NDArray[np.bool_]) -> list[tuple[int, int]]:
    """[first, behind the last) of each run of True."""
    edges = np.flatnonzero(np.diff(np.concatenate(([False], flags, [False]))))
    return [(int(lo), int(hi)) for lo, hi in edges.reshape(-1, 2)]
