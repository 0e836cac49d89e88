"""NumPy arrays: a header that tells shape and type. Source: NumPy enhancement proposal 1."""

from __future__ import annotations

import ast
import io
import math
from pathlib import Path

import numpy as np

from sastrugi.kinds.base import Kind, Measure, Proof, Signature, Source, broken
from sastrugi.scenario.dice import Dice

_MARK = b"\x93NUMPY"


def measure(source: Source, deep: bool = False) -> Measure | None:
    head = source.read(0, 12)
    if head[:6] != _MARK or len(head) < 12 or head[6] not in (1, 2, 3):
        return None
    width = 2 if head[6] == 1 else 4
    length = int.from_bytes(head[8 : 8 + width], "little")
    start = 8 + width + length
    try:
        if length > 1 << 20:
            return broken("npy", 8, "its header is impossibly long")
        header = ast.literal_eval(source.read(8 + width, length).decode("latin-1").strip())
        item = np.dtype(header["descr"])
        count = math.prod(int(side) for side in header["shape"])
    except (ValueError, SyntaxError, TypeError, KeyError, MemoryError, RecursionError, OverflowError):
        return broken("npy", 8, "its header cannot be read")
    if item.hasobject or count < 0:
        return Measure("npy", start, False, Proof.GUESS, "it holds Python objects, whose length is not told", start)
    end = start + count * item.itemsize
    if end > source.size:
        return broken("npy", source.size, "its numbers reach beyond the end")
    return Measure("npy", end, True, Proof.STRUCTURE, "length by shape and type of the header")


def make(dice: Dice, size: int) -> bytes:
    rows = max((size - 128) // 64, 1)
    out = io.BytesIO()
    np.save(out, dice.sound(rows * 32, 1, 1000).reshape(rows, 32))
    return out.getvalue()


def check(path: Path) -> None:
    np.load(path, allow_pickle=False)


KIND = Kind(
    "npy",
    "NumPy array",
    "data",
    ("npy",),
    "application/x-npy",
    "shape and type of the header",
    Proof.STRUCTURE,
    measure,
    (Signature(_MARK),),
    make=make,
    check=check,
)
