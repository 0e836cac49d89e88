"""What a volume's own trees and its journal still tell of files that are no more.

Records that are taken out of a node leave what stood last behind its new end; nodes that are given back stay as they
were; and the journal holds nodes as they were before. Which copies are older is told by where they stand in it.
"""

from __future__ import annotations

from collections.abc import Iterator
from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from sastrugi.media.base import Medium
from sastrugi.media.extents import Extent
from sastrugi.volumes.hfsplus.catalog_read import CatalogRecord, shaped_overflow, shaped_records
from sastrugi.volumes.hfsplus.layout import DATA_FORK, FILE_RECORD, FOLDER_RECORD, HEADER, INDEX, MAP, ROOT
from sastrugi.volumes.hfsplus.pool import Pool, Told, times_of
from sastrugi.volumes.hfsplus.tree_read import Nodes, spans_of
from sastrugi.volumes.reader import Entry, Numbered, Times

if TYPE_CHECKING:
    from sastrugi.volumes.hfsplus.read import HfsVolume

_AT_ONCE, _OVERLAP = 4 << 20, 2048
_FOREIGN = 3
"""Of so many records of a node one must be foreign before all are: what looks like a record may be none."""
_IN_JOURNAL = "the journal"


class Past:
    """`pool` is what was found of this volume; `before` what is of an earlier one, whose nodes the new one's own tree
    lies over and has not used yet."""

    def __init__(self, volume: HfsVolume, medium: Medium) -> None:
        self._volume, self._medium = volume, medium
        self.pool = Pool(volume.geometry, volume.paths)
        self.before = Pool(volume.geometry)
        self._read_tree()
        self._read_overflow()
        self._read_journal()

    # -- where to look ----------------------------------------------------------------------

    def _read_tree(self) -> None:
        tree = self._volume.catalog
        used = tree.leaves[0]
        for some in tree.every():
            data = unused_bytes(some, used[some.numbers], tree.given_out[some.numbers])
            by_node: dict[int, list[Told]] = {}
            for record in shaped_records(data.reshape(-1), self._volume.known):
                number = int(some.numbers[record.at // tree.node])
                at = number * tree.node + record.at % tree.node
                by_node.setdefault(number, []).append(Told(record, tree.places(at, record.length), 0, ""))
            for number, told in by_node.items():
                strange = sum(self._is_foreign(one.record) for one in told)
                foreign = not used[number] and strange * _FOREIGN > len(told)
                for one in told:
                    if foreign:
                        self.before.add(one)
                    elif one.record.number < self._volume.next_number:
                        self.pool.add(one)

    def _is_foreign(self, record: CatalogRecord) -> bool:
        """Whether a record cannot be of this volume: its number is not given out, or to a file made at another time, or
        it was last changed before the volume was made."""
        volume = self._volume
        if record.number >= volume.next_number:
            return True
        if record.kind not in (FILE_RECORD, FOLDER_RECORD):
            return False
        live = volume.created.get(record.number)
        if record.number == ROOT or live is None:
            return 0 < record.changed < volume.made
        return live != record.created

    def _read_overflow(self) -> None:
        tree = self._volume.extents_tree
        used = tree.leaves[0]
        for some in tree.every():
            data = unused_bytes(some, used[some.numbers], tree.given_out[some.numbers])
            for one in shaped_overflow(data.reshape(-1)):
                self.pool.add_further(one)
                self.before.add_further(one)

    def _read_journal(self) -> None:
        journal = self._volume.journal
        if journal is None:
            return
        start, end = journal.where.offset + journal.head, min(journal.where.end, self._medium.size)
        room = journal.where.length - journal.head
        for held in self._medium.data_ranges(start, end):
            for at in range(held.offset, held.end, _AT_ONCE):
                data = np.frombuffer(self._medium.read(at, min(_AT_ONCE + _OVERLAP, held.end - at)), "u1")
                for record in shaped_records(data, self._volume.known):
                    place = at + record.at
                    order = 1 + (place - journal.where.offset - journal.behind) % room
                    if record.number < self._volume.next_number:
                        self.pool.add(Told(record, (Extent(place, record.length),), order, _IN_JOURNAL))
                for one in shaped_overflow(data):
                    self.pool.add_further(one)

    # -- what was found ---------------------------------------------------------------------

    def entries(self, from_journal: bool) -> Iterator[Entry]:
        """The files that are gone of which most is told by the journal, or by the trees."""
        pool, volume = self.pool, self._volume
        for number in sorted(pool.files):
            told = self._earlier_version(number) if number in volume.created else pool.best(number)
            if told is None or bool(told.order) != from_journal or (not told.record.data.size and self._made_empty):
                continue
            if told.record.parent == ROOT and volume.is_own(told.record.name or ""):
                continue
            yield from pool.entries(number, told)

    @cached_property
    def _made_empty(self) -> bool:
        """Whether records of empty files are of such, or of what was made empty."""
        return self._volume.makes_empty or self._volume.known.made_empty or self.pool.made_empty

    def numbered(self) -> Iterator[Numbered]:
        """The files and folders that are gone."""
        pool = self.pool
        for number in sorted({*pool.names, *pool.files} - self._volume.created.keys()):
            path, sure, _, _ = pool.path(number)
            told = pool.best(number) if number in pool.files else None
            place = pool.map_of(told.record.data, number, DATA_FORK)[0].stored if told is not None else ()
            times = times_of(told.record) if told is not None else Times()
            named = number in pool.names
            yield Numbered(number, path if named else None, pool.is_folder(number), place or None, times, sure)

    def _earlier_version(self, number: int) -> Told | None:
        """Of a file that stands: the newest record that tells another place than it has now, if any does."""
        now = self._volume.starts.get(number)
        pool = self.pool
        others = [
            told
            for told in pool.files[number].values()
            if told.record.data.runs
            and told.record.data.runs[0][0] != now
            and told.record.created == self._volume.created[number]
        ]
        whole = [told for told in others if not pool.map_of(told.record.data, number, 0)[1]]
        return max(whole, key=lambda told: told.age, default=None)


def unused_bytes(some: Nodes, leaves: NDArray[np.bool_], given_out: NDArray[np.bool_]) -> NDArray[np.uint8]:
    """The bytes of nodes with zeros in place of what is in use: descriptors, records and offsets of leaves, and all of
    the other nodes that are given out."""
    data = some.data.copy()
    kinds = some.data[:, 8].view(np.int8)
    size = data.shape[1]
    begins = spans_of(data).behind - np.arange(len(data)) * size
    counts = data[:, 10].astype(np.int64) << 8 | data[:, 11]
    ends = np.maximum(size - 2 * (counts + 1), 0)
    column = np.arange(size)
    data[leaves[:, None] & ((column < begins[:, None]) | (column >= ends[:, None]))] = 0
    data[given_out & np.isin(kinds, (HEADER, MAP, INDEX))] = 0
    return data
