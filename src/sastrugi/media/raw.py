"""Raw images (and devices): one file whose bytes are the medium's, with holes where nothing was ever written."""

from __future__ import annotations

import errno
import os
from collections.abc import Callable, Iterator
from pathlib import Path

from sastrugi.errors import MediumError, system_words
from sastrugi.media.base import Medium
from sastrugi.media.extents import Extent
from sastrugi.media.faults import Faults
from sastrugi.units import format_size

WriteObserver = Callable[[int, "bytes | memoryview"], None]
_ZEROS = bytes(1 << 20)


class RawMedium(Medium):
    """A raw image or block device, opened read-only."""

    def __init__(self, path: Path, sector: int = 512) -> None:
        super().__init__()
        self.path = path
        self.sector = sector
        self.faults: Faults | None = None
        try:
            self._fd = os.open(path, self._flags())
            self.size = os.lseek(self._fd, 0, os.SEEK_END)
        except OSError as error:
            raise MediumError(f"{path}: cannot be opened: {system_words(error)}") from error

    @staticmethod
    def _flags() -> int:
        return os.O_RDONLY | getattr(os, "O_BINARY", 0) | getattr(os, "O_CLOEXEC", 0)

    def read(self, offset: int, length: int) -> bytes:
        if offset < 0 or offset >= self.size or length <= 0:
            return b""
        length = min(length, self.size - offset)
        try:
            return self.read_or_fail(offset, length)
        except OSError as error:
            if error.errno != errno.EIO:
                raise MediumError(f"{self.path}: cannot be read any more: {system_words(error)}") from error
        return self._read_what_can_be(offset, length)

    def _read_what_can_be(self, offset: int, length: int) -> bytes:
        """Zeros for the sectors that fail, which are noted; halves of halves lead to them."""
        if length <= self.sector:
            self._note_unreadable(Extent(offset, length))
            return bytes(length)
        half = max(length // 2 // self.sector * self.sector, self.sector - offset % self.sector)
        return self.read(offset, half) + self.read(offset + half, length - half)

    def read_or_fail(self, offset: int, length: int) -> bytes:
        if self.faults is not None:
            self.faults.before_read(offset, length)
        data = os.pread(self._fd, length, offset)
        if len(data) == length:
            return data
        parts = [data]
        have = len(data)
        while data and have < length:  # pread gives at most 2 GiB at once, and less from some devices
            data = os.pread(self._fd, length - have, offset + have)
            parts.append(data)
            have += len(data)
        return b"".join(parts)

    def read_into(self, offset: int, buffer: memoryview) -> int:
        if self.faults is not None:
            return super().read_into(offset, buffer)
        have = 0
        while have < len(buffer) and 0 <= offset + have < self.size:
            try:
                came = os.preadv(self._fd, [buffer[have:]], offset + have)
            except OSError:
                return have + super().read_into(offset + have, buffer[have:])
            if not came:
                break
            have += came
        return have

    def copy_to(self, handle: int, offset: int, length: int) -> bool:
        """Let the system copy a range into a file, to the same place; False where it cannot (all is as it was then)."""
        if self.faults is not None or not hasattr(os, "copy_file_range"):
            return False
        done = 0
        while done < length:
            try:
                came = os.copy_file_range(self._fd, handle, length - done, offset + done, offset + done)
            except OSError:
                return False
            if not came:
                return False
            done += came
        return True

    def data_ranges(self, start: int = 0, end: int | None = None) -> Iterator[Extent]:
        stop = self.size if end is None else min(end, self.size)
        at = max(start, 0)
        while at < stop:
            try:
                first = os.lseek(self._fd, at, os.SEEK_DATA)
                last = os.lseek(self._fd, first, os.SEEK_HOLE)
            except OSError as error:
                if error.errno == errno.ENXIO:  # nothing but hole up to the end
                    return
                first, last = at, stop  # this file system or device does not know holes
            first, last = max(first, at), min(last, stop)
            if first < last:
                yield Extent(first, last - first)
            at = max(last, at + 1)

    def close(self) -> None:
        if self._fd >= 0:
            os.close(self._fd)
            self._fd = -1


class RawImage(RawMedium):
    """A raw image that is being laid down. `observers` see every write before it happens."""

    def __init__(self, path: Path, size: int, sector: int = 512) -> None:
        try:
            with path.open("xb") as file:
                file.truncate(size)
        except FileExistsError as error:
            raise MediumError(f"{path}: is there already: name a new file") from error
        except OSError as error:
            path.unlink(missing_ok=True)
            raise MediumError(
                f"an image of {format_size(size)} cannot be made here ({system_words(error)}): "
                "another disk may hold larger files"
            ) from error
        super().__init__(path, sector)
        self.observers: list[WriteObserver] = []

    @staticmethod
    def _flags() -> int:
        return os.O_RDWR | getattr(os, "O_BINARY", 0) | getattr(os, "O_CLOEXEC", 0)

    def write(self, offset: int, data: bytes | memoryview) -> None:
        """Put `data` at `offset`; raises MediumError outside the medium or when the disk is full."""
        if offset < 0 or offset + len(data) > self.size:
            raise MediumError(f"{self.path}: write of {len(data)} bytes at {offset} is outside the medium")
        for observer in self.observers:
            observer(offset, data)
        view = memoryview(data)
        try:
            while view:
                done = os.pwrite(self._fd, view, offset)
                view = view[done:]
                offset += done
        except OSError as error:
            raise MediumError(f"{self.path}: cannot be written: {system_words(error)}") from error

    def zero(self, offset: int, length: int) -> None:
        """Make a range zero. Holes stay holes: only what holds data is written."""
        for extent in list(self.data_ranges(offset, offset + length)):
            for at in range(extent.offset, extent.end, len(_ZEROS)):
                self.write(at, _ZEROS[: min(len(_ZEROS), extent.end - at)])

    def sync(self) -> None:
        os.fsync(self._fd)
