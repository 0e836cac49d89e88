"""The pass `content`: files recognised by their bytes, where no record that can be trusted claims them.

The survey has marked the sectors that may begin a file; only those are looked at more closely, and measured by their
kind.
"""

from __future__ import annotations

import codecs
from collections.abc import Callable, Collection, Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from sastrugi.kinds import Kind, Measure, Proof, all_kinds, recognise
from sastrugi.kinds.base import BytesSource, Holds
from sastrugi.kinds.registry import kinds_begun, measuring_kind
from sastrugi.media import Extent, Medium, RangeSet
from sastrugi.media.filemap import FileMap
from sastrugi.recovery.confidence import LOOKED_THROUGH, judge_found, kind_of
from sastrugi.recovery.evidence import Clue, evidence
from sastrugi.recovery.findings import Finding
from sastrugi.recovery.sector_survey import SECTOR, TEXT_HEAD, Mark, Survey, sectors_of
from sastrugi.recovery.sources import MediumSource
from sastrugi.volumes.reader import Times, Volume
from sastrugi.volumes.registry import ListedFile, ListsOfBlocks, file_systems

SHORTEST_FRAGMENT = 4096
_ZERO_END, _BY_CHANCE = 8, 16
"""Zeros behind the end of a file; bytes of something else that may look like text."""
_PERHAPS_A_PIECE, _BEGUN_INSIDE = 0.2, 0.3
_MOST_INSIDE, _MOST_READ_INSIDE, _MOST_READ_INSIDE_IN_ALL = 64, 32 << 20, 512 << 20
"""Beginnings inside of a file that is known by its headers which are looked at, and bytes; and bytes in all."""
_LONG_MARK = 4
_ALIKE_THROUGHOUT = ("txt", "csv", "log")
"""Texts that begin as they go on."""
_BY_LIST_ALONE = 0.8


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
                found = self._in_one_piece(offset, holding, on_grid, signed)
            if found is not None:
                self._strays |= not on_grid and found.sound > 0
                for extent in found.map.head(found.sound).stored:
                    self._claims.add(Extent(extent.offset, -(-extent.length // SECTOR) * SECTOR))
                yield found

    def _in_one_piece(self, offset: int, holding: Sequence[Grid], on_grid: bool, signed: bool) -> Finding | None:
        end = min([grid.data.end for grid in holding], default=self._medium.size)
        measure = _measure(self._medium, FileMap.of((self._claims.free_from(offset, end),)), signed)
        if measure is None or measure.length <= 0:
            return None
        goes_on = signed and on_grid and bool(holding) and _can_be_followed(measure.kind)
        if not measure.whole and measure.length < SHORTEST_FRAGMENT and not goes_on:
            return None
        if not (on_grid or self._strays or (signed and measure.whole)):
            return None
        found = found_finding(measure, FileMap.of((Extent(offset, measure.length),)), on_grid)
        found.sound = self._to_the_next(found, holding) if measure.whole and measure.proof == Proof.GUESS else 0
        if measure.whole and measure.proof > Proof.GUESS:
            found.sound = measure.length
        inner = self._begun_inside(found, measure, holding) if signed and measure.whole and on_grid else None
        if inner is not None:
            begins, kind = inner
            found.confidence = min(found.confidence, _BEGUN_INSIDE)
            found.sound = begins - offset
            found.evidence.append(evidence(Clue.BEGUN_INSIDE, kind, begins - offset))
        if holding and not signed and self._goes_on(offset):
            found.confidence = min(found.confidence, _PERHAPS_A_PIECE)
            found.sound = 0 if measure.length < SHORTEST_FRAGMENT else found.sound
            found.evidence.append(evidence(Clue.GOES_ON))
        return found

    def _to_the_next(self, found: Finding, holding: Sequence[Grid]) -> int:
        """Bytes that a file surely has of which only a guess tells the end: what begins on its last cluster is another,
        of which a few bytes look like its own."""
        (whole, *_) = found.extents
        for grid in holding:
            last = whole.end - 1 - (whole.end - 1 - grid.data.offset) % grid.cluster
            if last > whole.offset:
                begun = kinds_begun(BytesSource(self._medium.read(last, SECTOR)))
                if any(marked_kind(kind) and kind.name != found.kind for kind in begun):
                    return last - whole.offset
        return found.size

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

    @cached_property
    def _lists(self) -> list[tuple[str, ListsOfBlocks]]:
        """Lists of blocks that stand anywhere, each with the title of the file systems that keep such."""
        sectors = [at for base, marks in self._survey.marks() for at in sectors_of(base, marks & Mark.LIST != 0)]
        families = [one for one in file_systems().values() if one.lists is not None] if sectors else []
        return [(one.title, one.lists(self._medium, sectors, sorted(self._starts))) for one in families if one.lists]

    def by_lists(self, within: Extent, check: Callable[[], None]) -> Iterator[Finding]:
        """Files that lie along lists of blocks which still stand, though inode or volume are gone: first those that are
        right along them, then what is of no kind that can be measured, where that leaves room. To be asked for before
        all else: pieces of theirs lie anywhere, and would be taken for files of their own. `check` is called often, and
        may raise Interrupted."""
        for proved in (True, False):
            for title, lists in self._lists:
                for start in lists.starts:
                    check()
                    if start in self._claims or not within.offset <= start < within.end:
                        continue
                    found = self._along(start, lists, title, proved)
                    if found is not None:
                        for extent in found.extents:
                            self._claims.add(Extent(extent.offset, -(-extent.length // SECTOR) * SECTOR))
                        yield found

    def _along(self, start: int, lists: ListsOfBlocks, title: str, proved: bool) -> Finding | None:
        """The file that begins at a byte and goes on as a list says. Numbers that begin in a row may be content: where
        no volume begins where they say, a file that is whole in one piece is it."""
        for told in lists.files_at(start):
            if any(map(self._claims.overlap, told.extents)) or not self._medium.read(start, SECTOR).strip(b"\0"):
                continue
            (*_, last) = told.extents
            tail = self._medium.read(last.end - told.block, told.block).rstrip(b"\0")
            where = FileMap.of(told.extents)
            measure = _measure(self._medium, where, signed=True)
            if measure is None:  # text to its end is text; what only begins so is of no kind
                text = _measure(self._medium, where, signed=False)
                measure = text if text is not None and text.length > told.space - told.block else None
            if measure is not None and measure.whole:
                ends_there = told.space - told.block < measure.length <= told.space
                if measure.proof == Proof.GUESS and not ends_there:
                    continue
                if told.base not in self._starts and self._whole_in_one_piece(start):
                    continue
                if measure.proof == Proof.GUESS:  # where it ends is no guess
                    measure = replace(measure, proof=Proof.STATISTICS)
                size = measure.length if ends_there or not tail else told.space - told.block + len(tail)
                found = found_finding(measure, FileMap.of(told.extents, size), on_grid=True)
                if size > measure.length:
                    found.evidence.append(evidence(Clue.BYTES_BEHIND, size - measure.length, measure.kind))
                found.size = found.sound = size
                found.evidence.append(evidence(Clue.BY_LIST, len(found.extents), title))
                return found
            if measure is None and not proved and tail and self._is_nobodys(told):
                return _listed_finding(FileMap.of(told.extents, told.space - told.block + len(tail)), title)
        return None

    @cached_property
    def _own(self) -> RangeSet:
        """What volumes of today keep for themselves: numbers in it may list something else."""
        return RangeSet(
            extent for grid in self._grids if grid.volume is not None for _, extent in grid.volume.own_extents()
        )

    def _is_nobodys(self, told: ListedFile) -> bool:
        """Whether a list begins a volume where one does, and neither it nor what it names is a volume's own."""
        own = told.told_at in self._own or any(map(self._own.overlap, told.extents))
        return told.base in self._starts and told.told_at not in self._claims and not own

    def _whole_in_one_piece(self, start: int) -> bool:
        end = min([grid.data.end for grid in self._grids if grid.holds(start)], default=self._medium.size)
        measure = _measure(self._medium, FileMap.of((self._claims.free_from(start, end),)), signed=True)
        return measure is not None and measure.whole


def _listed_finding(where: FileMap, title: str) -> Finding:
    seen = [evidence(Clue.BY_LIST, len(where.stored), title), evidence(Clue.UNKNOWN_KIND), evidence(Clue.NAMELESS)]
    name = f"data-at-{where.start or 0:012x}.bin"
    return Finding(
        "found", "/unnamed", name, "other", "data", where.size, where, Times(), ("content",), _BY_LIST_ALONE, 0.0, seen,
        sound=where.size,
    )  # fmt: skip


def _may_be_inside(kind: Kind, outer: str, held: Sequence[str]) -> bool:
    """Whether a file of a kind that begins inside of one that only headers speak for is none of its parts: what has a
    mark of its own, unlike the frames of a stream, and is neither of its kind nor held by it."""
    return marked_kind(kind) and kind.name != outer and kind.name not in held


def _can_be_followed(kind: str) -> bool:
    """Whether a file of which only the head stands here may be found from there on."""
    known = all_kinds().get(kind)
    return known is not None and marked_kind(measuring_kind(known)) and measuring_kind(known).follow is not None


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
    if rest.strip(b"\0") and measure.length >= SHORTEST_FRAGMENT and measure.length % SECTOR <= _BY_CHANCE:
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
