"""A by-hand trial: the bench hands a medium out, a person runs the program, and the results are taken back.

Between the two the trial's folder holds what was handed out and a record that says so; days may pass.
"""

from __future__ import annotations

import datetime as dt
import uuid
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from sastrugi.campaign.handing import changed_ranges, hand_out
from sastrugi.campaign.record import (
    SCORECARD_FILE,
    TRIAL_FILE,
    TRIAL_VERSION,
    Measures,
    Trial,
    TrialEngine,
    is_of_trial,
    read_trial,
)
from sastrugi.campaign.record_digests import TrialDigests, results_digest, scorecard_digest, this_host, truth_digest
from sastrugi.campaign.trial import identity_after, specimen_of, write_record
from sastrugi.errors import DestinationError, EngineError
from sastrugi.media.device import write_device
from sastrugi.media.faults import FAULTS_SUFFIX
from sastrugi.progress import Progress
from sastrugi.safety import atomic_file, new_folder, require_outside, write_text
from sastrugi.scoring.scorecard import Scorecard
from sastrugi.scoring.scorer import judge
from sastrugi.specimen.medium_check import require_unchanged
from sastrugi.specimen.truth import Specimen
from sastrugi.version import __version__

HANDED_OUT, INSTRUCTIONS, STOPWATCH = "handed-out.img", "WHAT-TO-DO.txt", "stopwatch.txt"
_WHERE_DEVICE = "device "
_TRIAL = ".trial"


@dataclass(frozen=True, slots=True)
class TakenBack:
    """What a person says of a run: how many seconds it took, with which options, and what else is worth a note; how it
    ended; and where the medium is that came back (an image or a device), if it is not where it was handed out."""

    seconds: float | None = None
    options: str = ""
    notes: str = ""
    outcome: str = "done"
    medium: Path | None = None


def split_name(spoken: str) -> tuple[str, str]:
    """Name and version from `NAME VERSION`: the version is the last word, if it holds a digit."""
    name, _, last = spoken.strip().rpartition(" ")
    return (name.strip(), last) if name and any(char.isdigit() for char in last) else (spoken.strip(), "")


def is_own(path: str) -> bool:
    return is_of_trial(path) or path in (HANDED_OUT, HANDED_OUT + FAULTS_SUFFIX, INSTRUCTIONS, STOPWATCH)


def hand_medium_out(
    specimen: Path, spoken: str, into: Path, progress: Progress, device: Path | None = None, replace: bool = False
) -> Trial:
    """Make the folder of a by-hand trial: with a copy of the medium to be taken to the program, or the medium written
    onto `device`. Raises EngineError, SpecimenError or DestinationError."""
    name, version = split_name(spoken)
    if not name:
        raise EngineError('a by-hand trial needs the program\'s name and version: --by-hand "NAME 1.2"')
    require_outside(into, specimen, "the specimen itself")
    with Specimen(specimen) as opened:
        require_unchanged(opened, progress)
        with new_folder(into, "trial", TRIAL_FILE, replace, is_own) as folder:
            if device is None:
                hand_out(opened.medium, folder / HANDED_OUT, progress)
            else:
                write_device(opened.medium, device, progress)
            trial = Trial(
                id=uuid.uuid4().hex, began=_now(), by_hand=True, specimen=specimen_of(opened, {}),
                engine=TrialEngine(
                    name=name, version=version, medium=f"{_WHERE_DEVICE}{device}" if device else "image"
                ),
                outcome="handed out", bench=f"sastrugi {__version__}",
            )  # fmt: skip
            (folder / TRIAL_FILE).write_text(trial.model_dump_json(indent=1) + "\n", encoding="utf-8")
            where = str(device) if device else HANDED_OUT
            (folder / INSTRUCTIONS).write_text(instructions(trial, where), encoding="utf-8")
    return trial


