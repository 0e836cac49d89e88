"""What containers share: readers that map places of the medium to places of a file, and writers that go forward."""

from __future__ import annotations

import os
from abc import ABC, abstractmethod
from collections.abc import Iterator
from pathlib import Path

from sastrugi.errors import MediumError
from sastrugi.media.base import Medium
from sastrugi.media.extents import Extent
from sastrugi.media.raw import RawMedium

Piece = tuple[int, "int | bytes | None"]
"""So many bytes of the medium: at a place of the file, given, or (None) all zero."""


class MappedMedium(Medium):
    """A medium in a file that keeps it in blocks. A subclass says where each stretch lies."""

    def __init__(self, path: Path) -> None:
        super().__init__()
        self.path = path
        self._file = RawMedium(path)

    @abstractmethod
    def _pieces(self, offset: int, length: int) -> Iterator[Piece]:
        """Where [offset, offset+length) of the medium lies, in order and without gaps."""

    def read(self, offset: int, length: int) -> bytes:
        if offset < 0 or offset >= self.size or length <= 0:
            return b""
        length = min(length, self.size - offset)
        parts: list[bytes] = []
        for count, source in self._pieces(offset, length):
            if source is None:
                parts.append(bytes(count))
            elif isinstance(source, bytes):
                parts.append(source)
            else:
                data = self._file.read(source, count)
                if len(data) != count:
                    raise MediumError(f"{self.path}: cut short: byte {source + len(data):,} of the file is not there")
                parts.append(data)
        return self._without_unreadable(offset, parts[0] if len(parts) == 1 else b"".join(parts))

    def data_ranges(self, start: int = 0, end: int | None = None) -> Iterator[Extent]:
        at = max(start, 0)
        stop = self.size if end is None else min(end, self.size)
        begun: int | None = None
        while at < stop:
            for count, source in self._pieces(at, min(stop - at, 1 << 30)):
                if source is None and begun is not None:
                    yield Extent(begun, at - begun)
                    begun = None
                elif source is not None and begun is None:
                    begun = at
                at += count
        if begun is not None:
            yield Extent(begun, stop - begun)

    def close(self) -> None:
        self._file.close()


class ContainerWriter(ABC):
    """Writes a medium into a container, from its start to its end; what is never written reads as zeros.

    After `checkpoint` the file can be gone on with from the state that it answers, also by another process.
    """

    def __init__(self, path: Path, size: int, resume: bool) -> None:
        self.path, self.size = path, size
        try:
            self._fd = os.open(path, os.O_RDWR | (0 if resume else os.O_CREAT | os.O_EXCL), 0o644)
        except OSError as error:
            raise MediumError(f"{path}: cannot be written: {error.strerror}") from error

    @abstractmethod
    def write(self, offset: int, data: bytes) -> None:
        """Put `data` at `offset`, which is never before what was written last."""

    @abstractmethod
    def finish(self) -> None:
        """Make the container whole and close it."""

    def checkpoint(self) -> None:
        """Bring everything written so far to the disk."""
        os.fsync(self._fd)

    def close(self) -> None:
        if self._fd >= 0:
            os.close(self._fd)
            self._fd = -1

    def _put(self, offset: int, data: bytes | memoryview) -> None:
        view = memoryview(data)
        try:
            while view:
                done = os.pwrite(self._fd, view, offset)
                view, offset = view[done:], offset + done
        except OSError as error:
            raise MediumError(f"{self.path}: cannot be written: {error.strerror}") from error


class RawWriter(ContainerWriter):
    """A raw image with holes."""

    def __init__(self, path: Path, size: int, resume: bool) -> None:
        super().__init__(path, size, resume)
        os.ftruncate(self._fd, size)

    def write(self, offset: int, data: bytes) -> None:
        self._put(offset, data)

    def finish(self) -> None:
        self.checkpoint()
        self.close()
