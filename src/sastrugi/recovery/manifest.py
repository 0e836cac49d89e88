"""The list of what was written (docs/formats/manifest.md); a line stands in it only when its file is whole."""

from __future__ import annotations

import csv
import io
import os
import re
from collections.abc import Iterable
from pathlib import Path

from sastrugi.errors import DestinationError
from sastrugi.texts import read_text

MANIFEST = "manifest.csv"
_LARGEST = 1 << 30
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
    try:
        text = read_text(path, _LARGEST)
    except (OSError, ValueError) as error:
        raise DestinationError(f"{path}: cannot be read: {error}") from error
    whole = text[: text.rfind("\n") + 1]
    if text and not text.startswith(MANIFEST_HEAD[: len(text)]):
        raise DestinationError(f"{path}: is no manifest of this program: name another folder")
    if len(whole) < len(text):
        path.write_text(whole, encoding="utf-8", newline="")
    csv.field_size_limit(_LARGEST)  # the extents of a file in very many pieces
    try:
        rows = list(csv.DictReader(io.StringIO(whole)))
    except csv.Error as error:
        raise DestinationError(f"{path}: is damaged: {error}") from error
    numbers = ((_NUMBER.fullmatch(str(row.get("finding") or "")), row.get("file") or "") for row in rows)
    return {int(found[0]): name for found, name in numbers if found is not None}
