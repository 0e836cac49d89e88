"""The Python API: one call that scores, and its scorecard as data (docs/howto/python.md)."""

from __future__ import annotations

from pathlib import Path

from sastrugi.progress import Progress
from sastrugi.scoring.judgement import judge
from sastrugi.scoring.scorecard import Scorecard
from sastrugi.specimen.truth import Specimen


def score(specimen: str | Path, results: str | Path, files: str = "lost", table: str | Path | None = None) -> Scorecard:
    """Score a folder of results, or a scan file, against a specimen folder.

    `files` is the set: `lost`, `all`, `deleted`, `life N` or a pattern; `table` a CSV or JSON file with what a program
    says of its results. Raises SastrugiError, whose message says what is wrong and how to mend it.
    """
    with Specimen(Path(specimen)) as opened:
        told = Path(table) if table is not None else None
        return judge(opened, Path(results), Progress(), None, files, told).scorecard()
