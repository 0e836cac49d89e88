"""PNG: chunks with checksums up to IEND. Source: W3C PNG specification (third edition), section 5."""

from __future__ import annotations

import io
import zlib
from pathlib import Path

from sastrugi.kinds._pictures import check_picture, picture_of_size
from sastrugi.kinds._png_following import CHUNK, Chunks
from sastrugi.kinds.base import Kind, Measure, Proof, Signature, Source, broken
from sastrugi.scenario.dice import Dice

_SIGNATURE = b"\x89PNG\r\n\x1a\n"
_OVERHEAD = 12
_GRAIN, _STEP = 1024, 1 << 20
"""Where packed data break is told as exactly as this."""


def measure(source: Source, deep: bool = False) -> Measure | None:
    if source.read(0, 8) != _SIGNATURE:
        return None
    at, count = 8, 0
    packed: list[tuple[int, int]] = []
    while True:
        head = source.unpack(CHUNK, at)
        if head is None:
            return broken("png", min(at, source.size), f"ends inside the chunk after {count} right ones")
        length, name = head
        if length > 0x7FFFFFFF or not name.isalpha() or (count == 0) != (name == b"IHDR"):
            return broken("png", at, f"no chunk begins after {count} right ones")
        if at + _OVERHEAD + length > source.size:
            return broken("png", at, f"chunk {name.decode()} reaches beyond the end")
        value = zlib.crc32(name)
        for _, block in source.blocks(at + 8, at + 8 + length):
            value = zlib.crc32(block, value)
        if source.read(at + 8 + length, 4) != value.to_bytes(4, "big"):
            at = _break_in(source, [*packed, (at + 8, length)]) if deep and name == b"IDAT" else at
            return broken("png", at, f"the checksum of chunk {name.decode()} (the {count + 1}.) is wrong")
        packed += [(at + 8, length)] if name == b"IDAT" else []
        at += _OVERHEAD + length
        count += 1
        if name == b"IEND":
            return Measure("png", at, True, Proof.CHECKSUM, f"PNG checksums of all {count} chunks right, up to IEND")


def _break_in(source: Source, packed: list[tuple[int, int]]) -> int:
    """Where the packed data of chunks (start, length) break, of which the last is wrong: its start if they do not."""
    unpacker = zlib.decompressobj()
    for start, length in packed:
        for at in range(start, start + length, _GRAIN):
            try:
                data = source.read(at, min(_GRAIN, start + length - at))
                while data:
                    unpacker.decompress(data, _STEP)
                    data = unpacker.unconsumed_tail
            except zlib.error:
                return max(at, packed[-1][0])
    return packed[-1][0] - 8


def make(dice: Dice, size: int) -> bytes:
    def encode(width: int, height: int) -> bytes:
        out = io.BytesIO()
        dice.fork("picture").picture(width, height).save(out, "PNG", compress_level=6)
        return out.getvalue()

    return picture_of_size(encode, size, bytes_per_pixel=2.2)


def check(path: Path) -> None:
    check_picture(path, "PNG")


KIND = Kind(
    "png", "PNG picture", "picture", ("png",), "image/png", "chunks up to IEND", Proof.CHECKSUM, measure,
    (Signature(_SIGNATURE),), follow=Chunks, make=make, check=check,
)  # fmt: skip
