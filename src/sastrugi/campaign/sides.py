"""What is compared or reported: a scorecard, wherever it is. A side of a comparison is one of these, or several:

a scorecard's file · a trial's folder · a campaign's folder, or `FOLDER:ENGINE` for one engine of it · the number of a
trial in the ledger · a folder of results or a scan file, with the specimen it is of.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from pathlib import Path

from sastrugi.campaign.ledger import open_ledger
from sastrugi.campaign.record import SCORECARD_FILE, TRIAL_FILE, Trial, read_trial, scorecard_of
from sastrugi.campaign.run import CAMPAIGN_FILE, read_campaign
from sastrugi.errors import EngineError
from sastrugi.progress import Progress
from sastrugi.recovery.scan_file import is_scan_file
from sastrugi.scoring.reading import read_scorecard
from sastrugi.scoring.scorecard import Scorecard
from sastrugi.scoring.scorer import judge
from sastrugi.specimen.truth import Specimen

_NUMBER = re.compile(r"[0-9a-f]{4,32}")


@dataclass(frozen=True, slots=True)
class Scored:
    """A scorecard, and the trial it is of where it is of one."""

    card: Scorecard
    trial: Trial | None = None


@dataclass(frozen=True, slots=True)
class Side:
    """One side of a comparison: what it is called, and its scorecards."""

    name: str
    scored: tuple[Scored, ...]

    @property
    def cards(self) -> list[Scorecard]:
        return [one.card for one in self.scored]

    @property
    def seconds(self) -> float | None:
        return _total([one.trial.measures.seconds if one.trial else None for one in self.scored])

    @property
    def memory(self) -> int | None:
        known = [one.trial.measures.memory for one in self.scored if one.trial and one.trial.measures.memory]
        return max(known) if known else None

    @property
    def outcomes(self) -> list[str]:
        """How trials ended that did not end well."""
        return [one.trial.outcome for one in self.scored if one.trial and not one.trial.ended_well]


def is_scored(path: Path) -> bool:
    """Whether there is a score in itself at a path: a scorecard, or a trial's folder."""
    return (path / TRIAL_FILE).is_file() or (path.is_file() and path.suffix == ".json")


def scored_at(path: Path) -> Scored:
    """The scorecard at a path where one is. Raises SastrugiError."""
    if (path / TRIAL_FILE).is_file():
        return Scored(scorecard_of(path), read_trial(path))
    if path.name == SCORECARD_FILE and (path.parent / TRIAL_FILE).is_file():
        return Scored(read_scorecard(path), read_trial(path.parent))
    return Scored(read_scorecard(path))


def side_of(
    text: str, progress: Progress, specimen: Path | None = None, ledger: str = "", files_of: str = "lost"
) -> Side:
    """One side, from what the call says. Raises SastrugiError with what can be said."""
    path, engine = Path(text), ""
    if not path.exists() and ":" in text:
        before, _, engine = text.rpartition(":")
        path = Path(before)
        if not (path / CAMPAIGN_FILE).is_file():
            raise EngineError(f"{text}: {before} is no campaign's folder, of which one engine could be named")
    if (path / CAMPAIGN_FILE).is_file():
        return _of_campaign(path, engine)
    if is_scored(path):
        scored = scored_at(path)
        return Side(scored.trial.spoken if scored.trial else _called(path, scored.card), (scored,))
    if path.is_dir() or (path.is_file() and is_scan_file(path)):
        if specimen is None:
            raise EngineError(f"{text}: holds results: name the specimen they are of with --specimen DIR")
        with Specimen(specimen) as opened:
            card = judge(opened, path, progress, None, files_of).scorecard()
        return Side(path.name, (Scored(card),))
    if path.is_file():
        return Side(path.stem, (scored_at(path),))
    if _NUMBER.fullmatch(text):
        with open_ledger(ledger, new=False) as opened_ledger:
            trial, card = opened_ledger.read(text)
        return Side(trial.spoken, (Scored(card, trial),))
    raise EngineError(
        f"{text}: there is no such file or folder: name a scorecard, a trial, a campaign (or CAMPAIGN:ENGINE), "
        "results, or the number of a trial in the ledger"
    )


def _of_campaign(folder: Path, engine: str) -> Side:
    state = read_campaign(folder)
    if engine and engine not in state.engines:
        raise EngineError(f"{folder}: has no engine '{engine[:60]}': there are {', '.join(state.engines)}")
    found = tuple(Scored(card, cell.trial) for cell, card in state.scorecards(engine))
    if not found:
        raise EngineError(f"{folder}: no cell has ended yet: run it with 'sastrugi campaign run'")
    return Side(engine or state.name, found)


def _called(path: Path, card: Scorecard) -> str:
    return path.name.removesuffix(".json").removesuffix(".scorecard") or card.results_from


def _total(values: list[float | None]) -> float | None:
    known = [value for value in values if value is not None]
    return sum(known) if known and len(known) == len(values) else None
