"""One cell of a campaign, wherever it is carried out: obtain the specimen, run the trial, give back what is kept."""

from __future__ import annotations

import tempfile
from dataclasses import dataclass
from pathlib import Path

from sastrugi.campaign.matrix import Cell
from sastrugi.campaign.record import LOG_FILE, SCORECARD_FILE, TRIAL_FILE, is_of_trial
from sastrugi.campaign.specimens import SpecimenStore
from sastrugi.campaign.trial import TrialOptions, run_trial
from sastrugi.errors import Interrupted, SastrugiError
from sastrugi.progress import Progress
from sastrugi.safety import new_folder

KEPT = (TRIAL_FILE, SCORECARD_FILE, LOG_FILE)


@dataclass(frozen=True, slots=True)
class Task:
    """A cell with all that a worker needs to know: the set of files, the campaign's name, whether results are kept."""

    cell: Cell
    campaign: str
    files_of: str
    keep_results: bool


@dataclass(frozen=True, slots=True)
class Done:
    """What came of a cell: why it could not be carried out (or nothing), and from another machine the files to keep."""

    key: str
    problem: str = ""
    files: tuple[tuple[str, bytes], ...] = ()


def carry_out(task: Task, store: SpecimenStore, cells: Path, progress: Progress) -> Done:
    """Carry a cell out; its trial then stands in `cells` under the cell's key. Trouble with the recipe, the engine or
    the disk is told, not raised: other cells go on."""
    cell = task.cell
    manner = TrialOptions(
        files_of=task.files_of, keep_results=task.keep_results, parameters=cell.wanted.parameters,
        campaign=task.campaign, cell=cell.label,
    )  # fmt: skip
    try:
        specimen = store.obtain(cell.wanted, progress)
        run_trial(specimen, cell.engine, cells / cell.key, progress, manner, replace=True)
    except Interrupted:
        raise
    except (SastrugiError, OSError) as error:
        return Done(cell.key, " ".join(str(error).split()))
    return Done(cell.key)


def carry_out_there(task: Task, workplace: str) -> Done:
    """The same on a machine of a cluster: the specimen is built there, from its recipe and seed, and what is kept of
    the trial comes back. `workplace` is a folder of that machine."""
    place = Path(workplace)
    store = SpecimenStore(place / "specimens")
    with tempfile.TemporaryDirectory(prefix="cells-", dir=place) as name:
        cells = Path(name)
        done = carry_out(task, store, cells, Progress())
        if done.problem:
            return done
        folder = cells / task.cell.key
        return Done(done.key, "", tuple((name, (folder / name).read_bytes()) for name in KEPT))


def keep(done: Done, cells: Path) -> None:
    """Write what came from another machine as if it had been carried out here."""
    with new_folder(cells / done.key, "trial", TRIAL_FILE, True, is_of_trial) as folder:
        for name, data in done.files:
            (folder / name).write_bytes(data)
