"""Steps that change files that stand: grow, edit, rename, copy."""

from __future__ import annotations

import re
from collections.abc import Iterator
from functools import partial
from pathlib import PurePosixPath
from typing import TYPE_CHECKING, Annotated, Literal

from pydantic import Field, model_validator

from sastrugi.kinds import all_kinds
from sastrugi.specimen.builder import Content
from sastrugi.specimen.recipe_types import ActsAs, Patterns, Share, Size, StepTable
from sastrugi.specimen.steps.store import Reuse, noise_chunks, require_room, reserve

if TYPE_CHECKING:
    from sastrugi.scenario.dice import Dice
    from sastrugi.specimen.builder import Laying
    from sastrugi.specimen.laid_files import Lain

_NAME_PARTS = ("{n}", "{suffix}", "{stem}", "{name}")
_LINES = ("txt", "log", "csv", "gpx", "mbox")
"""Kinds that people and loggers append lines to."""


class GrowStep(StepTable):
    """Append to files: lines of a log to texts, other bytes to others."""

    do: Literal["grow"]
    what: Patterns
    by: Size
    share: Share = 1.0

    def carry_out(self, laying: Laying) -> None:
        place, _ = laying.mounted(self.volume)
        for lain in laying.choose(place, self.what, self.share, files_only=True):
            dice = laying.dice(f"{lain.path}/{laying.step}")
            laying.grow(lain, Content(lain.path, lain.kind, self.by, partial(_more, dice, lain.kind, self.by)))


def _more(dice: Dice, kind: str, size: int) -> Iterator[bytes]:
    if kind in _LINES:
        return iter((dice.log_text(size).encode("utf-8")[:size].ljust(size, b"\n"),))
    return noise_chunks(dice, size)


class EditStep(StepTable):
    """Save files with other content: by a new file that takes the old one's name (replace, as office programs do), by
    opening the old one cut to nothing (truncate), or over its own clusters (in-place)."""

    do: Literal["edit"]
    what: Patterns
    share: Share = 1.0
    how: Literal["replace", "truncate", "in-place"] = "replace"
    scale: Annotated[float, Field(gt=0, le=100)] = 1.0
    acts_as: ActsAs = "linux"

    def carry_out(self, laying: Laying) -> None:
        place, writer = laying.mounted(self.volume)
        for lain in laying.choose(place, self.what, self.share, files_only=True):
            content = _edited(laying, lain, max(round(lain.size * self.scale), 1))
            require_room(writer, content.size, lain.path)
            if self.how != "replace":
                laying.rewrite(lain, content, self.how == "in-place")
                continue
            path = lain.node.path
            folder = path.rpartition("/")[0]
            new = laying.store(place, f"{folder}/~{laying.step}{len(laying.laid):05d}.tmp", content, role=lain.role)
            new.kind = lain.kind
            laying.delete(lain, self.acts_as, "replaced")
            laying.rename(new, path)
            new.former = list(lain.former)


def _edited(laying: Laying, lain: Lain, size: int) -> Content:
    """New content of the same kind and about this size; noise for kinds that cannot be made."""
    dice = laying.dice(f"{lain.path}/{laying.step}")
    kind = all_kinds().get(lain.kind)
    if kind is not None and kind.make is not None:
        data = kind.make(dice, size)
        return Content(lain.path, lain.kind, len(data), partial(iter, (data,)))
    return Content(lain.path, lain.kind, size, partial(noise_chunks, dice, size))


class RenameStep(StepTable):
    """Give files or folders another name (`to`, where {name}, {stem}, {suffix} and {n} stand for parts of the old one
    and a count), another folder (`into`), or both."""

    do: Literal["rename"]
    what: Patterns
    to: str | None = None
    into: str | None = None
    share: Share = 1.0

    @model_validator(mode="after")
    def _says_something(self) -> RenameStep:
        if self.to is None and self.into is None:
            raise ValueError("a rename step says 'to' (another name), 'into' (another folder), or both")
        if unknown := set(re.findall(r"{\w*}", self.to or "")) - set(_NAME_PARTS):
            raise ValueError(f"'{min(unknown)}' is no part of a name: there are {', '.join(_NAME_PARTS)}")
        return self

    def carry_out(self, laying: Laying) -> None:
        place, _ = laying.mounted(self.volume)
        for n, lain in enumerate(laying.choose(place, self.what, self.share), 1):
            old = PurePosixPath(lain.node.path)
            folder = "/" + self.into.strip("/") if self.into is not None else str(old.parent)
            name = self.to or "{name}"
            for part, value in zip(_NAME_PARTS, (str(n), old.suffix, old.stem, old.name), strict=True):
                name = name.replace(part, value)
            laying.rename(lain, f"{folder.rstrip('/')}/{name}")


class CopyStep(StepTable):
    """Copy files into another folder of the same volume, or of the volume `to`."""

    do: Literal["copy"]
    what: Patterns
    into: str
    to: str | None = None
    share: Share = 1.0
    reuse: Reuse = "next"

    def carry_out(self, laying: Laying) -> None:
        source, _ = laying.mounted(self.volume)
        target, writer = laying.mounted(self.to or source.name)
        for lain in laying.choose(source, self.what, self.share, files_only=True):
            path = f"/{self.into.strip('/')}/{PurePosixPath(lain.node.path).name}"
            content = Content(path, lain.kind, lain.size, partial(laying.read, lain))
            require_room(writer, content.size, path)
            laying.store(target, path, content, reserve(laying, writer, lain.size, self.reuse, path))
