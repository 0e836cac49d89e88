"""What every file-system reader answers with, and how a reader is found for a place on a medium."""

from __future__ import annotations

import datetime as dt
from abc import ABC, abstractmethod
from collections.abc import Iterator
from dataclasses import dataclass, field

from sastrugi.media.extents import Extent
from sastrugi.media.filemap import FileMap


@dataclass(frozen=True, slots=True)
class Times:
    """Time stamps as the volume keeps them: with a zone where it keeps UTC, else local time without one."""

    created: dt.datetime | None = None
    modified: dt.datetime | None = None
    accessed: dt.date | None = None


@dataclass(frozen=True, slots=True)
class Placement:
    """One way in which a file may lie (a deleted one: may have lain), and why this way. `far`: only its content can
    bear it out; `inside`: it stands inside of its own record, which is whole; `certain`: what tells of it leaves no
    other place."""

    map: FileMap
    reason: str
    far: bool = False
    inside: bool = False
    certain: bool = False

    @property
    def extents(self) -> tuple[Extent, ...]:
        """What of the medium it stands on."""
        return self.map.stored


@dataclass(slots=True)
class Entry:
    """One name of one stream of a file (or a folder) that a volume's structures tell of.

    `path` is folder names and the name, from the volume's root; `stream` is empty for the file's own content;
    `identity` is the volume's own number for it (inode, record, catalogue number) where names stand apart from it,
    else 0. `record` is where the structures stand that tell of it.
    `name_sure` (0 to 1) is how sure the name is and `name_note` says in words where it comes from. Live files have
    one placement; deleted ones as many as the structures leave open, the likeliest first.
    """

    path: tuple[str, ...]
    folder: bool
    deleted: bool
    size: int
    times: Times
    record: tuple[Extent, ...]
    placements: tuple[Placement, ...] = ()
    name_sure: float = 1.0
    name_note: str = ""
    notes: list[str] = field(default_factory=list)
    stream: str = ""
    identity: int = 0
    damaged: bool = False
    """Whether a live file's clusters cannot be followed as its volume says: a driver would not give it."""
    deleted_earlier: bool = False
    """Of an earlier life: whether it was deleted before that life ended."""
    source: str = ""
    """What tells of it, where that is not the live structures: which journal transaction, checkpoint or snapshot."""

    @property
    def name(self) -> str:
        """Its name, and behind a colon that of the stream."""
        name = self.path[-1] if self.path else ""
        return f"{name}:{self.stream}" if self.stream else name

    @property
    def full_path(self) -> str:
        """From the volume's root, with slashes and the stream."""
        return "/" + "/".join((*self.path[:-1], self.name))

    @property
    def map(self) -> FileMap:
        """Where it lies, by its likeliest placement; nowhere if there is none."""
        return self.placements[0].map if self.placements else FileMap()


@dataclass(frozen=True, slots=True)
class Numbered:
    """What a volume gave one of its numbers to; numbers grow with every file and folder that is made. `extents` is
    where the content lies (None: nothing tells that), `path` is None where no name is left."""

    number: int
    path: tuple[str, ...] | None
    folder: bool
    extents: tuple[Extent, ...] | None
    times: Times = Times()
    name_sure: float = 1.0


@dataclass(frozen=True, slots=True)
class Conflict:
    """Bytes of a placement that the volume now gives to a live file or to its own structures. `identity` is the
    volume's own number for the file, as entries have it."""

    extent: Extent
    owner: str
    identity: int = 0


OWN_TABLES = "the volume's own tables"
"""The owner of what a volume keeps for itself, which may never have been written."""
UNLISTED_OWNER = "allocated to nothing that is listed"
"""The owner of clusters that are in use, but belong to no file or folder that can be reached."""


class Volume(ABC):
    """A volume that can be read: where it lies, what it says of itself, and its entries."""

    family: str
    """Of the registry."""
    file_system: str
    where: Extent
    label: str
    serial: str
    cluster_size: int
    data: Extent
    """The part of the medium that holds clusters."""
    health: list[str]
    """What is wrong with the volume, in words; empty if nothing was noticed."""
    mountable: bool = True
    """Whether a system would mount it: not if what describes it had to be taken from a backup."""
    told_by: str = ""
    """Of a volume that is no more: what is left of it, in words."""
    tells_all_places: bool = False
    """Whether its records say of every cluster of a file where it lies, also after a deletion: nothing is guessed."""

    @abstractmethod
    def entries(self) -> Iterator[Entry]:
        """Every live and deleted file and folder that the live structures tell of."""

    def history(self) -> Iterator[Entry]:
        """Files as older copies of the volume's metadata tell of them (journal, log, older checkpoint), each under the
        names that it had last; of a file system that keeps none, nothing."""
        return iter(())

    def numbered(self) -> Iterator[Numbered]:
        """All files and folders, those that are gone too, by the numbers that the volume gave them in the order in
        which they were made; of a volume that gives none, or gives them out again, nothing."""
        return iter(())

    @abstractmethod
    def used_and_free(self) -> tuple[int, int]:
        """Bytes in use and free, from the allocation structures."""

    @abstractmethod
    def own_extents(self) -> Iterator[tuple[str, Extent]]:
        """Where the volume keeps what it needs itself: `table` (boot area, FATs, bitmap …) and `folder` (live ones)."""

    def folder_extents(self) -> Iterator[Extent]:
        """Where the tables of all folders lie that can be reached, deleted ones too."""
        return (extent for what, extent in self.own_extents() if what == "folder")

    def structures(self) -> Iterator[tuple[str, Extent]]:
        """The same by the names that the specification gives, in order; parts may lie inside of others."""
        for what, extent in self.own_extents():
            yield "a folder" if what == "folder" else f"structures of {self.file_system}", extent

    def chain_from(self, offset: int, size: int | None = None) -> tuple[Extent, ...]:
        """Where a file that begins at a byte of the medium goes on, by a chain of clusters that still stands and that
        no file owns; cut to `size` bytes, or the whole of it. Empty if none does."""
        return ()

    @abstractmethod
    def conflicts(self, extents: tuple[Extent, ...]) -> list[Conflict]:
        """Which parts of `extents` are not free now, and whose they are."""
