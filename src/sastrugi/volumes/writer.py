"""What every file-system writer offers to those who lay specimens down."""

from __future__ import annotations

import datetime as dt
from abc import ABC, abstractmethod
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from typing import Literal

from sastrugi.media.extents import Extent, cut, join
from sastrugi.media.filemap import FileMap
from sastrugi.media.raw import RawImage
from sastrugi.volumes.allocation import ClusterMap, Run

Habits = Literal["linux", "windows", "macos", "camera"]
"""Whose way of deleting and formatting a step follows."""
ATTRIBUTES = {"read-only": 1, "hidden": 2, "system": 4}
"""Attributes a file can have besides those that follow from what it is; FAT and exFAT use the same bits."""
NameWorth = Literal["full", "like", "near"]
"""Of a way to read a name: all of it, all but its first character (which a like name may tell), or its short form."""


@dataclass(slots=True, eq=False)
class Node:
    """A live file or folder of a volume being written.

    `first_slot` and `slots` place its entries in the parent's table, `runs` its clusters. `attributes` are bits of
    `ATTRIBUTES`. `alias` is the short name (FAT), `aliases` those taken in a folder; `chained` tells that its clusters
    are linked in the FAT (exFAT).
    """

    name: str
    parent: Node | None
    folder: bool
    first_slot: int
    slots: int
    runs: list[Run]
    size: int
    children: dict[str, Node] = field(default_factory=dict)
    table: bytearray = field(default_factory=bytearray)
    search_from: int = 0
    attributes: int = 0
    alias: bytes = b""
    aliases: set[bytes] = field(default_factory=set)
    chained: bool = False

    @property
    def path(self) -> str:
        return f"{self.parent.path}/{self.name}" if self.parent else ""


@dataclass(frozen=True, slots=True)
class Evidence:
    """What still tells of a file once it is gone from its volume.

    `record` is where its directory entries stand, `placing` the part of them that holds size and first cluster,
    `names` the ways its name can be read and what each is worth, best first, `chains` the copies of its cluster chain
    (none if the record alone tells everything), `whole_start` whether the first cluster is told in full.
    """

    record: tuple[Extent, ...]
    placing: tuple[Extent, ...]
    names: tuple[tuple[tuple[Extent, ...], NameWorth], ...]
    contiguous: bool
    chains: tuple[tuple[Extent, ...], ...] = ()
    whole_start: bool = True


class VolumeWriter(ABC):
    """A mounted volume that can be written. Call `flush` to bring allocation structures and folder times to disk."""

    image: RawImage
    file_system: str
    where: Extent
    data: Extent
    """The part of the medium that holds clusters."""
    cluster_size: int
    root: Node
    clusters: ClusterMap
    fatal_structures: frozenset[str] = frozenset()
    """Those without which no driver mounts the volume."""
    spare_structures: frozenset[str] = frozenset()
    """Those that no driver needs to give the files."""

    # -- finding ----------------------------------------------------------------------------

    def find(self, path: str) -> Node | None:
        """The live file or folder at `path` (case does not count), or None."""
        node = self.root
        for part in parts_of(path):
            child = node.children.get(self.fold(part))
            if child is None:
                return None
            node = child
        return node

    def walk(self, under: Node | None = None) -> Iterator[Node]:
        """Every live node below `under` (the root), folders before what is in them, in the order they were made."""
        for child in (under or self.root).children.values():
            yield child
            yield from self.walk(child) if child.folder else ()

    def map(self, node: Node) -> FileMap:
        """Where the content of a file lies."""
        return FileMap.of(self.run_extents(node.runs), node.size)

    def extents(self, node: Node) -> tuple[Extent, ...]:
        """Where the content of a file (or the table of a folder) lies on the medium, cut to its size."""
        whole = self.run_extents(node.runs)
        return whole if node.folder else cut(whole, node.size)

    def run_extents(self, runs: Iterable[Run]) -> tuple[Extent, ...]:
        first, size = self.clusters.first, self.cluster_size
        return join(Extent(self.data.offset + (start - first) * size, length * size) for start, length in runs)

    def free_extents(self) -> tuple[Extent, ...]:
        """The free clusters, as extents."""
        return self.run_extents(self.clusters.free_runs(self.clusters.first, self.clusters.end))

    @abstractmethod
    def fold(self, name: str) -> str:
        """The form in which two names are the same to this file system."""

    @abstractmethod
    def record(self, node: Node) -> tuple[Extent, ...]:
        """Where the directory record of `node` stands on the medium."""

    @abstractmethod
    def evidence(self, node: Node) -> Evidence:
        """What tells of a live node now."""

    @abstractmethod
    def evidence_after(self, node: Node, habits: Habits) -> Evidence:
        """What tells of a node once its record is marked as deleted."""

    @abstractmethod
    def chain(self, node: Node) -> tuple[Extent, ...]:
        """The entries of the first FAT that a driver reads to follow a file's or folder's clusters; empty if none."""

    @abstractmethod
    def structures(self) -> dict[str, tuple[Extent, ...]]:
        """The volume's own structures by name, for damage: boot, backup-boot, fat1, fat2, root, bitmap …"""

    # -- writing ----------------------------------------------------------------------------

    @abstractmethod
    def make_folder(self, path: str, when: dt.datetime) -> Node:
        """The folder at `path`, made with all the folders above it if it is not there."""

    @abstractmethod
    def store(
        self, path: str, size: int, chunks: Iterable[bytes], when: dt.datetime, modified: dt.datetime | None = None,
        runs: list[Run] | None = None, attributes: int = 0,
    ) -> Node:  # fmt: skip
        """Write a new file of exactly `size` bytes, given in pieces, into a folder that exists.

        `runs` are clusters reserved for it with `reserve`; without them it goes where the driver would put it.
        """

    @abstractmethod
    def grow(
        self, node: Node, size: int, chunks: Iterable[bytes], when: dt.datetime, runs: list[Run] | None = None
    ) -> None:
        """Append `size` bytes to a file."""

    @abstractmethod
    def rewrite(self, node: Node, size: int, chunks: Iterable[bytes], when: dt.datetime, in_place: bool) -> None:
        """Give a file new content: over its old clusters, or (as on opening it cut to nothing) in new ones."""

    @abstractmethod
    def rename(self, node: Node, path: str, when: dt.datetime) -> None:
        """Give a file or folder another name or folder on the same volume."""

    @abstractmethod
    def delete(self, node: Node, when: dt.datetime, habits: Habits = "linux") -> Evidence:
        """Delete a file or an empty folder; answers what still tells of it."""

    @abstractmethod
    def flush(self) -> None:
        """Bring folder times and allocation structures up to date on the medium."""

    def clusters_for(self, size: int) -> int:
        return -(-size // self.cluster_size)

    def reserve(self, count: int, begin: int | None = None) -> list[Run]:
        """Allocate `count` clusters from `begin` on (by default: where the driver would) for a later `store`."""
        return self.clusters.take(count, begin)


def parts_of(path: str) -> list[str]:
    return [part for part in path.split("/") if part]
