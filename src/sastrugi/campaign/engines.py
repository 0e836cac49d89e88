"""Engines: programs under test, and how they are called. The format is docs/formats/engines.md."""

from __future__ import annotations

import os
import re
import shutil
import sys
from collections.abc import Callable, Mapping
from difflib import get_close_matches
from pathlib import Path
from typing import Annotated, Any, Literal

from pydantic import BaseModel, BeforeValidator, ConfigDict, Field, ValidationError, model_validator

from sastrugi.errors import EngineError, SastrugiError, system_words
from sastrugi.recovery.findings import PASSES
from sastrugi.texts import parse_toml, read_text
from sastrugi.units import parse_seconds, parse_size

PLACES = ("medium", "results", "scratch")
"""What an engine is told of, as `{medium}` and so on: the medium to read, the folder for what it brings back, and a
folder of its own, which is also where it works."""
_LARGEST = 1 << 20
_PLACEHOLDER = re.compile(r"\{(\w+)\}")

Meaning = Literal["done", "partly", "nothing"]


def _seconds(value: Any) -> float:
    return value if isinstance(value, float) else _said(parse_seconds, value)


def _bytes(value: Any) -> int:
    return value if isinstance(value, int) and not isinstance(value, bool) else _said(parse_size, value)


def _said(parse: Callable[[str], Any], value: Any) -> Any:
    try:
        return parse(str(value))
    except SastrugiError as error:
        raise ValueError(str(error)) from error


Seconds = Annotated[float, BeforeValidator(_seconds), Field(gt=0, le=30 * 86400)]
Bytes = Annotated[int, BeforeValidator(_bytes), Field(gt=0)]


class _Table(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True, alias_generator=lambda name: name.replace("_", "-"),
                              populate_by_name=True)  # fmt: skip


class Engine(_Table):
    """One program under test. `run` is its command line, or `built_in` says that it is Sastrugi's own scan, with
    `passes`. `exit` says what its exit statuses mean (without a word for it, 0 is done and all others are failures);
    `claims` is where its table of claims lies, `leave_out` which of its files are no results. `medium` is how it gets
    the medium: as an image, or as a loop device that cannot be written. Seconds, bytes, processes with threads, and
    processors limit it; `confined` keeps it to itself, as far as the system can, and `network` lets it reach others."""

    name: Annotated[str, Field(min_length=1, max_length=60)]
    version: str = ""
    run: Annotated[tuple[str, ...], Field(max_length=1000)] = ()
    built_in: bool = False
    passes: tuple[str, ...] = ()
    environment: dict[str, str] = {}
    folder: str = "{scratch}"
    time_limit: Seconds = 3600.0
    memory_limit: Bytes | None = None
    disk_limit: Bytes | None = None
    process_limit: Annotated[int, Field(ge=1, le=1_000_000)] = 4096
    cores: Annotated[int, Field(ge=1, le=1_000_000)] | None = None
    exit: dict[Meaning, tuple[int, ...]] = {"done": (0,)}
    claims: str = ""
    leave_out: tuple[str, ...] = ()
    medium: Literal["image", "device"] = "image"
    confined: bool = True
    network: bool = False

    @model_validator(mode="after")
    def _makes_sense(self) -> Engine:
        if self.built_in == bool(self.run):
            raise ValueError("an engine has either a command line (run = [...]) or built-in = true")
        if self.passes and not self.built_in:
            raise ValueError("only the built-in engine has passes")
        for name in self.passes:
            if name not in PASSES:
                raise ValueError(f"there is no pass '{name[:40]}': there are {', '.join(PASSES)}")
        for text in (*self.run, self.folder, self.claims, *self.environment.values()):
            for word in _PLACEHOLDER.findall(text):
                if word not in PLACES:
                    raise ValueError(f"'{{{word}}}' is nothing that an engine is told: there are "
                                     f"{', '.join('{' + place + '}' for place in PLACES)}")  # fmt: skip
        if self.run and not any("{medium}" in text for text in (*self.run, *self.environment.values())):
            raise ValueError("its command line names no {medium}: it could not know what to read")
        return self

    @property
    def spoken(self) -> str:
        """Name and version."""
        return f"{self.name} {self.version}".rstrip()

    def command(self, places: Mapping[str, str]) -> list[str]:
        """The command line, with places put in. Raises EngineError where its program cannot be found."""
        if self.built_in:
            passes = self.passes or PASSES
            words = [sys.executable, "-m", "sastrugi.campaign.built_in"]
            return [*words, *(places[name] for name in PLACES), ",".join(passes)]
        words = [_put_in(word, places) for word in self.run]
        beside = Path(sys.executable).parent
        path = os.pathsep.join((str(beside), self.environment.get("PATH", os.environ.get("PATH", ""))))
        found = shutil.which(words[0], path=path)
        if found is None:
            raise EngineError(
                f"engine '{self.name}': there is no program '{words[0]}' here: install it, or give its path"
            )
        return [str(Path(found).absolute()), *words[1:]]

    def surroundings(self, places: Mapping[str, str]) -> dict[str, str]:
        """Its environment: that of this program, a home and a temporary folder in its scratch, and what it asks for."""
        own = {name: _put_in(value, places) for name, value in self.environment.items()}
        scratch = places["scratch"]
        return {**os.environ, "HOME": scratch, "TMPDIR": scratch, "XDG_CONFIG_HOME": scratch, **own}

    def working_folder(self, places: Mapping[str, str]) -> str:
        return _put_in(self.folder, places)

    def claims_at(self, places: Mapping[str, str]) -> Path | None:
        """Where its table of claims lies; a path that names no place counts from its results."""
        if not self.claims:
            return None
        return Path(places["results"], _put_in(self.claims, places))

    def meaning(self, status: int) -> str:
        """What an exit status means: done, partly, nothing, or failed."""
        return next((word for word, numbers in self.exit.items() if status in numbers), "failed")


