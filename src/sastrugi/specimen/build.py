"""From a recipe to a specimen: carry the steps out, keep the books, write medium and truth."""

from __future__ import annotations

import datetime as dt
import hashlib
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from difflib import get_close_matches
from fnmatch import fnmatchcase
from functools import partial
from pathlib import Path

from blake3 import blake3

from sastrugi.corpus.make import CorpusSpec, make_files
from sastrugi.errors import RecipeError, SastrugiError, SpecimenError
from sastrugi.kinds import kind_for_name
from sastrugi.media import Extent
from sastrugi.media.extents import cut
from sastrugi.media.opening import SPECIMEN_IMAGE
from sastrugi.media.partitions import TYPE_FAT12, TYPE_FAT16_LBA, TYPE_FAT32_LBA, Partition, mbr_bytes
from sastrugi.media.raw import RawImage
from sastrugi.progress import Progress
from sastrugi.safety import new_folder, write_text
from sastrugi.scenario.dice import Dice
from sastrugi.specimen.ceiling import by_books
from sastrugi.specimen.digests import medium_digest, sha256_file
from sastrugi.specimen.recipe import (
    CorpusTable,
    DeleteStep,
    FormatStep,
    PartitionStep,
    Recipe,
    Step,
    StoreStep,
)
from sastrugi.specimen.remains import Books, Remains
from sastrugi.specimen.truth import (
    ORIGINALS,
    RECIPE_FILE,
    SUMS_FILE,
    TRUTH_FILE,
    Ceiling,
    NameCeiling,
    Truth,
    TruthFile,
    TruthFolder,
    TruthMedium,
    TruthVolume,
)
from sastrugi.units import format_size
from sastrugi.volumes.fat.layout import ENTRY_SIZE
from sastrugi.volumes.fat.write import FatWriter, Node, plan

_BITS = {"fat12": 12, "fat16": 16, "fat32": 32}
_PARTITION_TYPES = {"fat12": TYPE_FAT12, "fat16": TYPE_FAT16_LBA, "fat32": TYPE_FAT32_LBA}
_DEFAULT_START = 1 << 20
_READ = 1 << 20
_SUMS_LIMIT = 16 << 30
WHOLE_MEDIUM = "medium"
"""The name of the only volume when the medium has no partition table."""


@dataclass(slots=True)
class _Volume:
    """A place for volumes, the volume that is on it now, and how many lives it has had."""

    where: Extent
    table_number: int | None
    writer: FatWriter | None = None
    lives: int = 0
    file_system: str = ""
    cluster: int = 0
    label: str = ""


@dataclass(slots=True)
class _File:
    """A file or folder in the books, from its writing to the end."""

    volume: str
    life: int
    node: Node
    path: str
    kind: str = ""
    blake3: str = ""
    sha256: str = ""
    created: dt.datetime = dt.datetime.min
    content: Remains | None = None
    record: Remains | None = None
    ended_by: int | None = None


@dataclass(slots=True)
class _Content:
    """Something to store: a name below the target folder, its size, and its bytes when asked."""

    name: str
    kind: str
    size: int
    chunks: Callable[[], Iterator[bytes]]


@dataclass(slots=True)
class _Clock:
    now: dt.datetime

    def tick(self, seconds: int = 2) -> dt.datetime:
        self.now += dt.timedelta(seconds=seconds)
        return self.now


def build(recipe: Recipe, into: Path, progress: Progress) -> Path:
    """Build the specimen of `recipe` in the new folder `into`. It appears whole, or not at all.

    Raises RecipeError, naming the step, when a step cannot be carried out.
    """
    with new_folder(into, "specimen") as folder:
        _Builder(recipe, folder, progress).run()
    return into


