"""Finds the clusters of files in pieces whose content proves nothing. A record tells where each begins, and its size.

Nothing inside of such a file can be checked, but much is known of it. It begins on its first cluster. It takes as many
as its size needs. It ends so many bytes into its last one, with zeros behind. A `Reading` (of text, of any bytes) tells
how well one cluster goes on behind another. All chains of that many clusters are weighed at once: a lattice of clusters
by how many came before, as for hidden Markov models (Rabiner 1989, sections III A and III B). So the best one is known,
and how likely it is among all.
"""

from __future__ import annotations

import math
from abc import ABC, abstractmethod
from bisect import bisect_left
from collections.abc import Container, Iterator, Sequence
from dataclasses import dataclass, replace
from itertools import pairwise
from typing import Any, Generic, TypeVar

import numpy as np
from numpy.typing import NDArray

from sastrugi.kinds import Measure, recognise
from sastrugi.kinds.base import BytesSource
from sastrugi.media import Extent, Medium, RangeSet
from sastrugi.media.extents import cut, join
from sastrugi.media.filemap import FileMap
from sastrugi.recovery.by_turns import Standing, is_text, read_clusters, standing_of
from sastrugi.recovery.effort import Effort
from sastrugi.recovery.evidence import Clue, evidence, of_names
from sastrugi.recovery.findings import Finding
from sastrugi.recovery.placing import as_placed

_FEWEST, _TIMES, _MOST = 192, 3, 1536
"""Clusters that may be the file's: so many, or as many times those that it needs; and the most."""
MOST_PASSED = 4096
"""Free clusters that are looked through for them."""
_MOST_NEEDED = 1024
"""Clusters of a file."""
_AT_ONCE = 64
_MOST_HELD, _MOST_SEAMS, _MOST_LOOKS = 8 << 20, 1 << 19, 1 << 17
"""Bytes of clusters that are held taken apart, seams, and looks: before they are more all are forgotten."""
_BREAK = 0.05
"""How often a piece of some file ends between two neighbours."""
_JUMP, _FARTHER, _AROUND = -2.0, -0.5, -1.0
"""Bits that a chain pays: for a gap; for each doubling of the clusters in the gap; for clusters that cannot be the
file's, which it passes over."""
_MOST_ENDS, _MOST_BITS = 128, 8.0
"""Places where a piece may end, of one file; bits that one seam is worth."""
_FILE, _LATTICE = 200_000.0, 25.0
"""Nanoseconds for a file, whatever comes of it, and for each step of its lattice."""
_NEVER = -1e9
_WAYS = 32
"""Chains of one file that its structure is asked about."""
CLEARLY, PERHAPS = 0.95, 0.5
"""Probabilities of a chain from which on it is taken for right, or for the best guess."""
_CLEAR, _UNCLEAR = 0.9, 0.6


Look = TypeVar("Look")
"""What is known of any cluster."""
Cluster = TypeVar("Cluster")
"""What is known of a cluster that was taken apart."""


class Reading(ABC, Generic[Look, Cluster]):
    """How clusters are judged as parts of files of one sort. Costs are nanoseconds: `seam` of each seam, `taken_apart`
    of each cluster and `of_byte` of each of its bytes, `looked_at` of each byte that is only looked at. Neighbours that
    are worth `smooth` bits are not parted."""

    seam: float
    taken_apart: float
    of_byte: float
    looked_at: float
    smooth: float

    @abstractmethod
    def looks(self, rows: NDArray[np.uint8]) -> list[Look]:
        """What is to be known of clusters, shape (clusters, bytes), to tell whether they can be a file's."""

    @abstractmethod
    def is_inside(self, look: Look) -> bool:
        """Whether such a cluster can lie inside of a file."""

    @abstractmethod
    def ends(self, look: Look, rest: int) -> bool:
        """Whether a file can end so many bytes into such a cluster."""

    @abstractmethod
    def apart(self, data: bytes) -> Cluster:
        """A cluster that lies here, as `bits` takes it."""

    @abstractmethod
    def last(self, data: bytes) -> Cluster:
        """The same of the bytes of a file in its last cluster."""

    @abstractmethod
    def bits(self, a: Cluster, b: Cluster) -> float:
        """How much likelier it is that `b` goes on where `a` ends than that it is another's: the binary logarithm of
        the odds."""


