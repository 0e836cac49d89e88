"""7z archives: a start header names the end header. Source: the 7z format description (7zFormat.txt)."""

from __future__ import annotations

import io
import zlib
from pathlib import Path

from sastrugi.kinds.base import Kind, Measure, Proof, Signature, Source, broken
from sastrugi.kinds.gz import packing_down
from sastrugi.scenario.dice import Dice

_MARK = b"7z\xbc\xaf\x27\x1c"
_MAX_HEADER = 64 << 20


def measure(source: Source, deep: bool = False) -> Measure | None:
    head = source.read(0, 32)
    if head[:6] != _MARK or len(head) < 32:
        return None
    if zlib.crc32(head[12:]) != int.from_bytes(head[8:12], "little"):
        return broken("7z", 12, "the checksum of its start header is wrong")
    offset, size = int.from_bytes(head[12:20], "little"), int.from_bytes(head[20:28], "little")
    end = 32 + offset + size
    if end > source.size or size > _MAX_HEADER:
        return broken("7z", source.size, "its end header lies beyond the end")
    if zlib.crc32(source.read(32 + offset, size)) != int.from_bytes(head[28:32], "little"):
        return broken("7z", 32 + offset, "the checksum of its end header is wrong")
    return Measure("7z", end, True, Proof.STRUCTURE, "checksums of start and end header right")


def make(dice: Dice, size: int) -> bytes:
    import py7zr

    out = io.BytesIO()
    with py7zr.SevenZipFile(out, "w", filters=[{"id": py7zr.FILTER_LZMA2, "preset": 2}]) as archive:
        archive.set_encoded_header_mode(False)
        archive.writestr(packing_down(dice, size, 8), f"{dice.word()}.dat")
    return _without_times(out.getvalue())


def _without_times(data: bytes) -> bytes:
    """The library dates entries with the present: set the times to a fixed one and mend the checksums."""
    start = 32 + int.from_bytes(data[12:20], "little")
    header = bytearray(data[start:])
    at = header.find(b"\x14\x0a\x01\0")  # property kMTime, its size for one entry, all defined, not external
    if at < 0:
        return data
    header[at + 4 : at + 12] = (131_000_000_000_000_000).to_bytes(8, "little")
    tail = bytearray(data[12:32])
    tail[16:20] = zlib.crc32(header).to_bytes(4, "little")
    return data[:8] + zlib.crc32(tail).to_bytes(4, "little") + bytes(tail) + data[32:start] + bytes(header)


def check(path: Path) -> None:
    import py7zr

    with py7zr.SevenZipFile(path) as archive:
        damaged = archive.testzip()
    if damaged is not None:
        raise ValueError(f"the checksum of {damaged} is wrong")


KIND = Kind(
    "7z", "7z archive", "archive", ("7z",), "application/x-7z-compressed", "end header named by the start header",
    Proof.STRUCTURE, measure, (Signature(_MARK),), make=make, check=check,
)  # fmt: skip
