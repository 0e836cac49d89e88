"""Where an inode's content lies, by its tree of extents or its lists of blocks."""

from __future__ import annotations

import struct
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field

import numpy as np

from sastrugi.media.extents import Extent
from sastrugi.media.filemap import UNKNOWN, ZEROS, FileMap, Segment
from sastrugi.volumes.ext.layout import (
    BLOCKS_AT,
    BRANCH,
    DIRECT,
    EXTENT,
    EXTENT_HEAD,
    EXTENT_MAGIC,
    EXTENT_SIZE,
    HAS_EXTENTS,
    HAS_INLINE_DATA,
    INSIDE,
    IS_LINK,
    KIND_MASK,
    MOST_EXTENT,
    Geometry,
    Inode,
)

ReadBlock = Callable[[int], bytes]
_DEEPEST = 5
_MOST_TREE_BLOCKS = 1 << 16
_MOST_RUNS = 1 << 20
_ATTRIBUTES_MAGIC = 0xEA020000
_ATTRIBUTE_HEAD = 16
_SYSTEM_NAMES, _DATA_NAME = 7, b"data"


@dataclass(slots=True)
class Placed:
    """Where an inode's content lies: runs of (block of the file, block of the volume, blocks, unwritten), the blocks of
    the tree that says so, and what is wrong."""

    runs: list[tuple[int, int, int, bool]] = field(default_factory=list)
    tree: list[int] = field(default_factory=list)
    wrong: list[str] = field(default_factory=list)


def placed(row: Inode, geometry: Geometry, read: ReadBlock) -> Placed:
    """The runs of an inode, as far as they can be; `read` gives the bytes of a block."""
    out = Placed()
    inside = row.blocks
    if row.flags & HAS_EXTENTS:
        _walk_extents(inside, geometry, read, out, _DEEPEST)
    else:
        _walk_lists(inside, row.length, geometry, read, out)
    return out


def _walk_extents(data: bytes, geometry: Geometry, read: ReadBlock, out: Placed, deepest: int) -> None:
    """Leaves from left to right. Nodes that are none, point outside or at each other are left out, and told."""
    seen: set[int] = set()
    waiting: list[tuple[bytes, int]] = [(data, deepest)]
    while waiting:
        node, most = waiting.pop()
        head = np.frombuffer(node, EXTENT_HEAD, 1)[0]
        count, depth = int(head["entries"]), int(head["depth"])
        room = (len(node) - EXTENT_HEAD.itemsize) // EXTENT_SIZE
        if head["magic"] != EXTENT_MAGIC or count > room or depth > most:
            out.wrong.append("a node of its extent tree is none")
            continue
        if not depth:
            _leaf(np.frombuffer(node, EXTENT, count, EXTENT_HEAD.itemsize), geometry, out)
            continue
        below: list[tuple[bytes, int]] = []
        for branch in np.frombuffer(node, BRANCH, count, EXTENT_HEAD.itemsize):
            block = int(branch["below"]) | int(branch["below_high"]) << 32
            if not geometry.first <= block < geometry.blocks or block in seen or len(seen) > _MOST_TREE_BLOCKS:
                out.wrong.append("a node of its extent tree lies outside of the volume, or is its own branch")
                continue
            seen.add(block)
            out.tree.append(block)
            below.append((read(block).ljust(geometry.block, b"\0"), depth - 1))
        waiting += reversed(below)


def _leaf(rows: np.ndarray, geometry: Geometry, out: Placed) -> None:
    for logical, length, high, low in rows.tolist():
        unwritten = length > MOST_EXTENT
        count, start = length - MOST_EXTENT if unwritten else length, low | high << 32
        before = out.runs[-1][0] + out.runs[-1][2] if out.runs else 0
        if not count or not geometry.first <= start or start + count > geometry.blocks or logical < before:
            out.wrong.append("an extent lies outside of the volume, or on another")
            continue
        out.runs.append((logical, start, count, unwritten))


def _walk_lists(inside: bytes, size: int, geometry: Geometry, read: ReadBlock, out: Placed) -> None:
    numbers = np.frombuffer(inside, "<u4")
    per, left = geometry.block // 4, -(-size // geometry.block)
    _take(numbers[: min(DIRECT, left)], 0, geometry, out)
    logical = DIRECT
    seen: set[int] = set()
    for level in (1, 2, 3):
        if logical >= left:
            return
        span = per**level
        if numbers[DIRECT + level - 1]:
            _tree_of(
                int(numbers[DIRECT + level - 1]), level, logical, min(span, left - logical), geometry, read, out, seen
            )
        logical += span


