"""What stated confidence means: how likely a finding is the whole file, by all of its evidence.

While a scan runs, its rules weigh findings against each other by numbers of their own. At its end each is stated anew:
every sign that there is of it (a clue, how its file was told of, what the rules gave it, how findings beside it fared
that could be checked) weighs so many bits, and their sum is the log-odds of its being whole. The weights were fitted
to findings of random specimens of every loss by `benchmarks/calibrate.py` (logistic regression, kept small).
"""

from __future__ import annotations

import json
import math
import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from functools import cache, lru_cache
from importlib.resources import files

from sastrugi.kinds import Proof, all_kinds
from sastrugi.kinds.registry import is_textual, measuring_kind
from sastrugi.recovery.evidence import About, Clue, evidence
from sastrugi.recovery.later_claims import tell_later_claims
from sastrugi.recovery.scan_file import ScanFile
from sastrugi.recovery.scan_rows import evidence_text
from sastrugi.volumes.registry import file_systems

KEPT = 0.02
"""What is stated below this is by what cannot be otherwise (unreadable, nothing left), and stays."""
_LEAST, _MOST = 0.005, 0.995
_TABLE = "weights.json"
_CLUE = re.compile(r'\["([a-z-]+)", 0\.0')
"""A piece of evidence, as the scan file has it, that was not weighed yet. No text can look like one: its quotes are
escaped there."""
_RIGHT = (
    Clue.CHECKSUMS_RIGHT, Clue.DECODES, Clue.STRUCTURE_RIGHT, Clue.STATISTICS_RIGHT, Clue.TEXT_THROUGHOUT,
)  # fmt: skip
_WRONG = (Clue.FOREIGN_START, Clue.ZERO_START, Clue.OTHER_KIND, Clue.BREAKS, Clue.TEXT_ENDS)
FOR = frozenset({
    *_RIGHT, Clue.LOOKS_WHOLE, Clue.ONLY_PLACE, Clue.IN_RECORD, Clue.ALIKE, Clue.BY_LIST, Clue.BY_CHAIN, Clue.FREE,
    Clue.UNOWNED, Clue.BY_TURNS, Clue.MARKUP_BEHIND, Clue.TOLD_BY, Clue.BETWEEN_FILES, Clue.READS_ON, Clue.ENDS_THERE,
})  # fmt: skip
AGAINST = frozenset({
    *_WRONG, Clue.OWNED, Clue.CLAIMED_LATER, Clue.TAKEN_LATER, Clue.CLAIMED_TWICE, Clue.OVERWRITTEN, Clue.CONTESTED,
    Clue.UNLIKE, Clue.OFF_GRID, Clue.GOES_ON, Clue.BEGUN_INSIDE, Clue.BYTES_BEHIND, Clue.DELETED_EARLIER,
    Clue.UNREADABLE, Clue.GUESSED_END, Clue.INSIDE_OTHER, Clue.BEYOND_VOLUME, Clue.BEYOND_MEDIUM, Clue.LISTED_BUT,
    Clue.UNKNOWN_KIND, Clue.UNMEASURED, Clue.RUNS_ON,
})  # fmt: skip
"""Clues that never weigh against a file, or never for it: what remains to be told, other signs tell."""
_SAYS_NOTHING = frozenset(
    clue.value for clue in Clue if clue.about == About.NAME or clue in (Clue.PLACED, Clue.NOTE, Clue.SAID)
)
"""What stands beside every finding of its sort, or is about something else than whether it is whole."""
_ABOUT_CONTENT = tuple(clue.value for clue in Clue if clue.about == About.CONTENT)
_MOST_BESIDE, _STEP = 6.0, 0.1
"""Bits that findings beside one can tell either way; the grain of what the rules gave, as a sign."""


@dataclass(frozen=True, slots=True)
class Beside:
    """How the findings of one volume fared whose content could be checked."""

    right: int = 0
    wrong: int = 0

    @property
    def bits(self) -> float:
        """Log-odds that one proves right."""
        odds = math.log2((self.right + 1) / (self.wrong + 1))
        return max(min(odds, _MOST_BESIDE), -_MOST_BESIDE)


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


def _outcome(clues: Iterable[str]) -> str:
    """Whether a finding's content was checked, and how that went."""
    seen = set(clues)
    if seen & {clue.value for clue in _WRONG}:
        return "wrong"
    return "right" if seen & {clue.value for clue in _RIGHT} else "unchecked"


