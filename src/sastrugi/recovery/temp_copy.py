"""A finding as a temporary file, for decoders that want a path. Made in the child process that reads it."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

from sastrugi.media import FileMap, Medium, open_medium


@dataclass(frozen=True, slots=True)
class TempCopy:
    """Where a file's bytes are on a medium, and its name's end. Can be sent to a child process."""

    medium: Path
    map: FileMap
    suffix: str

    @contextmanager
    def as_file(self, most: int) -> Iterator[Path]:
        """The first `most` bytes as a file that vanishes at the end."""
        medium = _medium(self.medium)
        with tempfile.TemporaryDirectory(prefix="sastrugi-") as folder:
            path = Path(folder) / f"file{self.suffix}"
            with path.open("wb") as file:
                file.writelines(self.map.head(min(most, self.map.reach)).chunks(medium))
            yield path


@lru_cache(1)
def _medium(path: Path) -> Medium:
    return open_medium(path)


def plain_suffix(name: str) -> str:
    """The extension, if it is a plain one: it names a temporary file."""
    suffix = Path(name).suffix
    return suffix if suffix[1:].isascii() and suffix[1:].isalnum() and len(suffix) <= 12 else ""