@dataclass(frozen=True, slots=True)
class Chain:
    """The clusters of a file, by their first bytes; the probability that it is these, if it is any; and the measure of
    its content where that proves them, with how many chains were tried for that."""

    places: tuple[int, ...]
    probability: float
    proof: Measure | None = None
    tried: int = 1

    def laid(self, file: Finding, cluster: int) -> Finding:
        """The file on these clusters."""
        extents = cut(join(Extent(at, cluster) for at in self.places), file.size)
        if self.proof is not None:
            return as_placed(file, self.proof, extents, Clue.BY_STRUCTURE, self.tried)
        clear = self.probability >= CLEARLY
        clue = Clue.READS_ON if clear else Clue.READS_ON_PERHAPS
        seen = [evidence(clue, math.floor(100 * self.probability), len(extents)), *of_names(file.evidence)]
        where = FileMap.of(extents, file.size)
        sure = _CLEAR if clear else _UNCLEAR
        return replace(file, map=where, confidence=sure, sound=file.size if clear else 0, evidence=seen)


@dataclass(frozen=True, slots=True)
class _Candidates:
    """The clusters that may be a file's, by their first bytes in order: those inside of it, and those that it may end
    in, `rest` bytes into them."""

    inside: list[int]
    ends: list[int]
    rest: int


