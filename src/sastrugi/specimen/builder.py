"""The state of a specimen while it is laid down, and what steps do to it; the books are kept here and nowhere else."""

from __future__ import annotations

import datetime as dt
from collections import Counter, defaultdict
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from difflib import get_close_matches
from pathlib import Path
from typing import Any
from uuid import UUID

from sastrugi.errors import SpecimenError
from sastrugi.media import Extent, RangeSet
from sastrugi.media.partitions import taken_by
from sastrugi.media.partitions.apm import ListedVolume, lay_apm
from sastrugi.media.partitions.gpt import lay_gpt
from sastrugi.media.partitions.mbr import lay_mbr
from sastrugi.media.raw import RawImage
from sastrugi.progress import Progress
from sastrugi.scenario.dice import Dice
from sastrugi.specimen.choosing import choose, is_under, parents
from sastrugi.specimen.digests import Digests
from sastrugi.specimen.formats import format_volume
from sastrugi.specimen.laid_files import LaidFile, Life, Slot, StaleRecord, folder_chain
from sastrugi.specimen.second_writer import SecondWriter, Turns
from sastrugi.specimen.truth import ORIGINALS, End, Role
from sastrugi.specimen.write_tracker import WriteTracker
from sastrugi.volumes.registry import MOST_OFTEN_MADE, Variant, variant_named
from sastrugi.volumes.writer import Evidence, Habits, Node, VolumeWriter

WHOLE_MEDIUM = "medium"
"""The name of a volume that has the medium to itself, without a partition table."""
_READ = 1 << 20
_METADATA_GRAIN = 1


@dataclass(frozen=True, slots=True)
class Content:
    """Something to store: a name below the target folder, its kind and size, and its bytes when asked."""

    name: str
    kind: str
    size: int
    chunks: Callable[[], Iterable[bytes]]


