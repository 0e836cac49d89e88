"""The truth of a specimen: every file ever written to it, and what became of it (docs/formats/truth.md)."""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Iterable, Iterator, Sequence
from functools import cached_property
from pathlib import Path
from typing import Annotated, Any, Literal, Protocol, Self

import numpy as np
from numpy.typing import NDArray
from pydantic import BaseModel, ConfigDict, FailFast, PlainSerializer, PlainValidator, ValidationError, model_validator
from pydantic.dataclasses import dataclass
from pydantic_core import ArgsKwargs

from sastrugi.errors import SpecimenError, system_words
from sastrugi.media import Extent, FileMap, Medium, RangeSet, open_medium
from sastrugi.media.extents import within
from sastrugi.media.faults import FAULTS_SUFFIX
from sastrugi.media.filemap import UNKNOWN as UNKNOWN_PLACE
from sastrugi.media.filemap import Segment
from sastrugi.media.opening import SPECIMEN_IMAGE
from sastrugi.texts import LARGEST_NUMBER, read_text, require_content

TRUTH_VERSION = 5
READABLE_VERSIONS = (3, 4, 5)
"""Versions 3 and 4 have `extents` and `unplaced` in place of `map`; version 3 knows no `copies`, `ceiling.live` and
unknown times; all else is the same."""
TRUTH_FILE, RECIPE_FILE, ORIGINALS, SUMS_FILE = "truth.json", "recipe.toml", "originals", "SHA256SUMS"
UNKNOWN = "unknown"
"""The file system of a volume that no reader of ours can read."""
_READ = 1 << 22
_LARGEST = 2 << 30
_HEX = "0123456789abcdef"
_DIGEST = 64

NameCeiling = Literal["full", "name", "near", "type", "none"]
Placed = Literal["whole", "start", "hint", "none"]
Role = Literal["reference", "index", "filler", "use"]
End = Literal[
    "live", "binned", "replaced", "unlinked", "deleted", "emptied", "formatted", "dropped", "overlaid", "wiped",
    "damaged",
]  # fmt: skip
LOSSES = frozenset({"deleted", "emptied", "formatted", "dropped", "overlaid", "wiped", "damaged"})


STRICT = ConfigDict(extra="forbid")
"""Of dataclasses, which are what truths and scorecards hold by the ten thousand: models take ten times the memory."""


class _Value(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)


@dataclass(frozen=True, slots=True, kw_only=True, config=STRICT)
class Ceiling:
    """The most that could come back: `bytes` (0 to 1) still on the medium; whether a record still tells where the
    whole file lies, only where it starts, only half of that, or nothing; and the best name that still stands: with
    its folder, without it, only the short form, only the extension, or none. `live` is the share of the bytes that
    stands only inside of live files with the same content."""

    bytes: float
    placed: Placed
    name: NameCeiling
    live: float = 0.0

    @property
    def intact(self) -> bool:
        return self.bytes == 1.0


def _map_of(value: Any) -> FileMap:
    return value if isinstance(value, FileMap) else FileMap.unpacked(value)


def _of_older(extents: Any, unplaced: Any, size: Any) -> FileMap:
    """The map of a file as truths told it before version 5: its known parts in a row, and the ranges of it that are not
    among them. Raises ValueError."""
    if not isinstance(size, int) or not 0 <= size <= LARGEST_NUMBER:
        raise ValueError(f"{size!r:.20} is no size of a file")
    known = FileMap.unpacked(extents)
    unknown = RangeSet(Extent(int(offset), int(length)) for offset, length in unplaced)
    out: list[Segment] = []
    at = position = 0
    for gap in unknown.gaps(Extent(0, size)):
        part = known.part(at, gap.length)
        if part.size < gap.length:
            raise ValueError("its parts are fewer than its bytes")
        out += [Segment(gap.offset - position, (), UNKNOWN_PLACE), *part.segments]
        at, position = at + gap.length, gap.end
    return FileMap.made([*out, Segment(size - position, (), UNKNOWN_PLACE)])


