"""Make reference files: same seed and library versions, same bytes."""

from __future__ import annotations

import os
from collections.abc import Generator, Iterator, Sequence
from dataclasses import dataclass
from difflib import get_close_matches
from pathlib import Path, PurePosixPath

from sastrugi.corpus.ahead import contents, making
from sastrugi.corpus.kept import is_kept, kept_or_made
from sastrugi.corpus.names import check_style, file_name
from sastrugi.errors import DestinationError, SastrugiError, system_words
from sastrugi.kinds import all_kinds, kind_named
from sastrugi.progress import Progress
from sastrugi.safety import new_folder
from sastrugi.scenario.dice import Dice
from sastrugi.units import parse_size

SPREADS = {
    "tiny": (10, 1 << 10),
    "small": (1 << 10, 64 << 10),
    "middle": (64 << 10, 4 << 20),
    "large": (4 << 20, 300 << 20),
    "mixed": (10, 16 << 20),
}
"""Named spreads of sizes, in bytes."""
_MOST = {"picture": 12 << 20, "document": 16 << 20, "program": 64 << 20, "data": 64 << 20}
"""No real photograph or notebook is larger; other groups have no limit."""
_TINY = 2 << 10
_TINY_KINDS = ("txt", "csv", "json", "log", "html", "svg", "xml", "rtf", "eml")
"""Kinds of which a file can be that small: asked for smaller ones, the others are passed over."""


def parse_spread(text: str) -> tuple[int, int]:
    """`4 KiB..200 KiB`, one size, or the name of a spread; raises SastrugiError."""
    if text in SPREADS:
        return SPREADS[text]
    if text.isalpha():
        near = get_close_matches(text, SPREADS, 1)
        hint = f"did you mean '{near[0]}'?" if near else f"there are {', '.join(SPREADS)}, or write '4 KiB..200 KiB'"
        raise SastrugiError(f"'{text}' is no spread of sizes: {hint}")
    low, dots, high = text.partition("..")
    smallest, largest = parse_size(low), parse_size(high if dots else low)
    if not 1 <= smallest <= largest:
        raise SastrugiError(f"sizes {text}: the first must not be above the second, nor below 1")
    return smallest, largest


@dataclass(frozen=True, slots=True)
class CorpusSpec:
    """What to make. `kinds` in turn (all of `groups`, or all that can be made, if empty); sizes on a logarithmic scale
    from `smallest` to `largest`, scaled so that they come to `total` if that is not 0; folders `depth` levels deep,
    `breadth` at each level."""

    files: int
    seed: str
    kinds: tuple[str, ...] = ()
    groups: tuple[str, ...] = ()
    smallest: int = 4 << 10
    largest: int = 200 << 10
    total: int = 0
    names: str = "plain"
    first_number: int = 1
    depth: int = 0
    breadth: int = 3

    def check(self) -> None:
        """Raise SastrugiError if the spec cannot be made."""
        check_style(self.names)
        for name in self.kinds:
            if kind_named(name).make is None:
                raise SastrugiError(f"files of kind '{name}' can be measured but not made: choose another kind")
        known = sorted({kind.group for kind in all_kinds().values()})
        for group in self.groups:
            if group not in known:
                near = get_close_matches(group, known, 1)
                hint = f"did you mean '{near[0]}'?" if near else f"there are {', '.join(known)}"
                raise SastrugiError(f"'{group}' is no group of kinds: {hint}")
        if self.files < 1:
            raise SastrugiError(f"{self.files} files: a corpus has at least one")
        if self.depth < 0 or self.breadth < 1 or self.depth > 64:
            raise SastrugiError("folders are 0 to 64 levels deep, and at least one at each level")
        if self.total and self.total < self.files * 10:
            raise SastrugiError(f"{self.total} bytes in all are too few for {self.files} files")


