"""Pairs of files that were written by turns, of which not both are told by records: the beginnings that content shows
stand among those that records name, and where one does not say how long it is, the room that the two have tells it.

Two files begin one inside of the other's reach; what follows them begins where both are at their ends. So their
clusters together are counted, and few ways of turns put each where its content proves it.
"""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from itertools import islice

import numpy as np
from numpy.typing import NDArray

from sastrugi.kinds import Kind, Measure, all_kinds, recognise
from sastrugi.kinds.base import BytesSource, Source
from sastrugi.kinds.registry import is_textual, kind_named, kinds_begun
from sastrugi.media import Extent, Medium, RangeSet
from sastrugi.media.extents import cut, join
from sastrugi.media.filemap import FileMap
from sastrugi.progress import Progress
from sastrugi.recovery.by_turns import (
    Way,
    even_way,
    free_clusters,
    read_clusters,
    ways,
)
from sastrugi.recovery.cluster_looks import text_clusters
from sastrugi.recovery.confidence import LOOKED_THROUGH, can_prove_itself, of_measure
from sastrugi.recovery.content import Grid, breaks, found_finding, is_nameless_text, marked_kind
from sastrugi.recovery.effort import Effort
from sastrugi.recovery.evidence import Clue, evidence, of_names
from sastrugi.recovery.findings import Finding
from sastrugi.recovery.habits import Habit, Manner, Sort
from sastrugi.recovery.placing import LATE, Budget
from sastrugi.recovery.reassembly_pass import claim_extents
from sastrugi.recovery.scan_file import ScanFile
from sastrugi.recovery.sector_survey import SECTOR, Mark, Survey
from sastrugi.recovery.sources import MediumSource

_MOST_HEADS, _MOST_READ, _MOST_MEASURED, _MOST_TRIES = 20_000, 4 << 30, 512 << 20, 20_000
"""Beginnings; bytes that are read, and measured; ways that are tried."""
_AT_ONCE = 1 << 20
_MOST_CLUSTERS, _MOST_BYTES, _MOST_PARTS = 1 << 14, 16 << 20, 100
"""Clusters, and bytes, of a pair; stretches of a medium that are looked through by themselves."""
_MOST_TURNS = 12
"""Turns that are tried where neither file says how long it is."""
_BESIDE = 2
"""Heads behind a file that may be the one it took turns with: between them may stand what only looks like one."""
_NEAR = 4 << 20
"""Bytes beside a file in question in which others are looked into that only their headers speak for."""
_PROVED, _REST_PROVED, _BY_HABIT = 0.96, 0.93, 0.85
_DOUBTED = 0.5


@dataclass(frozen=True, slots=True)
class Head:
    """Where a file begins, its length if something tells it, and what is reported of it so far."""

    start: int
    size: int | None
    kind: str
    finding: Finding | None

    @property
    def textual(self) -> bool | None:
        """Whether it is text; None where its kind is not known."""
        known = all_kinds().get(self.kind)
        return is_textual(known) if known is not None else None

    @property
    def doubtful(self) -> bool:
        """Whether nothing speaks for the place that is reported of it."""
        return self.size is None or self.finding is None or self.finding.confidence < _DOUBTED


@dataclass(frozen=True, slots=True)
class _Stands:
    """A file as it stands on clusters: its bytes, and what they are measured as."""

    size: int
    measure: Measure | None

    @property
    def proved(self) -> bool:
        measure = self.measure
        if measure is None or not measure.whole or measure.proof not in LOOKED_THROUGH:
            return False
        kind = all_kinds().get(measure.kind)
        return kind is None or not is_textual(kind)


