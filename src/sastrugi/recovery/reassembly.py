"""Files in pieces: put together around what other findings own, or across a gap, where their structure proves it.

First every file that a record begins is laid along the clusters that nobody else owns. Where that proves nothing, the
head is kept as far as its structure is right, and the rest is looked for behind gaps of growing length. Both stop at a
budget; how many tries were made is told.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from sastrugi.kinds import Measure, Proof, all_kinds, recognise
from sastrugi.kinds.registry import measuring_kind
from sastrugi.media import Extent, Medium, RangeSet
from sastrugi.media.extents import cut, join, total, within
from sastrugi.media.filemap import FileMap
from sastrugi.recovery.confidence import BY_PROOF, LOOKED_THROUGH
from sastrugi.recovery.findings import Finding
from sastrugi.recovery.sources import MediumSource
from sastrugi.units import plural

_MOST_PIECES = 2000
_MOST_GAPS = 48
_BACK, _FORWARD = 1, 32
"""Clusters before and behind the reported break at which the head may end: a wrong byte shows late, and a wrong
checksum is told at the start of what it is of."""
_MOST_TRIES = 600
_UNPROVED, _BY_HEADERS = 0.5, 0.7
_PENALTY = 0.97
"""What a guess of the place costs, however well it is proved."""


@dataclass(slots=True)
class Budget:
    """How much may still be read for tries. `tries` counts those that were made."""

    left: int = 256 << 20
    most: int = 1500
    tries: int = 0

    def spend(self, count: int) -> bool:
        self.left -= count
        self.tries += 1
        return not self.spent

    @property
    def spent(self) -> bool:
        return self.left <= 0 or self.tries >= self.most


def reassemble(
    medium: Medium,
    finding: Finding,
    cluster: int,
    end: int,
    taken: RangeSet,
    budget: Budget,
    across: bool = True,
) -> Finding | None:
    """The same finding in other places, if they are proved: whole by its structure, and as long as its record says (or
    as its structure says, where there is no record). `taken` is what others own; `end` is where its volume ends;
    `across`: look behind gaps of any length, too."""
    kind = all_kinds().get(finding.kind)
    if not finding.extents or (not finding.map.plain and (finding.map.zeros or finding.map.coded)):
        return None  # of what has holes or units a table tells where it lies: there is nothing to guess
    if kind is None or measuring_kind(kind).bare or kind.measure is None:
        return _without_proof(finding, cluster, end, taken)
    there = _measure(medium, finding.map, finding.size, budget)
    contested = there is not None and there.proof not in LOOKED_THROUGH and any(map(taken.overlap, finding.extents))
    if there is None or (_right(there, finding, finding.state == "deleted") and not contested):
        return None  # it is whole where it is said to lie, or nothing that a structure could prove
    start = finding.extents[0].offset
    recorded = finding.state == "deleted"
    size = finding.size if recorded else end - start
    around = _around(taken, start, size, cluster, end)
    proved = _proved(medium, finding, around, recorded, budget)
    if proved is not None:
        return _as(finding, proved, around, "around what other findings own", 1)
    if not across:
        return None
    before = budget.tries
    found = _across_a_gap(medium, finding, taken, cluster, end, size, recorded, budget)
    if found is None:
        return None
    measure, extents = found
    return _as(finding, measure, extents, "its pieces found by its structure", budget.tries - before)


def _without_proof(finding: Finding, cluster: int, end: int, taken: RangeSet) -> Finding | None:
    """A file whose content proves nothing, laid around what others surely own, if it was said to lie in one piece and
    they own some of it."""
    first, *more = finding.extents
    start = first.offset
    if finding.state != "deleted" or more or start in taken or not taken.overlap(first):
        return None
    places = tuple(_around(taken, start, finding.size, cluster, end))
    if total(places) < finding.size:
        return None
    how = f"around what other findings surely own, in {plural(len(places), 'piece')}; its content proves nothing"
    reasons = [how, *(reason for reason in finding.reasons if "name" in reason)]
    return replace(finding, map=FileMap.of(places, finding.size), confidence=_UNPROVED, reasons=reasons, sound=0)


def _around(taken: RangeSet, start: int, size: int, cluster: int, end: int, most: int = _MOST_PIECES) -> list[Extent]:
    """`size` bytes from `start` on along clusters that are not in `taken`; fewer where the volume ends."""
    out: list[Extent] = []
    at, left = start, size
    while left > 0 and at < end and len(out) < most:
        if at in taken:
            behind = taken.end_at(at)
            at = start + -(-(behind - start) // cluster) * cluster
            continue
        free = taken.free_from(at, end)
        length = min(left, free.length if free.end == end else free.length // cluster * cluster)
        if length <= 0:
            at += cluster
            continue
        out.append(Extent(at, length))
        left -= length
        at += -(-length // cluster) * cluster
    return list(join(out))


def _proved(
    medium: Medium, finding: Finding, extents: Sequence[Extent], recorded: bool, budget: Budget
) -> Measure | None:
    """The measure of these places, if it proves the file whole."""
    if not extents or (recorded and total(extents) < finding.size) or tuple(extents) == finding.extents:
        return None
    measure = _measure(medium, FileMap.of(extents), finding.size, budget)
    return measure if measure is not None and _right(measure, finding, recorded) else None


def _measure(medium: Medium, file: FileMap, size: int, budget: Budget) -> Measure | None:
    if not budget.spend(min(size, file.reach)):
        return None
    return recognise(MediumSource(medium, file), deep=True)


def _right(measure: Measure, finding: Finding, recorded: bool) -> bool:
    if not measure.whole or measure.proof < Proof.STATISTICS:
        return False
    return not recorded or measure.length == finding.size


def _across_a_gap(
    medium: Medium, finding: Finding, taken: RangeSet, cluster: int, end: int, size: int, recorded: bool, budget: Budget
) -> tuple[Measure, list[Extent]] | None:
    """The head as far as it is right, then the rest behind a gap of one cluster, two, and so on."""
    start = finding.extents[0].offset
    straight = _around(taken, start, size, cluster, end)
    measure = _measure(medium, FileMap.of(straight), finding.size, budget)
    if measure is None or measure.whole or measure.breaks_at is None:
        return None
    good = measure.breaks_at // cluster
    heads = range(max(good - _BACK, 1), min(good + _FORWARD, (total(straight) - 1) // cluster) + 1)
    tries = 0
    for gap in range(1, _MOST_GAPS + 1):
        for count in heads:
            first = within(straight, 0, count * cluster)
            behind = first[-1].end
            rest = _around(taken, behind + gap * cluster, size - count * cluster, cluster, end)
            if not rest or rest[0].offset != behind + gap * cluster:
                continue  # beyond the end, or where another gap leads to, too
            tries += 1
            tried = _measure(medium, FileMap.of([*first, *rest]), finding.size, budget)
            # Headers alone are right in many places: only where they break is such a guess taken.
            exact = tried is not None and (tried.proof in LOOKED_THROUGH or (recorded and count <= good))
            if tried is not None and exact and _right(tried, finding, recorded):
                return tried, list(join([*first, *rest]))
            if budget.spent or tries >= _MOST_TRIES:
                return None
    return None


def _as(finding: Finding, measure: Measure, extents: Sequence[Extent], how: str, tries: int) -> Finding:
    length = finding.size if finding.state == "deleted" else measure.length
    places = cut(extents, length)
    made = plural(tries, "try", "tries")
    reasons = [f"{how}, in {plural(len(places), 'piece')} ({made})", measure.rule]
    reasons += [reason for reason in finding.reasons if reason.startswith("name:") or "name" in reason]
    through = measure.proof in LOOKED_THROUGH
    sure = BY_PROOF[measure.proof] * (_PENALTY if through or tries == 1 else _BY_HEADERS)
    sound = length if through or tries == 1 else 0
    return replace(finding, map=FileMap.of(places, length), size=length, confidence=sure, reasons=reasons, sound=sound)
