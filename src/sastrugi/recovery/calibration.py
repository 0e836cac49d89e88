"""What stated confidence means: the share of like findings that proved to be whole files, counted on specimens.

While a scan runs, its rules weigh findings against each other by numbers of their own. At its end each is stated as
what was counted of those with the same evidence: how its file was told of, how strongly its kind can prove itself,
whether it lies in pieces, and what the rules gave it. `benchmarks/calibrate.py` makes the table, from random recipes.
"""

from __future__ import annotations

import json
from functools import cache
from importlib.resources import files

from sastrugi.kinds import Proof, all_kinds
from sastrugi.kinds.registry import is_textual, measuring_kind
from sastrugi.volumes.registry import file_systems

FEWEST = 25
"""Findings with the same evidence that must have been counted."""
KEPT = 0.05
"""What is stated below this is by what cannot be otherwise (unreadable, nothing left), and stays."""
_LEAST, _MOST = 0.01, 0.99
_TABLE = "calibration.json"


def words_of(told: bool, state: str, kind: str, pieces: int, confidence: float) -> tuple[str, str]:
    """The words under which a finding is counted, and wider ones for where too few were. `told`: its volume's records
    tell where all of a file lies, so that nothing is guessed."""
    place = "told" if told else "guessed"
    lies = "pieces" if pieces > 1 else "one piece"
    exact = f"{state}, {place}, {_proof_of(kind)}, {lies}, {confidence:.2f}"
    return exact, f"{state}, {place}, {int(confidence * 10) / 10:.1f}"


@cache
def tells_all(file_system: str) -> bool:
    """Whether records of a volume, by its file system as a scan calls it, tell where all of a file lies."""
    guessing = [one for one in file_systems().values() if one.lives is not None]
    return file_system not in {one.title for one in guessing} | {v.title for one in guessing for v in one.variants}


@cache
def _proof_of(kind: str) -> str:
    known = all_kinds().get(kind)
    if known is None:
        return "no kind"
    if is_textual(known):
        return "text"
    return "structure" if measuring_kind(known).proof in (Proof.STRUCTURE, Proof.GUESS) else "looked through"


@cache
def counted() -> dict[str, tuple[int, int]]:
    """How many findings were counted by their evidence, and how many of them were whole files."""
    table = json.loads((files(__package__) / _TABLE).read_text())["counted"]
    return {key: (count, whole) for key, (count, whole) in table.items()}


def calibrated(told: bool, state: str, kind: str, pieces: int, confidence: float) -> float:
    """What is to be stated of a finding, 0 to 1: the share that was counted, or, where too few were, what it has."""
    if confidence <= KEPT:
        return confidence
    for key in words_of(told, state, kind, pieces, confidence):
        count, whole = counted().get(key, (0, 0))
        if count >= FEWEST:
            return round(min(max((whole + 1) / (count + 2), _LEAST), _MOST), 3)
    return confidence
