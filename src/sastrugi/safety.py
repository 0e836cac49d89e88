"""Writing without regret: temporary names, renamed when whole; destinations checked before they are used."""

from __future__ import annotations

import glob
import logging
import os
import re
import shutil
import stat
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from sastrugi.errors import DestinationError, SastrugiError, system_words
from sastrugi.units import printable

_SUFFIX = ".partial"
_OR_REPLACE = ", or add --replace"
_WAIT = 1.0
"""Seconds that a run waits for others that make or clear temporary names in its folder, which takes milliseconds."""
_LEFT = re.compile(r"[a-z0-9_]{8}\.partial")
"""What `tempfile` puts behind the prefix."""
_TEMPORARY = re.compile(rf"\..*\.{_LEFT.pattern}")


_log = logging.getLogger(__name__)


@contextmanager
def atomic_file(path: Path) -> Iterator[Path]:
    """A temporary path beside `path`; it becomes `path` when the block ends well and vanishes when it does not."""
    if path.is_dir():
        raise DestinationError(f"{path}: is a folder: name a file")
    try:
        temporary, in_use = _temporary(path, _new_file)
    except OSError as error:
        raise DestinationError(f"{path}: cannot be written: {system_words(error)}") from error
    try:
        with _told_as(path, temporary):
            temporary.chmod(0o644)
            yield temporary
            temporary.replace(path)
    finally:
        os.close(in_use)
        with suppress(OSError):
            temporary.unlink(missing_ok=True)


@contextmanager
def _told_as(path: Path, temporary: Path) -> Iterator[None]:
    """Errors inside speak of the path that the user gave, not of the one that is worked on."""
    try:
        yield
    except OSError as error:
        raise DestinationError(f"{path}: cannot be written: {system_words(error)}") from error
    except SastrugiError as error:
        error.args = tuple(str(one).replace(str(temporary), str(path)) for one in error.args)
        raise


def _temporary(path: Path, make: Callable[[Path], str]) -> tuple[Path, int]:
    """A new temporary name beside `path`, and a handle whose lock tells others that its process lives. What killed runs
    left there goes first."""
    path.parent.mkdir(parents=True, exist_ok=True)
    with _alone_in(path.parent) as alone:  # so that nobody sees the new name before it is locked
        if alone:
            _clear_leftovers(path)
        temporary = Path(make(path))
        handle = os.open(temporary, os.O_RDONLY)
        _lock(handle)
    return temporary, handle


def _new_file(path: Path) -> str:
    handle, name = tempfile.mkstemp(prefix=_prefix(path), suffix=_SUFFIX, dir=path.parent)
    os.close(handle)
    return name


def _new_folder(path: Path) -> str:
    return tempfile.mkdtemp(prefix=_prefix(path), suffix=_SUFFIX, dir=path.parent)


@contextmanager
def _alone_in(folder: Path) -> Iterator[bool]:
    """Whether other runs are kept, meanwhile, from making and clearing temporary names in a folder."""
    if _TEMPORARY.fullmatch(folder.name):  # which is this run's own, and locked for as long as it lives
        yield False
        return
    try:
        handle = os.open(folder, os.O_RDONLY)
    except OSError:  # a folder that may be written, not read
        yield False
        return
    try:
        until = time.monotonic() + _WAIT
        while not (alone := _lock(handle)) and time.monotonic() < until:
            time.sleep(0.01)
        yield alone
    finally:
        os.close(handle)


def _lock(handle: int) -> bool:
    """Whether the lock could be had; also yes where the system has none."""
    try:
        import fcntl
    except ImportError:
        return True
    try:
        fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        return False
    except OSError:  # a file system without locks
        pass
    return True


def _prefix(path: Path) -> str:
    return f".{path.name[:40]}."


def _clear_leftovers(path: Path) -> None:
    """Take away what runs that were killed left of this target, and say so. What another process works on stays."""
    for old in path.parent.glob(f"{glob.escape(_prefix(path))}*{_SUFFIX}"):
        with suppress(OSError):
            if old.is_symlink() or not _LEFT.fullmatch(old.name.removeprefix(_prefix(path))):
                continue
            handle = os.open(old, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK)
            try:
                if not _lock(handle):
                    continue
                remove_tree(old) if old.is_dir() else old.unlink()
                _log.warning("%s: what a killed run left is cleared away", printable(str(path)))
            finally:
                os.close(handle)


def write_text(path: Path, text: str) -> None:
    with atomic_file(path) as temporary:
        temporary.write_text(text, encoding="utf-8", errors="backslashreplace")


