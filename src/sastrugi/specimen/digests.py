"""Digests: SHA-256 of what others will check, BLAKE3 of what must be fast, and one of a medium that skips holes."""

from __future__ import annotations

import hashlib
import os
import threading
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from functools import cache
from pathlib import Path

import numpy as np
from blake3 import blake3
from numpy.typing import NDArray

from sastrugi.media.base import Medium
from sastrugi.media.read_ahead import ahead

_BLOCK = 1 << 16
_READ = 1 << 22
_SMALL = 1 << 18
"""As much as stays near the processor."""
_own = threading.local()
_WORTH_A_THREAD = 1 << 16


class Digests:
    """BLAKE3, and if asked SHA-256, of a stream that passes by; worked out beside what is done with it."""

    def __init__(self, sha256: bool) -> None:
        self._blake3, self._sha256 = blake3(), hashlib.sha256() if sha256 else None
        self._pending: Future[None] | None = None

    def over(self, chunks: Iterable[bytes]) -> Iterator[bytes]:
        """The chunks, each digested as it passes."""
        for chunk in chunks:
            self._settle()
            if len(chunk) < _WORTH_A_THREAD:
                self._update(chunk)
            else:
                self._pending = _beside().submit(self._update, chunk)
            yield chunk

    def _update(self, chunk: bytes) -> None:
        self._blake3.update(chunk)
        if self._sha256 is not None:
            self._sha256.update(chunk)

    def _settle(self) -> None:
        if self._pending is not None:
            self._pending.result()
            self._pending = None

    def result(self) -> tuple[str, str]:
        """BLAKE3 and SHA-256, in hexadecimal; the second is empty if it was not asked for."""
        self._settle()
        return self._blake3.hexdigest(), self._sha256.hexdigest() if self._sha256 else ""


@cache
def _beside() -> ThreadPoolExecutor:
    return ThreadPoolExecutor(1, "digests")


def sha256_file(path: Path) -> str:
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


def blake3_file(path: Path) -> str:
    """The digest of a file, read through a small buffer of each thread's own. Raises OSError."""
    digest, buffer = blake3(), _buffer()
    handle = os.open(path, os.O_RDONLY | os.O_CLOEXEC)
    try:
        while came := os.readv(handle, [buffer]):
            digest.update(buffer[:came])
    finally:
        os.close(handle)
    return digest.hexdigest()


def _buffer() -> memoryview:
    if not hasattr(_own, "buffer"):
        _own.buffer = memoryview(bytearray(_SMALL))
    buffer: memoryview = _own.buffer
    return buffer


def blake3_of(blocks: Iterable[bytes]) -> str:
    digest = blake3()
    for block in blocks:
        digest.update(block)
    return digest.hexdigest()


def medium_digest(medium: Medium, advance: Callable[[int], None] = lambda done: None) -> str:
    """BLAKE3 of a medium in which holes cost nothing, the same for the same bytes in every container.

    Over each run of 64 KiB blocks that are not all zero: the number of its first block (8 bytes, little-endian), the
    bytes, the number of the block behind it; at the end the size of the medium. `advance` is told the bytes read.
    """
    digest = blake3(max_threads=blake3.AUTO)
    done, behind = 0, -1
    for number, data in ahead(_filled_runs(medium)):
        if number != behind:
            digest.update((_number(behind) if behind >= 0 else b"") + _number(number))
        digest.update(data)
        behind = number - -len(data) // _BLOCK
        done += len(data)
        advance(done)
    digest.update((_number(behind) if behind >= 0 else b"") + _number(medium.size))
    return digest.hexdigest()


def _number(value: int) -> bytes:
    return value.to_bytes(8, "little")


def _filled_runs(medium: Medium) -> Iterator[tuple[int, memoryview]]:
    """Pieces of a medium without its zero blocks: the number of the first block, and the bytes."""
    next_block = 0
    for extent in medium.data_ranges():
        first = max(extent.offset // _BLOCK, next_block)
        next_block = max(-(-extent.end // _BLOCK), next_block)
        for at in range(first * _BLOCK, next_block * _BLOCK, _READ):
            data = memoryview(medium.read(at, min(_READ, next_block * _BLOCK - at)))
            zero = _zero_blocks(data)
            edges = np.flatnonzero(np.diff(np.concatenate(([True], zero, [True]))))
            for lo, hi in edges.reshape(-1, 2).tolist():
                yield at // _BLOCK + lo, data[lo * _BLOCK : hi * _BLOCK]


def _zero_blocks(data: memoryview) -> NDArray[np.bool_]:
    """Which 64 KiB blocks (the last may be shorter) are all zero."""
    # Most blocks tell by their first byte; only the others are looked at whole.
    blocks = (data[at : at + _BLOCK] for at in range(0, len(data), _BLOCK))
    return np.array([not block[0] and not np.frombuffer(block, "u1").any() for block in blocks], bool)
