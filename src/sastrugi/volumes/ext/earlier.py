"""Volumes that are no more: what a format left of an earlier volume's inodes and folders.

Formats of today zero little of the inode tables, and none of the blocks of folders. A volume of the same size is laid
out alike, so the inodes of the earlier one stand in those parts of the tables that the new one has not begun to use;
blocks of folders are found by their first two entries, wherever they are.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Collection, Iterator, Sequence

import numpy as np
from numpy.typing import NDArray

from sastrugi.media.base import Medium
from sastrugi.media.extents import Extent
from sastrugi.units import plural
from sastrugi.volumes.ext.entries import DOT, DOTS, LOST_FOLDER, FolderEntry, entries_of, text_of
from sastrugi.volumes.ext.inodes import Inodes, Tables, alive, times_of
from sastrugi.volumes.ext.layout import (
    FIRST_INODE,
    GROUP_AT,
    IS_FILE,
    IS_FOLDER,
    KIND_MASK,
    MAGIC,
    MAGIC_AT,
    ROOT,
    SUPERBLOCK_SIZE,
    Geometry,
    Inode,
    geometry_of,
)
from sastrugi.volumes.ext.opening import starts
from sastrugi.volumes.ext.read import ExtVolume
from sastrugi.volumes.reader import Entry, Placement, Volume

HeadTest = Callable[[str, int], bool | None]
_MOST_DEPTH = 256
_MOST_BLOCKS, _MOST_VOLUMES = 1 << 18, 64
_Name = tuple[int, FolderEntry, int]
"""The folder's inode, the entry, the byte at which it stands."""


class _Remains(ExtVolume):
    """A volume of which inodes and blocks of folders are left, whether anything leads to them or not."""

    def __init__(self, medium: Medium, geometry: Geometry, superblock: bytes, heads: Sequence[int]) -> None:
        """`heads` are the bytes at which first blocks of folders stand that are none of a volume of today."""
        super().__init__(medium, geometry, superblock, by_copy=True)
        self.health = []
        self._old = self._left_inodes()
        self._names: defaultdict[int, list[_Name]] = defaultdict(list)
        for number, extent in self._folders(heads):
            for entry in entries_of(medium.read(*extent), self.geometry.inodes)[0]:
                if entry.name not in (DOT, DOTS):
                    self._names[entry.inode].append((number, entry, extent.offset + entry.at))

    def _is_left(self, numbers: NDArray[np.int64]) -> NDArray[np.bool_]:
        """Which inodes are still as this volume had them."""
        raise NotImplementedError

    def _left_inodes(self) -> dict[int, Inode]:
        """Inodes that had a name, and are left."""
        every = Inodes(self._medium, self.tables, all_of_them=True)
        kept = np.flatnonzero(self._is_left(every.numbers) & alive(every.rows))
        return {int(every.numbers[n]): Inode.of(every.rows[n]) for n in kept.tolist()}

    def _folders(self, heads: Sequence[int]) -> Iterator[tuple[int, Extent]]:
        """Blocks of folders, each with the folder's inode: by the inodes, and those that are found alone."""
        g, told = self.geometry, set()
        for number, row in self._old.items():
            if row.mode & KIND_MASK != IS_FOLDER:
                continue
            blocks = [extent for _, extent in self.folder_blocks(number, row)]
            if blocks and self._number_at(blocks[0].offset) == number:
                for extent in blocks:
                    told.add(extent.offset)
                    yield number, extent
        for at in heads[:_MOST_BLOCKS]:
            if at not in told and not (at - g.offset) % g.block:
                yield self._number_at(at), Extent(at, g.block)

    def _number_at(self, at: int) -> int:
        """The inode that a folder's first block names as its own; 0 if it is none."""
        data = self._medium.read(at, 24)
        return int.from_bytes(data[:4], "little") if data[6:7] == b"\x01" and data[8:9] == DOT else 0

    def _path(self, number: int) -> tuple[tuple[str, ...], float]:
        parts: list[str] = []
        seen: set[int] = set()
        sure = 1.0
        while number != ROOT and number not in seen and len(parts) < _MOST_DEPTH:
            seen.add(number)
            names = self._names.get(number, ())
            if not names:
                parts.append(LOST_FOLDER.format(number))
                sure = 0.5
                break
            parts.append(text_of(names[0][1].name))
            number = names[0][0]
        return tuple(reversed(parts)), sure

    def _by_inodes(self, how: str, told: Collection[int] = ()) -> Iterator[Entry]:
        """Files by their inodes, but for those that were `told` of."""
        for number, row in self._old.items():
            if number in told or number < FIRST_INODE or row.mode & KIND_MASK != IS_FILE:
                continue
            place, wrong, _ = self.map_of(number, row)
            if not place.stored or any(extent.end > self.where.end for extent in place.stored):
                continue
            wrong = [note for note in wrong if "checksum" not in note]  # it was made for the earlier volume
            inode = Extent(self.tables.place(number) or 0, self.geometry.inode)
            placements = (Placement(place, how),)
            names: Sequence[_Name | None] = self._names.get(number) or [None]
            for name in names:
                above, sure = self._path(name[0]) if name else ((), 0.1)
                own = text_of(name[1].name) if name else f"inode-{number}"
                record = (Extent(name[2], name[1].length), inode) if name else (inode,)
                note = "an entry of its folder" if name else "no name of it is left"
                yield Entry(
                    (*above, own), False, True, place.size, times_of(row), record, placements, sure, note, list(wrong),
                    identity=number,
                )  # fmt: skip