@contextmanager
def new_folder(
    path: Path, what: str, marker: str = "", replace: bool = False, own: Callable[[str], bool] = lambda _: False
) -> Iterator[Path]:
    """A temporary folder that becomes `path` when the block ends well; `path` must be new, an empty folder, or (with
    `replace`) one like it (see require_replaceable): then that goes when the new one is whole."""
    if replace:
        require_replaceable(path, marker, f"a {what}", own)
    else:
        require_empty(path, what, _OR_REPLACE if marker else "")
    path = path if path.name else path.resolve()
    try:
        temporary, in_use = _temporary(path, _new_folder)
    except OSError as error:
        raise DestinationError(f"{path}: cannot be made: {system_words(error)}") from error
    try:
        with _told_as(path, temporary):
            temporary.chmod(0o755)
            yield temporary
            old = temporary.with_suffix(".old")
            if path.is_dir() and any(path.iterdir()):
                path.replace(old)  # what was there goes when the new one stands in its place
            elif path.is_dir():
                path.rmdir()
            temporary.replace(path)
            _remove_if_there(old)
    finally:
        os.close(in_use)
        _remove_if_there(temporary)


def require_empty(path: Path, what: str, hint: str = _OR_REPLACE) -> None:
    """Raise DestinationError unless `path` is new or an empty folder; `hint` says what else could be done."""
    try:
        if path.is_symlink() or (path.exists() and not path.is_dir()):
            raise DestinationError(f"{path}: is there already and is no folder: name a new folder for the {what}")
        if path.is_dir() and any(path.iterdir()):
            raise DestinationError(f"{path}: the folder is not empty: name a new or empty one for the {what}{hint}")
    except OSError as error:
        raise DestinationError(f"{path}: cannot be used: {system_words(error)}") from error


def _files_below(path: Path) -> Iterator[str]:
    """Everything below a folder that is no folder, by its path from there."""
    for entry in entries_below(path):
        if not entry.is_dir(follow_symlinks=False):
            yield Path(entry.path).relative_to(path).as_posix()


def entries_below(folder: Path) -> Iterator[os.DirEntry[str]]:
    """Everything below a folder, however deep, each folder before what is in it. Links are not followed; folders that
    cannot be read, or whose path is longer than the system takes, are left out."""
    waiting = [str(folder)]
    while waiting:
        try:
            with os.scandir(waiting.pop()) as entries:
                found = list(entries)
        except OSError:
            continue
        yield from found
        waiting += [entry.path for entry in found if entry.is_dir(follow_symlinks=False)]


def remove_tree(folder: Path) -> None:
    """Take away a folder with all that is in it, of any depth and with any names and permissions. Each folder in it is
    first moved up to the top, so that no path grows long and few are open. Raises OSError."""
    if os.listdir not in os.supports_fd:  # a system without such calls
        shutil.rmtree(folder)
        return
    folder.chmod(0o700)
    top = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW)
    number = 0
    try:
        while names := os.listdir(top):  # noqa: PTH208
            for name in names:
                if not _is_folder(name, top):
                    os.unlink(name, dir_fd=top)
                    continue
                os.chmod(name, 0o700, dir_fd=top)
                inner = os.open(name, os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW, dir_fd=top)
                try:
                    for one in os.listdir(inner):  # noqa: PTH208
                        if not _is_folder(one, inner):
                            os.unlink(one, dir_fd=inner)
                            continue
                        os.chmod(one, 0o700, dir_fd=inner)  # its '..' changes
                        while _is_there(above := f"{number:x}", top):
                            number += 1
                        os.rename(one, above, src_dir_fd=inner, dst_dir_fd=top)
                finally:
                    os.close(inner)
                os.rmdir(name, dir_fd=top)
    finally:
        os.close(top)
    folder.rmdir()


def _remove_if_there(folder: Path) -> None:
    if folder.exists():
        with suppress(OSError):
            remove_tree(folder)


def _is_folder(name: str, above: int) -> bool:
    return stat.S_ISDIR(os.stat(name, dir_fd=above, follow_symlinks=False).st_mode)


def _is_there(name: str, above: int) -> bool:
    try:
        os.stat(name, dir_fd=above, follow_symlinks=False)
    except FileNotFoundError:
        return False
    return True


def require_replaceable(path: Path, marker: str, what: str, own: Callable[[str], bool]) -> None:
    """Raise DestinationError where something stands at `path` that is not what the same command made: a folder that
    holds `marker`, and in it nothing that `own` does not name. A new or an empty folder is always good."""
    if path.is_dir() and not path.is_symlink():
        if not any(path.iterdir()):
            return
        strange = next((name for name in _files_below(path) if not own(name)), None)
        if strange is not None and (path / marker).is_file():
            raise DestinationError(f"{path}: holds {strange}, which is not of {what}: --replace replaces nothing else")
        if strange is None and (path / marker).is_file():
            return
    if path.is_symlink() or path.exists():
        raise DestinationError(f"{path}: is not {what}: --replace replaces nothing else, name another folder")


def clear_folder(path: Path) -> None:
    """Take away a folder that may be replaced (see require_replaceable)."""
    if path.exists():
        try:
            remove_tree(path)
        except OSError as error:
            raise DestinationError(f"{path}: cannot be replaced: {system_words(error)}") from error


def require_not_holding(folder: Path, guarded: Path, what: str) -> None:
    """Raise DestinationError if a folder that is to be replaced holds what is still needed."""
    if folder.resolve() in guarded.resolve().parents:
        raise DestinationError(f"{folder}: holds {what}: name a place elsewhere")


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
