"""B-trees as they are written: nodes of records that are split, emptied and given back.

Source: TN1150, "B-Trees". Records of a node follow each other in the order of their keys; a removal moves those behind
it, and what stood last stays behind the new end until something is put there. A node that becomes empty goes back to
the map of free nodes as it is.
"""

from __future__ import annotations

import struct
from bisect import bisect_left, bisect_right
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from itertools import chain
from typing import Any

import numpy as np

from sastrugi.volumes.hfsplus.layout import (
    BIG_KEYS,
    DESCRIPTOR_SIZE,
    EXTENTS_KEY,
    HEADER,
    INDEX,
    LEAF,
    MAP,
    TREE_HEADER,
    USER_RECORD_SIZE,
    VARIABLE_INDEX_KEYS,
)

Key = tuple[Any, ...]
"""What records are in the order of."""
_OFFSET = 2
_CHILD = 4
_KEY_LENGTH = 2
_MAP_AT = DESCRIPTOR_SIZE + TREE_HEADER.itemsize + USER_RECORD_SIZE
_MAP_TAIL = 6
"""Bytes at the end of a map node that its record leaves free."""


@dataclass(slots=True, eq=False)
class TreeNode:
    """A node in memory: its bytes, and where its records begin (with the end of the last) and by what they are in
    order."""

    number: int
    kind: int
    height: int
    raw: bytearray
    ends: list[int] = field(default_factory=lambda: [DESCRIPTOR_SIZE])
    keys: list[Key] = field(default_factory=list)
    next: int = 0
    before: int = 0

    @property
    def room(self) -> int:
        """Bytes that a further record may have, its place in the table of offsets not counted."""
        return len(self.raw) - self.ends[-1] - _OFFSET * (len(self.keys) + 2)

    def record(self, n: int) -> bytes:
        return bytes(self.raw[self.ends[n] : self.ends[n + 1]])

    def key_bytes(self, n: int) -> bytes:
        """The key of a record as it stands, with its length."""
        start = self.ends[n]
        return bytes(
            self.raw[start : start + _KEY_LENGTH + int.from_bytes(self.raw[start : start + _KEY_LENGTH], "big")]
        )

    def child(self, n: int) -> int:
        """Of an index node: the node that a record leads to."""
        return int.from_bytes(self.raw[self.ends[n + 1] - _CHILD : self.ends[n + 1]], "big")

    def insert(self, n: int, key: Key, record: bytes) -> None:
        start, end, size = self.ends[n], self.ends[-1], len(record)
        self.raw[start + size : end + size] = self.raw[start:end]
        self.raw[start : start + size] = record
        self.ends[n + 1 :] = [start + size, *(one + size for one in self.ends[n + 1 :])]
        self.keys.insert(n, key)
        self.settle()

    def remove(self, n: int) -> bytes:
        start, behind, end = self.ends[n], self.ends[n + 1], self.ends[-1]
        record = bytes(self.raw[start:behind])
        self.raw[start : start + end - behind] = self.raw[behind:end]
        self.ends[n + 1 :] = [one - len(record) for one in self.ends[n + 2 :]]
        del self.keys[n]
        self.settle()
        return record

    def settle(self) -> None:
        """Bring descriptor and offsets into the bytes."""
        count = len(self.keys)
        struct.pack_into(">IIbBHH", self.raw, 0, self.next, self.before, self.kind, self.height, count, 0)
        struct.pack_into(f">{count + 1}H", self.raw, len(self.raw) - _OFFSET * (count + 1), *reversed(self.ends))


