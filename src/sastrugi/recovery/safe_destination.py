"""Writing below a destination and nowhere else: folders are opened one by one, never through a link, and a file gets
its name by a link that fails rather than replace anything."""

from __future__ import annotations

import contextlib
import errno
import os
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import BinaryIO

from sastrugi.errors import DestinationError
from sastrugi.recovery.names import numbered, shortened

_MOST_CLASHES = 1_000_000
_LONGEST = 250
_BLOCK = 1 << 20


class Destination:
    """The folder that files are brought back to; stays the same one if its path is swapped for something else."""

    def __init__(self, path: Path) -> None:
        path.mkdir(parents=True, exist_ok=True)
        self._root = os.open(path, os.O_RDONLY | os.O_DIRECTORY)

    def __enter__(self) -> Destination:
        return self

    def __exit__(self, *_: object) -> None:
        os.close(self._root)

    @property
    def handle(self) -> int:
        """For the `dir_fd` of calls that are about the folder itself."""
        return self._root

    def open_folder(self, parts: Iterable[str]) -> tuple[int, list[str]]:
        """Open (or make) a folder below; a component that is a file or a link is passed by under another name.

        Returns a handle to be closed, and the names used.
        """
        at = os.dup(self._root)
        used: list[str] = []
        try:
            for part in parts:
                below, name = _step(at, shortened(part, 200) if len(part.encode()) > _LONGEST else part)
                os.close(at)
                at = below
                used.append(name)
        except BaseException:
            os.close(at)
            raise
        return at, used


def _step(at: int, part: str) -> tuple[int, str]:
    chosen = part
    for number in range(2, _MOST_CLASHES):
        with contextlib.suppress(FileExistsError):
            os.mkdir(chosen, dir_fd=at)
        try:
            return os.open(chosen, os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW, dir_fd=at), chosen
        except OSError as error:
            if error.errno not in (errno.ENOTDIR, errno.ELOOP):  # a file or a link stands there
                raise
            chosen = numbered(part, number)
    raise DestinationError(f"{part}: no folder of this name can be made")


def give_name(folder: int, temporary: str, names: Iterable[str], ours: Callable[[str], bool]) -> str:
    """Give a written file the first of `names` that is free; answers which, or an empty string if none is.

    A file of that name with the same bytes is taken for the one a killed run left, unless it is `ours`: listed already.
    """
    for name in names:
        try:
            os.link(temporary, name, src_dir_fd=folder, dst_dir_fd=folder, follow_symlinks=False)
        except FileExistsError:
            if ours(name) or not _same(folder, temporary, name):
                continue
        os.unlink(temporary, dir_fd=folder)
        return name
    os.unlink(temporary, dir_fd=folder)
    return ""


def _same(folder: int, one: str, other: str) -> bool:
    """Whether two files are regular ones with the same bytes."""
    try:
        with _opened(folder, one) as a, _opened(folder, other) as b:
            if os.fstat(a.fileno()).st_size != os.fstat(b.fileno()).st_size:
                return False
            while block := a.read(_BLOCK):
                if block != b.read(_BLOCK):
                    return False
            return True
    except OSError:
        return False


def _opened(folder: int, name: str) -> BinaryIO:
    return os.fdopen(os.open(name, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK, dir_fd=folder), "rb")


def counted_names(name: str, count: list[int]) -> Iterable[str]:
    """`A.JPG`, `A (2).JPG`, `A (3).JPG` … from `count` on, which is kept up; raises DestinationError at an absurd
    number."""
    while count[0] < _MOST_CLASHES:
        yield name if count[0] == 1 else numbered(name, count[0])
        count[0] += 1
    raise DestinationError(f"{name}: {_MOST_CLASHES:,} files of this name are there already")
