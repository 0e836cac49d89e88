"""Records that are no longer in use, from wherever they stand, joined into files.

Numbers of the catalog are not given out twice, so whatever tells of a number tells of one file: a record with its key
both name and place, one whose key is gone the place, a thread the name. Of several the newest counts, by the time at
which the file was last changed and by the order in which a journal was written.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from typing import NamedTuple

from sastrugi.media.extents import Extent
from sastrugi.media.filemap import FileMap
from sastrugi.volumes.hfsplus.catalog_read import CatalogRecord, Fork, Overflow
from sastrugi.volumes.hfsplus.layout import (
    DATA_FORK,
    FILE_RECORD,
    FOLDER_RECORD,
    FOLDER_THREAD,
    INDIRECT_NAME,
    IS_FILE,
    KIND_MASK,
    PRIVATE_FOLDER,
    RESOURCE_FORK,
    RESOURCE_STREAM,
    ROOT,
    Geometry,
    of_seconds,
)
from sastrugi.volumes.hfsplus.mapping import ForkKey, map_of
from sastrugi.volumes.reader import Entry, Placement, Times

LOST_FOLDER, LOST_FILE = "folder-{}", "file-{}"
_BINS = ".Trashes"
_MOST_DEPTH = 256
_MOST_TOLD = 64
"""Records of one number that are kept."""
Path = tuple[str, ...]


class Told(NamedTuple):
    """A record that was found: where it stands, in what order (0: no order is known), and what tells of it in words."""

    record: CatalogRecord
    where: tuple[Extent, ...]
    order: int
    source: str

    @property
    def age(self) -> tuple[int, bool, int]:
        """The greatest is the newest; within a second a record with content comes behind one of an empty file, which is
        what it was when it was made."""
        return self.record.changed, bool(self.record.data.size), self.order


class PastName(NamedTuple):
    parent: int
    name: str
    age: tuple[int, bool, int]
    where: tuple[Extent, ...]
    folder: bool


@dataclass(slots=True)
class Pool:
    """What was found. `folders` are those that stand, by their numbers, with their paths."""

    geometry: Geometry
    folders: Mapping[int, Path] = field(default_factory=dict)
    files: defaultdict[int, dict[object, Told]] = field(default_factory=lambda: defaultdict(dict))
    """By their numbers, and by what the records say: of those that say the same the newest."""
    names: defaultdict[int, dict[tuple[int, str], PastName]] = field(default_factory=lambda: defaultdict(dict))
    links: defaultdict[int, list[Told]] = field(default_factory=lambda: defaultdict(list))
    """Names of files that have several, by the number under which the file is kept."""
    further: dict[ForkKey, list[Overflow]] = field(default_factory=dict)
    private: set[int] = field(default_factory=set)
    """The folders in which such files are kept."""
    _paths: dict[int, tuple[Path, float]] = field(default_factory=dict)

    def add(self, told: Told) -> None:
        record = told.record
        if record.kind == FOLDER_RECORD and record.name == PRIVATE_FOLDER:
            self.private.add(record.number)
        if record.kind == FILE_RECORD and record.is_link:
            if record.name is not None and len(self.links[record.special]) < _MOST_TOLD:
                self.links[record.special].append(told)
            return
        if record.kind == FILE_RECORD:
            own = self.files[record.number]
            says = (record.parent, record.name, record.changed, record.modified, record.data, record.resource)
            before = own.get(says)
            if (before is None and len(own) < _MOST_TOLD) or (before is not None and before.age < told.age):
                own[says] = told
        if record.name is not None:
            names, key = self.names[record.number], (record.parent, record.name)
            known = names.get(key)
            if (known is None and len(names) < _MOST_TOLD) or (known is not None and known.age < told.age):
                folder = record.kind in (FOLDER_RECORD, FOLDER_THREAD)
                names[key] = PastName(record.parent, record.name, told.age, told.where, folder)

    def add_further(self, one: Overflow) -> None:
        self.further.setdefault((one.number, one.fork), []).append(one)

    @property
    def made_empty(self) -> bool:
        """Whether the driver made files empty and told their sizes later: then a record of an empty file is none of
        one, perhaps."""
        return any(len({bool(told.record.data.size) for told in every.values()}) > 1 for every in self.files.values())

    # -- names ------------------------------------------------------------------------------

    def _best_name(self, number: int) -> PastName | None:
        """The newest name of a number that is told; of what went to a bin, the one it had before."""
        known = sorted(self.names.get(number, {}).values(), key=lambda name: name.age, reverse=True)
        if not known:
            return None
        outside = [name for name in known if self._above(name.parent)[0][:1] != (_BINS,)]
        return outside[0] if outside else known[0]

    def _above(self, number: int) -> tuple[Path, float]:
        """The path of a folder, standing or not, and how sure it is."""
        found = self._paths.get(number)
        if found is None:
            self._paths[number] = (LOST_FOLDER.format(number),), 0.5  # what leads back to itself ends here
            found = self._paths[number] = self._path_of(number)
        return found

    def _path_of(self, number: int) -> tuple[Path, float]:
        if number in self.folders:
            return self.folders[number], 1.0
        if number == ROOT:
            return (), 1.0
        name = self._best_name(number)
        if name is None:
            return (LOST_FOLDER.format(number),), 0.5
        above, sure = self._above(name.parent)
        return (*above, name.name)[:_MOST_DEPTH], sure

    def path(self, number: int) -> tuple[Path, float, str, tuple[Extent, ...]]:
        """Path of a file, how sure it is, where it comes from in words, and where the name stands."""
        name = self._best_name(number)
        if name is None:
            return (LOST_FILE.format(number),), 0.1, "no name of it is left", ()
        above, sure = self._above(name.parent)
        return (*above, name.name), sure, "a record that is no longer in use", name.where

    def is_folder(self, number: int) -> bool:
        return any(name.folder for name in self.names.get(number, {}).values())

    # -- files ------------------------------------------------------------------------------

    def map_of(self, fork: Fork, number: int, kind: int) -> tuple[FileMap, list[str]]:
        return map_of(fork, self.further.get((number, kind), ()), self.geometry)

    def best(self, number: int) -> Told:
        """The record that tells most of a file: of those that are whole the newest."""

        def rank(told: Told) -> tuple[bool, tuple[int, bool, int], bool]:
            wrong = self.map_of(told.record.data, number, DATA_FORK)[1]
            return not wrong, told.age, told.record.name is not None

        return max(self.files[number].values(), key=rank)

    def entries(self, number: int, told: Told) -> Iterator[Entry]:
        """A file that is gone, by one of its records, under all of its names."""
        record = told.record
        if record.mode & KIND_MASK not in (0, IS_FILE):
            return
        names = self._names_of(number, record)
        for kind, fork, stream in ((DATA_FORK, record.data, ""), (RESOURCE_FORK, record.resource, RESOURCE_STREAM)):
            if stream and not fork.size:
                continue
            place, wrong = self.map_of(fork, number, kind)
            if fork.size and not place.size:
                continue
            placements = (Placement(place, "by its record"),) if fork.size else ()
            for path, sure, note, where in names:
                yield Entry(
                    path, False, True, place.size, times_of(record), tuple(dict.fromkeys((*where, *told.where))),
                    placements, sure, note, list(wrong), stream=stream, identity=number, source=told.source,
                )  # fmt: skip

    def _names_of(self, number: int, record: CatalogRecord) -> list[tuple[Path, float, str, tuple[Extent, ...]]]:
        apart = record.name == INDIRECT_NAME.format(number) and bool(self.links.get(number))
        if not apart:
            return [self.path(number)]
        out: dict[Path, tuple[Path, float, str, tuple[Extent, ...]]] = {}
        for link in sorted(self.links[number], key=lambda one: one.age, reverse=True):
            above, sure = self._above(link.record.parent)
            path = (*above, link.record.name or "")
            out.setdefault(path, (path, sure, "a record of one of its names", link.where))
        return list(out.values())


def times_of(record: CatalogRecord) -> Times:
    accessed = of_seconds(record.accessed)
    return Times(of_seconds(record.created), of_seconds(record.modified), accessed.date() if accessed else None)
