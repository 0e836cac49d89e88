"""WebP pictures in RIFF chunks. Source: RFC 9649."""

from __future__ import annotations

import io
from pathlib import Path

from sastrugi.kinds._pictures import check_picture, picture_of_size
from sastrugi.kinds._riff import measure_riff
from sastrugi.kinds.base import Kind, Measure, Proof, Signature, Source
from sastrugi.scenario.dice import Dice


def measure(source: Source, deep: bool = False) -> Measure | None:
    if source.read(12, 3) != b"VP8":
        return None
    return measure_riff(source, b"WEBP", "webp", frozenset())


def make(dice: Dice, size: int) -> bytes:
    def encode(width: int, height: int) -> bytes:
        out = io.BytesIO()
        dice.fork("picture").picture(width, height).save(out, "WEBP", quality=95, method=2)
        return out.getvalue()

    return picture_of_size(encode, size, bytes_per_pixel=0.5)


def check(path: Path) -> None:
    check_picture(path, "WEBP")


KIND = Kind(
    "webp", "WebP picture", "picture", ("webp",), "image/webp", "RIFF length, chunks must meet it", Proof.STRUCTURE,
    measure, (Signature(b"WEBPVP8", 8),), make=make, check=check,
)  # fmt: skip
