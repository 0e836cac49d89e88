"""GIF: blocks up to the trailer. Source: CompuServe GIF89a specification."""

from __future__ import annotations

import io
from pathlib import Path

from sastrugi.kinds._pictures import check_picture, picture_of_size
from sastrugi.kinds.base import Kind, Measure, Proof, Signature, Source, broken
from sastrugi.scenario.dice import Dice

_EXTENSION, _IMAGE, _TRAILER = 0x21, 0x2C, 0x3B
_LABELS = frozenset({0x01, 0xF9, 0xFE, 0xFF})
_WINDOW = 1 << 16


def measure(source: Source, deep: bool = False) -> Measure | None:
    head = source.read(0, 13)
    if len(head) < 13 or head[:6] not in (b"GIF87a", b"GIF89a"):
        return None
    at = 13 + (3 << (head[10] & 7) + 1 if head[10] & 0x80 else 0)
    images = 0
    while True:
        block = source.read(at, 10)
        if not block:
            return broken("gif", source.size, "ends before its trailer")
        if block[0] == _TRAILER and images:
            return Measure("gif", at + 1, True, Proof.STRUCTURE, f"blocks of {images} images meet up to the trailer")
        if block[0] == _EXTENSION and len(block) > 1 and block[1] in _LABELS:
            end = _skip_sub_blocks(source, at + 2)
        elif block[0] == _IMAGE and len(block) == 10:
            table = 3 << (block[9] & 7) + 1 if block[9] & 0x80 else 0
            code_size = source.read(at + 10 + table, 1)
            if not code_size or not 2 <= code_size[0] <= 11:
                return broken("gif", at, "an image has no valid code size")
            end = _skip_sub_blocks(source, at + 11 + table)
            images += 1
        else:
            return broken("gif", at, "no block begins where one must")
        if end is None:
            return broken("gif", at, "a block reaches beyond the end")
        at = end


def _skip_sub_blocks(source: Source, at: int) -> int | None:
    """The position after a chain of length-prefixed sub-blocks, or None where the source ends first."""
    while True:
        window = source.read(at, _WINDOW)
        inside = 0
        while inside < len(window):
            length = window[inside]
            inside += length + 1
            if not length:
                return at + inside
        if not window or at + inside > source.size:
            return None
        at += inside


def make(dice: Dice, size: int) -> bytes:
    frames = 4

    def encode(width: int, height: int) -> bytes:
        pictures = [picture.quantize(64) for picture in dice.fork("picture").pictures(width, height, frames)]
        out = io.BytesIO()
        pictures[0].save(out, "GIF", save_all=True, append_images=pictures[1:], duration=400, loop=0, optimize=False)
        return out.getvalue()

    return picture_of_size(encode, size, bytes_per_pixel=0.6 * frames)


def check(path: Path) -> None:
    check_picture(path, "GIF")


KIND = Kind(
    "gif", "GIF picture", "picture", ("gif",), "image/gif", "blocks up to the trailer", Proof.STRUCTURE, measure,
    (Signature(b"GIF87a"), Signature(b"GIF89a")), make=make, check=check,
)  # fmt: skip
