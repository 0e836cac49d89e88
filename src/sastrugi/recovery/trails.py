"""Where a file in pieces goes on: followed from its start along free clusters, and elsewhere from where it broke.

A trail is a file as far as it was followed, with the clusters that took it there. Where it goes wrong, or another file
begins, it may have ended some clusters before; from each of these ends every free cluster behind is tried. What passes
so many checks that chance would not is gone on from at once; else the ways that came furthest are, best first. All of
this is one search in depth: whatever comes to nothing is gone back from, until the budget is spent.
"""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Callable, Container, Iterable, Iterator
from dataclasses import dataclass, replace
from itertools import chain

import numpy as np
from numpy.typing import NDArray

from sastrugi.kinds.base import BytesSource
from sastrugi.kinds.following import Follower
from sastrugi.kinds.registry import kinds_begun
from sastrugi.media import Extent, Medium, RangeSet
from sastrugi.media.extents import cut, join
from sastrugi.recovery.cluster_looks import BARE, Looks, likely_for
from sastrugi.recovery.confidence import TEXT_BYTES

_AT_ONCE, _BLOCKS = 32, 64
"""Clusters that are read together, and such blocks that are kept."""
_LOOK = 64 << 10
"""Bytes that a way is tried for."""
_MOST_BACK = 96 << 10
"""Bytes in front of a break in which a piece may have ended."""
_BLIND = 64 << 10
"""Bytes of which none was checked: where a piece ends among so many cannot be told."""
ENOUGH = 18.0
"""Bits that a way gained when it is taken for right: of thousands that are tried none comes so far by chance."""
_SOME, _LOST = 1.0, -60.0
_NEAR, _NEAR_BYTES = 512, 1 << 20
"""Clusters, or as many as have so many bytes, behind a piece in which the next one is looked for."""
_LATE_BYTES = 4 << 10
"""Bytes in front of a break in which a piece likely ended."""
_CHEAP = 5.0
"""Nanoseconds for a byte of a kind that is looked at here and there only."""
_CLEARLY = 0.25
"""Bits for a byte by which clusters that are left out look less like the file than others."""
_LATE, _BEST, _MOST_PIECES = 4, 3, 400
_FED = 16
_MOST_FED = 256 << 20
"""Bytes of a file, whatever a record says."""
_LOOK_COST = 17.0
"""Nanoseconds that a byte takes for the look of its cluster."""
_GLANCES = 4
"""Tries that came to nothing at a glance, which cost as much as one that did not."""
_SECTOR, _TEXT = 512, 16
_NONE, _LIKELY, _UNLIKELY = range(3)
"""What a cluster is as the beginning of a piece."""


