"""Bzip2 streams. Source: the format as its decompressor defines it (blocks with checksums, then a combined one)."""

from __future__ import annotations

import bz2
from pathlib import Path

from sastrugi.kinds._packed import measure_stream
from sastrugi.kinds.base import Kind, Measure, Proof, Signature, Source
from sastrugi.kinds.gz import packing_down
from sastrugi.scenario.dice import Dice

_BLOCK_MARK = b"1AY&SY"


def measure(source: Source, deep: bool = False) -> Measure | None:
    head = source.read(0, 10)
    if head[:3] != b"BZh" or not b"1" <= head[3:4] <= b"9" or head[4:] != _BLOCK_MARK:
        return None
    return measure_stream(source, "bz2", bz2.BZ2Decompressor, head[:3], (OSError, ValueError, EOFError))


def make(dice: Dice, size: int) -> bytes:
    return bz2.compress(packing_down(dice, size, 6))


def check(path: Path) -> None:
    with bz2.open(path) as file:
        while file.read(1 << 20):
            pass


KIND = Kind(
    "bz2",
    "bzip2 stream",
    "archive",
    ("bz2", "tbz2"),
    "application/x-bzip2",
    "unpacked to its checksum",
    Proof.CHECKSUM,
    measure,
    (Signature(b"BZh"),),
    make=make,
    check=check,
)
