"""GIF: blocks up to the trailer. Source: CompuServe GIF89a specification."""

from __future__ import annotations

import io
from pathlib import Path

from sastrugi.kinds._pictures import check_picture, picture_of_size
from sastrugi.kinds.base import Kind, Measure, Proof, Signature, Source, broken
from sastrugi.kinds.following import UnitFollower
from sastrugi.scenario.dice import Dice

_EXTENSION, _IMAGE, _TRAILER = 0x21, 0x2C, 0x3B
_LABELS = frozenset({0x01, 0xF9, 0xFE, 0xFF})
_WINDOW = 1 << 16
_SMALL = 64
"""Parts of text and of applications are as long as they please."""


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


class _Blocks(UnitFollower):
    """Blocks of images: all parts of one are full but for the last, as programs write them."""

    ends = True
    cost = 4.0
    _full = 0
    _inside = _last = False

    def _unit(self, kept: bytes, at: int) -> int:
        if not at:
            return 13 + (3 << (kept[10] & 7) + 1 if kept[10] & 0x80 else 0) if len(kept) >= 13 else 0
        if self._inside:
            return self._part(kept, at)
        if len(kept) < 11:
            if kept[:1] == bytes([_TRAILER]):
                self.end = at + 1
            return 0
        if kept[0] == _TRAILER:
            self.end = at + 1
            return 0
        if kept[0] == _EXTENSION and kept[1] in _LABELS:
            used = 2
        elif kept[0] == _IMAGE:
            used = 11 + (3 << (kept[9] & 7) + 1 if kept[9] & 0x80 else 0)
            if len(kept) >= used and not 2 <= kept[used - 1] <= 11:
                self.wrong = at + used
                return 0
        else:
            self.wrong = at + 1
            return 0
        if len(kept) < used:
            return 0
        self._inside, self._last, self._full = True, False, 0
        self._passed(at + used, 8.0)
        return used

    def _part(self, kept: bytes, at: int) -> int:
        if not kept:
            return 0
        length = kept[0]
        if not length:
            self._inside = False
            return 1
        if self._last and self._full > _SMALL:
            self.wrong = at + 1
            return 0
        self._full = self._full or length
        self._last = length != self._full
        self._passed(at + 1, 0.0 if self._last else 6.0)
        return 1 + length


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
    (Signature(b"GIF87a"), Signature(b"GIF89a")), follow=_Blocks, make=make, check=check,
)  # fmt: skip