def instructions(trial: Trial, where: str) -> str:
    """What the person does, in words."""
    return f"""Trial {trial.id[:8]}: {trial.spoken} on "{trial.specimen.title}"

1. The medium is {where}. Let the program read it, and nothing write to it.
2. Let the program bring back all that was lost, into a new empty folder on another disk.
3. Note how long it took, and with which options.
4. Bring the folder here, however its names came over, and say:
   sastrugi trial SPECIMEN --go-on FOLDER --results THAT-FOLDER --time "12 min"
   (FOLDER is this one; --medium-back FILE names the medium where it is elsewhere now.)
"""


def take_results_back(
    specimen: Path,
    folder: Path,
    results: Path,
    said: TakenBack,
    progress: Progress,
    files_of: str = "lost",
    table: Path | None = None,
    leave_out: Sequence[str] = (),
    root: str | None = None,
    into: Path | None = None,
) -> tuple[Trial, Scorecard, Path]:
    """Score what came back of a medium that was handed out into the trial's `folder`, and end the trial. A trial that
    has ended stays as it is: then the new record goes into a folder of its own (`into`, or one called after it) and
    names the one that it replaces. Answers the record, the scorecard and their folder."""
    handed = read_trial(folder)
    if not handed.by_hand:
        raise EngineError(f"{folder}: is a trial that this bench ran itself: nothing is to be brought back for it")
    require_outside(results, specimen, "the specimen itself")
    if results.resolve() == folder.resolve():
        raise DestinationError(f"{results}: is the trial's own folder: name the folder of results")
    with Specimen(specimen) as opened:
        now = specimen_of(opened, {})
        if now.identity != handed.specimen.identity:
            raise EngineError(
                f"{specimen}: is not the specimen that was handed out ({handed.specimen.name}, "
                f"{handed.specimen.identity[:12]}…): name that one"
            )
        back = _back(folder, handed, said)
        changed = [] if back is None else changed_ranges(opened.medium, back, progress)
        after = "" if back is None else identity_after(opened, back, changed)
        card = judge(
            opened, results, progress, None, files_of, table, tuple(leave_out), copied=True, root=root
        ).scorecard()
    outcome = "changed the medium" if changed else said.outcome
    trial = handed.model_copy(
        update={
            "version": TRIAL_VERSION,
            "bench": f"sastrugi {__version__}",
            "method": card.method,
            "host": this_host(),
            "digests": TrialDigests(
                truth=truth_digest(specimen), results=results_digest(results), scorecard=scorecard_digest(card)
            ),
            "outcome": outcome,
            "changed": tuple(changed),
            "identity_after": after,
            "measures": Measures(seconds=said.seconds),
            "engine": handed.engine.model_copy(update={"options": said.options}),
            "notes": said.notes,
        }
    )
    if handed.ended:
        trial = trial.model_copy(update={"id": uuid.uuid4().hex, "replaces": handed.id})
        target = into or _correction_of(folder)
        with new_folder(target, "trial", TRIAL_FILE) as made:
            write_record(made, trial, card)
        return trial, card, target
    with atomic_file(folder / SCORECARD_FILE) as temporary:
        temporary.write_text(card.model_dump_json(indent=1, by_alias=True) + "\n", encoding="utf-8")
    write_text(folder / TRIAL_FILE, trial.model_dump_json(indent=1) + "\n")
    return trial, card, folder


def _correction_of(folder: Path) -> Path:
    """The folder of a record that corrects one: called after it, with the next number."""
    stem = folder.name.removesuffix(_TRIAL)
    number = 2
    while (found := folder.with_name(f"{stem}.{number}{_TRIAL}")).exists():
        number += 1
    return found


def _back(folder: Path, handed: Trial, said: TakenBack) -> Path | None:
    """The medium that came back, where one did."""
    if said.medium is not None:
        if not said.medium.exists():
            raise EngineError(f"{said.medium}: there is no medium that came back: name it, or leave --medium-back out")
        return said.medium
    copy = folder / HANDED_OUT
    return copy if handed.engine.medium == "image" and copy.exists() else None


def _now() -> str:
    return dt.datetime.now(dt.UTC).isoformat(timespec="seconds")
