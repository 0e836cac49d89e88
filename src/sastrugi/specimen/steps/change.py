"""Steps that change files that stand: grow, edit, rename, copy."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from functools import partial
from pathlib import PurePosixPath
from typing import TYPE_CHECKING, Annotated, Literal

from pydantic import Field, model_validator

from sastrugi.kinds import all_kinds
from sastrugi.specimen.builder import Content
from sastrugi.specimen.recipe_types import ActsAs, Patterns, Share, Size, StepTable
from sastrugi.specimen.steps.store import noise_chunks, require_room, reserve
from sastrugi.volumes.writer import Reuse

if TYPE_CHECKING:
    from sastrugi.scenario.dice import Dice
    from sastrugi.specimen.builder import SpecimenBuilder
    from sastrugi.specimen.laid_files import LaidFile

_NAME_PARTS = ("{n}", "{suffix}", "{stem}", "{name}")
_LINES = ("txt", "log", "csv", "gpx", "mbox")
"""Kinds that people and loggers append lines to."""


class GrowStep(StepTable):
    """Append to files: lines of a log to texts, other bytes to others."""

    do: Literal["grow"]
    what: Patterns
    by: Size
    share: Share = 1.0

    def carry_out(self, builder: SpecimenBuilder) -> None:
        place, _ = builder.mounted(self.volume)
        for laid in builder.choose(place, self.what, self.share, files_only=True):
            dice = builder.dice(f"{laid.path}/{builder.step}")
            builder.grow(laid, Content(laid.path, laid.kind, self.by, partial(_more, dice, laid.kind, self.by)))


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

    def carry_out(self, builder: SpecimenBuilder) -> None:
        place, writer = builder.mounted(self.volume)
        for laid in builder.choose(place, self.what, self.share, files_only=True):
            content = _edited(builder, laid, max(round(laid.size * self.scale), 1))
            require_room(writer, content.size, laid.path)
            if self.how != "replace":
                builder.rewrite(laid, content, self.how == "in-place")
                continue
            path = laid.node.path
            folder = path.rpartition("/")[0]
            new = builder.store(place, f"{folder}/~{builder.step}{len(builder.laid):05d}.tmp", content, role=laid.role)
            new.kind = laid.kind
            builder.delete(laid, self.acts_as, "replaced")
            builder.rename(new, path)
            new.former = list(laid.former)


def _edited(builder: SpecimenBuilder, laid: LaidFile, size: int) -> Content:
    """New content of the same kind and about this size; noise for kinds that cannot be made."""
    dice = builder.dice(f"{laid.path}/{builder.step}")
    kind = all_kinds().get(laid.kind)
    if kind is not None and kind.make is not None:
        data = kind.make(dice, size)
        return Content(laid.path, laid.kind, len(data), partial(iter, (data,)))
    return Content(laid.path, laid.kind, size, partial(noise_chunks, dice, size))


class _NewNames(StepTable):
    """`to` is a name, in which {name}, {stem}, {suffix} and {n} stand for parts of the old one and a count; `into` is a
    folder."""

    what: Patterns
    to: str | None = None
    into: str | None = None
    share: Share = 1.0

    @model_validator(mode="after")
    def _says_something(self) -> _NewNames:
        if self.to is None and self.into is None:
            raise ValueError("this step says 'to' (another name), 'into' (another folder), or both")
        if unknown := set(re.findall(r"{\w*}", self.to or "")) - set(_NAME_PARTS):
            raise ValueError(f"'{min(unknown)}' is no part of a name: there are {', '.join(_NAME_PARTS)}")
        return self

    def _paths(self, chosen: Sequence[LaidFile]) -> Iterator[tuple[LaidFile, str]]:
        """Each with its new path."""
        for n, laid in enumerate(chosen, 1):
            old = PurePosixPath(laid.node.path)
            folder = "/" + self.into.strip("/") if self.into is not None else str(old.parent)
            name = self.to or "{name}"
            for part, value in zip(_NAME_PARTS, (str(n), old.suffix, old.stem, old.name), strict=True):
                name = name.replace(part, value)
            yield laid, f"{folder.rstrip('/')}/{name}"


class RenameStep(_NewNames):
    """Give files or folders another name (`to`), another folder (`into`), or both."""

    do: Literal["rename"]

    def carry_out(self, builder: SpecimenBuilder) -> None:
        place, _ = builder.mounted(self.volume)
        chosen = builder.choose(place, self.what, self.share)
        for laid, path in self._paths([one for one in chosen if one.node.of is None]):  # streams go with their files
            builder.rename(laid, path)


class LinkStep(_NewNames):
    """Give files a second name (a hard link): another name (`to`), the same in another folder (`into`), or both."""

    do: Literal["link"]

    def carry_out(self, builder: SpecimenBuilder) -> None:
        place, _ = builder.mounted(self.volume)
        chosen = builder.choose(place, self.what, self.share, files_only=True)
        for laid, path in self._paths([one for one in chosen if one.node.of is None]):
            builder.link(laid, path)


class CopyStep(StepTable):
    """Copy files into another folder of the same volume, or of the volume `to`."""

    do: Literal["copy"]
    what: Patterns
    into: str
    to: str | None = None
    share: Share = 1.0
    reuse: Reuse = "next"

    def carry_out(self, builder: SpecimenBuilder) -> None:
        source, _ = builder.mounted(self.volume)
        target, writer = builder.mounted(self.to or source.name)
        for laid in builder.choose(source, self.what, self.share, files_only=True):
            path = f"/{self.into.strip('/')}/{PurePosixPath(laid.node.path).name}"
            content = Content(path, laid.kind, laid.size, partial(builder.read, laid))
            require_room(writer, content.size, path)
            builder.store(target, path, content, reserve(builder, writer, laid.size, self.reuse, path))
