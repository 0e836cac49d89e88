"""Results that are one content, or one but for a few blocks: told many at once by digest and by their first blocks, so
that only the others cost a look at every block that there is."""

from __future__ import annotations

import threading
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from blake3 import blake3

from sastrugi.progress import Progress
from sastrugi.scoring.block_index import HEAD_BLOCKS, Heads
from sastrugi.scoring.comparison import Bytes, Compared
from sastrugi.scoring.contents import Contents
from sastrugi.scoring.exact_extents import ExactPlaces
from sastrugi.scoring.results import Result
from sastrugi.specimen.blocks import BLOCK, block_hashes

_LARGEST = 4 << 20
"""Bytes of a result that is looked at together with others."""
_BATCH_BYTES, _BATCH_FILES = 4 << 20, 512


@dataclass(frozen=True, slots=True)
class Nearly:
    """A result that is a content but for some blocks; `compared` says which."""

    content: int
    compared: Compared


Told = int | Nearly | OSError | None
"""The content that a result is; or nearly is; why it cannot be read; or nothing."""


@dataclass(slots=True)
class _Slot:
    """Where in a buffer of whole blocks a result stands: its number in the batch, first block, blocks and bytes."""

    number: int
    first: int
    blocks: int
    size: int
    content: int = -1
    telling: int = 0


def batches(results: Iterable[Result]) -> Iterator[list[Result]]:
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


