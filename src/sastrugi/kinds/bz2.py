"""Bzip2 streams. Source: the format as its decompressor defines it (blocks with checksums, then a combined one).

Blocks begin at any bit, each with a mark of 48 bits and the checksum of what it unpacks to; the end has a mark of its
own and a checksum made of all of theirs. So where the size is told, and the end is there, it is proved to be of these
blocks without unpacking them; clusters of another file between them would move it away.
"""

from __future__ import annotations

import bz2
from collections.abc import Iterator
from itertools import islice
from pathlib import Path

from sastrugi.kinds._packed import measure_stream
from sastrugi.kinds.base import Kind, Measure, Proof, Signature, Source
from sastrugi.kinds.gz import packing_down
from sastrugi.scenario.dice import Dice

_BLOCK_MARK, _END_MARK = b"1AY&SY", b"\x17rE8P\x90"
_HEAD, _MARK_BITS, _SUM_BITS = 4, 48, 32
_WINDOW = 1 << 20
_LONGEST_BLOCK = 1_200_000
"""Bytes of a packed block, at most: 900,000 that cannot be packed, and what tables and steps add."""
_MOST_BLOCKS = 1 << 12
"""Blocks that are followed: of 3 GB that are unpacked. What has more is unpacked to know its end."""


def measure(source: Source, deep: bool = False) -> Measure | None:
    head = source.read(0, 10)
    if head[:3] != b"BZh" or not b"1" <= head[3:4] <= b"9" or head[4:] != _BLOCK_MARK:
        return None
    if not deep and _ends_with_a_stream(source) and _end(source) == source.size:
        return Measure("bz2", source.size, True, Proof.STRUCTURE, "its blocks follow up to an end of theirs")
    return measure_stream(source, "bz2", bz2.BZ2Decompressor, head[:3], (OSError, ValueError, EOFError), 8)


def _ends_with_a_stream(source: Source) -> bool:
    """Whether the mark of an end stands where it has to if the source is one file."""
    last = source.size * 8 - _SUM_BITS - _MARK_BITS
    mark = int.from_bytes(_END_MARK, "big")
    return any(_bits(source, last - bits, _MARK_BITS) == mark for bits in range(8)) if last > 7 else False


def _end(source: Source) -> int:
    """Where the last of the streams that follow each other ends; 0 where one does not end as its blocks call for. One
    at a sector's start behind another is a file of its own."""
    end = 0
    while True:
        behind = _behind_stream(source, end)
        if not behind:
            return 0
        end = behind
        head = source.read(end, _HEAD)
        if not end % 512 or len(head) < _HEAD or head[:3] != b"BZh" or not b"1" <= head[3:] <= b"9":
            return end


def _behind_stream(source: Source, start: int) -> int:
    """Behind the stream that begins at a byte; 0 where its end is not of its blocks."""
    combined = 0
    for bit, is_end in islice(_marks(source, start + _HEAD), _MOST_BLOCKS):
        told = _bits(source, bit + _MARK_BITS, _SUM_BITS)
        if is_end:
            return -(-(bit + _MARK_BITS + _SUM_BITS) // 8) if told == combined else 0
        combined = (combined << 1 & 0xFFFFFFFF | combined >> 31) ^ told
    return 0


def _bits(source: Source, bit: int, count: int) -> int:
    """`count` bits, the highest first, from a bit of the source on."""
    first, behind = bit // 8, -(-(bit + count) // 8)
    return int.from_bytes(source.read(first, behind - first), "big") >> behind * 8 - bit - count & (1 << count) - 1


def _inner_bytes() -> dict[bytes, tuple[int, int, bool]]:
    """The whole bytes of the marks at each of eight bits: with that bit, the mark as a number, whether it is the
    end's."""
    out: dict[bytes, tuple[int, int, bool]] = {}
    for mark, is_end in ((_BLOCK_MARK, False), (_END_MARK, True)):
        number = int.from_bytes(mark, "big")
        for bit in range(8):
            whole = (number << 8 - bit).to_bytes(7, "big")
            out[whole[1:6] if bit else mark] = (bit, number, is_end)
    return out


_INNER = _inner_bytes()


def _marks(source: Source, first: int) -> Iterator[tuple[int, bool]]:
    """The bits at which marks of blocks and of ends begin, from a byte on, in order, and whether they are an end's;
    until a block is longer than one can be."""
    last, tail = first * 8 - 1, b""
    for at, block in source.blocks(first, size=_WINDOW):
        window, base = tail + block, at - len(tail)
        found: list[tuple[int, bool]] = []
        for inner, (shift, number, is_end) in _INNER.items():
            place = window.find(inner)
            while place >= 0:
                bit = (base + place) * 8 + (shift - 8 if shift else 0)
                if bit > last and _bits(source, bit, _MARK_BITS) == number:
                    found.append((bit, is_end))
                    if len(found) > _MOST_BLOCKS:
                        return
                place = window.find(inner, place + 1)
        for bit, is_end in sorted(found):
            if bit > last + _LONGEST_BLOCK * 8:
                return
            last = bit
            yield bit, is_end
        if at + len(block) > last // 8 + _LONGEST_BLOCK + _WINDOW:
            return
        tail = window[-len(_BLOCK_MARK) :]


def make(dice: Dice, size: int) -> bytes:
    return bz2.compress(packing_down(dice, size, 6))


def check(path: Path) -> None:
    with bz2.open(path) as file:
        while file.read(1 << 20):
            pass


KIND = Kind(
    "bz2",
    "bzip2 stream",
    "archive",
    ("bz2", "tbz2"),
    "application/x-bzip2",
    "unpacked to its checksum",
    Proof.CHECKSUM,
    measure,
    (Signature(b"BZh"),),
    make=make,
    check=check,
)
