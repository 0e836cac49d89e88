"""How much an engine has put on the disk, also into files that have no name any more. Source: proc(5)."""

from __future__ import annotations

import contextlib
import os
import stat
import time
from pathlib import Path

_ROOM = 64 << 20
"""Bytes that stay free where the engine writes: below them the disk is full."""


class DiskUse:
    """How much an engine has put where it may write, also into files that have no name any more; looked at as seldom as
    that takes long."""

    def __init__(self, most: int, folders: list[str], handed: int, temporary: int | None) -> None:
        """`most` bytes may be in `folders`, besides the `handed` ones that were there, and in the file system of
        `temporary`, a handle."""
        self._most, self._folders, self._before, self._temporary = most, folders, handed, temporary
        self._there = _held(Path(folders[0]))
        self._next = 0.0

    def problem(self, processes: list[int]) -> str:
        now = time.monotonic()
        if now < self._next:
            return ""
        if self._there is not None:
            space = os.statvfs(self._there)
            if space.f_bavail * space.f_frsize < _ROOM:
                return "disk full"
        full = self._most and self._taken(processes) > self._most
        self._next = time.monotonic() + max(0.25, 10 * (time.monotonic() - now))
        return "disk limit" if full else ""

    def _taken(self, processes: list[int]) -> int:
        total: int = sum(map(_taken, self._folders)) - self._before + _nameless(processes)
        if self._temporary is not None:
            space = os.statvfs(self._temporary)
            total += (space.f_blocks - space.f_bfree) * space.f_frsize
        return total


def _held(folder: Path) -> int | None:
    """A handle on the file system that a folder stands in. An engine may have taken the folder away by now, or have put
    a link in its place, so it is that of the folder above; one that nothing confines may have taken that, too."""
    for above in folder.parents:
        with contextlib.suppress(OSError):
            return os.open(above, os.O_RDONLY | os.O_DIRECTORY)
    return None


def _taken(folder: str) -> int:
    """Bytes on the disk of all files below a folder."""
    total, waiting = 0, [folder]
    while waiting:
        with contextlib.suppress(OSError), os.scandir(waiting.pop()) as entries:
            for entry in entries:
                if entry.is_dir(follow_symlinks=False):
                    waiting.append(entry.path)
                else:
                    with contextlib.suppress(OSError):
                        total += entry.stat(follow_symlinks=False).st_blocks * 512
    return total


def _nameless(processes: list[int]) -> int:
    """Bytes of files that processes hold, and that stand in no folder any more: open ones, and ones in memory."""
    found: dict[tuple[int, int], int] = {}
    for process in processes:
        with contextlib.suppress(OSError), os.scandir(f"/proc/{process}/fd") as entries:
            for entry in entries:
                with contextlib.suppress(OSError):
                    about = entry.stat()
                    if about.st_nlink == 0 and stat.S_ISREG(about.st_mode):
                        found[about.st_dev, about.st_ino] = about.st_blocks * 512
        with contextlib.suppress(OSError, ValueError):
            for line in Path(f"/proc/{process}/maps").read_bytes().splitlines():
                if line.endswith(b" (deleted)"):
                    _note_mapped(line, found)
    return sum(found.values())


def _note_mapped(line: bytes, found: dict[tuple[int, int], int]) -> None:
    span, _, offset, device, inode = line.split()[:5]
    start, end = (int(word, 16) for word in span.split(b"-"))
    major, minor = (int(word, 16) for word in device.split(b":"))
    key = os.makedev(major, minor), int(inode)
    found[key] = max(found.get(key, 0), int(offset, 16) + end - start)
