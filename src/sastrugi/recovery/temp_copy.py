"""A finding as a temporary file, for decoders that want a path. Made in the child process that reads it."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path

from sastrugi.media import Extent, Medium, open_medium
from sastrugi.media.extents import cut

_CHUNK = 1 << 20


@dataclass(frozen=True, slots=True)
class TempCopy:
    """Where a file's bytes are on a medium, and its name's end. Can be sent to a child process."""

    medium: Path
    extents: tuple[Extent, ...]
    suffix: str

    @contextmanager
    def as_file(self, most: int) -> Iterator[Path]:
        """The first `most` bytes as a file that vanishes at the end."""
        medium = _medium(self.medium)
        with tempfile.TemporaryDirectory(prefix="sastrugi-") as folder:
            path = Path(folder) / f"file{self.suffix}"
            with path.open("wb") as file:
                for offset, length in cut(self.extents, most):
                    for at in range(offset, offset + length, _CHUNK):
                        file.write(medium.read(at, min(_CHUNK, offset + length - at)))
            yield path


@lru_cache(1)
def _medium(path: Path) -> Medium:
    return open_medium(path)


def plain_suffix(name: str) -> str:
    """The extension, if it is a plain one: it names a temporary file."""
    suffix = Path(name).suffix
    return suffix if suffix[1:].isascii() and suffix[1:].isalnum() and len(suffix) <= 12 else ""
