"""Harm to a medium that no driver is asked for: written over, wiped, damaged, unreadable."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any

from sastrugi.errors import SpecimenError
from sastrugi.media import Extent, RangeSet
from sastrugi.specimen.laid_files import LaidFile, Slot
from sastrugi.specimen.truth import End
from sastrugi.units import format_size
from sastrugi.volumes.writer import VolumeWriter

if TYPE_CHECKING:
    from sastrugi.specimen.builder import SpecimenBuilder

_AT_ONCE = 1 << 20


def strike(
    builder: SpecimenBuilder, ranges: Sequence[Extent], end: End, write: Callable[[Extent], None], writer: str
) -> None:
    """Write over ranges of the medium without asking any driver; whatever a driver could then no longer give ends.

    A volume whose own structures are hit can only be formatted again.
    """
    hit = RangeSet(ranges)
    for place in builder.places.values():
        if place.listed and hit.overlap(Extent(0, builder.image.sector)):
            builder.end_life(place, end)
            place.listed, place.trouble = False, "the partition table is gone"
        elif place.writer is not None and hit.overlap(place.where):
            _strike_volume(builder, place, place.writer, hit, end)
    with builder.acting(writer):
        for extent in hit:
            write(extent)


def _strike_volume(builder: SpecimenBuilder, place: Slot, volume: VolumeWriter[Any], hit: RangeSet, end: End) -> None:
    if not place.trouble:
        volume.flush()
    structures = volume.structures()
    struck = {name for name, parts in structures.items() if any(hit.overlap(part) for part in parts)}
    if struck & volume.fatal_structures:
        builder.end_life(place, end)
        place.trouble = f"its {' and '.join(sorted(struck))} was written over"
        return
    lost: list[LaidFile] = []
    for one in builder.standing(place):
        own = [*volume.needs(one.node), *volume.extents(one.node)]
        for folder in builder.above(one.node):
            own += volume.needs(folder.node)
        if any(hit.overlap(extent) for extent in own):
            lost.append(one)
    together = Counter(one.map for one in lost)
    for one in lost:
        stands = one.map.stored and volume.names_of(one.node) > together[one.map]
        builder.ended(one, volume.evidence(one.node), "unlinked" if stands else end)
    if not place.trouble:
        builder.watch_names(place)
    damaged = struck - volume.spare_structures
    if damaged or any(one.folder for one in lost):
        place.trouble = f"its {' and '.join(sorted(damaged)) or 'folders'} were written over"


@contextmanager
def discarding(builder: SpecimenBuilder, place: Slot, asked: bool = True) -> Iterator[None]:
    """What a volume gives up in this block is discarded at its end, if that is `asked` for: the medium forgets it, and
    it reads as zeros."""
    writer = place.writer
    assert writer is not None
    free = RangeSet(writer.free_extents()) if asked else RangeSet()
    yield
    if asked:
        writer.flush()
        discard(builder, place, [part for extent in writer.free_extents() for part in free.gaps(extent)])


def discard(builder: SpecimenBuilder, place: Slot, extents: Iterable[Extent]) -> None:
    """The medium forgets free parts of a volume."""
    with builder.acting(f"the discard of step {builder.step}"):
        for extent in extents:
            builder.image.zero(*extent)
    builder.mirror.discard(place)


def filling(builder: SpecimenBuilder, how: str) -> Callable[[Extent], None]:
    """What `strike` writes: zeros (holes stay holes), or noise."""
    if how == "zeros":
        return lambda extent: builder.image.zero(*extent)
    dice = builder.dice(f"noise {builder.step}")

    def noise(extent: Extent) -> None:
        for at in range(extent.offset, extent.end, _AT_ONCE):
            builder.image.write(at, dice.noise(min(_AT_ONCE, extent.end - at)))
            builder.progress.check()

    return noise


def range_on(builder: SpecimenBuilder, start: int, size: int | str, volume: str | None) -> Extent:
    """A stretch of a volume, or of the medium; raises SpecimenError if it reaches beyond."""
    where = builder.place(volume).where if volume else Extent(0, builder.image.size)
    length = where.length - start if isinstance(size, str) else size
    if length <= 0 or start + length > where.length:
        what = f"volume '{volume}'" if volume else "the medium"
        raise SpecimenError(
            f"{format_size(max(length, 0))} from {format_size(start)} on reach beyond {what} "
            f"of {format_size(where.length)}"
        )
    return Extent(where.offset + start, length)
