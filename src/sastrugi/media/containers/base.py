"""What containers share: readers that map places of the medium to places of a file, and writers that go forward."""

from __future__ import annotations

import os
from abc import ABC, abstractmethod
from collections.abc import Iterator
from pathlib import Path
from threading import Lock

from sastrugi.errors import MediumError, system_words
from sastrugi.media.base import Medium
from sastrugi.media.extents import Extent
from sastrugi.media.raw import RawMedium

Piece = tuple[int, "int | bytes | None"]
"""So many bytes of the medium: at a place of the file, given, or (None) all zero."""
_LOOKED_AT_ONCE = 1 << 30
"""Bytes of a container whose pieces are asked for at once, where some of them hold data."""


class MappedMedium(Medium):
    """A medium in a file that keeps it in blocks. A subclass says where each stretch lies."""

    def __init__(self, path: Path) -> None:
        super().__init__()
        self.path = path
        self._file = RawMedium(path)
        self._scratch = bytearray()
        self._lock = Lock()
        try:
            self._open()
        except MediumError:
            self.close()
            raise

    @abstractmethod
    def _open(self) -> None:
        """Read what the file says of itself, and set `size`; raises MediumError for what cannot be read."""

    @abstractmethod
    def _pieces(self, offset: int, length: int) -> Iterator[Piece]:
        """Where [offset, offset+length) of the medium lies, in order and without gaps."""

    def read(self, offset: int, length: int) -> bytes:
        if offset < 0 or offset >= self.size or length <= 0:
            return b""
        length = min(length, self.size - offset)
        pieces = list(self._pieces(offset, length))
        if len(pieces) == 1 and isinstance(pieces[0][1], int):
            return self._without_unreadable(offset, self._file_bytes(pieces[0][1], length))
        with self._lock:  # many small pieces meet in one buffer that is kept, which is far quicker than joining them
            if len(self._scratch) < length:
                self._scratch = bytearray(length)
            view = memoryview(self._scratch)[:length]
            at = 0
            for count, source in pieces:
                if source is None:
                    view[at : at + count] = bytes(count)
                elif isinstance(source, bytes):
                    view[at : at + count] = source
                elif self._file.read_into(source, view[at : at + count]) != count:
                    raise self._short(source + count)
                at += count
            data = bytes(view)
        return self._without_unreadable(offset, data)

    def _file_bytes(self, place: int, count: int) -> bytes:
        data = self._file.read(place, count)
        if len(data) != count:
            raise self._short(place + count)
        return data

    def _short(self, end: int) -> MediumError:
        return MediumError(f"{self.path}: cut short: byte {end - 1:,} of the file is not there")

    def data_ranges(self, start: int = 0, end: int | None = None) -> Iterator[Extent]:
        at = max(start, 0)
        stop = self.size if end is None else min(end, self.size)
        begun: int | None = None
        step = _LOOKED_AT_ONCE
        while at < stop:
            empty = True
            for count, source in self._pieces(at, min(stop - at, step)):
                empty &= source is None
                if source is None and begun is not None:
                    yield Extent(begun, at - begun)
                    begun = None
                elif source is not None and begun is None:
                    begun = at
                at += count
            step = 2 * step if empty else _LOOKED_AT_ONCE  # a container may claim a hole of any size
        if begun is not None:
            yield Extent(begun, stop - begun)

    def close(self) -> None:
        self._file.close()


class ContainerWriter(ABC):
    """Writes a medium into a container, from its start to its end; what is never written reads as zeros.

    After a `checkpoint` another process can go on from there (`resume`), should this one be killed.
    """

    def __init__(self, path: Path, size: int, resume: bool) -> None:
        self.path, self.size = path, size
        try:
            self._fd = os.open(path, os.O_RDWR | (0 if resume else os.O_CREAT | os.O_EXCL), 0o644)
        except OSError as error:
            raise MediumError(f"{path}: cannot be written: {system_words(error)}") from error

    @abstractmethod
    def write(self, offset: int, data: bytes) -> None:
        """Put `data` at `offset`, which is never before what was written last."""

    @abstractmethod
    def finish(self) -> None:
        """Make the container whole and close it."""

    def checkpoint(self) -> None:  # noqa: B027 (a raw image needs nothing)
        """Bring the tables of the file up to date with what was written."""

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
            raise MediumError(f"{self.path}: cannot be written: {system_words(error)}") from error


class RawWriter(ContainerWriter):
    """A raw image with holes."""

    def __init__(self, path: Path, size: int, resume: bool) -> None:
        super().__init__(path, size, resume)
        os.ftruncate(self._fd, size)

    @property
    def handle(self) -> int:
        """The descriptor of the image, for copies that the system does by itself."""
        return self._fd

    def write(self, offset: int, data: bytes) -> None:
        self._put(offset, data)

    def finish(self) -> None:
        self.close()
