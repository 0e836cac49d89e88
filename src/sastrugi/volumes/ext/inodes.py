"""The inode tables of a volume, read as arrays."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from sastrugi.media.base import Medium
from sastrugi.volumes.ext.layout import (
    CHECKSUMS,
    DESCRIPTOR,
    GROUP_CHECKSUMS,
    INODE,
    IS_FILE,
    IS_FOLDER,
    IS_LINK,
    KIND_MASK,
    OLD_INODE,
    Geometry,
    Inode,
    of_seconds,
)
from sastrugi.volumes.reader import Times

_AT_ONCE = 4 << 20
_NONE = np.zeros(0, INODE)


class Tables:
    """Where the inode tables and bitmaps of the groups lie, as the descriptors say."""

    def __init__(self, medium: Medium, geometry: Geometry, from_copy: bool = False) -> None:
        self.geometry = geometry
        size, parts = geometry.descriptor, []
        for place, count in geometry.descriptor_places():
            block = place + (
                geometry.group_start(1) - geometry.first if from_copy and place < geometry.group_start(1) else 0
            )
            parts.append(medium.read(geometry.at(block), count * size).ljust(count * size, b"\0"))
        rows = np.frombuffer(b"".join(parts), "u1").reshape(-1, size)
        wide = np.zeros((len(rows), DESCRIPTOR.itemsize), np.uint8)
        wide[:, : min(size, DESCRIPTOR.itemsize)] = rows[:, : DESCRIPTOR.itemsize]
        self.rows = wide.view(DESCRIPTOR)[:, 0]
        self.tables = self._whole("table")
        self.block_bits = self._whole("block_bits")
        self.inode_bits = self._whole("inode_bits")
        self.good = (self.tables >= geometry.first) & (self.tables + geometry.table_blocks <= geometry.blocks)
        used = np.full(len(rows), geometry.group_inodes, np.int64)
        if geometry.read_only & (CHECKSUMS | GROUP_CHECKSUMS):
            unused = self.rows["unused"].astype(np.int64) | self.rows["unused_high"].astype(np.int64) << 16
            used = np.clip(geometry.group_inodes - unused, 0, geometry.group_inodes)
        self.used = used
        """Of each group, how many inodes a driver looks at."""

    def _whole(self, name: str) -> NDArray[np.int64]:
        return self.rows[name].astype(np.int64) | self.rows[f"{name}_high"].astype(np.int64) << 32

    def place(self, number: int) -> int | None:
        """The byte of the medium at which an inode stands."""
        g = self.geometry
        group, inside = divmod(number - 1, g.group_inodes)
        if not 0 <= group < len(self.tables) or not self.good[group]:
            return None
        return g.at(int(self.tables[group])) + inside * g.inode


def widened(rows: NDArray[np.uint8]) -> NDArray[np.void]:
    """Inodes as they stand, shape (n, bytes of one), as records; fields that old ones have not are zeros."""
    wide = np.zeros((len(rows), INODE.itemsize), np.uint8)
    size = min(rows.shape[1], INODE.itemsize)
    wide[:, :size] = rows[:, :size]
    if rows.shape[1] > OLD_INODE:  # what is behind the bytes that an inode says it uses is something else
        extra = wide.view(INODE)["extra"][:, 0]
        for name, least in (
            ("changed_extra", 8),
            ("modified_extra", 12),
            ("accessed_extra", 16),
            ("created", 20),
            ("created_extra", 24),
        ):
            wide.view(INODE)[name][:, 0][extra < least] = 0
    return wide.view(INODE)[:, 0]


class Inodes:
    """All inodes that are or were something, by their numbers."""

    def __init__(self, medium: Medium, tables: Tables, all_of_them: bool = False) -> None:
        g = tables.geometry
        numbers: list[NDArray[np.int64]] = []
        rows: list[NDArray[np.void]] = []
        raws: list[NDArray[np.uint8]] = []
        left = medium.size  # tables that are said to lie over each other are not read without an end
        for group in range(len(tables.tables)):
            if not tables.good[group] or left <= 0:
                continue
            start = g.at(int(tables.tables[group]))
            count = g.group_inodes if all_of_them else int(tables.used[group])
            for part in medium.data_ranges(start, start + count * g.inode):
                first, behind = (part.offset - start) // g.inode, -(-(part.end - start) // g.inode)
                left -= part.length
                for n in range(first, behind, max(_AT_ONCE // g.inode, 1)):
                    some = min(behind - n, max(_AT_ONCE // g.inode, 1))
                    data = medium.read(start + n * g.inode, some * g.inode).ljust(some * g.inode, b"\0")
                    raw = np.frombuffer(data, "u1").reshape(some, g.inode)
                    kept = np.flatnonzero(raw[:, :2].any(axis=1))
                    if len(kept):
                        numbers.append(group * g.group_inodes + n + kept + 1)
                        raws.append(raw[kept])
                        rows.append(widened(raws[-1]))
        self.numbers = np.concatenate(numbers) if numbers else np.zeros(0, np.int64)
        self.rows = np.concatenate(rows) if rows else _NONE
        self._raw = np.concatenate(raws) if raws else np.zeros((0, g.inode), np.uint8)
        folders = (self.rows["mode"] & KIND_MASK == IS_FOLDER) & (self.rows["links"] > 0)
        self.folders = frozenset(self.numbers[folders].tolist())
        """The numbers of those that are folders."""
        self._index = dict(zip(self.numbers.tolist(), range(len(self.numbers)), strict=True))

    def of(self, number: int) -> Inode | None:
        """The fields of an inode; None of one that never was any."""
        at = self._index.get(number)
        return None if at is None else Inode.of(self.rows[at])

    def raw(self, number: int) -> bytes:
        """All bytes of an inode."""
        at = self._index.get(number)
        return b"" if at is None else self._raw[at].tobytes()


def alive(rows: NDArray[np.void]) -> NDArray[np.bool_]:
    """Which inodes are of files, folders or links that have a name."""
    kind = rows["mode"] & KIND_MASK
    is_one = (kind == IS_FILE) | (kind == IS_FOLDER) | (kind == IS_LINK)
    out: NDArray[np.bool_] = is_one & (rows["links"] > 0) & (rows["deleted"] == 0)
    return out


def times_of(row: Inode) -> Times:
    """The times that an inode keeps."""
    created = of_seconds(row.created, row.created_extra)
    modified = of_seconds(row.modified, row.modified_extra)
    accessed = of_seconds(row.accessed, row.accessed_extra)
    return Times(created, modified, accessed.date() if accessed else None)
