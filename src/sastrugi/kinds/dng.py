"""Raw photographs in TIFF directories. Source: Adobe, Digital Negative 1.4."""

from __future__ import annotations

import io
from pathlib import Path

import numpy as np

from sastrugi.kinds._pictures import picture_of_size
from sastrugi.kinds.base import Holds, Kind, Proof
from sastrugi.scenario.dice import Dice

_CFA = 32803
_BYTE, _ASCII, _SHORT, _SIGNED_RATIONAL, _RATIONAL = 1, 2, 3, 10, 5


def make(dice: Dice, size: int) -> bytes:
    """A sensor's mosaic (red, green, green, blue) of a view, 16 bits a pixel, with the tags a converter needs."""

    def encode(width: int, height: int) -> bytes:
        from tifffile import TiffWriter

        view = np.asarray(dice.fork("picture").picture(width & ~1, height & ~1)).astype(np.uint16)
        mosaic = np.empty(view.shape[:2], np.uint16)
        for row, column, channel in ((0, 0, 0), (0, 1, 1), (1, 0, 1), (1, 1, 2)):
            mosaic[row::2, column::2] = view[row::2, column::2, channel] << 4
        identity = (1, 1, 0, 1, 0, 1, 0, 1, 1, 1, 0, 1, 0, 1, 0, 1, 1, 1)
        tags = [
            (33421, _SHORT, 2, (2, 2)), (33422, _BYTE, 4, (0, 1, 1, 2)), (50706, _BYTE, 4, (1, 4, 0, 0)),
            (50707, _BYTE, 4, (1, 1, 0, 0)), (50708, _ASCII, 0, "Firnline Ice Camera 3"), (50717, _SHORT, 1, 4095),
            (50721, _SIGNED_RATIONAL, 9, identity), (50728, _RATIONAL, 3, (1, 1, 1, 1, 1, 1)), (50778, _SHORT, 1, 21),
            (271, _ASCII, 0, "Firnline"), (272, _ASCII, 0, "Ice Camera 3"), (274, _SHORT, 1, 1),
        ]  # fmt: skip
        out = io.BytesIO()
        with TiffWriter(out, byteorder="<") as writer:
            writer.write(
                mosaic,
                photometric=_CFA,
                software="",
                metadata=None,
                extratags=[(*tag, True) for tag in tags],
                subfiletype=0,
            )
        return out.getvalue()

    return picture_of_size(encode, size, bytes_per_pixel=2)


def check(path: Path) -> None:
    import rawpy

    with rawpy.imread(str(path)) as photograph:
        photograph.postprocess(half_size=True)


KIND = Kind(
    "dng", "raw photograph (DNG)", "picture", ("dng",), "image/x-adobe-dng", "as tiff", Proof.STRUCTURE, refines="tiff",
    holds=Holds.PICTURES, make=make, check=check,
)  # fmt: skip
