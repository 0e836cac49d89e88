"""One trial: an engine on a specimen, run, measured, scored."""

from __future__ import annotations

import datetime as dt
import os
import re
import stat
import tempfile
import time
import uuid
from collections.abc import Iterator, Sequence
from contextlib import ExitStack, contextmanager, suppress
from dataclasses import dataclass
from pathlib import Path

from sastrugi.campaign.engines import Engine
from sastrugi.campaign.handing import as_device, came_back, changed_ranges, hand_out, room_at
from sastrugi.campaign.record import (
    LOG_FILE,
    RESULTS_FOLDER,
    SCORECARD_FILE,
    TRIAL_FILE,
    Measures,
    Trial,
    TrialEngine,
    TrialSpecimen,
    is_of_trial,
)
from sastrugi.campaign.record_digests import (
    TrialDigests,
    program_digest,
    results_digest,
    scorecard_digest,
    this_host,
    truth_digest,
)
from sastrugi.campaign.running import Run, run_engine
from sastrugi.errors import EngineError, MediumError, SastrugiError, SpecimenError
from sastrugi.media import Extent
from sastrugi.media.raw import RawMedium
from sastrugi.progress import Progress
from sastrugi.safety import entries_below, new_folder, remove_tree, require_outside
from sastrugi.scoring.claims import Claims, read_claims
from sastrugi.scoring.scorecard import Scorecard
from sastrugi.scoring.scorer import judge
from sastrugi.specimen.digests import medium_digest
from sastrugi.specimen.medium_check import require_unchanged
from sastrugi.specimen.truth import Specimen
from sastrugi.units import printable
from sastrugi.version import __version__

_IMAGE = "medium.img"
_LEAST_DISK = 1 << 30
_TIMES_THE_MEDIUM = 4
"""What an engine may fill if nothing else is said: what four times the medium holds, and no less than 1 GiB."""
_WORD = re.compile(r"[^A-Za-z0-9._-]+")


@dataclass(frozen=True, slots=True)
class TrialOptions:
    """How a trial is made and scored: the set of files, whether results are kept, patterns left out besides those of
    the engine, what is written down with it."""

    files_of: str = "lost"
    keep_results: bool = True
    leave_out: Sequence[str] = ()
    parameters: tuple[tuple[str, str], ...] = ()
    notes: str = ""
    campaign: str = ""
    cell: str = ""


def run_trial(
    specimen: Path,
    engine: Engine,
    into: Path,
    progress: Progress,
    manner: TrialOptions | None = None,
    replace: bool = False,
) -> tuple[Trial, Scorecard]:
    """Run `engine` on a copy of a specimen's medium, and score what came back; all of it stands in the new folder
    `into` when it is whole. What the engine does wrong is an outcome; errors are only those of the call: EngineError,
    SpecimenError, DestinationError."""
    manner = manner or TrialOptions()
    began, clock = dt.datetime.now(dt.UTC), time.monotonic()
    require_outside(into, specimen, "the specimen itself")
    with Specimen(specimen) as opened:
        require_unchanged(opened, progress)
        with new_folder(into, "trial", TRIAL_FILE, replace, is_of_trial) as folder, ExitStack() as stack:
            scratch = stack.enter_context(_scratch(folder))
            ran, changed, after, places = _run(opened, engine, folder, scratch, progress, stack)
            results = folder / RESULTS_FOLDER
            _settle(results)
            table = engine.claims_at(places)
            claims, trouble = _claims(table, results, scratch)
            leave_out = [*engine.leave_out, *manner.leave_out, *_claims_below(table, results)]
            judged = judge(opened, results, progress, None, manner.files_of, leave_out=tuple(leave_out), claims=claims)
            card = judged.scorecard()
            digests = TrialDigests(
                truth=truth_digest(specimen), results=results_digest(results), scorecard=scorecard_digest(card),
                program=program_digest(engine),
            )  # fmt: skip
            trial = Trial(
                id=uuid.uuid4().hex,
                began=began.isoformat(timespec="seconds"),
                specimen=specimen_of(opened, dict(manner.parameters)),
                engine=TrialEngine(
                    name=engine.name, version=engine.version, command=_plain_command(engine), medium=engine.medium,
                    options=",".join(engine.passes),
                ),
                outcome="changed the medium" if changed else ran.outcome,
                status=ran.status,
                signal=ran.signal,
                measures=Measures(
                    seconds=ran.seconds, cpu=ran.cpu, memory=ran.memory, read=ran.read, written=ran.written
                ),
                changed=tuple(changed),
                identity_after=after,
                left_behind=ran.left_behind,
                trouble=trouble,
                said=ran.said,
                confined=ran.confined,
                overhead=time.monotonic() - clock - ran.seconds,
                notes=manner.notes,
                bench=f"sastrugi {__version__}",
                method=card.method,
                host=this_host(),
                digests=digests,
                campaign=manner.campaign,
                cell=manner.cell,
            )  # fmt: skip
            if not manner.keep_results:
                remove_tree(results)
            write_record(folder, trial, card)
    return trial, card