class _EnginesFile(_Table):
    engines: Literal[1]
    engine: Annotated[list[Engine], Field(min_length=1, max_length=1000)]


def shipped_engines() -> dict[str, Engine]:
    """Engines that are always there: the built-in one in its ways, and two stand-ins."""
    own = (
        Engine(name="all-passes", built_in=True),
        Engine(name="fast-look", built_in=True, passes=("layout", "tables")),
        Engine(name="content-only", built_in=True, passes=("layout", "content")),
        Engine(name="plain-reader", run=("sastrugi-plain-reader", "{medium}", "{results}")),
        Engine(name="unruly-reader", run=("sastrugi-unruly-reader", "{medium}", "{results}"), time_limit=60.0),
    )
    return {engine.name: engine for engine in own}


def load_engines(path: Path | None) -> dict[str, Engine]:
    """The engines of a file, and those that are always there. Raises EngineError with what is wrong, and where."""
    known = shipped_engines()
    if path is None:
        return known
    return known | parse_engines(read_toml(path), str(path))


def read_toml(path: Path) -> dict[str, Any]:
    """The tables of a TOML text from outside. Raises EngineError."""
    try:
        return parse_toml(read_text(path, _LARGEST))
    except OSError as error:
        raise EngineError(f"{path}: cannot be read: {system_words(error)}") from error
    except ValueError as error:  # TOMLDecodeError is one
        raise EngineError(f"{path}: is no TOML: {str(error)[:120]}") from error


def parse_engines(tables: dict[str, Any], origin: str) -> dict[str, Engine]:
    try:
        file = _EnginesFile.model_validate(tables)
    except (ValidationError, RecursionError, OverflowError) as error:
        raise EngineError(explain(error, origin, _EnginesFile)) from error
    out: dict[str, Engine] = {}
    for engine in file.engine:
        if engine.name in out:
            raise EngineError(f"{origin}: two engines are called '{engine.name}'")
        out[engine.name] = engine
    return out


def engine_named(name: str, engines: Mapping[str, Engine]) -> Engine:
    """One of the engines; raises EngineError with those that there are."""
    if name in engines:
        return engines[name]
    near = get_close_matches(name, engines, 1, 0.5)
    hint = f": did you mean '{near[0]}'?" if near else f": there are {', '.join(engines)}"
    raise EngineError(f"there is no engine '{name[:60]}'{hint} (--engines FILE names others)")


def explain(error: Exception, origin: str, model: type[BaseModel]) -> str:
    """The first mistake of a text in one line."""
    if not isinstance(error, ValidationError):
        return f"{origin}: holds a value that is not needed here ({str(error)[:60]})"
    first = error.errors()[0]
    where = ".".join(str(part + 1) if isinstance(part, int) else str(part) for part in first["loc"])
    if first["type"] == "extra_forbidden":
        table: Any = model
        known = {field.alias or name for name, field in table.model_fields.items()}
        for part in first["loc"][:-1]:
            known = _keys_below(table, str(part)) or known
            table = _table_below(table, str(part)) or table
        key = str(first["loc"][-1])
        near = get_close_matches(key, known, 1, 0.5)
        told = f"did you mean '{near[0]}'?" if near else f"there are {', '.join(sorted(known))}"
        return f"{origin}, {where}: '{key}' is no key here: {told}"
    if first["type"] == "missing":
        return f"{origin}: '{where}' is missing"
    told = str(first.get("ctx", {}).get("error", "")) or f"{first['msg'][0].lower()}{first['msg'][1:]}"
    return f"{origin}{f', {where}' if where else ''}: {told}"


def _table_below(table: Any, key: str) -> Any:
    """The table that a key leads to, where it is one of our models or a list of one."""
    for name, field in table.model_fields.items():
        if key in (name, field.alias):
            for one in (field.annotation, *getattr(field.annotation, "__args__", ())):
                if isinstance(one, type) and issubclass(one, BaseModel):
                    return one
    return None


def _keys_below(table: Any, key: str) -> set[str]:
    below = _table_below(table, key)
    return {field.alias or name for name, field in below.model_fields.items()} if below else set()


def _put_in(text: str, places: Mapping[str, str]) -> str:
    return _PLACEHOLDER.sub(lambda match: places[match[1]], text)
