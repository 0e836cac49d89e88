"""Digests: SHA-256 of what others will check, BLAKE3 of what must be fast, and one of a medium that skips holes."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from pathlib import Path
from types import TracebackType

from blake3 import blake3

from sastrugi.media.base import Medium

_BLOCK = 1 << 16
_READ = 1 << 22
_WORTH_A_THREAD = 1 << 16


class Digests:
    """BLAKE3 and SHA-256 of a stream that passes by. SHA-256, the slower, is worked out beside the writing."""

    def __init__(self) -> None:
        self._blake3, self._sha256 = blake3(), hashlib.sha256()
        self._thread: ThreadPoolExecutor | None = None
        self._pending: Future[None] | None = None

    def __enter__(self) -> Digests:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        if self._thread is not None:
            self._thread.shutdown()

    def over(self, chunks: Iterable[bytes]) -> Iterator[bytes]:
        for chunk in chunks:
            self._settle()
            if len(chunk) < _WORTH_A_THREAD:
                self._sha256.update(chunk)
            else:
                self._thread = self._thread or ThreadPoolExecutor(1)
                self._pending = self._thread.submit(self._sha256.update, chunk)
            self._blake3.update(chunk)
            yield chunk

    def _settle(self) -> None:
        if self._pending is not None:
            self._pending.result()
            self._pending = None

    def result(self) -> tuple[str, str]:
        """BLAKE3 and SHA-256, in hexadecimal."""
        self._settle()
        return self._blake3.hexdigest(), self._sha256.hexdigest()


def sha256_file(path: Path) -> str:
    with path.open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


def blake3_file(path: Path) -> str:
    digest = blake3()
    with path.open("rb") as file:
        while block := file.read(_READ):
            digest.update(block)
    return digest.hexdigest()


def medium_digest(medium: Medium, advance: Callable[[int], None] = lambda done: None) -> str:
    """BLAKE3 over each 64 KiB block that is not all zero, its number before it (8 bytes, little-endian), then the size.

    The same bytes give the same digest in every container, and holes cost nothing. `advance` is told the bytes read.
    """
    digest = blake3()
    zeros = bytes(_BLOCK)
    done, next_block = 0, 0
    for extent in medium.data_ranges():
        first = max(extent.offset // _BLOCK, next_block)
        next_block = max(-(-extent.end // _BLOCK), next_block)
        for at in range(first * _BLOCK, next_block * _BLOCK, _READ):
            data = medium.read(at, min(_READ, next_block * _BLOCK - at))
            for inside in range(0, len(data), _BLOCK):
                block = data[inside : inside + _BLOCK]
                if block != zeros[: len(block)]:
                    digest.update(((at + inside) // _BLOCK).to_bytes(8, "little"))
                    digest.update(block)
            done += len(data)
            advance(done)
    digest.update(medium.size.to_bytes(8, "little"))
    return digest.hexdigest()