@dataclass(frozen=True, slots=True, kw_only=True, config=STRICT)
class TruthFile:
    """One version of a file of one life.

    `map` tells where it lay at its end, `gone` the parts written over since; `stands_as` is its path on the volume
    where that is another (in a bin), `former` are the paths it had before; `stream` is empty for its own content.
    `role` is `reference` for the files that
    are scored; the others had to be written too: index files of a bin, fillers, later use. `lost` marks the files that
    the loss is about: references that ended in a loss, in the last life of their volume in which any did.
    `copies` are the live files that hold what stands nowhere else. A time is None where nothing tells the volume's own.
    """

    id: int
    volume: str
    life: int
    path: str
    role: Role = "reference"
    former: tuple[str, ...] = ()
    stands_as: str = ""
    stream: str = ""
    kind: str
    size: int
    blake3: str
    sha256: str = ""
    created: dt.datetime | None
    modified: dt.datetime | None
    map: Annotated[FileMap, PlainValidator(_map_of), PlainSerializer(FileMap.packed, return_type=list[Any])]
    record: tuple[Extent, ...]
    end: End
    ended_by: int | None = None
    lost: bool = False
    gone: tuple[Extent, ...] = ()
    gone_to: tuple[str, ...] = ()
    copies: tuple[str, ...] = ()
    ceiling: Ceiling

    @model_validator(mode="before")
    @classmethod
    def _as_it_is_now(cls, values: Any) -> Any:
        """What older versions tell otherwise."""
        if isinstance(values, ArgsKwargs):
            return values
        if isinstance(values, dict) and "extents" in values and "map" not in values:
            values = dict(values)
            values["map"] = _of_older(values.pop("extents"), values.pop("unplaced", ()), values.get("size"))
        return values

    @model_validator(mode="after")
    def _is_possible(self) -> Self:
        """What a name of a file, a place or a size can be: paths are opened and bytes read by them."""
        for digest, length in ((self.blake3, 64), (self.sha256, 64)):
            if digest and (len(digest) != length or digest.strip(_HEX)):
                raise ValueError(f"'{digest[:20]}' is no digest")
        if not self.blake3:
            raise ValueError("it has no digest")
        if not 0 <= self.size <= LARGEST_NUMBER:
            raise ValueError(f"{self.size} is no size of a file")
        for part in (*self.record, *self.gone):
            if part.offset < 0 or part.length < 0 or part.end > LARGEST_NUMBER:
                raise ValueError(f"{part.offset}+{part.length} is no place")
        if self.map.size != self.size:
            raise ValueError("its parts are not as many bytes as it has")
        if not 0 <= self.ceiling.bytes <= 1 or not 0 <= self.ceiling.live <= self.ceiling.bytes + 1e-9:
            raise ValueError("its ceiling is no share")
        return self

    @property
    def name(self) -> str:
        return self.path.rpartition("/")[2]

    @property
    def standing(self) -> bool:
        """Whether it is on its volume now, in the bin or not."""
        return self.end in ("live", "binned")

    @property
    def kept(self) -> bool:
        """Whether its content can still be read: on the medium, or among the originals. Of buffer files and later use
        that were written over, nobody needs it."""
        return self.untouched or self.role in ("reference", "index")

    @property
    def untouched(self) -> bool:
        """Whether all of its content stands on the medium, where it was put."""
        return not self.gone and not self.unplaced

    @property
    def extents(self) -> tuple[Extent, ...]:
        """What of the medium it lay on."""
        return self.map.stored

    @property
    def unplaced(self) -> tuple[Extent, ...]:
        """Ranges of the file (not of the medium) that have no known place."""
        return self.map.unknown()

    @property
    def on_volume(self) -> str:
        """The path under which the volume knows it."""
        return self.stands_as or self.path


class FileHistory(Protocol):
    """What books and looks alike know of a file."""

    volume: str
    life: int
    path: str
    role: Role
    kind: str
    blake3: str
    sha256: str
    end: End
    ended_by: int | None

    @property
    def created(self) -> dt.datetime | None: ...
    @property
    def modified(self) -> dt.datetime | None: ...
    @property
    def former(self) -> Sequence[str]: ...


