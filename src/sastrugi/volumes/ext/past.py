"""A volume's past by its journal: every older copy of inodes and folders' blocks, joined into files that are no more.

Copies of one block by their transactions are its versions; the last is what stands now. An inode's life is the versions
in which it is of one generation and has a name; what is told of a life is its newest version that still has places. A
name stands in a folder's block from one version to the one in which it is missing: it was a file's last where that
comes no earlier than the life's end.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from sastrugi.media.base import Medium
from sastrugi.media.extents import Extent
from sastrugi.media.filemap import FileMap
from sastrugi.volumes.ext.entries import DOT, DOTS, LOST_FOLDER, entries_of, entries_of_many, text_of
from sastrugi.volumes.ext.inodes import alive, times_of, widened
from sastrugi.volumes.ext.journal_layout import MAGIC_BYTES
from sastrugi.volumes.ext.journal_read import Copies, read_copies
from sastrugi.volumes.ext.layout import FIRST_INODE, IS_FILE, IS_FOLDER, KIND_MASK, Inode
from sastrugi.volumes.ext.mapping import ReadBlock, map_of, placed
from sastrugi.volumes.reader import Entry, Placement

if TYPE_CHECKING:
    from sastrugi.volumes.ext.read import ExtVolume

NOW = 1 << 62
_AT_ONCE = 16 << 20
_MOST_DEPTH = 256
_MOST_BLOCKS = 1 << 16
"""Blocks of one run of a folder."""
_GAP = -1
_FACTOR = np.uint64(0xD6E8FEB86659FD93)


@dataclass(slots=True)
class Life:
    """An inode while it was of one generation: first and newest transaction of versions with a name, the transaction
    that ended it, and its newest version that has places; where that stands, and whether its checksum fits."""

    number: int
    generation: int
    first: int
    last: int
    end: int
    row: Inode
    raw: bytes
    at: int
    good: bool


@dataclass(slots=True)
class PastName:
    """An entry of a folder's block: from the first to the last version that has it; `gone` is the transaction of the
    first that has not (NOW: it stands)."""

    block: int
    name: bytes
    first: int
    last: int
    gone: int
    at: int
    length: int


@dataclass(slots=True)
class _Found:
    lives: list[Life] = field(default_factory=list)
    folders: defaultdict[int, list[Life]] = field(default_factory=lambda: defaultdict(list))
    names: defaultdict[int, list[PastName]] = field(default_factory=lambda: defaultdict(list))
    owners: defaultdict[int, list[tuple[int, int, int]]] = field(default_factory=lambda: defaultdict(list))
    """Of blocks of folders, which had them: (from which transaction on, the one that ended that, inode)."""


class Past:
    """What the journal of a volume tells."""

    def __init__(self, volume: ExtVolume, medium: Medium) -> None:
        self._volume, self._medium, self._geometry = volume, medium, volume.geometry
        g = self._geometry
        self._copies: Copies = read_copies(medium, volume.journal, g.block, g.blocks)
        self._found = _Found()
        self._paths: dict[tuple[int, int], tuple[tuple[str, ...], float]] = {}
        own = self._in_tables()
        self._read_inodes(own)
        self._own_folders()
        self._read_folders(~own)
        self._read_gaps()

    # -- inodes -----------------------------------------------------------------------------

    def _in_tables(self) -> NDArray[np.bool_]:
        """Which copies are of blocks of the inode tables."""
        tables = self._volume.tables
        starts = np.sort(tables.tables[tables.good])
        if not len(starts):
            return np.zeros(len(self._copies), bool)
        before = np.searchsorted(starts, self._copies.block, side="right") - 1
        inside = self._copies.block - starts[np.maximum(before, 0)] < self._geometry.table_blocks
        return np.asarray((before >= 0) & inside)

    def _versions(self, block: int) -> tuple[list[int], list[int], list[bool], NDArray[np.uint8]]:
        """Transactions, places, whether good, and bytes (shape (n, block)) of all versions of a block, NOW the last."""
        g, copies = self._geometry, self._copies
        where = copies.of(block)
        places = [*copies.at[where].tolist(), g.at(block)]
        transactions = [*copies.transaction[where].tolist(), NOW]
        data = bytearray()
        for place, escaped in zip(places, [*copies.escaped[where].tolist(), False], strict=True):
            one = self._medium.read(place, g.block).ljust(g.block, b"\0")
            data += MAGIC_BYTES + one[4:] if escaped else one
        return (
            transactions,
            places,
            [*copies.good[where].tolist(), True],
            np.frombuffer(bytes(data), "u1").reshape(-1, g.block),
        )

    def _read_inodes(self, own: NDArray[np.bool_]) -> None:
        g, tables = self._geometry, self._volume.tables
        starts = tables.tables
        order = np.argsort(starts)
        for block in np.unique(self._copies.block[own]).tolist():
            group = int(order[np.searchsorted(starts[order], block, side="right") - 1])
            first = group * g.group_inodes + (block - int(starts[group])) * (g.block // g.inode) + 1
            transactions, places, good, data = self._versions(block)
            count = g.block // g.inode
            raw = data.reshape(-1, g.inode)
            rows = widened(raw).reshape(len(transactions), count)
            living = alive(rows.reshape(-1)).reshape(rows.shape)
            # A slot whose only life goes on tells nothing; nor does one that never had a name.
            same = living & living[-1] & (rows["generation"] == rows["generation"][-1])
            for slot in np.flatnonzero((living & ~same).any(axis=0)).tolist():
                number = first + slot
                if number < FIRST_INODE or number > (group + 1) * g.group_inodes:
                    continue
                at = [place + slot * g.inode for place in places]
                self._lives_of(number, rows[:, slot], raw[slot::count], living[:, slot], transactions, at, good)

    def _lives_of(
        self, number: int, rows: NDArray[np.void], raw: NDArray[np.uint8], living: NDArray[np.bool_],
        transactions: list[int], at: list[int], good: list[bool],
    ) -> None:  # fmt: skip
        life: Life | None = None
        for n in range(len(transactions)):
            generation = int(rows[n]["generation"])
            if life is not None and (not living[n] or generation != life.generation):
                life.end = transactions[n]
                self._add(life)
                life = None
            if not living[n]:
                continue
            if life is None:
                life = Life(number, generation, transactions[n], transactions[n], NOW, Inode.of(rows[n]), b"", -1, True)
            life.last = transactions[n]
            row = Inode.of(rows[n])
            if row.length or life.at < 0:
                life.row, life.raw, life.at, life.good = row, raw[n].tobytes(), at[n], good[n]
        # A life that goes on is no past; its folders' places are known.

    def _add(self, life: Life) -> None:
        kind = life.row.mode & KIND_MASK
        if kind == IS_FOLDER:
            self._found.folders[life.number].append(life)
        elif kind == IS_FILE:
            self._found.lives.append(life)

    # -- folders ----------------------------------------------------------------------------

    def _own_folders(self) -> None:
        """Which folder has or had which blocks."""
        owners = self._found.owners
        left = 4 * self._geometry.blocks
        for number, lives in self._found.folders.items():
            for life in lives:
                for _, start, count, _ in placed(life.row, self._geometry, self._reader(life)).runs:
                    left -= count
                    for n in range(min(count, _MOST_BLOCKS) if left > 0 else 0):
                        owners[start + n].append((life.first, life.end, number))
        for number in self._volume.paths:
            row = self._volume.inodes.of(number)
            for block, _ in self._volume.folder_blocks(number, row) if row is not None else ():
                owners[block].append((0, NOW + 1, number))

    def _owner(self, name: PastName, at: int) -> int:
        """The folder that a name was in at a transaction; 0 if nothing tells."""
        had = self._found.owners.get(name.block, ())
        return next((number for first, end, number in had if first <= at < end), had[0][2] if had else 0)

    def _read_folders(self, others: NDArray[np.bool_]) -> None:
        """The entries of all versions of folders' blocks."""
        g, copies = self._geometry, self._copies
        fixed = {place for place, _ in g.descriptor_places()} | set(self._volume.tables.block_bits.tolist())
        fixed |= set(self._volume.tables.inode_bits.tolist()) | {g.first}
        chosen = [n for n in np.flatnonzero(others).tolist() if int(copies.block[n]) not in fixed]
        step = max(_AT_ONCE // g.block, 1)
        for first in range(0, len(chosen), step):
            self._read_some(chosen[first : first + step])

    def _read_some(self, chosen: list[int]) -> None:
        g, copies = self._geometry, self._copies
        data = bytearray()
        for n in chosen:
            one = self._medium.read(int(copies.at[n]), g.block).ljust(g.block, b"\0")
            data += MAGIC_BYTES + one[4:] if copies.escaped[n] else one
        blocks = np.frombuffer(bytes(data), "u1").reshape(-1, g.block)
        found, whole = entries_of_many(blocks, g.inodes)
        index = np.array(chosen, np.int64)
        block = copies.block[index]
        for row in np.flatnonzero(whole).tolist():
            if blocks[row, 6] == 1 and blocks[row, 8] == DOT[0]:  # the first block of a folder names it
                number = int.from_bytes(blocks[row, :4].tobytes(), "little")
                self._named_itself(int(block[row]), int(copies.transaction[index[row]]), number)
        if not len(found.row):
            return
        # Versions of a block follow each other: where one of them has a name not, another begins.
        key = found.key ^ block[found.row].astype(np.uint64) * _FACTOR
        version = index[found.row]
        order = np.lexsort((version, key))
        new = np.ones(len(order), bool)
        new[1:] = (np.diff(key[order]) != 0) | (np.diff(version[order]) != 1)
        first, last = order[new], order[np.append(new[1:], True)]
        transactions = copies.transaction[index]
        for lo, hi in zip(first.tolist(), last.tolist(), strict=True):
            row, at, length = int(found.row[hi]), int(found.at[hi]), int(found.length[hi])
            name = blocks[row, at + 8 : at + 8 + length].tobytes()
            if name in (DOT, DOTS) or b"/" in name or b"\0" in name:
                continue
            seen, last_seen = int(transactions[found.row[lo]]), int(transactions[row])
            where, gone = int(copies.at[index[row]]) + at, self._gone(int(block[row]), last_seen)
            self._found.names[int(found.inode[hi])].append(
                PastName(int(block[row]), name, seen, last_seen, gone, where, 8 + length)
            )

    def _named_itself(self, block: int, at: int, number: int) -> None:
        """A version of a folder's first block tells the folder; versions come in order."""
        had = self._found.owners[block]
        if had and had[0][2] == number and had[0][0] <= at:
            had[0] = (had[0][0], max(had[0][1], at + 1), number)
        else:
            had.insert(0, (at, at + 1, number))

    def _gone(self, block: int, last: int) -> int:
        """The transaction of the version of a block that follows a version."""
        later = self._copies.transaction[self._copies.of(block)]
        n = int(np.searchsorted(later, last, side="right"))
        return int(later[n]) if n < len(later) else NOW

    def _read_gaps(self) -> None:
        """Names in the gaps of the folders that stand."""
        g = self._geometry
        for number in self._volume.paths:
            row = self._volume.inodes.of(number)
            for block, extent in self._volume.folder_blocks(number, row) if row is not None else ():
                for entry in entries_of(self._medium.read(*extent), g.inodes)[0]:
                    if entry.gone:
                        self._found.names[entry.inode].append(
                            PastName(block, entry.name, _GAP, _GAP, _GAP, extent.offset + entry.at, entry.length)
                        )

    # -- joined -----------------------------------------------------------------------------

    def _reader(self, life: Life) -> ReadBlock:
        """Blocks as they were before a life's end: by their newest copies of before, else as they stand."""

        def read(block: int) -> bytes:
            where = self._copies.of(block)
            before = np.flatnonzero((self._copies.transaction[where] < life.end) & self._copies.good[where])
            if len(before) and where.start + int(before[-1]) < where.stop:
                n = where.start + int(before[-1])
                data = self._medium.read(int(self._copies.at[n]), self._geometry.block)
                return MAGIC_BYTES + data[4:] if self._copies.escaped[n] else data
            return self._volume.block(block)

        return read

    def _path(self, number: int, at: int, depth: int = 0) -> tuple[tuple[str, ...], float]:
        """The path of a folder as it was at a transaction, and how sure it is."""
        known = self._paths.get((number, at))
        if known is not None:
            return known
        past = [life for life in self._found.folders.get(number, ()) if life.first <= at < life.end]
        now = self._volume.paths.get(number)
        if now is not None and not past:
            return now, 1.0
        names = self._last_names(number, past[-1] if past else None)
        if not names or depth > _MOST_DEPTH:
            return (LOST_FOLDER.format(number),), 0.4
        self._paths[number, at] = ((LOST_FOLDER.format(number),), 0.4)  # against loops
        owner = self._owner(names[0], at)
        above, sure = self._path(owner, at, depth + 1)
        self._paths[number, at] = ((*above, text_of(names[0].name)), sure)
        return self._paths[number, at]

    def _last_names(self, number: int, life: Life | None) -> list[PastName]:
        """The names that a life had when it ended: all that went no earlier; else the one that went last."""
        every = self._found.names.get(number, [])
        if life is None:
            return sorted(every, key=lambda name: -name.last)[:1]
        told = [name for name in every if name.last != _GAP and name.first < life.end and name.gone > life.first]
        last = [name for name in told if name.gone >= life.end]
        if not last and told:
            last = [max(told, key=lambda name: name.gone)]
        if not last:
            last = [name for name in every if name.last == _GAP][:1]
        out: dict[tuple[int, bytes], PastName] = {}
        for name in last:
            out.setdefault((self._owner(name, min(name.last, life.last)), name.name), name)
        return list(out.values())

    def entries(self) -> Iterator[Entry]:
        """The files whose lives have ended, the last one first."""
        for life in sorted(self._found.lives, key=lambda life: -life.end):
            yield from self._entries_of(life)

    def _map(self, life: Life) -> tuple[FileMap, list[str]]:
        g = self._geometry
        found, wrong, _ = map_of(life.row, g, self._reader(life), life.at, life.raw)
        if wrong:  # the copies are of another time, perhaps: what stands now may be whole
            other, less, _ = map_of(life.row, g, self._volume.block, life.at, life.raw)
            if len(less) < len(wrong):
                return other, less
        return found, wrong

    def _entries_of(self, life: Life) -> Iterator[Entry]:
        place, wrong = self._map(life)
        if not place.size:
            return
        if not life.good:
            wrong = [*wrong, "the checksum of the journal's copy of its inode is wrong"]
        times = times_of(life.row)
        inode = Extent(life.at, self._geometry.inode)
        inside = bool(place.stored) and inode.offset <= place.stored[0].offset < inode.end
        source = f"transaction {life.last} of the journal" if life.last != NOW else "its inode"
        placements = (Placement(place, f"by a copy of its inode in {source}", inside=inside),)
        names = self._last_names(life.number, life)
        for name in names:
            at = min(name.last, life.last) if name.last != _GAP else life.last
            above, sure = self._path(self._owner(name, at), at)
            note = "a copy of its folder's block in the journal" if name.last != _GAP else "a gap of its folder"
            record = (Extent(name.at, name.length), inode)
            yield Entry(
                (*above, text_of(name.name)), False, True, place.size, times, record, placements, sure, note,
                list(wrong), identity=life.number, source=source,
            )  # fmt: skip
        if not names:
            yield Entry(
                (f"inode-{life.number}",), False, True, place.size, times, (inode,), placements, 0.1,
                "no name of it is left", list(wrong), identity=life.number, source=source,
            )  # fmt: skip
