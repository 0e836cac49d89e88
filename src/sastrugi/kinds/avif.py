"""AVIF pictures. Source: AV1 Image File Format 1.1."""

from __future__ import annotations

import io
from pathlib import Path

from sastrugi.kinds._pictures import check_picture, picture_of_size
from sastrugi.kinds.base import Kind, Proof
from sastrugi.scenario.dice import Dice


def make(dice: Dice, size: int) -> bytes:
    def encode(width: int, height: int) -> bytes:
        out = io.BytesIO()
        dice.fork("picture").picture(width, height).save(out, "AVIF", quality=92, speed=10, max_threads=1)
        return out.getvalue()

    return picture_of_size(encode, size, bytes_per_pixel=0.8)


def check(path: Path) -> None:
    check_picture(path, "AVIF")


KIND = Kind(
    "avif", "AVIF picture", "picture", ("avif",), "image/avif", "as mp4", Proof.STRUCTURE, refines="mp4", make=make,
    check=check,
)  # fmt: skip
