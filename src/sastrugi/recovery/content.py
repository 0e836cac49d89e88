"""The pass `content`: files recognised by their bytes, where no record that can be trusted claims them.

The survey has marked the sectors that may begin a file; only those are looked at more closely, and measured by their
kind.
"""

from __future__ import annotations

import codecs
from collections.abc import Collection, Iterable, Iterator, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from sastrugi.kinds import Kind, Measure, Proof, all_kinds, recognise
from sastrugi.kinds.base import Holds
from sastrugi.kinds.registry import kinds_begun
from sastrugi.media import Extent, Medium, RangeSet
from sastrugi.media.filemap import FileMap
from sastrugi.recovery.confidence import LOOKED_THROUGH, judge_found, kind_of
from sastrugi.recovery.evidence import Clue, evidence
from sastrugi.recovery.findings import Finding
from sastrugi.recovery.sector_survey import SECTOR, TEXT_HEAD, Mark, Survey
from sastrugi.recovery.sources import MediumSource
from sastrugi.volumes.reader import Times, Volume
from sastrugi.volumes.registry import file_systems

_SHORTEST_FRAGMENT = 4096
_ZERO_END, _BY_CHANCE = 8, 16
"""Zeros behind the end of a file; bytes of something else that may look like text."""
_PERHAPS_A_PIECE, _BEGUN_INSIDE = 0.2, 0.3
_MOST_INSIDE, _MOST_READ_INSIDE, _MOST_READ_INSIDE_IN_ALL = 64, 32 << 20, 512 << 20
"""Beginnings inside of a file that is known by its headers which are looked at, and bytes; and bytes in all."""
_LONG_MARK = 4
_ALIKE_THROUGHOUT = ("txt", "csv", "log")
"""Texts that begin as they go on."""
_LISTS, _BYTES_PER_LIST, _HEAD_OF_LIST = 10_000, 64 << 10, 8
"""Lists of blocks that are read, and bytes of a medium for each more; bytes that tell soon that something is none."""


@dataclass(frozen=True, slots=True)
class Grid:
    """The clusters of a volume, of today or of an earlier life: files inside `data` begin at multiples of `cluster`
    from its start."""

    data: Extent
    cluster: int
    volume: Volume | None = None

    def holds(self, offset: int) -> bool:
        return self.data.offset <= offset < self.data.end

    def begins(self, offset: int) -> bool:
        """Whether a cluster begins there."""
        return (offset - self.data.offset) % self.cluster == 0


