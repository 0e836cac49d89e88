"""What every file-system writer offers to those who lay specimens down."""

from __future__ import annotations

import datetime as dt
from abc import ABC, abstractmethod
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from typing import Generic, Literal, Self, TypeVar

from sastrugi.errors import VolumeError
from sastrugi.media.extents import Extent, RangeSet, join, within
from sastrugi.media.filemap import FileMap
from sastrugi.media.raw import RawImage
from sastrugi.volumes.allocation import ClusterMap, Run, join_runs
from sastrugi.volumes.registry import title_of

Habits = Literal["linux", "windows", "macos", "camera", "old-linux"]
"""Whose way of deleting and formatting a step follows; `old-linux` is what Linux did before 2021 (version 5.13)."""
ATTRIBUTES = {"read-only": 1, "hidden": 2, "system": 4, "compressed": 0x800}
"""Attributes a file can have besides those that follow from what it is; all that have them use the same bits."""
PLAIN_ATTRIBUTES = 7
"""Those that every file system has."""
NameWorth = Literal["full", "like", "near"]
"""Of a way to read a name: all of it, all but its first character (which a like name may tell), or its short form."""
PlaceWorth = Literal["whole", "start", "hint"]
"""Of a way to read a place: all of it, where it begins, or half of that."""
Reuse = Literal["next", "first", "last", "spread"]
"""Where freed space comes in again."""
RECORD = "record"
_PLENTY = 64
"""Files with room ahead that must fit, or none is given."""


@dataclass(slots=True, eq=False)
class Node:
    """A live name of a file or folder on a volume being written; a writer's own has more. `attributes` are bits of
    `ATTRIBUTES`. A further stream of a file has that in `of`, and `file:stream` as its name."""

    name: str
    parent: Self | None
    folder: bool
    size: int
    children: dict[str, Self] = field(default_factory=dict, kw_only=True)
    attributes: int = field(default=0, kw_only=True)
    of: Self | None = field(default=None, kw_only=True)

    @property
    def stream(self) -> str:
        """What a further stream is called; empty for a file's own content."""
        return self.name.rpartition(":")[2] if self.of is not None else ""

    @property
    def path(self) -> str:
        return f"{self.parent.path}/{self.name}" if self.parent else ""


@dataclass(frozen=True, slots=True)
class Trace:
    """One way in which something of a file can still be read: while all of `where` stands, its name or its place is
    told, as well as `worth` says. `source` is what tells it: its own record, or something that a newer file of the same
    name goes on using or writing (a chain of clusters, a journal)."""

    tells: Literal["name", "place"]
    worth: NameWorth | PlaceWorth
    where: tuple[Extent, ...]
    source: str = RECORD


@dataclass(frozen=True, slots=True)
class Evidence:
    """What still tells of a file once it is gone from its volume: `record` is where its own record stands, `traces`
    are the ways to read name and place, of each the best first. `copies` are other places where its content stands (a
    file inside of its record stands wherever that was copied to)."""

    record: tuple[Extent, ...]
    traces: tuple[Trace, ...]
    copies: tuple[FileMap, ...] = ()

    @property
    def where(self) -> tuple[Extent, ...]:
        """All that any of it stands on."""
        if len(self.record) == 1:  # nearly always the record is all of it
            (own,) = self.record
            if all(own.offset <= part.offset and part.end <= own.end for t in self.traces for part in t.where):
                return self.record
        return tuple(RangeSet(part for one in (self.record, *(t.where for t in self.traces)) for part in one))

    def of_record(self) -> Evidence:
        """What the record alone tells."""
        return Evidence(self.record, tuple(trace for trace in self.traces if trace.source == RECORD))


N = TypeVar("N", bound=Node)


