"""Two findings on the same units: who was given them later has them.

Records that tell where a file lies may tell of units that went to another file since. Of two that claim one unit, the
one that was written later has it; a finding whose content proves itself has its units whatever others say.
"""

from __future__ import annotations

import datetime as dt
from array import array
from collections import defaultdict
from collections.abc import Iterator
from dataclasses import dataclass, replace
from itertools import islice

import numpy as np
from numpy.typing import NDArray

from sastrugi.media.extents import RangeSet
from sastrugi.recovery.evidence import Clue, Evidence, evidence
from sastrugi.recovery.findings import Finding
from sastrugi.recovery.scan_file import ScanFile

_MOST_OPEN, _MOST_PAIRS, _SOME = 64, 100_000, 400
"""Claims on one place that are compared, and pairs of claims in all. A medium with more is hostile, and less is said of
it. The last one: findings that are asked for at once."""
PROVED = frozenset({Clue.CHECKSUMS_RIGHT, Clue.DECODES, Clue.STATISTICS_RIGHT})
"""Evidence that all of a file's content was looked at and is right."""


@dataclass(frozen=True, slots=True)
class _Claims:
    """Extents that findings claim, in order of their first byte. Shapes: (extents,)."""

    starts: NDArray[np.int64]
    ends: NDArray[np.int64]
    numbers: NDArray[np.int64]


def tell_later_claims(scan_file: ScanFile, certain: frozenset[int]) -> None:
    """Add evidence to findings of which units were taken later. `certain` are the volumes whose records tell all places
    of a file: what only guesses its place takes nothing from others. Nothing is committed."""
    pairs = list(islice(_overlapping(_claims_of(scan_file)), _MOST_PAIRS))
    if not pairs:
        return
    known = _asked_for(scan_file, sorted({number for pair in pairs for number in pair}))
    told: defaultdict[int, list[tuple[Finding, Clue]]] = defaultdict(list)
    for a, b in pairs:
        one, other = known[a], known[b]
        for mine, theirs in ((one, other), (other, one)):
            clue = _loses(mine, theirs, certain)
            if clue is not None:
                told[mine.number].append((theirs, clue))
    for number, others in told.items():
        finding = known[number]
        scan_file.replace(replace(finding, evidence=[*finding.evidence, *_evidence_of(finding, others)]))


def _claims_of(scan_file: ScanFile) -> _Claims:
    rows = array("q")
    for number, extents in scan_file.places():
        for start, length in extents:
            if length:
                rows.extend((start, start + length, number))
    table = np.frombuffer(rows, np.int64).reshape(-1, 3) if rows else np.zeros((0, 3), np.int64)
    table = table[np.lexsort((table[:, 2], table[:, 0]))]
    return _Claims(table[:, 0], table[:, 1], table[:, 2])


def _overlapping(claims: _Claims) -> Iterator[tuple[int, int]]:
    """The numbers of findings that claim the same bytes, each pair once."""
    if not len(claims.starts):
        return
    reached = np.maximum.accumulate(claims.ends)
    begins = np.flatnonzero(np.append(True, claims.starts[1:] >= reached[:-1]))  # of stretches that nobody shares
    sizes = np.diff(begins, append=len(claims.starts))
    seen: set[tuple[int, int]] = set()
    for first, count in zip(begins[sizes > 1].tolist(), sizes[sizes > 1].tolist(), strict=True):
        rows = slice(first, first + count)
        open_claims: list[tuple[int, int]] = []
        for start, end, number in zip(
            claims.starts[rows].tolist(), claims.ends[rows].tolist(), claims.numbers[rows].tolist(), strict=True
        ):
            open_claims = [claim for claim in open_claims if claim[0] > start][-_MOST_OPEN:]
            for _, other in open_claims:
                pair = (min(number, other), max(number, other))
                if number != other and pair not in seen:
                    seen.add(pair)
                    yield pair
            open_claims.append((end, number))


def _asked_for(scan_file: ScanFile, numbers: list[int]) -> dict[int, Finding]:
    out = {}
    for at in range(0, len(numbers), _SOME):
        some = ",".join(map(str, numbers[at : at + _SOME]))
        out.update({one.number: one for one in scan_file.findings(f"number IN ({some})")})
    return out


def _loses(mine: Finding, theirs: Finding, certain: frozenset[int]) -> Clue | None:
    """What it means for one finding that another claims units of it; None if it loses nothing."""
    if mine.state == "live" or mine.map == theirs.map or _proved(mine) or _same_file(mine, theirs):
        return None
    if theirs.state == "live" and mine.tells(Clue.OWNED):
        return None  # its volume told so
    if _proved(theirs) and theirs.state != "live":
        return Clue.CONTESTED if _born(theirs) is None or not _later(theirs, mine) else Clue.TAKEN_LATER
    if theirs.state != "live" and not (theirs.volume in certain or theirs.tells(Clue.ONLY_PLACE)):
        return None
    if theirs.state == "live" or _later(theirs, mine):
        return Clue.TAKEN_LATER
    return None if _later(mine, theirs) else Clue.CLAIMED_TWICE


def _proved(finding: Finding) -> bool:
    return finding.sound >= finding.size > 0 and any(one.clue in PROVED for one in finding.evidence)


def _same_file(one: Finding, other: Finding) -> bool:
    """Whether two findings are versions of one file, which grew where it was."""
    return (one.volume, one.path, one.map.start) == (other.volume, other.path, other.map.start)


def _born(finding: Finding) -> dt.datetime | None:
    """When its content came to its place: as far as its record knows."""
    moment = finding.times.created or finding.times.modified
    return moment.replace(tzinfo=None) if moment else None


def _later(one: Finding, other: Finding) -> bool:
    mine, theirs = _born(one), _born(other)
    return mine is not None and theirs is not None and mine > theirs


def _evidence_of(finding: Finding, others: list[tuple[Finding, Clue]]) -> Iterator[Evidence]:
    """One piece for each clue, with all the bytes it is about and one of those who claim them."""
    own = RangeSet(finding.extents)
    by_clue: defaultdict[Clue, list[Finding]] = defaultdict(list)
    for other, clue in others:
        by_clue[clue].append(other)
    for clue, claimants in by_clue.items():
        if clue == Clue.CONTESTED:
            yield evidence(clue)
            continue
        shared = sum(
            part.length for part in RangeSet(e for o in claimants for e in o.extents) for part in own.overlap(part)
        )
        yield evidence(clue, shared, claimants[0].path)
