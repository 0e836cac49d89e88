"""Still pictures in ISO boxes (HEIF and its relatives): decoding with Pillow."""

from __future__ import annotations

import io
from pathlib import Path

from sastrugi.kinds._pictures import picture_of_size
from sastrugi.scenario.dice import Dice

_ENCODER = {"preset": "ultrafast", "x265:pools": "none", "x265:frame-threads": "1"}


def make_heif(dice: Dice, size: int) -> bytes:
    from pillow_heif import from_pillow

    def encode(width: int, height: int) -> bytes:
        out = io.BytesIO()
        even = dice.fork("picture").picture(width & ~1, height & ~1)
        from_pillow(even).save(out, quality=90, enc_params=_ENCODER)
        return out.getvalue()

    return picture_of_size(encode, size, bytes_per_pixel=0.8)


def check_heif(path: Path) -> None:
    from pillow_heif import open_heif

    for picture in open_heif(path, convert_hdr_to_8bit=True):
        picture.load()
