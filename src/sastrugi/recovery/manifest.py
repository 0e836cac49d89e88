"""The list of what was written (docs/formats/manifest.md); a line stands in it only when its file is whole."""

from __future__ import annotations

import csv
import io
import os
import re
from collections.abc import Iterable
from pathlib import Path

from sastrugi.errors import DestinationError, system_words
from sastrugi.texts import csv_rows

MANIFEST = "manifest.csv"
_LARGEST, _STEP = 1 << 30, 1 << 16
_NUMBER = re.compile(r"[0-9]{1,18}")
MANIFEST_HEAD = "finding,file,size,"
FIELDS = ("finding", "file", "size", "blake3", "sha256", "confidence", "original_path", "modified", "extents", "note")


class Manifest:
    """The manifest of a destination, open for further lines; `root` is the handle of the folder."""

    def __init__(self, root: int, fresh: bool) -> None:
        flags = os.O_WRONLY | os.O_CREAT | os.O_NOFOLLOW | (os.O_EXCL if fresh else os.O_APPEND)
        handle = os.open(MANIFEST, flags, 0o644, dir_fd=root)
        self._file = os.fdopen(handle, "w" if fresh else "a", encoding="utf-8", newline="")
        self._fresh = fresh

    def __enter__(self) -> Manifest:
        if self._fresh:
            self._put(FIELDS)
        return self

    def __exit__(self, *_: object) -> None:
        self._file.close()

    def add(self, row: dict[str, object]) -> None:
        self._put([row[field] for field in FIELDS])

    def _put(self, values: Iterable[object]) -> None:
        line = io.StringIO()
        csv.writer(line, lineterminator="\n").writerow(values)
        self._file.write(line.getvalue())
        self._file.flush()


def read_manifest(path: Path) -> dict[int, str]:
    """The findings a manifest lists, with their files; a last line that was cut by a kill is taken off."""
    found: dict[int, str] = {}
    try:
        _cut_to_whole_lines(path)
        rows = csv_rows(path, _LARGEST)
        heads = next(rows, [*FIELDS])
        number, name = heads.index("finding"), heads.index("file")
        for row in rows:
            if number < len(row) and _NUMBER.fullmatch(row[number]):
                found[int(row[number])] = row[name] if name < len(row) else ""
    except OSError as error:
        raise DestinationError(f"{path}: cannot be read: {system_words(error)}") from error
    except ValueError as error:
        raise DestinationError(f"{path}: is damaged: {error}") from error
    return found


def _cut_to_whole_lines(path: Path) -> None:
    """Raises DestinationError where it is no manifest."""
    if path.is_symlink() or not path.is_file():
        raise ValueError("it is no file")
    with path.open("rb") as file:
        head = file.read(len(MANIFEST_HEAD)).decode("latin-1")
        if not MANIFEST_HEAD.startswith(head):
            raise DestinationError(f"{path}: is no manifest of this program: name another folder")
        end = size = file.seek(0, os.SEEK_END)
        while end > 0:
            start = max(end - _STEP, 0)
            file.seek(start)
            newline = file.read(end - start).rfind(b"\n")
            if newline >= 0:
                end = start + newline + 1
                break
            end = start
    if end < size:
        os.truncate(path, end)
