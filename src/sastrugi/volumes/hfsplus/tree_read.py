"""Reading a B-tree's file: which nodes are in use, and the records that stand in them.

Source: TN1150, "B-Trees". Nothing is believed that the nodes do not bear out: links that lead in circles, offsets that
overlap and headers that are damaged end in less found.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property
from itertools import accumulate

import numpy as np
from numpy.typing import NDArray

from sastrugi.media.base import Medium
from sastrugi.media.extents import Extent, total, within
from sastrugi.volumes.hfsplus.layout import (
    DESCRIPTOR,
    DESCRIPTOR_SIZE,
    HEADER,
    LEAF,
    LEAST_NODE,
    MOST_NODE,
    TREE_HEADER,
    USER_RECORD_SIZE,
)

_AT_ONCE = 4 << 20
_LARGEST = 1 << 32
"""Bytes of a tree's file that are read."""
_HEADER_OFFSETS, _MAP_TAIL = 8, 6
"""Bytes behind the map record of the header node, and behind that of a map node."""
_USUAL = (4096, 8192, 16384, 2048, 1024, 32768, 512)


@dataclass(frozen=True, slots=True)
class Nodes:
    """Some nodes that stand one behind the other: their numbers, and their bytes, shape (nodes, node size)."""

    numbers: NDArray[np.int64]
    data: NDArray[np.uint8]


