"""Streams that must be unpacked to find their end: the decompressors of the standard library, in bounded memory."""

from __future__ import annotations

from collections.abc import Callable
from itertools import chain
from typing import Protocol

from sastrugi.kinds.base import Measure, Proof, Source, broken

_STEP = 1 << 20
_GRAIN, _FINE, _FINE_UP_TO = 4096, 256, 8192
"""Where packed data break is told as exactly as this, near their start more so: pieces of files are looked for from
there."""


class Unpacker(Protocol):
    """What the decompressors of zlib, bz2 and lzma have in common."""

    @property
    def eof(self) -> bool: ...

    @property
    def unused_data(self) -> bytes: ...

    @property
    def decompress(self) -> Callable[..., bytes]: ...


def measure_stream(
    source: Source, kind: str, new: Callable[[], Unpacker], mark: bytes, failures: tuple[type[Exception], ...]
) -> Measure | None:
    """Unpack member after member. A member at a sector's start behind another is a file of its own."""
    if source.read(0, len(mark)) != mark:
        return None
    at = members = 0
    while True:
        length = _member(source, at, new, failures)
        if length <= 0:
            if not members and -length <= len(mark) + 16:
                return None
            return broken(kind, at - length, f"its packed data break after {members} members")
        at, members = at + length, members + 1
        if at % 512 == 0 or source.read(at, len(mark)) != mark:
            return Measure(kind, at, True, Proof.CHECKSUM, "unpacks to its end, the checksum right")


def _member(source: Source, start: int, new: Callable[[], Unpacker], failures: tuple[type[Exception], ...]) -> int:
    """The packed length of the member at `start`; minus the bytes read where it breaks."""
    unpacker = new()
    for at, block in source.blocks(start, size=1 << 18):
        fine = range(0, min(_FINE_UP_TO, len(block)), _FINE) if at == start else range(0)
        for first in chain(fine, range(len(fine) * _FINE, len(block), _GRAIN)):
            data = block[first : first + (_FINE if first < len(fine) * _FINE else _GRAIN)]
            end = at + first + len(data)
            try:
                while True:
                    unpacker.decompress(data, _STEP)
                    if unpacker.eof:
                        return end - len(unpacker.unused_data) - start
                    if tail := getattr(unpacker, "unconsumed_tail", b""):
                        data = tail
                    elif not getattr(unpacker, "needs_input", True):
                        data = b""
                    else:
                        break
            except failures:
                return start - at - first
    return start - source.size
