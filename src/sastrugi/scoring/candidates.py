"""Candidates: whole contents by place or digest; then contents that blocks, names or sizes suggest, byte for byte.

Sources of the method: docs/design.md, "How results are matched".
"""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Iterator
from dataclasses import dataclass, field, replace

import numpy as np

from sastrugi.errors import system_words
from sastrugi.progress import Progress
from sastrugi.scoring import damage
from sastrugi.scoring.block_index import NO_SHIFT, Found, Witnesses
from sastrugi.scoring.comparison import Bytes, Compared, Comparison, right_bytes
from sastrugi.scoring.contents import MOST_SUGGESTED, Contents
from sastrugi.scoring.matching import Candidate
from sastrugi.scoring.names import compare_names
from sastrugi.scoring.quick_match import QuickMatch, Told, batches
from sastrugi.scoring.results import Read, Result
from sastrugi.specimen.blocks import BLOCK
from sastrugi.specimen.truth import Specimen, TruthFile
from sastrugi.threads import in_threads

_PIECE = 4 << 20
_MOST_CANDIDATES = 8
_ANYWHERE = 32 << 10
"""Bytes of a result that are searched for witnesses at every byte."""
_FEW_PAIRS = 4096
"""Pairs of a file and a result of the same content; of more, only those are made that names ask for."""


@dataclass(frozen=True, slots=True)
class ShiftedMatch:
    """A result that holds `right` bytes of a reference, each `shift` bytes later than it should."""

    result: int
    reference: int
    shift: int
    right: int


@dataclass(frozen=True, slots=True)
class CandidateSet:
    """All candidates; and for each result the references whose content, whole or in part, is in it."""

    contents: Contents
    candidates: list[Candidate] = field(default_factory=list)
    holds: dict[int, list[int]] = field(default_factory=dict)
    exact: dict[int, list[int]] = field(default_factory=dict)
    shifted: list[ShiftedMatch] = field(default_factory=list)
    unreadable: dict[int, str] = field(default_factory=dict)
    """Results that could not be read, and why."""


@dataclass(frozen=True, slots=True)
class _Held:
    """What one result holds of contents."""

    compared: list[tuple[int, Compared]] = field(default_factory=list)
    shifted: list[tuple[int, int, int]] = field(default_factory=list)
    """(content, shift, right bytes)."""


def find_candidates(
    specimen: Specimen, files: list[TruthFile], results: list[Result], progress: Progress
) -> CandidateSet:
    """Compare every result with the references it may come from. Files and results are named by their index."""
    contents = Contents(specimen, files)
    out = CandidateSet(contents)
    others: list[Result] = []
    held: dict[int, _Held | OSError] = {}
    same: defaultdict[int, list[Result]] = defaultdict(list)
    for result, told in _told(contents, results, progress):
        if isinstance(told, int):
            same[told].append(result)
        elif told is None:
            others.append(result)
        else:
            held[result.number] = told if isinstance(told, OSError) else _Held([(told.content, told.compared)])
    unlikely = [content for content in same if contents.beyond(content)]
    if unlikely:
        contents.find_elsewhere(unlikely, progress)
    for content, those in same.items():
        twins = contents.same_as(content)
        for result in those:
            out.exact[result.number] = out.holds[result.number] = twins
        out.candidates.extend(_exact(contents, content, those))
    if others:
        held.update(_compared(contents, others, progress))
    _confirm_beyond(contents, held, results, progress)
    for number, one in sorted(held.items()):
        result = results[number]
        if isinstance(one, OSError):
            out.unreadable[number] = system_words(one)
            continue
        files_held: set[int] = set()
        for content, compared in one.compared:
            twins = contents.same_as(content)
            files_held.update(twins)
            out.candidates.extend(_candidate(contents, result, n, compared) for n in _offered(contents, twins, result))
        out.holds[number] = sorted(files_held)
        out.shifted.extend(
            ShiftedMatch(number, n, shift, right)
            for content, shift, right in one.shifted
            for n in contents.same_as(content)[:MOST_SUGGESTED]
        )
    return out


# -- whole contents ---------------------------------------------------------------------------


def _told(contents: Contents, results: list[Result], progress: Progress) -> Iterator[tuple[Result, Told]]:
    """Each result with what is told of it at once."""
    quick = QuickMatch(contents)
    progress.start("results", sum(result.size for result in results))
    done = 0
    for batch, told in in_threads(quick.look, batches(results)):
        yield from zip(batch, told, strict=True)
        done += sum(result.size for result in batch)
        progress.at(done)
        progress.check()
    progress.finish()


def _exact(contents: Contents, content: int, results: list[Result]) -> Iterator[Candidate]:
    """Every file of a content with every result that is it; of very many, those that names and order pair."""
    twins = contents.same_as(content)
    size, beyond = contents.files[content].size, contents.beyond(content)
    whole = Compared(size, 0, None, damage.all_right(size), beyond, True)
    many = len(twins) * len(results) > _FEW_PAIRS
    for rank, result in enumerate(results):
        offered = {*_offered(contents, twins, result), twins[rank % len(twins)]} if many else twins
        for n in sorted(offered):
            yield _candidate(contents, result, n, whole, exact=True)


def _offered(contents: Contents, twins: list[int], result: Result) -> list[int]:
    """Of the files that share a content, those that a result can answer for: all of few, else the likeliest by name."""
    if len(twins) <= MOST_SUGGESTED:
        return twins
    own = set(twins)
    named = [n for n in contents.named(result.named) if n in own]
    return sorted({*named, *twins[: MOST_SUGGESTED - len(named)]})


