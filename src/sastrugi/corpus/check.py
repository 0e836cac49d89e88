"""Open every file of a folder to its end, with a library that is not ours, in child processes with limits."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

from sastrugi.errors import SastrugiError
from sastrugi.kinds import Kind, all_kinds, kind_for_name, kind_named, recognise
from sastrugi.kinds.base import FileSource
from sastrugi.progress import Progress
from sastrugi.subprocess_pool import MEMORY, problem_of, run_in_children, seconds_for

Answer = Literal["opens", "broken", "cannot tell"]


@dataclass(frozen=True, slots=True)
class Checked:
    """One file: whether it opens, as which kind, and the reason if it does not."""

    path: Path
    kind: str
    answer: Answer
    why: str = ""


def files_below(folder: Path) -> list[Path]:
    """All regular files below a folder, links not followed; raises SastrugiError if it is none or holds none."""
    if not folder.is_dir():
        raise SastrugiError(f"{folder}: is no folder of reference files")
    found = [path for path in sorted(folder.rglob("*")) if path.is_file() and not path.is_symlink()]
    if not found:
        raise SastrugiError(f"{folder}: holds no files")
    return found


def check_files(paths: Sequence[Path], progress: Progress, seconds: float = 0, memory: int = MEMORY) -> list[Checked]:
    """Open each file; a file of a user's own folder counts like any other. `seconds` 0: as its size asks for."""
    progress.start("open", len(paths), "files")
    limits = [seconds or seconds_for(path.stat().st_size) for path in paths]
    outcomes = run_in_children(f"{__name__}:open_one", paths, progress, limits, memory)
    progress.finish()
    out: list[Checked] = []
    for path, outcome in zip(paths, outcomes, strict=True):
        value: tuple[str, Answer, str] | None = outcome.value
        out.append(Checked(path, *(value or (_kind_by_name(path), "broken", outcome.problem))))
    return out


def _kind_by_name(path: Path) -> str:
    kind = kind_for_name(path.name)
    return kind.name if kind else "other"


def kind_of_file(path: Path) -> Kind | None:
    """The kind a file is: by its bytes where they tell, otherwise by its name, or text if it is that to its end."""
    named = kind_for_name(path.name)
    with FileSource(path) as source:
        measure = recognise(source)
        if measure is None and named is None:
            text = kind_named("txt")
            measure = text.measure(source, False) if text.measure else None
            measure = measure if measure is not None and measure.length == source.size else None
    shown = all_kinds().get(measure.kind) if measure is not None else None
    return shown if measure is not None and measure.whole and shown is not None else named or shown


def open_one(path: Path) -> tuple[str, Answer, str]:
    """Kind, answer and reason for one file. Runs in a child."""
    kind, named = kind_of_file(path), kind_for_name(path.name)
    if kind is None or kind.check is None:
        return (kind.name if kind else "other"), "cannot tell", "no kind is known that it could be opened as"
    try:
        kind.check(path)
    except MemoryError:
        raise
    except Exception as error:
        return kind.name, "broken", problem_of(error, path)
    note = f"a {kind.title}, though its name says {named.title}" if named not in (None, kind) and named else ""
    return kind.name, "opens", note
