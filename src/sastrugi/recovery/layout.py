"""The pass `layout`: which partitions and volumes a medium has, by its table or bare from the first sector."""

from __future__ import annotations

from dataclasses import dataclass

from sastrugi.media import Extent, Medium
from sastrugi.media.partitions import Partition, read_table
from sastrugi.volumes.base import Volume, probe


@dataclass(frozen=True, slots=True)
class Place:
    """A stretch of the medium where a volume should be; `volume` is None where none can be read."""

    number: int
    where: Extent
    origin: str
    partition: Partition | None
    volume: Volume | None


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


def missing_bytes(medium: Medium, places: list[Place]) -> int:
    """How many bytes the medium would need more to hold all that its table and volumes speak of."""
    ends = [place.where.end for place in places] + [place.volume.where.end for place in places if place.volume]
    return max([end - medium.size for end in ends], default=0)
