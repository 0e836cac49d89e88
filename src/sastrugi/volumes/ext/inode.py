"""An inode as it is written: its fields, and its tree of extents or of lists of blocks."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from sastrugi.volumes.allocation import Run
from sastrugi.volumes.ext.layout import (
    BRANCH,
    CHECKSUM_HIGH_AT,
    CHECKSUM_LOW_AT,
    DIRECT,
    EXTENT,
    EXTENT_HEAD,
    EXTENT_MAGIC,
    EXTENT_SIZE,
    HAS_EXTENTS,
    INODE,
    INSIDE,
    IS_FOLDER,
    IS_LINK,
    KIND_MASK,
    MOST_EXTENT,
    OLD_INODE,
    Geometry,
    Runs,
    inode_seed,
    inode_sum,
    raw_crc32c,
    to_seconds,
)

_EXTENTS_INSIDE = (INSIDE - EXTENT_HEAD.itemsize) // EXTENT_SIZE
_OWNER = 1000


class PackedPlaces(NamedTuple):
    """How the places of a file are told: what stands in its inode, and in the blocks `below`, each with its number;
    `key` is all that this was made of."""

    key: tuple[object, ...]
    inside: bytes
    below: list[tuple[int, bytes]]


@dataclass(slots=True, eq=False)
class FileState:
    """A file, folder or symbolic link on a volume being written. `tree` are the blocks of its tree of extents or lists,
    `mapped` is the transaction since which size and tree are as they are, 0 if none was written yet."""

    number: int
    generation: int
    mode: int
    created: dt.datetime
    modified: dt.datetime
    changed: dt.datetime
    size: int = 0
    links: int = 1
    flags: int = 0
    runs: Runs = field(default_factory=list)
    tree: list[int] = field(default_factory=list)
    inside: bytes = b""
    """Of a short symbolic link: where it leads."""
    owner: int = _OWNER
    mapped: int = 0
    places: PackedPlaces | None = None
    """Of a folder: how its places are told, while they stay as they are."""

    @property
    def folder(self) -> bool:
        return self.mode & KIND_MASK == IS_FOLDER

    @property
    def blocks(self) -> int:
        """Blocks of content."""
        return sum(count for _, _, count in self.runs)

    def placed(self) -> list[Run]:
        return [(start, count) for _, start, count in self.runs]


def tokens(blocks: int, per: int) -> Iterator[tuple[int, int]]:
    """How a driver lays a file of so many blocks with lists of `per` numbers: (0, blocks of content), or (level, 1) of
    a list that comes before what it lists."""
    yield 0, min(blocks, DIRECT)
    left = blocks - DIRECT
    for level in (1, 2, 3):
        if left <= 0:
            return
        for token in _tree_tokens(level, left, per):
            yield token
            left -= token[1] if not token[0] else 0


def _tree_tokens(level: int, blocks: int, per: int) -> Iterator[tuple[int, int]]:
    yield level, 1
    left = min(blocks, per**level)
    while left > 0:
        part = min(left, per ** (level - 1))
        if level == 1:
            yield 0, left
            return
        yield from _tree_tokens(level - 1, part, per)
        left -= part


def lists_for(blocks: int, per: int) -> int:
    """How many blocks of lists a file of so many blocks has."""
    return sum(1 for level, _ in tokens(blocks, per) if level)


def tree_for(extents: int, block: int) -> int:
    """How many blocks a tree of so many extents has outside of its inode."""
    each, total = (block - EXTENT_HEAD.itemsize) // EXTENT_SIZE, 0
    while extents > _EXTENTS_INSIDE:
        extents = -(-extents // each)
        total += extents
    return total


def split_runs(runs: Runs) -> Runs:
    """Runs, none of which is longer than an extent can be."""
    out: Runs = []
    for logical, start, count in runs:
        for n in range(0, count, MOST_EXTENT):
            out.append((logical + n, start + n, min(MOST_EXTENT, count - n)))
    return out


class InodePacker:
    """Makes the bytes of inodes and of the blocks of their trees, which go to `put`."""

    def __init__(self, geometry: Geometry, put: Callable[[int, bytes], None]) -> None:
        self._geometry, self._put = geometry, put
        self._per = geometry.block // 4

    def packed(self, state: FileState, deleted: dt.datetime | None = None, wiped: bool = True) -> bytes:
        """The bytes of an inode; of a deleted one `wiped` says whether size and places are gone."""
        g = self._geometry
        row = np.zeros((), INODE)
        gone = deleted is not None
        row["mode"], row["user"], row["gid"] = state.mode, state.owner, state.owner
        row["links"] = 0 if gone else state.links
        size = 0 if gone and wiped else state.size
        row["size"], row["size_high"] = size & 0xFFFFFFFF, size >> 32
        if not (gone and wiped):
            sectors = (state.blocks + len(state.tree)) * (g.block // 512)
            row["sectors"], row["sectors_high"] = sectors & 0xFFFFFFFF, sectors >> 32
        row["flags"], row["generation"], row["extra"] = state.flags, state.generation, g.extra
        for name in ("changed", "modified", "accessed", "created"):
            moment = state.created if name == "accessed" else getattr(state, name)
            row[name], row[f"{name}_extra"] = to_seconds(moment)
        if deleted is not None:
            row["deleted"] = to_seconds(deleted)[0]
        inside = state.inside if state.mode & KIND_MASK == IS_LINK and state.inside else b""
        if state.flags & HAS_EXTENTS or not inside:
            places = self._places(state)
            inside = places.inside
            for block, listed in places.below if not gone else ():
                self._put(block, listed)
        if gone and wiped:
            inside = _emptied(inside) if state.flags & HAS_EXTENTS else b""
        row["blocks"] = np.void(inside.ljust(INSIDE, b"\0"))
        data = bytearray(row.tobytes()[: max(g.inode, OLD_INODE)].ljust(g.inode, b"\0"))
        if g.checksums:
            value = inode_sum(g, state.number, bytes(data))
            data[CHECKSUM_LOW_AT : CHECKSUM_LOW_AT + 2] = (value & 0xFFFF).to_bytes(2, "little")
            if g.extra:
                data[CHECKSUM_HIGH_AT : CHECKSUM_HIGH_AT + 2] = (value >> 16).to_bytes(2, "little")
        return bytes(data)

    def _places(self, state: FileState) -> PackedPlaces:
        """How the places of a file are told, which is made anew only where they are others than last time: a folder is
        written with each name that it gets."""
        key = (bool(state.flags & HAS_EXTENTS), state.number, state.generation, tuple(state.runs), tuple(state.tree))
        if state.places is not None and state.places.key == key:
            return state.places
        below: list[tuple[int, bytes]] = []
        make = self._extents if state.flags & HAS_EXTENTS else self._lists
        places = PackedPlaces(key, make(state, below), below)
        state.places = places if state.folder else None
        return places

    # -- extents ----------------------------------------------------------------------------

    def _extents(self, state: FileState, below: list[tuple[int, bytes]]) -> bytes:
        """What an inode holds of its tree; the tree's blocks, from the leaves up, are added to `below`."""
        runs = split_runs(state.runs)
        rows = np.zeros(len(runs), EXTENT)
        if runs:
            logical, start, count = np.array(runs, np.int64).T
            rows["logical"], rows["length"] = logical, count
            rows["start"], rows["start_high"] = start & 0xFFFFFFFF, start >> 32
        depth = 0
        free = iter(state.tree)
        each = (self._geometry.block - EXTENT_HEAD.itemsize) // EXTENT_SIZE
        while len(rows) > _EXTENTS_INSIDE:
            above = np.zeros(-(-len(rows) // each), BRANCH)
            for n in range(len(above)):
                part = rows[n * each : (n + 1) * each]
                block = next(free)
                above[n]["logical"], above[n]["below"] = part[0]["logical"], block & 0xFFFFFFFF
                above[n]["below_high"] = block >> 32
                below.append((block, self._tree_block(state, part, each, depth)))
            rows, depth = above, depth + 1
        return _node(rows, _EXTENTS_INSIDE, depth)

    def _tree_block(self, state: FileState, rows: NDArray[np.void], most: int, depth: int) -> bytes:
        g = self._geometry
        data = bytearray(_node(rows, most, depth).ljust(g.block, b"\0"))
        if g.checksums:
            end = EXTENT_HEAD.itemsize + most * EXTENT_SIZE
            value = raw_crc32c(inode_seed(g, state.number, state.generation), bytes(data[:end]))
            data[end : end + 4] = value.to_bytes(4, "little")
        return bytes(data)

    # -- lists ------------------------------------------------------------------------------

    def _lists(self, state: FileState, below: list[tuple[int, bytes]]) -> bytes:
        """The fifteen numbers of an inode; the blocks of the lists are added to `below`."""
        numbers = np.zeros(state.blocks, np.uint32)
        for logical, start, count in state.runs:
            numbers[logical : logical + count] = np.arange(start, start + count)
        out = np.zeros(INSIDE // 4, "<u4")
        direct = min(len(numbers), DIRECT)
        out[:direct] = numbers[:direct]
        free = iter(state.tree)
        at = DIRECT
        for level in (1, 2, 3):
            if at >= len(numbers):
                break
            size = self._per**level
            out[DIRECT + level - 1] = self._list(numbers[at : at + size], level, free, below)
            at += size
        return out.tobytes()

    def _list(
        self, numbers: NDArray[np.uint32], level: int, free: Iterator[int], below: list[tuple[int, bytes]]
    ) -> int:
        block = next(free)
        span = self._per ** (level - 1)
        listed: NDArray[np.uint32] = numbers
        if level > 1:
            each = [self._list(numbers[n : n + span], level - 1, free, below) for n in range(0, len(numbers), span)]
            listed = np.array(each, np.uint32)
        below.append((block, listed.astype("<u4").tobytes().ljust(self._geometry.block, b"\0")))
        return block


def _node(rows: NDArray[np.void], most: int, depth: int) -> bytes:
    head = np.zeros((), EXTENT_HEAD)
    head["magic"], head["entries"], head["most"], head["depth"] = EXTENT_MAGIC, len(rows), most, depth
    return head.tobytes() + rows.tobytes()


def _emptied(inside: bytes) -> bytes:
    """What a deletion leaves of the extents in an inode: they count no more, and have no place and no length; of a
    deeper tree the pointers stay."""
    head = np.frombuffer(inside, EXTENT_HEAD, 1).copy()
    body = bytearray(inside[EXTENT_HEAD.itemsize :])
    if not head["depth"][0]:
        rows = np.frombuffer(bytes(body), EXTENT).copy()
        for name in ("length", "start", "start_high"):
            rows[name] = 0
        body = bytearray(rows.tobytes())
    head["entries"] = head["depth"] = 0
    head["most"] = _EXTENTS_INSIDE
    return head.tobytes() + bytes(body)
