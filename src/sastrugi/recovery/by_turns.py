"""Files that were written by turns: two or more begin before the ones in front of them can be at their ends, so that
the clusters from the first one's start on are theirs together, and each holds as many as its record says.

How they took turns is one of few ways: pieces of one length each, pieces as even as can be, one whole inside of
another, and, where one is text and the other is not, whatever their clusters show. Each way places all of the files at
once; it is out of the question where the structure of one breaks, proved where their content proves it, and otherwise
the likeliest by how the bytes of each are distributed.
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from enum import IntEnum
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from sastrugi.kinds import all_kinds, recognise
from sastrugi.kinds.base import BytesSource
from sastrugi.kinds.registry import is_textual, kind_named, kinds_begun, measuring_kind
from sastrugi.media import Extent, Medium, RangeSet
from sastrugi.media.extents import cut, join
from sastrugi.media.filemap import FileMap
from sastrugi.recovery.cluster_looks import text_clusters
from sastrugi.recovery.confidence import LOOKED_THROUGH, can_prove_itself
from sastrugi.recovery.evidence import Clue, evidence, of_names
from sastrugi.recovery.findings import Finding
from sastrugi.recovery.habits import Habit, Manner, Sort
from sastrugi.recovery.placing import Budget

MOST_TOGETHER = 4
"""Files that took turns with each other."""
_MOST_READ = 32 << 20
"""Bytes of such files together that are looked at."""
_MOST_MEASURED, _FEWEST_WAYS = 96 << 20, 4
"""Bytes that are measured for one group, over all ways that are tried; ways that are tried at least."""
_MOST_LISTED = 1 << 23
"""Clusters that are listed to see which files may be groups."""
_FED = 8
_LONGEST_TURN, _MOST_TURNS = 32, 64
"""Clusters that a turn of the last file is tried with; turns that files are cut into evenly."""
_MOST_HEAD = 32
"""Clusters of headers, at the beginning of a file."""
_MOST_COMPARED = 4096
"""Clusters of which the bytes are counted."""
_PROVED, _REST_PROVED, _LIKELY, _BY_HABIT = 0.96, 0.93, 0.85, 0.8
CLEAR, _PLAIN = 300.0, 2000.0
"""Bits by which the likeliest way must be likelier than the next; and where what is behind them is not known."""
_FAR_FROM_CHANCE = 100.0
"""Bits of checks along a file that prove it."""
_SLACK = 40.0
"""Bits that zeros behind a file's end are worth, where it does not end in zeros itself."""

Labels = NDArray[np.int8]
"""Whose each cluster is, by the number of the file in its group. Shape: (clusters,)."""


class Standing(IntEnum):
    """How a file stands on the clusters that one way gives it."""

    BROKEN = 0
    OPEN = 1
    FITS = 2
    PROVED = 3


@dataclass(frozen=True, slots=True)
class Way:
    """One way in which files may have taken turns. `sort` names it alike for all files of a medium."""

    sort: Sort
    labels: Labels


