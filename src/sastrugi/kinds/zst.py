"""Zstandard frames: blocks with lengths. Source: RFC 8878, section 3.1."""

from __future__ import annotations

from pathlib import Path

from sastrugi.kinds.base import Kind, Measure, Proof, Signature, Source, broken
from sastrugi.kinds.gz import packing_down
from sastrugi.scenario.dice import Dice

_MARK = b"\x28\xb5\x2f\xfd"
_RLE, _RESERVED = 1, 3
_LARGEST_BLOCK = 1 << 17


def measure(source: Source, deep: bool = False) -> Measure | None:
    if source.read(0, 4) != _MARK:
        return None
    at = frames = 0
    while True:
        end = _frame_end(source, at)
        if end <= 0:
            return broken("zst", min(-end, source.size), "a block is none, or reaches beyond the end")
        at, frames = end, frames + 1
        if at % 512 == 0 or source.read(at, 4) != _MARK:
            return Measure("zst", at, True, Proof.STRUCTURE, f"blocks of {frames} frames meet up to the last")


def _frame_end(source: Source, start: int) -> int:
    """The end of the frame at `start`; minus the position where it breaks."""
    descriptor = source.read(start + 4, 1)
    if not descriptor or descriptor[0] & 0x08:
        return -start - 4
    flags = descriptor[0]
    single = flags >> 5 & 1
    at = start + 5 + (1 - single) + (0, 1, 2, 4)[flags & 3] + ((1 if single else 0), 2, 4, 8)[flags >> 6]
    while True:
        head = source.read(at, 3)
        block = int.from_bytes(head, "little")
        sort, size = block >> 1 & 3, block >> 3
        if len(head) < 3 or sort == _RESERVED or size > _LARGEST_BLOCK:
            return -at
        at += 3 + (1 if sort == _RLE else size)
        if at > source.size:
            return -at
        if block & 1:
            at += 4 if flags & 0x04 else 0
            return at if at <= source.size else -at


def make(dice: Dice, size: int) -> bytes:
    import zstandard

    return zstandard.ZstdCompressor(level=3, write_checksum=True).compress(packing_down(dice, size, 4))


def check(path: Path) -> None:
    import zstandard

    with path.open("rb") as file, zstandard.ZstdDecompressor().stream_reader(file, read_across_frames=True) as reader:
        while reader.read(1 << 20):
            pass
    data = path.read_bytes()
    if zstandard.frame_content_size(data) > 0:
        zstandard.ZstdDecompressor().decompress(data)


KIND = Kind(
    "zst", "Zstandard stream", "archive", ("zst",), "application/zstd", "blocks with lengths", Proof.STRUCTURE, measure,
    (Signature(_MARK),), make=make, check=check,
)  # fmt: skip
