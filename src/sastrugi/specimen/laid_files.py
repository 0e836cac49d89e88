"""What the bench remembers of everything it laid down: files, folders, their records, and the lives of volumes."""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from sastrugi.media import Extent, RangeSet
from sastrugi.media.filemap import FileMap
from sastrugi.specimen.ceiling import Share
from sastrugi.specimen.truth import Ceiling, End, NameCeiling, Placed, Role
from sastrugi.specimen.write_tracker import TrackedExtents
from sastrugi.volumes.writer import Evidence, Node, VolumeWriter

_PLACED: tuple[Placed, ...] = ("none", "hint", "start", "whole")


class Series:
    """First characters of names that stand, by what the names of a series share: the others up to the last dot, digits
    alike. So a camera's next picture tells the first character of those that were deleted."""

    def __init__(self, every: Iterable[LaidFile]) -> None:
        self._known = {(_shared(name), name[:1].casefold()) for laid in every for name in laid.names_standing()}

    def tells(self, name: str) -> bool:
        """Whether the first character of `name` could be worked out."""
        return (_shared(name), name[:1].casefold()) in self._known


def _shared(name: str) -> str:
    return re.sub(r"\d", "#", (name.rpartition(".")[0] or name)[1:].casefold())


_WORTH: tuple[NameCeiling, ...] = ("none", "type", "near", "name", "full")


@dataclass(slots=True)
class Life:
    """The time between two formats of a volume."""

    number: int
    file_system: str
    cluster: int
    label: str
    where: Extent
    data: int
    began: int
    end: End = "live"
    ended_by: int | None = None


@dataclass(slots=True, eq=False)
class Slot:
    """A place for volumes, the volume that is on it now, and the lives it has had. `trouble` says why nothing can be
    done on it, if so."""

    name: str
    where: Extent
    listed: bool
    logical: bool = False
    writer: VolumeWriter[Any] | None = None
    lives: list[Life] = field(default_factory=list)
    trouble: str = ""

    @property
    def life(self) -> Life:
        return self.lives[-1]


@dataclass(slots=True, eq=False)
class StaleRecord:
    """A record that is no longer live: under which path it stood, which size and first byte it told, and what of it
    still tells."""

    path: str
    size: int
    start: int
    above: tuple[LaidFile, ...]
    evidence: Evidence
    remains: TrackedExtents

    def placed(self, size: int, start: int) -> Placed:
        """What it tells of where a file of `size` bytes lies that begins at `start`."""
        told = self._standing("place")
        if not told or self.start != start:
            return "none"
        if told == "hint":
            return "hint"
        return "whole" if told == "whole" and self.size == size else "start"

    def _standing(self, what: str) -> str:
        """The best that its traces tell of name or place, of those that stand; empty if none does."""
        of = (trace for trace in self.evidence.traces if trace.tells == what)
        return next((trace.worth for trace in of if self.remains.stands(trace.where)), "")

    @property
    def record(self) -> tuple[Extent, ...]:
        """Where it stands; nowhere, where only something else tells of the place still."""
        told = [t.where for t in self.evidence.traces if t.tells == "place" and self.remains.stands(t.where)]
        own = RangeSet(self.evidence.record)
        return self.evidence.record if not told or any(own.overlap(part) for part in told[0]) else ()

    @property
    def named_in_full(self) -> bool:
        """Whether the name itself stands, with its first character."""
        return self._standing("name") == "full"

    def name(self, path: str, series: Series) -> NameCeiling:
        """The best name that this record gives a file whose right path is `path`."""
        own = self._standing("name")
        stem, wanted = self.path.rpartition("/"), path.rpartition("/")
        if not own:
            return "none"
        if stem[2] != wanted[2]:
            same = "." in wanted[2] and stem[2].rpartition(".")[2].lower() == wanted[2].rpartition(".")[2].lower()
            return "type" if same else "none"
        if own == "near" or (own == "like" and not series.tells(wanted[2])):
            return "near"
        # Folders are called what they were called before they went to a bin, with all that is in them. A path with
        # other folders above it is whole all the same, as it is for those who score names.
        found = f"{self.above[0].path}/{stem[2]}" if self.above else self.path
        near = self.above[: wanted[0].count("/")]
        return "full" if found.endswith(path) and all(folder.named(series) for folder in near) else "name"


