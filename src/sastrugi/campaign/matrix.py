"""A campaign: which specimens meet which engines, how often. The format is docs/formats/campaign.md."""

from __future__ import annotations

import itertools
import tomllib
from collections.abc import Iterator
from dataclasses import dataclass, field
from functools import cache
from math import prod
from pathlib import Path
from typing import Annotated, Any, Literal

from blake3 import blake3
from pydantic import BaseModel, ConfigDict, Field, ValidationError, field_validator, model_validator

from sastrugi.campaign.engines import Bytes, Engine, engine_named, explain, load_engines, parse_engines, read_toml
from sastrugi.campaign.parameters import require_parameter, with_parameters
from sastrugi.errors import EngineError, SastrugiError
from sastrugi.specimen.recipe import SUFFIX, Recipe, load_recipe
from sastrugi.specimen.truth import TRUTH_FILE
from sastrugi.version import __version__

_MOST_CELLS = 10_000
_MOST_DIGESTED = 256 << 20
_KEY = 16

Value = Annotated[int | str | float, Field()]


class _Table(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True, alias_generator=lambda name: name.replace("_", "-"),
                              populate_by_name=True)  # fmt: skip


class SpecimensTable(_Table):
    """Specimens of one recipe, with every combination of the values in `vary`; or one that is there, in `folder`."""

    recipe: str = ""
    folder: str = ""
    vary: dict[str, list[Value]] = {}

    @model_validator(mode="after")
    def _one_source(self) -> SpecimensTable:
        if bool(self.recipe) == bool(self.folder):
            raise ValueError("specimens come from a recipe, or one from a folder: name one of them")
        if self.folder and self.vary:
            raise ValueError("a specimen that is there cannot be varied: name its recipe")
        return self


class LimitsTable(_Table):
    """What a campaign may take of this machine: trials at once, memory and disk; and how many cells it may have."""

    jobs: Annotated[int, Field(ge=1, le=256)] | None = None
    memory: Bytes | None = None
    disk: Bytes | None = None
    cells: Annotated[int, Field(ge=1, le=1_000_000)] = _MOST_CELLS


class GateTable(_Table):
    """Floors that every cell must stand on, as `sastrugi score` reads them; if `engines` are named, only theirs."""

    engines: list[str] = []
    floor: list[str] = []
    ceiling_floor: list[str] = []
    max_noise: str | None = None


class CampaignText(_Table):
    """A whole campaign."""

    campaign: Literal[1]
    name: Annotated[str, Field(pattern=r"^[a-z0-9][a-z0-9-]{0,60}$")]
    title: str = ""
    engines: Annotated[list[str], Field(min_length=1)]
    engines_file: str = ""
    engine: list[Any] = []
    repeats: Annotated[int, Field(ge=1, le=1000)] = 1
    files_of: Annotated[str, Field(alias="set")] = "lost"
    keep_specimens: bool = True
    keep_results: bool = False
    limits: LimitsTable = LimitsTable()
    gate: list[GateTable] = []
    specimens: Annotated[list[SpecimensTable], Field(min_length=1)]

    @field_validator("gate", mode="before")
    @classmethod
    def _one_or_several(cls, gate: Any) -> Any:
        return [gate] if isinstance(gate, dict) else gate

    @model_validator(mode="after")
    def _gates_of_its_engines(self) -> CampaignText:
        for name in (name for part in self.gate for name in part.engines):
            if name not in self.engines:
                raise ValueError(f"a gate names the engine '{name[:60]}', which this campaign does not run")
        return self


@dataclass(frozen=True, slots=True)
class CellSpecimen:
    """One specimen of a campaign: its recipe with parameters put in, or the folder where it is. `key` tells it by its
    content and by the version of this program."""

    key: str
    label: str
    parameters: tuple[tuple[str, str], ...]
    recipe: Recipe | None = None
    folder: Path | None = None


@dataclass(frozen=True, slots=True)
class Cell:
    """One engine on one specimen, once. `key` changes with anything that could change what comes of it."""

    key: str
    wanted: CellSpecimen
    engine: Engine
    repeat: int

    @property
    def label(self) -> str:
        again = f", {self.repeat}" if self.repeat > 1 else ""
        return f"{self.wanted.label} × {self.engine.name}{again}"


@dataclass(slots=True)
class Campaign:
    """A campaign that was read and found whole."""

    text: CampaignText
    engines: list[Engine]
    specimens: list[CellSpecimen]
    cells: list[Cell] = field(default_factory=list)


def load_campaign(path: Path) -> Campaign:
    """The campaign in a file. Raises EngineError: what is wrong, where, and what was meant."""
    return make_campaign(read_toml(path), str(path), path.resolve().parent)


