"""The pass `layout`: which partitions and volumes a medium has, by its table or bare from the first sector."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass

import numpy as np

from sastrugi.media import Extent, Medium, RangeSet
from sastrugi.media.partitions import Partition, read_table
from sastrugi.volumes.metadata_scan import boots_in, data_sectors, heads_of
from sastrugi.volumes.probing import probe
from sastrugi.volumes.reader import Volume
from sastrugi.volumes.registry import FileSystem, file_systems

_SECTOR = 512
_MOST_UNLISTED = 64
_STEP = 4 << 20


@dataclass(frozen=True, slots=True)
class Place:
    """A stretch of the medium where a volume should be; `volume` is None where none can be read."""

    number: int
    where: Extent
    origin: str
    partition: Partition | None
    volume: Volume | None
    listed: bool = True
    """Whether the table lists it, or it has the medium to itself."""

    @property
    def not_mounted(self) -> str:
        """Why no system mounts the volume; empty if one does."""
        if not self.listed:
            return "no partition table lists its volume"
        damaged = self.volume is not None and not self.volume.mountable
        return "no system mounts its volume: what describes it is damaged" if damaged else ""


def find_places(medium: Medium) -> list[Place]:
    """All places in the order they are listed; none on a medium without a table and without a volume."""
    partitions = read_table(medium)
    whole = Extent(0, medium.size)
    if not partitions:
        bare = probe(medium, whole)
        return [Place(1, bare.where, "bare volume from the first sector", None, bare)] if bare else []
    places: list[Place] = []
    known: set[int] = set()
    for part in partitions:
        # Partitions that begin at one place hold one volume, which is read once.
        volume = (
            probe(medium, part.where) if part.where.offset < medium.size and part.where.offset not in known else None
        )
        known.add(part.where.offset)
        places.append(Place(len(places) + 1, part.where, f"partition {part.number} ({part.type_name})", part, volume))
    return places


def outside_of(medium: Medium, places: list[Place]) -> tuple[Extent, ...]:
    """What of the medium no known volume holds: where volumes may be that no table lists."""
    return RangeSet(place.volume.where for place in places if place.volume).gaps(Extent(0, medium.size))


def unlisted_places(medium: Medium, places: list[Place], boots: Iterable[int]) -> list[Place]:
    """Volumes that no table lists, by their boot sectors (or what else they are known by), or copies, at `boots`.

    One that reaches into a known volume is told, too: it may be of an earlier table.
    """
    out: list[Place] = []
    starts = {place.where.offset for place in places if place.volume}
    for at in boots:
        for start, is_copy, family in _starts(medium, at):
            if start in starts:
                break  # it is of a volume that is known
            if start < 0 or _inside(start, out):
                continue
            volume = family.open(medium, Extent(start, medium.size - start))
            if volume is None and is_copy:  # which may be the last sector of its volume
                volume = family.open(medium, Extent(start, at + _SECTOR - start))
            if volume is not None and volume.where.end <= medium.size + medium.sector:
                starts.add(start)
                number = len(places) + len(out) + 1
                origin = f"in no table, by its {'backup ' if is_copy else ''}boot sector"
                out.append(Place(number, volume.where, origin, None, volume, listed=False))
                break
        if len(out) >= _MOST_UNLISTED:
            break
    return out


def _starts(medium: Medium, at: int) -> list[tuple[int, bool, FileSystem]]:
    """Where the volume may begin that the sector at `at` is of, the nearest first; whether the sector is a copy then,
    and of which file system."""
    sector = np.frombuffer(medium.read(at, _SECTOR).ljust(_SECTOR, b"\0"), "u1").reshape(1, _SECTOR)
    found = [
        (start, is_copy, one)
        for one in file_systems().values()
        if one.boot.test(sector, heads_of(sector))[0]
        for start, is_copy in one.boot.starts(medium, at)
    ]
    return sorted(found, key=lambda start: at - start[0])


def _inside(start: int, places: list[Place]) -> bool:
    return any(place.where.offset <= start < place.where.end for place in places)


def boot_sectors(medium: Medium, ranges: Iterable[Extent]) -> Iterator[int]:
    """Where sectors stand by which volumes may be known, in order."""
    for extent in data_sectors(medium, ranges):
        for at in range(extent.offset, extent.end, _STEP):
            data = medium.read(at, min(_STEP, extent.end - at))
            sectors = np.frombuffer(data, "u1", len(data) // _SECTOR * _SECTOR).reshape(-1, _SECTOR)
            for n in np.flatnonzero(boots_in(sectors, heads_of(sectors))).tolist():
                yield at + n * _SECTOR


def missing_bytes(medium: Medium, places: list[Place]) -> int:
    """How many bytes the medium would need more to hold all that its table and volumes speak of."""
    ends = [place.where.end for place in places] + [place.volume.where.end for place in places if place.volume]
    return max([end - medium.size for end in ends], default=0)
