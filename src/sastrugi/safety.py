"""Writing without regret: temporary names, renamed when whole; destinations checked before they are used."""

from __future__ import annotations

import os
import shutil
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from sastrugi.errors import DestinationError


@contextmanager
def atomic_file(path: Path) -> Iterator[Path]:
    """A temporary path beside `path`; it becomes `path` when the block ends well and vanishes when it does not."""
    if path.is_dir():
        raise DestinationError(f"{path}: is a folder: name a file")
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        handle, name = tempfile.mkstemp(prefix=f".{path.name[:40]}.", suffix=".partial", dir=path.parent)
    except OSError as error:
        raise DestinationError(f"{path}: cannot be written: {error.strerror}") from error
    os.close(handle)
    temporary = Path(name)
    temporary.chmod(0o644)
    try:
        yield temporary
        temporary.replace(path)
    except OSError as error:
        raise DestinationError(f"{path}: cannot be written: {error.strerror}") from error
    finally:
        with suppress(OSError):
            temporary.unlink(missing_ok=True)


def write_text(path: Path, text: str) -> None:
    with atomic_file(path) as temporary:
        temporary.write_text(text, encoding="utf-8", errors="backslashreplace")


@contextmanager
def new_folder(path: Path, what: str) -> Iterator[Path]:
    """A temporary folder that becomes `path` when the block ends well; `path` must be new or an empty folder."""
    require_empty(path, what)
    path = path if path.name else path.resolve()
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        temporary = Path(tempfile.mkdtemp(prefix=f".{path.name[:40]}.", suffix=".partial", dir=path.parent))
    except OSError as error:
        raise DestinationError(f"{path}: cannot be made: {error.strerror}") from error
    temporary.chmod(0o755)
    try:
        yield temporary
        if path.is_dir():
            path.rmdir()
        temporary.replace(path)
    except OSError as error:
        raise DestinationError(f"{path}: cannot be written: {error.strerror}") from error
    finally:
        if temporary.exists():
            shutil.rmtree(temporary, ignore_errors=True)


def require_empty(path: Path, what: str) -> None:
    """Raise DestinationError unless `path` is new or an empty folder."""
    try:
        if path.is_symlink() or (path.exists() and not path.is_dir()):
            raise DestinationError(f"{path}: is there already and is no folder: name a new folder for the {what}")
        if path.is_dir() and any(path.iterdir()):
            raise DestinationError(f"{path}: the folder is not empty: name a new or empty one for the {what}")
    except OSError as error:
        raise DestinationError(f"{path}: cannot be used: {error.strerror}") from error


def require_outside(destination: Path, guarded: Path, what: str) -> None:
    """Raise DestinationError if `destination` is `guarded`, lies inside it, or stands on the device `guarded` is."""
    target, root = destination.resolve(), guarded.resolve()
    if target == root or root in target.parents:
        raise DestinationError(f"{destination}: is {'' if target == root else 'inside '}{what}: name a place elsewhere")
    if root.is_block_device():
        nearest = next(p for p in (target, *target.parents) if p.exists())
        if nearest.stat().st_dev == root.stat().st_rdev:
            raise DestinationError(f"{destination}: stands on the medium itself: name a place on another device")


def require_not_medium(target: Path, medium: Path) -> None:
    """Raise DestinationError if a file to be written is the medium itself."""
    if target.exists() and medium.exists() and target.samefile(medium):
        raise DestinationError(f"{target}: is the medium itself: name another file")