def truth_entry(
    number: int, of: FileHistory, size: int, lost: bool, where: FileMap, gone: Iterable[Extent], gone_to: Sequence[str],
    record: tuple[Extent, ...], stands_as: str, stream: str, copies: tuple[str, ...], ceiling: Ceiling,
) -> TruthFile:  # fmt: skip
    """The entry of a file in the truth; `copies` are the live files that hold what stands nowhere else."""
    return TruthFile(
        id=number, volume=of.volume, life=of.life, path=of.path, role=of.role, former=tuple(of.former),
        stands_as=stands_as if stands_as != of.path else "", stream=stream, kind=of.kind, size=size, blake3=of.blake3,
        sha256=of.sha256, created=of.created, modified=of.modified, map=where, record=record, end=of.end,
        ended_by=of.ended_by, lost=lost, gone=tuple(gone), gone_to=tuple(gone_to), ceiling=ceiling,
        copies=() if of.end in ("live", "binned") else copies,
    )  # fmt: skip


@dataclass(frozen=True, slots=True, kw_only=True, config=STRICT)
class TruthFolder:
    """One folder; `record` is where its directory entries stand."""

    volume: str
    life: int
    path: str
    record: tuple[Extent, ...]
    end: End


class TruthLife(_Value):
    """One life of a volume. `data` is the offset of the first cluster; `began` and `ended_by` are numbers of steps."""

    number: int
    file_system: str
    cluster: int
    label: str
    where: Extent
    data: int
    began: int
    end: End
    ended_by: int | None = None


class TruthVolume(_Value):
    """A place for volumes and its lives. `listed` tells that the partition table lists it now, `trouble` what is wrong
    with the volume on it."""

    name: str
    where: Extent
    listed: bool
    trouble: str = ""
    lives: tuple[TruthLife, ...]

    @property
    def life(self) -> TruthLife | None:
        """The life that goes on now, if one does."""
        return self.lives[-1] if self.lives and self.lives[-1].end == "live" else None


class TruthMedium(_Value):
    size: int
    sector: int
    digest: str
    unreadable: tuple[Extent, ...] = ()


class Truth(_Value):
    """All of it. `medium.digest` is the digest of `digests.medium_digest`."""

    format: Literal["sastrugi-truth"] = "sastrugi-truth"
    version: int = TRUTH_VERSION
    recipe: str
    title: str
    seed: int
    medium: TruthMedium
    volumes: Annotated[tuple[TruthVolume, ...], FailFast()]
    folders: Annotated[tuple[TruthFolder, ...], FailFast()]
    files: Annotated[tuple[TruthFile, ...], FailFast()]

    @model_validator(mode="after")
    def _belongs_together(self) -> Self:
        lives = {(volume.name, life.number) for volume in self.volumes for life in volume.lives}
        for file in self.files:
            if (file.volume, file.life) not in lives:
                raise ValueError(f"{file.path[:60]} is of a life that there is not")
        if len({file.id for file in self.files}) < len(self.files):
            raise ValueError("two files have one number")
        for volume in self.volumes:
            numbers = [life.number for life in volume.lives]
            if numbers != list(range(1, len(numbers) + 1)):
                raise ValueError(f"the lives of volume '{volume.name[:60]}' are not numbered in order")
        if not 0 <= self.medium.size <= LARGEST_NUMBER or self.medium.sector not in (512, 4096):
            raise ValueError("its medium is none that there can be")
        return self

    def is_of_the_bench(self, file: TruthFile) -> bool:
        """Whether a file was laid down by the bench to make a case: a buffer that makes gaps, or later use. On a medium
        that was adopted every file is somebody's."""
        return file.role in ("filler", "use") and (file.volume, file.life) in self._made_lives

    @cached_property
    def _made_lives(self) -> frozenset[tuple[str, int]]:
        """The lives that began with a step of a recipe."""
        return frozenset((volume.name, life.number) for volume in self.volumes for life in volume.lives if life.began)

    @property
    def lost(self) -> list[TruthFile]:
        return [file for file in self.files if file.lost]

    @property
    def live(self) -> list[TruthFile]:
        return [file for file in self.files if file.standing]