@dataclass(slots=True, eq=False)
class LaidFile:
    """One version of a file, or a folder, from its writing to its end. `records` are those that are no longer live;
    `index` is the file that tells its name while it is in a bin, or that of the folder it lies in: `index_tells`."""

    volume: str
    life: int
    node: Node
    path: str
    folder: bool
    created: dt.datetime
    modified: dt.datetime
    size: int = 0
    role: Role = "reference"
    kind: str = ""
    blake3: str = ""
    sha256: str = ""
    former: list[str] = field(default_factory=list)
    map: FileMap = field(default_factory=FileMap)
    content: TrackedExtents | None = None
    others: tuple[tuple[FileMap, TrackedExtents], ...] = ()
    """Other places where its content was copied to, and what is left of them."""
    grown_from: tuple[tuple[int, str], ...] = ()
    """Size and digest of what it was before it grew: its beginning is that content still."""
    record: tuple[Extent, ...] = ()
    records: list[StaleRecord] = field(default_factory=list)
    index: LaidFile | None = None
    index_tells: str = ""
    end: End = "live"
    ended_by: int | None = None

    @property
    def standing(self) -> bool:
        """Whether it is on its volume now (in the bin or not)."""
        return self.end in ("live", "binned")

    def best_place(self) -> tuple[FileMap, TrackedExtents]:
        """Of the places where its content lay, the one of which most is left; the first of equals."""
        assert self.content is not None
        whole = Extent(0, self.size)
        places = [(self.map, self.content), *self.others]
        return max(places, key=lambda place: place[0].right(place[1].gone).count(whole)) if self.others else places[0]

    def named(self, series: Series) -> bool:
        """Whether a folder's name can still be read, with all above it."""
        return self.best_name(series) == "full"

    def best_name(self, series: Series) -> NameCeiling:
        """The best name that still stands somewhere."""
        if self.standing:
            return "full"
        names = [record.name(self.path, series) for record in self.records]
        if self.index_tells == self.path and self._indexed:
            names.append("full")
        return max(names, key=_WORTH.index, default="none")

    def stands_in_full(self, name: str) -> bool:
        """Whether it is there under this name, or a record that is no longer live still spells it."""
        if self.standing and self.node.name == name:
            return True
        return any(one.named_in_full and one.path.rpartition("/")[2] == name for one in self.records)

    @property
    def _indexed(self) -> bool:
        """Whether an index of a bin stands that tells its path, or that of a folder above it."""
        index = self.index
        if index is None or index.content is None:
            return False
        return any(not len(place.gone) for place in (index.content, *(copy for _, copy in index.others)))

    def names_standing(self) -> Iterator[str]:
        """The names under which it stands with their first characters."""
        if self.standing:
            yield self.node.name
        for record in self.records:
            if record.named_in_full:
                yield record.path.rpartition("/")[2]
        if self._indexed:
            yield from self.index_tells.split("/")[1:]

    def ceiling(self, share: Share, series: Series) -> Ceiling:
        """The most that could come back, from the books, with this share of its bytes still on the medium."""
        if self.standing:
            return Ceiling(bytes=share.bytes, placed="whole", name="full")
        best = self.best_record()
        placed = self._placed_by(best) if best else "none"
        return Ceiling(bytes=share.bytes, placed=placed, name=self.best_name(series), live=share.live)

    @property
    def start(self) -> int:
        """The first byte of its content on the medium; -1 for an empty file."""
        return -1 if self.map.start is None else self.map.start

    def _placed_by(self, record: StaleRecord) -> Placed:
        return record.placed(self.size, self.start)

    def best_record(self) -> StaleRecord | None:
        """Of the records that are no longer live, the one that tells most of where it lies; the last of equals."""
        return max(reversed(self.records), key=lambda record: _PLACED.index(self._placed_by(record)), default=None)


def folder_chain(folder: LaidFile | None, folders: Mapping[str, Sequence[LaidFile]]) -> tuple[LaidFile, ...]:
    """A folder and those above it, by their paths, the nearest first; the newest of several that had one path."""
    out: list[LaidFile] = []
    while folder is not None:
        out.append(folder)
        above = folders.get(folder.path.rpartition("/")[0], ())
        folder = above[-1] if above else None
    return tuple(out)