class FormerExt(_Remains):
    """A volume over which something else was laid, by a copy of its superblock: what its tables tell still, and its
    journal; and what inodes and folders tell to which nothing leads any more."""

    def __init__(self, medium: Medium, geometry: Geometry, superblock: bytes, heads: Sequence[int]) -> None:
        super().__init__(medium, geometry, superblock, heads)
        self.told_by = "a copy of its superblock"

    def _tables(self) -> Tables:
        """By the copy of the descriptors, where that is whole: what stands in place of the first ones is another's."""
        if self.geometry.groups > 1:
            copy = Tables(self._medium, self.geometry, from_copy=True)
            if copy.good.all():
                copy.used[:] = self.geometry.group_inodes  # a copy is as old as the volume
                return copy
        return super()._tables()

    def _is_left(self, numbers: NDArray[np.int64]) -> NDArray[np.bool_]:
        return np.ones(len(numbers), bool)

    def entries(self) -> Iterator[Entry]:
        told: set[int] = set()
        for entry in (*super().entries(), *self.history()):
            entry.deleted, entry.damaged = True, False
            if all(extent.end <= self.where.end for extent in entry.map.stored):
                told.add(entry.identity)
                yield entry
        for entry in self._by_inodes("by its inode, to which nothing leads any more", told):
            if entry.map.plain and not entry.notes:  # what something else wrote there looks like inodes now and then
                yield entry


class EarlierExt(_Remains):
    """What is left of the volume that was there before one of today."""

    def __init__(self, medium: Medium, today: ExtVolume, heads: Sequence[int]) -> None:
        super().__init__(medium, today.geometry, medium.read(today.geometry.offset + 1024, 1024), heads)
        self.told_by = plural(len(self._old), "inode")

    def _is_left(self, numbers: NDArray[np.int64]) -> NDArray[np.bool_]:
        """In the parts of the tables that today's volume does not use."""
        group, inside = np.divmod(numbers - 1, self.geometry.group_inodes)
        out: NDArray[np.bool_] = inside >= self.tables.used[group] if len(group) else np.zeros(0, bool)
        return out

    def entries(self) -> Iterator[Entry]:
        yield from self._by_inodes("by its inode, which the new volume does not use yet")

    def own_extents(self) -> Iterator[tuple[str, Extent]]:
        for number in self._old:
            place = self.tables.place(number)
            if place is not None:
                yield "table", Extent(place, self.geometry.inode)


def _by_copies(medium: Medium, sectors: Sequence[int], now: Sequence[Volume]) -> Iterator[FormerExt]:
    """Volumes that are none of today's, each by the first copy of its superblock."""
    known = {(v.where.offset, v.serial) for v in now if isinstance(v, ExtVolume)}
    for at in sectors:
        data = medium.read(at, SUPERBLOCK_SIZE)
        if data[MAGIC_AT : MAGIC_AT + 2] != MAGIC.to_bytes(2, "little") or not any(data[GROUP_AT : GROUP_AT + 2]):
            continue
        for start, _ in starts(medium, at):
            geometry = geometry_of(data, start)
            if (
                geometry is None
                or not geometry.can_be_on(medium.size)
                or (start, geometry.uuid.hex()) in known
                or len(known) > _MOST_VOLUMES
            ):
                continue
            known.add((start, geometry.uuid.hex()))
            where = Extent(geometry.offset, geometry.blocks * geometry.block)
            found = FormerExt(medium, geometry, data, [one for one in sectors if where.offset <= one < where.end])
            if any(True for _ in found.entries()):
                yield found


def earlier_volumes(medium: Medium, sectors: Sequence[int], now: Sequence[Volume], _head: HeadTest) -> list[Volume]:
    """Volumes that are no more, and what volumes of today were before their format; `sectors` are bytes at which first
    blocks of folders or copies of superblocks stand."""
    out: list[Volume] = list(_by_copies(medium, sectors, now))
    for volume in now:
        if not isinstance(volume, ExtVolume) or isinstance(volume, EarlierExt):
            continue
        own = {extent.offset for what, extent in volume.own_extents() if what == "folder"}
        heads = [at for at in sectors if volume.where.offset <= at < volume.where.end and at not in own]
        found = EarlierExt(medium, volume, heads)
        if any(True for _ in found.entries()):
            out.append(found)
    return out
