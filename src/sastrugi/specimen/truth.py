"""The truth of a specimen: every file ever written to it, and what became of it (docs/formats/truth.md)."""

from __future__ import annotations

import datetime as dt
import json
from collections.abc import Iterator
from pathlib import Path
from typing import Literal

from pydantic import BaseModel, ConfigDict, ValidationError

from sastrugi.errors import SpecimenError
from sastrugi.media import Extent, Medium, open_medium
from sastrugi.media.extents import cut, within
from sastrugi.media.opening import SPECIMEN_IMAGE

TRUTH_VERSION = 1
TRUTH_FILE, RECIPE_FILE, ORIGINALS, SUMS_FILE = "truth.json", "recipe.toml", "originals", "SHA256SUMS"
_READ = 1 << 22

NameCeiling = Literal["full", "name", "near", "none"]


class _Value(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)


class Ceiling(_Value):
    """The most that could come back: `bytes` (0 to 1) still on the medium, whether a record still places the file,
    and the best name that still stands: with its folder, without it, only the short form, or none."""

    bytes: float
    placed: bool
    name: NameCeiling

    @property
    def intact(self) -> bool:
        return self.bytes == 1.0


class TruthFile(_Value):
    """One file of one life. `extents` are where it lay at the end of its life, `gone` the parts written over since."""

    id: int
    volume: str
    life: int
    path: str
    kind: str
    size: int
    blake3: str
    sha256: str
    created: dt.datetime
    modified: dt.datetime
    extents: tuple[Extent, ...]
    record: tuple[Extent, ...]
    end: Literal["live", "deleted"]
    ended_by: int | None = None
    gone: tuple[Extent, ...] = ()
    gone_to: tuple[str, ...] = ()
    ceiling: Ceiling

    @property
    def name(self) -> str:
        return self.path.rpartition("/")[2]

    @property
    def lost(self) -> bool:
        return self.end != "live"


class TruthFolder(_Value):
    """One folder; `record` is where its directory entries stand."""

    volume: str
    life: int
    path: str
    record: tuple[Extent, ...]
    end: Literal["live", "deleted"]


class TruthVolume(_Value):
    name: str
    where: Extent
    file_system: str
    cluster: int
    label: str
    lives: int


class TruthMedium(_Value):
    size: int
    sector: int
    digest: str


class Truth(_Value):
    """All of it. `medium.digest` is the digest of `digests.medium_digest`."""

    format: Literal["sastrugi-truth"] = "sastrugi-truth"
    version: int = TRUTH_VERSION
    recipe: str
    title: str
    seed: int
    medium: TruthMedium
    volumes: tuple[TruthVolume, ...]
    folders: tuple[TruthFolder, ...]
    files: tuple[TruthFile, ...]

    @property
    def lost(self) -> list[TruthFile]:
        return [file for file in self.files if file.lost]

    @property
    def live(self) -> list[TruthFile]:
        return [file for file in self.files if not file.lost]


class Specimen:
    """A specimen folder, opened. Close it, or use it in a `with`."""

    def __init__(self, folder: Path) -> None:
        """Raises SpecimenError if the folder is no specimen or its truth cannot be used."""
        self.folder = folder
        path = folder / TRUTH_FILE
        if not path.is_file():
            raise SpecimenError(f"{folder}: is no specimen (it holds no {TRUTH_FILE}): make one with 'sastrugi build'")
        try:
            loaded = json.loads(path.read_text("utf-8"))
        except (OSError, ValueError) as error:
            raise SpecimenError(f"{path}: cannot be read: {error}") from error
        version = loaded.get("version") if isinstance(loaded, dict) else None
        if version != TRUTH_VERSION:
            raise SpecimenError(
                f"{path}: is version {version} of the truth, this program reads {TRUTH_VERSION}: "
                "build the specimen again"
            )
        try:
            self.truth = Truth.model_validate(loaded)
        except ValidationError as error:
            first = error.errors()[0]
            where = ".".join(str(part) for part in first["loc"])
            raise SpecimenError(f"{path}: is damaged at {where}: {first['msg']}") from error
        self.medium: Medium = open_medium(folder / SPECIMEN_IMAGE)

    def __enter__(self) -> Specimen:
        return self

    def __exit__(self, *_: object) -> None:
        self.medium.close()

    def original(self, file: TruthFile, position: int = 0, length: int | None = None) -> bytes:
        """Bytes of a reference file as it was: from the medium if it still lies there whole, else from `originals`."""
        length = file.size - position if length is None else min(length, file.size - position)
        if not file.gone:
            return self.medium.read_extents(within(cut(file.extents, file.size), position, length))
        path = self.folder / ORIGINALS / file.blake3
        try:
            with path.open("rb") as saved:
                saved.seek(position)
                return saved.read(max(length, 0))
        except OSError as error:
            raise SpecimenError(f"{path}: the original of {file.path} is missing: build the specimen again") from error

    def blocks(self, file: TruthFile) -> Iterator[bytes]:
        """The whole content of a reference file, in pieces."""
        for position in range(0, file.size, _READ):
            yield self.original(file, position, _READ)
