"""Files in pieces of which no proof tells where they go on, laid as those beside them are proved to lie; and texts,
that go on behind clusters which are none.

An allocator does alike what it does at one time: where files before and behind one are proved to lie in so many even
pieces with gaps of so many clusters, that one does, too, unless its bytes say otherwise.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace
from itertools import pairwise

import numpy as np

from sastrugi.kinds import all_kinds, recognise
from sastrugi.kinds.base import BytesSource
from sastrugi.media import Extent, Medium, RangeSet
from sastrugi.media.extents import cut, join
from sastrugi.media.filemap import FileMap
from sastrugi.recovery.by_turns import (
    CLEAR,
    Standing,
    entropy_bits,
    even_shares,
    free_clusters,
    is_text,
    read_clusters,
    standing_of,
)
from sastrugi.recovery.cluster_looks import text_clusters
from sastrugi.recovery.confidence import LOOKED_THROUGH
from sastrugi.recovery.evidence import Clue, Fact, evidence, of_names
from sastrugi.recovery.findings import Finding
from sastrugi.recovery.habits import Habit, Manner, Sort

_PROVED, _TEXT_ENDS, _TEXT = 0.9, 0.85, 0.6
_BY_HABIT = 0.8
_MOST_FOREIGN = 64
"""Clusters of others that may lie in a text."""
_BEGUN, _MOST_ENDS = 16, 24
"""Bytes by which a cluster begins as text; such clusters that a text is tried to end in."""
_MOST_READ, MOST_MARKUP = 16 << 20, 1 << 20


def habit_of(findings: Iterable[Finding], cluster: int) -> Habit:
    """How the files are proved to lie of which the content proves itself."""
    out = Habit()
    for one in findings:
        kind = all_kinds().get(one.kind)
        proved = kind is not None and kind.proof in LOOKED_THROUGH and one.confidence >= _PROVED
        if (proved or (is_text(one) and one.confidence >= _TEXT_ENDS)) and one.size > cluster:
            out.learn(one.map.start or 0, [_sort_of(one, cluster)])
    return out


def _sort_of(finding: Finding, cluster: int) -> Sort:
    """In how many pieces with gaps of how many clusters, if both are even."""
    extents = finding.extents
    if len(extents) == 1:
        return Sort(Manner.ONE_PIECE)
    lengths = [-(-extent.length // cluster) for extent in extents]
    gaps = {behind.offset - extent.end for extent, behind in pairwise(extents)}
    even = lengths == even_shares(sum(lengths), len(lengths)) and len(gaps) == 1 and min(gaps) >= cluster
    return Sort(Manner.EVEN_GAPS, len(extents), gaps.pop() // cluster) if even else Sort(Manner.OTHER)


def as_beside(
    medium: Medium, finding: Finding, cluster: int, end: int, taken: RangeSet, habit: Habit
) -> Finding | None:  # fmt: skip
    """The finding in pieces as its neighbours lie in; None where they tell nothing, or its bytes speak against it."""
    start, need = finding.map.start or 0, -(-finding.size // cluster)
    for sort in sorted(habit.near(start)) if finding.size <= _MOST_READ else ():
        if sort.manner != Manner.EVEN_GAPS:
            continue
        shares, gap = even_shares(need, sort.pieces), sort.gap
        span = need + gap * (len(shares) - 1)
        places = free_clusters(start, span, cluster, end, taken)
        if len(shares) < 2 or len(places) < span or places[0] != start:
            continue
        own = np.concatenate([np.arange(share) + sum(shares[:n]) + gap * n for n, share in enumerate(shares)])
        rows = read_clusters(medium, places, cluster)
        labels = np.full(span, -1, np.int8)
        labels[own] = 0
        straight = np.full(span, -1, np.int8)
        straight[:need] = 0
        if standing_of(finding, labels, rows, 0) == Standing.BROKEN:
            continue
        if entropy_bits(finding, labels, rows, 0) > entropy_bits(finding, straight, rows, 0) + CLEAR:
            continue
        return _laid(finding, np.array(places)[own].tolist(), cluster, _BY_HABIT, Clue.AS_BESIDE, sort.pieces, gap)
    return None


def text_behind_gaps(
    medium: Medium, finding: Finding, cluster: int, end: int, taken: RangeSet
) -> Finding | None:  # fmt: skip
    """A text on the clusters that are text from its first one on, where others lie among them."""
    start, need = finding.map.start or 0, -(-finding.size // cluster)
    if not is_text(finding) or need < 2 or finding.size > _MOST_READ:
        return None
    places = free_clusters(start, need + _MOST_FOREIGN, cluster, end, taken)
    if not places or places[0] != start:
        return None
    rows = read_clusters(medium, places, cluster)
    ends = (finding.size - 1) % cluster + 1
    own = np.flatnonzero(text_clusters(rows))[: need - 1]
    behind = int(own[-1]) + 1 if len(own) else 0
    # What stands behind its end may be anything; where something ends exactly there, it is that.
    ending = np.flatnonzero(text_clusters(rows[behind:, :ends])) + behind
    exactly = ending[(rows[ending, ends - 1] != 0) & ~rows[ending, ends:].any(axis=1)]
    own = np.append(own, (exactly if ends < cluster and len(exactly) else ending)[:1])
    if len(own) < need or own[-1] == need - 1 or own[0]:
        return None
    labels = np.full(len(rows), -1, np.int8)
    labels[own] = 0
    if standing_of(finding, labels, rows, 0) == Standing.BROKEN:
        return None
    exact = ends < cluster and rows[own[-1], ends - 1] and not rows[own[-1], ends:].any()
    sure, foreign = _TEXT_ENDS if exact else _TEXT, int(own[-1]) + 1 - need
    return _laid(finding, np.array(places)[own].tolist(), cluster, sure, Clue.TEXT_BEHIND, foreign)


def markup_behind_gaps(
    medium: Medium, finding: Finding, cluster: int, end: int, taken: RangeSet
) -> Finding | None:  # fmt: skip
    """A text that tells its own end (markup), of which only the beginning was found, on the clusters that are text from
    its first one on; None where it does not come to its end there."""
    start = finding.map.start or 0
    places = free_clusters(start, MOST_MARKUP // cluster, cluster, end, taken) if is_text(finding) else ()
    if not places or places[0] != start:
        return None
    rows = read_clusters(medium, places, cluster)
    own = np.flatnonzero(text_clusters(rows))
    begun = np.flatnonzero(text_clusters(rows[:, :_BEGUN]))
    for tried in (own, *(np.append(own[own < last], last) for last in begun[~np.isin(begun, own)][:_MOST_ENDS])):
        measure = recognise(BytesSource(rows[tried].tobytes()), deep=True) if len(tried) and not tried[0] else None
        if measure is not None and measure.whole and measure.kind == finding.kind:
            break
    else:
        return None
    need = -(-measure.length // cluster)
    foreign = int(tried[need - 1]) + 1 - need
    if not 0 < foreign <= _MOST_FOREIGN:
        return None
    closed = replace(finding, size=measure.length)
    return _laid(closed, np.array(places)[tried[:need]].tolist(), cluster, _BY_HABIT, Clue.MARKUP_BEHIND, foreign)


def _laid(finding: Finding, places: Iterable[int], cluster: int, sure: float, how: Clue, *facts: Fact) -> Finding:
    extents = cut(join(Extent(at, cluster) for at in places), finding.size)
    seen = [evidence(how, *facts, len(extents)), *of_names(finding.evidence)]
    where = FileMap.of(extents, finding.size)
    return replace(finding, map=where, confidence=sure, sound=finding.size, evidence=seen)
