"""A medium written onto a real device, every byte of it, and read back."""

from __future__ import annotations

import os
import stat
from pathlib import Path

from sastrugi.errors import DestinationError, MediumError, system_words
from sastrugi.media.base import Medium
from sastrugi.media.mounts import mounted_at
from sastrugi.progress import Progress
from sastrugi.units import format_size

_STEP = 4 << 20


def is_device(path: Path) -> bool:
    """Whether there is a block device at `path`."""
    try:
        return stat.S_ISBLK(path.stat().st_mode)
    except OSError:
        return False


def write_device(source: Medium, device: Path, progress: Progress) -> None:
    """Write all of `source` to the start of `device`; holes become zeros, what lies behind stays.

    Raises DestinationError before the first byte if the device is in use, too small, or the source itself; MediumError
    if it does not hold what was written.
    """
    point = mounted_at(device)
    if point:
        raise DestinationError(f"{device}: is mounted at {point}: unmount it before it is written")
    if source.path.exists() and source.path.samefile(device):
        raise DestinationError(f"{device}: is the source itself: name another device")
    try:
        # On Linux O_EXCL on a device means: nobody else may be using it (open(2)).
        handle = os.open(device, os.O_RDWR | os.O_EXCL | getattr(os, "O_CLOEXEC", 0))
    except OSError as error:
        raise DestinationError(f"{device}: cannot be written: {system_words(error)}") from error
    try:
        room = os.lseek(handle, 0, os.SEEK_END)
        if room < source.size:
            raise DestinationError(
                f"{device}: holds {format_size(room)}, the source has {format_size(source.size)}: use a larger device"
            )
        _write(source, handle, progress)
        _compare(source, handle, device, progress)
    except OSError as error:
        raise MediumError(f"{device}: cannot be written any more: {system_words(error)}") from error
    finally:
        os.close(handle)


def _write(source: Medium, handle: int, progress: Progress) -> None:
    progress.start("write", source.size)
    for at in range(0, source.size, _STEP):
        progress.check()
        view = memoryview(source.read(at, _STEP))
        while view:
            done = os.pwrite(handle, view, at)
            view, at = view[done:], at + done
        progress.at(at)
    os.fsync(handle)
    progress.finish()


def _compare(source: Medium, handle: int, device: Path, progress: Progress) -> None:
    progress.start("read back", source.size)
    if hasattr(os, "posix_fadvise"):
        os.posix_fadvise(handle, 0, source.size, os.POSIX_FADV_DONTNEED)
    for at in range(0, source.size, _STEP):
        progress.check()
        wanted = source.read(at, _STEP)
        if os.pread(handle, len(wanted), at) != wanted:
            raise MediumError(f"{device}: does not hold what was written from byte {at:,} on: it is worn, or false")
        progress.at(at)
    progress.finish()
