"""PNG pictures followed chunk by chunk, and row by row. Source: W3C PNG specification (third edition), 5 and 9."""

from __future__ import annotations

import zlib
from struct import Struct
from typing import Self

from sastrugi.kinds.following import UNPACKED, UnitFollower, Unpacking, survived

CHUNK = Struct(">I4s")
_BITS_OF_A_ROW = 1.5
"""It has one of five filters; so have many rows of foreign data that unpack."""


class Chunks(UnitFollower):
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
        length, name = CHUNK.unpack_from(kept)
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