class FreeClusters:
    """The clusters from a byte on that nobody owns, by their number; and what stands in them."""

    def __init__(
        self, medium: Medium, taken: RangeSet, start: int, cluster: int, end: int, looks: Looks | None = None
    ) -> None:  # fmt: skip
        """`looks` is what all searches on a medium know of how its clusters look."""
        self._looks = looks or Looks()
        self._medium, self._taken, self._cluster, self._end = medium, taken, cluster, end
        self._at = start
        self._places: list[int] = []
        self._blocks: OrderedDict[int, bytes] = OrderedDict()

    def place(self, number: int) -> int | None:
        """The first byte of a cluster; None behind the last one."""
        while number >= len(self._places) and self._at < self._end:
            reach = Extent(self._at, min(4096 * self._cluster, self._end - self._at))
            for gap in self._taken.gaps(reach):
                first = self._at + -(-(gap.offset - self._at) // self._cluster) * self._cluster
                self._places += range(first, gap.end - self._cluster + 1, self._cluster)
            self._at = reach.end
        return self._places[number] if number < len(self._places) else None

    def read(self, number: int) -> bytes:
        """What stands in a cluster."""
        block = number // _AT_ONCE
        data = self._blocks.get(block)
        if data is None:
            self.place((block + 1) * _AT_ONCE - 1)
            own = self._places[block * _AT_ONCE : (block + 1) * _AT_ONCE]
            runs = join(Extent(at, self._cluster) for at in own)
            data = b"".join(self._medium.read(at, length).ljust(length, b"\0") for at, length in runs)
            self._blocks[block] = data
            if len(self._blocks) > _BLOCKS:
                self._blocks.popitem(last=False)
        first = number % _AT_ONCE * self._cluster
        return data[first : first + self._cluster]

    def looks(self, number: int) -> tuple[NDArray[np.uint32], int]:
        """How the clusters look that are read together with one, shape (clusters,), and how many of them nobody had
        looked at."""
        block = number // _AT_ONCE
        self.place((block + 1) * _AT_ONCE - 1)

        def rows() -> NDArray[np.uint8]:
            self.read(number)
            return np.frombuffer(self._blocks[block], np.uint8).reshape(-1, self._cluster)

        return self._looks.of(self._places[block * _AT_ONCE : (block + 1) * _AT_ONCE], self._cluster, rows)


class Walls:
    """Where other files begin: the first bytes that something says files begin at, and at which what stands there can
    begin one. (What records say of files that were written over since is none.)"""

    def __init__(self, medium: Medium, places: Iterable[int | None]) -> None:
        self._medium = medium
        self.in_order = sorted({place for place in places if place is not None})
        self._known = dict.fromkeys(self.in_order)
        self._begins: dict[int, bool] = {}

    def __contains__(self, place: object) -> bool:
        if place not in self._known or not isinstance(place, int):
            return False
        if place not in self._begins:
            self._begins[place] = self._can_begin(self._medium.read(place, _SECTOR))
        return self._begins[place]

    @staticmethod
    def _can_begin(head: bytes) -> bool:
        marked = any(not kind.framed for kind in kinds_begun(BytesSource(head)))
        return marked or not head[:_TEXT].strip(TEXT_BYTES)


@dataclass(frozen=True, slots=True)
class Farthest:
    """How far a file was followed: to the byte `reached`, on `places`. Going on from there gained `gained` bits at
    most; `tried` clusters were tried in all."""

    reached: int
    places: tuple[Extent, ...]
    gained: float
    tried: int


@dataclass(frozen=True, slots=True)
class _State:
    """A file as far as it was followed: on runs of clusters, (number of the first, count). `guessed`: which clusters
    they leave out could not be told."""

    follower: Follower
    runs: tuple[tuple[int, int], ...]
    guessed: bool = False

    @property
    def last(self) -> int:
        first, count = self.runs[-1]
        return first + count - 1


class Trails:
    """One file. `size` is what a record says, or None; at `walls` (first bytes of clusters) other files begin. `spend`
    is told the bytes of each try, and says whether another one may be made; `tried` counts them."""

    def __init__(
        self, free: FreeClusters, begun: Follower, cluster: int, size: int | None, walls: Container[int],
        spend: Callable[[int], bool],
    ) -> None:  # fmt: skip
        self._free, self._begun, self._cluster, self._size = free, begun, cluster, size
        self._walls, self._spend = walls, spend
        self._spent = False
        self._glances = 0
        self._likely = likely_for(type(begun))
        self._begins = bytearray()
        """Of each cluster, whether a piece may begin there."""
        self.tried = 0
        self._farthest: tuple[int, _State] | None = None
        self._gained = 0.0
        self.open = False
        """Whether the last way came to no end: nothing was found with which the file goes on."""

    def ways(self) -> Iterator[tuple[tuple[Extent, ...], bool]]:
        """The places on which the file comes to its end, the likeliest first, and whether checks told of all parts of
        it. It begins on the first free cluster."""
        if self._free.place(0) is None:
            return
        begun = self._fed(_State(self._begun, ()), 0, 1)
        stack = [iter([begun])]
        came = [begun]
        over = 0
        while stack and not self._spent:
            state = next(stack[-1], None)
            if state is None:
                stack.pop()
                last = came.pop()
                if last.follower.fed > over and self._may_be_over(last):
                    self.open = True
                    yield self._places(last, last.follower.wrong or last.follower.fed), self._is_sure(last)
                    self.open = False
                over = max(over, last.follower.fed)
                continue
            last, ends = self._straight(state)
            reached = self._reaches(last)
            whole = self._whole(last)
            if whole:
                yield self._places(last, whole), self._is_sure(last)
            elif len(stack) < _MOST_PIECES:
                stack.append(chain(self._elsewhere(ends, reached), self._all_the_same(last, ends)))
                came.append(last)

    def farthest(self) -> Farthest:
        """How far it came."""
        reached, state = self._farthest or (0, None)
        return Farthest(reached, self._places(state, reached) if state else (), self._gained, self.tried)

    def _reaches(self, state: _State) -> int:
        """The byte up to which nothing is wrong, which is remembered if none came so far."""
        follower = state.follower
        reached = follower.fed if follower.wrong is None else min(follower.wrong, follower.fed)
        if self._farthest is None or reached > self._farthest[0]:
            self._farthest, self._gained = (reached, state), 0.0
        return reached

    @staticmethod
    def _is_sure(state: _State) -> bool:
        return state.follower.saw_most() and not state.guessed

    def _may_be_over(self, state: _State) -> bool:
        """Whether a file of which nothing says how long it is may end here, where nothing goes on with it."""
        return self._size is None and not state.follower.ends and not self._spent

    def _whole(self, state: _State) -> int:
        """Bytes of the file, if it came to its end."""
        follower = state.follower
        if self._size is not None:
            ended = follower.end == self._size or (follower.end is None and not follower.ends)
            return self._size if follower.fed >= self._size and follower.wrong is None and ended else 0
        return follower.end or 0

    def _places(self, state: _State, length: int) -> tuple[Extent, ...]:
        places = (
            Extent(place, self._cluster)
            for first, count in state.runs
            for n in range(first, first + count)
            if (place := self._free.place(n)) is not None
        )
        return cut(join(places), length)

    def _fed(self, state: _State, number: int, count: int) -> _State:
        """The state after so many clusters more."""
        follower = state.follower.copy()
        data = b"".join(map(self._free.read, range(number, number + count)))
        follower.feed(data if self._size is None else data[: max(self._size - follower.fed, 0)])
        first, before = state.runs[-1] if state.runs else (number, 0)
        if first + before == number:
            return _State(follower, (*state.runs[:-1], (first, before + count)), state.guessed)
        return _State(follower, (*state.runs, (number, count)), state.guessed)

    def _room(self, number: int, most: int) -> int:
        """Clusters from one on up to the next wall, or the end."""
        for count in range(most):
            place = self._free.place(number + count)
            if place is None or place in self._walls:
                return count
        return most

    def _is_over(self, follower: Follower) -> bool:
        told = self._size is not None and follower.fed >= self._size
        return told or follower.wrong is not None or follower.end is not None

    def _straight(self, state: _State) -> tuple[_State, list[_State]]:
        """Follow a file as far as it goes without a gap. Returns where that ends, and the states in which its piece may
        have ended, the last first."""
        coarse = [state]
        while not self._is_over(coarse[-1].follower) and not self._spent:
            before = coarse[-1]
            count = self._room(before.last + 1, _FED)
            if not count or before.follower.fed > _MOST_FED:
                break
            coarse.append(self._fed(before, before.last + 1, count))
            self._charge(coarse[-1].follower.work - before.follower.work)
            del coarse[: -(_MOST_BACK // (_FED * self._cluster) + 3)]  # earlier ones are not gone back to
        last = coarse[-1]
        if self._whole(last):
            return last, []
        follower = last.follower
        breaks = follower.fed if follower.wrong is None else min(follower.wrong, follower.fed)
        earliest = max(follower.right, breaks - _MOST_BACK, state.follower.fed)
        ends: list[_State] = []
        at = max((n for n, one in enumerate(coarse) if one.follower.fed <= earliest), default=0)
        one = coarse[at]
        while one.follower.fed <= breaks and one.follower.wrong is None and one.follower.end is None:
            if one.follower.fed >= earliest and one.follower.fed % self._cluster == 0:
                ends.append(one)
            if one.follower.fed + self._cluster > breaks or not self._room(one.last + 1, 1):
                break
            one = self._fed(one, one.last + 1, 1)
        blind = len(ends) > 1 and ends[-1].follower.bits == ends[0].follower.bits and breaks - earliest > _BLIND
        return last, [] if blind else ends[::-1]

    def _charge(self, count: int) -> None:
        if not self._spend(max(count, self._cluster)):
            self._spent = True

    def _elsewhere(self, ends: list[_State], reached: int) -> Iterator[_State]:
        """The states after one more cluster, behind a gap: what is surely right as soon as it is come upon, then what
        came furthest."""
        for some, (nearest, farthest), wanted in self._stages(ends):
            ranked: list[tuple[float, int, int, _State]] = []
            behind = [end.last + 1 for end in some]
            for gap in range(nearest, farthest):
                if self._spent or not self._looked_at(max(behind) + gap):
                    break
                sure: list[tuple[_State, _State]] = []
                for order, number in enumerate(behind):
                    if self._begins[number + gap] != wanted:
                        continue
                    gained, state = self._tried(some[order], number + gap)
                    if self._farthest is not None and reached == self._farthest[0]:
                        self._gained = max(self._gained, gained)
                    if gained >= ENOUGH:
                        sure.append((some[order], state))
                    elif gained >= _SOME:
                        ranked.append((-gained, gap, order, state))
                if sure:
                    yield from self._by_what_is_left_out(sure, gap)
            ranked.sort(key=lambda one: one[:3])
            for *_, state in ranked[:_BEST]:
                yield state

    def _looked_at(self, number: int) -> bool:
        """Look at the clusters up to one, whether a piece may begin on them; False behind the last."""
        while number >= len(self._begins):
            first = len(self._begins)
            places = [self._free.place(first + n) for n in range(_AT_ONCE)]
            there = [place for place in places if place is not None]
            if there:
                looks, new = self._free.looks(first)
                likely = self._likely(looks)
                bare = looks & BARE != 0
                self._charge(int(new * self._cluster * _LOOK_COST / self._begun.cost))
                self._begins += bytes(
                    _NONE
                    # (packed files have bare clusters, but seldom begin a piece with one)
                    if place in self._walls or (bare[n] and self._begun.packed)
                    else _LIKELY
                    if likely[n]
                    else _UNLIKELY
                    for n, place in enumerate(there)
                )
            if len(there) < _AT_ONCE:
                self._begins += bytes(_AT_ONCE)  # such clusters are none
                return number < first + len(there)
        return self._free.place(number) is not None

    def _all_the_same(self, last: _State, ends: list[_State]) -> Iterator[_State]:
        """The file goes on without a gap, where that only seemed wrong."""
        if last.follower.suspected and ends and self._room(ends[0].last + 1, 1):
            state = _State(ends[0].follower.forgiven(), ends[0].runs, ends[0].guessed)
            yield self._fed(state, state.last + 1, 1)

    def _stages(self, ends: list[_State]) -> Iterator[tuple[list[_State], tuple[int, int], int]]:
        """Ends and gaps that are tried together, and whether behind these on clusters that are likely the file's or on
        the others; what promises most first."""
        # Where few bytes are looked at, a piece may have ended long before; then all of its ends cost little.
        most = len(ends) if ends and ends[0].follower.cost <= _CHEAP else max(_LATE, _LATE_BYTES // self._cluster)
        late, early = ends[:most], ends[most:]
        near = max(_NEAR, _NEAR_BYTES // self._cluster)
        stages = (
            (late, (1, near // 8), _LIKELY), (early, (1, near // 8), _LIKELY), (late, (near // 8, near), _LIKELY),
            (late, (near, 4 * near), _LIKELY), (late, (1, near), _UNLIKELY), (early, (near // 8, near), _LIKELY),
        )  # fmt: skip
        for some, gaps, wanted in stages:
            if some:
                yield some, gaps, wanted

    def _by_what_is_left_out(self, ways: list[tuple[_State, _State]], gap: int) -> Iterator[_State]:
        """Ways that are equally sure, as a check tells of many clusters at once: first that which leaves out what looks
        least like the rest of the file."""
        if len(ways) > 1:
            own = min(ways, key=lambda way: way[0].last)[0]
            numbers = [n for first, count in own.runs[-_AT_ONCE:] for n in range(first, first + count)][-_AT_ONCE:]
            bits = _bits_of(b"".join(map(self._free.read, numbers)))
            strange = [
                sum(float(bits[np.frombuffer(self._free.read(end.last + 1 + n), np.uint8)].mean()) for n in range(gap))
                for end, _ in ways
            ]
            order = sorted(range(len(ways)), key=lambda n: -round(strange[n], 2))
            clear = strange[order[0]] - strange[order[1]] > _CLEARLY
            ways = [(ways[n][0], ways[n][1] if clear else replace(ways[n][1], guessed=True)) for n in order]
        for _, state in ways:
            yield state

    def _tried(self, end: _State, number: int) -> tuple[float, _State]:
        """How many bits going on with a cluster, and what is behind it, is worth; and the state after that cluster."""
        self.tried += 1
        data = self._free.read(number)
        if not end.follower.could_go_on(data if self._size is None else data[: self._size - end.follower.fed]):
            self._glances += 1
            if self._glances % _GLANCES == 0:
                self._charge(self._cluster)
            return 0.0, end
        first = state = self._fed(end, number, 1)
        before = end.follower.bits
        while not self._is_over(state.follower) and _LOST < state.follower.bits - before < ENOUGH:
            fed = state.follower.fed - end.follower.fed
            count = self._room(state.last + 1, min(max(fed // self._cluster, 1), 4)) if fed < _LOOK else 0
            if not count:
                break
            state = self._fed(state, state.last + 1, count)
        follower = state.follower
        self._charge(follower.work - end.follower.work)
        gained = follower.bits - before
        if first.follower.wrong is not None and first.follower.wrong <= end.follower.fed + 8:
            gained = 0.0
        if self._whole(state):
            gained += ENOUGH
        return gained, first


def _bits_of(data: bytes) -> NDArray[np.float64]:
    """What it takes to write down each byte, by how often it stands in some data. Shape: (256,)."""
    counts = np.bincount(np.frombuffer(data, np.uint8), minlength=256) + 1.0
    out: NDArray[np.float64] = -np.log2(counts / counts.sum())
    return out