@dataclass(slots=True)
class _Builder:
    recipe: Recipe
    folder: Path
    progress: Progress
    image: RawImage = field(init=False)
    books: Books = field(init=False)
    clock: _Clock = field(init=False)
    volumes: dict[str, _Volume] = field(default_factory=dict)
    files: list[_File] = field(default_factory=list)
    folders: list[_File] = field(default_factory=list)
    by_node: dict[int, _File] = field(default_factory=dict)

    def run(self) -> None:
        recipe = self.recipe
        self.image = RawImage(self.folder / SPECIMEN_IMAGE, recipe.medium.size, recipe.medium.sector)
        self.books = Books(self.image, self._save_original)
        self.clock = _Clock(recipe.starts.replace(tzinfo=None))
        self.progress.start("build", len(recipe.steps), "steps")
        try:
            for number, step in enumerate(recipe.steps, 1):
                try:
                    self._carry_out(number, step)
                except RecipeError:
                    raise
                except SastrugiError as error:
                    raise RecipeError(f"step {number} ({step.do}): {error}") from error
                self.progress.at(number, step.do)
            for volume in self.volumes.values():
                if volume.writer:
                    volume.writer.flush()
            self.image.observers.clear()
            self._write_papers()
        finally:
            self.image.close()
        self.progress.finish()

    def _carry_out(self, number: int, step: Step) -> None:
        self.progress.check()
        if isinstance(step, PartitionStep):
            self._partition(step)
        elif isinstance(step, FormatStep):
            self._format(step)
        elif isinstance(step, StoreStep):
            self._store(number, step)
        else:
            self._delete(number, step)

    # -- steps ------------------------------------------------------------------------------

    def _partition(self, step: PartitionStep) -> None:
        if self.volumes:
            raise SpecimenError("the medium is partitioned or formatted already")
        at = _DEFAULT_START
        for number, place in enumerate(step.volumes, 1):
            start = at if place.start is None else place.start
            size = self.image.size - start if place.size == "rest" else place.size
            if start % self.image.sector or size % self.image.sector:
                raise SpecimenError(
                    f"volume '{place.name}': start and size must be whole sectors of {self.image.sector} bytes"
                )
            if start < self.image.sector or size <= 0 or start + size > self.image.size:
                raise SpecimenError(
                    f"volume '{place.name}': {format_size(max(size, 0))} from {format_size(start)} on do not fit "
                    f"on a medium of {format_size(self.image.size)}"
                )
            if start < at and number > 1:
                raise SpecimenError(
                    f"volume '{place.name}' begins inside the one before it, which ends at {format_size(at)}"
                )
            if place.name in self.volumes:
                raise SpecimenError(f"two volumes are called '{place.name}'")
            self.volumes[place.name] = _Volume(Extent(start, size), number)
            at = start + size
        self._write_table()

    def _write_table(self) -> None:
        parts = [
            Partition(volume.table_number, _PARTITION_TYPES.get(volume.file_system, TYPE_FAT32_LBA), volume.where)
            for volume in self.volumes.values()
            if volume.table_number is not None
        ]
        if parts:
            disk_id = Dice(f"{self.recipe.seed}/disk").number(1, 0xFFFFFFFE)
            self.image.write(0, mbr_bytes(parts, disk_id, self.image.sector))

    def _format(self, step: FormatStep) -> None:
        if not self.volumes:
            self.volumes[step.volume or WHOLE_MEDIUM] = _Volume(Extent(0, self.image.size), None)
        name, volume = self._volume(step.volume)
        if volume.writer is not None:
            raise SpecimenError(f"volume '{name}' is formatted already: this version lays one life down on a volume")
        geometry = plan(
            volume.where.offset, volume.where.length, _BITS[step.file_system], step.cluster, self.image.sector
        )
        serial = Dice(f"{self.recipe.seed}/{name}/{volume.lives}").number(1, 0xFFFFFFFE)
        volume.writer = FatWriter(self.image, geometry, step.label, serial, self.clock.tick())
        volume.lives += 1
        volume.file_system, volume.cluster, volume.label = step.file_system, step.cluster, step.label
        self._write_table()

    def _store(self, number: int, step: StoreStep) -> None:
        name, volume, writer = self._formatted(step.volume)
        target = "/" + step.into.strip("/")
        contents = self._made(step.corpus, number) if step.corpus else self._own(step.folder or "")
        for content in contents:
            path = f"{target.rstrip('/')}/{content.name}"
            self.books.writer = path
            self._make_folders(name, volume, path.rpartition("/")[0])
            digests = blake3(), hashlib.sha256()
            when = self.clock.tick(Dice(f"{self.recipe.seed}/{path}").number(4, 90))
            node = writer.store(
                path, content.size, _hashed(content.chunks(), digests), when, first_gap=step.reuse == "first"
            )
            file = _File(
                name,
                volume.lives,
                node,
                path,
                content.kind,
                digests[0].hexdigest(),
                digests[1].hexdigest(),
                when,
            )
            file.content = self.books.enter(len(self.files), writer.extents(node), node.size)
            self.by_node[id(node)] = file
            self.files.append(file)
            self.progress.check()
        self.books.writer = ""

    def _make_folders(self, name: str, volume: _Volume, path: str) -> None:
        assert volume.writer is not None
        at = ""
        for part in (part for part in path.split("/") if part):
            at += "/" + part
            if volume.writer.find(at) is None:
                node = volume.writer.make_folder(at, self.clock.tick())
                folder = _File(name, volume.lives, node, at)
                self.by_node[id(node)] = folder
                self.folders.append(folder)

    def _made(self, table: CorpusTable, number: int) -> Iterator[_Content]:
        spec = CorpusSpec(
            table.files,
            f"{self.recipe.seed}/step {number}",
            kinds=tuple(table.kinds),
            groups=tuple(table.groups),
            smallest=table.size[0],
            largest=table.size[1],
            names=table.names,
            first_number=table.first_number,
            depth=table.depth,
            breadth=table.breadth,
        )
        for file in make_files(spec):
            yield _Content(file.name, file.kind.name, len(file.content), partial(iter, (file.content,)))

    def _own(self, folder: str) -> Iterator[_Content]:
        root = self.recipe.base / folder
        if not root.is_dir():
            raise SpecimenError(f"{folder}: there is no such folder beside the recipe")
        for path in sorted(root.rglob("*")):
            if path.is_file() and not path.is_symlink():
                kind = kind_for_name(path.name)
                yield _Content(
                    path.relative_to(root).as_posix(),
                    kind.name if kind else "other",
                    path.stat().st_size,
                    partial(_file_chunks, path),
                )

    def _delete(self, number: int, step: DeleteStep) -> None:
        _, _, writer = self._formatted(step.volume)
        chosen: list[Node] = []
        live = {node.path: node for node in writer.walk()}
        for pattern in step.what:
            wanted = ("/" + pattern.strip("/")).lower()
            hits = [node for path, node in live.items() if fnmatchcase(path.lower(), wanted)]
            if not hits:
                near = get_close_matches(wanted, live, 1, 0.3)
                raise SpecimenError(
                    f"'{pattern}' matches nothing that is there" + (f": did you mean '{near[0]}'?" if near else "")
                )
            chosen += [node for node in hits if node not in chosen]
        chosen = [node for node in chosen if not any(_is_under(node, other) for other in chosen)]
        if step.share < 1:
            count = max(round(step.share * len(chosen)), 1)
            keep = {node.path for node in Dice(f"{self.recipe.seed}/step {number}").shuffled(chosen)[:count]}
            chosen = [node for node in chosen if node.path in keep]
        for node in chosen:
            for child in [*reversed([*writer.walk(node)]), node] if node.folder else [node]:
                self._delete_node(number, writer, child)
        writer.flush()

    def _delete_node(self, number: int, writer: FatWriter, node: Node) -> None:
        file = self.by_node[id(node)]
        writer.delete(file.path, self.clock.tick())
        file.ended_by = number
        file.record = self.books.enter(-1, writer.record(node), node.slots * ENTRY_SIZE, ENTRY_SIZE)
        file.record.saved = True

    def _volume(self, name: str | None) -> tuple[str, _Volume]:
        if name is None and len(self.volumes) == 1:
            return next(iter(self.volumes.items()))
        if name is None or name not in self.volumes:
            there = ", ".join(f"'{known}'" for known in self.volumes) or "none yet"
            raise SpecimenError(
                f"{'say which volume' if name is None else f'there is no volume {name!r}'}: there are {there}"
            )
        return name, self.volumes[name]

    def _formatted(self, name: str | None) -> tuple[str, _Volume, FatWriter]:
        name, volume = self._volume(name) if self.volumes else ("", _Volume(Extent(0, 0), None))
        if volume.writer is None:
            raise SpecimenError("nothing is formatted yet: a 'format' step must come before this one")
        return name, volume, volume.writer

    # -- papers -----------------------------------------------------------------------------

    def _save_original(self, remains: Remains) -> None:
        """Keep the content of a file that is about to be written over."""
        file = self.files[remains.key]
        target = self.folder / ORIGINALS / file.blake3
        target.parent.mkdir(exist_ok=True)
        with target.open("wb") as out:
            for offset, length in cut(remains.extents, remains.size):
                for at in range(offset, offset + length, _READ):
                    out.write(self.image.read(at, min(_READ, offset + length - at)))

    def _write_papers(self) -> None:
        self.image.sync()
        truth = Truth(
            recipe=self.recipe.name,
            title=self.recipe.title,
            seed=self.recipe.seed,
            medium=TruthMedium(size=self.image.size, sector=self.image.sector, digest=medium_digest(self.image)),
            volumes=tuple(
                TruthVolume(
                    name=name, where=v.where, file_system=v.file_system, cluster=v.cluster, label=v.label, lives=v.lives
                )
                for name, v in self.volumes.items()
            ),
            folders=tuple(
                TruthFolder(
                    volume=f.volume,
                    life=f.life,
                    path=f.path,
                    record=self._record(f),
                    end="deleted" if f.ended_by else "live",
                )
                for f in self.folders
            ),
            files=by_books([self._truth_file(n, file) for n, file in enumerate(self.files, 1)]),
        )
        write_text(self.folder / TRUTH_FILE, truth.model_dump_json(indent=1) + "\n")
        write_text(self.folder / RECIPE_FILE, self.recipe.text)
        names = [RECIPE_FILE, TRUTH_FILE] + ([SPECIMEN_IMAGE] if self.image.size <= _SUMS_LIMIT else [])
        sums = [f"{sha256_file(self.folder / name)}  {name}\n" for name in names]
        write_text(self.folder / SUMS_FILE, "".join(sums))

    def _record(self, file: _File) -> tuple[Extent, ...]:
        if file.record:
            return file.record.extents
        writer = self.volumes[file.volume].writer
        assert writer is not None
        return writer.record(file.node)

    def _truth_file(self, number: int, file: _File) -> TruthFile:
        assert file.content is not None
        return TruthFile(
            id=number,
            volume=file.volume,
            life=file.life,
            path=file.path,
            kind=file.kind,
            size=file.node.size,
            blake3=file.blake3,
            sha256=file.sha256,
            created=file.created,
            modified=file.created,
            extents=file.content.extents,
            record=self._record(file),
            end="deleted" if file.ended_by else "live",
            ended_by=file.ended_by,
            gone=tuple(file.content.gone),
            gone_to=tuple(file.content.takers),
            ceiling=Ceiling(bytes=1.0, placed=_placed(file), name=self._name_ceiling(file)),
        )

    def _name_ceiling(self, file: _File) -> NameCeiling:
        if not _placed(file):
            return "none"
        if file.record is not None and len(file.record.gone):
            return "near"  # long-name entries are gone, the short name stands
        at = file.path.rpartition("/")[0]
        while at:
            folder = next(f for f in reversed(self.folders) if f.path == at and f.volume == file.volume)
            if folder.record is not None and len(folder.record.gone):
                return "name"
            at = at.rpartition("/")[0]
        return "full"


def _placed(file: _File) -> bool:
    """Whether the short entry, which names the first cluster and the size, still stands."""
    if file.record is None:
        return True
    last = file.record.extents[-1]
    return not file.record.gone.overlap(Extent(last.end - ENTRY_SIZE, ENTRY_SIZE))


def _is_under(node: Node, folder: Node) -> bool:
    at = node.parent
    while at is not None:
        if at is folder:
            return True
        at = at.parent
    return False


def _hashed(chunks: Iterator[bytes], digests: tuple[blake3, hashlib._Hash]) -> Iterator[bytes]:
    for chunk in chunks:
        for digest in digests:
            digest.update(chunk)
        yield chunk


def _file_chunks(path: Path) -> Iterator[bytes]:
    with path.open("rb") as file:
        while chunk := file.read(_READ):
            yield chunk
