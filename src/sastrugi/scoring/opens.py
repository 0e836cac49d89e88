"""Whether results open: decoded to their end by libraries that are not ours, in child processes with limits."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from sastrugi.children import run_in_children
from sastrugi.corpus.check import open_one
from sastrugi.progress import Progress
from sastrugi.recovery.borrow import Borrowed, plain_suffix
from sastrugi.scoring.results import Result
from sastrugi.scoring.scorecard import OpensWord

_WORDS: dict[str, OpensWord] = {"opens": "yes", "broken": "no", "cannot tell": "untested"}
_LARGEST = 1 << 30
_SECONDS, _MEMORY = 30.0, 4 << 30


def open_results(medium: Path, results: Sequence[Result], progress: Progress) -> dict[int, tuple[OpensWord, str]]:
    """The answer and the reason for each result, by its number. One that takes too long or too much memory does not
    open; of a kind nobody can open it is untested."""
    tasks = [
        result.file if result.file is not None else Borrowed(medium, result.extents, plain_suffix(result.path))
        for result in results
    ]
    progress.start("open", len(tasks), "files")
    outcomes = run_in_children(f"{__name__}:open_task", tasks, progress, _SECONDS, _MEMORY)
    progress.finish()
    return {
        result.number: outcome.value or ("no", outcome.problem)
        for result, outcome in zip(results, outcomes, strict=True)
    }


def open_task(task: Path | Borrowed) -> tuple[OpensWord, str]:
    """Runs in a child."""
    if isinstance(task, Path):
        _, answer, why = open_one(task)
    else:
        with task.as_file(_LARGEST) as path:
            _, answer, why = open_one(path)
            why = why.replace(str(path), "it")
    return _WORDS[answer], why
