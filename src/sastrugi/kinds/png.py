"""PNG: chunks with checksums up to IEND. Source: W3C PNG specification (third edition), section 5."""

from __future__ import annotations

import io
import zlib
from pathlib import Path
from struct import Struct
from typing import Self

from sastrugi.kinds._pictures import check_picture, picture_of_size
from sastrugi.kinds.base import Kind, Measure, Proof, Signature, Source, broken
from sastrugi.kinds.following import UNPACKED, UnitFollower, Unpacking, survived
from sastrugi.scenario.dice import Dice

_SIGNATURE = b"\x89PNG\r\n\x1a\n"
_CHUNK = Struct(">I4s")
_OVERHEAD = 12
_BITS_OF_A_ROW = 1.5
"""It has one of five filters; so have many rows of foreign data that unpack."""
_GRAIN, _STEP = 1024, 1 << 20
"""Where packed data break is told as exactly as this."""


def measure(source: Source, deep: bool = False) -> Measure | None:
    if source.read(0, 8) != _SIGNATURE:
        return None
    at, count = 8, 0
    packed: list[tuple[int, int]] = []
    while True:
        head = source.unpack(_CHUNK, at)
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


class _Chunks(UnitFollower):
    """Chunks by their checksums; what is packed in them, row by row."""

    ends = packed = True
    _left = _value = _rows = 0
    _name = b""
    _stride = 0
    _unpacking: Unpacking | None = None

    def copy(self) -> Self:
        other = super().copy()
        other._unpacking = self._unpacking.copy() if self._unpacking is not None else None
        return other

    def _unit(self, kept: bytes, at: int) -> int:
        if not at:
            return 8 if len(kept) >= 8 else 0
        if self._left:
            return self._content(kept[: self._left], at)
        if self._name:
            return self._checked(kept, at)
        if len(kept) < 8:
            return 0
        length, name = _CHUNK.unpack_from(kept)
        known = name.isalpha() and length <= 0x7FFFFFFF and (name != b"IHDR" or length == 13)
        if not known or (at == 8) != (name == b"IHDR"):
            self.wrong = at + 8
            return 0
        self._left, self._name, self._value = length, name, zlib.crc32(name)
        return 8

    def _content(self, data: bytes, at: int) -> int:
        self._value = zlib.crc32(data, self._value)
        if self._name == b"IHDR":
            if len(data) < 13:
                return 0
            self._stride = _stride_of(data)
            self._unpacking = Unpacking(15)
        if self._name == b"IDAT" and self._unpacking is not None:
            before = self._unpacking.out
            out, broke = self._unpacking.feed(data)
            rows = b"".join(out)
            self.work += len(rows) // UNPACKED
            first = -before % self._stride
            filters = rows[first :: self._stride] if self._stride > 1 else b""
            if filters and max(filters) > 4:
                broke = min(broke or len(data), len(data))
            if broke is not None:
                self.wrong = at + broke
                return 0
            self.bits += _BITS_OF_A_ROW * len(filters) + survived(len(data))
        self._left -= len(data)
        return len(data)

    def _checked(self, kept: bytes, at: int) -> int:
        if len(kept) < 4:
            return 0
        if kept[:4] != self._value.to_bytes(4, "big"):
            self.wrong = at + 4
            return 0
        self._passed(at + 4, 32.0, 0)
        if self._name == b"IEND":
            self.end = at + 4
        self._name = b""
        return 4


def _stride_of(header: bytes) -> int:
    """Bytes of a row with its filter; 1 where rows are of several lengths."""
    width, depth, colours, interlaced = int.from_bytes(header[:4], "big"), header[8], header[9], header[12]
    samples = {0: 1, 2: 3, 3: 1, 4: 2, 6: 4}.get(colours, 0)
    return 1 if interlaced or not samples else 1 + -(-width * depth * samples // 8)


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
    (Signature(_SIGNATURE),), follow=_Chunks, make=make, check=check,
)  # fmt: skip
