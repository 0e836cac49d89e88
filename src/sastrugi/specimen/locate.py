"""Where known content lies on a medium, found by its blocks alone: no file system is asked.

Every whole 512-byte block of the originals is hashed, then every sector of the medium. Blocks that stand once on the
medium and once among the originals place themselves; from there runs are followed over blocks that stand more often;
what is left is tried at all places that hold its first block, the longest match of all files first. The end of a file,
shorter than a block, follows the block before it, or is looked for by the hash of its first bytes.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from heapq import heapify, heappop, heappush
from itertools import pairwise
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from sastrugi.media import Extent, FileMap, Medium, RangeSet
from sastrugi.media.filemap import UNKNOWN as UNKNOWN_PLACE
from sastrugi.media.filemap import Segment
from sastrugi.media.read_ahead import ahead
from sastrugi.progress import Progress
from sastrugi.specimen.blocks import BLOCK, block_hashes, runs_where
from sastrugi.specimen.catalogue import MOST_PLACES, PIECE, Catalogue
from sastrugi.specimen.ceiling import tells_nothing

_MOST_TRIES = 4000
"""Of one file. Content in so many pieces that also stands elsewhere is left as not found."""
_UNKNOWN = -1


class Piece(NamedTuple):
    """Bytes from `position` of a file on, and where they lie on the medium. `stands`: its bytes are there now."""

    position: int
    extent: Extent
    stands: bool


@dataclass(slots=True)
class Located:
    """What was found of one original: pieces in the order of the file. What no piece covers has no known place;
    `telling` says whether any of that tells something (it is no constant block, and no end of a few bytes)."""

    size: int
    pieces: list[Piece] = field(default_factory=list)
    telling: bool = False

    @property
    def found(self) -> int:
        """Bytes that stand on the medium."""
        return sum(piece.extent.length for piece in self.pieces if piece.stands)

    @property
    def whole(self) -> bool:
        return self.found == self.size

    @property
    def map(self) -> FileMap:
        """Where it lies, or lay."""
        segments: list[Segment] = []
        at = 0
        for position, extent, _ in self.pieces:
            segments += [Segment(position - at, (), UNKNOWN_PLACE), Segment(extent.length, (extent,))]
            at = position + extent.length
        return FileMap.made([*segments, Segment(self.size - at, (), UNKNOWN_PLACE)])

    @property
    def gone(self) -> RangeSet:
        """The parts of the medium where its bytes no longer stand."""
        return RangeSet(piece.extent for piece in self.pieces if not piece.stands)


class Locator:
    """Searches one medium for the originals of a catalogue."""

    def __init__(
        self, catalogue: Catalogue, medium: Medium, progress: Progress,
        beside: Callable[[int, bytes], None] = lambda offset, data: None,
    ) -> None:  # fmt: skip
        """Reads the whole medium once; `beside` is given every piece of it, for what else is to be done with it."""
        self._catalogue, self._medium = catalogue, medium
        self._tail_places: defaultdict[int, list[int]] = defaultdict(list)
        narrow = np.uint32 if medium.size // BLOCK < 1 << 32 else np.int64
        blocks, groups = _Growing(narrow), _Growing(np.int32)
        progress.start("medium", medium.size)
        for offset, data in ahead(_pieces(medium)):
            beside(offset, data)
            hashes = block_hashes(data)
            order = np.argsort(hashes)
            at = np.searchsorted(catalogue.values, hashes[order])
            np.minimum(at, max(len(catalogue.values) - 1, 0), out=at)
            same = catalogue.values[at] == hashes[order] if len(catalogue.values) else np.zeros(len(at), bool)
            back = np.argsort(order[same])
            blocks.add(order[same][back] + offset // BLOCK)
            groups.add(at[same][back])
            self._note_tails(offset, data)
            progress.at(offset + len(data))
            progress.check()
        progress.finish()
        self._blocks, self._groups = blocks.values, groups.values
        self._by_group = np.argsort(self._groups).astype(np.int32)
        self._starts = np.zeros(len(catalogue.values) + 1, np.int32)
        np.cumsum(np.bincount(self._groups, minlength=len(catalogue.values)), out=self._starts[1:])
        self._claimed = np.zeros(len(self._blocks), bool)
        self._free = np.diff(self._starts)
        """Of each group, how many blocks of the medium no file has taken yet."""
        self._claimed_tails: set[int] = set()

    def _note_tails(self, offset: int, data: bytes) -> None:
        for window, index in self._catalogue.tails.items():
            for at, owners in index.hits(window.hashes(data)):
                for n in owners:
                    places, tail = self._tail_places[n], self._catalogue.tails_of[n]
                    if len(places) < MOST_PLACES and data[at * BLOCK : at * BLOCK + len(tail)] == tail:
                        places.append(offset // BLOCK + at)

    def locate(self, hints: dict[int, FileMap], progress: Progress) -> list[Located]:
        """Where each original lies. `hints` tell for some of them where a file system says so: such a place is taken
        before others that hold the same bytes, and for parts that no longer stand."""
        out = [Located(original.size) for original in self._catalogue.originals]
        order = sorted(range(len(out)), key=lambda n: n not in hints)
        places = _Places(self, hints)
        progress.start("places", 2 * len(out), "files")
        for done, n in enumerate(order, 1):
            places.place(n)
            progress.at(done)
            progress.check()
        places.settle_rivals(progress)
        for done, n in enumerate(order, len(out) + 1):
            out[n].pieces, out[n].telling = self._finish(n, places)
            progress.at(done)
            progress.check()
        progress.finish()
        return out

    def _finish(self, n: int, places: _Places) -> tuple[list[Piece], bool]:
        """The pieces of a file of which the blocks are placed, and whether anything is left that tells something."""
        groups, hinted, place = places.of(n)
        stands = place >= 0
        self._bridge(n, groups, place, stands, hinted)
        pieces = _as_pieces(place, stands)
        tail = self._place_tail(n, place, hinted)
        lost = bool(((groups >= 0) & (place < 0)).any())
        if tail is None:
            return pieces, lost or not tells_nothing(self._catalogue.tails_of[n])
        return [*pieces, tail], lost

    def _place_single(self, groups: NDArray[np.int32], place: NDArray[np.int64]) -> None:
        """Blocks that stand once on the medium and once among the originals."""
        known = np.flatnonzero(groups >= 0)
        of = groups[known]
        single = (self._starts[of + 1] - self._starts[of] == 1) & self._catalogue.used_once[of]
        hits = self._by_group[self._starts[of[single]]]
        place[known[single]] = self._blocks[hits]
        self._claimed[hits] = True
        self._free[of[single]] = 0

    def _matches(self, groups: NDArray[np.int32], lo: int, hi: int, delta: int) -> NDArray[np.bool_]:
        """Which of the blocks [lo, hi) stand at their number plus `delta`, where nothing else was put yet. A constant
        block goes with its neighbours here, and is looked at later."""
        wanted = np.arange(lo + delta, hi + delta)
        if not len(self._blocks) or lo + delta < 0:
            return np.zeros(hi - lo, bool)
        wanted = wanted.astype(self._blocks.dtype)
        at = np.minimum(np.searchsorted(self._blocks, wanted), max(len(self._blocks) - 1, 0))
        same = (self._blocks[at] == wanted) & (self._groups[at] == groups[lo:hi]) & ~self._claimed[at]
        out: NDArray[np.bool_] = same | (groups[lo:hi] < 0)
        return out

    def _take(self, groups: NDArray[np.int32], place: NDArray[np.int64], lo: int, hi: int, delta: int) -> None:
        """Put the blocks [lo, hi) at their numbers plus `delta`; constant ones wait."""
        numbers = np.arange(lo, hi)[groups[lo:hi] >= 0]
        place[numbers] = numbers + delta
        self._claimed[np.searchsorted(self._blocks, (numbers + delta).astype(self._blocks.dtype))] = True
        np.subtract.at(self._free, groups[numbers], 1)

    def _follow(self, groups: NDArray[np.int32], place: NDArray[np.int64]) -> list[tuple[int, int]]:
        """Place blocks that stand more than once: on from their neighbours. The runs that are left, of which any block
        stands somewhere."""
        counts = np.zeros(len(groups), np.int64)
        known = groups >= 0
        counts[known] = self._starts[groups[known] + 1] - self._starts[groups[known]]
        left: list[tuple[int, int]] = []
        for first, behind in runs_where(place < 0):
            lo, hi = first, behind
            if not counts[lo:hi].any():
                continue
            if lo and place[lo - 1] >= 0:
                delta = int(place[lo - 1]) - (lo - 1)
                lead = _leading(self._matches(groups, lo, hi, delta))
                self._take(groups, place, lo, lo + lead, delta)
                lo += lead
            if hi < len(place) and lo < hi and place[hi] >= 0:
                delta = int(place[hi]) - hi
                trail = _leading(self._matches(groups, lo, hi, delta)[::-1])
                self._take(groups, place, hi - trail, hi, delta)
                hi -= trail
            if lo and hi < len(place) and place[lo - 1] >= 0 and place[hi] - place[lo - 1] == hi - lo + 1:
                continue  # it was written over in the middle: the same bytes elsewhere are another's
            if counts[lo:hi].any():
                left.append((lo, hi))
        return left

    def _best(self, groups: NDArray[np.int32], lo: int, hi: int, hinted: NDArray[np.int64]) -> tuple[int, int]:
        """The place of block `lo` at which most of what follows matches: how many blocks, and its delta."""
        group = int(groups[lo])
        hits = self._by_group[self._starts[group] : self._starts[group + 1]]
        hits = hits[~self._claimed[hits]][:MOST_PLACES]
        deltas = [int(self._blocks[hit]) - lo for hit in hits]
        if hinted[lo] >= 0:
            deltas.insert(0, int(hinted[lo]) - lo)
        best = (0, 0)
        for delta in deltas:
            # Far more than the best is not asked of a place that ends soon.
            reach = min(hi, lo + 2 * best[0] + 64)
            length = _leading(self._matches(groups, lo, reach, delta))
            if lo + length == reach:
                length = _leading(self._matches(groups, lo, hi, delta))
            best = max(best, (length, delta), key=lambda found: found[0])
        return best

    def _bridge(
        self, n: int, groups: NDArray[np.int32], place: NDArray[np.int64], stands: NDArray[np.bool_],
        hinted: NDArray[np.int64],
    ) -> None:  # fmt: skip
        """Give what is left a place: between two parts that lie in one line, on from one part while the bytes are the
        same, or where the hint says. Whether its bytes stand there is looked at."""
        for lo, hi in runs_where(place < 0):
            left = int(place[lo - 1]) - (lo - 1) if lo else None
            right = int(place[hi]) - hi if hi < len(place) else None
            if left is not None and left == right:
                self._settle(n, place, stands, lo, hi, left, certain=True)
                continue
            if (hinted[lo:hi] >= 0).all() and _agrees(place, stands, hinted):
                for first, behind in _lines(hinted, lo, hi):
                    self._settle(n, place, stands, first, behind, int(hinted[first]) - first, certain=True)
                # Of a guessed place it is no loss if blocks that tell nothing do not stand there.
                place[lo:hi][(groups[lo:hi] < 0) & ~stands[lo:hi]] = _UNKNOWN
                continue
            for delta in (left, right):
                if delta is not None:
                    self._settle(n, place, stands, lo, hi, delta, certain=False)

    def _settle(
        self, n: int, place: NDArray[np.int64], stands: NDArray[np.bool_], lo: int, hi: int, delta: int, certain: bool
    ) -> None:
        """Compare blocks [lo, hi) with what lies at their numbers plus `delta`. Those that are the same stand there;
        the others are put there, too, where that is certain."""
        original = self._catalogue.originals[n]
        step = PIECE // BLOCK
        for at in range(lo, hi, step):
            behind = min(at + step, hi)
            free = np.flatnonzero(place[at:behind] < 0) + at
            if not len(free) or at + delta < 0:
                continue
            then = original.read(at * BLOCK, (behind - at) * BLOCK)
            now = self._medium.read((at + delta) * BLOCK, len(then)).ljust(len(then), b"\0")
            same = (np.frombuffer(then, "u1") == np.frombuffer(now, "u1")).reshape(-1, BLOCK).all(axis=1)
            same[max(self._medium.size // BLOCK - at - delta, 0) :] = False  # behind the end there are no zeros
            taken = free if certain else free[same[free - at]]
            place[taken] = taken + delta
            stands[free[same[free - at]]] = True

    def _place_tail(self, n: int, place: NDArray[np.int64], hinted: NDArray[np.int64]) -> Piece | None:
        position, tail = len(place) * BLOCK, self._catalogue.tails_of[n]
        if not tail:
            return None
        places = self._tail_places.get(n, [])
        likely = [int(place[-1]) + 1] if len(place) and place[-1] >= 0 else []
        if hinted[len(place)] >= 0:
            likely.append(int(hinted[len(place)]))
        free = [block for block in places if block not in self._claimed_tails]
        for block in [*likely, *free]:
            if self._medium.read(block * BLOCK, len(tail)) == tail:
                self._claimed_tails.add(block)
                return Piece(position, Extent(block * BLOCK, len(tail)), True)
        # What tells nothing may stand elsewhere, where nobody can find it.
        if not tells_nothing(tail) and likely and (likely[0] + 1) * BLOCK <= self._medium.size:
            return Piece(position, Extent(likely[0] * BLOCK, len(tail)), False)
        return None


class _Places:
    """The blocks of all files while they are placed. Only of files with rivals the places are kept; those of others
    are worked out again when they are asked for."""

    def __init__(self, locator: Locator, hints: dict[int, FileMap]) -> None:
        self._locator, self._hints = locator, hints
        self._kept: dict[int, tuple[NDArray[np.int32], NDArray[np.int64], NDArray[np.int64]]] = {}
        self._queue: list[tuple[int, bool, int, int, int]] = []
        """Runs that are still to be placed: (- blocks that match, not hinted, file, first block, behind the last)."""
        self._tries: defaultdict[int, int] = defaultdict(lambda: _MOST_TRIES)

    def place(self, n: int) -> None:
        """Place what places itself, and what follows from that; what is left waits for `settle_rivals`."""
        locator = self._locator
        groups, hinted, place = self._begin(n)
        locator._place_single(groups, place)
        if not (place[groups >= 0] < 0).any():
            return
        self._kept[n] = groups, hinted, place
        for lo, hi in locator._follow(groups, place):
            self._wait(n, lo, hi)

    def settle_rivals(self, progress: Progress) -> None:
        """Give places that several files may have to the one of which most matches there; of equals to the one of
        which the file system says so, then to the first."""
        heapify(self._queue)
        while self._queue:
            progress.check()
            promised, _, n, lo, hi = heappop(self._queue)
            groups, hinted, place = self._kept[n]
            length, delta = self._locator._best(groups, lo, hi, hinted)
            if length and length >= -promised:
                self._locator._take(groups, place, lo, lo + length, delta)
                self._wait(n, lo + length, hi)
            else:  # a longer match took some of it meanwhile
                self._wait(n, lo, hi)

    def of(self, n: int) -> tuple[NDArray[np.int32], NDArray[np.int64], NDArray[np.int64]]:
        """Groups of the blocks of a file, where they lie by the hint, and where they were placed."""
        kept = self._kept.pop(n, None)
        if kept is None:
            kept = self._begin(n)
            self._locator._place_single(kept[0], kept[2])
        return kept

    def _begin(self, n: int) -> tuple[NDArray[np.int32], NDArray[np.int64], NDArray[np.int64]]:
        groups = self._locator._catalogue.blocks_of(n)
        hinted = _hinted(self._hints.get(n, FileMap()), len(groups) + 1)
        return groups, hinted, np.full(len(groups), _UNKNOWN, np.int64)

    def _wait(self, n: int, lo: int, hi: int) -> None:
        """Queue a run from its first block on that matches anywhere."""
        groups, hinted, _ = self._kept[n]
        while lo < hi and self._tries[n] > 0:
            waiting = np.flatnonzero((groups[lo:hi] >= 0) & (self._locator._free[groups[lo:hi]] > 0))
            if not len(waiting):
                return
            lo += int(waiting[0])
            self._tries[n] -= 1
            length, delta = self._locator._best(groups, lo, hi, hinted)
            if length:
                told = hinted[lo] == lo + delta
                heappush(self._queue, (-length, not told, n, lo, hi))
                return
            lo += 1


class _Growing:
    """An array that grows at its end without a second copy of all of it at the end."""

    def __init__(self, kind: type[np.integer]) -> None:
        self._room = np.zeros(1 << 16, kind)
        self._count = 0

    def add(self, values: NDArray[np.integer]) -> None:
        behind = self._count + len(values)
        if behind > len(self._room):
            self._room.resize(max(behind, len(self._room) * 5 // 4), refcheck=False)
        self._room[self._count : behind] = values
        self._count = behind

    @property
    def values(self) -> NDArray[np.integer]:
        return self._room[: self._count]


def _pieces(medium: Medium) -> Iterator[tuple[int, bytes]]:
    """All that is no hole, in pieces that begin at whole blocks."""
    behind = 0
    for extent in medium.data_ranges():
        first = max(extent.offset // BLOCK * BLOCK, behind)
        for at in range(first, extent.end, PIECE):
            yield at, medium.read(at, min(PIECE, -(-(extent.end - at) // BLOCK) * BLOCK))
        behind = max(behind, -(-extent.end // BLOCK) * BLOCK)


def _leading(flags: NDArray[np.bool_]) -> int:
    """How many are True before the first False."""
    return int(np.argmin(flags)) if len(flags) and not flags.all() else len(flags)


def _hinted(hint: FileMap, count: int) -> NDArray[np.int64]:
    """The place of each block by the hint, where its extents begin at whole blocks."""
    out = np.full(count, _UNKNOWN, np.int64)
    for at, (offset, length) in hint.pieces():
        if at % BLOCK or offset % BLOCK or at // BLOCK >= count:
            break
        blocks = min(-(-length // BLOCK), count - at // BLOCK)
        out[at // BLOCK : at // BLOCK + blocks] = np.arange(blocks) + offset // BLOCK
    return out


def _agrees(place: NDArray[np.int64], stands: NDArray[np.bool_], hinted: NDArray[np.int64]) -> bool:
    """Whether the hint is right for most of what was found."""
    found = np.flatnonzero(stands)
    return len(found) > 0 and int(np.count_nonzero(place[found] == hinted[found])) * 2 > len(found)


def _lines(places: NDArray[np.int64], lo: int, hi: int) -> list[tuple[int, int]]:
    """[lo, hi) cut where places do not go on one after the other."""
    cuts = np.flatnonzero(np.diff(places[lo:hi]) != 1) + lo + 1
    edges = [lo, *cuts.tolist(), hi]
    return list(pairwise(edges))


def _as_pieces(place: NDArray[np.int64], stands: NDArray[np.bool_]) -> list[Piece]:
    out: list[Piece] = []
    for lo, hi in runs_where(place >= 0):
        state = stands[lo:hi].astype(np.int64)
        cuts = np.flatnonzero((np.diff(place[lo:hi]) != 1) | (np.diff(state) != 0)) + lo + 1
        edges = [lo, *cuts.tolist(), hi]
        for first, behind in pairwise(edges):
            extent = Extent(int(place[first]) * BLOCK, (behind - first) * BLOCK)
            out.append(Piece(first * BLOCK, extent, bool(stands[first])))
    return out
