"""Steps that lay out a medium: partition tables and formats."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Literal

from pydantic import Field

from sastrugi.errors import SpecimenError
from sastrugi.media import Extent
from sastrugi.media.partitions import taken_by
from sastrugi.specimen.builder import WHOLE_MEDIUM
from sastrugi.specimen.harm import discard
from sastrugi.specimen.laid_files import Slot
from sastrugi.specimen.recipe_types import ActsAs, Size, SizeOrRest, StepTable, Table
from sastrugi.units import format_size
from sastrugi.volumes.registry import variant_names

if TYPE_CHECKING:
    from sastrugi.specimen.builder import SpecimenBuilder

_FIRST_START = 1 << 20
if TYPE_CHECKING:
    FileSystemName = str
else:
    FileSystemName = Literal[variant_names()]


class VolumePlace(Table):
    """One partition: its name in the recipe, where it starts and how long it is ('rest' for all that is left)."""

    name: Annotated[str, Field(min_length=1, max_length=36)]
    start: Size | None = None
    size: SizeOrRest = "rest"
    logical: bool = False


class PartitionStep(StepTable):
    """A new partition table. Volumes that it does not list at their old place are lost; their bytes stay."""

    do: Literal["partition"]
    table: Literal["mbr", "gpt", "apm"] = "mbr"
    volumes: Annotated[list[VolumePlace], Field(min_length=1, max_length=128)]

    def carry_out(self, builder: SpecimenBuilder) -> None:
        wanted = self._places(builder)
        kept = {
            place.name
            for place in builder.places.values()
            if any(place.name == name and place.where == where for name, where, _ in wanted)
        }
        for place in builder.places.values():
            if place.name not in kept:
                builder.end_life(place, "dropped")
                place.listed, place.trouble = False, "its partition is gone"
        builder.clear_table()
        builder.scheme = self.table
        for name, where, logical in wanted:
            if name in kept:
                builder.places[name].listed = True
                continue
            before = builder.places.get(name)
            builder.places[name] = Slot(name, where, True, logical, lives=before.lives if before else [])
        builder.write_table()

    def _places(self, builder: SpecimenBuilder) -> list[tuple[str, Extent, bool]]:
        """Name, extent and whether logical of each volume; raises SpecimenError where they cannot lie so."""
        image = builder.image
        end = taken_by(self.table, image.size, image.sector)[1].offset
        at = _FIRST_START if image.size > 2 * _FIRST_START else image.sector * 64
        out: list[tuple[str, Extent, bool]] = []
        for place in self.volumes:
            start = place.start
            if start is None:
                start = at + (_FIRST_START if place.logical else 0)
            size = (end - start) // image.sector * image.sector if isinstance(place.size, str) else place.size
            if start % image.sector or size % image.sector:
                raise SpecimenError(
                    f"volume '{place.name}': start and size must be whole sectors of {image.sector} bytes"
                )
            if start < image.sector or size <= 0 or start + size > image.size:
                raise SpecimenError(
                    f"volume '{place.name}': {format_size(max(size, 0))} from {format_size(start)} on do not fit "
                    f"on a medium of {format_size(image.size)}"
                )
            where = Extent(start, size)
            for other, taken, _ in out:
                if taken.offset < where.end and where.offset < taken.end:
                    raise SpecimenError(
                        f"volume '{place.name}' overlaps '{other}', which lies from {format_size(taken.offset)} "
                        f"to {format_size(taken.end)}"
                    )
                if other == place.name:
                    raise SpecimenError(f"two volumes are called '{place.name}'")
            out.append((place.name, where, place.logical))
            at = where.end
        return out


class DropPartitionStep(StepTable):
    """Take one partition, or all of them, out of the table. What is on the volume stays."""

    do: Literal["drop-partition"]
    volume: str | Literal["all"] | None = None

    def carry_out(self, builder: SpecimenBuilder) -> None:
        chosen = list(builder.places.values()) if self.volume == "all" else [builder.place(self.volume)]
        chosen = [place for place in chosen if place.listed]
        if not chosen:
            raise SpecimenError("no partition table lists it: there is nothing to drop")
        for place in chosen:
            builder.end_life(place, "dropped")
            place.listed, place.trouble = False, "its partition was dropped"
        builder.write_table()


class FormatStep(StepTable):
    """Format a volume, for the first time or again. Without `cluster`, the size that is usual. With `discard`, what the
    new volume does not use reads as zeros afterwards, as tools leave solid-state media that they format."""

    do: Literal["format"]
    file_system: FileSystemName | None = None
    cluster: Size | None = None
    label: str = ""
    how: Literal["quick", "full"] = "quick"
    acts_as: ActsAs = "linux"
    discard: bool = False

    def carry_out(self, builder: SpecimenBuilder) -> None:
        if not builder.places or (
            self.volume == WHOLE_MEDIUM and (builder.scheme or WHOLE_MEDIUM not in builder.places)
        ):
            self._take_the_medium(builder)
        place = builder.place(self.volume)
        if place.where.offset and not place.listed:
            raise SpecimenError(f"volume '{place.name}' cannot be formatted: no partition table lists it any more")
        file_system = self.file_system or (place.life.file_system if place.lives else None)
        if file_system is None:
            raise SpecimenError("'file_system' is missing: the first format of a volume must say which")
        builder.format(place, file_system, self.cluster, self.label, self.acts_as, self.how == "full")
        if self.discard:
            assert place.writer is not None
            place.writer.flush()
            discard(builder, place, place.writer.free_extents())
        if self.acts_as == "camera":
            builder.make_folders(place, "/DCIM")

    def _take_the_medium(self, builder: SpecimenBuilder) -> None:
        """One volume over the whole medium; a partition table and what it listed are gone."""
        for place in builder.places.values():
            builder.end_life(place, "formatted")
            place.listed, place.trouble = False, "the whole medium was formatted"
        builder.clear_table()
        builder.scheme = ""
        name = self.volume or WHOLE_MEDIUM
        if name not in builder.places:
            builder.places[name] = Slot(name, Extent(0, builder.image.size), False)