class VolumeWriter(ABC, Generic[N]):
    """A mounted volume that can be written. Call `flush` to bring allocation structures and folder times to disk."""

    image: RawImage
    file_system: str
    where: Extent
    data: Extent
    """The part of the medium that is given out in units; the first of them begins where it does."""
    cluster_size: int
    """Bytes of a unit: cluster or block."""
    root: N
    clusters: ClusterMap
    """Which units are given out."""
    holds_back: int = 0
    """Bytes of an open file that a driver keeps in memory before it asks where they are to go."""
    fatal_structures: frozenset[str] = frozenset()
    """Those without which no driver mounts the volume."""
    spare_structures: frozenset[str] = frozenset()
    """Those that no driver needs to give the files."""

    # -- finding ----------------------------------------------------------------------------

    def find(self, path: str) -> N | None:
        """The live file or folder at `path` (case does not count), or None."""
        node = self.root
        for part in parts_of(path):
            child = node.children.get(self.fold(part))
            if child is None:
                return None
            node = child
        return node

    def walk(self, under: N | None = None) -> Iterator[N]:
        """Every live node below `under` (the root), folders before what is in them, in the order they were made."""
        for child in (under or self.root).children.values():
            yield child
            yield from self.walk(child) if child.folder else ()

    @abstractmethod
    def map(self, node: N) -> FileMap:
        """Where the content of a file, or the table of a folder, lies."""

    def extents(self, node: N) -> tuple[Extent, ...]:
        """What of the medium it stands on."""
        return self.map(node).stored

    def run_extents(self, runs: Iterable[Run]) -> tuple[Extent, ...]:
        first, size = self.clusters.first, self.cluster_size
        return join(Extent(self.data.offset + (start - first) * size, length * size) for start, length in runs)

    def extent_runs(self, extents: Iterable[Extent]) -> list[Run]:
        """Units by where they lie."""
        first, size = self.clusters.first, self.cluster_size
        return join_runs(((at - self.data.offset) // size + first, length // size) for at, length in extents)

    def free_extents(self) -> tuple[Extent, ...]:
        """What is given out to nothing."""
        return self.run_extents(self.clusters.free_runs(self.clusters.first, self.clusters.end))

    @abstractmethod
    def fold(self, name: str) -> str:
        """The form in which two names are the same to this file system."""

    @abstractmethod
    def record(self, node: N) -> tuple[Extent, ...]:
        """Where the record of `node` stands on the medium."""

    @abstractmethod
    def evidence(self, node: N) -> Evidence:
        """What tells of a live node now."""

    @abstractmethod
    def evidence_after(self, node: N, habits: Habits) -> Evidence:
        """What tells of a node once its record is marked as deleted."""

    @abstractmethod
    def needs(self, node: N) -> tuple[Extent, ...]:
        """All metadata that a driver reads to give a file or folder: its record, and what tells where it lies."""

    @abstractmethod
    def structures(self) -> dict[str, tuple[Extent, ...]]:
        """The volume's own structures by name, for damage: boot, backup-boot, fat1, fat2, root, bitmap …"""

    # -- writing ----------------------------------------------------------------------------

    @abstractmethod
    def make_folder(self, path: str, when: dt.datetime) -> N:
        """The folder at `path`, made with all the folders above it if it is not there."""

    @abstractmethod
    def store(
        self, path: str, size: int, chunks: Iterable[bytes], when: dt.datetime, modified: dt.datetime | None = None,
        lie: Sequence[Extent] | None = None, attributes: int = 0,
    ) -> N:  # fmt: skip
        """Write a new file of exactly `size` bytes, given in pieces, into a folder that exists.

        `lie` is space reserved for it with `reserve`; without it the file goes where the driver would put it.
        """

    @abstractmethod
    def grow(self, node: N, size: int, chunks: Iterable[bytes], when: dt.datetime) -> None:
        """Append `size` bytes to a file."""

    @abstractmethod
    def rewrite(self, node: N, size: int, chunks: Iterable[bytes], when: dt.datetime, in_place: bool) -> None:
        """Give a file new content: over its old clusters, or (as on opening it cut to nothing) in new ones."""

    @abstractmethod
    def rename(self, node: N, path: str, when: dt.datetime) -> None:
        """Give a file or folder another name or folder on the same volume."""

    def told_since(self, gone: Evidence) -> Evidence | None:
        """What tells now of a file of which a deletion or renaming left `gone`: copies of metadata that were made since
        may hold what is left of it, too. None where the file system makes none."""
        return None

    def spelled(self, node: N, name: str, folder: N) -> tuple[Trace, ...]:
        """Further entries that still spell the name that a file, now perhaps gone, had in a folder: in tables that were
        left or moved, in journals. To be asked after a `flush`; empty where the file's own record is the only one."""
        return ()

    def left_by_renaming(self, node: N, before: Evidence) -> Evidence:
        """What a renaming, which was just done, left of the record of the old name; `before` is what a deletion would
        have left."""
        return before.of_record()

    def check_name(self, name: str, parent: N) -> None:
        """Raises VolumeError where a folder of this file system cannot have this name."""

    def new_place(self, path: str) -> tuple[N, str]:
        """The folder and the name of a file that is to be made at `path`; raises VolumeError where it cannot."""
        folder_path, _, name = path.rstrip("/").rpartition("/")
        parent = self.find(folder_path)
        if parent is None or not parent.folder:
            raise VolumeError(f"{folder_path}: there is no such folder to store {name} in")
        self.check_name(name, parent)
        if self.fold(name) in parent.children:
            raise VolumeError(f"{path}: there is already a file of this name")
        return parent, name

    def new_home(self, node: N, path: str) -> tuple[N, str]:
        """The folder and the name under which a node is to stand; raises VolumeError where it cannot."""
        folder_path, _, name = path.rstrip("/").rpartition("/")
        parent = self.find(folder_path)
        if parent is None or not parent.folder:
            raise VolumeError(f"{folder_path}: there is no such folder to move {node.name} to")
        there = parent.children.get(self.fold(name))
        if there is not None and there is not node:
            raise VolumeError(f"{path}: there is already a file of this name")
        above: N | None = parent
        while above is not None:
            if above is node:
                raise VolumeError(f"{node.path}: a folder cannot be moved into itself")
            above = above.parent
        return parent, name

    def names_of(self, node: N) -> int:
        """How many names the file of a node has."""
        return 1

    def streams_of(self, node: N) -> list[N]:
        """The further streams of a file, under this name of it."""
        return []

    def sharing(self, node: N) -> list[N]:
        """The names and streams that stand in one record with a node: what is inside of that moves when any changes."""
        return []

    def link(self, node: N, path: str, when: dt.datetime) -> N:
        """Give a file a second name. Raises VolumeError where the file system has no hard links."""
        raise VolumeError(f"{title_of(self.file_system)} has no hard links: copy {node.path} instead")

    def moment(self, when: dt.datetime) -> dt.datetime:
        """A recipe's moment as the volume keeps it: with the zone UTC where it keeps that, else as it is."""
        return when

    @abstractmethod
    def delete(self, node: N, when: dt.datetime, habits: Habits = "linux") -> Evidence:
        """Delete a file or an empty folder; answers what still tells of it."""

    @abstractmethod
    def flush(self) -> None:
        """Bring folder times and allocation structures up to date on the medium."""

    def write_over(self, extents: Iterable[Extent], content: bytes) -> None:
        """Write bytes over a row of extents, as far as both go."""
        for extent in extents:
            if not content:
                break
            self.image.write(extent.offset, content[: extent.length])
            content = content[extent.length :]

    def fill(
        self, path: str, extents: Sequence[Extent], size: int, chunks: Iterable[bytes], skip: int = 0, grain: int = 512
    ) -> None:
        """Write exactly `size` bytes of content from byte `skip` on; the rest of the last `grain` bytes becomes
        zero."""
        at, came = skip, 0
        for chunk in chunks:
            came += len(chunk)
            if came > size:
                break
            self.write_over(within(extents, at, len(chunk)), chunk)
            at += len(chunk)
        if came != size:
            raise VolumeError(f"{path}: {came:,} bytes came where {size:,} were announced")
        padding = bytes(-at % grain)
        self.write_over(within(extents, at, len(padding)), padding)

    # -- space ------------------------------------------------------------------------------

    @property
    def room(self) -> int:
        """Bytes that are given out to nothing."""
        return self.clusters.free * self.cluster_size

    def space_for(self, size: int) -> int:
        """Bytes that are given out for a file of `size` bytes: whole units."""
        return self.clusters_for(size) * self.cluster_size

    def clusters_for(self, size: int) -> int:
        return -(-size // self.cluster_size)

    def reserve(
        self, space: int, where: Reuse | int = "next", pick: Callable[[int, int], int] = lambda lo, hi: lo
    ) -> tuple[Extent, ...]:
        """Give out `space` bytes (whole units) for a later `store`: where the driver would (`next`), the first that are
        free, behind all that was ever used (`last`), from a unit that `pick` chooses on (`spread`), or from a byte of
        the medium on."""
        units = self.clusters
        begin: int | None = None
        if isinstance(where, int):
            begin = (where - self.data.offset) // self.cluster_size + units.first
        elif where == "first":
            begin = units.first
        elif where == "last":
            begin = units.highest + 1
        elif where == "spread":
            begin = pick(units.first, min(units.end - 1, 2 * units.highest))
        return self.run_extents(units.take(space // self.cluster_size, begin))

    def reserve_more(self, given: Sequence[Extent], space: int) -> tuple[Extent, ...]:
        """Give out `space` bytes more (whole units) to a file that is open while others are written, too, and has
        `given`: as the driver would, which may give more than was asked for (see `give_back`). Here: behind its end, or
        where a new file would begin."""
        return self.reserve(space, given[-1].end if given else "next")

    def with_room_ahead(self, space: int, ahead: int) -> int:
        """Bytes to give out where `space` are needed and a driver likes to give `ahead`, which it does while there is
        plenty."""
        return max(space, ahead) if self.room > _PLENTY * ahead else space

    def give_back(self, extents: Iterable[Extent]) -> None:
        """Take back what was reserved and is not needed."""
        self.clusters.release(self.extent_runs(extents))


def parts_of(path: str) -> list[str]:
    return [part for part in path.split("/") if part]
