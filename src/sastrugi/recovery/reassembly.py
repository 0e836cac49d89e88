"""Files in pieces: put together around what other findings own, or across a gap, where their structure proves it.

First every file that a record begins is laid along the clusters that nobody else owns. Where that proves nothing, the
head is kept as far as its structure is right, and the rest is looked for behind gaps of growing length. Both stop at a
budget; how many tries were made is told.
"""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Sequence
from dataclasses import dataclass, replace

from sastrugi.kinds import Measure, all_kinds
from sastrugi.kinds.registry import measuring_kind
from sastrugi.media import Extent, Medium, RangeSet
from sastrugi.media.extents import cut, join, total, within
from sastrugi.media.filemap import FileMap
from sastrugi.recovery.confidence import LOOKED_THROUGH
from sastrugi.recovery.evidence import Clue, evidence, of_names
from sastrugi.recovery.findings import Finding
from sastrugi.recovery.placing import LATE, Budget, as_placed, is_right, measured
from sastrugi.recovery.trails import Walls

_MOST_PIECES = 2000
_MOST_GAPS = 48
_BACK, _FORWARD, _MOST_BACK = 1, 32, 16
"""Clusters before and behind the reported break at which the head may end."""
_CLEAR = 2048
"""Bytes that must be right behind a gap before it is gone on from there."""
_MOST_BREAKS, _WAYS, _MOST_TURN = 6, 2, 24
"""Gaps in one file; places from which each is gone on; clusters of a piece of files that were written by turns."""
_MOST_TRIES, _MOST_BEHIND_WALL = 600, 128
"""Tries for one file; clusters of a gap behind which it may go on where another one begins."""
_MOST_UNTOLD = 32 << 20
"""Bytes that a file is looked for in of which nothing tells the size."""

_UNPROVED = 0.5


def reassemble(
    medium: Medium,
    finding: Finding,
    cluster: int,
    end: int,
    taken: RangeSet,
    budget: Budget,
    across: bool = True,
    walls: Walls | None = None,
) -> Finding | None:
    """The same finding in other places, if they are proved: whole by its structure, and as long as its record says (or
    as its structure says, where there is no record). `taken` is what others own; `end` is where its volume ends;
    `across`: look behind gaps, too; `walls` are the bytes at which other files begin."""
    kind = all_kinds().get(finding.kind)
    if not finding.extents or (not finding.map.plain and (finding.map.zeros or finding.map.coded)):
        return None  # of what has holes or units a table tells where it lies: there is nothing to guess
    if kind is None or measuring_kind(kind).bare or measuring_kind(kind).measure is None:
        return _without_proof(finding, cluster, end, taken)
    there = measured(medium, finding.map, budget)
    contested = there is not None and there.proof not in LOOKED_THROUGH and any(map(taken.overlap, finding.extents))
    if there is None or (is_right(there, finding, finding.state == "deleted") and not contested):
        return None  # it is whole where it is said to lie, or nothing that a structure could prove
    start = finding.extents[0].offset
    recorded = finding.state == "deleted"
    size = finding.size if recorded else min(end - start, _MOST_UNTOLD)
    around = _around(taken, start, size, cluster, end)
    proved = _proved(medium, finding, around, recorded, budget)
    if proved is not None:
        return as_placed(finding, proved, around, Clue.AROUND_OTHERS, 1)
    if not across:
        return None
    before = budget.tries
    search = _Search(medium, finding, taken, cluster, end, size, recorded, budget, walls or Walls(medium, ()))
    found = search.found()
    if found is None:
        return None
    measure, extents = found
    return as_placed(finding, measure, extents, Clue.BY_STRUCTURE, budget.tries - before)


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
    seen = [evidence(Clue.AROUND_UNPROVED, len(places)), *of_names(finding.evidence)]
    return replace(finding, map=FileMap.of(places, finding.size), confidence=_UNPROVED, evidence=seen, sound=0)


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
    measure = measured(medium, FileMap.of(extents), budget)
    return measure if measure is not None and is_right(measure, finding, recorded) else None


