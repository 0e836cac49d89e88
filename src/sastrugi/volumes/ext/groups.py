"""The groups of a volume being written: where their own blocks lie, what is free, bitmaps, descriptors, superblocks."""

from __future__ import annotations

import datetime as dt
import heapq
import struct

import numpy as np
from numpy.typing import NDArray

from sastrugi.errors import VolumeError
from sastrugi.media.raw import RawImage
from sastrugi.volumes.allocation import PIECE, ClusterMap
from sastrugi.volumes.ext.layout import (
    BLOCKS_UNUSED,
    CHECKSUMS,
    DESCRIPTOR,
    EXTRA,
    FIRST_INODE,
    GROUP_CHECKSUMS,
    INODES_UNUSED,
    JOURNAL,
    MAGIC,
    SUPERBLOCK,
    SUPERBLOCK_AT,
    SUPERBLOCK_SIZE,
    TABLE_ZEROED,
    Geometry,
    descriptor_sum,
    raw_crc32c,
    superblock_sum,
    to_seconds,
)
from sastrugi.volumes.ext.meta_blocks import MetaBlocks

_SIGNED_HASH = 1


class Groups:
    """What belongs to the groups; `clusters` are the volume's blocks."""

    def __init__(self, image: RawImage, geometry: Geometry, meta: MetaBlocks, clusters: ClusterMap) -> None:
        self._image, self._geometry, self._meta, self.clusters = image, geometry, meta, clusters
        count = geometry.groups
        self.block_bits = np.zeros(count, np.int64)
        self.inode_bits = np.zeros(count, np.int64)
        self.tables = np.zeros(count, np.int64)
        self._folders = np.zeros(count, np.int64)
        self._highest = np.zeros(count, np.int64)
        """Of each group, how many inodes were ever given out."""
        self._used = np.zeros(count, np.int64)
        self._flags = np.zeros(count, np.uint16)
        self._freed: dict[int, list[int]] = {}
        self._touched: set[int] = set()
        self._free_blocks = np.array([geometry.blocks_of(group) for group in range(count)], np.int64)
        self._sums = bool(geometry.read_only & (CHECKSUMS | GROUP_CHECKSUMS))
        self._descriptors = [place for place, _ in geometry.descriptor_places()]
        self._place(count)

    # -- where a group's own blocks lie -----------------------------------------------------

    def _place(self, count: int) -> None:
        g = self._geometry
        for group in range(count):
            if g.has_copy(group):
                self.take_at(g.group_start(group), min(1 + g.descriptor_blocks, g.blocks_of(group)))
        for first in range(0, count, g.flex):
            groups = range(first, min(first + g.flex, count))
            self._rows(self.block_bits, groups, 1)
            self._rows(self.inode_bits, groups, 1)
            self._rows(self.tables, groups, g.table_blocks)

    def _rows(self, places: NDArray[np.int64], groups: range, blocks: int) -> None:
        """Places of `blocks` blocks for each of some groups: side by side, from the first free ones of the first group
        on; a run is nowhere cut in two."""
        goal = self._geometry.group_start(groups[0])
        for group in groups:
            start = self.free_run(goal, blocks)
            self.take_at(start, blocks)
            places[group] = start
            goal = start + blocks

    def free_run(self, goal: int, blocks: int) -> int:
        """Where from a block on (then from the start on) so many free ones lie side by side."""
        for begin, end in ((goal, self._geometry.blocks), (self._geometry.first, goal)):
            found = 0
            before = -1
            for start, length in self.clusters.free_runs(begin, end):
                found = found + length if start == before else length
                before = start + length
                if found >= blocks:
                    return before - found
        raise VolumeError("the volume is full: no free blocks lie side by side")

    def take_at(self, start: int, blocks: int) -> None:
        self.clusters.mark([(start, blocks)], True)
        self.count([(start, blocks)], -1)

    def count(self, runs: list[tuple[int, int]], sign: int) -> None:
        """Blocks that were given out (-1) or became free (1)."""
        g = self._geometry
        for start, length in runs:
            at, end = start, start + length
            while at < end:
                group = (at - g.first) // g.group_blocks
                part = min(end, g.group_start(group + 1)) - at
                self._free_blocks[group] += sign * part
                self._touched.add(group)
                at += part

    def group_of(self, block: int) -> int:
        return (block - self._geometry.first) // self._geometry.group_blocks

    # -- inodes -----------------------------------------------------------------------------

    def inode_place(self, number: int) -> tuple[int, int]:
        """The block in which an inode stands, and at which byte of it."""
        g = self._geometry
        group, inside = divmod(number - 1, g.group_inodes)
        block, at = divmod(inside * g.inode, g.block)
        return int(self.tables[group]) + block, at

    def take_inode(self, near: int, folder: bool) -> int:
        """The lowest free inode of a group, or of the next that has one; folders go where there are fewest."""
        count = self._geometry.groups
        if folder:
            free = self._geometry.group_inodes - self._used
            better = (free >= free.mean() / 2) & (self._free_blocks >= self._free_blocks.mean() / 2)
            near = int(np.flatnonzero(better)[np.argmin(self._folders[better])]) if better.any() else near
        for group in (near, *range(near + 1, count), *range(near)):
            number = self._take_in(group)
            if number:
                self._folders[group] += folder
                return number
        raise VolumeError("the volume is full: it has no inode left")

    def _take_in(self, group: int) -> int:
        g = self._geometry
        freed = self._freed.get(group)
        if freed:
            inside = heapq.heappop(freed)
        elif self._highest[group] < g.group_inodes:
            inside = int(self._highest[group])
            self._highest[group] += 1
        else:
            return 0
        self._used[group] += 1
        self._touched.add(group)
        return group * g.group_inodes + inside + 1

    def reserve_inodes(self, count: int) -> None:
        """The first inodes of the volume are its own."""
        self._highest[0] = self._used[0] = count
        self._touched.add(0)

    def free_inode(self, number: int, folder: bool) -> None:
        group, inside = divmod(number - 1, self._geometry.group_inodes)
        heapq.heappush(self._freed.setdefault(group, []), inside)
        self._used[group] -= 1
        self._folders[group] -= folder
        self._touched.add(group)

    def count_folder(self, number: int) -> None:
        self._folders[(number - 1) // self._geometry.group_inodes] += 1

    # -- bringing it to the medium ----------------------------------------------------------

    def begin(self, when: dt.datetime, label: bytes, zero_tables: bool) -> None:
        """Bitmaps and descriptors of a new volume. `zero_tables`: whole tables are zeroed, else what is used of
        them."""
        g = self._geometry
        count = g.groups
        whole = not self._sums or zero_tables
        if self._sums:
            self._flags[:] = INODES_UNUSED | BLOCKS_UNUSED | (TABLE_ZEROED if whole else 0)
        for group in range(count):
            blocks = g.table_blocks if whole else -(-int(self._highest[group]) * g.inode // g.block)
            if blocks:
                self._image.zero(g.at(int(self.tables[group])), blocks * g.block)
        own = {0, count - 1} | {self.group_of(int(block)) for block in (*self.block_bits, *self.tables)}
        self._touched |= set(range(count)) if not self._sums else own
        for block in self._descriptors:
            self._meta.put(block, bytes(g.block))
        self._label, self._made = label, when
        for group in range(count):
            self._descriptor(group)

    def bring(self) -> None:
        """Bitmaps and descriptors of the groups that changed, into the blocks of metadata."""
        for group in sorted(self._touched):
            self._bitmaps(group)
            self._descriptor(group)
        self._touched.clear()

    def _bitmaps(self, group: int) -> None:
        g = self._geometry
        inside = g.group_start(group) - g.first
        index, at = divmod(inside, PIECE)
        blocks = g.blocks_of(group)
        used = np.ones(8 * g.block, bool)
        used[:blocks] = self.clusters.piece(index)[at : at + blocks]
        self._meta.put(int(self.block_bits[group]), np.packbits(used, bitorder="little").tobytes())
        self._flags[group] &= ~BLOCKS_UNUSED & 0xFFFF
        if self._highest[group] or not self._sums:
            used = np.ones(8 * g.block, bool)
            used[int(self._highest[group]) : g.group_inodes] = False
            freed = self._freed.get(group)
            if freed:
                used[freed] = False
            self._meta.put(int(self.inode_bits[group]), np.packbits(used, bitorder="little").tobytes())
            self._flags[group] &= ~INODES_UNUSED & 0xFFFF

    def _descriptor(self, group: int) -> None:
        g = self._geometry
        row = np.zeros((), DESCRIPTOR)
        values = {
            "block_bits": self.block_bits[group], "inode_bits": self.inode_bits[group], "table": self.tables[group],
            "free_blocks": self._free_blocks[group], "free_inodes": g.group_inodes - self._used[group],
            "folders": self._folders[group],
            "unused": g.group_inodes - self._highest[group] if self._sums else 0,
        }  # fmt: skip
        if g.checksums:
            for name, places, length, flag in (
                ("block_sum", self.block_bits, g.group_blocks // 8, BLOCKS_UNUSED),
                ("inode_sum", self.inode_bits, g.group_inodes // 8, INODES_UNUSED),
            ):
                if not self._flags[group] & flag:
                    values[name] = raw_crc32c(g.seed, bytes(self._meta.read(int(places[group]))[:length]))
        for name, value in values.items():
            bits = 8 * row.dtype[name].itemsize
            row[name] = int(value) & (1 << bits) - 1
            if g.descriptor > 32:
                row[f"{name}_high"] = int(value) >> bits
        row["flags"] = self._flags[group]
        data = bytearray(row.tobytes()[: g.descriptor])
        data[30:32] = descriptor_sum(g, group, bytes(data)).to_bytes(2, "little")
        index, at = divmod(group * g.descriptor, g.block)
        self._meta.edit(self._descriptors[index])[at : at + g.descriptor] = data

    def superblock(self, group: int, when: dt.datetime, journal: bytes) -> bytes:
        """The superblock, or its copy in a group; `journal` are fields of the journal's inode."""
        g = self._geometry
        row = np.zeros((), SUPERBLOCK)
        row["inodes"], row["blocks"], row["blocks_high"] = g.inodes, g.blocks & 0xFFFFFFFF, g.blocks >> 32
        free = self.clusters.free
        row["free_blocks"], row["free_blocks_high"] = free & 0xFFFFFFFF, free >> 32
        row["free_inodes"] = g.inodes - int(self._used.sum())
        row["first_block"] = g.first
        row["block_log"] = row["cluster_log"] = (g.block // 1024).bit_length() - 1
        row["group_blocks"] = row["group_clusters"] = g.group_blocks
        row["group_inodes"], row["written"] = g.group_inodes, to_seconds(when)[0]
        row["checked"] = row["made"] = to_seconds(self._made)[0]
        row["most_mounts"], row["magic"], row["state"], row["errors"], row["revision"] = 0xFFFF, MAGIC, 1, 1, 1
        row["first_inode"], row["inode_size"], row["group"] = FIRST_INODE, g.inode, group
        row["compatible"], row["incompatible"], row["read_only"] = g.compatible, g.incompatible, g.read_only
        row["uuid"], row["label"] = np.void(g.uuid), np.void(self._label.ljust(16, b"\0"))
        row["hash_seed"], row["hash"] = np.void(g.hash_seed), g.hash_kind
        row["descriptor_size"] = g.descriptor if g.descriptor > 32 else 0
        row["mount_options"], row["flags"] = 0xC, _SIGNED_HASH
        row["flex_log"] = g.flex.bit_length() - 1
        if journal:
            row["journal_inode"], row["journal_backup"], row["journal_blocks"] = JOURNAL, 1, np.void(journal)
        if g.inode > 128:
            row["least_extra"] = row["wanted_extra"] = EXTRA
        data = bytearray(row.tobytes())
        if g.checksums:
            data[373] = 1
            data[1020:1024] = superblock_sum(bytes(data)).to_bytes(4, "little")
        return bytes(data)

    def write_superblock(self, when: dt.datetime, journal: bytes) -> None:
        """The superblock itself, at once."""
        g = self._geometry
        self._image.write(g.offset + SUPERBLOCK_AT, self.superblock(0, when, journal))

    def write_copies(self, when: dt.datetime, journal: bytes) -> None:
        """Superblock and descriptors in the groups that have copies; drivers never touch them afterwards."""
        g = self._geometry
        descriptors = b"".join(bytes(self._meta.read(block)) for block in self._descriptors)
        for group in range(1, g.groups):
            if g.has_copy(group):
                start = g.at(g.group_start(group))
                self._image.write(start, self.superblock(group, when, journal).ljust(g.block, b"\0"))
                self._image.write(start + g.block, descriptors)

    @property
    def descriptor_blocks(self) -> list[int]:
        return self._descriptors


def packed_journal_fields(blocks: bytes, size: int) -> bytes:
    """What a superblock tells of the journal's inode: its blocks, and its size."""
    return blocks + struct.pack("<II", size >> 32, size & 0xFFFFFFFF)


assert SUPERBLOCK.itemsize == SUPERBLOCK_SIZE
