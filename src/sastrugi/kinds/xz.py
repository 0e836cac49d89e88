"""XZ streams. Source: The .xz File Format 1.2."""

from __future__ import annotations

import lzma
from pathlib import Path

from sastrugi.kinds._packed import Unpacker, measure_stream
from sastrugi.kinds.base import Kind, Measure, Proof, Signature, Source
from sastrugi.kinds.gz import packing_down
from sastrugi.scenario.dice import Dice

_MARK = b"\xfd7zXZ\0"
_MEMORY = 128 << 20


def _new() -> Unpacker:
    return lzma.LZMADecompressor(lzma.FORMAT_XZ, memlimit=_MEMORY)


def measure(source: Source, deep: bool = False) -> Measure | None:
    return measure_stream(source, "xz", _new, _MARK, (lzma.LZMAError, EOFError), 2)


def make(dice: Dice, size: int) -> bytes:
    return lzma.compress(packing_down(dice, size, 8), preset=2)


def check(path: Path) -> None:
    with lzma.open(path) as file:
        while file.read(1 << 20):
            pass


KIND = Kind(
    "xz",
    "XZ stream",
    "archive",
    ("xz", "txz"),
    "application/x-xz",
    "unpacked to its checksum",
    Proof.CHECKSUM,
    measure,
    (Signature(_MARK),),
    make=make,
    check=check,
)
