"""Layered pictures: sections with lengths, then packed rows. Source: Adobe Photoshop File Formats Specification."""

from __future__ import annotations

import io
from pathlib import Path
from struct import Struct

import numpy as np

from sastrugi.kinds._pictures import picture_of_size
from sastrugi.kinds.base import Holds, Kind, Measure, Proof, Signature, Source, broken
from sastrugi.scenario.dice import Dice

_HEADER = Struct(">4sH6xHIIHH")
_RAW, _PACKED = 0, 1


def measure(source: Source, deep: bool = False) -> Measure | None:
    header = source.unpack(_HEADER, 0)
    if header is None or header[0] != b"8BPS" or header[1] not in (1, 2) or not 1 <= header[2] <= 56:
        return None
    _, version, channels, height, width, depth, _ = header
    if depth not in (1, 8, 16, 32) or not (0 < height <= 300_000 and 0 < width <= 300_000):
        return None
    at = _HEADER.size
    for section in range(3):  # colours, resources, layers
        prefix = 8 if section == 2 and version == 2 else 4
        length = source.read(at, prefix)
        at += prefix + int.from_bytes(length, "big")
        if len(length) < prefix or at > source.size:
            return broken("psd", source.size, "a section reaches beyond the end")
    compression = int.from_bytes(source.read(at, 2), "big")
    at += 2
    if compression == _RAW:
        at += (width * depth + 7) // 8 * height * channels
    elif compression == _PACKED:
        size = 2 * version
        counts = source.read(at, height * channels * size)
        at += len(counts) + int(np.frombuffer(counts, f">u{size}", len(counts) // size).sum(dtype=np.int64))
    else:
        return broken("psd", at, "its rows are packed in a way whose length cannot be told")
    if at > source.size:
        return broken("psd", source.size, "its rows reach beyond the end")
    return Measure("psd", at, True, Proof.STRUCTURE, "sections and row lengths meet")


def make(dice: Dice, size: int) -> bytes:
    def encode(width: int, height: int) -> bytes:
        from psd_tools import PSDImage

        out = io.BytesIO()
        PSDImage.frompil(dice.fork("picture").picture(width, height)).save(out)
        return out.getvalue()

    return picture_of_size(encode, size, bytes_per_pixel=3)


def check(path: Path) -> None:
    from PIL import Image

    with Image.open(path, formats=["PSD"]) as picture:
        picture.load()


KIND = Kind(
    "psd", "layered picture (PSD)", "picture", ("psd", "psb"), "image/vnd.adobe.photoshop", "sections and row lengths",
    Proof.STRUCTURE, measure, (Signature(b"8BPS\0"),), holds=Holds.PICTURES, make=make, check=check,
)  # fmt: skip
