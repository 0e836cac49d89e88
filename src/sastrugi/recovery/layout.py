"""The pass `layout`: which partitions and volumes a medium has, by its table or bare from the first sector."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from sastrugi.media import Extent, Medium, RangeSet
from sastrugi.media.partitions import Partition, read_table
from sastrugi.volumes.base import Volume
from sastrugi.volumes.probing import probe
from sastrugi.volumes.relics import sweep

_SECTOR = 512
_BACKUPS = (0, 6, 12)
"""Sectors behind the boot sector at which FAT32 and exFAT keep a copy of it."""
_MOST_UNLISTED = 64


@dataclass(frozen=True, slots=True)
class Place:
    """A stretch of the medium where a volume should be; `volume` is None where none can be read."""

    number: int
    where: Extent
    origin: str
    partition: Partition | None
    volume: Volume | None
    listed: bool = True
    """Whether the table lists it, or it has the medium to itself: a system would mount it."""


def find_places(medium: Medium) -> list[Place]:
    """All places in the order they are listed; none on a medium without a table and without a volume."""
    partitions = read_table(medium)
    whole = Extent(0, medium.size)
    if not partitions:
        bare = probe(medium, whole)
        return [Place(1, bare.where, "bare volume from the first sector", None, bare)] if bare else []
    places: list[Place] = []
    for part in partitions:
        volume = probe(medium, part.where) if part.where.offset < medium.size else None
        places.append(Place(len(places) + 1, part.where, f"partition {part.number} ({part.type_name})", part, volume))
    return places


def unlisted_places(medium: Medium, places: list[Place]) -> list[Place]:
    """Volumes that no table lists, by boot sectors (or backups of them) outside of the volumes that are known.

    One that reaches into a known volume is told, too: it may be of an earlier table.
    """
    known = RangeSet(place.volume.where for place in places if place.volume)
    out: list[Place] = []
    starts = {place.where.offset for place in places if place.volume}
    for gap in known.gaps(Extent(0, medium.size)):
        for at, data in sweep(medium, [gap]):
            for sector in _boot_sectors(data):
                for back in _BACKUPS:
                    start = at + sector * _SECTOR - back * medium.sector
                    if start in starts or start < 0 or _inside(start, out):
                        continue
                    volume = probe(medium, Extent(start, medium.size - start))
                    if volume is not None and volume.where.end <= medium.size + medium.sector:
                        starts.add(start)
                        number = len(places) + len(out) + 1
                        origin = f"in no table, by its {'backup ' if back else ''}boot sector"
                        out.append(Place(number, volume.where, origin, None, volume, listed=False))
                        break
        if len(out) >= _MOST_UNLISTED:
            break
    return out


def _inside(start: int, places: list[Place]) -> bool:
    return any(place.where.offset <= start < place.where.end for place in places)


def _boot_sectors(data: bytes) -> list[int]:
    """Sectors that end as a boot sector does and begin with a jump."""
    sectors = np.frombuffer(data, "u1", len(data) // _SECTOR * _SECTOR).reshape(-1, _SECTOR)
    marked = (sectors[:, 510] == 0x55) & (sectors[:, 511] == 0xAA)
    marked &= (sectors[:, 0] == 0xEB) | (sectors[:, 0] == 0xE9)
    return [int(n) for n in np.flatnonzero(marked)]


def missing_bytes(medium: Medium, places: list[Place]) -> int:
    """How many bytes the medium would need more to hold all that its table and volumes speak of."""
    ends = [place.where.end for place in places] + [place.volume.where.end for place in places if place.volume]
    return max([end - medium.size for end in ends], default=0)
