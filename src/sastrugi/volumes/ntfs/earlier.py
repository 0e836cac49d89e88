"""Volumes that are no more, by what is left of their records and folders anywhere on a medium.

A record tells its own number, and its attributes how large a cluster was. Records of one table stand where their
numbers say, so those of one stretch belong together. Where the volume began is a vote: record 0 (or its copy) tells at
which cluster the table begins; a folder's record tells at which clusters its index blocks stand, and each of these
names the folder it is of; files begin as their names say.
"""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray

from sastrugi.media.base import Medium
from sastrugi.media.extents import Extent, RangeSet
from sastrugi.units import plural
from sastrugi.volumes.ntfs.layout import (
    DATA,
    FILE_MAGIC,
    FIRST_FREE,
    FIRST_RECORD,
    INDEX_ALLOCATION,
    INDEX_MAGIC,
    REFERENCE,
    STRIDE,
    Geometry,
    mended_block,
)
from sastrugi.volumes.ntfs.read import NtfsVolume
from sastrugi.volumes.ntfs.recorded_files import RecordedFiles
from sastrugi.volumes.ntfs.records import Record, Records, dissected, map_of
from sastrugi.volumes.reader import Entry, Volume

HeadTest = Callable[[str, int], bool | None]
_MOST_LIVES = 8
_MOST_PROBED = 64
_MOST_BLOCKS = 4096
_AT_ONCE = 4096
_NEVER = 1 << 50
"""More clusters than any volume has: its size is not known while records are looked for."""
_CLUSTERS = tuple(512 << n for n in range(13))
_LEAST_NUMBER, _FEW = 1, 3


@dataclass(slots=True)
class _Table:
    """Records that stand where one table would have them: `start` is where its record 0 stood or would have."""

    start: int
    size: int
    records: list[tuple[Record, int]] = field(default_factory=list)

    def cluster(self) -> int:
        """The cluster size that most of its records tell; 0 if none does."""
        votes = Counter(
            part.cluster for record, _ in self.records for part in record.parts if part.runs and part.cluster
        )
        return max(votes, key=lambda size: votes[size], default=0)


class EarlierNtfs(NtfsVolume):
    """A volume of which only records are left."""

    def __init__(self, medium: Medium, geometry: Geometry, tables: Sequence[_Table]) -> None:
        self._medium, self.geometry = medium, geometry
        self.where = self.data = Extent(geometry.offset, max(medium.size - geometry.offset, 0))
        self.cluster_size, self.label, self.serial, self.health = geometry.cluster, "", "", []
        self._bits = {}
        records = Records(geometry)
        for table in tables:
            for record, base in table.records:
                records.take(record, base)
        records.join()
        self.files = RecordedFiles(records, all_deleted=True)
        self.told_by = plural(len(records.by_number), "record")

    def entries(self) -> Iterator[Entry]:
        end = self.where.end
        for entry in self.files.entries():
            if all(extent.end <= end for extent in entry.map.stored):
                yield entry

    def own_extents(self) -> Iterator[tuple[str, Extent]]:
        for record in self.files.records.by_number.values():
            yield from (("table", extent) for extent in record.where)


def earlier_volumes(medium: Medium, sectors: Sequence[int], now: Sequence[Volume], head: HeadTest) -> list[Volume]:
    """The volumes that records at `sectors` (bytes of the medium, in order) are of and that are no volume of today.
    `head` tells whether a file of a name can begin at a byte."""
    own = RangeSet(e for v in now if isinstance(v, NtfsVolume) for e in v.table.stored)
    places = [at for at in sectors if at not in own]
    tables, blocks = _tables_at(medium, places)
    out: list[Volume] = []
    by_cluster: defaultdict[int, list[_Table]] = defaultdict(list)
    for table in tables:
        by_cluster[table.cluster()].append(table)
    unsized = by_cluster.pop(0, [])
    for cluster, those in sorted(by_cluster.items(), key=lambda item: -sum(len(t.records) for t in item[1])):
        left = those
        while left and len(out) < _MOST_LIVES:
            offset, own_tables = _best_start(medium, cluster, left, blocks, now, head)
            if not out:
                own_tables = [*own_tables, *unsized]
            sectors_of_it = max(medium.size - offset, cluster) // STRIDE
            geometry = Geometry(offset, STRIDE, cluster, sectors_of_it, 0, 0, those[0].size, _INDEX_SIZE, 0)
            found = EarlierNtfs(medium, geometry, own_tables)
            if any(True for _ in found.entries()):
                out.append(found)
            left = [table for table in left if table not in own_tables]
    return out


# -- records and index blocks -----------------------------------------------------------------------------------------


def _tables_at(medium: Medium, places: Sequence[int]) -> tuple[list[_Table], dict[int, tuple[int, int]]]:
    """Records by the tables they are of; and index blocks: for the byte of each, which folder it is of (a reference),
    and which of its clusters."""
    blocks: dict[int, tuple[int, int]] = {}
    kinds: dict[int, list[int]] = {1024: [], 4096: [], 512: [], 2048: []}
    for at in places:
        first = medium.read(at, 64)
        if first[:4] == INDEX_MAGIC and len(blocks) < _MOST_BLOCKS:
            told = _index_block(medium.read(at, _INDEX_SIZE))
            if told is not None:
                blocks[at] = told
        elif first[:4] == FILE_MAGIC:
            size = int.from_bytes(first[0x1C:0x20], "little")
            if size in kinds:
                kinds[size].append(at)
    tables: dict[tuple[int, int], _Table] = {}
    for size, found in kinds.items():
        for n in range(0, len(found), _AT_ONCE):
            positions = np.array(found[n : n + _AT_ONCE], np.int64)
            for record, base in dissected(_read_at(medium, positions, size), positions, None, _ANY):
                start = record.position - record.number * size
                tables.setdefault((start, size), _Table(start, size)).records.append((record, base))
    return list(tables.values()), blocks


