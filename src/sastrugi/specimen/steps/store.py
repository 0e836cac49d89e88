"""The step that stores files, made or the user's own, in as many pieces as asked."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import closing
from functools import partial
from itertools import islice
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, Literal

from pydantic import Field, field_validator, model_validator

from sastrugi.corpus.make import CorpusSpec, made_files, plan_files
from sastrugi.corpus.names import check_style
from sastrugi.errors import SastrugiError, SpecimenError
from sastrugi.kinds import kind_for_name, kind_named
from sastrugi.media import Extent
from sastrugi.media.read_ahead import ahead
from sastrugi.specimen.builder import Content
from sastrugi.specimen.recipe_types import SizeRange, StepTable, Table
from sastrugi.specimen.steps.weaving import Weaver
from sastrugi.units import format_size
from sastrugi.volumes.writer import ATTRIBUTES, Reuse

if TYPE_CHECKING:
    from sastrugi.scenario.dice import Dice
    from sastrugi.specimen.builder import SpecimenBuilder
    from sastrugi.specimen.laid_files import LaidFile, Slot
    from sastrugi.volumes.writer import VolumeWriter

_READ = 1 << 20
_LARGEST_MADE = 64 << 20
"""Made files are made in memory."""
_FILLERS = "/Buffers"


class CorpusTable(Table):
    """A made corpus, inline."""

    files: Annotated[int, Field(ge=1, le=1_000_000)]
    kinds: Annotated[list[str], Field(default_factory=list)]
    groups: Annotated[list[str], Field(default_factory=list)]
    size: SizeRange = (4 << 10, 200 << 10)
    names: str = "plain"
    depth: Annotated[int, Field(ge=0, le=64)] = 0
    breadth: Annotated[int, Field(ge=1)] = 3
    first_number: Annotated[int, Field(ge=0)] = 1

    @field_validator("kinds")
    @classmethod
    def _known_kinds(cls, kinds: list[str]) -> list[str]:
        try:
            for name in kinds:
                kind_named(name)
        except SastrugiError as error:
            raise ValueError(str(error)) from error
        return kinds

    @field_validator("names")
    @classmethod
    def _known_style(cls, style: str) -> str:
        try:
            check_style(style)
        except SastrugiError as error:
            raise ValueError(str(error)) from error
        return style


class StoreStep(StepTable):
    """Store files. `reuse` says where freed space comes in: behind the last file as drivers go on (next), before all
    else (first), only when nothing else is left (last), or anywhere (spread).

    With `pieces`, each file comes to lie in so many, either because files were written by turns, or because it fills
    the gaps that deleted buffer files left between those that stayed. With `writers`, up to so many programs write at
    the same time, each in chunks of random size (`chunk`), and the file system decides where each chunk goes.
    """

    do: Literal["store"]
    into: str = "/"
    corpus: CorpusTable | None = None
    folder: str | None = None
    reuse: Reuse = "next"
    pieces: Annotated[int, Field(ge=1, le=1000)] = 1
    gaps: Literal["fillers", "interleaved"] = "fillers"
    writers: Annotated[int, Field(ge=1, le=64)] = 1
    chunk: SizeRange = (4 << 10, 512 << 10)
    attributes: Annotated[list[Literal["read-only", "hidden", "system", "compressed"]], Field(default_factory=list)]

    @model_validator(mode="after")
    def _one_source(self) -> StoreStep:
        if (self.corpus is None) == (self.folder is None):
            raise ValueError("a store step takes its files from either 'corpus' (made) or 'folder' (your own)")
        if self.writers > 1 and (self.pieces > 1 or self.reuse != "next"):
            raise ValueError("with 'writers' the file system decides where files go: leave 'pieces' and 'reuse' out")
        if self.chunk[0] < 1:
            raise ValueError("a chunk has one byte at least")
        return self

    def carry_out(self, builder: SpecimenBuilder) -> None:
        place, writer = builder.mounted(self.volume)
        contents = self._made(builder, writer, self.corpus) if self.corpus else self._own(builder, writer)
        target = "/" + self.into.strip("/")
        paths = ((f"{target.rstrip('/')}/{content.name}", content) for content in contents)
        if self.writers > 1:
            Weaver(builder, place, writer, self.writers, self.chunk).store(paths, self._bits)
            return
        if self.pieces > 1 and self.gaps == "interleaved":
            self._by_turns(builder, place, writer, paths)
            return
        for path, content in paths:
            require_room(writer, content.size, path)
            if self.pieces > 1:
                lie = self._in_gaps(builder, place, writer, content)
            else:
                lie = reserve(builder, writer, content.size, self.reuse, path)
            builder.store(place, path, content, lie, attributes=self._bits)

    @property
    def _bits(self) -> int:
        return sum(ATTRIBUTES[name] for name in set(self.attributes))

    def _own(self, builder: SpecimenBuilder, writer: VolumeWriter[Any]) -> Iterator[Content]:
        """The user's files; raises SpecimenError before the first is written if not all of them fit."""
        contents = list(own_files(builder.base, self.folder or ""))
        missing = sum(writer.space_for(content.size) for content in contents) - writer.room
        if missing > 0:
            raise SpecimenError(
                f"the {len(contents):,} files of '{self.folder}' need {format_size(missing)} more than is free"
            )
        return iter(contents)

    def _made(self, builder: SpecimenBuilder, writer: VolumeWriter[Any], table: CorpusTable) -> Iterator[Content]:
        spec = CorpusSpec(
            table.files, f"{builder.seed}/step {builder.step}", kinds=tuple(table.kinds), groups=tuple(table.groups),
            smallest=table.size[0], largest=table.size[1], names=table.names, first_number=table.first_number,
            depth=table.depth, breadth=table.breadth,
        )  # fmt: skip
        plans = plan_files(spec)
        for plan in plans:
            if plan.size > _LARGEST_MADE:
                raise SpecimenError(
                    f"{plan.path}: {format_size(plan.size)} is more than is made for a recipe "
                    f"({format_size(_LARGEST_MADE)}): store your own with 'folder'"
                )
        with closing(made_files(plans, builder.workers)) as made:
            for plan in plans:
                require_room(writer, plan.size, plan.path)
                content = next(made)
                yield Content(plan.path, plan.kind, len(content), partial(iter, (content,)))

    def _in_gaps(
        self, builder: SpecimenBuilder, place: Slot, writer: VolumeWriter[Any], content: Content
    ) -> tuple[Extent, ...] | None:
        """Space in gaps: a buffer file for each piece and one that stays behind each, then the first are deleted."""
        unit = writer.cluster_size
        parts = split(writer.space_for(content.size), self.pieces, unit)
        if len(parts) < 2:
            return None
        leaving = []
        for space in parts:
            leaving.append(_filler(builder, place, space))
            _filler(builder, place, unit)
        first = leaving[0].start
        for laid in leaving:
            builder.delete(laid, "linux")
        return writer.reserve(sum(parts), first)

    def _by_turns(
        self, builder: SpecimenBuilder, place: Slot, writer: VolumeWriter[Any], paths: Iterator[tuple[str, Content]]
    ) -> None:
        """Files two and two, allocated by turns as when a camera and a logger write at the same time."""
        while pair := list(islice(paths, 2)):
            unit = writer.cluster_size
            lie: list[list[Extent]] = [[] for _ in pair]
            shares = [split(writer.space_for(content.size), self.pieces, unit) for _, content in pair]
            if len(pair) == 1:  # nobody to take turns with but a buffer file
                shares.append([unit] * len(shares[0]))
                lie.append([])
            for turn in range(self.pieces):
                for own, share in zip(lie, shares, strict=True):
                    if turn < len(share):
                        own += writer.reserve(share[turn])
            step = max(max(share[:1] or [unit]) for share in shares)
            with builder.together(place, step):
                for (path, content), own in zip(pair, lie, strict=False):
                    builder.store(place, path, content, own, attributes=self._bits)
                if len(pair) == 1 and lie[1]:
                    _filler(builder, place, sum(shares[1]), lie[1])


