"""Specimens of a campaign: each built once, kept by its key, and made again when it was thrown away."""

from __future__ import annotations

import os
import shutil
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from sastrugi.campaign.matrix import CellSpecimen
from sastrugi.progress import Progress
from sastrugi.specimen.build import build
from sastrugi.specimen.truth import TRUTH_FILE

try:
    import fcntl
except ImportError:
    fcntl = None  # type: ignore[assignment]


class SpecimenStore:
    """A folder of specimens, which several processes may use at once."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        folder.mkdir(parents=True, exist_ok=True)

    def at(self, wanted: CellSpecimen) -> Path:
        """Where a specimen is, or will be."""
        return wanted.folder or self.folder / wanted.key

    def has(self, wanted: CellSpecimen) -> bool:
        return (self.at(wanted) / TRUTH_FILE).is_file()

    def obtain(self, wanted: CellSpecimen, progress: Progress) -> Path:
        """The specimen's folder; it is built if it is not there, by one process while others wait. Raises
        RecipeError."""
        path = self.at(wanted)
        if self.has(wanted) or wanted.recipe is None:
            return path
        with self._alone(wanted.key):
            if not self.has(wanted):
                if path.exists():  # what a run left that was killed while it threw the specimen away
                    shutil.rmtree(path, ignore_errors=True)
                build(wanted.recipe, path, progress)
        return path

    @contextmanager
    def _alone(self, key: str) -> Iterator[None]:
        handle = os.open(self.folder / f"{key}.lock", os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o644)
        try:
            if fcntl is not None:
                fcntl.flock(handle, fcntl.LOCK_EX)
            yield
        finally:
            os.close(handle)

    def throw_away(self, wanted: CellSpecimen) -> None:
        """Take a specimen of a recipe away: it can be made again."""
        if wanted.recipe is not None:
            shutil.rmtree(self.folder / wanted.key, ignore_errors=True)
            with suppress(OSError):
                (self.folder / f"{wanted.key}.lock").unlink()

    def bytes(self) -> int:
        """What the specimens take on the disk."""
        return sum(path.lstat().st_blocks * 512 for path in self.folder.rglob("*") if path.is_file())
