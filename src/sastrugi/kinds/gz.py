"""Gzip streams. Source: RFC 1952."""

from __future__ import annotations

import gzip
import zlib
from pathlib import Path
from typing import Self

from sastrugi.kinds._packed import measure_stream
from sastrugi.kinds.base import Kind, Measure, Proof, Signature, Source
from sastrugi.kinds.following import UNPACKED, Follower, Unpacking, survived
from sastrugi.scenario.dice import Dice

MARK = b"\x1f\x8b\x08"


def measure(source: Source, deep: bool = False) -> Measure | None:
    return measure_stream(source, "gz", lambda: zlib.decompressobj(31), MARK, (zlib.error,))


class _Stream(Follower):
    """One member; of those behind it nothing is known."""

    packed = True

    def __init__(self) -> None:
        self._unpacking = Unpacking(31)

    def copy(self) -> Self:
        other = super().copy()
        other._unpacking = self._unpacking.copy()
        return other

    def _look(self, data: bytes, at: int) -> None:
        before = self._unpacking.taken
        out, broke = self._unpacking.feed(data)
        self.work += sum(map(len, out)) // UNPACKED
        if broke is not None:
            self.wrong = at + broke
            return
        self.bits += survived(self._unpacking.taken - before)
        if self._unpacking.ended:
            self._passed(self._unpacking.taken, 32.0, 0)
            self.end = self._unpacking.taken


def packing_down(dice: Dice, size: int, ratio: int) -> bytes:
    """Content that packs to about `size` bytes: text, which packs well, and noise, which does not."""
    return dice.log_text(max(size // 6 * ratio, 40)).encode() + dice.noise(size * 5 // 6)


def make(dice: Dice, size: int) -> bytes:
    return gzip.compress(packing_down(dice, size, 4), mtime=0)


def check(path: Path) -> None:
    with gzip.open(path) as file:
        while file.read(1 << 20):
            pass


KIND = Kind(
    "gz", "gzip stream", "archive", ("gz", "tgz"), "application/gzip", "unpacked to its checksum", Proof.CHECKSUM,
    measure, (Signature(MARK),), follow=_Stream, make=make, check=check,
)  # fmt: skip
