"""The record of one trial: `trial.json` in its folder, beside its scorecard (docs/formats/trial.md)."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated, Any, Literal

from pydantic import BaseModel, BeforeValidator, ConfigDict, FailFast, ValidationError

from sastrugi.campaign.record_digests import TrialDigests, TrialHost
from sastrugi.errors import EngineError, system_words
from sastrugi.media import Extent
from sastrugi.scoring.reading import read_scorecard
from sastrugi.scoring.scorecard import Scorecard
from sastrugi.texts import parse_json, read_text, require_whole_characters

TRIAL_FILE, SCORECARD_FILE, LOG_FILE, RESULTS_FOLDER = "trial.json", "scorecard.json", "output.log", "results"
TRIAL_VERSION = 3
READABLE_VERSIONS = (1, 2, 3)
"""Version 1 knows no method, host, digests and records that it replaces; 1 and 2 say only whether something kept the
engine from writing elsewhere."""
_LARGEST = 16 << 20

Outcome = Literal[
    "done", "partly", "nothing", "failed", "crashed", "time limit", "memory limit", "disk limit", "process limit",
    "disk full", "changed the medium", "handed out",
]  # fmt: skip
ENDED_WELL: frozenset[str] = frozenset({"done", "partly", "nothing"})


class _Value(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)


class TrialSpecimen(_Value):
    """The specimen: its name, the digest of its medium, and what it stands for. `parameters` are those of a
    campaign."""

    name: str
    title: str
    identity: str
    seed: int
    size: int
    file_systems: tuple[str, ...]
    losses: tuple[str, ...]
    parameters: dict[str, str] = {}


class TrialEngine(_Value):
    name: str
    version: str
    command: tuple[str, ...] = ()
    medium: str = "image"
    options: str = ""


class Measures(_Value):
    """What a run took: seconds, seconds of processors, bytes of memory at most, bytes read and written; None where
    nobody could measure it."""

    seconds: float | None = None
    cpu: float | None = None
    memory: int | None = None
    read: int | None = None
    written: int | None = None


def _held(value: Any) -> Any:
    """What held, of a record that only says whether something did: until version 2 that was Landlock."""
    return (("landlock",) if value else ()) if isinstance(value, bool) else value


class Trial(_Value):
    """One engine on one specimen. `changed` are the ranges of its medium that were written, `identity_after` is its
    digest afterwards; `left_behind` counts the processes that outlived it, `trouble` says what it left that could not
    be used, `said` counts the bytes that it printed; `confined` names what kept it to itself (docs/formats/trial.md).
    `overhead` are the seconds that the bench itself took. `method` is what it was scored by, `replaces` the number of
    the trial that this one corrects."""

    format: Literal["sastrugi-trial"] = "sastrugi-trial"
    version: int = TRIAL_VERSION
    id: str
    began: str
    by_hand: bool = False
    specimen: TrialSpecimen
    engine: TrialEngine
    outcome: Outcome
    status: int | None = None
    signal: int | None = None
    measures: Measures = Measures()
    changed: Annotated[tuple[Extent, ...], FailFast()] = ()
    identity_after: str = ""
    left_behind: int = 0
    trouble: Annotated[tuple[str, ...], FailFast()] = ()
    said: int = 0
    confined: Annotated[tuple[str, ...], BeforeValidator(_held)] = ()
    overhead: float = 0.0
    notes: str = ""
    bench: str = ""
    method: str = ""
    host: TrialHost | None = None
    digests: TrialDigests | None = None
    replaces: str = ""
    campaign: str = ""
    cell: str = ""

    @property
    def ended(self) -> bool:
        return self.outcome != "handed out"

    @property
    def ended_well(self) -> bool:
        return self.outcome in ENDED_WELL

    @property
    def spoken(self) -> str:
        """The engine with its version."""
        return f"{self.engine.name} {self.engine.version}".rstrip()


def read_trial(folder: Path) -> Trial:
    """The record in a trial's folder. Raises EngineError."""
    path = folder / TRIAL_FILE
    try:
        document = parse_json(read_text(path, _LARGEST))
    except OSError as error:
        raise EngineError(f"{path}: cannot be read: {system_words(error)}") from error
    except ValueError as error:
        raise EngineError(f"{path}: is no record of a trial: {error}") from error
    return parse_trial(document, str(path))


def parse_trial(document: Any, origin: str) -> Trial:
    if not isinstance(document, dict) or document.get("format") != "sastrugi-trial":
        raise EngineError(f"{origin}: is no record of a trial")
    if document.get("version") not in READABLE_VERSIONS:
        known = f"{READABLE_VERSIONS[0]} to {READABLE_VERSIONS[-1]}"
        raise EngineError(
            f"{origin}: is version {document.get('version')!s:.20} of the record, this program reads {known}"
        )
    try:
        require_whole_characters(document)
        return Trial.model_validate(document)
    except (ValidationError, ValueError, RecursionError, OverflowError) as error:
        raise EngineError(f"{origin}: is damaged: run the trial again") from error


def scorecard_of(folder: Path) -> Scorecard:
    """The scorecard in a trial's folder. Raises EngineError where the trial has none yet."""
    path = folder / SCORECARD_FILE
    if not path.is_file():
        raise EngineError(f"{folder}: this trial has no score yet: give its results with 'sastrugi trial --results'")
    return read_scorecard(path)


def is_of_trial(path: str) -> bool:
    """Whether a file of this path below a trial's folder is one that the trial made."""
    first, _, rest = path.partition("/")
    return path in (TRIAL_FILE, SCORECARD_FILE, LOG_FILE) or (first == RESULTS_FOLDER and bool(rest))
