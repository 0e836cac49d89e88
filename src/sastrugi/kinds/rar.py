"""RAR archives, versions 4 and 5: blocks up to the end block. Measured only. Source: RAR 5.0 archive format notes."""

from __future__ import annotations

import zlib

from sastrugi.kinds.base import Kind, Measure, Proof, Signature, Source, broken

_MARK_4, _MARK_5 = b"Rar!\x1a\x07\x00", b"Rar!\x1a\x07\x01\x00"
_END_4, _END_5 = 0x7B, 5
_LONG_BLOCK = 0x8000
_EXTRA, _DATA = 1, 2


def measure(source: Source, deep: bool = False) -> Measure | None:
    head = source.read(0, 8)
    if head == _MARK_5:
        return _version_5(source)
    return _version_4(source) if head[:7] == _MARK_4 else None


def _version_4(source: Source) -> Measure:
    at, count = 7, 0
    while True:
        head = source.read(at, 11)
        size = int.from_bytes(head[5:7], "little")
        if len(head) < 7 or not 0x72 <= head[2] <= 0x7B or size < 7:
            return broken("rar", min(at, source.size), f"no block follows after {count:,}")
        block = source.read(at, size)
        if zlib.crc32(block[2:]) & 0xFFFF != int.from_bytes(head[:2], "little"):
            return broken("rar", at, f"the checksum of the header of block {count + 1:,} is wrong")
        flags = int.from_bytes(head[3:5], "little")
        at += size + (int.from_bytes(head[7:11], "little") if flags & _LONG_BLOCK or head[2] == 0x74 else 0)
        count += 1
        if at > source.size:
            return broken("rar", source.size, "a block reaches beyond the end")
        if head[2] == _END_4:
            return Measure(
                "rar", at, True, Proof.STRUCTURE, f"header checksums of {count:,} blocks right, up to the end block"
            )


def _number(data: bytes, at: int) -> tuple[int, int]:
    """A variable-length number and the position behind it; raises IndexError where it is cut."""
    value = shift = 0
    while True:
        byte = data[at]
        value |= (byte & 0x7F) << shift
        at, shift = at + 1, shift + 7
        if byte < 0x80 or shift > 63:
            return value, at


def _version_5(source: Source) -> Measure:
    at, count = 8, 0
    while True:
        head = source.read(at, 40)
        try:
            size, begin = _number(head, 4)
            block = source.read(at + 4, begin - 4 + min(size, 1 << 21))
            sort, inside = _number(block, begin - 4)
            flags, inside = _number(block, inside)
            if flags & _EXTRA:
                _, inside = _number(block, inside)
            data = _number(block, inside)[0] if flags & _DATA else 0
        except IndexError:
            return broken("rar", min(at, source.size), f"no block follows after {count:,}")
        if zlib.crc32(block) != int.from_bytes(head[:4], "little"):
            return broken("rar", at, f"the checksum of the header of block {count + 1:,} is wrong")
        at, count = at + begin + size + data, count + 1
        if at > source.size:
            return broken("rar", source.size, "a block reaches beyond the end")
        if sort == _END_5:
            return Measure(
                "rar", at, True, Proof.STRUCTURE, f"header checksums of {count:,} blocks right, up to the end block"
            )


KIND = Kind(
    "rar", "RAR archive", "archive", ("rar",), "application/vnd.rar", "blocks up to the end block", Proof.STRUCTURE,
    measure, (Signature(_MARK_4), Signature(_MARK_5)),
)  # fmt: skip
