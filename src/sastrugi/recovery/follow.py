"""Files in pieces of kinds that can be followed: put together along their trails."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import replace
from itertools import islice

from sastrugi.kinds.following import Follower
from sastrugi.kinds.registry import kinds_begun
from sastrugi.media import Medium, RangeSet
from sastrugi.media.filemap import FileMap
from sastrugi.progress import Progress
from sastrugi.recovery.cluster_looks import Looks
from sastrugi.recovery.evidence import Clue, evidence
from sastrugi.recovery.findings import Finding
from sastrugi.recovery.placing import Budget, as_placed, is_right, measured
from sastrugi.recovery.sources import MediumSource
from sastrugi.recovery.trails import Farthest, FreeClusters, Trails, Walls

_HEAD = 512
_MOST_FOLLOWED, _TIMES_FOLLOWED, _A_TRY, _MOST_ENDS = 64 << 20, 32, 1024, 8
"""Bytes that one file is followed for: so many, and so many times its size, with what a try costs beside them; ends
that are looked at."""
_MOST_AHEAD, _LOOKS, _A_LOOK, _MOST_FOUND, _MOST_READ_AHEAD = 1 << 15, 64, 512, 4, 1 << 20
"""Clusters in which what stands ahead is looked for, those that are charged together, and what one costs in bytes; what
is found of it; and read of each."""
_PATIENCE = (1 / 32, 1 / 8, 1 / 2, 2.0)
"""What following one file may cost, in turn."""


def follow_all(
    medium: Medium,
    waiting: Callable[[], Iterable[tuple[Finding, int, int]]],
    taken: RangeSet,
    budget: Budget,
    walls: Walls,
    put: Callable[[Finding], None],
    progress: Progress,
    looks: Looks | None = None,
) -> None:
    """Follow all that are `waiting` (each with its clusters and where its volume ends) and can be: what costs least
    comes first, for as long as most of them need. Each that is found is `put`, which leaves less for the others; they
    are tried again then, and for longer when nothing more is found."""
    patience, looks = list(_PATIENCE), looks or Looks()
    done = set[int]()
    kinds: dict[int, type[Follower] | None] = {}
    while patience and not budget.spent:
        can: list[tuple[float, Finding, int, int]] = []
        for one, cluster, end in waiting():
            if one.number in done:
                continue
            if one.number not in kinds:
                kinds[one.number] = followed_as(medium, one)
            kind = kinds[one.number]
            if kind is not None:
                can.append((kind.cost, one, cluster, end))
        can.sort(key=lambda each: (each[0], each[1].size, each[1].number))
        progress.start("files that can be followed", len(can), "files")
        settled = 0
        for count, (_, one, cluster, end) in enumerate(can, 1):
            if budget.spent:
                break
            better = follow(medium, one, cluster, end, taken, budget, walls, patience[0], looks)
            if better is not None:
                put(better)
                if better.sound:  # else what others turn out to own may tell more
                    done.add(one.number)
                    settled += 1
            progress.at(count, f"{settled:,} put together")
            progress.check()
        progress.finish()
        if not settled:
            del patience[0]


def follow(
    medium: Medium, finding: Finding, cluster: int, end: int, taken: RangeSet, budget: Budget,
    walls: Walls | None = None, patience: float = 1.0, looks: Looks | None = None,
    tell: Callable[[Farthest], object] | None = None,
) -> Finding | None:  # fmt: skip
    """The same finding in other places, if its kind is one that can be followed from piece to piece, and it comes to
    its end so. `taken`, `end` and `walls` are as in `reassemble`; `patience` says how much it may cost; `looks`
    is what is known of clusters; `tell` is told how far each search came."""
    begin = followed_as(medium, finding)
    start = finding.map.start
    left = patience * (_MOST_FOLLOWED + _TIMES_FOLLOWED * finding.size)
    if begin is None or start is None or start in taken:
        return None

    def spend(count: int) -> bool:
        nonlocal left
        left -= count + _A_TRY
        return budget.followed(count, begin.cost) and left > 0

    size = finding.size if finding.state == "deleted" else None
    free = FreeClusters(medium, taken, start, cluster, end, looks)
    tried = 0
    likely: Finding | None = None
    for first in _begun(begin, free, cluster, size, spend):
        trails = Trails(free, first, cluster, size, walls or Walls(medium, ()), spend)
        for places, checked in islice(trails.ways(), _MOST_ENDS):
            measure = measured(medium, FileMap.of(places), budget)
            if measure is None:
                break
            right = is_right(measure, finding, size is not None, checked)
            if trails.open:  # parts of others would go on with it as well, until these are found
                right = checked and measure.whole and patience >= _PATIENCE[-1]
            if right and places != finding.extents:
                placed = as_placed(finding, measure, places, Clue.BY_STRUCTURE, tried + trails.tried, checked)
                if trails.open:
                    placed = replace(placed, evidence=[*placed.evidence, evidence(Clue.GUESSED_END)])
                if checked:
                    likely = placed
                    break
                if likely is None or len(placed.extents) < len(likely.extents):  # few gaps are likelier than many
                    likely = placed
        tried += trails.tried
        if tell is not None:
            tell(trails.farthest())
        if likely is not None or budget.spent:
            break
    return likely


def _begun(
    begin: type[Follower], free: FreeClusters, cluster: int, size: int | None, spend: Callable[[int], bool]
) -> Iterator[Follower]:
    """The beginning of a file; of one that should know first what stands far ahead, with that, wherever it may lie."""
    known = begin()
    if free.place(0) is None:
        return
    known.feed(free.read(0))
    ahead = known.ahead
    if ahead is None or (size is not None and ahead >= size):
        yield begin()
        return
    found = 0
    inside = ahead % cluster
    for number in range(ahead // cluster, ahead // cluster + _MOST_AHEAD):
        if free.place(number) is None or found == _MOST_FOUND:
            return
        if number % _LOOKS == 0 and not spend(_LOOKS * _A_LOOK):
            return
        there = free.read(number)[inside:]
        if len(there) < 8:
            there += free.read(number + 1) if free.place(number + 1) is not None else b""
        if not begin().may_be_ahead(there):
            continue
        most = _MOST_READ_AHEAD if size is None else min(size - ahead, _MOST_READ_AHEAD)
        count = -(-(inside + most) // cluster)
        parts = [free.read(number + n) for n in range(count) if free.place(number + n) is not None]
        first = begin()
        if first.learn(b"".join(parts)[inside : inside + most]):
            found += 1
            yield first


def followed_as(medium: Medium, finding: Finding) -> type[Follower] | None:
    """How the kind that begins where a finding does is followed, if it can be."""
    if not finding.extents or not finding.map.plain:
        return None
    begun = kinds_begun(MediumSource(medium, finding.map.head(_HEAD)))
    return next((kind.follow for kind in begun if kind.follow is not None), None)
