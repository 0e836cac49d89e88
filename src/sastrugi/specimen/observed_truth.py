"""Truth from looking: what stands of files whose content and places are known, and what still tells of them.

For media that our own writer did not lay down, so that there are no books to ask.
"""

from __future__ import annotations

import datetime as dt
from bisect import bisect_right
from collections import defaultdict
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

from sastrugi.media import Extent, FileMap, Medium, RangeSet
from sastrugi.media.filemap import AS_IT_STANDS
from sastrugi.media.partitions import read_table
from sastrugi.specimen.blocks import BLOCK, runs_where
from sastrugi.specimen.catalogue import Original
from sastrugi.specimen.ceiling import Copy, Share, add_parts_of_units, equal_blocks, share_of, with_shared_names
from sastrugi.specimen.truth import ORIGINALS, UNKNOWN, Ceiling, End, NameCeiling, Placed, Role, TruthFile, truth_entry
from sastrugi.volumes.metadata_scan import loose_tables, marked
from sastrugi.volumes.orphan_folders import NamePieces, told_anywhere
from sastrugi.volumes.probing import probe
from sastrugi.volumes.reader import Entry, Times, Volume
from sastrugi.volumes.record_peek import names_match

_READ = 4 << 20


@dataclass(slots=True)
class KnownFile:
    """A file whose content is known: where it lies, and what is known of its life."""

    original: Original
    path: str
    kind: str
    blake3: str
    created: dt.datetime | None
    modified: dt.datetime | None
    volume: str = ""
    life: int = 1
    role: Role = "reference"
    end: End = "live"
    ended_by: int | None = None
    lost: bool = False
    former: tuple[str, ...] = ()
    stands_as: str = ""
    stream: str = ""
    sha256: str = ""
    map: FileMap = field(default_factory=FileMap)
    gone: RangeSet = field(default_factory=RangeSet)
    """The parts of the medium on which it no longer stands."""
    parts: RangeSet = field(default_factory=RangeSet)
    """What is right in coded units that are not whole any more."""
    rest_tells: bool = True
    """Whether any of what has no known place tells something (see ceiling.tells_nothing)."""

    @property
    def standing(self) -> int:
        """Bytes that stand."""
        size = self.original.size
        if not self.rest_tells and not self.gone:
            return size
        return self._right().count(Extent(0, size))

    def _right(self) -> RangeSet:
        out = self.map.right(self.gone)
        for part in self.parts:
            out.add(part)
        return out

    def copy(self) -> Copy:
        size = self.original.size
        stands = RangeSet([Extent(0, size)]) if self.standing == size else self._right()
        return Copy(stands, self.path if self.end == "live" else "")

    @property
    def start(self) -> int:
        """The first byte of the medium that it lies on; -1 if its beginning has no known place."""
        unknown = self.map.unknown()
        return -1 if self.map.start is None or (unknown and not unknown[0].offset) else self.map.start


@dataclass(frozen=True, slots=True)
class MediumPart:
    """One place for a volume on a medium, and the volume if we can read it."""

    name: str
    where: Extent
    listed: bool
    reader: Volume | None

    @property
    def file_system(self) -> str:
        return self.reader.file_system.lower() if self.reader else UNKNOWN


def parts_of_medium(medium: Medium) -> list[MediumPart]:
    """The volumes that the partition table lists, or the medium as one volume."""
    listed = read_table(medium)
    if not listed:
        whole = Extent(0, medium.size)
        return [MediumPart("medium", whole, False, probe(medium, whole))]
    known: set[int] = set()
    out: list[MediumPart] = []
    for number, row in enumerate(listed, 1):
        out.append(
            MediumPart(
                f"part{number}", row.where, True, None if row.where.offset in known else probe(medium, row.where)
            )
        )
        known.add(row.where.offset)
    return out


