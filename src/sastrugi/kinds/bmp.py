"""BMP pictures: the size follows from the header, twice. Source: Microsoft, Bitmap Storage."""

from __future__ import annotations

import io
from pathlib import Path
from struct import Struct

from sastrugi.kinds._pictures import check_picture, picture_of_size
from sastrugi.kinds.base import Kind, Measure, Proof, Signature, Source, broken
from sastrugi.scenario.dice import Dice

_HEADER = Struct("<2sI4xII")
_INFO = Struct("<iiHHII")
_CORE = Struct("<HHHH")
_INFO_SIZES = (40, 52, 56, 64, 108, 124)
_WITH_CORE, _WITH_PROFILE = 12, 124
_PROFILE = Struct("<II")
_UNCOMPRESSED = (0, 3, 6)


def measure(source: Source, deep: bool = False) -> Measure | None:
    header = source.unpack(_HEADER, 0)
    info = source.unpack(_INFO, 18)
    if header is None or info is None or header[0] != b"BM" or header[3] not in (_WITH_CORE, *_INFO_SIZES):
        return None
    _, size, start, info_size = header
    if info_size == _WITH_CORE:
        core = source.unpack(_CORE, 18)
        info = (*core, 0, 0) if core else info
    width, height, planes, depth, compression, image_size = info
    if planes != 1 or depth not in (1, 4, 8, 16, 24, 32) or width <= 0 or not height or start < 14 + info_size:
        return None
    pixels = (width * depth + 31) // 32 * 4 * abs(height) if compression in _UNCOMPRESSED else image_size
    profile = source.unpack(_PROFILE, 126) if info_size == _WITH_PROFILE else None
    behind = sum(profile) + 14 - start - pixels if profile and all(profile) else 0
    if size and not start + pixels <= size <= start + pixels + max(behind, 0) + 4:
        return None
    length = size or start + pixels
    if length > source.size:
        return broken("bmp", source.size, "its pixels reach beyond the end")
    return Measure("bmp", length, True, Proof.STRUCTURE, "the length in the header is that of its rows of pixels")


def make(dice: Dice, size: int) -> bytes:
    def encode(width: int, height: int) -> bytes:
        out = io.BytesIO()
        dice.fork("picture").picture(width, height).save(out, "BMP")
        return out.getvalue()

    return picture_of_size(encode, size, bytes_per_pixel=3)


def check(path: Path) -> None:
    check_picture(path, "BMP")


KIND = Kind(
    "bmp", "BMP picture", "picture", ("bmp", "dib"), "image/bmp", "length in the header, rows of pixels must meet it",
    Proof.STRUCTURE, measure, (Signature(b"BM"),), make=make, check=check,
)  # fmt: skip