class ContentPass:
    """Files that begin in the sectors a survey marked, outside of `claims`, which grow by the files found: what lies
    inside one is not reported again.

    `strays`: files were found before that begin on no cluster of any grid, so that there was a life nothing else tells
    of. Without such a file a text, or a piece of a file, that begins on no cluster is the middle of something.
    `starts` are the bytes at which volumes begin, or can have begun.
    """

    def __init__(
        self, medium: Medium, survey: Survey, claims: RangeSet, grids: Sequence[Grid], strays: bool = False,
        starts: Collection[int] = (0,),
    ) -> None:  # fmt: skip
        self._medium, self._survey, self._claims, self._grids = medium, survey, claims, grids
        self._starts = starts
        self._strays = strays
        self._left_inside = _MOST_READ_INSIDE_IN_ALL
        self._lists_left = _LISTS + medium.size // _BYTES_PER_LIST

    def findings(self, start: int, end: int) -> Iterator[tuple[int, Finding | None]]:
        """What begins in [start, end): (position that is done, a finding or None).

        Going on from any yielded position with the claims of the findings so far gives the rest of the findings.
        """
        for base, marks, goes_on in _with_last(self._survey.marks(start)):
            if base >= end:
                return
            for hit, signed in _hits(base, marks, goes_on, self._claims):
                if start <= hit < end:
                    for found in self._at(hit, signed):
                        yield hit + SECTOR, found
            yield min(base + len(marks) * SECTOR, end), None

    def _at(self, hit: int, signed: bool) -> Iterator[Finding]:
        """The file that begins in the sector `hit`, or before it where a signature in it says so."""
        backs = self._survey.tests.signatures.backs(self._medium.read(hit, SECTOR).ljust(SECTOR, b"\0"))
        for back in sorted(backs) if signed else [0]:
            offset = hit - back * SECTOR
            if offset < 0 or offset in self._claims:
                continue
            holding = [grid for grid in self._grids if grid.holds(offset)]
            on_grid = not holding or any(grid.begins(offset) for grid in holding)
            found = self._by_chain(offset, holding, on_grid, signed)
            if found is None:
                found = self._by_list(offset, holding, signed)
            if found is None:
                found = self._in_one_piece(offset, holding, on_grid, signed)
            if found is not None:
                self._strays |= not on_grid and found.sound > 0
                for extent in found.map.head(found.sound).stored:
                    self._claims.add(Extent(extent.offset, -(-extent.length // SECTOR) * SECTOR))
                yield found

    def _in_one_piece(self, offset: int, holding: Sequence[Grid], on_grid: bool, signed: bool) -> Finding | None:
        end = min([grid.data.end for grid in holding], default=self._medium.size)
        measure = _measure(self._medium, FileMap.of((self._claims.free_from(offset, end),)), signed)
        if measure is None or measure.length <= 0 or (not measure.whole and measure.length < _SHORTEST_FRAGMENT):
            return None
        if not (on_grid or self._strays or (signed and measure.whole)):
            return None
        found = found_finding(measure, FileMap.of((Extent(offset, measure.length),)), on_grid)
        found.sound = measure.length if measure.whole else 0
        inner = self._begun_inside(found, measure, holding) if signed and measure.whole and on_grid else None
        if inner is not None:
            begins, kind = inner
            found.confidence = min(found.confidence, _BEGUN_INSIDE)
            found.sound = begins - offset
            found.evidence.append(evidence(Clue.BEGUN_INSIDE, kind, begins - offset))
        if holding and not signed and self._goes_on(offset):
            found.confidence = min(found.confidence, _PERHAPS_A_PIECE)
            found.sound = 0 if measure.length < _SHORTEST_FRAGMENT else found.sound
            found.evidence.append(evidence(Clue.GOES_ON))
        return found

    def _begun_inside(self, found: Finding, measure: Measure, holding: Sequence[Grid]) -> tuple[int, str] | None:
        """Where another file begins inside of one that only its headers speak for, on a cluster and whole, and of which
        kind; None where none does that could not be part of it."""
        (whole, *_) = found.extents
        known = all_kinds().get(measure.kind)
        held = (known.holds if known is not None else Holds.NOTHING).value
        if measure.proof in LOOKED_THROUGH or held is None or not holding:
            return None
        left = min(_MOST_READ_INSIDE, self._left_inside)
        tries = 0
        for base, marks in self._survey.marks(whole.offset + 1):
            if base >= whole.end:
                break
            for n in np.flatnonzero(marks & Mark.SIGNED).tolist():
                at = base + n * SECTOR
                if not whole.offset < at < whole.end or not any(g.holds(at) and g.begins(at) for g in holding):
                    continue
                rest = FileMap.of((Extent(at, min(grid.data.end for grid in holding) - at),))
                source = MediumSource(self._medium, rest)
                if not any(_may_be_inside(kind, measure.kind, held) for kind in kinds_begun(source)):
                    continue
                tries += 1
                if tries > _MOST_INSIDE or left < 0:
                    return None
                inner = recognise(source, deep=True)
                read = inner.length if inner is not None else SECTOR
                left, self._left_inside = left - read, self._left_inside - read
                if inner is not None and inner.whole and inner.proof >= Proof.STATISTICS and inner.kind not in held:
                    return at, inner.kind
        return None

    def _goes_on(self, offset: int) -> bool:
        """Whether something that is no known file's runs up to a byte: files end before the end of their last cluster,
        and what is behind their ends is zero."""
        before = self._medium.read(offset - _ZERO_END, _ZERO_END) if offset else b""
        return bool(before.strip(b"\0")) and offset - 1 not in self._claims

    def _by_chain(self, offset: int, holding: Sequence[Grid], on_grid: bool, signed: bool) -> Finding | None:
        """A file that begins at the head of a chain of clusters that no file owns, and that is whole along it."""
        chain = next((grid.volume.chain_from(offset) for grid in holding if grid.volume), ())
        if len(chain) < 2:
            return None
        measure = _measure(self._medium, FileMap.of(chain), signed)
        if measure is None or not measure.whole or (not signed and measure.proof == Proof.GUESS):
            return None
        found = found_finding(measure, FileMap.of(chain, measure.length), on_grid)
        found.sound = measure.length
        found.evidence.append(evidence(Clue.BY_CHAIN, len(found.extents)))
        return found

    def _list_at(self, offset: int, length: int) -> bytes:
        """Bytes that may be a list: beyond as many as a medium can be full of, none."""
        self._lists_left -= length > _HEAD_OF_LIST
        return self._medium.read(offset, length) if self._lists_left > 0 else b""

    def _by_list(self, offset: int, holding: Sequence[Grid], signed: bool) -> Finding | None:
        """A file of a volume that is gone, whole along a list of its blocks that still stands among them. Numbers that
        begin in a row may be content: where no volume begins where they say, a file that is whole in one piece is it.
        """
        for family in file_systems().values():
            follow = family.told_by_a_list
            told = follow(self._list_at, self._medium.size, offset) if follow is not None else None
            if told is None or any(map(self._claims.overlap, told[1])):
                continue
            base, places = told
            measure = _measure(self._medium, FileMap.of(places), signed)
            if measure is None or not measure.whole or (not signed and measure.proof == Proof.GUESS):
                continue
            if base not in self._starts:
                end = min([grid.data.end for grid in holding], default=self._medium.size)
                straight = _measure(self._medium, FileMap.of((self._claims.free_from(offset, end),)), signed)
                if straight is not None and straight.whole:
                    continue
            found = found_finding(measure, FileMap.of(places, measure.length), on_grid=True)
            found.sound = measure.length
            found.evidence.append(evidence(Clue.BY_LIST, len(found.extents), family.title))
            return found
        return None


def _may_be_inside(kind: Kind, outer: str, held: Sequence[str]) -> bool:
    """Whether a file of a kind that begins inside of one that only headers speak for is none of its parts: what has a
    mark of its own, unlike the frames of a stream, and is neither of its kind nor held by it."""
    return marked_kind(kind) and kind.name != outer and kind.name not in held


def breaks(finding: Finding) -> bool:
    """Whether only the beginning of a file was found."""
    return finding.tells(Clue.BREAKS)


def is_nameless_text(finding: Finding) -> bool:
    """Whether it is a text that content alone tells of, without a beginning of its own: nobody knows where such a one
    begins or ends."""
    return finding.state == "found" and (finding.kind in _ALIKE_THROUGHOUT or finding.kind not in all_kinds())


def marked_kind(kind: Kind) -> bool:
    """Whether files of a kind begin with a mark that hardly stands anywhere else."""
    return not kind.framed and any(len(signature.data) >= _LONG_MARK for signature in kind.signatures)


def _with_last(stretches: Iterable[tuple[int, NDArray[np.uint16]]]) -> Iterator[tuple[int, NDArray[np.uint16], bool]]:
    """Each stretch with whether the sector before it is text to its last byte."""
    before, through = -1, False
    for base, marks in stretches:
        yield base, marks, base == before and through
        before, through = base + len(marks) * SECTOR, bool(marks[-1] & Mark.THROUGH)


def _hits(base: int, marks: NDArray[np.uint16], goes_on: bool, claims: RangeSet) -> Iterator[tuple[int, bool]]:
    """Where files may begin, in order, and whether a signature says so.

    A sector of text behind one that is text to its last byte goes on with it: no text begins there, unless that one
    belongs to another file.
    """
    inside = claims.overlap(Extent(base, len(marks) * SECTOR))
    free = np.ones(len(marks), bool)
    text = marks & Mark.TEXT != 0
    text[1:] &= marks[:-1] & Mark.THROUGH == 0
    if goes_on:
        text[0] &= base - 1 in claims
    for extent in inside:
        first, behind = (extent.offset - base) // SECTOR, -(-(extent.end - base) // SECTOR)
        free[first:behind] = False
        if behind < len(marks):
            text[behind] = marks[behind] & Mark.TEXT != 0
    signed = marks & Mark.SIGNED != 0
    for n in np.flatnonzero(free & (signed | text)).tolist():
        yield base + n * SECTOR, bool(signed[n])


def _measure(medium: Medium, where: FileMap, signed: bool) -> Measure | None:
    """What begins there, and ends there at the latest. A text runs to the zeros behind its end; binary data that
    merely begin like text are none."""
    source = MediumSource(medium, where)
    text: Kind = all_kinds()["txt"]
    assert text.measure is not None
    if signed:
        measure = recognise(source)
        if measure is None or measure.kind != text.name:
            return measure
    else:
        measure = text.measure(source, False) if _begins_text(source.read(0, TEXT_HEAD)) else None
    if measure is None or measure.proof > Proof.GUESS:
        return measure
    rest = where.read(medium, measure.length, -measure.length % SECTOR)
    if rest.strip(b"\0") and measure.length >= _SHORTEST_FRAGMENT and measure.length % SECTOR <= _BY_CHANCE:
        length = measure.length // SECTOR * SECTOR  # what begins behind it begins like text
        return replace(measure, length=length, rule=f"text for {length:,} bytes, up to what is none")
    if rest.strip(b"\0") or (measure.length < SECTOR and not rest):
        return None
    if not rest:
        return measure
    rule = f"text for {measure.length:,} bytes, then zeros to the end of the sector"
    return replace(measure, proof=Proof.STATISTICS, rule=rule)


def _begins_text(head: bytes) -> bool:
    """Whether these bytes are UTF-8, but for a character that is cut at their end."""
    try:
        codecs.getincrementaldecoder("utf-8")().decode(head)
    except UnicodeDecodeError:
        return False
    return True


def found_finding(measure: Measure, file: FileMap, on_grid: bool) -> Finding:
    """What is reported of a file that only its bytes tell of."""
    confidence, seen = judge_found(measure, on_grid)
    if measure.proof == Proof.GUESS and measure.whole:
        seen.append(evidence(Clue.GUESSED_END))
    known = all_kinds().get(measure.kind)
    name = f"{measure.kind}-at-{file.start or 0:012x}.{known.extensions[0] if known else measure.kind}"
    kind = kind_of(name, measure)
    seen.append(evidence(Clue.NAMELESS))
    return Finding("found", "/unnamed", name, *kind, measure.length, file, Times(), ("content",), confidence, 0.0, seen)
