"""Split raw images: `name.001`, `name.002` and so on, one after the other."""

from __future__ import annotations

import os
import re
from collections.abc import Iterator
from pathlib import Path

from sastrugi.errors import MediumError
from sastrugi.media.base import Medium
from sastrugi.media.containers.base import ContainerWriter
from sastrugi.media.extents import Extent
from sastrugi.media.raw import RawMedium

_NUMBERED = re.compile(r"(.*)\.(\d{3})")
_DEFAULT_PART = 2 << 30
_SECTORS = 4096
_MOST_PARTS = 999


def is_split(path: Path) -> bool:
    """Whether the name is that of a part of a split image and there are other parts, or it is the first."""
    found = _NUMBERED.fullmatch(path.name)
    return bool(found) and (int(found[2]) == 1 or path.with_name(f"{found[1]}.001").exists()) if found else False


class SplitMedium(Medium):
    """A split raw image, opened by any of its parts."""

    def __init__(self, path: Path) -> None:
        super().__init__()
        found = _NUMBERED.fullmatch(path.name)
        if found is None:
            raise MediumError(f"{path}: is no part of a split image: its name ends in .001, .002 …")
        stem = found[1]
        numbers = sorted(
            int(other[2])
            for file in path.resolve().parent.iterdir()
            if (other := _NUMBERED.fullmatch(file.name)) and other[1] == stem
        )
        missing = [n for n in range(1, numbers[-1] + 1) if n not in numbers]
        if missing:
            raise MediumError(f"{path}: part {stem}.{missing[0]:03d} is missing")
        self.path = path
        self._parts = [RawMedium(path.with_name(f"{stem}.{n:03d}")) for n in numbers]
        self._starts: list[int] = []
        at = 0
        for part in self._parts:
            self._starts.append(at)
            at += part.size
        self.size = at
        for part in self._parts[:-1]:
            if part.size != self._parts[0].size:
                self.close()
                raise MediumError(
                    f"{part.path}: has {part.size:,} bytes, the first part {self._parts[0].size:,}: "
                    "cut short, or not of this image"
                )

    def _within(self, offset: int, length: int) -> Iterator[tuple[RawMedium, int, int]]:
        """Part, offset in it and length, for each part that the range touches."""
        for part, start in zip(self._parts, self._starts, strict=True):
            lo, hi = max(offset, start), min(offset + length, start + part.size)
            if lo < hi:
                yield part, lo - start, hi - lo

    def read(self, offset: int, length: int) -> bytes:
        if offset < 0 or length <= 0:
            return b""
        data = b"".join(part.read(at, count) for part, at, count in self._within(offset, length))
        return self._without_unreadable(offset, data)

    def data_ranges(self, start: int = 0, end: int | None = None) -> Iterator[Extent]:
        stop = self.size if end is None else min(end, self.size)
        held: Extent | None = None
        for part, begin in zip(self._parts, self._starts, strict=True):
            for extent in part.data_ranges(max(start - begin, 0), min(stop - begin, part.size)):
                whole = Extent(begin + extent.offset, extent.length)
                if held is not None and held.end == whole.offset:
                    held = Extent(held.offset, held.length + whole.length)
                    continue
                if held is not None:
                    yield held
                held = whole
        if held is not None:
            yield held

    def close(self) -> None:
        for part in self._parts:
            part.close()


class SplitWriter(ContainerWriter):
    """Writes `path` (its name ends in .001) and the parts that follow, `part_size` bytes each."""

    def __init__(self, path: Path, size: int, resume: bool, part_size: int = 0) -> None:
        if path.suffix != ".001":
            raise MediumError(f"{path}: the first part of a split image is called …001: name it so")
        # Whole sectors, whatever their size: 700 MB are no whole number of them.
        self._part_size = (part_size or _DEFAULT_PART) // _SECTORS * _SECTORS
        if not self._part_size or -(-size // self._part_size) > _MOST_PARTS:
            raise MediumError(f"parts of {part_size:,} bytes are too small: there are {_MOST_PARTS} parts at most")
        count = -(-size // self._part_size)
        super().__init__(path, size, resume)
        os.ftruncate(self._fd, min(self._part_size, size))
        self._fds = [self._fd]
        for n in range(1, count):
            part = path.with_name(f"{path.name[:-3]}{n + 1:03d}")
            self._fds.append(os.open(part, os.O_RDWR | (0 if resume else os.O_CREAT | os.O_EXCL), 0o644))
            os.ftruncate(self._fds[-1], min(self._part_size, size - n * self._part_size))

    def write(self, offset: int, data: bytes) -> None:
        view = memoryview(data)
        while view:
            number, at = divmod(offset, self._part_size)
            part = view[: self._part_size - at]
            self._fd = self._fds[number]
            self._put(at, part)
            offset, view = offset + len(part), view[len(part) :]

    def finish(self) -> None:
        self.close()

    def close(self) -> None:
        for fd in self._fds:
            os.close(fd)
        self._fds = []
        self._fd = -1