@dataclass(frozen=True, slots=True)
class Group:
    """Files that took turns, in the order in which they begin, and the clusters that are theirs, by their first byte.
    `closed`: what lies right behind them is known to be another's, or nothing."""

    files: tuple[Finding, ...]
    places: tuple[int, ...]
    cluster: int
    closed: bool

    def offer_to(self, habit: Habit) -> None:
        """Tell by which ways its files begin where they do, where a way says that of all but the last."""
        needs = self.needs
        sorts = [way.sort for way in ways(self.firsts, needs) if way.sort.manner == Manner.EVEN]
        if self.closed:
            habit.offer(self.places[0], sorts, sum(math.log2(max(need - 1, 1)) for need in needs[:-1]))

    @property
    def bytes(self) -> int:
        """Of all its clusters."""
        return len(self.places) * self.cluster

    @property
    def needs(self) -> list[int]:
        """Clusters of each."""
        return [-(-one.size // self.cluster) for one in self.files]

    @property
    def firsts(self) -> list[int]:
        """Where each begins, counted in the clusters of the group."""
        return [self.places.index(one.map.start or 0) for one in self.files]


def groups(
    medium: Medium, findings: Sequence[Finding], cluster: int, end: int, taken: RangeSet
) -> Iterator[Group]:  # fmt: skip
    """The groups among files that lie in one piece each by what is said of them, ordered by their first byte.

    `taken` is what others own, `end` where the volume ends. A group ends where the next file begins or behind it; what
    was never written behind it is nobody's.
    """
    n, left = 0, _MOST_LISTED
    while n < len(findings) and left > 0:
        begun = _is_begun_in(findings, n, cluster, taken)
        left -= MOST_TOGETHER * (findings[n].size // cluster + 1) if begun else 0
        group = _group_from(medium, findings, n, cluster, end, taken) if begun else None
        n += len(group.files) if group else 1
        if group:
            yield group


def _group_from(
    medium: Medium, findings: Sequence[Finding], first: int, cluster: int, end: int, taken: RangeSet
) -> Group | None:  # fmt: skip
    needed = 0
    places: tuple[int, ...] = ()
    for n in range(first, len(findings)):
        start = findings[n].map.start or 0
        if n > first and start not in places:
            break
        if n - first == MOST_TOGETHER or (n > first and start == findings[n - 1].map.start):
            return None
        needed += -(-findings[n].size // cluster)
        if needed * cluster > _MOST_READ:
            return None
        places = free_clusters(findings[first].map.start or 0, needed, cluster, end, taken)
        if len(places) < needed or places[0] != findings[first].map.start:
            return None
    else:
        n, start = len(findings), end
    behind = places[-1] + cluster
    closed = behind in taken or behind == start or not medium.read(behind, cluster).strip(b"\0")
    return Group(tuple(findings[first:n]), places, cluster, closed) if n > first + 1 else None


def _is_begun_in(findings: Sequence[Finding], n: int, cluster: int, taken: RangeSet) -> bool:
    """Whether the next file begins before one has as many clusters as it needs."""
    if n + 1 == len(findings):
        return False
    start, inner = findings[n].map.start or 0, findings[n + 1].map.start or 0
    between = Extent(start, inner - start)
    return between.length > 0 and between.length - taken.count(between) < -(-findings[n].size // cluster) * cluster


def free_clusters(start: int, count: int, cluster: int, end: int, taken: RangeSet) -> tuple[int, ...]:
    """The first so many clusters from a byte on that nobody owns."""
    out: list[int] = []
    reach = Extent(start, min(4 * count * cluster, max(end - start, 0)))
    for gap in taken.gaps(reach):
        first = start + -(-(gap.offset - start) // cluster) * cluster
        out += range(first, gap.end - cluster + 1, cluster)
        if len(out) >= count:
            break
    return tuple(out[:count])


def ways(firsts: Sequence[int], needs: Sequence[int]) -> Iterator[Way]:
    """The ways in which files of so many clusters each (`needs`) may have taken turns that begin there (`firsts`)."""
    known = [behind - first for first, behind in pairwise(firsts)]
    for turns in range(2, _MOST_TURNS + 1):
        if [even_shares(need, turns)[0] for need in needs[:-1]] == known:
            yield even_way(needs, turns)
    for last in dict.fromkeys((*range(1, min(needs[-1], _LONGEST_TURN) + 1), needs[-1])):
        shares = [_of_length(need, length) for need, length in zip(needs, (*known, last), strict=True)]
        yield Way(Sort(Manner.NESTED if last == needs[-1] else Manner.ONE_LENGTH), _round(shares))


def even_way(needs: Sequence[int], turns: int) -> Way:
    """The way in which files of so many clusters each took so many turns, each as even as can be."""
    return Way(Sort(Manner.EVEN, turns), _round([even_shares(need, turns) for need in needs]))


def even_shares(clusters: int, turns: int) -> list[int]:
    """So many clusters in so many turns, as even as can be; fewer turns where there are fewer clusters."""
    turns = min(turns, clusters)
    return [clusters * (n + 1) // turns - clusters * n // turns for n in range(turns)]


def _of_length(clusters: int, length: int) -> list[int]:
    whole, rest = divmod(clusters, length)
    return [length] * whole + [rest] * bool(rest)


def _round(shares: Sequence[Sequence[int]]) -> Labels:
    """Whose each cluster is where each file in its turn takes its next share."""
    whose, lengths = [], []
    for turn in range(max(map(len, shares))):
        for number, share in enumerate(shares):
            if turn < len(share):
                whose.append(number)
                lengths.append(share[turn])
    return np.repeat(np.array(whose, np.int8), lengths)


def is_text(finding: Finding) -> bool | None:
    """Whether a file is text by its kind; None where its kind is not known."""
    kind = all_kinds().get(finding.kind)
    return is_textual(kind) if kind is not None else None


def _by_clusters(group: Group, rows: NDArray[np.uint8]) -> Iterator[Way]:
    """The way that the clusters themselves tell, whatever the lengths of turns: of files of which all but one are text,
    or of a kind whose clusters can be known, each of another."""
    texts = [is_text(one) for one in group.files]
    kinds = [all_kinds().get(one.kind) for one in group.files]
    tests = [
        text_clusters if text else kind.inside if kind is not None else None
        for text, kind in zip(texts, kinds, strict=True)
    ]
    known = [test for test in tests if test is not None]
    if len(known) < len(tests) - 1 or len({*known}) < len(known) or (text_clusters in known and None in texts):
        return
    others = tests.index(None) if None in tests else -1
    labels = np.full(len(rows), others, np.int8)
    for number, test in enumerate(tests):
        if test is not None:
            labels[test(rows)] = number
    labels[group.firsts] = range(len(tests))
    for number, test in enumerate(tests):
        if test is not None and test is not text_clusters:  # its first clusters hold headers, which are of another sort
            first = group.firsts[number]
            head = first + np.flatnonzero(labels[first:] == others)[:_MOST_HEAD]
            labels[head[: max(group.needs[number] - int((labels == number).sum()), 0)]] = number
    if [int((labels == n).sum()) for n in range(len(tests))] == group.needs:
        yield Way(Sort(Manner.CLUSTERS), labels)


def apart(
    medium: Medium, group: Group, habit: Habit, budget: Budget, unproved: bool = True
) -> list[Finding]:  # fmt: skip
    """The files of a group in the places that are theirs; none where that is not told. What is proved becomes part of
    the habit. `unproved`: also those of which none is proved. `budget` is charged what is measured."""
    cluster = group.cluster
    rows = read_clusters(medium, group.places, cluster)
    chosen = _choose(group, rows, habit, unproved, budget)
    if chosen is None:
        return []
    way, standings, sure = chosen
    places = np.array(group.places)
    out = []
    for number, (one, standing) in enumerate(zip(group.files, standings, strict=True)):
        alone = len(group.files) - standings.count(Standing.PROVED) == 1
        if standing != Standing.PROVED and Standing.PROVED in standings and not (group.closed and alone):
            continue  # what lies among them may belong to yet another
        extents = cut(join(Extent(at, cluster) for at in places[way.labels == number].tolist()), one.size)
        others = " and ".join(other.name for other in group.files if other is not one)
        seen = [
            evidence(Clue.BY_TURNS, others, way.sort.manner, way.sort.pieces, len(extents)),
            *of_names(one.evidence),
        ]
        confidence = _PROVED if standing == Standing.PROVED else sure
        out.append(
            replace(one, map=FileMap.of(extents, one.size), confidence=confidence, sound=one.size, evidence=seen)
        )
    return out


def _choose(
    group: Group, rows: NDArray[np.uint8], habit: Habit, unproved: bool, budget: Budget
) -> tuple[Way, list[Standing], float] | None:  # fmt: skip
    """The one way that is left or likeliest, how the files stand on it, and how sure it is."""
    firsts, needs = group.firsts, group.needs
    told = [*_by_clusters(group, rows)]
    if not (unproved or told or any(map(_tells, group.files))):
        return None
    straight = np.repeat(np.arange(len(needs), dtype=np.int8), needs)
    if standing_of(group.files[0], straight, rows, 0) == Standing.PROVED:
        return None  # what begins inside of it is nothing
    sorts: dict[bytes, list[Sort]] = {}
    for way in (*told, *ways(firsts, needs)):
        sorts.setdefault(way.labels.tobytes(), []).append(way.sort)
    near = habit.near(group.places[0])
    likely = sorted(sorts, key=lambda key: not near & {*sorts[key]})  # what those nearby did first
    expected = [key for key in likely if near & {*sorts[key]}] if group.closed and not told else []
    for keys, sure in ((expected, _BY_HABIT), ([way.labels.tobytes() for way in told] or likely, _LIKELY)):
        tried = _try(group, rows, keys, budget)
        most = max((standings.count(Standing.PROVED) for standings in tried.values()), default=0)
        left = [key for key, one in tried.items() if Standing.BROKEN not in one and one.count(Standing.PROVED) == most]
        if not left or not (most or unproved):
            continue
        fewest = min(tried[key].count(Standing.OPEN) for key in left)
        left = [key for key in left if tried[key].count(Standing.OPEN) == fewest]
        if not most and any(
            _tells(one) and Standing.OPEN in (tried[key][number] for key in left)
            for number, one in enumerate(group.files)
        ):
            continue  # in none of these ways it is whole: they took turns in another
        bits = sorted((_bits(group, np.frombuffer(key, np.int8), rows), key) for key in left)
        key = bits[0][1]
        if keys is not expected and not told and most < len(needs) - 1:
            margin = bits[1][0] - bits[0][0] if len(bits) > 1 else CLEAR * (len(tried) > 1)
            if margin < (CLEAR if group.closed else _PLAIN) or len(needs) > 2:
                continue
        if most:
            habit.learn(group.places[0], sorts[key])
        return Way(sorts[key][0], np.frombuffer(key, np.int8)), tried[key], _REST_PROVED if most else sure
    return None


def _try(
    group: Group, rows: NDArray[np.uint8], keys: Sequence[bytes], budget: Budget
) -> dict[bytes, list[Standing]]:  # fmt: skip
    """How the files stand on each of some ways, by its labels, up to as many as may be measured, and until one proves
    all of them."""
    out: dict[bytes, list[Standing]] = {}
    for key in keys[: max(_MOST_MEASURED // group.bytes, _FEWEST_WAYS)]:
        if budget.spent:
            break
        labels = np.frombuffer(key, np.int8)
        out[key] = [standing_of(one, labels, rows, number, budget) for number, one in enumerate(group.files)]
        if all(standing == Standing.PROVED for standing in out[key]):
            return {key: out[key]}
    for number in range(len(group.files)) if len(keys) > 1 else ():
        # That one is broken everywhere tells nothing about where it lies.
        if all(standings[number] == Standing.BROKEN for standings in out.values()):
            for standings in out.values():
                standings[number] = Standing.OPEN
    return out


def standing_of(
    one: Finding, labels: Labels, rows: NDArray[np.uint8], number: int, budget: Budget | None = None
) -> Standing:  # fmt: skip
    """How a file stands on the clusters that are labelled with its number. `budget` is charged what is looked at."""
    own = np.flatnonzero(labels == number)
    bits = _followed(one, rows, own, budget)
    if bits is None:
        return Standing.BROKEN
    source = BytesSource(rows[own].tobytes()[: one.size])
    if budget is not None:
        budget.spend(one.size, one.kind)
    textual = is_text(one)
    if textual:
        text = kind_named("txt")
        found = text.measure(source, False) if text.measure else None
        if found is None or found.length < one.size:
            return Standing.BROKEN
    measure = recognise(source, deep=True)
    if measure is None:
        return Standing.FITS if textual else Standing.OPEN
    if not (measure.whole and measure.length == one.size):
        return Standing.BROKEN
    proved = measure.proof in LOOKED_THROUGH or bits > _FAR_FROM_CHANCE
    return Standing.PROVED if proved and not textual else Standing.FITS


def _followed(
    one: Finding, rows: NDArray[np.uint8], own: NDArray[np.int64], budget: Budget | None
) -> float | None:  # fmt: skip
    """What the checks of a file of a kind that can be followed are worth on these rows, in bits; None if it goes wrong
    on them, which shows soon."""
    begun = kinds_begun(BytesSource(rows[own[0]].tobytes())) if len(own) else []
    begin = next((kind.follow for kind in begun if kind.follow is not None), None)
    if begin is None:
        return 0.0
    follower = begin()
    for at in range(0, len(own), _FED):
        data = rows[own[at : at + _FED]].tobytes()
        follower.feed(data[: one.size - follower.fed])
        if follower.wrong is not None or follower.end is not None:
            break
    if budget is not None:
        budget.followed(follower.work, follower.cost)
    early = follower.end is not None and follower.end < one.size
    wrong = follower.wrong is not None and follower.wrong <= one.size and not follower.suspected
    return None if early or wrong else follower.bits * follower.saw_most()


def _tells(one: Finding) -> bool:
    """Whether content of a file's kind shows where it does not lie."""
    kind = all_kinds().get(one.kind)
    return can_prove_itself(one.kind) or (kind is not None and measuring_kind(kind).follow is not None)


def read_clusters(medium: Medium, places: Sequence[int], cluster: int) -> NDArray[np.uint8]:
    """What stands on clusters, by their first byte. Shape: (clusters, bytes)."""
    data = medium.read_extents(join(Extent(at, cluster) for at in places))
    return np.frombuffer(data.ljust(len(places) * cluster, b"\0"), np.uint8).reshape(-1, cluster)


def entropy_bits(one: Finding, labels: Labels, rows: NDArray[np.uint8], number: int) -> float:
    """What it takes to write down the clusters that are labelled with a file's number, its bytes (by their place among
    four) coded by how they are distributed: the less, the better they go together."""
    own = np.flatnonzero(labels == number)
    cluster = rows.shape[1]
    end = cluster - -one.size % cluster
    last = rows[own[-1]]
    bits = -_SLACK if end < cluster and last[end - 1] and not last[end:].any() else 0.0
    some = own[:: max(len(own) // _MOST_COMPARED, 1)]
    data = rows[some].reshape(-1, 4)
    for column in range(4):
        counts = np.bincount(data[:, column], minlength=256)
        counts = counts[counts > 0]
        bits += float((counts * np.log2(counts.sum() / counts)).sum()) * len(own) / len(some)
    return bits


def _bits(group: Group, labels: Labels, rows: NDArray[np.uint8]) -> float:
    return sum(entropy_bits(one, labels, rows, number) for number, one in enumerate(group.files))
