"""Candidates by content: digests, then witnesses (blocks that only one reference holds), then exact comparison.

Sources of the method: docs/design.md, "How results are matched".
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator
from dataclasses import dataclass

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


@dataclass(slots=True)
class Witnesses:
    """All blocks that only one content among the references holds, sorted by hash."""

    hashes: NDArray[np.uint64]
    references: NDArray[np.int32]
    blocks: NDArray[np.int64]

    @classmethod
    def of(cls, specimen: Specimen, files: list[TruthFile], progress: Progress) -> Witnesses:
        """Witnesses of `files`; of references with the same content the first stands for all."""
        hashes: list[NDArray[np.uint64]] = []
        owners: list[NDArray[np.int32]] = []
        numbers: list[NDArray[np.int64]] = []
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
            return cls(np.zeros(0, np.uint64), np.zeros(0, np.int32), np.zeros(0, np.int64))
        value, owner, number = np.concatenate(hashes), np.concatenate(owners), np.concatenate(numbers)
        order = np.argsort(value, kind="stable")
        value, owner, number = value[order], owner[order], number[order]
        single = np.ones(len(value), bool)
        same = value[1:] == value[:-1]
        single[1:] &= ~same
        single[:-1] &= ~same
        single &= value != 0
        return cls(value[single], owner[single], number[single])

    def holders(self, data: bytes) -> tuple[NDArray[np.int32], NDArray[np.int64]]:
        """References whose witnesses stand in `data`, with the block number in each reference; one pair a hit."""
        found = block_hashes(data)
        at = np.minimum(np.searchsorted(self.hashes, found), max(len(self.hashes) - 1, 0))
        hit = self.hashes[at] == found if len(self.hashes) else np.zeros(len(found), bool)
        return self.references[at[hit]], self.blocks[at[hit]]


@dataclass(frozen=True, slots=True)
class ByBytes:
    """All candidates; and for each result the references whose content, whole or in part, is in it."""

    candidates: list[Candidate]
    holds: dict[int, list[int]]
    exact: dict[int, list[int]]


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
            found = _holders(witnesses, result, files, by_digest, specimen.medium.size)
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


def _holders(
    witnesses: Witnesses, result: Result, files: list[TruthFile], by_digest: dict[str, list[int]], most: int
) -> set[int]:
    """References with the most witnesses in the first `most` bytes of a result (and those of the same content)."""
    assert result.file is not None
    counts: defaultdict[int, int] = defaultdict(int)
    with result.file.open("rb") as file:
        while (data := file.read(_PIECE)) and file.tell() - len(data) < most:
            owners, _ = witnesses.holders(data)
            for owner, count in zip(*np.unique(owners, return_counts=True), strict=True):
                counts[int(owner)] += int(count)
    best = sorted(counts, key=lambda n: -counts[n])[:_MOST_CANDIDATES]
    return {same for n in best for same in by_digest[files[n].blake3]}


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


def _pairs(specimen: Specimen, file: TruthFile, result: Result) -> Iterator[tuple[int, bytes, bytes]]:
    """(position, original bytes, result's bytes) piece by piece."""
    assert result.file is not None
    with result.file.open("rb") as came:
        for position in range(0, file.size, _PIECE):
            yield (
                position,
                specimen.original(file, position, _PIECE),
                came.read(min(_PIECE, file.size - position)),
            )
