"""Streams that must be unpacked to find their end: the decompressors of the standard library, in bounded memory."""

from __future__ import annotations

from collections.abc import Callable
from itertools import chain
from typing import Protocol

from sastrugi.kinds.base import Measure, Proof, Source, UnpackBudget, broken

_STEP = 1 << 20
_GRAIN, _FINE, _FINE_UP_TO = 4096, 256, 8192
"""Where packed data break is told as exactly as this, near their start more so: pieces of files are looked for from
there."""
_EXPECTED_AT_LEAST, _EXPECTED_RATIO = 1 << 20, 200
"""What is unpacked of any stream: so many bytes, and so many times its packed size. More costs the budget."""


class UnpackCounter:
    """Counts what one stream unpacks to. `weight`: how many times longer than a deflated one it takes."""

    def __init__(self, source: Source, weight: int) -> None:
        self._budget, self._weight = source.unpacking or UnpackBudget(), weight
        self._unpacked = self._paid = 0
        self.given_up = False

    def add(self, count: int, packed: int) -> bool:
        """Whether unpacking may go on, after `count` more bytes, of `packed` bytes by now."""
        self._unpacked += count
        beyond = self._unpacked - _EXPECTED_AT_LEAST - _EXPECTED_RATIO * packed - self._paid
        if beyond <= 0:
            return True
        self._paid += beyond
        self.given_up = not self._budget.take(beyond * self._weight)
        return not self.given_up


class Unpacker(Protocol):
    """What the decompressors of zlib, bz2 and lzma have in common."""

    @property
    def eof(self) -> bool: ...

    @property
    def unused_data(self) -> bytes: ...

    @property
    def decompress(self) -> Callable[..., bytes]: ...


def measure_stream(
    source: Source,
    kind: str,
    new: Callable[[], Unpacker],
    mark: bytes,
    failures: tuple[type[Exception], ...],
    weight: int = 1,
) -> Measure | None:
    """Unpack member after member. A member at a sector's start behind another is a file of its own."""
    if source.read(0, len(mark)) != mark:
        return None
    at = members = 0
    while True:
        counter = UnpackCounter(source, weight)
        length = _member(source, at, new, failures, counter)
        if length <= 0:
            if not members and -length <= len(mark) + 16:
                return None
            told = "unpack to far more than their size, the end was not looked for" if counter.given_up else "break"
            return broken(kind, at - length, f"its packed data {told} after {members} members")
        at, members = at + length, members + 1
        if at % 512 == 0 or source.read(at, len(mark)) != mark:
            return Measure(kind, at, True, Proof.CHECKSUM, "unpacks to its end, the checksum right")


def _member(
    source: Source,
    start: int,
    new: Callable[[], Unpacker],
    failures: tuple[type[Exception], ...],
    counter: UnpackCounter,
) -> int:
    """The packed length of the member at `start`; minus the bytes read where it breaks, or is given up."""
    unpacker = new()
    for at, block in source.blocks(start, size=1 << 18):
        fine = range(0, min(_FINE_UP_TO, len(block)), _FINE) if at == start else range(0)
        for first in chain(fine, range(len(fine) * _FINE, len(block), _GRAIN)):
            data = block[first : first + (_FINE if first < len(fine) * _FINE else _GRAIN)]
            end = at + first + len(data)
            try:
                while True:
                    count = len(unpacker.decompress(data, _STEP))
                    if unpacker.eof:
                        return end - len(unpacker.unused_data) - start
                    if not counter.add(count, end - start):
                        return start - end
                    if tail := getattr(unpacker, "unconsumed_tail", b""):
                        data = tail
                    elif not getattr(unpacker, "needs_input", True):
                        data = b""
                    else:
                        break
            except failures:
                return start - at - first
    return start - source.size
