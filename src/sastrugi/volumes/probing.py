"""Which file system is at a place on a medium."""

from __future__ import annotations

from collections.abc import Callable

from sastrugi.media.base import Medium
from sastrugi.media.extents import Extent
from sastrugi.volumes.base import Volume
from sastrugi.volumes.exfat.read import open_exfat
from sastrugi.volumes.fat.read import open_fat

_OPENERS: tuple[Callable[[Medium, Extent], Volume | None], ...] = (open_exfat, open_fat)
"""The readers, one for each family. A new file system is one more."""


def probe(medium: Medium, where: Extent) -> Volume | None:
    """The volume that begins at `where.offset`, if any file system we can read is there."""
    for opener in _OPENERS:
        volume = opener(medium, where)
        if volume is not None:
            return volume
    return None