_INDEX_SIZE = 4096
_ANY = Geometry(0, STRIDE, STRIDE, _NEVER, 0, 0, 1024, _INDEX_SIZE, 0)


def _read_at(medium: Medium, positions: NDArray[np.int64], size: int) -> NDArray[np.uint8]:
    """Blocks of `size` bytes from each of these bytes on, those side by side read at once."""
    out = np.zeros((len(positions), size), np.uint8)
    breaks = np.flatnonzero(np.diff(positions) != size) + 1
    for part in np.split(np.arange(len(positions)), breaks):
        data = medium.read(int(positions[part[0]]), len(part) * size).ljust(len(part) * size, b"\0")
        out[part] = np.frombuffer(data, "u1").reshape(-1, size)
    return out


def _index_block(data: bytes) -> tuple[int, int] | None:
    """The folder that a block of an index is of, as its first entry (also one taken out) says, and its number."""
    block = mended_block(data)
    if block is None:
        return None
    first = 0x18 + int.from_bytes(block[0x18:0x1C], "little")
    if not 0x40 <= first <= len(block) - 82:
        return None
    return int.from_bytes(block[first + 16 : first + 24], "little"), int.from_bytes(block[0x10:0x18], "little")


# -- where a volume began ---------------------------------------------------------------------------------------------


def _best_start(
    medium: Medium, cluster: int, tables: Sequence[_Table], blocks: dict[int, tuple[int, int]], now: Sequence[Volume],
    head: HeadTest,
) -> tuple[int, list[_Table]]:  # fmt: skip
    """Where the volume began that most of these tables are of, and those of them that fit."""
    votes: Counter[int] = Counter()
    # Of each table the likeliest start: volumes that are laid out alike vote for each other's, too.
    own_start: dict[int, int] = {}
    by_folder: defaultdict[int, list[tuple[int, int]]] = defaultdict(list)
    for at, (folder, number) in blocks.items():
        by_folder[folder & REFERENCE].append((at, number))
    for table in tables:
        own = _votes_of(table, cluster, by_folder)
        votes += own
        if own:
            own_start[table.start] = own.most_common(1)[0][0]
    known = [volume.where.offset for volume in now] + [0, 63 * STRIDE, 1 << 20]
    candidates = [*dict.fromkeys([start for start, _ in votes.most_common(_MOST_LIVES)] + known)]
    scores = {}
    for start in candidates:
        if start < 0:
            continue
        hits, misses = _probed(medium, start, cluster, tables, head)
        scores[start] = 3 * votes[start] + hits - misses
    best = max(scores, key=lambda start: scores[start], default=0)
    own_tables = [table for table in tables if own_start.get(table.start, best) == best]
    return best, own_tables or list(tables)


def _votes_of(table: _Table, cluster: int, by_folder: dict[int, list[tuple[int, int]]]) -> Counter[int]:
    out: Counter[int] = Counter()
    for record, _ in table.records:
        for part in record.parts:
            if not part.runs:
                continue
            if part.kind == DATA and not part.name and record.number == FIRST_RECORD and not part.vcn:
                out[table.start - part.runs[0][0] * cluster] += 2
            elif part.kind == INDEX_ALLOCATION:
                for at, number in by_folder.get(record.number, ()):
                    inside = number * (cluster if cluster <= _INDEX_SIZE else STRIDE)
                    placed = _byte_of(part.runs, part.vcn, inside, cluster)
                    if placed is not None:
                        out[at - placed] += 1
    return out


def _byte_of(runs: Sequence[tuple[int, int]], vcn: int, inside: int, cluster: int) -> int | None:
    """At which byte of the volume a byte of a part lies."""
    left = inside - vcn * cluster
    for start, count in runs:
        if 0 <= left < count * cluster:
            return start * cluster + left if start >= 0 else None
        left -= count * cluster
    return None


def _probed(medium: Medium, start: int, cluster: int, tables: Sequence[_Table], head: HeadTest) -> tuple[int, int]:
    """How many files begin as their names call for if the volume began at `start`; and how many do not."""
    hits = misses = 0
    geometry = replace(_ANY, offset=start, cluster=cluster)
    records = [r for table in tables for r, base in table.records if not base and r.number >= FIRST_FREE and r.names]
    for record in records[:: max(len(records) // _MOST_PROBED, 1)]:
        pieces = dict(record.streams()).get("")
        if not pieces or pieces[0].runs is None:
            continue
        place = map_of(pieces, geometry)[0]
        if place.start is None or place.coded or place.start >= medium.size:
            misses += place.start is not None and place.start >= medium.size
            continue
        answer = head(record.own_names()[0].text, place.start)
        if answer is not None:
            hits, misses = hits + answer, misses + (not answer)
    return hits, misses