class QuickMatch:
    """Runs in threads: one `look` each."""

    def __init__(self, contents: Contents) -> None:
        self._contents = contents
        self._in_place = ExactPlaces(contents.files)
        self._heads: Heads | None = None
        self._lock = threading.Lock()
        self._own = threading.local()
        self._whole = self._in_part = 0
        """Results told so far. Where most are whole, a digest tells them soonest; else a look at their first blocks."""

    def look(self, batch: Sequence[Result]) -> list[Told]:
        """What each result of a batch is, in their order."""
        told: list[Told] = [None] * len(batch)
        room = sum(-(-result.size // BLOCK) for result in batch if result.size <= _LARGEST)
        buffer = self._room("now", room * BLOCK)
        slots: list[_Slot] = []
        digest_first = self._whole >= self._in_part
        block = 0
        for number, result in enumerate(batch):
            place = buffer[block * BLOCK : (block - (-result.size // BLOCK)) * BLOCK]
            try:
                told[number] = self._known(result, place, digest_first)
            except OSError as error:
                told[number] = error
            if told[number] is None and 0 < result.size <= _LARGEST:
                slots.append(_Slot(number, block, -(-result.size // BLOCK), result.size))
                block += slots[-1].blocks
        if slots:
            self._nearly(slots, buffer[: block * BLOCK], told)
            for slot in slots if not digest_first else ():
                if told[slot.number] is None:
                    at = slot.first * BLOCK
                    told[slot.number] = self._by_digest(buffer[at : at + slot.size])
        self._whole += sum(isinstance(one, int) for one in told)
        self._in_part += sum(isinstance(one, Nearly) for one in told)
        return told

    def _room(self, name: str, size: int) -> Bytes:
        """So many bytes of a buffer that this thread keeps: fresh memory costs more than what is done in it."""
        kept: Bytes | None = getattr(self._own, name, None)
        if kept is None or len(kept) < size:
            kept = np.empty(size, np.uint8)
            setattr(self._own, name, kept)
        return kept[:size]

    def _known(self, result: Result, place: Bytes, digest_first: bool) -> int | None:
        """The content that a result is, by its place or (of small ones: if that is asked for first) its digest. What
        is small is read into `place`, filled up with zeros."""
        known = result.size in self._contents.sizes
        digest = self._in_place.digest(result) if known else None
        if digest is None and result.size > _LARGEST:
            digest = result.blake3() if known else None
        elif digest is None:
            place[result.read_into(place[: result.size].data) :] = 0
            return self._by_digest(place[: result.size]) if digest_first or not result.size else None
        return self._named(digest)

    def _by_digest(self, data: Bytes) -> int | None:
        return self._named(blake3(data.data).hexdigest()) if len(data) in self._contents.sizes else None

    def _named(self, digest: str | None) -> int | None:
        twins = self._contents.twins.get(digest or "")
        return twins[0] if twins else None

    def _nearly(self, slots: list[_Slot], now: Bytes, told: list[Told]) -> None:
        """Tell those that are one content but for fewer blocks than their first ones tell that they are no other."""
        self._find_owners(slots, now)
        chosen = [slot for slot in slots if slot.content >= 0]
        if not chosen:
            return
        then = self._room("then", len(now))
        for slot in chosen:
            at = slot.first * BLOCK
            self._contents.original_into(slot.content, 0, then[at : at + slot.size])
            then[at + slot.size : (slot.first + slot.blocks) * BLOCK] = 0
        differs = np.flatnonzero(now.view("<u8") != then.view("<u8")) // (BLOCK // 8)
        wrong = differs[np.append(True, differs[1:] != differs[:-1])] if len(differs) else differs
        edges = np.searchsorted(wrong, [(slot.first, slot.first + slot.blocks) for slot in chosen])
        rows = now.reshape(-1, BLOCK)[wrong] == then.reshape(-1, BLOCK)[wrong]
        firsts = rows.argmin(axis=1).tolist() if len(wrong) else []
        rights = rows.sum(axis=1).tolist()
        blocks = wrong.tolist()
        for slot, (lo, hi) in zip(chosen, edges.tolist(), strict=True):
            if lo == hi and slot.size == self._contents.files[slot.content].size:
                told[slot.number] = slot.content
            elif hi - lo < slot.telling:
                own = [block - slot.first for block in blocks[lo:hi]]
                first = own[0] * BLOCK + firsts[lo] if own else None
                told[slot.number] = Nearly(slot.content, self._compared(slot, own, rights[lo:hi], first))

    def _find_owners(self, slots: list[_Slot], now: Bytes) -> None:
        """Give each slot the content that all of its first blocks are of, where there is one that may hold it."""
        with self._lock:
            if self._heads is None:
                self._heads = Heads.of(self._contents, Progress())
        heads = [min(slot.size // BLOCK, HEAD_BLOCKS) for slot in slots]
        rows = [slot.first + n for slot, count in zip(slots, heads, strict=True) for n in range(count)]
        hashes = block_hashes(np.ascontiguousarray(now.reshape(-1, BLOCK)[rows]).reshape(-1))
        owners = self._heads.owners(hashes).tolist()
        ends = np.cumsum([0, *heads]).tolist()
        for slot, (lo, hi) in zip(slots, pairwise(ends), strict=True):
            known = {owner for owner in owners[lo:hi] if owner not in (Heads.CONSTANT, Heads.NOBODY)}
            content = known.pop() if len(known) == 1 else -1
            if (
                content < 0
                or slot.size > self._contents.files[content].size
                or self._contents.gone(content) is not None
            ):
                continue
            slot.content, slot.telling = content, hi - lo - owners[lo:hi].count(Heads.CONSTANT)

    def _compared(self, slot: _Slot, wrong: list[int], rights: list[int], first: int | None) -> Compared:
        """As comparison.Comparison would say it of a content that stands whole: `wrong` are the numbers of blocks that
        are, `rights` the bytes of each that are right all the same, `first` the first byte that is not."""
        size, result = self._contents.files[slot.content].size, slot.size
        right = result
        for n, count in zip(wrong, rights, strict=True):
            length = min(result - n * BLOCK, BLOCK)
            count -= BLOCK - length  # behind the end both are zeros
            right -= length - (count if count * 2 >= length else 0)
        if result < size:
            first = result if first is None else first
            if result % BLOCK and (not wrong or wrong[-1] != slot.blocks - 1):
                wrong = [*wrong, slot.blocks - 1]  # what there is of it is right, and the rest is absent
        return Compared(right, len(wrong), first, _code(wrong, slot.blocks, -(-size // BLOCK)), False, True)


def _code(wrong: list[int], present: int, blocks: int) -> str:
    """The code of a map (see damage) of which these blocks are wrong, and all from `present` on absent."""
    runs: list[list[int]] = []
    for n in wrong:
        if runs and runs[-1][1] == n:
            runs[-1][1] = n + 1
        else:
            runs.append([n, n + 1])
    out, at = "", 0
    for lo, hi in runs:
        out += (f"{lo - at}R" if lo > at else "") + f"{hi - lo}W"
        at = hi
    out += f"{present - at}R" if present > at else ""
    return out + (f"{blocks - present}A" if blocks > present else "")
