"""Steps that lay out a medium: partition tables and formats."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Literal

from pydantic import Field

from sastrugi.errors import SpecimenError
from sastrugi.media import Extent
from sastrugi.media.partitions.gpt import reserved_at_end
from sastrugi.specimen.builder import WHOLE_MEDIUM
from sastrugi.specimen.laid_files import Place
from sastrugi.specimen.recipe_types import ActsAs, Size, SizeOrRest, StepTable, Table
from sastrugi.units import format_size
from sastrugi.volumes.registry import variant_names

if TYPE_CHECKING:
    from sastrugi.specimen.builder import Laying

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
    table: Literal["mbr", "gpt"] = "mbr"
    volumes: Annotated[list[VolumePlace], Field(min_length=1, max_length=128)]

    def carry_out(self, laying: Laying) -> None:
        wanted = self._places(laying)
        kept = {
            place.name
            for place in laying.places.values()
            if any(place.name == name and place.where == where for name, where, _ in wanted)
        }
        for place in laying.places.values():
            if place.name not in kept:
                laying.end_life(place, "dropped")
                place.listed, place.trouble = False, "its partition is gone"
        laying.clear_table()
        laying.scheme = self.table
        for name, where, logical in wanted:
            if name in kept:
                laying.places[name].listed = True
                continue
            before = laying.places.get(name)
            laying.places[name] = Place(name, where, True, logical, lives=before.lives if before else [])
        laying.write_table()

    def _places(self, laying: Laying) -> list[tuple[str, Extent, bool]]:
        """Name, extent and whether logical of each volume; raises SpecimenError where they cannot lie so."""
        image = laying.image
        end = image.size - (reserved_at_end(image.sector) if self.table == "gpt" else 0)
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

    def carry_out(self, laying: Laying) -> None:
        chosen = list(laying.places.values()) if self.volume == "all" else [laying.place(self.volume)]
        chosen = [place for place in chosen if place.listed]
        if not chosen:
            raise SpecimenError("no partition table lists it: there is nothing to drop")
        for place in chosen:
            laying.end_life(place, "dropped")
            place.listed, place.trouble = False, "its partition was dropped"
        laying.write_table()


class FormatStep(StepTable):
    """Format a volume, for the first time or again. Without `cluster`, the size that is usual."""

    do: Literal["format"]
    file_system: FileSystemName | None = None
    cluster: Size | None = None
    label: str = ""
    how: Literal["quick", "full"] = "quick"
    acts_as: ActsAs = "linux"

    def carry_out(self, laying: Laying) -> None:
        if not laying.places or (self.volume == WHOLE_MEDIUM and (laying.scheme or WHOLE_MEDIUM not in laying.places)):
            self._take_the_medium(laying)
        place = laying.place(self.volume)
        if place.where.offset and not place.listed:
            raise SpecimenError(f"volume '{place.name}' cannot be formatted: no partition table lists it any more")
        file_system = self.file_system or (place.life.file_system if place.lives else None)
        if file_system is None:
            raise SpecimenError("'file_system' is missing: the first format of a volume must say which")
        laying.format(place, file_system, self.cluster, self.label, self.acts_as, self.how == "full")
        if self.acts_as == "camera":
            laying.make_folders(place, "/DCIM")

    def _take_the_medium(self, laying: Laying) -> None:
        """One volume over the whole medium; a partition table and what it listed are gone."""
        for place in laying.places.values():
            laying.end_life(place, "formatted")
            place.listed, place.trouble = False, "the whole medium was formatted"
        laying.clear_table()
        laying.scheme = ""
        name = self.volume or WHOLE_MEDIUM
        if name not in laying.places:
            laying.places[name] = Place(name, Extent(0, laying.image.size), False)
