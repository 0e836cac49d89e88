"""Candidates: whole contents by place or digest, then witnesses (blocks that only one content holds), then bytes.

Sources of the method: docs/design.md, "How results are matched".
"""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Iterator
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from sastrugi.media import RangeSet
from sastrugi.progress import Progress
from sastrugi.scoring import damage
from sastrugi.scoring.exact_places import ExactPlaces
from sastrugi.scoring.matching import Candidate
from sastrugi.scoring.names import compare_names
from sastrugi.scoring.results import Result
from sastrugi.scoring.witnesses import Witnesses
from sastrugi.specimen.blocks import BLOCK
from sastrugi.specimen.truth import Specimen, TruthFile
from sastrugi.threads import in_threads

_PIECE = 4 << 20
_MOST_CANDIDATES = 8
_HEAD = 16
_ANYWHERE = 32 << 10
"""Bytes of a result that are searched for witnesses at every byte."""
_BATCH_BYTES, _BATCH_FILES = 16 << 20, 512


@dataclass(frozen=True, slots=True)
class Shifted:
    """A result that holds `right` bytes of a reference, each `shift` bytes later than it should."""

    result: int
    reference: int
    shift: int
    right: int


@dataclass(frozen=True, slots=True)
class Found:
    """All candidates; and for each result the references whose content, whole or in part, is in it."""

    candidates: list[Candidate]
    holds: dict[int, list[int]]
    exact: dict[int, list[int]]
    shifted: list[Shifted] = field(default_factory=list)
    unreadable: dict[int, str] = field(default_factory=dict)
    """Results that could not be read, and why."""


def find_candidates(specimen: Specimen, files: list[TruthFile], results: list[Result], progress: Progress) -> Found:
    """Compare every result with the references it may come from. Files and results are named by their index."""
    sizes = {file.size for file in files}
    heads: defaultdict[bytes, list[int]] = defaultdict(list)
    """Of references too small for a witness: by their first bytes."""
    by_digest: defaultdict[str, list[int]] = defaultdict(list)
    for n, file in enumerate(files):
        by_digest[file.blake3].append(n)
        if 0 < file.size < BLOCK:
            heads[specimen.original(file)[:_HEAD]].append(n)
    in_place = ExactPlaces(files)
    out = Found([], {}, {})
    others: list[Result] = []
    progress.start("results", sum(result.size for result in results))
    done = 0

    def look(batch: list[Result]) -> list[tuple[str, str]]:
        return [_digest(one, sizes, in_place) for one in batch]

    for batch, digests in in_threads(look, _batches(results)):
        for result, (digest, problem) in zip(batch, digests, strict=True):
            same = by_digest.get(digest, [])
            if problem:
                out.unreadable[result.number] = problem
            elif same:
                out.exact[result.number] = out.holds[result.number] = same
                out.candidates.extend([_exact(specimen, files[n], n, result) for n in same])
            else:
                others.append(result)
            done += result.size
        progress.at(done)
        progress.check()
    progress.finish()
    if others:  # where all are exact nobody asks for witnesses
        inquiry = _Inquiry(specimen, files, Witnesses.of(specimen, files, progress), by_digest, heads)
        progress.start("compare", sum(result.size for result in others))
        done = 0
        for result, found in in_threads(inquiry.look_into, others):
            if isinstance(found, OSError):
                out.unreadable[result.number] = str(found.strerror)
            else:
                out.holds[result.number] = sorted({candidate.reference for candidate in found.candidates})
                out.candidates.extend(found.candidates)
                out.shifted.extend(found.shifted)
            done += result.size
            progress.at(done)
            progress.check()
        progress.finish()
    return out


def _batches(results: list[Result]) -> Iterator[list[Result]]:
    """Results in batches of which each is worth a thread's while."""
    batch: list[Result] = []
    room = _BATCH_BYTES
    for result in results:
        batch.append(result)
        room -= result.size
        if room <= 0 or len(batch) == _BATCH_FILES:
            yield batch
            batch, room = [], _BATCH_BYTES
    if batch:
        yield batch


