"""Records of the catalog and of the extents overflow file, read from nodes, or found among any bytes by their shape."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from sastrugi.volumes.allocation import Run
from sastrugi.volumes.hfsplus.layout import (
    FILE,
    FILE_RECORD,
    FILE_THREAD,
    FIRST_NUMBER,
    FOLDER,
    FOLDER_RECORD,
    FOLDER_THREAD,
    FORK,
    INSIDE,
    IS_FILE,
    KIND_MASK,
    LINK_CREATOR,
    LINK_TYPE,
    MOST_NAME,
    ROOT,
    THREAD_HEAD,
)
from sastrugi.volumes.hfsplus.names import text_of

_KEY_HEAD = 8
"""Bytes of a key in front of its name: length, folder, characters."""
_EXTENTS_RECORD = 12 + 64
_MOST_FOUND = 1 << 17
"""Records that are taken from one stretch of bytes that is no node in use."""


class Fork(NamedTuple):
    """A fork as its record tells it: bytes, blocks in all, and the first extents."""

    size: int
    blocks: int
    runs: tuple[Run, ...]


NO_FORK = Fork(0, 0, ())


class CatalogRecord(NamedTuple):
    """A record of the catalog. `at` is where it stands among the bytes it was read from, `length` its own, `data_at`
    where its data begin; without a key (`name` is None) the two are the same. Of a thread, `parent` and `name` are what
    it tells. Dates are seconds since 1904."""

    kind: int
    number: int
    parent: int
    name: str | None
    at: int
    length: int
    data_at: int
    created: int = 0
    modified: int = 0
    changed: int = 0
    accessed: int = 0
    mode: int = 0
    special: int = 0
    is_link: bool = False
    data: Fork = NO_FORK
    resource: Fork = NO_FORK


class Overflow(NamedTuple):
    """A record of the extents overflow file: further extents of a fork, from a block of it on."""

    number: int
    fork: int
    first: int
    runs: tuple[Run, ...]
    at: int


def runs_of(starts: list[int], counts: list[int]) -> tuple[Run, ...]:
    """Extents up to the first that is empty."""
    out: list[Run] = []
    for start, count in zip(starts, counts, strict=True):
        if not count:
            break
        out.append((start, count))
    return tuple(out)


def _word(data: NDArray[np.uint8], at: NDArray[np.int64]) -> NDArray[np.int64]:
    out: NDArray[np.int64] = data[at].astype(np.int64) << 8 | data[at + 1]
    return out


def _long(data: NDArray[np.uint8], at: NDArray[np.int64]) -> NDArray[np.int64]:
    return _word(data, at) << 16 | _word(data, at + 2)


def _rows(data: NDArray[np.uint8], at: NDArray[np.int64], dtype: np.dtype[np.void]) -> NDArray[np.void]:
    """Records of a type at places of some bytes."""
    out: NDArray[np.void] = data[at[:, None] + np.arange(dtype.itemsize)].view(dtype)[:, 0]
    return out


def _forks(rows: NDArray[np.void]) -> Iterator[Fork]:
    extents = rows["extents"]
    used = (extents["count"] > 0).any(axis=0)
    most = int(np.flatnonzero(used)[-1]) + 1 if used.any() else 1  # most files are in one piece
    for size, blocks, starts, counts in zip(
        rows["size"].tolist(), rows["blocks"].tolist(), extents["start"][:, :most].tolist(),
        extents["count"][:, :most].tolist(), strict=True,
    ):  # fmt: skip
        if blocks:
            yield Fork(size, blocks, runs_of(starts, counts))
        else:
            yield Fork(size, 0, ()) if size else NO_FORK


@dataclass(slots=True)
class Known:
    """Files and folders that stand: their numbers in order, when they were made, and at which block they begin (0: at
    none). `made_empty` becomes true where a record is seen of one that is not empty as if it were: its driver makes
    files so, and tells their sizes later."""

    numbers: NDArray[np.int64]
    created: NDArray[np.int64]
    starts: NDArray[np.int64]
    made_empty: bool = False

    def tell(
        self, numbers: NDArray[np.int64], created: NDArray[np.int64] | None, starts: NDArray[np.int64] | None
    ) -> NDArray[np.bool_]:
        """Of records: which say no more than what stands says (of threads: only by their numbers)."""
        if not len(self.numbers):
            return np.zeros(len(numbers), bool)
        at = np.minimum(np.searchsorted(self.numbers, numbers), len(self.numbers) - 1)
        same: NDArray[np.bool_] = self.numbers[at] == numbers
        if created is not None:
            same &= self.created[at] == created
        if starts is not None:
            self.made_empty |= bool((same & (starts == 0) & (self.starts[at] != 0)).any())
            same &= (self.starts[at] == starts) | (starts == 0)
        return same


_NONE = np.zeros(0, np.int64)
NOBODY = Known(_NONE, _NONE, _NONE)
EVERY_KIND = frozenset((FOLDER_RECORD, FILE_RECORD, FOLDER_THREAD, FILE_THREAD))


def records_at(
    data: NDArray[np.uint8], starts: NDArray[np.int64], ends: NDArray[np.int64],
    kinds: frozenset[int] = EVERY_KIND, known: Known = NOBODY,
) -> Iterator[CatalogRecord]:  # fmt: skip
    """The records of the catalog that stand from `starts` to `ends` of some bytes, of some kinds; what is none is left
    out, and what is `known`."""
    enough = ends - starts >= _KEY_HEAD + 2
    starts, ends = starts[enough], ends[enough]
    length, units = _word(data, starts), _word(data, starts + 6)
    data_at = starts + 2 + length
    good = (length >= 6) & (length == 6 + 2 * units) & (units <= MOST_NAME) & (data_at + 2 <= ends)
    starts, ends, data_at = starts[good], ends[good], data_at[good]
    kind, parent = _word(data, data_at), _long(data, starts + 2)
    raw = data.tobytes() if len(starts) else b""
    for wanted, dtype in ((FOLDER_RECORD, FOLDER), (FILE_RECORD, FILE)):
        own = (kind == wanted) & (data_at + dtype.itemsize <= ends) & (data_at > starts + _KEY_HEAD)
        if wanted not in kinds or not own.any():
            continue
        rows = _rows(data, data_at[own], dtype)
        new = ~_known_rows(known, rows)
        places = zip(parent[own][new].tolist(), starts[own][new].tolist(), data_at[own][new].tolist(), strict=True)
        named = (
            (folder, text_of(raw[start + _KEY_HEAD : at]), start, at - start + dtype.itemsize, at)
            for folder, start, at in places
        )
        yield from _of_rows(wanted, rows[new], named)
    own = np.isin(kind, [one for one in (FOLDER_THREAD, FILE_THREAD) if one in kinds])
    own &= (data_at + THREAD_HEAD + 2 <= ends) & ~known.tell(parent, None, None)
    yield from _threads(raw, data, kind[own], starts[own], data_at[own], ends[own], parent[own])


def _known_rows(known: Known, rows: NDArray[np.void]) -> NDArray[np.bool_]:
    starts = rows["data"]["extents"]["start"][:, 0].astype(np.int64) if "data" in (rows.dtype.names or ()) else None
    return known.tell(rows["number"].astype(np.int64), rows["created"].astype(np.int64), starts)


Place = tuple[int, str | None, int, int, int]
"""Of a record: folder, name, where it stands, its length, where its data begins."""


def _of_rows(kind: int, rows: NDArray[np.void], places: Iterable[Place]) -> Iterator[CatalogRecord]:
    """Records by their data, and what their keys say."""
    forks: Iterable[tuple[Fork, Fork]] = (
        zip(_forks(rows["data"]), _forks(rows["resource"]), strict=True)
        if kind == FILE_RECORD
        else [(NO_FORK, NO_FORK)] * len(rows)
    )
    links = (rows["file_type"].astype("V4") == np.void(LINK_TYPE)) & (rows["creator"] == np.void(LINK_CREATOR))
    links &= kind == FILE_RECORD
    columns = (
        rows[name].tolist() for name in ("number", "created", "modified", "changed", "accessed", "mode", "special")
    )
    for (folder, name, at, length, data_at), number, created, modified, changed, accessed, mode, special, is_link, (
        own, resource,
    ) in zip(places, *columns, links.tolist(), forks, strict=True):  # fmt: skip
        yield CatalogRecord(
            kind, number, folder, name, at, length, data_at, created, modified, changed, accessed, mode, special,
            is_link, own, resource,
        )  # fmt: skip


def _threads(
    raw: bytes, data: NDArray[np.uint8], kinds: NDArray[np.int64], starts: NDArray[np.int64],
    data_at: NDArray[np.int64], ends: NDArray[np.int64], numbers: NDArray[np.int64],
) -> Iterator[CatalogRecord]:  # fmt: skip
    if not len(starts):
        return
    parents, units = _long(data, data_at + 4), _word(data, data_at + THREAD_HEAD)
    behind = data_at + THREAD_HEAD + 2 + 2 * units
    for kind, number, parent, start, at, end, limit in zip(
        kinds.tolist(), numbers.tolist(), parents.tolist(), starts.tolist(), data_at.tolist(), behind.tolist(),
        ends.tolist(), strict=True,
    ):  # fmt: skip
        if end <= limit and number >= ROOT:
            name = text_of(raw[at + THREAD_HEAD + 2 : end])
            yield CatalogRecord(kind, number, parent, name, start, end - start, at)


def shaped_records(data: NDArray[np.uint8], known: Known = NOBODY) -> Iterator[CatalogRecord]:
    """Records of the catalog at any even place of some bytes, by what they say of themselves; of a file whose key is
    gone the data alone. Not those of which all is `known`."""
    words = data[: len(data) // 2 * 2].view(">u2")
    if len(words) < _KEY_HEAD:
        return
    length = words[:-4].astype(np.int32)
    units = words[3:-1].astype(np.int32)
    found = np.flatnonzero((length >= 6) & (length == 6 + 2 * units) & (units <= MOST_NAME)).astype(np.int64) * 2
    found = found[:_MOST_FOUND]
    keyed = found + 2 + _word(data, found)  # where their data begin, also of those that are known
    for record in records_at(data, found, np.full(len(found), len(data), np.int64), known=known):
        if _can_be(record):
            yield record
    yield from _without_key(data, words, keyed, known)


def _without_key(
    data: NDArray[np.uint8], words: NDArray[np.uint16], keyed: NDArray[np.int64], known: Known
) -> Iterator[CatalogRecord]:
    """Files by the data of their records, of which nothing in front says where it begins."""
    at = np.flatnonzero((words[:-4] == FILE_RECORD) & (words[2:-2] == 0) & (words[3:-1] == 0)).astype(np.int64) * 2
    at = at[at + FILE.itemsize <= len(data)][:_MOST_FOUND]
    at = at[~np.isin(at, keyed)]
    if not len(at):
        return
    rows = _rows(data, at, FILE)
    good = (rows["mode"] & KIND_MASK == IS_FILE) & (rows["reserved"] == 0) & ~_known_rows(known, rows)
    places: Iterator[Place] = ((0, None, place, FILE.itemsize, place) for place in at[good].tolist())
    yield from filter(_can_be, _of_rows(FILE_RECORD, rows[good], places))


def _can_be(record: CatalogRecord) -> bool:
    """Whether what looks like a record tells nothing that cannot be."""
    if record.name == "" or record.number < (ROOT if record.kind == FOLDER_RECORD else FIRST_NUMBER):
        return record.kind == FOLDER_THREAD and record.number == ROOT
    if record.kind in (FILE_THREAD, FOLDER_THREAD):
        return record.parent != record.number and record.parent > 0
    return all(
        sum(count for _, count in fork.runs) == fork.blocks
        if len(fork.runs) < INSIDE
        else sum(count for _, count in fork.runs) <= fork.blocks
        for fork in (record.data, record.resource)
    ) and (record.name is None or record.parent > 0)


def shaped_overflow(data: NDArray[np.uint8]) -> Iterator[Overflow]:
    """Records of the extents overflow file at any even place of some bytes."""
    words = data[: len(data) // 2 * 2].view(">u2")
    if len(words) * 2 < _EXTENTS_RECORD:
        return
    own = (words[:-3] == 10) & ((words[1:-2] == 0) | (words[1:-2] == 0xFF00))
    found = np.flatnonzero(own).astype(np.int64)[:_MOST_FOUND] * 2
    found = found[found + _EXTENTS_RECORD <= len(data)]
    yield from overflow_at(data, found)


def overflow_at(data: NDArray[np.uint8], starts: NDArray[np.int64]) -> Iterator[Overflow]:
    """The records of the extents overflow file that stand at places of some bytes."""
    starts = starts[starts + _EXTENTS_RECORD <= len(data)]
    if not len(starts):
        return
    starts = starts[_word(data, starts) == 10]
    rows = data[starts[:, None] + np.arange(12, _EXTENTS_RECORD)].view(FORK["extents"].base)
    for at, fork, number, first, first_blocks, counts in zip(
        starts.tolist(), data[starts + 2].tolist(), _long(data, starts + 4).tolist(), _long(data, starts + 8).tolist(),
        rows["start"].tolist(), rows["count"].tolist(), strict=True,
    ):  # fmt: skip
        runs = runs_of(first_blocks, counts)
        if runs and number:
            yield Overflow(number, fork, first, runs, at)
