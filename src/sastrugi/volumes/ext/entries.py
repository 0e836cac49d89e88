"""Entries of folders' blocks: of one block as a driver reads it, with what stands in its gaps, or of many at once."""

from __future__ import annotations

import struct
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

_HEAD = struct.Struct("<IHBB")
_LEAST, _MOST_KIND = 12, 7
DOT, DOTS = b".", b".."
LOST_FOLDER = "folder-of-inode-{}"
"""What a folder is called whose own name nothing tells."""


@dataclass(frozen=True, slots=True)
class FolderEntry:
    """An entry: inode, name, its kind as it tells, at which byte of the block it stands; `gone`: it stands in a gap."""

    inode: int
    name: bytes
    kind: int
    at: int
    gone: bool = False

    @property
    def length(self) -> int:
        return -(-(8 + len(self.name)) // 4) * 4


def text_of(name: bytes) -> str:
    """A name as people see it; bytes that are no UTF-8 are kept as lone surrogates would be shown: replaced."""
    return (
        name.decode("utf-8", "replace").replace("/", "\N{FULLWIDTH SOLIDUS}").replace("\0", "\N{REPLACEMENT CHARACTER}")
    )


def entries_of(data: bytes, inodes: int, gaps: bool = True) -> tuple[list[FolderEntry], bool]:
    """The entries of a block, with those in its gaps; and whether its chain is whole."""
    out: list[FolderEntry] = []
    at, end = 0, len(data)
    while at + 8 <= end:
        inode, length, size, kind = _HEAD.unpack_from(data, at)
        if length < 8 or length % 4 or at + length > end or 8 + size > length:
            return out, False
        used = 8
        if inode and size and inode <= inodes:
            out.append(FolderEntry(inode, data[at + 8 : at + 8 + size], kind, at))
            used = -(-(8 + size) // 4) * 4
        elif not inode and size and gaps:
            found = _in_gap(data, at, at + length, inodes)
            out += found
            used = length
        if gaps and length - used >= _LEAST:
            out += _in_gap(data, at + used, at + length, inodes)
        at += length
    return out, at == end


def _in_gap(data: bytes, at: int, end: int, inodes: int) -> Iterator[FolderEntry]:
    """Entries that can be in bytes that belong to none; the first of a block may have lost its inode's number."""
    while at + _LEAST <= end:
        inode, length, size, kind = _HEAD.unpack_from(data, at)
        used = -(-(8 + size) // 4) * 4
        if not (0 < inode <= inodes and size and 0 < kind <= _MOST_KIND and used <= length <= end - at + 4):
            at += 4
            continue
        name = data[at + 8 : at + 8 + size]
        if at + used > end or b"\0" in name or b"/" in name or name in (DOT, DOTS):
            at += 4
            continue
        yield FolderEntry(inode, name, kind, at, gone=True)
        at += used


@dataclass(slots=True)
class ManyEntries:
    """Entries of many blocks, side by side: which row each is of, where in it, inode, length of the name, its hash."""

    row: NDArray[np.int64]
    at: NDArray[np.int64]
    inode: NDArray[np.int64]
    length: NDArray[np.int64]
    key: NDArray[np.uint64]


_FACTOR = np.uint64(0x9E3779B97F4A7C15)


def entries_of_many(blocks: NDArray[np.uint8], inodes: int) -> tuple[ManyEntries, NDArray[np.bool_]]:
    """The live entries of blocks (shape (n, size)), and which blocks are chains of entries to their ends."""
    count, size = blocks.shape
    words = blocks.view("<u2")
    at = np.zeros(count, np.int64)
    rows = np.arange(count)
    good = np.ones(count, bool)
    parts: list[tuple[NDArray[np.int64], ...]] = []
    open_rows = rows
    while len(open_rows):
        place = at[open_rows]
        half = place // 2
        inode = words[open_rows, half].astype(np.int64) | words[open_rows, half + 1].astype(np.int64) << 16
        length = words[open_rows, half + 2].astype(np.int64)
        name = blocks[open_rows, place + 6].astype(np.int64)
        fits = (length >= 8) & (length % 4 == 0) & (place + length <= size) & (8 + name <= length) & (inode <= inodes)
        good[open_rows[~fits]] = False
        found = fits & (inode > 0) & (name > 0)
        parts.append((open_rows[found], place[found], inode[found], name[found]))
        at[open_rows] = place + np.where(fits, length, size)
        open_rows = open_rows[at[open_rows] + 8 <= size]
    row, place, inode, name = (np.concatenate(column) for column in zip(*parts, strict=True))
    kept = good[row]
    row, place, inode, name = row[kept], place[kept], inode[kept], name[kept]
    return ManyEntries(row, place, inode, name, _keys(blocks, row, place, inode, name)), good


def _keys(
    blocks: NDArray[np.uint8], row: NDArray[np.int64], at: NDArray[np.int64], inode: NDArray[np.int64],
    length: NDArray[np.int64],
) -> NDArray[np.uint64]:  # fmt: skip
    """A number for each entry's inode and name: equal for equal ones."""
    key = inode.astype(np.uint64) * _FACTOR + length.astype(np.uint64)
    for step in range(0, int(length.max(initial=0)), 8):
        some = np.flatnonzero(length > step)
        word = np.zeros(len(some), np.uint64)
        for n in range(8):
            inside = length[some] > step + n
            column = np.minimum(at[some] + 8 + step + n, blocks.shape[1] - 1)
            word |= np.where(inside, blocks[row[some], column], 0).astype(np.uint64) << np.uint64(8 * n)
        mixed = (key[some] ^ word) * _FACTOR
        key[some] = mixed ^ mixed >> np.uint64(29)
    return key
