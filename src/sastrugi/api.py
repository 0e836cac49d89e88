"""The Python API (docs/howto/python.md): each step of the job is a function that takes paths and gives data.

Everything that can be wrong with the input raises SastrugiError, whose message says what is wrong and how to mend it. A
`progress` learns how far a long step is, and can stop it.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from contextlib import ExitStack
from pathlib import Path
from typing import Any

from sastrugi.campaign.engines import Engine, engine_named, load_engines
from sastrugi.campaign.record import Trial
from sastrugi.campaign.trial import TrialOptions, run_trial
from sastrugi.errors import SastrugiError
from sastrugi.media import open_medium
from sastrugi.progress import Progress
from sastrugi.recovery.extract import ExtractSummary, check_destination, check_medium
from sastrugi.recovery.extract import extract as _extract
from sastrugi.recovery.findings import PASSES
from sastrugi.recovery.scan import ScanResult
from sastrugi.recovery.scan import scan as _scan
from sastrugi.recovery.scan_file import ScanFile
from sastrugi.recovery.select import Selection
from sastrugi.scoring.paired import Comparison
from sastrugi.scoring.paired import compare as _compare
from sastrugi.scoring.scorecard import Scorecard
from sastrugi.scoring.scorer import judge
from sastrugi.specimen.adopt import Adoption
from sastrugi.specimen.adopt import adopt as _adopt
from sastrugi.specimen.build import build as _build
from sastrugi.specimen.recipe import load_recipe
from sastrugi.specimen.truth import Specimen

__all__ = [
    "Adoption", "Comparison", "Engine", "ExtractSummary", "Progress", "SastrugiError", "ScanResult", "Scorecard",
    "Trial",
    "adopt", "build", "compare", "extract", "scan", "score", "trial",
]  # fmt: skip

AnyPath = str | Path


def build(recipe: AnyPath, into: AnyPath, replace: bool = False, progress: Progress | None = None) -> Path:
    """Build the specimen of a recipe (a file, or one that ships, by its name) in the new folder `into`."""
    return _build(load_recipe(str(recipe)), Path(into), progress or Progress(), replace=replace)


def adopt(
    image: AnyPath,
    originals: AnyPath,
    into: AnyPath,
    before: AnyPath | None = None,
    lost: Sequence[str] = ("*",),
    replace: bool = False,
    name: str = "",
    progress: Progress | None = None,
) -> Adoption:
    """Make a specimen of an image and of the files that were on it. `before` is an image from before the loss, `lost`
    are patterns of those that were lost (none: all are live)."""
    with ExitStack() as stack:
        medium = stack.enter_context(open_medium(image))
        earlier = stack.enter_context(open_medium(before)) if before is not None else None
        return _adopt(medium, Path(originals), Path(into), progress or Progress(), earlier, lost, replace, name)


def scan(
    medium: AnyPath,
    out: AnyPath,
    passes: Iterable[str] = PASSES,
    replace: bool = False,
    progress: Progress | None = None,
) -> ScanResult:
    """Scan an image, a device or a specimen into the scan file `out`."""
    with open_medium(medium) as opened:
        return _scan(opened, Path(out), progress or Progress(), passes, replace=replace)


def extract(
    scan_file: AnyPath, into: AnyPath, medium: AnyPath | None = None, progress: Progress | None = None, **selected: Any
) -> ExtractSummary:
    """Bring findings of a scan file back into the new folder `into`: those that are lost, or those that `selected`
    says (`state`, `kinds`, `names`, … as in `recovery.select.Selection`). `medium` is where the medium is now, if it
    moved."""
    destination = Path(into)
    with ScanFile.open(Path(scan_file)) as opened, open_medium(medium or opened.medium_path) as source:
        check_medium(opened, source)
        check_destination(destination, source.path, False)
        wanted = Selection(**{"state": "lost", **selected})
        return _extract(source, wanted.pick(opened), destination, progress or Progress())


def score(
    specimen: AnyPath,
    results: AnyPath,
    files: str = "lost",
    table: AnyPath | None = None,
    progress: Progress | None = None,
) -> Scorecard:
    """Score a folder of results, or a scan file, against a specimen folder.

    `files` is the set: `lost`, `all`, `deleted`, `life N` or a pattern; `table` a CSV or JSON file with what a program
    says of its results.
    """
    with Specimen(Path(specimen)) as opened:
        told = Path(table) if table is not None else None
        return judge(opened, Path(results), progress or Progress(), None, files, told).scorecard()


def trial(
    specimen: AnyPath,
    engine: str | Engine,
    into: AnyPath,
    engines: AnyPath | None = None,
    files: str = "lost",
    replace: bool = False,
    progress: Progress | None = None,
) -> tuple[Trial, Scorecard]:
    """Run an engine (one that is always there, one of the file `engines`, or one made here) on a copy of a specimen's
    medium; its record, and its score. All of it stands in the new folder `into`."""
    chosen = engine
    if isinstance(chosen, str):
        chosen = engine_named(chosen, load_engines(Path(engines) if engines is not None else None))
    manner = TrialOptions(files_of=files)
    return run_trial(Path(specimen), chosen, Path(into), progress or Progress(), manner, replace)


def compare(first: Scorecard | Sequence[Scorecard], second: Scorecard | Sequence[Scorecard]) -> Comparison:
    """Two sides, file by file; each is one scorecard or several, of other specimens."""
    sides = ([side] if isinstance(side, Scorecard) else list(side) for side in (first, second))
    return _compare(*sides)