class Chains(Generic[Look, Cluster]):
    """Finds chains on one volume. `end` is where it ends; at `walls` (first bytes of clusters) other files begin."""

    def __init__(
        self, reading: Reading[Look, Cluster], medium: Medium, cluster: int, end: int, walls: Container[int],
        effort: Effort,
    ) -> None:  # fmt: skip
        self.reading = reading
        self._medium, self._cluster, self._end, self._walls, self._effort = medium, cluster, end, walls, effort
        self._apart: dict[int, Cluster] = {}
        self._bits: dict[tuple[int, int, int], float] = {}
        self._looks: dict[int, Look] = {}

    def find(self, file: Finding, taken: RangeSet, most: float = math.inf) -> Chain | None:
        """The best chain for a file on clusters that are not `taken`. None where there is no chain, where the kind of
        the file contradicts it, or where the search would cost more than `most` (nanoseconds)."""
        start, size = file.map.start or 0, file.size
        need = -(-size // self._cluster)
        self._effort.left -= _FILE
        if not 2 <= need <= _MOST_NEEDED or self._effort.spent:
            return None
        found = self._candidates(start, need, (size - 1) % self._cluster + 1, taken)
        if found is None or not found.ends:
            return None
        cost = self.reading.taken_apart + self.reading.of_byte * self._cluster
        if len(self._apart) * self._cluster > _MOST_HELD or len(self._bits) > _MOST_SEAMS:
            self._apart.clear()
            self._bits.clear()
        new = [place for place in found.inside if place not in self._apart]
        if len(new) * cost > most:
            return None
        for place in new:
            self._effort.left -= cost
            self._apart[place] = self.reading.apart(self._medium.read(place, self._cluster))
        for tried, chain in enumerate(_Lattice(self, found, need).chains(most), 1):
            rows = read_clusters(self._medium, chain.places, self._cluster)
            standing = standing_of(file, np.zeros(need, np.int8), rows, 0)
            self._effort.spend(size, file.kind)
            if standing == Standing.PROVED:
                proof = recognise(BytesSource(rows.tobytes()[:size]), deep=True)
                return replace(chain, proof=proof, tried=tried)
            if standing != Standing.BROKEN:
                return chain
            if self._effort.spent or is_text(file) is not False:  # no other chain of a text can be proved
                break
        return None

    def _candidates(self, start: int, need: int, rest: int, taken: RangeSet) -> _Candidates | None:
        cluster, reading = self._cluster, self.reading
        most = min(max(_FEWEST, _TIMES * need), _MOST, _MOST_HELD // cluster)
        found = _Candidates([], [], rest)
        if len(self._looks) > _MOST_LOOKS:
            self._looks.clear()
        passed = 0
        for gap in taken.gaps(Extent(start, max(self._end - start, 0))):
            first = start + -(-(gap.offset - start) // cluster) * cluster
            for at in range(first, gap.end - cluster + 1, _AT_ONCE * cluster):
                places = range(at, min(at + _AT_ONCE * cluster, gap.end - cluster + 1), cluster)
                for place in places:
                    if place != start and place in self._walls:
                        continue
                    look = self._look(place, places)
                    if reading.is_inside(look):
                        found.inside.append(place)
                    if place != start and reading.ends(look, rest):
                        found.ends.append(place)
                passed += len(places)
                if len(found.inside) >= most or passed >= MOST_PASSED:
                    return found if found.inside[:1] == [start] else None
        return found if found.inside[:1] == [start] else None

    def _look(self, place: int, together: Sequence[int]) -> Look:
        """What a cluster looks like. All those `together` are looked at."""
        if place not in self._looks:
            new = [one for one in together if one not in self._looks]
            self._effort.left -= self.reading.looked_at * len(new) * self._cluster
            rows = read_clusters(self._medium, new, self._cluster)
            self._looks.update(zip(new, self.reading.looks(rows), strict=True))
        return self._looks[place]

    def seam(self, a: int, b: int, rest: int = 0) -> float:
        """Bits of the seam between two clusters by their first bytes; of the second one only `rest` bytes count, if
        that is not 0."""
        key = a, b, rest
        if key not in self._bits:
            self._effort.left -= self.reading.seam
            behind = self.reading.last(self._medium.read(b, rest)) if rest else self._apart[b]
            self._bits[key] = min(self.reading.bits(self._apart[a], behind), _MOST_BITS)
        return self._bits[key]

    def walk(self, steps: int) -> None:
        """So many steps of a lattice are taken."""
        self._effort.left -= _LATTICE * steps

    def are_neighbours(self, a: int, b: int) -> bool:
        return b - a == self._cluster

    @property
    def spent(self) -> bool:
        return self._effort.spent


def _whoever(seam: float) -> float:
    """Bits of a seam between neighbours, whosever they are. One file goes on there, or one ends and another begins."""
    return math.log2(_BREAK + (1 - _BREAK) * 2.0**seam)


class _Lattice:
    """Of each cluster and each count: all chains of so many clusters that end there together, in bits."""

    def __init__(self, owner: Chains[Any, Any], found: _Candidates, need: int) -> None:
        self._owner, self._places, self._ends, self._rest = owner, found.inside, found.ends, found.rest
        self._need = need
        self._seams = [owner.seam(a, b) for a, b in pairwise(self._places)]
        """Bits of each seam between a cluster and the next one in the list."""
        self._before = [
            seam - _whoever(seam) if self._adjoin(n) else seam + _AROUND for n, seam in enumerate(self._seams)
        ]
        """Bits for going on from a cluster to the next one in the list."""
        self._parted = np.array([self._parting(n) for n in range(-1, len(self._places))])
        """Bits for one file ending a piece, or beginning one, between neighbours; by the number of the second one."""
        order = sorted(range(len(self._seams)), key=lambda n: self._seams[n])
        smooth = owner.reading.smooth
        rough = [n for n in order[:_MOST_ENDS] if self._seams[n] < smooth or not self._adjoin(n)]
        self._sources = np.array(sorted({*rough, len(self._places) - 1}))
        self._landings = {n + 1 for n in rough}
        self._best = np.full((len(self._places), need + 1), _NEVER)
        self._every = np.full((len(self._places), need + 1), _NEVER)

    def _adjoin(self, n: int) -> bool:
        return self._owner.are_neighbours(self._places[n], self._places[n + 1])

    def _parting(self, n: int) -> float:
        """Bits for a piece that ends on a cluster, or begins on the next one."""
        if not 0 <= n < len(self._seams) or not self._adjoin(n):
            return 0.0
        return math.log2(_BREAK) - _whoever(self._seams[n])

    def chains(self, most: float) -> Iterator[Chain]:
        """The best chain of all, then others, the likelier the sooner; none where that may take more than `most` of the
        effort."""
        pairs = sum(bisect_left(self._sources, n - 1) for n in self._landings)
        if pairs * (self._owner.reading.seam + _LATTICE * self._need) > most or not self._fill():
            return
        ended = self._ended()
        if not ended:
            return
        told = [(float(self._best[s, self._need - 1]) + bits, s, end) for s, end, bits in ended]
        all_ways = [float(self._every[s, self._need - 1]) + bits for s, _, bits in ended]
        total = float(np.logaddexp2.reduce(all_ways))
        bits, source, end = max(told, key=lambda one: (one[0], -one[1], -one[2]))
        seen = {self._way(source, end, None)}
        yield Chain(next(iter(seen)), float(2.0 ** min(bits - total, 0.0)))
        dice = np.random.default_rng(self._places[0])
        odds = np.exp2(np.array(all_ways) - total)
        for n in dice.choice(len(ended), _WAYS, p=odds / odds.sum()).tolist():
            way = self._way(ended[n][0], ended[n][1], dice)
            if way not in seen:
                seen.add(way)
                yield Chain(way, 0.0)

    def _fill(self) -> bool:
        """Weigh all chains, one cluster after the other; False if the effort does not suffice."""
        best, every, need = self._best, self._every, self._need
        best[0, 1] = every[0, 1] = 0.0
        for n in range(1, len(self._places)):
            best[n, 1:] = best[n - 1, :-1] + self._before[n - 1]
            every[n, 1:] = every[n - 1, :-1] + self._before[n - 1]
            sources = self._sources_of(n)
            if len(sources):
                if self._owner.spent:
                    return False
                self._owner.walk(len(sources) * need)
                bits = self._jumps(sources, n)[:, None]
                best[n, 1:] = np.maximum(best[n, 1:], (best[sources, :-1] + bits).max(axis=0))
                over = np.logaddexp2.reduce(every[sources, :-1] + bits, axis=0)
                every[n, 1:] = np.logaddexp2(every[n, 1:], over)
        return True

    def _sources_of(self, n: int) -> NDArray[np.int64]:
        """From where a chain can come to a cluster behind a gap."""
        return self._sources[: bisect_left(self._sources, n - 1) if n in self._landings else 0]

    def _jumps(self, sources: NDArray[np.int64], n: int) -> NDArray[np.float64]:
        """Bits for going on with a cluster from each source, behind a gap."""
        place = self._places[n]
        seams = np.array([self._owner.seam(self._places[s], place) for s in sources.tolist()])
        parted = self._parted[sources + 1] + self._parted[n]
        out: NDArray[np.float64] = seams + parted + _JUMP + _FARTHER * np.log2(n - sources)
        return out

    def _ended(self) -> list[tuple[int, int, float]]:
        """(last cluster but one, by its number; last cluster; bits of that seam) of all chains; nothing if the effort
        does not suffice."""
        owner, out = self._owner, []
        for end in self._ends:
            behind = bisect_left(self._places, end)
            sources = self._sources[: bisect_left(self._sources, behind)].tolist()
            if behind and owner.are_neighbours(self._places[behind - 1], end) and behind - 1 not in sources:
                sources.append(behind - 1)
            before = self._places[behind - 1] if behind else -1
            seam = owner.seam(before, end, self._rest) if owner.are_neighbours(before, end) else None
            landing = math.log2(_BREAK) - _whoever(seam) if seam is not None else 0.0
            for source in sources:
                if self._best[source, self._need - 1] <= _NEVER / 2:
                    continue
                if owner.spent:
                    return []
                if source == behind - 1 and seam is not None:
                    out.append((source, end, seam - _whoever(seam)))
                    continue
                parted = float(self._parted[source + 1]) + landing
                bits = owner.seam(self._places[source], end, self._rest) + parted
                out.append((source, end, bits + _JUMP + _FARTHER * math.log2(behind - source)))
        return out

    def _way(self, at: int, end: int, dice: np.random.Generator | None) -> tuple[int, ...]:
        """The best chain that comes to a cluster and ends in another one; or one by chance, by how likely it is."""
        self._owner.walk(self._need * len(self._sources))
        weighed = self._best if dice is None else self._every
        out = [end, self._places[at]]
        for count in range(self._need - 1, 1, -1):
            sources = self._sources_of(at)
            before = np.append(sources, at - 1)
            bits = np.append(self._jumps(sources, at), self._before[at - 1]) if len(sources) else self._before[at - 1]
            told = weighed[before, count - 1] + bits
            if dice is None:
                at = int(before[told.argmax()])
            else:
                odds = np.exp2(told - told.max())
                at = int(dice.choice(before, p=odds / odds.sum()))
            out.append(self._places[at])
        return tuple(out[::-1])
