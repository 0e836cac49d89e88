"""A medium handed out to an engine, as a copy of its own; and what became of it."""

from __future__ import annotations

import errno
import os
import shutil
import stat
import subprocess
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

import numpy as np

from sastrugi.errors import EngineError, MediumError, SpecimenError, system_words
from sastrugi.media import Extent, Medium, RangeSet
from sastrugi.media.device import is_device
from sastrugi.media.faults import FAULTS_SUFFIX
from sastrugi.media.raw import RawMedium
from sastrugi.progress import Progress

try:
    import fcntl
except ImportError:  # a system that has no such thing
    fcntl = None  # type: ignore[assignment]

_FICLONE = 0x40049409
"""ioctl_ficlone(2): the copy shares its blocks with the original until one of them is written."""
_STEP = 4 << 20
_MOST_RANGES = 1000


def hand_out(medium: Medium, target: Path, progress: Progress) -> None:
    """Write a raw image of `medium` that an engine may have; as a clone where the file system there can do that. What
    cannot be read stays so: its list of faults goes along. Raises SpecimenError."""
    progress.start("hand out", medium.size)
    try:
        with target.open("wb") as out:
            if not (isinstance(medium, RawMedium) and _cloned(medium.path, out.fileno())):
                os.truncate(out.fileno(), medium.size)
                for extent in medium.data_ranges():
                    for at in range(extent.offset, extent.end, _STEP):
                        progress.check()
                        data = medium.read(at, min(_STEP, extent.end - at))
                        if np.frombuffer(data, np.uint8).any():
                            os.pwrite(out.fileno(), data, at)
                        progress.at(at)
        faults = medium.path.with_name(medium.path.name + FAULTS_SUFFIX)
        if faults.is_file():
            shutil.copyfile(faults, target.with_name(target.name + FAULTS_SUFFIX))
    except OSError as error:
        raise SpecimenError(f"{target}: the medium cannot be copied there: {system_words(error)}") from error
    progress.finish()


def _cloned(source: Path, target: int) -> bool:
    if fcntl is None:
        return False
    with source.open("rb") as file:
        try:
            fcntl.ioctl(target, _FICLONE, file.fileno())
        except OSError:
            return False
    return True


def changed_ranges(before: Medium, after: Path, progress: Progress) -> list[Extent]:
    """Where a medium that came back differs from what was handed out, in whole sectors; all of it where it is gone. At
    most 1,000 ranges, the last of which reaches to the end of what differs."""
    try:
        now = RawMedium(after, before.sector)
    except MediumError:
        return [Extent(0, before.size)]
    with now:
        return _changed(before, now, progress)


def came_back(image: Path) -> bool:
    """Whether a medium that was handed out is still a file at its place: no link, and nothing that waits."""
    try:
        return not image.parent.is_symlink() and stat.S_ISREG(image.lstat().st_mode)
    except OSError:
        return False


def _changed(before: Medium, now: Medium, progress: Progress) -> list[Extent]:
    found = RangeSet()
    if now.size != before.size and not (is_device(now.path) and now.size > before.size):  # a card may be larger
        found.add(Extent(min(now.size, before.size), abs(now.size - before.size)))
    looked = RangeSet(before.data_ranges())
    for extent in now.data_ranges():
        looked.add(extent)
    progress.start("compare", before.size)
    for extent in looked:
        for at in range(extent.offset, min(extent.end, before.size, now.size), _STEP):
            progress.check()
            length = min(_STEP, extent.end - at)
            then, came = before.read(at, length), now.read(at, length)
            if then != came:
                for part in _differing(then, came, at, before.sector):
                    found.add(part)
            progress.at(at)
    progress.finish()
    for part in before.unreadable:  # nobody knows what stands there
        found.remove(part)
    ranges = list(found)
    if len(ranges) > _MOST_RANGES:
        first, last = ranges[_MOST_RANGES - 1], ranges[-1]
        ranges = [*ranges[: _MOST_RANGES - 1], Extent(first.offset, last.end - first.offset)]
    return ranges


def _differing(then: bytes, came: bytes, at: int, sector: int) -> Iterator[Extent]:
    length = min(len(then), len(came)) // sector * sector
    rows = np.frombuffer(then, np.uint8, length).reshape(-1, sector)
    others = np.frombuffer(came, np.uint8, length).reshape(-1, sector)
    differs = (rows != others).any(axis=1)
    edges = np.flatnonzero(np.diff(np.concatenate(([False], differs, [False])))).reshape(-1, 2)
    for lo, hi in edges.tolist():
        yield Extent(at + lo * sector, (hi - lo) * sector)


@contextmanager
def as_device(image: Path, engine: str) -> Iterator[Path]:
    """A loop device that shows an image and cannot be written. Raises EngineError where there is none to be had."""
    if os.geteuid() != 0:
        raise EngineError(
            f"engine '{engine}' takes devices only, and only root makes them: run this as root, or medium = \"image\""
        )
    try:
        made = subprocess.run(
            ["losetup", "--read-only", "--find", "--show", str(image)],
            capture_output=True,
            text=True,
            timeout=30,
            check=False,
        )
    except (OSError, subprocess.TimeoutExpired) as error:
        raise EngineError(f"engine '{engine}': no loop device can be made here: losetup is missing") from error
    if made.returncode:
        raise EngineError(f"engine '{engine}': no loop device can be made here: {' '.join(made.stderr.split())[:120]}")
    device = Path(made.stdout.strip())
    try:
        yield device
    finally:
        with suppress(OSError, subprocess.TimeoutExpired):
            subprocess.run(["losetup", "--detach", str(device)], capture_output=True, timeout=30, check=False)


def room_at(folder: Path) -> int:
    """Bytes that are free where a folder stands."""
    try:
        space = os.statvfs(folder)
    except OSError as error:
        if error.errno == errno.ENOENT:
            return room_at(folder.parent)
        raise
    return space.f_bavail * space.f_frsize