def _run(
    opened: Specimen, engine: Engine, folder: Path, scratch: Path, progress: Progress, stack: ExitStack
) -> tuple[Run, list[Extent], str, dict[str, str]]:
    handed = scratch / "medium"
    own = scratch / "scratch"
    results = folder / RESULTS_FOLDER
    for one in (handed, own, results):
        one.mkdir()
    image = handed / _IMAGE
    needed = sum(extent.length for extent in opened.medium.data_ranges())
    if needed > room_at(folder):
        raise SpecimenError(
            f"{folder.parent}: has no room for a copy of the medium ({needed:,} bytes): name another place"
        )
    hand_out(opened.medium, image, progress)
    shown = str(image)
    if engine.medium == "device":
        shown = str(stack.enter_context(as_device(image, engine.name)))
    places = {"medium": shown, "results": str(results.resolve()), "scratch": str(own)}
    most = max(_TIMES_THE_MEDIUM * needed, _LEAST_DISK)
    ran = run_engine(engine, places, [results, scratch], folder / LOG_FILE, progress, most)
    if not came_back(image):
        return ran, [Extent(0, opened.medium.size)], "", places
    changed = changed_ranges(opened.medium, image, progress)
    return ran, changed, identity_after(opened, image, changed), places


def identity_after(opened: Specimen, image: Path, changed: Sequence[Extent]) -> str:
    """The digest of a medium that came back; empty where it is gone."""
    if not changed:
        return opened.truth.medium.digest
    try:
        with RawMedium(image, opened.medium.sector) as medium:
            return medium_digest(medium)
    except MediumError:
        return ""


@contextmanager
def _scratch(beside: Path) -> Iterator[Path]:
    """A folder for the medium and for what an engine needs for itself, on the disk of the results; it goes afterwards,
    also what the engine made unreadable there."""
    name = tempfile.mkdtemp(prefix="scratch-", dir=beside)
    try:
        yield Path(name).resolve()
    finally:
        with suppress(OSError):
            remove_tree(Path(name))


def _settle(results: Path) -> None:
    """The folder of results as a folder, whatever an engine put in its place; and readable."""
    if results.is_symlink() or not results.is_dir():
        results.unlink(missing_ok=True)
        results.mkdir()
    _make_readable(results)


def _make_readable(folder: Path) -> None:
    """Give back to its owner what an engine wrote without permissions; links are left alone."""
    folder.chmod(0o700)
    for entry in entries_below(folder):
        with suppress(OSError):
            mode = entry.stat(follow_symlinks=False).st_mode
            wanted = 0o700 if stat.S_ISDIR(mode) else 0o600
            if not stat.S_ISLNK(mode) and mode & wanted != wanted:
                Path(entry.path).chmod(stat.S_IMODE(mode) | wanted)


def _claims(table: Path | None, results: Path, scratch: Path) -> tuple[Claims, tuple[str, ...]]:
    """What an engine says of its results, and what is wrong with that: a table that cannot be used tells nothing. It
    must be the engine's own, not a link to somebody else's."""
    if table is not None:
        if not os.path.lexists(table):
            table = None
        elif not table.is_file() or not {results.resolve(), scratch} & {*_real(table).parents}:
            return Claims({}), (f"{table.name}: is no table of claims, but a folder, a pipe or a link to elsewhere",)
    try:
        return read_claims(table, results.resolve()), ()
    except SastrugiError as error:
        return Claims({}), (printable(str(error).replace(f"{results.resolve()}/", "").replace(f"{scratch}/", "")),)


def _claims_below(table: Path | None, results: Path) -> list[str]:
    """The table itself is no result."""
    if table is None:
        return []
    home, place = results.resolve(), _real(table.parent) / table.name
    if home not in place.parents:
        return []
    return [re.sub(r"([*?\[])", r"[\1]", place.relative_to(home).as_posix())]


def _real(path: Path) -> Path:
    """Where links lead; of links in a circle, somewhere on it."""
    return Path(os.path.realpath(path))


def _plain_command(engine: Engine) -> tuple[str, ...]:
    return engine.run


def specimen_of(opened: Specimen, parameters: dict[str, str]) -> TrialSpecimen:
    """What a record says of a specimen."""
    truth = opened.truth
    lives = [life for volume in truth.volumes for life in volume.lives]
    return TrialSpecimen(
        name=truth.recipe, title=truth.title, identity=truth.medium.digest, seed=truth.seed, size=truth.medium.size,
        file_systems=tuple(dict.fromkeys(life.file_system for life in lives)),
        losses=tuple(dict.fromkeys(file.end for file in truth.lost)), parameters=parameters,
    )  # fmt: skip


def write_record(folder: Path, trial: Trial, card: Scorecard) -> None:
    """Write record and scorecard into a folder that appears as a whole."""
    (folder / SCORECARD_FILE).write_text(card.model_dump_json(indent=1, by_alias=True) + "\n", encoding="utf-8")
    (folder / TRIAL_FILE).write_text(trial.model_dump_json(indent=1) + "\n", encoding="utf-8")


def default_name(specimen: Path, engine: str) -> str:
    """The folder of a trial, called after specimen and engine."""
    return f"{specimen.resolve().name}.{_WORD.sub('-', engine).strip('-') or 'engine'}.trial"


def require_engine_works(engine: Engine) -> None:
    """Raise EngineError where its program is not there, before anything is copied."""
    engine.command({"medium": "", "results": "", "scratch": ""})
    if engine.medium == "device" and os.geteuid() != 0:
        raise EngineError(
            f"engine '{engine.name}' takes devices only, and only root makes them: run this as root, "
            'or set medium = "image"'
        )