def _read_truth(path: Path) -> Truth:
    try:
        text = read_text(path, _LARGEST)
        require_content(text)
    except OSError as error:
        raise SpecimenError(f"{path}: cannot be read: {system_words(error)}") from error
    except ValueError as error:
        raise SpecimenError(f"{path}: cannot be used: {error}") from error
    try:
        truth = Truth.model_validate_json(text)
        version: object = truth.version
    except ValidationError as error:
        version = _version_of(text)
        if version in READABLE_VERSIONS:
            first = error.errors()[0]
            where = ".".join(str(part) for part in first["loc"])
            raise SpecimenError(f"{path}: is damaged at {where}: {first['msg']}") from error
    if version is None:
        raise SpecimenError(f"{path}: cannot be read: it does not begin as the truth of a specimen")
    if version not in READABLE_VERSIONS:
        raise SpecimenError(
            f"{path}: is version {version} of the truth, this program reads {TRUTH_VERSION}: build the specimen again"
        )
    return truth


_HEAD, _VERSION = 4096, re.compile(r'"version"\s*:\s*([0-9]{1,9})\b')


def _version_of(text: str) -> int | None:
    """The version that a truth begins with. What follows may be damaged."""
    found = _VERSION.search(text, 0, _HEAD)
    return int(found[1]) if found else None


def is_of_specimen(path: str) -> bool:
    """Whether a file of this path below a specimen's folder is one that the folder was made with."""
    folder, _, name = path.rpartition("/")
    if folder == ORIGINALS:
        return len(name) == _DIGEST and not name.strip(_HEX)
    made = (TRUTH_FILE, RECIPE_FILE, SUMS_FILE, SPECIMEN_IMAGE, SPECIMEN_IMAGE + FAULTS_SUFFIX)
    return path in made


class Specimen:
    """A specimen folder, opened. Close it, or use it in a `with`."""

    def __init__(self, folder: Path) -> None:
        """Raises SpecimenError if the folder is no specimen or its truth cannot be used."""
        self.folder = folder
        path = folder / TRUTH_FILE
        if not path.is_file():
            raise SpecimenError(f"{folder}: is no specimen (it holds no {TRUTH_FILE}): make one with 'sastrugi build'")
        self.truth = _read_truth(path)
        self.medium: Medium = open_medium(folder / SPECIMEN_IMAGE)

    def __enter__(self) -> Specimen:
        return self

    def __exit__(self, *_: object) -> None:
        self.medium.close()

    def original(self, file: TruthFile, position: int = 0, length: int | None = None) -> bytes:
        """Bytes of a reference file as it was: from the medium if it still lies there whole, else from `originals`."""
        length = file.size - position if length is None else min(length, file.size - position)
        if file.untouched:
            return file.map.read(self.medium, position, length)
        path = self.folder / ORIGINALS / file.blake3
        try:
            with path.open("rb") as saved:
                saved.seek(position)
                return saved.read(max(length, 0))
        except OSError as error:
            raise SpecimenError(f"{path}: the original of {file.path} is missing: build the specimen again") from error

    def original_into(self, file: TruthFile, position: int, buffer: NDArray[np.uint8]) -> None:
        """The same, as many bytes as `buffer` holds and the file has there."""
        if not file.untouched:
            buffer[:] = np.frombuffer(self.original(file, position, len(buffer)), np.uint8)
            return
        if not file.map.plain:
            buffer[:] = np.frombuffer(file.map.read(self.medium, position, len(buffer)), np.uint8)
            return
        at, stored = 0, file.extents
        if len(stored) == 1:
            self.medium.read_into(stored[0].offset + position, buffer.data)
            return
        for offset, length in within(stored, position, len(buffer)):
            self.medium.read_into(offset, buffer[at : at + length].data)
            at += length

    def original_at(self, file: TruthFile) -> Path | FileMap:
        """Where the original of a reference file is: its map of the medium, or a file among `originals`."""
        return file.map if file.untouched else self.folder / ORIGINALS / file.blake3

    def blocks(self, file: TruthFile) -> Iterator[bytes]:
        """The whole content of a reference file, in pieces."""
        for position in range(0, file.size, _READ):
            yield self.original(file, position, _READ)
