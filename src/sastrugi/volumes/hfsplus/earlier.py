"""Volumes that are no more: leaf nodes of their catalogs, found anywhere by their shape.

A format writes a new header, a bitmap and the first nodes of new trees; all other nodes of the old catalog stay until
files are put over them. What they say of each other gives the tree of folders back; where the blocks that they speak
of are follows from which of the files begin as their names call for.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterable, Iterator, Sequence

import numpy as np

from sastrugi.media.base import Medium
from sastrugi.media.extents import Extent, RangeSet
from sastrugi.units import plural
from sastrugi.volumes.hfsplus.catalog_read import shaped_overflow, shaped_records
from sastrugi.volumes.hfsplus.layout import DESCRIPTOR_SIZE, FILE_RECORD, FIRST_NUMBER, MOST_NODE, Geometry
from sastrugi.volumes.hfsplus.pool import Pool, Told
from sastrugi.volumes.hfsplus.read import HfsVolume
from sastrugi.volumes.reader import Conflict, Entry, Volume

HeadTest = Callable[[str, int], bool | None]
_MOST_NODES, _MOST_PROBED = 1 << 17, 200
_NODE_SIZES = (4096, 8192, 16384, 32768, 2048, 1024, 512)
_BLOCK_SIZES = (4096, 1024, 512, 2048, 8192, 16384, 32768, 65536)
_USUAL_START = 1 << 20


def node_at(medium: Medium, at: int) -> bytes:
    """The node that begins at a byte: as long as its offsets bear out, else as long as most are."""
    data = medium.read(at, MOST_NODE)
    count = int.from_bytes(data[10:12], "big")
    for size in _NODE_SIZES:
        table = np.frombuffer(data[max(size - 2 * (count + 1), 0) : size], ">u2")[::-1].astype(np.int64)
        fits = len(data) >= size and len(table) == count + 1 and table[0] == DESCRIPTOR_SIZE
        if fits and (np.diff(table) > 0).all() and table[-1] <= size - 2 * (count + 1):
            return data[:size]
    return data[: _NODE_SIZES[0]]


class EarlierHfs(Volume):
    """What is left of a volume that was there before."""

    family = "hfsplus"
    tells_all_places = True
    file_system = "HFS+"
    label, serial = "", ""
    mountable = False

    def __init__(self, medium: Medium, pool: Pool, nodes: Sequence[Extent]) -> None:
        g = pool.geometry
        self._pool, self._nodes = pool, nodes
        end = min(g.offset + g.size, medium.size)
        self.where = self.data = Extent(g.offset, max(end - g.offset, 0))
        self.cluster_size, self.health = g.block, []
        self.told_by = plural(len(pool.files), "record")

    def entries(self) -> Iterator[Entry]:
        """Every file that the records tell of; numbers may have been given out once in each life."""
        hollow = self._pool.made_empty
        for number, every in self._pool.files.items():
            by_life: defaultdict[int, list[Told]] = defaultdict(list)
            for told in every.values():
                by_life[told.record.created].append(told)
            for of_life in by_life.values() if number >= FIRST_NUMBER else ():
                best = max(of_life, key=lambda told: (told.record.name is not None, told.age))
                if best.record.data.size or not hollow:
                    yield from self._pool.entries(number, best)

    def own_extents(self) -> Iterator[tuple[str, Extent]]:
        return (("table", node) for node in self._nodes)

    def used_and_free(self) -> tuple[int, int]:
        return 0, self.data.length

    def conflicts(self, extents: tuple[Extent, ...]) -> list[Conflict]:
        return []


def earlier_volumes(medium: Medium, sectors: Sequence[int], now: Sequence[Volume], head: HeadTest) -> list[Volume]:
    """What volumes of today were before their format, and volumes over which others lie; `sectors` are bytes at which
    leaf nodes stand."""
    out: list[Volume] = []
    ours = [volume for volume in now if isinstance(volume, HfsVolume)]
    own = RangeSet(extent for volume in ours for _, extent in volume.own_extents())
    loose: defaultdict[int, list[int]] = defaultdict(list)
    for at in list(sectors)[:_MOST_NODES]:
        if not own.overlap(Extent(at, 1)):
            holder = next((n for n, volume in enumerate(now) if volume.where.offset <= at < volume.where.end), -1)
            loose[holder].append(at)
    for n, volume in enumerate(now):
        if isinstance(volume, HfsVolume) and volume.past.before.files:
            loose.setdefault(n, [])
    for holder, places in sorted(loose.items()):
        over = now[holder] if holder >= 0 else None
        before = over.past.before if isinstance(over, HfsVolume) else None
        found = _earlier(medium, places, over, before, now, head)
        if found is not None:
            out.append(found)
    return out


def _earlier(
    medium: Medium, places: Sequence[int], volume: Volume | None, before: Pool | None, now: Sequence[Volume],
    head: HeadTest,
) -> EarlierHfs | None:  # fmt: skip
    """The volume that loose nodes are of, all of which lie in one volume of today or in none."""
    start = volume.where.offset if volume is not None else 0
    pool = before or Pool(Geometry(start, medium.size - start, _BLOCK_SIZES[0], 1 << 32))
    nodes: list[Extent] = []
    for at in places:
        data = node_at(medium, at)
        raw = np.frombuffer(data, "u1")
        nodes.append(Extent(at, len(data)))
        for record in shaped_records(raw):
            pool.add(Told(record, (Extent(at + record.at, record.length),), 0, ""))
        for one in shaped_overflow(raw):
            pool.add_further(one)
    if not pool.files:
        return None
    pool.geometry = _geometry_for(medium, pool, volume, now, head)
    return EarlierHfs(medium, pool, nodes)


def _geometry_for(
    medium: Medium, pool: Pool, volume: Volume | None, now: Sequence[Volume], head: HeadTest
) -> Geometry:  # fmt: skip
    """Where blocks are: the start and size by which the most files begin as their names call for."""
    records = [
        told.record
        for every in pool.files.values()
        for told in list(every.values())[:1]
        if told.record.name is not None and told.record.kind == FILE_RECORD and told.record.data.runs
    ]
    step = max(len(records) // _MOST_PROBED, 1)
    best, most = pool.geometry, -1
    for start, block in _candidates(volume, now):
        hits = 0
        for record in records[::step]:
            at = start + record.data.runs[0][0] * block
            hits += bool(at < medium.size and head(record.name or "", at))
        if hits > most:
            best, most = Geometry(start, medium.size - start, block, (medium.size - start) // block), hits
    return best


def _candidates(volume: Volume | None, now: Sequence[Volume]) -> Iterable[tuple[int, int]]:
    """Starts and block sizes there can have been, the likeliest first."""
    starts = [volume.where.offset] if volume is not None else []
    starts += [other.where.offset for other in now] + [_USUAL_START, 0]
    first = volume.cluster_size if isinstance(volume, HfsVolume) else _BLOCK_SIZES[0]
    return [
        (start, block) for start in dict.fromkeys(starts) for block in dict.fromkeys((first, *_BLOCK_SIZES))
    ]  # fmt: skip
