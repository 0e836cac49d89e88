"""Recipes: a TOML text that says, step by step, how a specimen is laid down. The format is docs/formats/recipe.md."""

from __future__ import annotations

import datetime as dt
import re
import tomllib
from difflib import get_close_matches
from importlib import resources
from pathlib import Path
from typing import Annotated, Any, Literal

from pydantic import (
    BaseModel,
    BeforeValidator,
    ConfigDict,
    Field,
    ValidationError,
    field_validator,
    model_validator,
)

from sastrugi.corpus.make import parse_spread
from sastrugi.corpus.names import check_style
from sastrugi.errors import RecipeError, SastrugiError
from sastrugi.kinds import kind_named
from sastrugi.units import parse_size

RECIPE_VERSION = 1
SUFFIX = ".toml"


def _size(value: Any) -> int:
    if not isinstance(value, (str, int)) or isinstance(value, bool):
        raise ValueError("a size is a text such as '64 MiB'")
    try:
        return parse_size(value)
    except SastrugiError as error:
        raise ValueError(str(error)) from error


def _size_range(value: Any) -> tuple[int, int]:
    try:
        return parse_spread(str(value))
    except SastrugiError as error:
        raise ValueError(str(error)) from error


Size = Annotated[int, BeforeValidator(_size)]
SizeRange = Annotated[tuple[int, int], BeforeValidator(_size_range)]


class _Table(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)


class MediumTable(_Table):
    """The medium to lay down on."""

    size: Size
    sector: Literal[512] = 512

    @field_validator("size")
    @classmethod
    def _whole_sectors(cls, size: int) -> int:
        if size < 64 << 10 or size % 512:
            raise ValueError("a medium has at least 64 KiB, in whole sectors of 512 bytes")
        return size


class VolumePlace(_Table):
    """One partition: its name in the recipe, where it starts and how long it is ('rest' for all that is left)."""

    name: str
    start: Size | None = None
    size: Size | Literal["rest"] = "rest"

    @field_validator("size", mode="before")
    @classmethod
    def _rest(cls, size: Any) -> Any:
        return size if size == "rest" else _size(size)


class PartitionStep(_Table):
    do: Literal["partition"]
    table: Literal["mbr"] = "mbr"
    volumes: Annotated[list[VolumePlace], Field(min_length=1, max_length=4)]


class FormatStep(_Table):
    do: Literal["format"]
    volume: str | None = None
    file_system: Literal["fat12", "fat16", "fat32"]
    cluster: Size
    label: str = ""


class CorpusTable(_Table):
    """A made corpus, inline."""

    files: Annotated[int, Field(ge=1, le=1_000_000)]
    kinds: list[str] = []
    groups: list[str] = []
    size: SizeRange = (4 << 10, 200 << 10)
    names: str = "plain"
    depth: Annotated[int, Field(ge=0, le=64)] = 0
    breadth: Annotated[int, Field(ge=1)] = 3
    first_number: Annotated[int, Field(ge=0)] = 1

    @field_validator("kinds")
    @classmethod
    def _known_kinds(cls, kinds: list[str]) -> list[str]:
        try:
            for name in kinds:
                kind_named(name)
        except SastrugiError as error:
            raise ValueError(str(error)) from error
        return kinds

    @field_validator("names")
    @classmethod
    def _known_style(cls, style: str) -> str:
        try:
            check_style(style)
        except SastrugiError as error:
            raise ValueError(str(error)) from error
        return style


class StoreStep(_Table):
    do: Literal["store"]
    volume: str | None = None
    into: str = "/"
    corpus: CorpusTable | None = None
    folder: str | None = None
    reuse: Literal["next", "first"] = "next"

    @model_validator(mode="after")
    def _one_source(self) -> StoreStep:
        if (self.corpus is None) == (self.folder is None):
            raise ValueError("a store step takes its files from either 'corpus' (made) or 'folder' (your own)")
        return self


class DeleteStep(_Table):
    do: Literal["delete"]
    volume: str | None = None
    what: Annotated[list[str], Field(min_length=1)]
    share: Annotated[float, Field(gt=0, le=1)] = 1.0
    acts_as: Literal["linux"] = "linux"


Step = Annotated[PartitionStep | FormatStep | StoreStep | DeleteStep, Field(discriminator="do")]


class Recipe(_Table):
    """A whole recipe. `text` is what it was read from and `origin` where."""

    recipe: Literal[1]
    name: Annotated[str, Field(pattern=r"^[a-z0-9][a-z0-9-]{0,60}$")]
    title: str
    seed: int
    starts: dt.datetime = dt.datetime(2031, 2, 3, 8, 0)
    medium: MediumTable
    steps: Annotated[list[Step], Field(min_length=1)]
    text: str = Field(default="", exclude=True)
    base: Path = Field(default=Path(), exclude=True)