def _candidate(contents: Contents, result: Result, n: int, compared: Compared, exact: bool = False) -> Candidate:
    name = compare_names(result.named, contents.files[n].path)
    return Candidate(
        result.number, n, compared.right, name, exact, compared.first_wrong, compared.damage, compared.beyond,
        result.confidence or 0.0,
    )  # fmt: skip


# -- contents in part -------------------------------------------------------------------------


def _compared(contents: Contents, results: list[Result], progress: Progress) -> Iterator[tuple[int, _Held | OSError]]:
    """What each result holds."""
    inquiry = _Inquiry(contents, Witnesses.of(contents, progress))
    progress.start("compare", sum(result.size for result in results))
    done = 0
    for result, held in in_threads(inquiry.look_into, results):
        yield result.number, held
        done += result.size
        progress.at(done)
        progress.check()
    progress.finish()


@dataclass(frozen=True, slots=True)
class _Inquiry:
    """What is needed to find out what a result that is no reference as a whole holds of any."""

    contents: Contents
    witnesses: Witnesses

    def look_into(self, result: Result) -> _Held | OSError:
        """Runs in a thread beside."""
        try:
            with result.opened() as read:
                hits = _hits(self.witnesses, result, read, self.contents.specimen.medium.size)
                weights: Counter[int] = Counter()
                for (content, _), weight in hits.items():
                    weights[content] += weight
                best = {n for n, _ in weights.most_common(_MOST_CANDIDATES)}
                suggested = self.contents.suggested(result.named, result.size) - best
                compared = [(n, _compare(self.contents, n, result, read)) for n in sorted(best | suggested)]
                shifts = {n: _best_shift(hits, n) for n in best}
                return _Held(
                    [(n, one) for n, one in compared if n in best or one.telling],
                    [
                        (n, shift, _right_at(self.contents, n, read, shift))
                        for n, shift in sorted(shifts.items())
                        if shift
                    ],
                )
        except OSError as error:
            return error


def _hits(witnesses: Witnesses, result: Result, read: Read, most: int) -> Found:
    """The witnesses that stand in the first `most` bytes of a result."""
    hits: Found = Counter()
    for position in range(0, min(result.size, most), _PIECE):
        hits += witnesses.standing_in(read(position, _PIECE), position)
    return hits or witnesses.anywhere_in(read(0, _ANYWHERE))


def _best_shift(hits: Found, content: int) -> int:
    """The shift at which most of a content's witnesses stand; 0 where none tells one."""
    shifts = [(weight, -abs(shift), shift) for (n, shift), weight in hits.items() if n == content and shift != NO_SHIFT]
    return max(shifts)[2] if shifts else 0


def _compare(contents: Contents, content: int, result: Result, read: Read) -> Compared:
    """Compare byte for byte, at the content's own offsets.

    Bytes count where at least half of their block is right (the rest would be chance), and in blocks that are gone
    from the medium only if the whole block is right.
    """
    size = contents.files[content].size
    comparison = Comparison(size, result.size, contents.gone(content), contents.is_named(content, result.named))
    for position, then, now in _pairs(contents, content, read):
        comparison.add(position, then, now)
    return comparison.result(contents.attainable(content))


def _pairs(contents: Contents, content: int, read: Read, shift: int = 0) -> Iterator[tuple[int, Bytes, Bytes]]:
    """(position, original bytes, result's bytes) piece by piece; those of the result `shift` bytes later. What lies
    before its start is zeros."""
    size = contents.files[content].size
    for position in range(0, size, _PIECE):
        length = min(_PIECE, size - position)
        then = np.empty(length, np.uint8)
        contents.original_into(content, position, then)
        before = min(max(-shift - position, 0), length)
        now = bytes(before) + read(position + shift + before, length - before)
        yield position, then, np.frombuffer(now, np.uint8)


def _right_at(contents: Contents, content: int, read: Read, shift: int) -> int:
    """Bytes of a content that are right in a result, each `shift` bytes later than it should be."""
    right = 0
    for _, then, now in _pairs(contents, content, read, shift):
        counts = right_bytes(then, now).astype(np.int64)
        whole = np.full(len(counts), BLOCK)
        whole[-1] = (len(then) - 1) % BLOCK + 1
        right += int(counts[counts * 2 >= whole].sum())
    return min(right, contents.attainable(content))


# -- above a ceiling --------------------------------------------------------------------------


def _confirm_beyond(
    contents: Contents, held: dict[int, _Held | OSError], results: list[Result], progress: Progress
) -> None:
    """Where a result holds blocks of a content that are gone, look whether they stand elsewhere on the medium, as parts
    of other files: then nothing is wrong with the truth, and it is compared once more."""
    suspects = {
        content
        for one in held.values() if not isinstance(one, OSError)
        for content, compared in one.compared if compared.beyond
    }  # fmt: skip
    if not suspects:
        return
    contents.find_elsewhere(suspects, progress)
    for number, one in held.items():
        if isinstance(one, OSError) or not any(compared.beyond for _, compared in one.compared):
            continue
        again: list[tuple[int, Compared]] = []
        with results[number].opened() as read:
            for content, compared in one.compared:
                once_more = compared.beyond and content in suspects
                again.append((content, _compare(contents, content, results[number], read) if once_more else compared))
        held[number] = replace(one, compared=again)