class TreeFile:
    """The file of a tree, which lies in `extents`. `good` says whether its header node is one."""

    def __init__(self, medium: Medium, extents: tuple[Extent, ...], size: int) -> None:
        self._medium = medium
        self.size = min(size, total(extents), _LARGEST)
        self._extents = within(extents, 0, self.size)
        self._ends = list(accumulate(extent.length for extent in self._extents))
        head = self.read(0, DESCRIPTOR_SIZE + TREE_HEADER.itemsize)
        self.good = False
        self.node = 0
        self.header = np.zeros(1, TREE_HEADER)[0]
        if len(head) == DESCRIPTOR_SIZE + TREE_HEADER.itemsize:
            row = np.frombuffer(head, TREE_HEADER, 1, DESCRIPTOR_SIZE)[0]
            node = int(row["node"])
            kind = int(np.frombuffer(head, DESCRIPTOR, 1)[0]["kind"])
            fits = LEAST_NODE <= node <= MOST_NODE and not node & (node - 1) and int(row["longest_key"]) > 0
            if kind == HEADER and fits and int(row["nodes"]) * node <= self.size:
                self.good, self.header, self.node = True, row, node
        if not self.good:
            self.node = self._guessed_node()
        self.nodes = self.size // self.node

    def read(self, at: int, length: int) -> bytes:
        """Bytes of the file."""
        return b"".join(
            self._medium.read(*part).ljust(part.length, b"\0") for part in within(self._extents, at, length)
        )

    def places(self, at: int, length: int) -> tuple[Extent, ...]:
        """Where bytes of the file lie on the medium."""
        n = bisect_right(self._ends, at)
        if n >= len(self._ends):
            return ()
        begin = at - (self._ends[n] - self._extents[n].length)
        if begin + length <= self._extents[n].length:
            return (Extent(self._extents[n].offset + begin, length),)
        return within(self._extents, at, length)

    def _guessed_node(self) -> int:
        """The size of nodes by their shape: of which the most end in the offset of their first record."""
        data = np.frombuffer(self.read(0, min(self.size, _AT_ONCE)), "u1")
        best, most = _USUAL[0], 0
        for node in _USUAL:
            rows = data[: len(data) // node * node].reshape(-1, node)
            ends = (rows[:, -2] == 0) & (rows[:, -1] == DESCRIPTOR_SIZE) & (rows[:, 8] >= 0xFF)
            share = int(ends.sum()) * node
            if share > most:
                best, most = node, share
        return best

    @cached_property
    def descriptors(self) -> NDArray[np.void]:
        """Those of all nodes."""
        out = np.zeros(self.nodes, DESCRIPTOR)
        for some in self.every():
            out[some.numbers] = np.ascontiguousarray(some.data[:, :DESCRIPTOR_SIZE]).view(DESCRIPTOR)[:, 0]
        return out

    def every(self, wanted: NDArray[np.bool_] | None = None) -> Iterator[Nodes]:
        """All nodes (or those that are wanted), some at a time."""
        step = max(_AT_ONCE // self.node, 1)
        for first in range(0, self.nodes, step):
            numbers = np.arange(first, min(first + step, self.nodes))
            if wanted is not None:
                numbers = numbers[wanted[numbers]]
                if not len(numbers):
                    continue
            lo, hi = int(numbers[0]), int(numbers[-1]) + 1
            if not any(True for part in self.places(lo * self.node, (hi - lo) * self.node) for _ in self._held(part)):
                continue
            data = np.frombuffer(self.read(lo * self.node, (hi - lo) * self.node), "u1").reshape(-1, self.node)
            yield Nodes(numbers, data[numbers - lo])

    def _held(self, part: Extent) -> Iterator[Extent]:
        return self._medium.data_ranges(part.offset, min(part.end, self._medium.size))

    @cached_property
    def leaves(self) -> tuple[NDArray[np.bool_], bool]:
        """Which nodes are leaves that are in use, and whether their row is whole: each linked to the next, and as many
        records as the header says. Where it is not, every node that is a leaf counts as one."""
        out = np.zeros(self.nodes, bool)
        rows = self.descriptors
        leaf = (rows["kind"] == LEAF) & (rows["height"] == 1) & (rows["reserved"] == 0)
        if self.good:
            following, is_leaf = rows["next"].tolist(), leaf.tolist()
            at = int(self.header["first_leaf"])
            while 0 < at < self.nodes and is_leaf[at] and not out[at]:
                out[at] = True
                at = following[at]
            whole = at == 0 and int(rows["records"][out].astype(np.int64).sum()) == int(self.header["leaf_records"])
            if whole:
                return out, True
        return leaf & (rows["records"] > 0), False

    @cached_property
    def given_out(self) -> NDArray[np.bool_]:
        """Which nodes the tree's map calls used; all of them where it cannot be read."""
        if not self.good:
            return np.ones(self.nodes, bool)
        bits = b""
        at, seen = 0, {0}
        while True:
            node = self.read(at * self.node, self.node)
            first = DESCRIPTOR_SIZE + TREE_HEADER.itemsize + USER_RECORD_SIZE if not at else DESCRIPTOR_SIZE
            bits += node[first : self.node - (_HEADER_OFFSETS if not at else _MAP_TAIL)]
            at = int.from_bytes(node[:4], "big")
            if not 0 < at < self.nodes or at in seen or len(bits) * 8 >= self.nodes:
                break
            seen.add(at)
        out = np.zeros(self.nodes, bool)
        own = np.unpackbits(np.frombuffer(bits, "u1"))[: self.nodes]
        out[: len(own)] = own
        return out

    def records(self, wanted: NDArray[np.bool_]) -> Iterator[tuple[NDArray[np.uint8], NDArray[np.int64], Spans]]:
        """The records of some nodes: bytes of nodes in a row, numbers of these, and where in them records stand."""
        for some in self.every(wanted):
            yield some.data.reshape(-1), some.numbers, spans_of(some.data)


@dataclass(frozen=True, slots=True)
class Spans:
    """Records of nodes that stand in a row: from where to where (in bytes of the row), and of each node where its last
    record ends (where its offsets make no sense: at its beginning)."""

    starts: NDArray[np.int64]
    ends: NDArray[np.int64]
    behind: NDArray[np.int64]


def spans_of(data: NDArray[np.uint8]) -> Spans:
    """The records of nodes, shape (nodes, node size), by the offsets at their ends: those that are in order."""
    count, size = data.shape
    rows = np.ascontiguousarray(data[:, :DESCRIPTOR_SIZE]).view(DESCRIPTOR)[:, 0]
    most = (size - DESCRIPTOR_SIZE) // 2 - 1
    records = np.minimum(rows["records"].astype(np.int64), most)
    widest = int(records.max(initial=0)) + 1
    table = data[:, size - 2 * widest :].astype(np.int64)
    offsets = (table[:, ::2] << 8 | table[:, 1::2])[:, ::-1]
    column = np.arange(widest)
    limit = size - 2 * (records + 1)
    inside = (column <= records[:, None]) & (offsets >= DESCRIPTOR_SIZE) & (offsets <= limit[:, None])
    # From the first offset that is out of order on, nothing is believed.
    ordered = np.concatenate((np.ones((count, 1), bool), offsets[:, 1:] > offsets[:, :-1]), axis=1) & inside
    good = np.logical_and.accumulate(ordered, axis=1)
    number = np.maximum(good.sum(axis=1) - 1, 0)
    node, which = np.nonzero(column[:-1] < number[:, None]) if widest > 1 else (np.zeros(0, int), np.zeros(0, int))
    base = np.arange(count) * size
    last = np.where(good[:, 0], offsets[np.arange(count), number], DESCRIPTOR_SIZE)
    return Spans(base[node] + offsets[node, which], base[node] + offsets[node, which + 1], base + last)
