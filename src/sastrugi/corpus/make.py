"""Make reference files: same seed and library versions, same bytes."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from sastrugi.corpus.names import check_style, file_name
from sastrugi.errors import SastrugiError
from sastrugi.kinds import Kind, all_kinds, kind_named
from sastrugi.progress import Progress
from sastrugi.safety import new_folder
from sastrugi.scenario.dice import Dice


@dataclass(frozen=True, slots=True)
class CorpusSpec:
    """What to make: how many files, of which kinds in turn (all that can be made if empty), how large, how named."""

    files: int
    seed: str
    kinds: tuple[str, ...] = ()
    smallest: int = 4 << 10
    largest: int = 200 << 10
    names: str = "plain"
    first_number: int = 1

    def check(self) -> None:
        """Raise SastrugiError if the spec cannot be made."""
        check_style(self.names)
        for name in self.kinds:
            if kind_named(name).make is None:
                raise SastrugiError(f"files of kind '{name}' can be measured but not made: choose another kind")
        if self.files < 1:
            raise SastrugiError(f"{self.files} files: a corpus has at least one")
        if not 1 <= self.smallest <= self.largest:
            raise SastrugiError(
                f"sizes {self.smallest}..{self.largest}: the first must not be above the second, nor below 1"
            )


@dataclass(frozen=True, slots=True)
class ReferenceFile:
    """One made file, in memory."""

    name: str
    kind: Kind
    content: bytes


def make_files(spec: CorpusSpec) -> Iterator[ReferenceFile]:
    """The files of a spec, one at a time; every name is different from the others, case aside."""
    spec.check()
    makeable = [kind for kind in all_kinds().values() if kind.make is not None]
    kinds = [kind_named(name) for name in spec.kinds] or makeable
    for n in range(spec.files):
        dice = Dice(f"{spec.seed}/{n}")
        kind = kinds[n % len(kinds)]
        assert kind.make is not None
        name = file_name(spec.names, kind, dice, spec.first_number + n)
        yield ReferenceFile(name, kind, kind.make(dice.fork("content"), dice.spread(spec.smallest, spec.largest)))


def write_corpus(spec: CorpusSpec, into: Path, progress: Progress) -> list[tuple[str, str, int]]:
    """Make the files of a spec in a new folder; answers (name, kind, size) of each. The folder appears whole or not."""
    made: list[tuple[str, str, int]] = []
    spec.check()
    with new_folder(into, "corpus") as folder:
        progress.start("make", spec.files, "files")
        for file in make_files(spec):
            (folder / file.name).write_bytes(file.content)
            made.append((file.name, file.kind.name, len(file.content)))
            progress.at(len(made), file.name)
            progress.check()
        progress.finish()
    return made
