"""Recipes: a TOML text that says, step by step, how a specimen is laid down. The format is docs/formats/recipe.md."""

from __future__ import annotations

import datetime as dt
import re
from difflib import get_close_matches
from functools import reduce
from importlib import resources
from operator import or_
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, Literal

from pydantic import BaseModel, FailFast, Field, ValidationError, ValidationInfo, field_validator

from sastrugi.errors import RecipeError, system_words
from sastrugi.specimen.recipe_types import RangeTable, Size, StepTable, Table
from sastrugi.specimen.steps import STEPS
from sastrugi.specimen.steps.layout import VolumePlace
from sastrugi.specimen.steps.store import CorpusTable
from sastrugi.texts import parse_toml, read_text

SUFFIX = ".toml"
_LARGEST = 16 << 40
_LARGEST_TEXT = 4 << 20
_MOST_STEPS = 2000
"""More are not needed by any story, and a check of so many still takes seconds."""
_MOST_WORDS = 20
"""So many right words are listed where none is near."""
if TYPE_CHECKING:
    AnyStep = StepTable
else:
    AnyStep = Annotated[reduce(or_, STEPS.values()), Field(discriminator="do")]


class MediumTable(Table):
    """The medium to lay down on: up to 16 TiB, sectors of 512 or 4096 bytes, in a container of one file."""

    sector: Literal[512, 4096] = 512
    container: Literal["raw", "vhd", "vhd-fixed", "qcow2", "qcow2-packed"] = "raw"
    size: Size

    @field_validator("size")
    @classmethod
    def _whole_sectors(cls, size: int, info: ValidationInfo) -> int:
        sector = info.data.get("sector", 512)
        if not 64 << 10 <= size <= _LARGEST or size % sector:
            raise ValueError(f"a medium has 64 KiB to 16 TiB, in whole sectors of {sector} bytes")
        return size


class Recipe(Table):
    """A whole recipe. `text` is what it was read from and `base` the folder its paths count from."""

    recipe: Literal[1]
    name: Annotated[str, Field(pattern=r"^[a-z0-9][a-z0-9-]{0,60}$")]
    title: str
    seed: Annotated[int, Field(ge=-(1 << 63), lt=1 << 63)]
    starts: dt.datetime = dt.datetime(2031, 2, 3, 8, 0)
    medium: MediumTable
    steps: Annotated[list[AnyStep], Field(min_length=1, max_length=_MOST_STEPS), FailFast()]
    text: str = Field(default="", exclude=True)
    base: Path = Field(default=Path(), exclude=True)

    @field_validator("starts")
    @classmethod
    def _has_time_to_go_on(cls, starts: dt.datetime) -> dt.datetime:
        if not 1980 <= starts.year < 2100:
            raise ValueError("file systems keep times from 1980 to 2107: start between 1980 and 2099")
        return starts


_TABLES: dict[str, type[BaseModel]] = {
    "medium": MediumTable, "corpus": CorpusTable, "volumes": VolumePlace, "range": RangeTable
}  # fmt: skip


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
            hint = _nearest(name, shipped) or ": 'sastrugi recipe list' shows those that ship"
            raise RecipeError(f"'{name}' is neither a recipe file nor a shipped recipe{hint}")
        return parse_recipe(shipped[name], name)
    try:
        text = read_text(path, _LARGEST_TEXT)
    except OSError as error:
        raise RecipeError(f"{name}: cannot be read: {system_words(error)}") from error
    except ValueError as error:
        raise RecipeError(f"{name}: cannot be used: {error}") from error
    return parse_recipe(text, name, path.resolve().parent)


def parse_recipe(text: str, origin: str, base: Path | None = None) -> Recipe:
    """A recipe from its text."""
    try:
        tables = parse_toml(text)
    except ValueError as error:  # TOMLDecodeError is one
        raise RecipeError(f"{origin}: is no TOML: {str(error)[:120]}") from error
    try:
        recipe = Recipe.model_validate(tables)
    except ValidationError as error:
        raise RecipeError(_explain(error, text, origin)) from error
    except (RecursionError, OverflowError) as error:
        raise RecipeError(f"{origin}: holds a value that no recipe needs ({str(error)[:60]})") from error
    return recipe.model_copy(update={"text": text, "base": base or Path.cwd()})


def line_of_step(recipe: Recipe, number: int) -> int:
    """The line at which a step of the recipe begins (the first is number 1)."""
    return _line_of(("steps", number - 1), recipe.text)


def _nearest(word: str, words: Any) -> str:
    near = get_close_matches(word, list(words), 1, 0.5)
    if near:
        return f": did you mean '{near[0]}'?"
    known = list(words)
    return f": there are {', '.join(known)}" if len(known) <= _MOST_WORDS else ""


def _explain(error: ValidationError, text: str, origin: str) -> str:
    """The first mistake in one line: where, what, and the nearest right word."""
    first = error.errors()[0]
    where = tuple(part for part in first["loc"] if part not in STEPS or first["loc"].index(part) != 2)
    line = _line_of((*where, "do") if first["type"] == "union_tag_invalid" else where, text)
    key = str(where[-1]) if where else ""
    match first["type"]:
        case "extra_forbidden":
            message = f"'{key}' is no key here{_nearest(key, _keys_at(first['loc']))}"
        case "union_tag_invalid":
            message = f"'{first['input'].get('do')}' is no step{_nearest(str(first['input'].get('do')), STEPS)}"
        case "union_tag_not_found":
            message = f"the step says no 'do': there are {', '.join(STEPS)}"
        case "too_long":
            message = f"{key}: there are {first['ctx']['actual_length']:,}, and {first['ctx']['max_length']:,} at most"
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
        table = _TABLES.get(name) or STEPS.get(name) or table
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
