"""The one interface through which everything reads a medium, whatever container holds it."""

from __future__ import annotations

import errno
from abc import ABC, abstractmethod
from collections.abc import Iterator, Sequence
from pathlib import Path
from threading import RLock
from types import TracebackType

from sastrugi.media.extents import Extent, RangeSet


class Medium(ABC):
    """Read-only bytes of a card, stick or disk. `size` and `sector` are in bytes."""

    path: Path
    size: int
    sector: int = 512

    def __init__(self) -> None:
        self.unreadable = RangeSet()
        """What is known not to be readable; `read` gives zeros for it."""
        self.unread = RangeSet()
        """What of that was asked for, so that a caller can say what is missing."""

        self._noting = RLock()  # threads read side by side

    def _note_unreadable(self, part: Extent) -> None:
        """Note that `part` was asked for and cannot be read."""
        with self._noting:
            self.unreadable.add(part)
            self.unread.add(part)

    def _note_unread(self, offset: int, length: int) -> tuple[Extent, ...]:
        """The parts that are known not to be readable, which are noted as asked for."""
        if not self.unreadable:
            return ()
        with self._noting:
            lost = self.unreadable.overlap(Extent(offset, length))
            for part in lost:
                self.unread.add(part)
        return lost

    def _without_unreadable(self, offset: int, data: bytes) -> bytes:
        """The data with zeros where they are known not to be readable, which is noted."""
        lost = self._note_unread(offset, len(data))
        if not lost:
            return data
        out = bytearray(data)
        for part in lost:
            out[part.offset - offset : part.end - offset] = bytes(part.length)
        return bytes(out)

    def read_or_fail(self, offset: int, length: int) -> bytes:
        """As `read`, but raises OSError (EIO) where any of it cannot be read: for those who try again."""
        if self.unreadable.overlap(Extent(offset, length)):
            raise OSError(errno.EIO, "cannot be read")
        return self.read(offset, length)

    @abstractmethod
    def read(self, offset: int, length: int) -> bytes:
        """The bytes at `offset`; shorter than `length` only where the medium ends; empty outside it."""

    @abstractmethod
    def data_ranges(self, start: int = 0, end: int | None = None) -> Iterator[Extent]:
        """The parts of [start, end) that are not holes, in order. A container without holes yields one extent."""

    def read_into(self, offset: int, buffer: memoryview) -> int:
        """Fill `buffer` from `offset` and answer how many bytes came; what does not come is left as it was."""
        data = self.read(offset, len(buffer))
        buffer[: len(data)] = data
        return len(data)

    def read_extents(self, extents: Sequence[Extent]) -> bytes:
        """The bytes of several extents, one after the other."""
        return b"".join(self.read(offset, length) for offset, length in extents)

    @abstractmethod
    def close(self) -> None:
        """Give back what the medium holds open."""

    def __enter__(self) -> Medium:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.close()