def _tree_of(
    block: int, level: int, logical: int, count: int, geometry: Geometry, read: ReadBlock, out: Placed, seen: set[int]
) -> None:  # fmt: skip
    if not geometry.first <= block < geometry.blocks or block in seen or len(seen) > _MOST_TREE_BLOCKS:
        out.wrong.append("a list of its blocks lies outside of the volume, or in itself")
        return
    seen.add(block)
    out.tree.append(block)
    per = geometry.block // 4
    numbers = np.frombuffer(read(block).ljust(geometry.block, b"\0"), "<u4", per)
    below = per ** (level - 1)
    if level == 1:
        _take(numbers[:count], logical, geometry, out)
        return
    for n in range(-(-count // below)):
        if numbers[n]:
            part = min(below, count - n * below)
            _tree_of(int(numbers[n]), level - 1, logical + n * below, part, geometry, read, out, seen)


def _take(numbers: np.ndarray, logical: int, geometry: Geometry, out: Placed) -> None:
    """Numbers of blocks in a row, as runs; zeros are holes."""
    values = numbers.astype(np.int64)
    used = np.flatnonzero(values)
    if not len(used):
        return
    breaks = np.flatnonzero((np.diff(values[used]) != 1) | (np.diff(used) != 1)) + 1
    for part in np.split(used, breaks):
        start, count = int(values[part[0]]), len(part)
        if start < geometry.first or start + count > geometry.blocks or len(out.runs) > _MOST_RUNS:
            out.wrong.append("one of its blocks lies outside of the volume")
            continue
        at = logical + int(part[0])
        last = out.runs[-1] if out.runs else None
        if last and last[0] + last[2] == at and last[1] + last[2] == start:
            out.runs[-1] = (last[0], last[1], last[2] + count, False)
        else:
            out.runs.append((at, start, count, False))


def map_of(
    row: Inode, geometry: Geometry, read: ReadBlock, inode_at: int, inode: bytes = b""
) -> tuple[FileMap, list[str], list[int]]:
    """Where the content of an inode lies, what is wrong, and the blocks of its tree. `inode_at` is the byte at which
    the inode stands, `inode` are all of its bytes (wanted where content stands inside)."""
    size = row.length
    if row.flags & HAS_INLINE_DATA:
        return _inline(size, inode_at, inode)
    if row.mode & KIND_MASK == IS_LINK and size < INSIDE and not row.sectors:
        return FileMap.of((Extent(inode_at + BLOCKS_AT, size),)), [], []
    simple = _one_extent(row, size, geometry)
    if simple is not None:
        return simple, [], []
    found = placed(row, geometry, read)
    if size > (1 << 44) + geometry.blocks * geometry.block:
        return FileMap(), ["its size cannot be"], found.tree
    return FileMap.made(_segments(found, size, geometry)), found.wrong, found.tree


_HEAD_AND_FIRST = struct.Struct("<HH2xH4xIHHI")


def _one_extent(row: Inode, size: int, geometry: Geometry) -> FileMap | None:
    """The map of a file that is one extent, as most are: the short way."""
    magic, entries, depth, logical, count, high, low = _HEAD_AND_FIRST.unpack_from(row.blocks)
    start, room = low | high << 32, count * geometry.block
    if not row.flags & HAS_EXTENTS or magic != EXTENT_MAGIC or entries != 1 or depth or logical:
        return None
    if not 0 < count <= MOST_EXTENT or not 0 < size <= room or room - size >= geometry.block:
        return None
    if not geometry.first <= start or start + count > geometry.blocks:
        return None
    return FileMap.of((Extent(geometry.at(start), size),), size)


def _segments(found: Placed, size: int, geometry: Geometry) -> Iterator[Segment]:
    at, block = 0, geometry.block
    gap = UNKNOWN if found.wrong else ZEROS
    for logical, start, count, unwritten in found.runs:
        begin, end = logical * block, min((logical + count) * block, size)
        if begin >= size:
            break
        yield Segment(begin - at, (), gap)
        length = end - begin
        yield Segment(length, () if unwritten else (Extent(geometry.at(start), length),), ZEROS if unwritten else "")
        at = end
    yield Segment(size - at, (), gap)


def _inline(size: int, inode_at: int, inode: bytes) -> tuple[FileMap, list[str], list[int]]:
    """Content inside of an inode: first where its places would stand, then in an attribute behind its fields."""
    parts = [Extent(inode_at + BLOCKS_AT, min(size, INSIDE))]
    if size > INSIDE:
        found = _data_attribute(inode)
        if found is None or found[1] < size - INSIDE:
            return FileMap.of(parts, size), ["the part of it behind its inode's fields is not there"], []
        parts.append(Extent(inode_at + found[0], size - INSIDE))
    return FileMap.of(parts), [], []


def _data_attribute(inode: bytes) -> tuple[int, int] | None:
    """Where in an inode the attribute system.data stands, and how long it is."""
    if len(inode) <= 132:
        return None
    first = 128 + int.from_bytes(inode[128:130], "little") + 4
    at = first
    if int.from_bytes(inode[first - 4 : first], "little") != _ATTRIBUTES_MAGIC:
        return None
    while at + _ATTRIBUTE_HEAD <= len(inode) and inode[at : at + 4] != bytes(4):
        length, kind = inode[at], inode[at + 1]
        place, size = (
            int.from_bytes(inode[at + 2 : at + 4], "little"),
            int.from_bytes(inode[at + 8 : at + 12], "little"),
        )
        name = inode[at + _ATTRIBUTE_HEAD : at + _ATTRIBUTE_HEAD + length]
        if kind == _SYSTEM_NAMES and name == _DATA_NAME:
            where = first + place
            return (where, size) if where + size <= len(inode) else None
        at += -(-(_ATTRIBUTE_HEAD + length) // 4) * 4
    return None
