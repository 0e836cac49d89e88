"""Which file system is at a place on a medium."""

from __future__ import annotations

from sastrugi.media.base import Medium
from sastrugi.media.extents import Extent
from sastrugi.volumes.reader import Volume
from sastrugi.volumes.registry import file_systems


def probe(medium: Medium, where: Extent) -> Volume | None:
    """The volume that begins at `where.offset`, if any file system we can read is there: one that can be mounted before
    one of which only a backup tells (an earlier format's may stand still)."""
    spare: Volume | None = None
    for one in file_systems().values():
        volume = one.open(medium, where)
        if volume is not None and volume.mountable:
            return volume
        spare = spare or volume
    return spare