def _digest(result: Result, sizes: set[int], in_place: ExactPlaces) -> tuple[str, str]:
    """The digest of a result that may be a whole reference; or why it cannot be read."""
    if result.size not in sizes:
        return "", ""
    try:
        return in_place.digest(result) or result.blake3(), ""
    except OSError as error:
        return "", str(error.strerror)


@dataclass(frozen=True, slots=True)
class _Inquiry:
    """What is needed to find out what a result that is no reference as a whole holds of any."""

    specimen: Specimen
    files: list[TruthFile]
    witnesses: Witnesses
    by_digest: dict[str, list[int]]
    heads: dict[bytes, list[int]]

    def look_into(self, result: Result) -> _Held | OSError:
        """Runs in a thread beside."""
        try:
            hits = _hits(self.witnesses, result, self.specimen.medium.size)
            best = {n for n, _ in sorted(hits.items(), key=lambda item: -sum(item[1].values()))[:_MOST_CANDIDATES]}
            found = {same for n in best for same in self.by_digest[self.files[n].blake3]} | self._small(result)
            return _Held(
                [_compare(self.specimen, self.files[n], n, result) for n in sorted(found)],
                list(_shifted(self.specimen, self.files, result, {n: hits[n] for n in best})),
            )
        except OSError as error:
            return error

    def _small(self, result: Result) -> set[int]:
        """References too small for a witness with which the result begins."""
        if not self.heads:
            return set()
        with result.opened() as read:
            head = read(0, BLOCK)
        near = {n for k in range(1, _HEAD + 1) for n in self.heads.get(head[:k], ())}
        return {n for n in near if head.startswith(self.specimen.original(self.files[n]))}


@dataclass(frozen=True, slots=True)
class _Held:
    """What one result holds of references."""

    candidates: list[Candidate]
    shifted: list[Shifted]


def _hits(witnesses: Witnesses, result: Result, most: int) -> dict[int, Counter[int]]:
    """How many witnesses of which reference stand in the first `most` bytes of a result, by shift."""
    counts: Counter[tuple[int, int]] = Counter()
    with result.opened() as read:
        for position in range(0, min(result.size, most), _PIECE):
            counts += witnesses.standing_in(read(position, _PIECE), position)
        counts = counts or witnesses.anywhere_in(read(0, _ANYWHERE))
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
    beyond = not file.ceiling.intact and _unattainable(specimen, file, gone_blocks(file))
    whole = damage.all_right(file.size)
    return Candidate(result.number, n, file.size, compare_names(result.named, file.path), True, None, whole, beyond)


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
    letters: list[NDArray[np.uint8]] = []
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
        letters.append(np.where(right, damage.RIGHT, np.where(absent, damage.ABSENT, damage.WRONG)))
    beyond = bool(whole_but_gone.any()) and _unattainable(specimen, file, whole_but_gone)
    if not beyond:
        credit = min(credit, round(file.ceiling.bytes * file.size))
    return Candidate(
        result.number,
        n,
        credit,
        compare_names(result.named, file.path),
        False,
        first_wrong,
        damage.encode(np.concatenate(letters)) if letters else "",
        beyond,
    )


def _pairs(specimen: Specimen, file: TruthFile, result: Result, shift: int = 0) -> Iterator[tuple[int, bytes, bytes]]:
    """(position, original bytes, result's bytes) piece by piece; those of the result `shift` bytes later. What lies
    before its start is zeros."""
    with result.opened() as read:
        for position in range(0, file.size, _PIECE):
            length = min(_PIECE, file.size - position)
            before = min(max(-shift - position, 0), length)
            now = bytes(before) + read(position + shift + before, length - before)
            yield position, specimen.original(file, position, _PIECE), now
