"""TIFF pictures, both byte orders, strips and tiles. Source: Adobe, TIFF 6.0."""

from __future__ import annotations

import io
from pathlib import Path
from typing import Literal

import numpy as np

from sastrugi.kinds._pictures import picture_of_size
from sastrugi.kinds._tiff_fields import BIG, LITTLE, measure_tiff
from sastrugi.kinds.base import Holds, Kind, Measure, Proof, Signature, Source
from sastrugi.scenario.dice import Dice


def measure(source: Source, deep: bool = False) -> Measure | None:
    return measure_tiff(source)


def make(dice: Dice, size: int) -> bytes:
    order: Literal["<", ">"] = "<" if dice.chance(0.5) else ">"
    tiled, pages = dice.chance(0.5), dice.number(1, 2)

    def encode(width: int, height: int) -> bytes:
        from tifffile import TiffWriter

        out = io.BytesIO()
        with TiffWriter(out, byteorder=order) as writer:
            for picture in dice.fork("picture").pictures(width, height, pages):
                writer.write(
                    np.asarray(picture), photometric="rgb", tile=(64, 64) if tiled else None, compression="deflate",
                    description="Firnline", software="", metadata=None, rowsperstrip=None if tiled else 64,
                )  # fmt: skip
        return out.getvalue()

    return picture_of_size(encode, size, bytes_per_pixel=2.6 * pages)


def check(path: Path) -> None:
    from tifffile import TiffFile

    with TiffFile(path) as file:
        for page in file.pages:
            page.asarray()


KIND = Kind(
    "tiff", "TIFF picture", "picture", ("tif", "tiff"), "image/tiff", "furthest byte the directories point to",
    Proof.STRUCTURE, measure, (Signature(LITTLE), Signature(BIG)), holds=Holds.PICTURES, make=make, check=check,
)  # fmt: skip