@dataclass(slots=True)
class _Search:
    """One file whose pieces are looked for. At `walls` other files begin: what a record says begins there is none of
    this one's."""

    medium: Medium
    finding: Finding
    taken: RangeSet
    cluster: int
    end: int
    size: int
    recorded: bool
    budget: Budget
    walls: Walls

    def found(self) -> tuple[Measure, list[Extent]] | None:
        """The places of which the file is whole, if any are found: pieces of one length behind gaps of one length, as
        files lie that were written by turns; or the head as far as it is right and the rest behind a gap, and so on.
        """
        placed = self._behind([], self.finding.extents[0].offset)
        measure = self._measured(placed)
        if measure is None or measure.whole or measure.breaks_at is None:
            return None
        found = self._by_turns(placed)
        if found is None and not self.budget.spent:
            found = self._from_wall_on(placed, measure.breaks_at, 1)
        return found if found is not None or self.budget.spent else self._across_gaps(placed, measure.breaks_at, 1)

    def _by_turns(self, placed: Sequence[Extent]) -> tuple[Measure, list[Extent]] | None:
        needed = -(-self.size // self.cluster)
        if not self.recorded or needed < 3:
            return None
        start = placed[0].offset
        wall = self._wall(placed)
        lengths = [wall] if wall else range(1, min(needed // 2, _MOST_TURN) + 1)
        left = _MOST_TRIES // 2
        for length in lengths:
            for gap in dict.fromkeys((length, *range(1, _MOST_TURN + 1))):
                step = (length + gap) * self.cluster
                turns = -(-needed // length)
                if turns > _MOST_PIECES or start + (turns - 1) * step + self.cluster > self.end:
                    continue
                pieces = [Extent(start + n * step, length * self.cluster) for n in range(turns)]
                places = cut(pieces, self.size)
                free = places[-1].end <= self.end and not any(map(self.taken.overlap, places))
                if not free:
                    continue
                left -= 1
                measure = self._measured(places)
                if measure is not None and is_right(measure, self.finding, self.recorded):
                    return measure, list(places)
                if left <= 0 or self.budget.spent:
                    return None
        return None

    def _wall(self, placed: Sequence[Extent]) -> int:
        """After how many clusters another file begins; 0 if none does."""
        behind = 0
        for extent in placed:
            n = bisect_right(self.walls.in_order, extent.offset)
            if n < len(self.walls.in_order) and self.walls.in_order[n] < extent.end:
                return (behind + self.walls.in_order[n] - extent.offset) // self.cluster
            behind += extent.length
        return 0

    def _from_wall_on(
        self, placed: Sequence[Extent], breaks_at: int, depth: int
    ) -> tuple[Measure, list[Extent]] | None:  # fmt: skip
        """The head up to where another file begins, and the rest behind a gap of any length; from where that takes the
        file furthest the same again, up to where the next one begins."""
        count = self._wall(placed)
        if not 0 < count * self.cluster < min(breaks_at + LATE, total(placed)) or depth > _MOST_BREAKS:
            return None
        first = within(placed, 0, count * self.cluster)
        furthest, behind = max(breaks_at, count * self.cluster + max(self.cluster, _CLEAR)), list[Extent]()
        for gap in range(1, _MOST_BEHIND_WALL + 1):
            at = first[-1].end + gap * self.cluster
            if self.walls.in_order[bisect_left(self.walls.in_order, at) : bisect_right(self.walls.in_order, at)]:
                continue  # another file begins there
            places = self._behind(first, at)
            if not places:
                continue  # beyond the end, or where another gap leads to, too
            tried = self._measured(places)
            if tried is None or self.budget.spent:
                return None
            if tried.proof in LOOKED_THROUGH and is_right(tried, self.finding, self.recorded):
                return tried, list(join(places))
            reach = 0 if tried.whole else tried.breaks_at or 0
            if reach > furthest:
                furthest, behind = reach, places
        return self._from_wall_on(behind, furthest, depth + 1) if behind else None

    def _behind(self, first: Sequence[Extent], at: int) -> list[Extent]:
        """A head, and the rest of the file from a byte on."""
        rest = _around(self.taken, at, self.size - total(first), self.cluster, self.end)
        return [*first, *rest] if rest and rest[0].offset == at else []

    def _measured(self, places: Sequence[Extent]) -> Measure | None:
        return measured(self.medium, FileMap.of(places), self.budget)

    def _heads(self, placed: Sequence[Extent], good: int) -> list[int]:
        """After how many clusters a piece may end, the likeliest first: where another file begins, then around the
        break that was reported (a wrong byte shows late, a wrong checksum at the start of what it is of)."""
        most = (total(placed) - 1) // self.cluster
        back = min(max(_BACK, LATE // self.cluster), _MOST_BACK)
        near = sorted(range(max(good - back, 1), min(good + _FORWARD, most) + 1), key=lambda n: (abs(n - good), n))
        return [n for n in dict.fromkeys([self._wall(placed), *near]) if 0 < n <= most]

    def _across_gaps(
        self, placed: Sequence[Extent], breaks_at: int, depth: int
    ) -> tuple[Measure, list[Extent]] | None:  # fmt: skip
        """The head as far as it is right, then the rest behind a gap of one cluster, two, and so on; and from the
        places that take the file furthest the same again."""
        good = breaks_at // self.cluster
        sharp = breaks_at % self.cluster < _CLEAR  # it shows at the beginning of a cluster
        clear = max(self.cluster, _CLEAR)
        left, ways = _MOST_TRIES // depth, _WAYS
        for gap in range(1, _MOST_GAPS + 1):
            furthest, behind = 0, list[Extent]()
            for count in self._heads(placed, good):
                first = within(placed, 0, count * self.cluster)
                places = self._behind(first, first[-1].end + gap * self.cluster)
                if not places:
                    continue  # beyond the end, or where another gap leads to, too
                left -= 1
                tried = self._measured(places)
                if tried is None or self.budget.spent:
                    return None
                # Headers alone are right in many places: only where they break is such a guess taken.
                there = count <= good if self.recorded else count == good and sharp
                if (tried.proof in LOOKED_THROUGH or there) and is_right(tried, self.finding, self.recorded):
                    return tried, list(join(places))
                reach = 0 if tried.whole else tried.breaks_at or 0
                if reach >= max(breaks_at + self.cluster, count * self.cluster + clear) and reach > furthest:
                    furthest, behind = reach, places
                    if count == good:
                        break  # it goes on where it was said to break: likelier than all others
                if left <= 0:
                    return None
            if behind and ways and depth < _MOST_BREAKS:
                ways -= 1
                found = self._across_gaps(behind, furthest, depth + 1)
                if found is not None or self.budget.spent:
                    return found
        return None
