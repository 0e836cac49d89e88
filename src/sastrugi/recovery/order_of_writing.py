"""Names that no place goes with, and content that no name goes with, joined by the order in which files were written.

A volume that numbers its files tells in what order they were made, and drivers give out space in that order too. So
between two files of which number and place are known, the numbers between theirs are the files that lie between them:
as many as there are stretches of content, in the same order. Where kinds and names agree with that, they are joined;
what lies between two files of a known end and beginning is a whole file, even where its kind is not known.
"""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray

from sastrugi.kinds import kind_for_name
from sastrugi.kinds.registry import all_kinds, is_textual, measuring_kind
from sastrugi.media import Extent, FileMap, Medium, RangeSet
from sastrugi.progress import Progress
from sastrugi.recovery.confidence import kind_of
from sastrugi.recovery.evidence import Clue, Evidence, evidence
from sastrugi.recovery.findings import Finding
from sastrugi.recovery.scan_file import ScanFile
from sastrugi.volumes.reader import Numbered, Times, Volume

_MOST_SLOTS, _MOST_PAIRS = 4096, 1 << 22
"""Numbers between two known files, and pairs of numbers and stretches of content in all, that are looked at."""
_MOST_READ = 256 << 20
"""Bytes of content of no known kind that are looked through."""
_AT_ONCE = 1 << 20
_ZERO_END = 8
"""Zeros at the end of a unit with which a file ends."""
_AGREE, _PERHAPS, _UNNAMED, _AGAINST = 3.0, 0.5, 0.4, -4.0
_NO_PIECE, _NO_NAME, _NO_SLOT = -0.7, -0.2, -1.0
_NAME_SURE, _HOLE_SURE, _NAMELESS_HOLE_SURE = 0.8, 0.8, 0.6
_SHORT_TEXT = 4096
_BY_ANY_NAME = frozenset({"elf", "sqlite"})
"""Kinds whose files often have no extension, or one that says nothing: programs and databases."""


@dataclass(slots=True)
class Piece:
    """A stretch of content: where it begins and ends (in whole units), and what was found there; None where no kind is
    known. `parts` are findings that turned out to be inside of it."""

    start: int
    end: int
    finding: Finding | None = None
    parts: list[Finding] = field(default_factory=list)


@dataclass(frozen=True, slots=True)
class Slot:
    """A number, and what is known of the file that had it."""

    number: int
    file: Numbered | None


def join_by_order(medium: Medium, scan_file: ScanFile, number: int, volume: Volume, progress: Progress) -> None:
    """Join what can be joined on one volume, whose findings are all in a scan file. Nothing is committed."""
    files = sorted(volume.numbered(), key=lambda one: one.number)
    if not files:
        return
    join = _Join(medium, scan_file, number, volume)
    segments = list(_segments(files, volume))
    progress.start("names by the order of writing", len(segments))
    for done, segment in enumerate(segments, 1):
        join.segment(*segment)
        progress.at(done)
        progress.check()
    progress.finish()


def _segments(files: Sequence[Numbered], volume: Volume) -> Iterator[tuple[list[Slot], Extent]]:
    """The numbers between two files of known place that follow each other in both orders, and the stretch of the
    medium between them."""
    placed = [one for one in files if one.extents]
    anchors = _rising(placed)
    known = {one.number: one for one in files}
    first, last = files[0].number, files[-1].number
    low = [(first - 1, volume.data.offset), *((one.number, _end_of(one, volume)) for one in anchors)]
    high = [*((one.number, one.extents[0].offset) for one in anchors if one.extents), (last + 1, volume.data.end)]
    for (before, begin), (behind, end) in zip(low, high, strict=True):
        if begin >= end or not 1 < behind - before <= _MOST_SLOTS:
            continue
        every = [known.get(n) for n in range(before + 1, behind)]
        slots = [
            Slot(n, one)
            for n, one in zip(range(before + 1, behind), every, strict=True)
            if one is None or not (one.folder or one.extents)
        ]
        if slots:
            yield slots, Extent(begin, end - begin)