class Tree:
    """One tree in a file of nodes. `grow` gives the file more nodes and answers how many there are then; `moved` is
    told of keys whose records went from a node to another one."""

    def __init__(
        self, node_size: int, longest_key: int, compare: int, nodes: int, grow: Callable[[], int],
        moved: Callable[[list[Key], int], None] = lambda keys, node: None,
    ) -> None:  # fmt: skip
        self.node_size, self._longest, self._compare = node_size, longest_key, compare
        self._grow, self._moved = grow, moved
        self.nodes: dict[int, TreeNode] = {}
        self._changed: dict[int, None] = {}
        self._freed: dict[int, bytes] = {}
        self.root = self.depth = self.leaf_records = self.first_leaf = self.last_leaf = 0
        self.total, self.free = nodes, nodes - 1
        self._used = bytearray(b"\x80")
        self._maps: list[int] = []
        self._hint = 1
        self._unwritten = True
        self._add_maps()

    # -- nodes ------------------------------------------------------------------------------

    def _map_bits(self) -> tuple[int, int]:
        """Nodes that the map record of the header node tells of, and that of a map node."""
        return 8 * (self.node_size - _MAP_AT - 2 * _CHILD), 8 * (self.node_size - DESCRIPTOR_SIZE - _MAP_TAIL)

    def _add_maps(self) -> None:
        first, more = self._map_bits()
        while first + more * len(self._maps) < self.total:
            self._maps.append(self._take())

    def _take(self) -> int:
        """A free node; the tree grows where there is none."""
        if not self.free:
            self.make_room(1)
        for number in chain(range(self._hint, self.total), range(1, self._hint)):
            if number // 8 >= len(self._used):
                self._used.extend(bytes(number // 8 + 1 - len(self._used)))
            if not self._used[number // 8] & 0x80 >> number % 8:
                self._used[number // 8] |= 0x80 >> number % 8
                self.free -= 1
                self._hint = number + 1
                return number
        raise AssertionError("the map of nodes and the count of free ones differ")

    def make_room(self, nodes: int) -> None:
        """Let the tree grow until so many nodes are free."""
        while self.free < nodes:
            before = self.total
            self.total = self._grow()
            self.free += self.total - before
            self._add_maps()

    def _new(self, kind: int, height: int) -> TreeNode:
        number = self._take()
        self._freed.pop(number, None)
        node = TreeNode(number, kind, height, bytearray(self.node_size))
        self.nodes[number] = node
        self._changed[number] = None
        return node

    def _link(self, node: TreeNode, before: int, after: int) -> None:
        """Where a node stands in its row."""
        node.before, node.next = before, after
        for one in (node, self.nodes.get(before), self.nodes.get(after)):
            if one is not None:
                self._changed[one.number] = None
        if before:
            self.nodes[before].next = node.number
            self.nodes[before].settle()
        if after:
            self.nodes[after].before = node.number
            self.nodes[after].settle()
        node.settle()

    def _give_back(self, node: TreeNode) -> None:
        for number, other in ((node.before, node.next), (node.next, node.before)):
            if number:
                beside = self.nodes[number]
                beside.next, beside.before = (other, beside.before) if number == node.before else (beside.next, other)
                beside.settle()
                self._changed[number] = None
        if node.kind == LEAF:
            self.first_leaf = node.next if self.first_leaf == node.number else self.first_leaf
            self.last_leaf = node.before if self.last_leaf == node.number else self.last_leaf
        self._used[node.number // 8] &= ~(0x80 >> node.number % 8)
        self.free += 1
        self._hint = min(self._hint, node.number)
        self._changed.pop(node.number, None)
        del self.nodes[node.number]
        self._freed[node.number] = bytes(node.raw)

    # -- finding ----------------------------------------------------------------------------

    def find(self, key: Key) -> tuple[TreeNode, int] | None:
        """The leaf in which the record of a key stands, and its number there."""
        node = self.nodes.get(self.root)
        while node is not None and node.kind == INDEX:
            node = self.nodes[node.child(max(bisect_right(node.keys, key) - 1, 0))]
        if node is None:
            return None
        n = bisect_left(node.keys, key)
        return (node, n) if n < len(node.keys) and node.keys[n] == key else None

    def keys_from(self, first: Key, behind: Key) -> list[Key]:
        """The keys that are not below one and below another, in their order."""
        node = self.nodes.get(self.root)
        while node is not None and node.kind == INDEX:
            node = self.nodes[node.child(max(bisect_right(node.keys, first) - 1, 0))]
        out: list[Key] = []
        while node is not None:
            own = node.keys[bisect_left(node.keys, first) : bisect_left(node.keys, behind)]
            out += own
            if node.keys and node.keys[-1] >= behind:
                break
            node = self.nodes.get(node.next)
        return out

    def leaves(self) -> Iterator[TreeNode]:
        """All leaves, in the order of their keys."""
        number = self.first_leaf
        while number:
            yield self.nodes[number]
            number = self.nodes[number].next

    # -- changing ---------------------------------------------------------------------------

    def insert(self, key: Key, record: bytes) -> None:
        """A further record, its key in front; no other may have the same."""
        self.leaf_records += 1
        if not self.root:
            leaf = self._new(LEAF, 1)
            self.root = self.first_leaf = self.last_leaf = leaf.number
            self.depth = 1
        self._settle_root(self._insert(self.nodes[self.root], key, record))

    def remove(self, key: Key) -> bytes:
        """Take a record out; answers it."""
        self.leaf_records -= 1
        found = self.find(key)
        assert found is not None
        record = found[0].record(found[1])
        self._settle_root(self._remove(self.nodes[self.root], key))
        return record

    def replace(self, key: Key, data: bytes) -> None:
        """Other data behind the key of a record, as long as before."""
        found = self.find(key)
        assert found is not None
        node, n = found
        start = node.ends[n] + len(node.key_bytes(n))
        assert node.ends[n + 1] - start == len(data)
        node.raw[start : start + len(data)] = data
        self._changed[node.number] = None

    def _insert(self, node: TreeNode, key: Key, record: bytes) -> list[TreeNode]:
        """Put a record below a node; answers the nodes that there are in its place."""
        row = [node]
        if node.kind == LEAF:
            self._place(row, key, record)
            return row
        n = max(bisect_right(node.keys, key) - 1, 0)
        self._led(row, n, self._insert(self.nodes[node.child(n)], key, record))
        return row

    def _remove(self, node: TreeNode, key: Key) -> list[TreeNode]:
        """Take a record out below a node; answers the nodes that there are in its place: none if it became empty."""
        row = [node]
        if node.kind == LEAF:
            node.remove(bisect_left(node.keys, key))
            self._changed[node.number] = None
        else:
            n = max(bisect_right(node.keys, key) - 1, 0)
            self._led(row, n, self._remove(self.nodes[node.child(n)], key))
        if not node.keys:
            self._give_back(node)
            return []
        return row

    def _led(self, row: list[TreeNode], n: int, below: list[TreeNode]) -> None:
        """Let the records of an index node lead to the nodes `below`, in place of the one that record `n` led to."""
        node = row[0]
        if below and node.keys[n] == below[0].keys[0]:
            del below[0]
        else:
            node.remove(n)
            self._changed[node.number] = None
        for child in below:
            self._place(row, child.keys[0], child.key_bytes(0) + child.number.to_bytes(_CHILD, "big"))

    def _place(self, row: list[TreeNode], key: Key, record: bytes) -> None:
        """Put a record into the one of neighbouring nodes where it belongs; they become more where it has no room."""
        while True:
            at = max((n for n, node in enumerate(row) if node.keys and node.keys[0] <= key), default=0)
            node = row[at]
            if len(record) <= node.room:
                node.insert(bisect_left(node.keys, key), key, record)
                self._changed[node.number] = None
                return
            row.insert(at + 1, self._split(node))

    def _split(self, node: TreeNode) -> TreeNode:
        """The upper half of a node's records in a new one behind it; they stay behind the end of the old one."""
        new = self._new(node.kind, node.height)
        half = (node.ends[0] + node.ends[-1]) // 2
        n = min(max(bisect_left(node.ends, half), 1), len(node.keys) - 1)
        moved = bytes(node.raw[node.ends[n] : node.ends[-1]])
        new.raw[DESCRIPTOR_SIZE : DESCRIPTOR_SIZE + len(moved)] = moved
        new.keys, new.ends = node.keys[n:], [end - node.ends[n] + DESCRIPTOR_SIZE for end in node.ends[n:]]
        node.keys, node.ends = node.keys[:n], node.ends[: n + 1]
        self._link(new, node.number, node.next)
        if node.kind == LEAF:
            self._moved(new.keys, node.number)
            if self.last_leaf == node.number:
                self.last_leaf = new.number
        return new

    def _settle_root(self, row: list[TreeNode]) -> None:
        """What stands in the place of the root gets a root above it, or is one."""
        while len(row) > 1:
            root = self._new(INDEX, row[0].height + 1)
            above = [root]
            for child in row:
                self._place(above, child.keys[0], child.key_bytes(0) + child.number.to_bytes(_CHILD, "big"))
            row = above
        if not row:
            self.root = self.depth = self.first_leaf = self.last_leaf = 0
            return
        (root,) = row
        while root.kind == INDEX and len(root.keys) == 1:
            below = self.nodes[root.child(0)]
            self._give_back(root)
            root = below
        self.root, self.depth = root.number, root.height

    # -- the medium -------------------------------------------------------------------------

    def header(self, clump: int) -> bytes:
        """The header node."""
        row = np.zeros((), TREE_HEADER)
        row["depth"], row["root"], row["leaf_records"] = self.depth, self.root, self.leaf_records
        row["first_leaf"], row["last_leaf"] = self.first_leaf, self.last_leaf
        row["node"], row["longest_key"] = self.node_size, self._longest
        row["nodes"], row["free"], row["clump"], row["compare"] = self.total, self.free, clump, self._compare
        row["attributes"] = BIG_KEYS | (0 if self._longest == EXTENTS_KEY else VARIABLE_INDEX_KEYS)
        size, bits = self.node_size, self._map_bits()[0]
        raw = bytearray(size)
        struct.pack_into(">IIbBHH", raw, 0, self._maps[0] if self._maps else 0, 0, HEADER, 0, 3, 0)
        raw[DESCRIPTOR_SIZE : DESCRIPTOR_SIZE + TREE_HEADER.itemsize] = row.tobytes()
        own = self._used[: bits // 8]
        raw[_MAP_AT : _MAP_AT + len(own)] = own
        ends = (size - 2 * _CHILD, _MAP_AT, _MAP_AT - USER_RECORD_SIZE, DESCRIPTOR_SIZE)
        struct.pack_into(">4H", raw, size - 2 * _CHILD, *ends)
        return bytes(raw)

    def _map_node(self, n: int) -> bytes:
        first, more = self._map_bits()
        raw = bytearray(self.node_size)
        after = self._maps[n + 1] if n + 1 < len(self._maps) else 0
        struct.pack_into(">IIbBHH", raw, 0, after, 0, MAP, 0, 1, 0)
        own = self._used[(first + n * more) // 8 : (first + (n + 1) * more) // 8]
        raw[DESCRIPTOR_SIZE : DESCRIPTOR_SIZE + len(own)] = own
        struct.pack_into(">2H", raw, self.node_size - 2 * _OFFSET, self.node_size - _MAP_TAIL, DESCRIPTOR_SIZE)
        return bytes(raw)

    def changes(self, clump: int) -> dict[int, bytes]:
        """The nodes that are to be written, by their numbers; empty where nothing changed."""
        if not self._changed and not self._freed and not self._unwritten:
            return {}
        self._unwritten = False
        out = {number: bytes(self.nodes[number].raw) for number in self._changed} | self._freed
        out |= {number: self._map_node(n) for n, number in enumerate(self._maps)}
        out[0] = self.header(clump)
        self._changed, self._freed = {}, {}
        return dict(sorted(out.items()))