def signs(told: str, kind: str, pieces: int, clues: Iterable[str], sure: float, beside: Beside) -> dict[str, float]:
    """What speaks for and against a finding, each by the name of its weight, with how strong it is (1, or bits).
    `told` says how its file was told of (`found`, or state and whether its record tells all places)."""
    clues = list(dict.fromkeys(clues))
    outcome, proof = _outcome(clues), _proof_of(kind)
    out = {told: 1.0, f"{told}, {proof}, {'pieces' if pieces > 1 else 'one piece'}": 1.0}
    out |= dict.fromkeys([clue for clue in clues if clue not in _SAYS_NOTHING], 1.0)
    out[f"rules {told}"] = math.log2(min(max(sure, 0.01), 0.99) / (1 - min(max(sure, 0.01), 0.99)))
    out[f"rules {outcome} {round(sure / _STEP) * _STEP:.1f}"] = 1.0
    out[f"beside, {outcome}"] = beside.bits
    out[f"{outcome}, {told}"] = 1.0
    return out


@cache
def weights() -> Mapping[str, float]:
    """Bits of each sign, by its name."""
    table = json.loads((files(__package__) / _TABLE).read_text())["bits"]
    return {str(name): float(bits) for name, bits in table.items()}


def told_of(state: str, told: bool) -> str:
    """How a file was told of. `told`: its volume's records tell where all of it lies, so that nothing is guessed."""
    return state if state == "found" else f"{state} {'told' if told else 'guessed'}"


@lru_cache(4096)
def weighed(
    told: str, kind: str, pieces: int, clues: tuple[str, ...], sure: float, beside: Beside
) -> tuple[float, tuple[float, ...], float, float]:
    """(confidence, bits of each clue, bits of how it was told of, bits of the findings beside it). What the rules gave
    it, and what its content makes of that, counts with the first clue that is about its content."""
    bits = weights()
    strengths = signs(told, kind, pieces, clues, sure, beside)
    parts = {name: bits.get(name, 0.0) * strength for name, strength in strengths.items()}
    total = sum(parts.values())
    own = [parts.pop(clue, 0.0) for clue in clues]
    others = sum(part for name, part in parts.items() if name.startswith("beside"))
    telling = sum(part for name, part in parts.items() if name.startswith(told))
    content = next((n for n, clue in enumerate(clues) if clue in _ABOUT_CONTENT), None)
    if content is None:
        telling = total - sum(own) - others
    else:
        own[content] += total - sum(own) - others - telling
    stated = 1 / (1 + 2 ** -max(min(total, 60.0), -60.0))
    each = tuple(round(part, 2) for part in own)
    return min(max(stated, _LEAST), _MOST), each, round(telling, 2), round(others, 2)


def state_confidence(scan_file: ScanFile) -> None:
    """State the confidence of all findings of a scan that came to its end, once. Committed."""
    if scan_file.get("restated") == "yes":
        return
    told, beside = prepared(scan_file)

    def stated(volume: int | None, state: str, kind: str, pieces: int, packed: str, now: float) -> tuple[float, str]:
        clues = tuple(_CLUE.findall(packed))
        mine, places = beside.get(volume, Beside()), volume in told
        if now <= KEPT:
            return now, packed
        sure, own, by_telling, by_others = weighed(
            told_of(state, places), kind, pieces, clues, round(now, 2), mine
        )  # fmt: skip
        each = iter(own)
        text = _CLUE.sub(lambda one: f'["{one[1]}", {next(each)}', packed)
        more = evidence_text((
            evidence(Clue.TOLD_SO, state, "told" if places else "guessed").weighing(by_telling),
            *([evidence(Clue.CHECKED_BESIDE, mine.right, mine.wrong).weighing(by_others)] if mine != Beside() else []),
        ))  # fmt: skip
        return sure, f"{text[:-1]}{', ' if len(text) > 2 else ''}{more[1:]}"

    scan_file.restate(stated)


def prepared(scan_file: ScanFile) -> tuple[frozenset[int], dict[int | None, Beside]]:
    """The volumes whose records tell all places, and how the findings of each fared; evidence is completed by who was
    given units later."""
    told = frozenset(volume.number for volume in scan_file.volumes() if tells_all(volume.file_system))
    tell_later_claims(scan_file, told)
    counts: dict[int | None, list[int]] = {}
    for volume, _, packed in scan_file.told_evidence():
        outcome = _outcome(_CLUE.findall(packed))
        if outcome != "unchecked":
            counts.setdefault(volume, [0, 0])[outcome == "wrong"] += 1
    return told, {volume: Beside(*both) for volume, both in counts.items()}
