"""All file systems there are, found by looking into this package: each folder of it declares one object, `FILE_SYSTEM`.

Whatever differs between file systems outside of reading and writing them (how a recipe calls them, how a partition
table lists them, what the system's tools are called, how records of theirs look when they are found alone) is said
there, and nowhere else: a new one is one more folder.
"""

from __future__ import annotations

import os
import pkgutil
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass
from functools import cache
from importlib import import_module
from typing import TYPE_CHECKING, Any, Protocol
from uuid import UUID

import sastrugi.volumes as package

if TYPE_CHECKING:
    import datetime as dt

    import numpy as np
    from numpy.typing import NDArray

    from sastrugi.media.base import Medium
    from sastrugi.media.extents import Extent
    from sastrugi.media.raw import RawImage
    from sastrugi.volumes.reader import Volume
    from sastrugi.volumes.writer import Habits, VolumeWriter

    SectorTest = Callable[[NDArray[np.uint8], NDArray[np.uint8]], NDArray[np.bool_]]
    Format = Callable[[RawImage, Extent, int, str, int, dt.datetime, Habits], VolumeWriter[Any]]
    """Of an image, a range of it, the cluster size, label, serial number, time and habits."""
    Earlier = Callable[[Medium, Sequence[int], Sequence[Volume], Callable[[str, int], bool | None]], list[Volume]]
    """Of a medium, the bytes at which marked sectors stand, the volumes of today, and a test whether a file of a name
    can begin at a byte."""
    Lists = Callable[[Medium, Sequence[int], Sequence[int]], "ListsOfBlocks"]
    """Of a medium, the bytes of sectors that can begin a list, and the bytes at which volumes can have begun."""
_USUAL_GRAIN = 2.0
MOST_OFTEN_MADE = "fat32"
"""What a partition is listed as that holds nothing yet."""
BASIC_DATA = UUID("ebd0a0a2-b9e5-4433-87c0-68b6b72699c7")
"""The type of partitions of a GPT that hold data of any kind."""
MORE = "SASTRUGI_FILE_SYSTEMS"
"""The environment variable that names packages of further file systems, commas between."""


@dataclass(frozen=True, slots=True)
class SeenRecord:
    """Name and size that a record tells, and the byte of the medium at which its file begins (None: something else
    tells that). `others` are further names of the same file."""

    name: str
    size: int
    start: int | None
    others: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Variant:
    """One that a recipe can ask for: `name` as recipes write it, `title` as people do. `partition_type` lists it in a
    master boot record, `gpt_type` in a GPT (data of any kind, where nothing else is said) and `apm_type` in an Apple
    partition map; `time_grain` are the seconds between two modified times that it can tell apart. `default_unit`
    is the usual cluster size of a volume (bytes, sector, habits), `mkfs` the system's command that makes one (cluster
    size, sector size, label; the device is added), if there is one."""

    name: str
    title: str
    partition_type: int
    time_grain: float
    default_unit: Callable[[int, int, Habits], int]
    format: Format
    mkfs: Callable[[int, int, str], list[str]] | None = None
    gpt_type: UUID = BASIC_DATA
    apm_type: str = "DOS_FAT_32"


@dataclass(frozen=True, slots=True)
class LifeRules:
    """How the geometry of an earlier volume is worked out from its folders: cluster sizes there can be; whether a
    folder tells in its own table which cluster it begins at; whether a deletion may leave half of a cluster's number;
    whether it takes the first letters of names, which other names tell again.
    """

    units: Sequence[int]
    folders_tell_their_place: bool
    low_halves: bool
    loses_first_letters: bool


@dataclass(frozen=True, slots=True)
class BootMark:
    """Sectors by which a volume is known that no table lists. `test` finds them (of whole sectors and of their heads);
    `starts` says where the volume of one may begin (of the medium and the byte at which the sector stands), each with
    whether the sector is a copy then."""

    test: SectorTest
    starts: Callable[[Medium, int], Iterable[tuple[int, bool]]]


@dataclass(frozen=True, slots=True)
class ListedFile:
    """Where a file lies by lists of its blocks, the first of which stands at `told_at`: its volume began at `base`, has
    blocks of `block` bytes, and gives it `space` bytes; it ends in the last of its blocks."""

    told_at: int
    base: int
    block: int
    extents: tuple[Extent, ...]
    space: int


class ListsOfBlocks(Protocol):
    """Lists of blocks that stand somewhere on a medium, of volumes that need not be there any more."""

    @property
    def starts(self) -> list[int]:
        """The bytes at which files can begin, in order."""

    def files_at(self, offset: int) -> Iterator[ListedFile]:
        """The files that can begin at a byte, the longest first."""


@dataclass(frozen=True, slots=True)
class FileSystem:
    """One family of file systems. `open` reads a volume, if one is there; `boot` tells the sectors by which one is
    found. `peek` says what the bytes of one record tell (variant, bytes, where they stand, byte of the first
    cluster, cluster size).
    `metadata_sectors` tells sectors that can be of its metadata; `lives` says how an earlier volume is worked out from
    such where they are tables of folders, and `earlier` does it where they are something else. `list_sectors` tells
    sectors that can begin a list of a file's blocks, `lists` reads such. `mounts` are the ways to mount it, the
    best first, `tools` the package its tools come in."""

    family: str
    title: str
    variants: tuple[Variant, ...]
    open: Callable[[Medium, Extent], Volume | None]
    boot: BootMark
    peek: Callable[[str, bytes, Sequence[Extent], int, int], SeenRecord | None]
    metadata_sectors: SectorTest | None = None
    lives: LifeRules | None = None
    earlier: Earlier | None = None
    list_sectors: SectorTest | None = None
    lists: Lists | None = None
    mounts: tuple[tuple[str, ...], ...] = ()
    tools: str = ""


def later(module: str, name: str) -> Callable[..., Any]:
    """A function of a module that is imported when it is first called: a scan of one file system starts without what
    reads the others."""

    def call(*arguments: Any) -> Any:
        return getattr(import_module(module), name)(*arguments)

    return call


@cache
def file_systems() -> dict[str, FileSystem]:
    """Every family by its name, sorted by name."""
    found: dict[str, FileSystem] = {}
    own = [module.name for module in pkgutil.iter_modules(package.__path__) if module.ispkg]
    names = [f"{package.__name__}.{name}" for name in own if not name.startswith("_")]
    names += filter(None, os.environ.get(MORE, "").split(","))
    for name in names:
        one: FileSystem = import_module(name).FILE_SYSTEM
        found[one.family] = one
    return dict(sorted(found.items()))


@cache
def _by_variant() -> dict[str, tuple[FileSystem, Variant]]:
    every = ((one, variant) for one in file_systems().values() for variant in one.variants)
    return dict(sorted(((variant.name, (one, variant)) for one, variant in every), key=lambda item: len(item[0])))


def variant_names() -> tuple[str, ...]:
    """What recipes can ask for."""
    return tuple(_by_variant())


def family_of(variant: str) -> FileSystem | None:
    """The family of one that recipes can ask for."""
    found = _by_variant().get(variant)
    return found[0] if found else None


def variant_named(name: str) -> Variant | None:
    found = _by_variant().get(name)
    return found[1] if found else None


def title_of(name: str) -> str:
    """The name of a file system as people write it."""
    found = variant_named(name) or file_systems().get(name)
    return found.title if found else name


def time_grain(name: str) -> float:
    """Seconds between two modified times that a file system can tell apart; a usual one where it is not known."""
    found = variant_named(name)
    return found.time_grain if found else _USUAL_GRAIN