def reserve(
    builder: SpecimenBuilder, writer: VolumeWriter[Any], size: int, reuse: Reuse, path: str
) -> tuple[Extent, ...] | None:
    """Space for a file by the way freed space is to be used; None leaves it to the driver."""
    if reuse == "next":
        return None
    return writer.reserve(writer.space_for(size), reuse, builder.dice(f"{path}/{builder.step}").number)


def require_room(writer: VolumeWriter[Any], size: int, path: str) -> None:
    """Raise SpecimenError, saying how much is missing, if a file cannot fit."""
    missing = writer.space_for(size) - writer.room
    if missing > 0:
        raise SpecimenError(f"the volume is full: {path} ({format_size(size)}) needs {format_size(missing)} more")


def split(space: int, pieces: int, unit: int) -> list[int]:
    """Bytes of whole units in so many pieces, as even as can be; fewer pieces where there are fewer units."""
    count = space // unit
    pieces = min(pieces, count)
    return [(count * (n + 1) // pieces - count * n // pieces) * unit for n in range(pieces)]


def _filler(builder: SpecimenBuilder, place: Slot, size: int, lie: Sequence[Extent] | None = None) -> LaidFile:
    number = builder.counts["filler"] + 1
    name = f"B{number:07d}.TMP"
    noise = builder.dice(f"filler {number}").fork("noise")
    content = Content(name, "other", size, partial(noise_chunks, noise, size))
    return builder.store(place, f"{_FILLERS}/{name}", content, lie, "filler")


def noise_chunks(dice: Dice, size: int) -> Iterator[bytes]:
    for at in range(0, size, _READ):
        yield dice.noise(min(_READ, size - at))


def own_files(base: Path, folder: str) -> Iterator[Content]:
    """The user's own files below a folder that counts from the recipe; links are not followed."""
    root = base / folder
    if not root.is_dir():
        raise SpecimenError(f"{folder}: there is no such folder beside the recipe")
    for path in sorted(root.rglob("*")):
        if path.is_file() and not path.is_symlink():
            kind = kind_for_name(path.name)
            name = path.relative_to(root).as_posix()
            size = path.stat().st_size
            yield Content(name, kind.name if kind else "other", size, partial(_file_chunks, path, size))


def _file_chunks(path: Path, size: int) -> Iterator[bytes]:
    """The content of a file; a large one is read ahead while what came before is written."""
    return ahead(_read_file(path)) if size > 2 * _READ else _read_file(path)


def _read_file(path: Path) -> Iterator[bytes]:
    with path.open("rb") as file:
        while chunk := file.read(_READ):
            yield chunk
