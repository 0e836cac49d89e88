"""AVI video in RIFF chunks, with OpenDML extensions behind. Source: Microsoft AVI RIFF reference; OpenDML 1.02."""

from __future__ import annotations

from dataclasses import replace

from sastrugi.kinds._riff import measure_riff
from sastrugi.kinds._video import check_clip, make_clip
from sastrugi.kinds.base import Kind, Measure, Proof, Signature, Source
from sastrugi.scenario.dice import Dice


def measure(source: Source, deep: bool = False) -> Measure | None:
    found = measure_riff(source, b"AVI ", "avi", frozenset({b"LIST"}))
    while found is not None and found.whole:
        more = source.read(found.length, 12)
        length = found.length + 8 + int.from_bytes(more[4:8], "little")
        if more[:4] != b"RIFF" or more[8:] != b"AVIX" or length > source.size:
            break
        found = replace(found, length=length)
    return found


def make(dice: Dice, size: int) -> bytes:
    return make_clip(dice, size, "avi", "mpeg4")


KIND = Kind(
    "avi", "AVI video", "video", ("avi",), "video/x-msvideo", "RIFF length, chunks must meet it", Proof.STRUCTURE,
    measure, (Signature(b"AVI ", 8),), make=make, check=check_clip,
)  # fmt: skip
