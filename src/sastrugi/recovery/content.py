"""The pass `content`: files recognised by their bytes, where no record that can be trusted claims them.

The sweep looks at the first bytes of every sector with array operations; only sectors that may begin a file are
looked at more closely, and measured by their kind.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from sastrugi.kinds import Kind, Measure, Proof, all_kinds, recognise
from sastrugi.kinds.registry import measuring_kind
from sastrugi.media import Extent, Medium, RangeSet
from sastrugi.media.extents import cut
from sastrugi.progress import Progress
from sastrugi.recovery.findings import Finding
from sastrugi.recovery.judge import judge_found, kind_of
from sastrugi.recovery.sources import MediumSource
from sastrugi.volumes.base import Times, Volume

SECTOR = 512
_CHUNK = 4 << 20
_TEXT_HEAD = 16
_SHORTEST_FRAGMENT = 4096
_ASCII = np.zeros(256, bool)
_ASCII[[9, 10, 13, *range(0x20, 0x7F)]] = True
_LEAD, _FOLLOW = np.zeros(256, bool), np.zeros(256, bool)
_LEAD[0xC2:0xF5] = _FOLLOW[0x80:0xC0] = True  # RFC 3629, section 4
_TEXT_BYTES = _ASCII | _LEAD | _FOLLOW


@dataclass(frozen=True, slots=True)
class Grid:
    """The clusters of a volume: files inside `data` begin at multiples of `cluster` from its start."""

    data: Extent
    cluster: int
    volume: Volume | None = None

    def holds(self, offset: int) -> bool:
        return self.data.offset <= offset < self.data.end


class Sweep:
    """Finds the sectors at which a file may begin. Made once a scan: it builds its look-up tables."""

    def __init__(self, kinds: frozenset[str] | None = None) -> None:
        chosen = [kind for kind in all_kinds().values() if kinds is None or kind.name in kinds]
        every = {signature for kind in chosen for signature in kind.signatures}
        self._texts = any(measuring_kind(kind).bare for kind in chosen)
        # A signature beyond the first sector of its file (a CD image's) is looked for where it stands.
        self._signatures = [(s.offset // SECTOR, s.offset % SECTOR, s.data) for s in every]
        self._tables: dict[int, NDArray[np.bool_]] = {}
        for _, offset, data in self._signatures:
            at = _telling_pair(offset, data)
            table = self._tables.setdefault(at, np.zeros(1 << 16, bool))
            table[int.from_bytes(data[at - offset : at - offset + 2], "little")] = True
        self._width = max([_TEXT_HEAD // 2, *(offset // 2 + 1 for offset in self._tables)])
        # Pairs of bytes (low byte first) that UTF-8 allows: a lead byte is followed by a following byte, and so on.
        pairs = (_ASCII[:, None] & (_ASCII | _LEAD)) | (_LEAD[:, None] & _FOLLOW) | (_FOLLOW[:, None] & _TEXT_BYTES)
        self._text_pairs = pairs.T.ravel()
        self._first_pairs = (pairs & ~_FOLLOW[:, None]).T.ravel()

    def candidates(
        self, buffer: NDArray[np.uint8], after: NDArray[np.intp]
    ) -> tuple[list[tuple[int, int]], NDArray[np.intp]]:
        """Sectors of `buffer` (whole sectors) with a signature, and those where a text can begin.

        The first are pairs: number of the sector, and how many sectors before it the file begins. A sector of text
        behind one that is text to its last byte goes on with it: no text begins there, unless it is in `after`.
        """
        # The first bytes of all sectors, put together: what follows looks at them only, and often.
        words = np.ascontiguousarray(buffer.view("<u2").reshape(-1, SECTOR // 2)[:, : self._width])
        marked = np.zeros(len(words), bool)
        for offset, table in self._tables.items():
            marked |= table[words[:, offset // 2]]
        signed = [(int(n), back) for n in np.flatnonzero(marked) for back in self._signed(buffer, int(n) * SECTOR)]
        if not self._texts:
            return signed, np.zeros(0, np.intp)
        maybe = np.flatnonzero(self._first_pairs[words[:, 0]])
        maybe = maybe[self._text_pairs[words[maybe, 1 : _TEXT_HEAD // 2]].all(axis=1)]
        goes_on = np.zeros(len(words) + 1, bool)
        goes_on[maybe + 1] = _TEXT_BYTES[buffer.reshape(-1, SECTOR)[maybe]].all(axis=1)
        goes_on[after] = False
        starts = maybe[~goes_on[maybe]]
        text = [n for n in starts if _begins_text(buffer[n * SECTOR : n * SECTOR + _TEXT_HEAD].tobytes())]
        return signed, np.array(text, np.intp)

    def _signed(self, buffer: NDArray[np.uint8], at: int) -> set[int]:
        head = buffer[at : at + SECTOR].tobytes()
        return {back for back, offset, data in self._signatures if head[offset : offset + len(data)] == data}


def _telling_pair(offset: int, data: bytes) -> int:
    """The even offset of two bytes of a signature by which sectors are sifted: not both zero, and early."""
    first = offset + (offset & 1)
    pairs = [at for at in range(first, offset + len(data) - 1, 2) if data[at - offset : at - offset + 2] != b"\0\0"]
    return pairs[0]


def _begins_text(head: bytes) -> bool:
    """Whether these bytes are UTF-8, but for a character that is cut at their end."""
    try:
        head.decode()
    except UnicodeDecodeError as error:
        return error.end == len(head) and error.reason == "unexpected end of data"
    return True


def content_findings(
    medium: Medium,
    claims: RangeSet,
    grids: list[Grid],
    start: int,
    progress: Progress,
    end: int | None = None,
    kinds: frozenset[str] | None = None,
) -> Iterator[tuple[int, Finding | None]]:
    """Sweep the medium from `start` to `end`, outside of `claims`, for these kinds (all if None).

    Yields (position that is done, a finding or None).

    `claims` grows by the files found, so that what lies inside one is not reported again. Going on from any yielded
    position with the claims of the findings so far gives the rest of the findings.
    """
    sweep = Sweep(kinds)
    for at, data in _chunks(medium, _unclaimed(medium, claims, start, end)):
        progress.check()
        lead = SECTOR if at >= SECTOR else 0
        buffer = np.frombuffer(data, np.uint8)
        if buffer.view(np.uint64).any():
            for hit, found in _in_chunk(medium, sweep, buffer, at - lead, lead // SECTOR, claims, grids):
                if hit >= start:
                    yield hit + SECTOR, found
        yield at + len(data) - lead, None


def _chunks(medium: Medium, ranges: list[Extent]) -> Iterator[tuple[int, bytes]]:
    """(offset, bytes) in whole sectors, with the sector before, which tells whether a text begins or goes on."""
    for extent in ranges:
        for at in range(extent.offset, extent.end, _CHUNK):
            lead = SECTOR if at >= SECTOR else 0
            length = lead + min(_CHUNK, extent.end - at)
            yield at, medium.read(at - lead, length).ljust(length, b"\0")


def _unclaimed(medium: Medium, claims: RangeSet, start: int, end: int | None) -> list[Extent]:
    """What is to be swept from `start` on, in whole sectors: no holes, and nothing that is claimed already."""
    out: list[Extent] = []
    behind = 0
    for data in medium.data_ranges(start // SECTOR * SECTOR, end):
        for gap in claims.gaps(data):
            first = max(gap.offset // SECTOR * SECTOR, behind)
            behind = max(-(-gap.end // SECTOR) * SECTOR, first)
            if first < behind:
                out.append(Extent(first, behind - first))
    return out


def _in_chunk(
    medium: Medium,
    sweep: Sweep,
    buffer: NDArray[np.uint8],
    base: int,
    lead: int,
    claims: RangeSet,
    grids: list[Grid],
) -> Iterator[tuple[int, Finding]]:
    """Findings of one buffer, each with the position of the sector that told it."""
    claimed = claims.overlap(Extent(base, len(buffer)))
    ends = [-(-(extent.end - base) // SECTOR) for extent in claimed if extent.end < base + len(buffer)]
    signed, text = sweep.candidates(buffer, np.array(ends, np.intp))
    told = {n for n, _ in signed}
    for n, back in sorted({*signed, *((int(n), -1) for n in text if int(n) not in told)}):
        hit = base + n * SECTOR
        offset = hit - max(back, 0) * SECTOR
        if n < lead or offset < 0 or offset in claims:
            continue
        limit = _free_from(claims, offset, medium.size, grids)
        chained = _by_chain(medium, claims, offset, grids) if back >= 0 else None
        if chained is not None:
            yield hit, chained
            continue
        measure = recognise(MediumSource(medium, (limit,))) if back >= 0 else _measure_text(medium, limit)
        if measure is None or measure.length <= 0 or (not measure.whole and measure.length < _SHORTEST_FRAGMENT):
            continue
        if measure.whole:
            claims.add(Extent(offset, -(-measure.length // SECTOR) * SECTOR))
        found = _finding(measure, offset, grids)
        found.sound = measure.length if measure.whole else 0
        yield hit, found


def _by_chain(medium: Medium, claims: RangeSet, offset: int, grids: list[Grid]) -> Finding | None:
    """A file that begins at the head of a chain of clusters that no file owns, and that is whole along it."""
    volume = next((grid.volume for grid in grids if grid.holds(offset)), None)
    chain = volume.chain_from(offset) if volume is not None else ()
    if len(chain) < 2:
        return None
    measure = recognise(MediumSource(medium, chain))
    if measure is None or not measure.whole:
        return None
    found = _finding(measure, offset, grids)
    found.extents, found.sound = cut(chain, measure.length), measure.length
    found.reasons.append(f"in {len(found.extents)} pieces, by a chain of clusters that no listed file owns")
    for extent in found.extents:
        claims.add(Extent(extent.offset, -(-extent.length // SECTOR) * SECTOR))
    return found


def _free_from(claims: RangeSet, offset: int, end: int, grids: list[Grid]) -> Extent:
    """From `offset` to where something else is claimed, or where the volume that holds it ends."""
    for grid in grids:
        if grid.holds(offset):
            end = min(end, grid.data.end)
    return claims.free_from(offset, end)


def _measure_text(medium: Medium, limit: Extent) -> Measure | None:
    """A text that runs to the zeros behind its end; binary data that merely begin like text are none."""
    text: Kind = all_kinds()["txt"]
    assert text.measure is not None
    measure = text.measure(MediumSource(medium, (limit,)), False)
    if measure is None or measure.proof > Proof.GUESS:
        return measure
    rest = medium.read(limit.offset + measure.length, -measure.length % SECTOR)
    if rest.strip(b"\0") or (measure.length < SECTOR and not rest):
        return None
    if not rest:
        return measure
    rule = f"text for {measure.length:,} bytes, then zeros to the end of the sector"
    return replace(measure, proof=Proof.STATISTICS, rule=rule)


def _finding(measure: Measure, offset: int, grids: list[Grid]) -> Finding:
    on_grid = all((offset - grid.data.offset) % grid.cluster == 0 for grid in grids if grid.holds(offset))
    confidence, reasons = judge_found(measure, on_grid)
    if measure.proof == Proof.GUESS and measure.whole:
        reasons.append("its end is a guess")
    known = all_kinds().get(measure.kind)
    name = f"{measure.kind}-at-{offset:012x}.{known.extensions[0] if known else measure.kind}"
    kind = kind_of(name, measure)
    reasons.append("no record tells its name")
    return Finding(
        "found",
        "/unnamed",
        name,
        *kind,
        measure.length,
        (Extent(offset, measure.length),),
        Times(),
        ("content",),
        confidence,
        0.0,
        reasons,
    )