def _end_of(one: Numbered, volume: Volume) -> int:
    assert one.extents
    unit = volume.cluster_size
    return volume.data.offset + -(-(one.extents[-1].end - volume.data.offset) // unit) * unit


def _rising(placed: Sequence[Numbered]) -> list[Numbered]:
    """The most files whose places rise with their numbers."""
    tails: list[int] = []
    at: list[int] = []
    before: list[int] = []
    for n, one in enumerate(placed):
        assert one.extents
        start = one.extents[0].offset
        k = bisect_left(tails, start)
        tails[k : k + 1] = [start]
        at[k : k + 1] = [n]
        before.append(at[k - 1] if k else -1)
    out: list[Numbered] = []
    n = at[-1] if at else -1
    while n >= 0:
        out.append(placed[n])
        n = before[n]
    return out[::-1]


class _Join:
    """One volume's findings, while names are put to them."""

    def __init__(self, medium: Medium, scan_file: ScanFile, number: int, volume: Volume) -> None:
        self._medium, self._file, self._number, self._volume = medium, scan_file, number, volume
        self._left, self._pairs_left = _MOST_READ, _MOST_PAIRS
        unit, base = volume.cluster_size, volume.data.offset
        self._found = sorted(
            (
                one
                for one in scan_file.findings("state = 'found'")
                if one.map.start is not None
                and volume.data.offset <= one.map.start < volume.data.end
                and not (one.map.start - base) % unit
            ),
            key=lambda one: one.map.start or 0,
        )
        self._starts = [one.map.start or 0 for one in self._found]
        self._claims = RangeSet(extent for _, extent in volume.own_extents())
        for one in scan_file.findings("state <> 'found' AND size > 0"):
            for extent in one.extents:
                self._claims.add(extent)

    def segment(self, slots: Sequence[Slot], where: Extent) -> None:
        pieces = self._pieces(where)
        if not pieces or len(slots) * len(pieces) > self._pairs_left:
            return
        self._pairs_left -= len(slots) * len(pieces)
        pairs = align(slots, pieces)
        for n, (i, j) in enumerate(pairs):
            before = pairs[n - 1] if n else (-1, -1)
            after = pairs[n + 1] if n + 1 < len(pairs) else (len(slots), len(pieces))
            rigid = before == (i - 1, j - 1) and after == (i + 1, j + 1)
            self._take(slots[i], pieces[j], rigid)

    # -- stretches of content ---------------------------------------------------------------

    def _pieces(self, where: Extent) -> list[Piece]:
        """Stretches of content that are nobody's, in order."""
        unit = self._volume.cluster_size
        out: list[Piece] = []
        at = where.offset
        n = bisect_left(self._starts, at)
        while n < len(self._found) and self._starts[n] < where.end:
            finding = self._found[n]
            n += 1
            start = self._starts[n - 1]
            if start < at:
                continue
            out += self._holes(at, start)
            hole = out[-1] if out and out[-1].finding is None and out[-1].end == start else None
            if hole is not None and _is_fragment(finding) and not self._ends(start - unit):
                # A few words inside of a file of no known kind: it goes on over them.
                hole.parts.append(finding)
                hole.end = at = self._end_of_file(start, min(self._next_start(n), where.end))
                continue
            end = start + -(-finding.covered // unit) * unit
            out.append(Piece(start, end, finding))
            at = max(at, end)
        return out + self._holes(at, where.end)

    def _next_start(self, n: int) -> int:
        return self._starts[n] if n < len(self._starts) else self._volume.data.end

    def _holes(self, start: int, end: int) -> list[Piece]:
        """Free stretches of [start, end) in which something stands that is of no known kind, cut where files end."""
        out: list[Piece] = []
        if start >= end:
            return out
        for gap in self._claims.gaps(Extent(start, end - start)):
            taken = RangeSet(conflict.extent for conflict in self._volume.conflicts((gap,)))
            for free in taken.gaps(gap):
                for held in self._medium.data_ranges(free.offset, free.end):
                    at = held.offset
                    while at < held.end and self._left > 0:
                        stop = self._end_of_file(at, held.end)
                        if stop > at:
                            out.append(Piece(at, stop))
                        at = self._behind_zeros(max(stop, at), held.end)
        return out

    def _end_of_file(self, at: int, end: int) -> int:
        """Where a file that begins at a byte ends: behind the first unit that ends with zeros, or in front of units of
        nothing. `at` itself if nothing begins there."""
        for place, units in self._units(at, end):
            ends = np.flatnonzero(~units[:, -_ZERO_END:].any(axis=1))
            if len(ends):
                n = int(ends[0])
                return min(place + (n + bool(units[n].any())) * self._volume.cluster_size, end)
        return end

    def _behind_zeros(self, at: int, end: int) -> int:
        """The first unit from a byte on that holds anything."""
        for place, units in self._units(at, end):
            held = np.flatnonzero(units.any(axis=1))
            if len(held):
                return place + int(held[0]) * self._volume.cluster_size
        return end

    def _units(self, at: int, end: int) -> Iterator[tuple[int, NDArray[np.uint8]]]:
        """The units of a stretch, some at a time, shape (units, bytes of one): the last is filled up with zeros."""
        unit = self._volume.cluster_size
        step = max(_AT_ONCE // unit, 1) * unit
        while at < end and self._left > 0:
            data = self._medium.read(at, min(step, end - at))
            self._left -= len(data)
            yield at, np.frombuffer(data.ljust(-(-max(len(data), 1) // unit) * unit, b"\0"), "u1").reshape(-1, unit)
            at += step

    def _ends(self, at: int) -> bool:
        """Whether a file ends in the unit that begins at a byte."""
        return not self._medium.read(at + self._volume.cluster_size - _ZERO_END, _ZERO_END).strip(b"\0")

    # -- joining ----------------------------------------------------------------------------

    def _take(self, slot: Slot, piece: Piece, rigid: bool) -> None:
        file = slot.file
        if piece.finding is not None:
            if file is None or file.path is None:
                return
            worth = agreement(file, piece)
            if worth == _AGREE or (rigid and worth > 0):
                self._name(piece.finding, file)
        elif rigid:
            self._tell_hole(piece, file if file is not None and file.path is not None else None)

    def _name(self, finding: Finding, file: Numbered) -> None:
        assert file.path is not None
        self._file.replace(
            replace(
                finding, state="deleted", folder="/" + "/".join(file.path[:-1]), name=file.path[-1], times=file.times,
                name_sure=min(file.name_sure, _NAME_SURE), volume=self._number,
                evidence=[*(one for one in finding.evidence if one.clue != Clue.NAMELESS), _by_order(file)],
            )
        )  # fmt: skip

    def _tell_hole(self, piece: Piece, file: Numbered | None) -> None:
        """A file of no known kind that lies between two others."""
        last = max(piece.end - self._volume.cluster_size, piece.start)  # zeros are at the end of the last unit alone
        size = last - piece.start + len(self._medium.read(last, piece.end - last).rstrip(b"\0"))
        if not size:
            return
        seen = [evidence(Clue.BETWEEN_FILES), evidence(Clue.UNMEASURED)]
        place = FileMap.of((Extent(piece.start, size),))
        state, folder, name, times = "found", "/unnamed", f"data-at-{piece.start:012x}.bin", Times()
        sure, name_sure, told = _NAMELESS_HOLE_SURE, 0.0, evidence(Clue.NAMELESS)
        if file is not None and file.path is not None:
            state, folder, name, times = "deleted", "/" + "/".join(file.path[:-1]), file.path[-1], file.times
            sure, name_sure, told = _HOLE_SURE, min(file.name_sure, _NAME_SURE), _by_order(file)
        kind = kind_of(name, None) if state == "deleted" else ("other", "data")
        finding = Finding(
            state, folder, name, *kind, size, place, times, ("content",), sure, name_sure, [*seen, told],
            self._number if state == "deleted" else None, sound=size,
        )  # fmt: skip
        for part in piece.parts:
            self._file.replace(
                replace(part, confidence=0.0, sound=0, evidence=[*part.evidence, evidence(Clue.INSIDE_OTHER)])
            )
        self._file.add(finding)


def _by_order(file: Numbered) -> Evidence:
    return evidence(Clue.NAME_BY_ORDER, file.number)


def _is_fragment(finding: Finding) -> bool:
    known = all_kinds().get(finding.kind)
    return finding.size < _SHORT_TEXT and known is not None and measuring_kind(known).bare


def agreement(file: Numbered | None, piece: Piece) -> float:
    """How well a name and a stretch of content go together."""
    if file is None or file.path is None:
        return _UNNAMED
    wanted = kind_for_name(file.path[-1])
    if piece.finding is None:  # of a kind that is measured its content would have been found
        return _PERHAPS if wanted is None or measuring_kind(wanted).bare else _AGAINST / 2
    seen = all_kinds().get(piece.finding.kind)
    if wanted is None or seen is None:
        by_any_name = seen is None or is_textual(seen) or seen.name in _BY_ANY_NAME
        return _PERHAPS if by_any_name else _AGAINST / 2
    if measuring_kind(wanted).name == measuring_kind(seen).name:
        return _AGREE
    return _PERHAPS if is_textual(wanted) and is_textual(seen) else _AGAINST


def align(slots: Sequence[Slot], pieces: Sequence[Piece]) -> list[tuple[int, int]]:
    """Which numbers go with which stretches, in order: pairs of their places in the two rows, the best by agreement.
    Numbers may be left over (of files that are gone, or folders), and stretches (parts of other files)."""
    width = len(pieces) + 1
    best = [[0.0] * width]
    step = [[2] * width]
    for j in range(1, width):
        best[0][j] = best[0][j - 1] + _NO_SLOT
    for i, slot in enumerate(slots, 1):
        skip = _NO_NAME if slot.file is None else _NO_PIECE
        row, ways, above = [best[i - 1][0] + skip], [1], best[i - 1]
        for j, piece in enumerate(pieces, 1):
            choices = (above[j - 1] + agreement(slot.file, piece), above[j] + skip, row[j - 1] + _NO_SLOT)
            way = max(range(3), key=choices.__getitem__)
            row.append(choices[way])
            ways.append(way)
        best.append(row)
        step.append(ways)
    out: list[tuple[int, int]] = []
    i, j = len(slots), len(pieces)
    while i and j:
        way = step[i][j]
        if way == 0:
            out.append((i - 1, j - 1))
        i, j = i - (way != 2), j - (way != 1)
    return out[::-1]