class RecordIndex:
    """What tells of files on a medium: entries of its volumes, and pieces of folders anywhere."""

    def __init__(self, medium: Medium, parts: Sequence[MediumPart]) -> None:
        self.entries: dict[str, list[Entry]] = {}
        self._by_start: defaultdict[tuple[str, int], list[Entry]] = defaultdict(list)
        self._loose: dict[tuple[str, int], Times] = {}
        self._folders: set[str] = set()
        """Names of folders that any record tells."""
        self._readable = {part.name: part.reader is not None for part in parts}
        for part in parts:
            entries = [*part.reader.entries(), *part.reader.history()] if part.reader else []
            self._folders.update(entry.name for entry in entries if entry.folder)
            files = [entry for entry in entries if not entry.folder]
            self.entries[part.name] = files
            for entry in files:
                start = entry.map.start
                self._by_start[part.name, -1 if start is None else start].append(entry)
        tables = list(loose_tables(medium, marked(medium, [Extent(0, medium.size)]), {}))
        self._names = NamePieces(tables)
        for name, folder, size, times in told_anywhere(tables):
            if folder:
                self._folders.add(name)
            else:
                self._loose.setdefault((name.casefold(), size), times)

    def of(self, file: KnownFile) -> tuple[Placed, NameCeiling, tuple[Extent, ...]]:
        """What a program can learn of a file that is not live: of its place and its name, and where the best record
        stands. Where we cannot read the file system, or only a loose record tells of it, this is an upper bound."""
        if not self._readable.get(file.volume, False):
            return "whole", "full", ()
        name = file.path.rpartition("/")[2]
        best: tuple[Placed, NameCeiling, tuple[Extent, ...]] = ("none", "none", ())
        for entry in self._by_start[file.volume, file.start] if file.original.size else []:
            placed: Placed = "start"
            if entry.size == file.original.size and entry.map.stored == file.map.stored:
                placed = "whole"
            named: NameCeiling = "near" if names_match(entry.name, name) else "none"
            if entry.name == name:
                named = self._with_folders(file, entry.full_path == file.path)
            if not best[2] or (placed, named) == ("whole", "full"):
                best = (placed, named, entry.record)
        if best[1] != "full" and (name.casefold(), file.original.size) in self._loose:
            return "whole", self._with_folders(file, False), ()
        if best[1] != "full" and self._names.tell(name):
            # Which record these pieces are of is not known; the best one may be another file's.
            return best[0], self._with_folders(file, False), ()
        return best

    def _with_folders(self, file: KnownFile, path_stands: bool) -> NameCeiling:
        """How good a name is that stands: `full` only if those of the folders above it stand, too."""
        folders = file.path.split("/")[1:-1]
        return (
            "full"
            if path_stands or all(folder in self._folders or self._names.tell(folder) for folder in folders)
            else "name"
        )

    def times_of(self, file: KnownFile) -> Times | None:
        """The times of a file as a record tells them that names its place, or else its name and size."""
        for entry in self._by_start[file.volume, file.start] if file.original.size else []:
            if entry.size == file.original.size and entry.times.modified:
                return entry.times
        return self._loose.get((file.path.rpartition("/")[2].casefold(), file.original.size))


def look_again(medium: Medium, file: KnownFile) -> None:
    """Bring up to date which parts of a file stand where they lay."""
    gone = RangeSet()
    for position, extent, coding in file.map.owned():
        if coding != AS_IT_STANDS:
            continue
        for at in range(0, extent.length, _READ):
            length = min(_READ, extent.length - at)
            then = file.original.read(position + at, length)
            same = equal_blocks(medium.read(extent.offset + at, length).ljust(length, b"\0"), then)
            for first, behind in runs_where(~same):
                lo, hi = first * BLOCK, min(behind * BLOCK, length)
                gone.add(Extent(extent.offset + at + lo, hi - lo))
    for position, one in file.map.units():
        if file.map.read(medium, position, one.length) != file.original.read(position, one.length):
            for extent in one.stored:
                gone.add(extent)
    file.gone, file.parts = gone, RangeSet()
    add_parts_of_units(medium, file.map, gone, file.original.read, file.parts)


def truth_of(number: int, file: KnownFile, records: RecordIndex, share: Share) -> TruthFile:
    """The entry of a file in the truth; `share` is what of its bytes stands anywhere on the medium."""
    record: tuple[Extent, ...] = ()
    if file.end == "live":
        ceiling = Ceiling(bytes=share.bytes, placed="whole", name="full")
    else:
        placed, name, where = records.of(file)
        ceiling = Ceiling(bytes=share.bytes, placed=placed, name=name, live=share.live)
        record = where
    return truth_entry(
        number, file, file.original.size, file.lost, file.map, file.gone, (), record, file.stands_as or file.path,
        file.stream, share.copies, ceiling,
    )  # fmt: skip


def truths_of(files: Iterable[KnownFile], records: RecordIndex, folder: Path) -> tuple[TruthFile, ...]:
    """All files, in order; the content of those that are not whole any more is kept in the specimen's folder."""
    files = list(files)
    copies: defaultdict[str, list[KnownFile]] = defaultdict(list)
    for file in files:
        copies[file.blake3].append(file)
    shares = {
        digest: share_of(those[0].original.size, [file.copy() for file in those]) for digest, those in copies.items()
    }
    out: list[TruthFile] = []
    takers = _Takers(files)
    for number, file in enumerate(files, 1):
        one = truth_of(number, file, records, shares[file.blake3])
        out.append(replace(one, gone_to=takers.of(one.gone)) if one.gone else one)
        if not out[-1].untouched and out[-1].kept:
            _keep(file, folder)
    return with_shared_names(out)


class _Takers:
    """Who lies where now."""

    def __init__(self, files: Iterable[KnownFile]) -> None:
        stand = [(part, file.path) for file in files for own in file.map.stored for part in file.gone.gaps(own)]
        stand.sort()
        self._extents = [extent for extent, _ in stand]
        self._paths = [path for _, path in stand]

    def of(self, gone: Sequence[Extent]) -> tuple[str, ...]:
        out: dict[str, None] = {}
        for part in gone:
            k = max(bisect_right(self._extents, part) - 1, 0)
            while k < len(self._extents) and self._extents[k].offset < part.end:
                if self._extents[k].end > part.offset:
                    out[self._paths[k]] = None
                k += 1
        return tuple(out)


def _keep(file: KnownFile, folder: Path) -> None:
    target = folder / ORIGINALS / file.blake3
    if target.exists():
        return
    target.parent.mkdir(exist_ok=True)
    with target.open("wb") as out:
        for at in range(0, file.original.size, _READ):
            out.write(file.original.read(at, _READ))