def make_campaign(tables: dict[str, Any], origin: str, base: Path) -> Campaign:
    try:
        text = CampaignText.model_validate(tables)
    except (ValidationError, RecursionError, OverflowError) as error:
        raise EngineError(explain(error, origin, CampaignText)) from error
    known = load_engines(base / text.engines_file if text.engines_file else None)
    if text.engine:
        known = known | parse_engines({"engines": 1, "engine": text.engine}, origin)
    engines = [engine_named(name, known) for name in dict.fromkeys(text.engines)]
    count = _count(text, len(engines), origin)
    if count > text.limits.cells:
        raise EngineError(
            f"{origin}: these are {count:,} cells, more than the limit of {text.limits.cells:,}: vary less, "
            f"or allow them with cells = {count} in [limits]"
        )
    specimens = _specimens(text, base, origin)
    campaign = Campaign(text, engines, specimens)
    campaign.cells = [
        Cell(_cell_key(wanted, engine, text, repeat), wanted, engine, repeat)
        for wanted in specimens
        for engine in engines
        for repeat in range(1, text.repeats + 1)
    ]
    return campaign


def _count(text: CampaignText, engines: int, origin: str) -> int:
    """How many cells there are, told before any is made."""
    total = 0
    for table in text.specimens:
        for name, values in table.vary.items():
            require_parameter(name)
            if not values:
                raise EngineError(f"{origin}: '{name}' is varied over nothing: give it values, or leave it out")
        total += prod(len(values) for values in table.vary.values())
    return total * engines * text.repeats


def _specimens(text: CampaignText, base: Path, origin: str) -> list[CellSpecimen]:
    out: dict[str, CellSpecimen] = {}
    for table in text.specimens:
        if table.folder:
            folder = (base / table.folder).resolve()
            if not (folder / TRUTH_FILE).is_file():
                raise EngineError(f"{origin}: {table.folder}: is no specimen: name the folder that build or adopt made")
            wanted = CellSpecimen(_folder_key(folder), folder.name, (), folder=folder)
            out.setdefault(wanted.key, wanted)
            continue
        own = base / table.recipe
        recipe = load_recipe(str(own) if table.recipe.endswith(SUFFIX) or own.is_file() else table.recipe)
        read = tomllib.loads(recipe.text)
        for parameters in _combinations(table.vary):
            made = with_parameters(recipe, read, parameters)
            said = tuple((name, str(value)) for name, value in parameters.items())
            label = " ".join([recipe.name, *(str(value) for value in parameters.values())])
            wanted = CellSpecimen(_recipe_key(made), label, said, recipe=made)
            out.setdefault(wanted.key, wanted)
    return list(out.values())


def _combinations(vary: dict[str, list[Value]]) -> Iterator[dict[str, Value]]:
    for values in itertools.product(*vary.values()):
        yield dict(zip(vary, values, strict=True))


# -- what tells one cell from another -----------------------------------------------------------


def _recipe_key(recipe: Recipe) -> str:
    """By the recipe, by what it takes from files beside it, and by the version of this program."""
    digest = blake3(f"{__version__}\n{recipe.text}\n".encode())
    for step in recipe.steps:
        for name in ("folder", "image"):
            beside = getattr(step, name, None)
            if isinstance(beside, str) and beside:
                for path in _files_at(recipe.base / beside):
                    status = path.stat()
                    digest.update(f"{path}\n{status.st_size} {status.st_mtime_ns}\n".encode("utf-8", "surrogateescape"))
    return digest.hexdigest()[:_KEY]


def _files_at(path: Path) -> list[Path]:
    return (
        sorted(one for one in path.rglob("*") if one.is_file()) if path.is_dir() else [path] if path.is_file() else []
    )


def _folder_key(folder: Path) -> str:
    status = (folder / TRUTH_FILE).stat()
    told = f"{folder}\n{status.st_size} {status.st_mtime_ns}"
    return blake3(told.encode("utf-8", "surrogateescape")).hexdigest()[:_KEY]


def _cell_key(wanted: CellSpecimen, engine: Engine, text: CampaignText, repeat: int) -> str:
    """By specimen, by the engine as it is written and as its program is, by the set of files, by the repeat."""
    told = f"{wanted.key}\n{engine.model_dump_json()}\n{_program(engine)}\n{text.files_of}\n{repeat}"
    return blake3(told.encode("utf-8", "surrogateescape")).hexdigest()[:_KEY]


@cache
def _program_digest(path: str, _size: int, _changed: int) -> str:
    with Path(path).open("rb") as file:
        return blake3(file.read(_MOST_DIGESTED)).hexdigest()


def _program(engine: Engine) -> str:
    """What tells one build of an engine's program from the next."""
    if engine.built_in or engine.run[0].startswith("sastrugi-"):
        return _own_digest()
    try:
        found = engine.command({"medium": "", "results": "", "scratch": ""})[0]
        status = Path(found).stat()
        return _program_digest(found, status.st_size, status.st_mtime_ns)
    except (SastrugiError, OSError):
        return "not there"


@cache
def _own_digest() -> str:
    """Of this program itself: of all its source."""
    root = Path(__file__).parent.parent
    digest = blake3()
    for path in sorted(root.rglob("*.py")):
        digest.update(path.read_bytes())
    return digest.hexdigest()
