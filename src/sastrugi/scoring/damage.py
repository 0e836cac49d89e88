"""Damage maps: one letter a 512-byte block of a reference (R right, W wrong, A absent), run-length coded (`3R2W1A`)."""

from __future__ import annotations

import re
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from sastrugi.specimen.blocks import BLOCK

RIGHT, WRONG, ABSENT = (np.uint8(ord(letter)) for letter in "RWA")
_RUN = re.compile(r"(\d+)([RWA])")


def encode(letters: NDArray[np.uint8]) -> str:
    """The code of a map, of which `letters` holds the ASCII letters."""
    if not len(letters):
        return ""
    edges = np.flatnonzero(letters[1:] != letters[:-1]) + 1
    starts = [0, *edges.tolist(), len(letters)]
    return "".join(f"{hi - lo}{letters[lo]:c}" for lo, hi in pairwise(starts))


def all_right(size: int) -> str:
    """The code of a file of `size` bytes that came back whole."""
    return f"{-(-size // BLOCK)}R" if size else ""


def decode(code: str) -> list[tuple[int, str]]:
    """(blocks, letter) of each run."""
    return [(int(run[1]), run[2]) for run in _RUN.finditer(code)]


def shortfall(code: str, size: int) -> tuple[int, int]:
    """How many runs of a file of `size` bytes are not right, and the bytes of the longest that is. Wrong blocks beside
    absent ones are one run."""
    if code == all_right(size):
        return 0, size  # nearly every file of most scorecards
    wrong, longest, was_right, at = 0, 0, True, 0
    for count, letter in decode(code):
        right = letter == "R"
        wrong += was_right and not right
        if right:
            longest = max(longest, min((at + count) * BLOCK, size) - at * BLOCK)
        was_right, at = right, at + count
    return wrong, longest