@dataclass(slots=True, eq=False)
class SpecimenBuilder:
    """A medium being laid down: by the step of number `step`; paths of a recipe count from `base`; files get a
    `sha256`, too, if that is asked for, and are made by so many `workers`."""

    image: RawImage
    folder: Path
    seed: int
    base: Path
    now: dt.datetime
    progress: Progress
    sha256: bool = False
    workers: int = 1
    books: WriteTracker = field(init=False)
    places: dict[str, Slot] = field(default_factory=dict)
    scheme: str = ""
    laid: list[LaidFile] = field(default_factory=list)
    by_node: dict[int, LaidFile] = field(default_factory=dict)
    counts: Counter[Role] = field(default_factory=Counter)
    unreadable: RangeSet = field(default_factory=RangeSet)
    step: int = 0
    mirror: SecondWriter = field(default_factory=SecondWriter)
    _together: list[LaidFile] | None = None

    def __post_init__(self) -> None:
        self.books = WriteTracker(self.image)
        self.image.observers.append(self._written_again)

    def _written_again(self, offset: int, data: bytes | memoryview) -> None:
        """A dead sector that is written can be read again: drives put a spare one in its place."""
        if self.unreadable:
            first, sector = offset // self.image.sector * self.image.sector, self.image.sector
            end = -(-(offset + len(data)) // sector) * sector
            self.unreadable.remove(Extent(first, end - first))

    # -- small things steps need ------------------------------------------------------------

    def tick(self, seconds: int = 2) -> dt.datetime:
        """The clock of the recipe, moved on."""
        self.now += dt.timedelta(seconds=seconds)
        return self.now

    def dice(self, name: str) -> Dice:
        return Dice(f"{self.seed}/{name}")

    @contextmanager
    def acting(self, name: str) -> Iterator[None]:
        """While the block runs, what is written over is gone to `name`."""
        before, self.books.writer = self.books.writer, name
        try:
            yield
        finally:
            self.books.writer = before

    # -- places and volumes -----------------------------------------------------------------

    def place(self, name: str | None) -> Slot:
        """The place called `name`, or the only one there is."""
        if name is None and len(self.places) == 1:
            return next(iter(self.places.values()))
        if name is None or name not in self.places:
            there = ", ".join(f"'{known}'" for known in self.places) or "none yet"
            said = "say which volume" if name is None else f"there is no volume '{name}'"
            near = get_close_matches(name or "", self.places, 1)
            raise SpecimenError(f"{said}: {f'did you mean {near[0]!r}?' if near else f'there are {there}'}")
        return self.places[name]

    def mounted(self, name: str | None) -> tuple[Slot, VolumeWriter[Any]]:
        """A place with the volume on it; raises SpecimenError where there is none that a driver would mount."""
        if not self.places:
            raise SpecimenError("nothing is formatted yet: a 'format' step must come before this one")
        place = self.place(name)
        if place.writer is None or place.trouble:
            why = place.trouble or "it was not formatted yet"
            raise SpecimenError(f"volume '{place.name}' cannot be used ({why}): a 'format' step must come first")
        return place, place.writer

    def write_table(self) -> None:
        """The partition table, as the places that are listed want it."""
        listed = [place for place in self.places.values() if place.listed]
        dice = self.dice("disk")
        sector, size = self.image.sector, self.image.size
        with self.acting("the partition table"):
            if self.scheme == "gpt":
                guids = [UUID(bytes=self.dice(f"guid {n}").noise(16), version=4) for n in range(len(listed) + 1)]
                parts = [(p.where, p.name, self._variant_of(p).gpt_type) for p in listed]
                writes = lay_gpt(parts, guids, size, sector)
            elif self.scheme == "apm":
                maps = [ListedVolume(p.where, p.name, self._variant_of(p).apm_type) for p in listed]
                writes = lay_apm(maps, size, sector)
            else:
                rows = [(p.where, self._variant_of(p).partition_type, p.logical) for p in listed]
                writes = lay_mbr(rows, dice.number(1, 0xFFFFFFFE), sector)
            for offset, data in writes:
                self.image.write(offset, data)
            self.mirror.table(writes)

    @staticmethod
    def _variant_of(place: Slot) -> Variant:
        """What is listed as on a place; one that holds nothing yet is listed as what is most often made."""
        known = variant_named(place.life.file_system if place.lives else MOST_OFTEN_MADE)
        assert known is not None
        return known

    def clear_table(self) -> None:
        """Zeros over what the present table takes."""
        taken = [one for one in taken_by(self.scheme, self.image.size, self.image.sector) if one.length]
        with self.acting("the partition table"):
            for extent in taken:
                self.image.zero(*extent)
        self.mirror.table((), taken)

    def format(
        self, place: Slot, file_system: str, cluster: int | None, label: str, habits: Habits, full: bool
    ) -> None:
        """A new life on a place; the old one ends."""
        self.end_life(place, "formatted")
        number = len(place.lives) + 1
        with self.acting(f"the format of step {self.step}"):
            if full:
                self.image.zero(*place.where)
            serial = self.dice(f"{place.name}/{number}").number(1, 0xFFFFFFFE)
            place.writer = format_volume(
                self.image, place.where, file_system, cluster, label, serial, self.tick(), habits
            )
        writer = place.writer
        place.lives.append(
            Life(number, file_system, writer.cluster_size, label, writer.where, writer.data.offset, self.step)
        )
        place.trouble = ""
        self.mirror.format(place, full)
        if place.listed and self.scheme:
            self.write_table()

    def end_life(self, place: Slot, end: End) -> None:
        """All that is on a volume ends, and what tells of it is watched from now on."""
        if place.lives and place.life.end == "live":
            place.life.end, place.life.ended_by = end, self.step
        if place.writer is None:
            return
        self.mirror.end_life(place)
        if not place.trouble:
            place.writer.flush()
        self.watch_again(place)
        for laid in self.standing(place):
            self.ended(laid, place.writer.evidence(laid.node), end)
        if not place.trouble:
            self.watch_names(place)
        place.writer = None

    def watch_again(self, place: Slot) -> None:
        """What tells of files that are gone may stand in more places than when they went: what was struck is lost to
        its user, but its volume has it still, and may have moved its record; copies of what is left may have been made.
        """
        writer, life = place.writer, len(place.lives)
        if writer is None or place.trouble:
            return
        for laid in [one for one in self.laid if one.volume == place.name and one.life == life]:
            for record in list(laid.records):
                now = writer.told_since(record.evidence)
                if now is not None:
                    self._leave_more(laid, record.path, record.above, now)
            if laid.standing or self.by_node.get(id(laid.node)) is not laid:
                continue
            if writer.find(laid.node.path) is laid.node:
                self._leave_more(laid, laid.node.path, self.above(laid.node), writer.evidence(laid.node))

    def watch_names(self, place: Slot, lacking: bool = False) -> None:
        """Watch whatever else still spells the names of files and folders: entries in tables that were left or moved.
        `lacking`: only of those whose name nothing tells that is watched already. The volume must be flushed."""
        writer = place.writer
        assert writer is not None
        own = [one for one in self.laid if one.volume == place.name and one.life == len(place.lives)]
        folders: defaultdict[str, list[LaidFile]] = defaultdict(list)
        for laid in own:
            if laid.folder:
                folders[laid.path].append(laid)
        for laid in own:
            above, _, name = laid.path.rpartition("/")
            if lacking and laid.stands_in_full(name):
                continue
            for home in folders[above] if above else [None]:
                traces = writer.spelled(laid.node, name, home.node if home else writer.root)
                known = {trace for record in laid.records for trace in record.evidence.traces}
                new = tuple(trace for trace in traces if trace not in known)
                if new:
                    self._leave(laid, laid.path, folder_chain(home, folders), Evidence((), new))

    def _leave_more(self, laid: LaidFile, path: str, above: tuple[LaidFile, ...], now: Evidence) -> None:
        """Watch the ways to tell of a file that are not watched yet."""
        known = {trace for record in laid.records for trace in record.evidence.traces}
        new = tuple(trace for trace in now.traces if trace not in known)
        if new:
            self._leave(laid, path, above, Evidence(now.record, new))

    def standing(self, place: Slot) -> list[LaidFile]:
        """The files and folders that are on the volume of a place now."""
        life = len(place.lives)
        return [one for one in self.laid if one.volume == place.name and one.life == life and one.standing]

    # -- files ------------------------------------------------------------------------------

    def make_folders(self, place: Slot, path: str) -> None:
        """The folder at `path` and all above it, each with its own moment."""
        assert place.writer is not None
        at = ""
        for part in (part for part in path.split("/") if part):
            at += "/" + part
            if place.writer.find(at) is None:
                when = self.tick()
                node = place.writer.make_folder(at, when)
                kept = place.writer.moment(when)
                self._enter(LaidFile(place.name, len(place.lives), node, node.path, True, kept, kept))
                self.mirror.make_folder(place, self.laid[-1])

    def store(
        self, place: Slot, path: str, content: Content, lie: Sequence[Extent] | None = None, role: Role = "reference",
        attributes: int = 0,
    ) -> LaidFile:  # fmt: skip
        """Write a new file, with the folders above it."""
        assert place.writer is not None
        with self.acting(path):
            self.make_folders(place, path.rpartition("/")[0])
            when = self.tick(self.dice(path).number(4, 90))
            digests = Digests(self.sha256)
            chunks = self._passing(content, digests)
            node = place.writer.store(path, content.size, chunks, when, None, lie, attributes)
            kept = place.writer.moment(when)
            laid = LaidFile(
                place.name, len(place.lives), node, path, False, kept, kept, content.size, role, content.kind
            )
            laid.blake3, laid.sha256 = digests.result()
            if node.of is not None:  # a stream has the times of its file
                file = self.by_node[id(node.of)]
                laid.created, laid.modified = file.created, file.modified
        self._enter(laid)
        self._watch_content(laid)
        if node.of is not None:
            self._watch_moved(node)
        if self._together is None:
            self.mirror.store(place, [laid], Turns.of([laid.size], _READ))
        else:
            self._together.append(laid)
        return laid

    @contextmanager
    def together(self, place: Slot, turns: int | Turns) -> Iterator[None]:
        """Files stored in this block are written by turns by the mirror: of so many bytes, or as `turns` says once the
        block ends."""
        self._together = []
        try:
            yield
            if isinstance(turns, int):
                turns = Turns.of([laid.size for laid in self._together], turns)
            self.mirror.store(place, self._together, turns)
        finally:
            self._together = None

    def _passing(self, content: Content, digests: Digests) -> Iterator[bytes]:
        """Content on its way to the medium: digested, shown, and stopped where the user asks for it."""
        self.progress.at(self.step - 1, content.name)
        for chunk in digests.over(content.chunks()):
            self.progress.check()
            yield chunk

    def _enter(self, laid: LaidFile) -> None:
        self.laid.append(laid)
        self.counts[laid.role] += not laid.folder
        self.by_node[id(laid.node)] = laid

    def _watch_content(self, laid: LaidFile) -> None:
        place = self.places[laid.volume]
        assert place.writer is not None
        save = (lambda: self._save_original(laid)) if laid.role in ("reference", "index") else None
        laid.map = place.writer.map(laid.node)
        laid.content = self.books.watch(laid.map.stored, save=save)

    def _watch_moved(self, node: Node) -> None:
        """What stands inside of a record that was written anew is watched where it stands now."""
        _, writer = self.mounted(self.by_node[id(node)].volume)
        for other in writer.sharing(node):
            laid = self.by_node.get(id(other))
            if laid is None or laid.content is None or not laid.standing or laid.map == writer.map(other):
                continue
            self.books.forget(laid.content)
            self._watch_content(laid)

    def grow(self, laid: LaidFile, content: Content) -> None:
        """Append to a file; it stays the same file, with other digests."""
        place, writer = self.mounted(laid.volume)
        self._require_one_name(laid)
        assert laid.content is not None
        self.mirror.before_change(laid)
        old_size = laid.size
        with self.acting(laid.path):
            when = self.tick(self.dice(f"{laid.path}/{self.step}").number(4, 90))
            digests = Digests(self.sha256)
            for _ in digests.over(self.read(laid)):
                pass
            self.books.forget(laid.content)
            laid.grown_from += ((laid.size, laid.blake3),)
            writer.grow(laid.node, content.size, self._passing(content, digests), when)
            laid.blake3, laid.sha256 = digests.result()
        laid.size, laid.modified = laid.node.size, writer.moment(when)
        self._watch_content(laid)
        self._watch_moved(laid.node)
        self.mirror.grow(place, laid, old_size)

    def read(self, laid: LaidFile) -> Iterator[bytes]:
        """The content of a file that stands, in pieces."""
        writer = self.places[laid.volume].writer
        assert writer is not None
        return writer.map(laid.node).chunks(self.image, _READ)

    def rewrite(self, laid: LaidFile, content: Content, in_place: bool) -> LaidFile:
        """New content for a file, over the old or in new clusters; the old version ends as replaced."""
        place, writer = self.mounted(laid.volume)
        self._require_one_name(laid)
        self.mirror.before_change(laid)
        with self.acting(laid.path):
            when = self.tick(self.dice(f"{laid.path}/{self.step}").number(4, 90))
            digests = Digests(self.sha256)
            writer.rewrite(laid.node, content.size, self._passing(content, digests), when, in_place)
            new = LaidFile(
                laid.volume, laid.life, laid.node, laid.path, False, laid.created, writer.moment(when), content.size,
                laid.role, laid.kind,
            )  # fmt: skip
            new.blake3, new.sha256 = digests.result()
        new.former, new.index, new.index_tells = list(laid.former), laid.index, laid.index_tells
        laid.end, laid.ended_by = "replaced", self.step
        laid.record = writer.record(laid.node)
        self._enter(new)
        self._watch_content(new)
        self._watch_moved(new.node)
        self.mirror.rewrite(place, new, in_place)
        return new

    def rename(self, laid: LaidFile, path: str) -> None:
        """Another name or folder; the record it had is watched, unless the new one is written over it."""
        place, writer = self.mounted(laid.volume)
        self.make_folders(place, path.rpartition("/")[0])
        below = [one for one in self.standing(place) if is_under(one.node, laid.node)]
        old_path, evidence, above = laid.node.path, writer.evidence_after(laid.node, "linux"), self.above(laid.node)
        with self.acting(path):
            writer.rename(laid.node, path, self.tick())
        self.mirror.rename(place, old_path, laid)
        self._watch_moved(laid.node)
        new = RangeSet(writer.record(laid.node))
        left = writer.left_by_renaming(laid.node, evidence)
        if not any(new.overlap(extent) for extent in left.record):
            self._leave(laid, old_path, above, left)
        if laid.end == "live":
            streams = [self.by_node[id(one)] for one in writer.streams_of(laid.node)]
            for one in (laid, *streams, *below):
                one.former.append(one.path)
                one.path = one.node.path

    def link(self, laid: LaidFile, path: str) -> LaidFile:
        """A second name for a file."""
        place, writer = self.mounted(laid.volume)
        self.make_folders(place, path.rpartition("/")[0])
        with self.acting(path):
            node = writer.link(laid.node, path, self.tick())
        old = [laid, *(self.by_node[id(one)] for one in writer.streams_of(laid.node))]
        for one, name in zip(old, [node, *writer.streams_of(node)], strict=True):
            new = replace(one, node=name, path=name.path, former=[], records=[], others=())
            self._enter(new)
            self._watch_content(new)
        linked = self.by_node[id(node)]
        self._watch_moved(node)
        self.mirror.link(place, laid, linked)
        return linked

    def _require_one_name(self, laid: LaidFile) -> None:
        names = self.mounted(laid.volume)[1].names_of(laid.node)
        if names > 1:
            raise SpecimenError(f"{laid.path}: has {names} names, and a recipe changes only files that have one")

    def delete(self, laid: LaidFile, habits: Habits, end: End = "deleted") -> None:
        """Delete a file (with its streams, which go with it as they stand), a stream or an empty folder."""
        place, writer = self.mounted(laid.volume)
        streams = [self.by_node[id(one)] for one in writer.streams_of(laid.node)]
        if not laid.folder and writer.names_of(laid.node) > 1:
            end = "unlinked"  # the file stands, under its other names
            for stream in streams:
                stream.end, stream.ended_by = end, self.step
        gone = [(one, writer.evidence_after(one.node, habits)) for one in streams if end != "unlinked"]
        self.mirror.before_change(laid)
        path, above = laid.node.path, self.above(laid.node)
        beside = [one for one in writer.sharing(laid.node) if one is not laid.node]
        with self.acting("a deletion"):
            evidence = writer.delete(laid.node, self.tick(), habits)
            if evidence.of_record() != evidence:
                writer.flush()  # what stays beside the record is watched as it stands on the medium
        self.mirror.delete(place, path, laid.folder)
        for other in beside[:1] if not gone else ():
            self._watch_moved(other)
        for stream, told in gone:
            self.ended(stream, told, end)
        self._leave(laid, path, above, evidence)
        laid.record = evidence.record
        if laid.standing:  # one that was damaged before was lost then
            laid.end, laid.ended_by = end, self.step

    def delete_tree(self, laid: LaidFile, habits: Habits, end: End = "deleted") -> None:
        """Delete a file, or a folder with all that is in it."""
        _, writer = self.mounted(laid.volume)
        for node in reversed(list(writer.walk(laid.node)) if laid.folder else []):
            if node.of is None:
                self.delete(self.by_node[id(node)], habits, end)
        self.delete(laid, habits, end)

    def above(self, node: Node) -> tuple[LaidFile, ...]:
        """The folders that a node lies in."""
        return tuple(self.by_node[id(folder)] for folder in parents(node) if folder.parent is not None)

    def _leave(self, laid: LaidFile, path: str, above: tuple[LaidFile, ...], evidence: Evidence) -> None:
        """Watch a record that is no longer live."""
        remains = self.books.watch(evidence.where, _METADATA_GRAIN)
        laid.records.append(StaleRecord(path, laid.size, laid.start, above, evidence, remains))
        laid.others += tuple((place, self.books.watch(place.stored, _METADATA_GRAIN)) for place in evidence.copies)

    def ended(self, laid: LaidFile, evidence: Evidence, end: End) -> None:
        self._leave(laid, laid.node.path, self.above(laid.node), evidence)
        laid.end, laid.ended_by, laid.record = end, self.step, evidence.record

    def _save_original(self, laid: LaidFile) -> None:
        """Keep the content of a file that is about to be written over."""
        assert laid.content is not None
        target = self.folder / ORIGINALS / laid.blake3
        if target.exists():
            return
        target.parent.mkdir(exist_ok=True)
        with target.open("wb") as out:
            out.writelines(laid.map.chunks(self.image, _READ))

    # -- choosing ---------------------------------------------------------------------------

    def choose(
        self, place: Slot, patterns: Sequence[str], share: float = 1.0, files_only: bool = False
    ) -> list[LaidFile]:
        """What the patterns name on the volume of a place (see choosing.choose)."""
        return choose(self.standing(place), patterns, share, files_only, self.dice(f"step {self.step}"))