class PairsByTurns:
    """The search of one scan. `kept` is what belongs to no file: tables and folders; `wanted` says of a finding whether
    it is asked for."""

    def __init__(
        self, medium: Medium, scan_file: ScanFile, survey: Survey, kept: Iterable[tuple[str, Extent]],
        wanted: Callable[[Finding], bool] = lambda finding: True, effort: Effort | None = None,
    ) -> None:  # fmt: skip
        self._medium, self._file, self._survey, self._wanted = medium, scan_file, survey, wanted
        self._parts = _doubts(scan_file)
        self._taken, self._open, self._starts = _told(scan_file, self._parts) if self._parts else (RangeSet(), {}, [])
        self._tables: list[Extent] = []
        for what, extent in kept:
            if what == "folder":
                self._taken.add(extent)
            else:
                self._tables.append(extent)
        self._budget, self._habit = Budget(_MOST_MEASURED, _MOST_TRIES, effort=effort), Habit()
        self._to_read = _MOST_READ

    def unlooked(self, within: Extent) -> list[Extent]:
        """Where files lie that only headers speak for, near to others that are in question: what begins inside of them
        was not looked for so far."""
        doubts = sorted(head.start for head in self._open.values() if head.doubtful)
        out: list[Extent] = []
        left = _MOST_MEASURED
        for start, head in sorted(self._open.items()):
            n = bisect_left(doubts, start - _NEAR)
            if head.doubtful or head.size is None or n == len(doubts) or doubts[n] > start + head.size + _NEAR:
                continue
            left -= head.size
            end = min(start + head.size, within.end)
            if left > 0 and within.offset <= start < end:
                out.append(Extent(start // SECTOR * SECTOR, -(-(end - start) // SECTOR) * SECTOR))
        return list(RangeSet(out).overlap(within))

    def put_together(self, grids: Sequence[Grid], progress: Progress) -> None:
        """Put pairs that took turns in the places that are theirs, what proves itself first: it tells how the others
        took turns. Nothing is committed."""
        if not self._parts:
            return
        # Earlier lives first: in today's tables, which may never have been written, their files still stand.
        for grid in sorted(grids, key=lambda grid: (grid.volume is not None, -grid.cluster)):
            for extent in self._tables if grid.volume is not None else ():
                self._taken.add(extent)
            for by_habit in (False, True):
                self._on(grid, by_habit, progress)

    def _on(self, grid: Grid, by_habit: bool, progress: Progress) -> None:
        heads = sorted(islice(self._heads_on(grid), _MOST_HEADS), key=lambda head: head.start)
        progress.start("pairs by turns", len(heads), "files")
        n = settled = 0
        while n < len(heads) and not self._budget.spent:
            put = self._pair_from(heads, n, grid, by_habit)
            for one in put:
                if one.number:
                    self._file.replace(one)
                elif self._wanted(one):
                    self._file.add(one)
                self._file.drop_parts_of(one)
                claim_extents(self._taken, one.extents, one.size)
                self._open.pop(one.map.start or 0, None)
            settled += len(put)
            n += 1
            progress.at(n, f"{settled:,} put together")
            progress.check()
        progress.finish()

    def _heads_on(self, grid: Grid) -> Iterator[Head]:
        """Where files begin on a grid that are not surely whole elsewhere: by what is reported, and by signatures."""
        near = RangeSet(self._parts)
        for start, head in self._open.items():
            if grid.holds(start) and grid.begins(start) and start in near and start not in self._taken:
                yield head
        for base, marks in self._survey.marks(max(grid.data.offset, self._parts[0].offset)) if self._parts else ():
            if base >= min(grid.data.end, self._parts[-1].end):
                return
            if not near.overlap(Extent(base, len(marks) * SECTOR)):
                continue
            for n in np.flatnonzero(marks & Mark.SIGNED).tolist():
                at = base + n * SECTOR
                if not (grid.holds(at) and grid.begins(at) and at in near) or at in self._open or at in self._taken:
                    continue
                source = MediumSource(self._medium, FileMap.of((Extent(at, grid.data.end - at),)))
                begun = next((kind for kind in kinds_begun(source) if _begins(kind, source)), None)
                if begun is not None:
                    yield Head(at, None, begun.name, None)

    def _pair_from(self, heads: Sequence[Head], n: int, grid: Grid, by_habit: bool) -> list[Finding]:
        """The files of a pair that begins with a head, in the places that are theirs; none if nothing proves it."""
        first = heads[n]
        if first.start in self._taken:
            return []
        for other in range(n + 1, min(n + 1 + _BESIDE, len(heads))):
            second = heads[other]
            if second.start in self._taken or not (first.doubtful or second.doubtful):
                continue
            between = Extent(first.start, second.start - first.start)
            if first.size is not None and between.length - self._taken.count(between) >= first.size:
                continue  # the first one ends before the second begins
            for end in self._ends(second.start, heads[other + 1 : other + 1 + _BESIDE], grid):
                for places in self._rooms(first.start, end, grid):
                    if second.start not in places:
                        continue
                    found = self._tried(first, second, places, grid.cluster, by_habit)
                    if found or self._budget.spent:
                        return found
        return []

    def _ends(self, start: int, behind: Sequence[Head], grid: Grid) -> list[int]:
        """Where what stands behind a file may begin: the next files, also those that are surely whole; or nothing."""
        n = bisect_right(self._starts, start)
        told = {*self._starts[n : n + _BESIDE], *(head.start for head in behind)}
        return [*sorted(end for end in told if end < grid.data.end), grid.data.end][:_BESIDE]

    def _rooms(self, start: int, end: int, grid: Grid) -> Iterator[tuple[int, ...]]:
        """The clusters from a byte on to another that nobody owns, but for what was never written at their end; or with
        one of these, in which a file may end in zeros."""
        count = min((end - start) // grid.cluster, _MOST_CLUSTERS, _MOST_BYTES // grid.cluster)
        places = free_clusters(start, count, grid.cluster, min(end, grid.data.end), self._taken)
        if places and places[0] == start:
            count = len(places)
            while count:
                some = places[max(count - _AT_ONCE // grid.cluster, 0) : count]
                written = np.flatnonzero(self._read(some, grid.cluster).any(axis=1))
                count += int(written[-1]) + 1 - len(some) if len(written) else -len(some)
                if len(written):
                    break
            yield places[:count]
            if count < len(places):
                yield places[: count + 1]

    def _read(self, places: Sequence[int], cluster: int) -> NDArray[np.uint8]:
        """What stands on clusters; nothing any more where enough was read. Shape: (clusters, bytes)."""
        self._to_read -= len(places) * cluster
        return read_clusters(self._medium, places if self._to_read > 0 else (), cluster)

    def _tried(
        self, first: Head, second: Head, places: tuple[int, ...], cluster: int, by_habit: bool
    ) -> list[Finding]:  # fmt: skip
        """The two on their clusters, in the one way in which one of them proves itself; or (by habit) that those beside
        them took, if it fits both and leaves nothing over."""
        pair = (first, second)
        order = sorted((0, 1), key=lambda number: not can_prove_itself(pair[number].kind))
        if not by_habit and not can_prove_itself(pair[order[0]].kind):
            return []
        needs = tuple(None if head.size is None else -(-head.size // cluster) for head in pair)
        told = sum(need or 0 for need in needs)
        if by_habit and (told != len(places) if None not in needs else not told):
            return []  # their lengths must agree with the room that they have
        usual = self._habit.near(first.start) if by_habit else set()
        rows = self._read(places, cluster)
        if not len(rows):
            return []
        tried: set[bytes] = set()
        begun = places.index(second.start)
        shown = [] if by_habit else _shown(first, second, begun, rows)
        for way in (*shown, *_options(begun, len(places), (needs[0], needs[1]))):
            key = way.labels.tobytes()
            if key in tried or (by_habit and way.sort not in usual):
                continue
            tried.add(key)
            stands: dict[int, _Stands] = {}
            for number in order:
                own = rows[: len(way.labels)][way.labels == number]
                one = _stands(own, pair[number], cluster, self._budget, way.sort.manner != Manner.CLUSTERS)
                if self._budget.spent:
                    return []
                if one is None or not (by_habit or one.proved or stands):
                    break
                stands[number] = one
            if len(stands) < 2:
                continue
            if not by_habit:
                self._habit.learn(first.start, _sorts_of(way))
            where = np.array(places[: len(way.labels)])
            return [
                _finding(pair[number], one, where[way.labels == number], cluster, by_habit)
                for number, one in stands.items()
            ]
        return []


def _told(scan_file: ScanFile, parts: Sequence[Extent]) -> tuple[RangeSet, dict[int, Head], list[int]]:
    """In some parts of the medium: what is surely somebody's, the heads of files that may lie otherwise than is said,
    by their places, and where all begin."""
    reaching = [f"start BETWEEN {part.offset - _MOST_BYTES} AND {part.end}" for part in parts]
    wanted = f"size > 0 AND ({' OR '.join([*reaching, f'size > {_MOST_BYTES}'])})"
    taken = RangeSet()
    open_heads: dict[int, Head] = {}
    starts: set[int] = set()
    for one in scan_file.findings(wanted):
        start = one.map.start
        if start is None or is_nameless_text(one):
            continue  # nobody knows where such a text begins
        starts.add(start)
        sure = one.sound > 0 and one.sure
        guessed = one.state != "live" and len(one.extents) == 1 and one.map.plain and not one.tells(Clue.ONLY_PLACE)
        if sure and (not guessed or can_prove_itself(one.kind)):
            claim_extents(taken, one.extents, one.sound)
        elif guessed and start not in open_heads:
            told = one.state == "deleted" or not (breaks(one) or one.tells(Clue.GUESSED_END))
            open_heads[start] = Head(start, one.size if told else None, one.kind, one)
    return taken, open_heads, sorted(starts)


def _doubts(scan_file: ScanFile) -> list[Extent]:
    """Where a file may lie that is in question, or one that took turns with it."""
    doubts = scan_file.starts(f"size > 0 AND (state = 'found' OR (state = 'deleted' AND confidence < {_DOUBTED}))")
    near = RangeSet(Extent(max(start - _MOST_BYTES, 0), 2 * _MOST_BYTES) for start in sorted(doubts))
    parts = list(near.overlap(Extent(0, 1 << 62)))
    return parts if len(parts) <= _MOST_PARTS else [Extent(0, 1 << 62)]


def _begins(kind: Kind, source: Source) -> bool:
    """Whether a file of a kind begins there, whose signature stands there. A short one may do so by chance, and the
    frames of a stream bear it, too: then more must be right."""
    if marked_kind(kind):
        return True
    return kind.measure is not None and kind.measure(source, False) is not None


def _options(first: int, room: int, needs: tuple[int | None, int | None]) -> Iterator[Way]:
    """The ways of two files on so many clusters, of which the second begins `first` clusters behind the other; `needs`
    are the clusters of each that says how long it is."""
    a, b = needs
    if a is None and b is None:
        for turns in range(2, _MOST_TURNS + 1):
            for need in range(turns * first, min(turns * first + turns, room)):
                yield even_way([need, room - need], turns)
        return
    a = a if a is not None else room - (b or 0)
    b = b if b is not None else room - a
    if a > first and b > 0 and a + b <= room:
        yield from ways([0, first], [a, b])


def _shown(first: Head, second: Head, begun: int, rows: NDArray[np.uint8]) -> Iterator[Way]:
    """The way that clusters show of a text and a file that is none."""
    texts = [head.textual for head in (first, second)]
    if texts.count(True) != 1 or texts.count(False) != 1:
        return
    labels = (text_clusters(rows) != texts[0]).astype(np.int8)
    if not labels[:begun].any() and labels[begun]:
        yield Way(Sort(Manner.CLUSTERS), labels)


def _sorts_of(way: Way) -> list[Sort]:
    """By what names a way goes: what clusters show may be turns that are as even as can be, too."""
    needs = np.bincount(way.labels, minlength=2).tolist()
    even = (even_way(needs, turns) for turns in range(2, _MOST_TURNS + 1))
    return [way.sort, *(one.sort for one in even if np.array_equal(one.labels, way.labels))]


def _stands(own: NDArray[np.uint8], head: Head, cluster: int, budget: Budget, exact: bool) -> _Stands | None:
    """How a file stands on clusters; None if it cannot lie there. `exact`: it has all of them."""
    data = own.tobytes() if head.size is None else own.tobytes()[: head.size]
    measure = recognise(BytesSource(data), deep=True)
    breaks_at = measure.breaks_at if measure is not None else None
    budget.spend(len(data) if breaks_at is None else min(len(data), breaks_at + LATE), head.kind)
    if head.size is not None:
        fits = measure.whole and measure.length == head.size if measure is not None else not head.textual
        return _Stands(head.size, measure) if len(data) == head.size and fits else _as_text(data, head, cluster)
    if measure is None or not measure.whole or (exact and -(-measure.length // cluster) != len(own)):
        return _as_text(data, head, cluster)
    return _Stands(measure.length, measure)


def _as_text(data: bytes, head: Head, cluster: int) -> _Stands | None:
    """A text of a known length, or one that ends in the last of its clusters, where zeros begin."""
    length = len(data.rstrip(b"\0")) if head.size is None else head.size
    ends = len(data) == length if head.size is not None else length < len(data) < length + cluster
    text = kind_named("txt")
    if not head.textual or not ends or text.measure is None:
        return None
    measure = text.measure(BytesSource(data[:length]), False)
    return _Stands(length, measure) if measure is not None and measure.length >= length else None


def _finding(head: Head, stands: _Stands, where: NDArray[np.int64], cluster: int, by_habit: bool) -> Finding:
    extents = cut(join(Extent(at, cluster) for at in where.tolist()), stands.size)
    how = evidence(Clue.BY_TURNS, "", Manner.AS_NEARBY if by_habit else Manner.OTHER, 0, len(extents))
    sure = _PROVED if stands.proved else _BY_HABIT if by_habit else _REST_PROVED
    one = head.finding
    if one is None:
        assert stands.measure is not None  # nothing else tells how long it is
        one = found_finding(stands.measure, FileMap.of(extents, stands.size), on_grid=True)
    rule = [of_measure(stands.measure)] if stands.measure is not None else []
    return replace(
        one, map=FileMap.of(extents, stands.size), size=stands.size, confidence=sure, sound=stands.size,
        evidence=[how, *rule, *of_names(one.evidence)],
    )  # fmt: skip