@dataclass(frozen=True, slots=True)
class Plan:
    """One file to make: its place in the corpus, its kind, the size it should have, and its seed."""

    path: str
    kind: str
    size: int
    seed: str

    def content(self) -> bytes:
        make = kind_named(self.kind).make
        assert make is not None
        return kept_or_made(self.kind, self.size, self.seed, lambda: make(Dice(self.seed), self.size))


def made_files(plans: Sequence[Plan], workers: int) -> Generator[bytes]:
    """The content of each, in order, made by so many processes where that pays."""
    return contents(plans, workers, lambda plan: is_kept(plan.kind, plan.size, plan.seed))


def plan_files(spec: CorpusSpec) -> list[Plan]:
    """All files of a spec; no two have the same path."""
    spec.check()
    makeable = [kind for kind in all_kinds().values() if kind.make is not None]
    of_groups = [kind for kind in makeable if not spec.groups or kind.group in spec.groups]
    kinds = [kind_named(name) for name in spec.kinds] or of_groups
    tiny = [] if spec.kinds else [kind for kind in kinds if kind.name in _TINY_KINDS]
    dice = [Dice(f"{spec.seed}/{n}") for n in range(spec.files)]
    sizes = [one.spread(spec.smallest, spec.largest) for one in dice]
    if spec.total:
        sizes = [max(size * spec.total // sum(sizes), 10) for size in sizes]
    out: list[Plan] = []
    taken: set[str] = set()
    for n, one in enumerate(dice):
        size = sizes[n]
        kind = tiny[n % len(tiny)] if size < _TINY and tiny else kinds[n % len(kinds)]
        number = spec.first_number + n
        path = _place(spec, one, n) / file_name(spec.names, kind, one, number)
        while str(path) in taken:
            path = path.parent / f"again {len(taken)}" / path.name
        taken.add(str(path))
        out.append(Plan(str(path), kind.name, min(size, _MOST.get(kind.group, size)), f"{spec.seed}/{n}/content"))
    return out


def _place(spec: CorpusSpec, dice: Dice, n: int) -> PurePosixPath:
    """The folder of the `n`th file: every level is reached, then folders are drawn."""
    levels = n % (spec.depth + 1) if n <= spec.depth else dice.number(0, spec.depth)
    parts = [f"{Dice(f'{spec.seed}/level {level}').word()} {dice.number(1, spec.breadth)}" for level in range(levels)]
    return PurePosixPath(*parts)


def _write(folder: Path, plan: Plan) -> int:
    target = folder / plan.path
    target.parent.mkdir(parents=True, exist_ok=True)
    return target.write_bytes(plan.content())


def write_corpus(spec: CorpusSpec, into: Path, progress: Progress) -> list[tuple[str, str, int]]:
    """Make the files of a spec in a new folder, in parallel; answers (path, kind, size) of each.

    The folder appears whole, or not at all.
    """
    plans = plan_files(spec)
    made: list[tuple[str, str, int]] = []
    with new_folder(into, "corpus") as folder:
        progress.start("make", len(plans), "files")
        workers = min(os.cpu_count() or 1, len(plans))
        if workers == 1 or len(plans) < 4:
            sizes: Iterator[int] = (_write(folder, plan) for plan in plans)
            _collect(plans, sizes, made, progress, into)
        else:
            with making(workers) as pool:
                begun = [pool.submit(_write, folder, plan) for plan in plans]  # what `map` hands out it cancels
                _collect(plans, (one.result() for one in begun), made, progress, into)
        progress.finish()
    return made


def _collect(
    plans: list[Plan], sizes: Iterator[int], made: list[tuple[str, str, int]], progress: Progress, into: Path
) -> None:
    try:
        for plan, size in zip(plans, sizes, strict=True):
            made.append((plan.path, plan.kind, size))
            progress.at(len(made), plan.path)
            progress.check()
    except OSError as error:
        raise DestinationError(f"{into}: the corpus cannot be written: {system_words(error)}") from error
