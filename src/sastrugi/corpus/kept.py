"""Made files, kept for the next time: the same seed gives the same bytes, and reading them takes less than making them.

They are kept in a folder of the user's (`SASTRUGI_KEPT`, else `sastrugi/made` in the user's folder for caches), up to
1 GiB; those that were asked for longest ago go first. Each is named by all that it depends on: what was asked for, the
code that makes it, and the versions of everything that is installed. Each is checked by its digest when it is read.
"""

from __future__ import annotations

import hashlib
import os
import platform
import re
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import suppress
from functools import cache
from pathlib import Path
from typing import NamedTuple

from platformdirs import user_cache_path

VARIABLE = "SASTRUGI_KEPT"
"""The environment variable that names the folder; nothing is kept where it is empty."""
_MOST, _LEFT = 1 << 30, 3 << 28
"""Bytes that are kept, and those that stay when they are more."""
_WORTH, _LARGEST = 0.004, 64 << 20
"""Seconds that making a file takes at least for it to be kept, and bytes that it has at most."""
_SHELF, _KEPT = re.compile("[0-9a-f]{2}"), re.compile(r"[0-9a-f]{62}|\.made-\w+")
"""Names of the folders in it, and of the files in these: kept ones, and those that are being written."""
_DIGEST = hashlib.sha256().digest_size


class _Written:
    """Bytes kept since the folder was last looked through, by this process."""

    since = _MOST


def kept_or_made(kind: str, size: int, seed: str, make: Callable[[], bytes]) -> bytes:
    """The file that `make` gives for a kind, a size and a seed."""
    folder = _folder()
    if folder is None:
        return make()
    path = _path(folder, kind, size, seed)
    with suppress(OSError):
        data = path.read_bytes()
        if hashlib.sha256(data[_DIGEST:]).digest() == data[:_DIGEST]:
            os.utime(path)
            return data[_DIGEST:]
    began = time.perf_counter()
    content = make()
    if time.perf_counter() - began > _WORTH and len(content) <= _LARGEST:
        with suppress(OSError):  # then it is made again
            _keep(folder, path, content)
    return content


def is_kept(kind: str, size: int, seed: str) -> bool:
    """Whether such a file is kept, right or not."""
    folder = _folder()
    return folder is not None and _path(folder, kind, size, seed).exists()


def _path(folder: Path, kind: str, size: int, seed: str) -> Path:
    name = hashlib.sha256("\0".join((_maker(), kind, str(size), seed)).encode()).hexdigest()
    return folder / name[:2] / name[2:]


def _folder() -> Path | None:
    return _folder_for(os.environ.get(VARIABLE), os.environ.get("XDG_CACHE_HOME"), os.environ.get("HOME"))


@cache
def _folder_for(named: str | None, *_told_by: str | None) -> Path | None:
    """The folder while the environment is as it is: a file is asked for within some microseconds."""
    if named is not None:
        return Path(named) if named else None
    try:
        return user_cache_path("sastrugi", appauthor=False) / "made"
    except RuntimeError:  # somebody without a home
        return None


def _keep(folder: Path, path: Path, content: bytes) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    handle, temporary = tempfile.mkstemp(dir=path.parent, prefix=".made-")
    try:
        with os.fdopen(handle, "wb") as file:
            file.write(hashlib.sha256(content).digest() + content)
        Path(temporary).replace(path)
    except BaseException:
        Path(temporary).unlink(missing_ok=True)
        raise
    _Written.since += len(content)
    if _Written.since > _MOST // 8:
        _Written.since = 0
        _make_room(folder)


class KeptFiles(NamedTuple):
    """What is kept: the folder (None where nothing is), how many files, their bytes, and how many there may be."""

    folder: Path | None
    files: int
    size: int
    most: int = _MOST


def kept_files() -> KeptFiles:
    folder = _folder()
    there = list(_there(folder)) if folder is not None else []
    return KeptFiles(folder, len(there), sum(size for _, size, _ in there))


def clear_kept() -> KeptFiles:
    """Take all of it away; answers what was there. Raises OSError where that is not allowed."""
    before = kept_files()
    for _, _, path in list(_there(before.folder)) if before.folder is not None else ():
        Path(path).unlink(missing_ok=True)
        with suppress(OSError):  # another file stands on the same shelf
            Path(path).parent.rmdir()
    return before


def _there(folder: Path) -> Iterator[tuple[float, int, str]]:
    """When each was asked for last, its size, and its path. Whatever else stands in the folder is somebody else's."""
    for shelf in _listed(folder):
        if _SHELF.fullmatch(shelf.name) and shelf.is_dir(follow_symlinks=False):
            for entry in _listed(shelf.path):
                with suppress(OSError):  # another run takes it away
                    if _KEPT.fullmatch(entry.name) and entry.is_file(follow_symlinks=False):
                        about = entry.stat(follow_symlinks=False)
                        yield about.st_mtime, about.st_size, entry.path


def _listed(folder: str | Path) -> list[os.DirEntry[str]]:
    """What stands in a folder; nothing where it cannot be read, or is gone."""
    try:
        return list(os.scandir(folder))
    except OSError:
        return []


def _make_room(folder: Path) -> None:
    """Take away those that were asked for longest ago, once there are too many; and what killed runs left."""
    there = list(_there(folder))
    left = sum(size for _, size, _ in there)
    if left <= _MOST:
        return
    for _, size, path in sorted(there):
        if left <= _LEFT:
            return
        with suppress(OSError):
            Path(path).unlink()
            left -= size


@cache
def _maker() -> str:
    """All that the bytes of a made file depend on beside what was asked for."""
    seen = hashlib.sha256(f"{sys.version} {platform.machine()}".encode())
    package = Path(__file__).parents[1]
    for part in ("kinds", "scenario"):
        for module in sorted((package / part).glob("*.py")):
            seen.update(module.name.encode() + module.read_bytes())
    for place in sys.path:
        with suppress(OSError):
            seen.update("\n".join(sorted(one for one in os.listdir(place) if one.endswith("-info"))).encode())  # noqa: PTH208
    return seen.hexdigest()
