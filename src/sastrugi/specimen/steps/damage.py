"""Steps that no driver is asked about: overlay, wipe, damage, fade; and discard, which one is."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING, Annotated, Literal

from pydantic import Field, model_validator

from sastrugi.errors import SpecimenError
from sastrugi.media import Extent, open_medium
from sastrugi.media.extents import cut, total, within
from sastrugi.media.partitions import taken_by
from sastrugi.specimen.harm import discard, filling, range_on, strike
from sastrugi.specimen.recipe_types import Fill, RangeTable, Share, Size, SizeOrRest, StepTable
from sastrugi.units import format_size
from sastrugi.volumes.registry import title_of

if TYPE_CHECKING:
    from sastrugi.specimen.builder import SpecimenBuilder

_READ = 1 << 20


class OverlayStep(StepTable):
    """Write an image (a file beside the recipe), or a fill, over a range of the medium or of a volume."""

    do: Literal["overlay"]
    image: str | None = None
    fill: Fill | None = None
    at: Size = 0
    size: SizeOrRest = "rest"

    @model_validator(mode="after")
    def _one_source(self) -> OverlayStep:
        if (self.image is None) == (self.fill is None):
            raise ValueError("an overlay step writes either an 'image' (a file) or a 'fill' (zeros or noise)")
        return self

    def carry_out(self, builder: SpecimenBuilder) -> None:
        if self.fill is not None:
            target = range_on(builder, self.at, self.size, self.volume)
            strike(builder, [target], "overlaid", filling(builder, self.fill), f"the overlay of step {builder.step}")
            return
        with open_medium(builder.base / (self.image or "")) as source:
            target = range_on(builder, self.at, source.size if self.size == "rest" else self.size, self.volume)
            if target.length > source.size:
                raise SpecimenError(f"{self.image} has {format_size(source.size)}, less than the size asked for")

            def copy(extent: Extent) -> None:
                for at in range(extent.offset, extent.end, _READ):
                    length = min(_READ, extent.end - at)
                    builder.image.write(at, source.read(at - target.offset, length))

            strike(builder, [target], "overlaid", copy, self.image or "")


class WipeStep(StepTable):
    """Wipe free space, a volume, or the medium: the negative controls."""

    do: Literal["wipe"]
    what: Literal["free", "volume", "medium"]
    fill: Fill = "zeros"

    def carry_out(self, builder: SpecimenBuilder) -> None:
        writer_name = f"the wipe of step {builder.step}"
        write = filling(builder, self.fill)
        if self.what == "free":
            _, writer = builder.mounted(self.volume)
            with builder.acting(writer_name):
                for extent in writer.free_extents():
                    write(extent)
        else:
            whole = Extent(0, builder.image.size)
            target = whole if self.what == "medium" else builder.place(self.volume).where
            strike(builder, [target], "wiped", write, writer_name)


class DiscardStep(StepTable):
    """Tell the medium what is free on a volume, as systems do once a week: it reads as zeros afterwards, as on
    solid-state media."""

    do: Literal["discard"]

    def carry_out(self, builder: SpecimenBuilder) -> None:
        place, writer = builder.mounted(self.volume)
        writer.flush()
        discard(builder, place, writer.free_extents())


class DamageStep(StepTable):
    """Write over a structure: of a volume (boot, backup-boot, fsinfo, fat1, fat2, bitmap, upcase, root, folder), of the
    medium (table, backup-table), or a range."""

    do: Literal["damage"]
    what: str = "range"
    path: str | None = None
    range: RangeTable | None = None
    share: Share = 1.0
    fill: Fill = "zeros"

    @model_validator(mode="after")
    def _says_where(self) -> DamageStep:
        if (self.what == "range") != (self.range is not None):
            raise ValueError("a damage step names a structure in 'what', or gives a 'range' with start and size")
        if (self.what == "folder") != (self.path is not None):
            raise ValueError("'path' names the folder to damage, with what = 'folder'")
        return self

    def carry_out(self, builder: SpecimenBuilder) -> None:
        targets = self._targets(builder)
        size = builder.image.sector
        length = -(-int(total(targets) * self.share) // size) * size if self.share < 1 else total(targets)
        name = f"the damage of step {builder.step}"
        strike(builder, cut(targets, length), "damaged", filling(builder, self.fill), name)

    def _targets(self, builder: SpecimenBuilder) -> list[Extent]:
        image = builder.image
        if self.range is not None:
            return [range_on(builder, self.range.start, self.range.size, self.volume)]
        if self.what in ("table", "backup-table"):
            if not builder.scheme:
                raise SpecimenError("the medium has no partition table that could be damaged")
            table, backup = taken_by(builder.scheme, image.size, image.sector)
            if self.what == "backup-table" and not backup.length:
                raise SpecimenError("only a GPT has a backup: use what = 'table'")
            return [table if self.what == "table" else backup]
        place, writer = builder.mounted(self.volume)
        if self.what == "folder":
            (laid,) = builder.choose(place, [self.path or ""])[:1]
            if not laid.folder:
                raise SpecimenError(f"{laid.node.path} is a file: 'folder' damages folders")
            return list(writer.extents(laid.node))
        structures = writer.structures()
        if self.what not in structures:
            there = ", ".join([*structures, "folder", "table", "range"])
            raise SpecimenError(f"{title_of(writer.file_system)} has no '{self.what}': there are {there}")
        return list(structures[self.what])


class FadeStep(StepTable):
    """Sectors that cannot be read any more: a range, or so many sectors of each file that the patterns name."""

    do: Literal["fade"]
    what: Annotated[list[str], Field(default_factory=list)]
    sectors: Annotated[int, Field(ge=1, le=100_000)] = 1
    share: Share = 1.0
    range: RangeTable | None = None

    @model_validator(mode="after")
    def _says_where(self) -> FadeStep:
        if bool(self.what) == (self.range is not None):
            raise ValueError("a fade step names files in 'what', or gives a 'range' with start and size")
        return self

    def carry_out(self, builder: SpecimenBuilder) -> None:
        parts = list(self._parts(builder))
        strike(builder, parts, "damaged", filling(builder, "zeros"), "unreadable sectors")
        with builder.acting("unreadable sectors"):
            for part in parts:
                builder.books.lose(part)  # zeros, too: nobody can read them
                builder.unreadable.add(part)

    def _parts(self, builder: SpecimenBuilder) -> Iterator[Extent]:
        sector = builder.image.sector
        if self.range is not None:
            where = range_on(builder, self.range.start, self.range.size, self.volume)
            first = where.offset // sector * sector
            yield Extent(first, -(-(where.end - first) // sector) * sector)
            return
        place, _ = builder.mounted(self.volume)
        for laid in builder.choose(place, self.what, self.share, files_only=True):
            stored = laid.map.stored
            count = -(-total(stored) // sector)
            dice = builder.dice(f"fade {laid.node.path}")
            for n in dice.shuffled(range(count))[: self.sectors]:
                for part in within(stored, n * sector, sector):
                    first = part.offset // sector * sector
                    yield Extent(first, -(-(part.end - first) // sector) * sector)
