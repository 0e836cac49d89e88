"""The trials of a ledger as a chain: each is linked to the one before by digests, so that what was touched shows.

A chain shows that rows, records or files were changed, taken out or put in between. Whoever can write to a ledger can
also make the whole of it anew: against that its last link is noted elsewhere, and given to `verify`.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from blake3 import blake3

from sastrugi.campaign.record import RESULTS_FOLDER, SCORECARD_FILE, TRIAL_FILE, Trial, read_trial, scorecard_of
from sastrugi.campaign.record_digests import document_digest, results_digest, scorecard_digest
from sastrugi.errors import SastrugiError
from sastrugi.scoring.scorecard import Scorecard

NO_LINK = ""
"""What the first trial is linked to."""
_SHORT = 8


def link_of(number: int, before: str, record: str, scorecard: str) -> str:
    """The link of a trial: the digest of its number, the link before, and the digests of record and scorecard."""
    return blake3(f"{number}\n{before}\n{record}\n{scorecard}\n".encode()).hexdigest()


@dataclass(slots=True)
class Verified:
    """What a ledger's check found: how many trials it has, the last link, and what was touched, in words; `absent`
    counts the trials whose folder is not where it was."""

    trials: int = 0
    link: str = NO_LINK
    faults: list[str] = field(default_factory=list)
    absent: int = 0


@dataclass(frozen=True, slots=True)
class Kept:
    """A trial as a ledger keeps it: its columns, the documents of record and scorecard as they are stored, both read,
    and the columns that they should give."""

    columns: Mapping[str, Any]
    record: Any
    scorecard: Any
    trial: Trial | None = None
    card: Scorecard | None = None
    expected: Mapping[str, Any] = field(default_factory=dict)
    problem: str = ""


def verify(kept: Iterable[Kept], count: int, last: str, noted: str = "", files: bool = True) -> Verified:
    """Check every trial, in order of their numbers. `count` and `last` are what the ledger says of its chain; `noted`
    is a link that was noted elsewhere, and that must be in it; `files`: look at the trials' folders, too."""
    out = Verified()
    links = {NO_LINK}
    expected = 1
    for one in kept:
        own = one.columns
        told = f"trial {str(own['id'])[:_SHORT]}"
        if own["number"] != expected:
            missing = f"{expected}" if own["number"] == expected + 1 else f"{expected} to {own['number'] - 1}"
            out.faults.append(f"number {missing} is missing, before {told}")
        out.faults += [f"{told}: {fault}" for fault in _own_faults(one)]
        if own["before"] != out.link:
            out.faults.append(f"{told}: is not linked to the one before it: one of the two was put in or taken out")
        if files:
            absent, faults = _file_faults(one)
            out.absent += absent
            out.faults += [f"{told}: {fault}" for fault in faults]
        out.trials += 1
        out.link = own["link"]
        links.add(out.link)
        expected = own["number"] + 1
    if (out.trials, out.link) != (count, last):
        out.faults.append(f"the chain ends with another trial than the ledger says, which counts {count:,} trials")
    if noted and not any(link.startswith(noted) for link in links - {NO_LINK}):
        out.faults.append(f"the link {noted[:16]}… that was noted is not in the chain: all of it was made anew")
    return out


def _own_faults(one: Kept) -> list[str]:
    """What is wrong with a row in itself."""
    own, faults = one.columns, []
    if one.problem:
        return [one.problem]
    if document_digest(one.record) != own["record_digest"]:
        faults.append("its record was changed")
    if document_digest(one.scorecard) != own["scorecard_digest"]:
        faults.append("its scorecard was changed")
    if link_of(own["number"], own["before"], own["record_digest"], own["scorecard_digest"]) != own["link"]:
        faults.append("its link is not that of what it links")
    for name, value in one.expected.items():
        if own[name] != value:
            faults.append(f"its column {name} says {str(own[name])[:40]!r}, its record {str(value)[:40]!r}")
    return faults


def _file_faults(one: Kept) -> tuple[bool, list[str]]:
    """Whether a trial's folder is not there any more, and what in it is not what the ledger keeps."""
    own = one.columns
    folder = Path(str(own["folder"])) if own["folder"] else None
    if folder is None or not (folder / TRIAL_FILE).is_file():
        return folder is not None, []
    try:
        trial, card = read_trial(folder), scorecard_of(folder)
    except SastrugiError as error:
        return False, [str(error)]
    if trial.id != own["id"]:
        return True, []  # another trial took its place
    faults = []
    if trial != one.trial:
        faults.append(f"{folder / TRIAL_FILE} was changed")
    if card != one.card:
        faults.append(f"{folder / SCORECARD_FILE} was changed")
    results = folder / RESULTS_FOLDER
    kept = trial.digests is not None and not trial.by_hand and results.is_dir()
    if kept and trial.digests and results_digest(results) != trial.digests.results:
        faults.append(f"{results} was changed")
    return False, faults


def digests_of(trial: Trial, card: Scorecard) -> tuple[str, str]:
    """The digests of a record and of its scorecard, as a ledger keeps them."""
    return document_digest(trial.model_dump(mode="json")), scorecard_digest(card)
