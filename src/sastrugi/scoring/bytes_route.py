"""Candidates by content: digests, then witnesses (blocks that only one reference holds), then exact comparison.

Sources of the method: docs/design.md, "How results are matched".
"""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import BinaryIO

import numpy as np
from blake3 import blake3
from numpy.typing import NDArray

from sastrugi.errors import SpecimenError
from sastrugi.media import RangeSet
from sastrugi.progress import Progress
from sastrugi.scoring.matching import Candidate
from sastrugi.scoring.names import compare_names
from sastrugi.scoring.results import Result
from sastrugi.specimen.blocks import BLOCK, block_hashes
from sastrugi.specimen.digests import blake3_file
from sastrugi.specimen.truth import Specimen, TruthFile

_PIECE = 4 << 20
_MOST_CANDIDATES = 8
_HEAD = 16
_ANYWHERE, _MOST_ANCHORS, _MOST_SEARCHES = 32 << 10, 64, 5000
"""Bytes of a result that are searched at every byte, places where a block may begin that are looked at, and results
of which nothing is known that are searched so."""


@dataclass(slots=True)
class Witnesses:
    """All blocks that only one content among the references holds, sorted by hash."""

    hashes: NDArray[np.uint64]
    references: NDArray[np.int32]
    blocks: NDArray[np.int64]
    anchors: NDArray[np.uint64]
    """The first eight bytes of each: by them a block is looked for that does not begin at a multiple of its size."""
    order: NDArray[np.int64] = field(default_factory=lambda: np.zeros(0, np.int64))
    searches: int = 0

    @classmethod
    def of(cls, specimen: Specimen, files: list[TruthFile], progress: Progress) -> Witnesses:
        """Witnesses of `files`; of references with the same content the first stands for all."""
        hashes: list[NDArray[np.uint64]] = []
        owners: list[NDArray[np.int32]] = []
        numbers: list[NDArray[np.int64]] = []
        anchors: list[NDArray[np.uint64]] = []
        seen: set[str] = set()
        progress.start("references", sum(file.size for file in files))
        done = 0
        for n, file in enumerate(files):
            done += file.size
            if file.blake3 in seen:
                continue
            seen.add(file.blake3)
            digest = blake3()
            for at in range(0, file.size, _PIECE):
                data = specimen.original(file, at, _PIECE)
                digest.update(data)
                found = block_hashes(data)
                hashes.append(found)
                anchors.append(np.frombuffer(data, "<u8", len(found) * (BLOCK // 8))[:: BLOCK // 8].copy())
                owners.append(np.full(len(found), n, np.int32))
                numbers.append(np.arange(len(found), dtype=np.int64) + at // BLOCK)
            if digest.hexdigest() != file.blake3:
                where = (
                    f"at {file.extents[0].offset:,} … {file.extents[-1].end:,}" if file.untouched else "in originals"
                )
                raise SpecimenError(
                    f"{specimen.folder}: does not match its truth any more: {file.path}, {where}, has other bytes: "
                    "build it again, or see all with 'sastrugi audit'"
                )
            progress.at(done)
            progress.check()
        progress.finish()
        if not hashes:
            nothing = np.zeros(0, np.uint64)
            return cls(nothing, np.zeros(0, np.int32), np.zeros(0, np.int64), nothing)
        value, order = np.concatenate(hashes), np.argsort(np.concatenate(hashes), kind="stable")
        value, owner, number = value[order], np.concatenate(owners)[order], np.concatenate(numbers)[order]
        anchor = np.concatenate(anchors)[order]
        single = np.ones(len(value), bool)
        same = value[1:] == value[:-1]
        single[1:] &= ~same
        single[:-1] &= ~same
        single &= value != 0
        return cls(value[single], owner[single], number[single], anchor[single])

    def holders(self, data: bytes, position: int) -> Counter[tuple[int, int]]:
        """How many witnesses stand in `data`, which is at `position` of a result: by reference and shift, which is by
        how many bytes the result has them later. Looked for at whole blocks."""
        found = block_hashes(data)
        at = np.minimum(np.searchsorted(self.hashes, found), max(len(self.hashes) - 1, 0))
        hit = np.flatnonzero(self.hashes[at] == found) if len(self.hashes) else np.zeros(0, np.int64)
        shifts = position + (hit - self.blocks[at[hit]]) * BLOCK
        return _counted(self.references[at[hit]], shifts)

    def holders_anywhere(self, data: bytes) -> Counter[tuple[int, int]]:
        """The same at any byte of the start of a result."""
        if len(data) < BLOCK or not len(self.anchors) or self.searches >= _MOST_SEARCHES:
            return Counter()
        if not self.searches:
            self.order = np.argsort(self.anchors, kind="stable")
            self.anchors = self.anchors[self.order]
        self.searches += 1
        order, anchors = self.order, self.anchors
        owners: list[int] = []
        shifts: list[int] = []
        for phase in range(8):
            words = np.frombuffer(data, "<u8", (len(data) - phase) // 8, phase)
            at = np.minimum(np.searchsorted(anchors, words), len(anchors) - 1)
            for n in np.flatnonzero(anchors[at] == words)[:_MOST_ANCHORS].tolist():
                place, witness = phase + 8 * n, order[at[n]]
                block = data[place : place + BLOCK]
                if len(block) == BLOCK and block_hashes(block)[0] == self.hashes[witness]:
                    owners.append(int(self.references[witness]))
                    shifts.append(place - int(self.blocks[witness]) * BLOCK)
        return _counted(np.array(owners, np.int64), np.array(shifts, np.int64))


def _counted(owners: NDArray[np.int32] | NDArray[np.int64], shifts: NDArray[np.int64]) -> Counter[tuple[int, int]]:
    return Counter(zip(owners.tolist(), shifts.tolist(), strict=True))


@dataclass(frozen=True, slots=True)
class Shifted:
    """A result that holds `right` bytes of a reference, each `shift` bytes later than it should."""

    result: int
    reference: int
    shift: int
    right: int


@dataclass(frozen=True, slots=True)
class ByBytes:
    """All candidates; and for each result the references whose content, whole or in part, is in it."""

    candidates: list[Candidate]
    holds: dict[int, list[int]]
    exact: dict[int, list[int]]
    shifted: list[Shifted] = field(default_factory=list)


def candidates_by_bytes(
    specimen: Specimen, files: list[TruthFile], results: list[Result], progress: Progress
) -> ByBytes:
    """Compare every result with the references it may come from. Files and results are named by their index."""
    by_size: defaultdict[int, list[int]] = defaultdict(list)
    heads: defaultdict[bytes, list[int]] = defaultdict(list)
    """Of references too small for a witness: by their first bytes."""
    by_digest: defaultdict[str, list[int]] = defaultdict(list)
    for n, file in enumerate(files):
        by_size[file.size].append(n)
        by_digest[file.blake3].append(n)
        if 0 < file.size < BLOCK:
            heads[specimen.original(file)[:_HEAD]].append(n)
    witnesses: Witnesses | None = None
    out = ByBytes([], {}, {})
    progress.start("results", sum(result.size for result in results))
    done = 0
    for result in results:
        assert result.file is not None
        same = by_digest.get(blake3_file(result.file), []) if result.size in by_size else []
        if same:
            out.exact[result.number] = out.holds[result.number] = same
            out.candidates.extend([_exact(specimen, files[n], n, result) for n in same])
        else:
            witnesses = witnesses or Witnesses.of(specimen, files, progress)  # where all are exact nobody asks them
            hits = _hits(witnesses, result, specimen.medium.size)
            best = {n for n, _ in sorted(hits.items(), key=lambda item: -sum(item[1].values()))[:_MOST_CANDIDATES]}
            found = {same for n in best for same in by_digest[files[n].blake3]}
            out.shifted.extend(_shifted(specimen, files, result, {n: hits[n] for n in best}))
            head = result.head(BLOCK)
            near = {n for k in range(1, _HEAD + 1) for n in heads.get(head[:k], ())} if heads else set()
            found |= {n for n in near if head.startswith(specimen.original(files[n]))}
            out.holds[result.number] = sorted(found)
            out.candidates.extend([_compare(specimen, files[n], n, result) for n in sorted(found)])
        done += result.size
        progress.at(done)
        progress.check()
    progress.finish()
    return out


def _hits(witnesses: Witnesses, result: Result, most: int) -> dict[int, Counter[int]]:
    """How many witnesses of which reference stand in the first `most` bytes of a result, by shift."""
    assert result.file is not None
    counts: Counter[tuple[int, int]] = Counter()
    with result.file.open("rb") as file:
        while (data := file.read(_PIECE)) and file.tell() - len(data) < most:
            counts += witnesses.holders(data, file.tell() - len(data))
    counts = counts or witnesses.holders_anywhere(result.head(_ANYWHERE))
    out: defaultdict[int, Counter[int]] = defaultdict(Counter)
    for (owner, shift), count in counts.items():
        out[owner][shift] += count
    return out


def _shifted(
    specimen: Specimen, files: list[TruthFile], result: Result, hits: dict[int, Counter[int]]
) -> Iterator[Shifted]:
    """For each reference most of whose witnesses stand at another place than they should: how much of it does."""
    for n, counts in hits.items():
        shift = counts.most_common(1)[0][0]
        if not shift:
            continue
        right = 0
        for _, then, now in _pairs(specimen, files[n], result, shift):
            same = np.frombuffer(then[: len(now)], "u1") == np.frombuffer(now, "u1")
            blocks = np.zeros(-(-len(same) // BLOCK) * BLOCK, bool)
            blocks[: len(same)] = same
            in_block = blocks.reshape(-1, BLOCK).sum(axis=1)
            right += int(in_block[in_block * 2 >= BLOCK].sum())
        yield Shifted(result.number, n, shift, min(right, round(files[n].ceiling.bytes * files[n].size)))


def gone_blocks(file: TruthFile) -> NDArray[np.bool_]:
    """Which 512-byte blocks of a file no longer stand anywhere on the medium. Shape: (blocks,)."""
    out = np.zeros(-(-file.size // BLOCK), bool)
    if file.ceiling.intact:
        return out
    gone = RangeSet(file.gone)
    for position, extent in file.places():
        for part in gone.overlap(extent):
            first = (position + part.offset - extent.offset) // BLOCK
            out[first : first + -(-part.length // BLOCK)] = True
    for part in file.unplaced:
        out[part.offset // BLOCK : -(-part.end // BLOCK)] = True
    return out


def _exact(specimen: Specimen, file: TruthFile, n: int, result: Result) -> Candidate:
    beyond = bool(file.size) and _unattainable(specimen, file, gone_blocks(file))
    letters = "R" * -(-file.size // BLOCK)
    return Candidate(result.number, n, file.size, compare_names(result.path, file.path), True, None, letters, beyond)


def _unattainable(specimen: Specimen, file: TruthFile, blocks: NDArray[np.bool_]) -> bool:
    """Whether any of these blocks is one that nobody could guess (its bytes are not all the same)."""
    return any(len(set(specimen.original(file, int(n) * BLOCK, BLOCK))) > 1 for n in np.flatnonzero(blocks))


def _compare(specimen: Specimen, file: TruthFile, n: int, result: Result) -> Candidate:
    """Compare byte for byte, at the reference's own offsets.

    Bytes count where at least half of their block is right (the rest would be chance), and in blocks that are gone
    from the medium only if the whole block is right.
    """
    gone = gone_blocks(file)
    credit = 0
    first_wrong: int | None = None
    letters: list[str] = []
    whole_but_gone = np.zeros(len(gone), bool)
    for position, then, now in _pairs(specimen, file, result):
        equal = np.zeros(-(-len(then) // BLOCK) * BLOCK, bool)
        equal[: len(now)] = np.frombuffer(then[: len(now)], "u1") == np.frombuffer(now, "u1")
        counts = equal.reshape(-1, BLOCK).sum(axis=1)
        sizes = np.full(len(counts), BLOCK)
        sizes[-1] -= len(equal) - len(then)
        first = position // BLOCK
        here = gone[first : first + len(counts)]
        right = counts == sizes
        whole_but_gone[first : first + len(counts)] = here & right
        came = np.clip(len(now) - np.arange(len(counts)) * BLOCK, 0, sizes)
        counts = np.where((counts * 2 < came) | (here & ~right), 0, counts)
        credit += int(counts.sum())
        if first_wrong is None and not right.all():
            wrong = np.flatnonzero(~equal[: len(then)])
            first_wrong = position + int(wrong[0])
        absent = position + np.arange(len(counts)) * BLOCK >= result.size
        letters.append("".join(np.where(right, "R", np.where(absent, "A", "W"))))
    beyond = bool(whole_but_gone.any()) and _unattainable(specimen, file, whole_but_gone)
    if not beyond:
        credit = min(credit, round(file.ceiling.bytes * file.size))
    return Candidate(
        result.number,
        n,
        credit,
        compare_names(result.path, file.path),
        False,
        first_wrong,
        "".join(letters),
        beyond,
    )


def _pairs(specimen: Specimen, file: TruthFile, result: Result, shift: int = 0) -> Iterator[tuple[int, bytes, bytes]]:
    """(position, original bytes, result's bytes) piece by piece; those of the result `shift` bytes later."""
    assert result.file is not None
    with result.file.open("rb") as came:
        came.seek(max(shift, 0))
        for position in range(0, file.size, _PIECE):
            yield (
                position,
                specimen.original(file, position, _PIECE),
                _read_from(came, position, shift, min(_PIECE, file.size - position)),
            )


def _read_from(came: BinaryIO, position: int, shift: int, length: int) -> bytes:
    """The result's bytes for a piece of the original; what lies before its start is zeros."""
    before = min(max(-shift - position, 0), length)
    return bytes(before) + came.read(length - before)