_STEPS: dict[str, type[_Table]] = {
    "partition": PartitionStep, "format": FormatStep, "store": StoreStep, "delete": DeleteStep
}  # fmt: skip
_TABLES: dict[str, type[_Table]] = {"medium": MediumTable, "corpus": CorpusTable, "volumes": VolumePlace}


def shipped_recipes() -> dict[str, str]:
    """The recipes that come with Sastrugi: text by name."""
    folder = resources.files("sastrugi.specimen") / "recipes"
    return {
        item.name.removesuffix(SUFFIX): item.read_text("utf-8")
        for item in sorted(folder.iterdir(), key=lambda item: item.name)
        if item.name.endswith(SUFFIX)
    }


def load_recipe(name: str) -> Recipe:
    """A recipe from a file, or a shipped one by its name; raises RecipeError with the line and what was meant."""
    path = Path(name)
    if path.suffix != SUFFIX and not path.is_file():
        shipped = shipped_recipes()
        if name not in shipped:
            raise RecipeError(f"'{name}' is neither a recipe file nor a shipped recipe{_nearest(name, shipped)}")
        return parse_recipe(shipped[name], name)
    try:
        text = path.read_text("utf-8")
    except OSError as error:
        raise RecipeError(f"{name}: cannot be read: {error.strerror}") from error
    except UnicodeDecodeError as error:
        raise RecipeError(f"{name}: is no text in UTF-8 (byte {error.start})") from error
    return parse_recipe(text, name, path.resolve().parent)


def parse_recipe(text: str, origin: str, base: Path | None = None) -> Recipe:
    """A recipe from its text."""
    try:
        tables = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise RecipeError(f"{origin}: is no TOML: {error}") from error
    try:
        recipe = Recipe.model_validate(tables)
    except ValidationError as error:
        raise RecipeError(_explain(error, text, origin)) from error
    return recipe.model_copy(update={"text": text, "base": base or Path.cwd()})


def _nearest(word: str, words: Any) -> str:
    near = get_close_matches(word, list(words), 1, 0.5)
    return f": did you mean '{near[0]}'?" if near else f": there are {', '.join(words)}"


def _explain(error: ValidationError, text: str, origin: str) -> str:
    """The first mistake in one line: where, what, and the nearest right word."""
    first = error.errors()[0]
    where = tuple(part for part in first["loc"] if part not in _STEPS or first["loc"].index(part) != 2)
    line = _line_of((*where, "do") if first["type"] == "union_tag_invalid" else where, text)
    key = str(where[-1]) if where else ""
    match first["type"]:
        case "extra_forbidden":
            message = f"'{key}' is no key here{_nearest(key, _keys_at(first['loc']))}"
        case "union_tag_invalid":
            message = f"'{first['input'].get('do')}' is no step{_nearest(str(first['input'].get('do')), _STEPS)}"
        case "union_tag_not_found":
            message = f"the step says no 'do': there are {', '.join(_STEPS)}"
        case "missing":
            message = f"'{key}' is missing"
        case "literal_error" if isinstance(first["input"], str):
            words = re.findall(r"'([^']*)'", first["ctx"]["expected"])
            message = f"'{first['input']}' cannot be the {key}{_nearest(first['input'], words)}"
        case "value_error":
            message = (
                f"{key}: {first['ctx']['error']}"
                if key and not isinstance(where[-1], int)
                else str(first["ctx"]["error"])
            )
        case _:
            message = f"{key}: {first['msg'][0].lower()}{first['msg'][1:]} (it says {first['input']!r:.60})"
    return f"{origin}, line {line}: {message}"


def _keys_at(where: tuple[int | str, ...]) -> list[str]:
    """The keys that are known in the table that `where` (without its last part) leads to."""
    names = [part for part in where[:-1] if isinstance(part, str)]
    table: type[BaseModel] = Recipe
    for name in names:
        table = _TABLES.get(name) or _STEPS.get(name) or table
    return [key for key in table.model_fields if key not in ("text", "base")]


def _line_of(where: tuple[int | str, ...], text: str) -> int:
    """The line of the deepest part of `where` that stands in the text (inline tables count as their own line)."""
    lines: dict[tuple[int | str, ...], int] = {}
    counts: dict[str, int] = {}
    table: tuple[int | str, ...] = ()
    for number, line in enumerate(text.splitlines(), 1):
        if header := re.match(r"\s*\[\[\s*([\w-]+)\s*\]\]", line):
            counts[header[1]] = counts.get(header[1], -1) + 1
            table = (header[1], counts[header[1]])
            lines[table] = number
        elif header := re.match(r"\s*\[\s*([\w.-]+)\s*\]", line):
            table = tuple(header[1].split("."))
            lines[table] = number
        elif key := re.match(r"""\s*["']?([\w-]+)["']?\s*=""", line):
            lines.setdefault((*table, key[1]), number)
    for end in range(len(where), 0, -1):
        if where[:end] in lines:
            return lines[where[:end]]
    return 1
