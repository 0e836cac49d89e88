"""Indexes as B-trees of blocks: a root inside of a record, and blocks of clusters where that has no room.

Every entry may have a block below it with what sorts before it; the last entry of a node has no key. Bytes behind the
last entry of a block stay as they were, as a driver that moves entries leaves them.
"""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Callable
from dataclasses import dataclass, field

from sastrugi.volumes.ntfs.layout import INDEX_BELOW, INDEX_LAST, INDEX_MAGIC, STRIDE, with_fixups

ROOT_HEAD, NODE_HEAD = 16, 16
_BLOCK_HEAD = 0x18
_ENTRY_HEAD = 16


@dataclass(slots=True, eq=False)
class Item:
    """A key with what it stands for; `order` is what keys are sorted by."""

    order: tuple[bytes, bytes]
    key: bytes
    reference: int
    data: bytes = b""
    below: Block | None = None
    _own: int = 0
    _made: tuple[bytes, Block | None, bytes] | None = None
    """The bytes made last, and of what."""

    def __post_init__(self) -> None:
        self._own = _ENTRY_HEAD + -(-(len(self.key) + len(self.data)) // 8) * 8

    @property
    def size(self) -> int:
        return self._own + 8 if self.below else self._own

    def packed(self) -> bytes:
        if self._made is None or self._made[0] is not self.key or self._made[1] is not self.below:
            self._made = (self.key, self.below, self._packed())
        return self._made[2]

    def _packed(self) -> bytes:
        flags = INDEX_BELOW if self.below else 0
        if self.data or not self.reference:  # of a view: where its data stand
            head = (_ENTRY_HEAD + len(self.key)).to_bytes(2, "little") + len(self.data).to_bytes(2, "little") + bytes(4)
        else:
            head = self.reference.to_bytes(8, "little")
        out = head + self.size.to_bytes(2, "little") + len(self.key).to_bytes(2, "little")
        out += flags.to_bytes(4, "little") + self.key + self.data
        out = out.ljust(self.size - (8 if self.below else 0), b"\0")
        return out + (self.below.vcn.to_bytes(8, "little") if self.below else b"")


@dataclass(slots=True, eq=False)
class Block:
    """A node. `vcn` is its number, `last` what lies below its last entry; the root has no number."""

    vcn: int
    items: list[Item] = field(default_factory=list)
    last: Block | None = None
    stale: bytes = b""
    """Its bytes as they were written last, without fix-ups,"""
    writes: int = 0
    """… and how often."""

    @property
    def used(self) -> int:
        return sum(item.size for item in self.items) + _ENTRY_HEAD + (8 if self.last else 0)

    @property
    def leaf(self) -> bool:
        return self.last is None

    def packed(self) -> bytes:
        end = _ENTRY_HEAD + (8 if self.last else 0)
        flags = INDEX_LAST | (INDEX_BELOW if self.last else 0)
        out = b"".join(item.packed() for item in self.items)
        out += bytes(8) + end.to_bytes(2, "little") + bytes(2) + flags.to_bytes(4, "little")
        return out + (self.last.vcn.to_bytes(8, "little") if self.last else b"")


class Index:
    """One index. `size` are the bytes of a block, `room` those of the root's entries, `step` what a block counts in its
    own numbers. `changed` are blocks that must be written, `root_changed` says whether the root must."""

    def __init__(self, size: int, room: int, step: int) -> None:
        self.size, self.room, self._step = size, room, step
        self.root = Block(-1)
        self.blocks: dict[int, Block] = {}
        self.changed: dict[int, Block] = {}
        self.root_changed = True
        usa = (size // STRIDE + 1) * 2
        self.first = -(-(0x28 + usa) // 8) * 8
        """Where the entries of a block begin."""
        self._most = size - self.first
        self._free: list[int] = []

    @property
    def length(self) -> int:
        """Bytes of all blocks, the free ones too."""
        return (len(self.blocks) + len(self._free)) * self.size

    def in_use(self) -> list[bool]:
        """Which of the blocks are in use, in order."""
        count = self.length // self.size
        return [n * self._step in self.blocks for n in range(count)]

    def insert(self, item: Item) -> None:
        path: list[tuple[Block, int]] = []
        node = self.root
        while True:
            n = bisect_left(node.items, item.order, key=_order)
            path.append((node, n))
            below = node.items[n].below if n < len(node.items) else node.last
            if below is None:
                break
            node = below
        node.items.insert(n, item)
        self._mark(node)
        self._split_up(path)

    def _split_up(self, path: list[tuple[Block, int]]) -> None:
        for depth in range(len(path) - 1, -1, -1):
            node, _ = path[depth]
            if node is self.root:
                if node.used > self.room:
                    self._sink()
                return
            if node.used <= self._most:
                return
            above, n = path[depth - 1]
            half, at, size = node.used // 2, 0, 0
            while size + node.items[at].size < half and at < len(node.items) - 2:
                size += node.items[at].size
                at += 1
            middle = node.items[at]
            # The lower half goes into a new block, below the middle; the upper half stays where it is.
            lower = self._new(node.items[:at], middle.below)
            node.items = node.items[at + 1 :]
            middle.below = lower
            above.items.insert(n, middle)
            self._mark(node)
            self._mark(above)

    def _sink(self) -> None:
        """All of the root into a block of its own."""
        below = self._new(self.root.items, self.root.last)
        self.root.items, self.root.last = [], below
        self.root_changed = True
        if below.used > self._most:
            self._split_up([(self.root, 0), (below, 0)])

    def _new(self, items: list[Item], last: Block | None) -> Block:
        vcn = self._free.pop(0) if self._free else len(self.blocks) * self._step
        block = Block(vcn, items, last)
        self.blocks[vcn] = block
        self._mark(block)
        return block

    def _mark(self, node: Block) -> None:
        if node is self.root:
            self.root_changed = True
        else:
            self.changed[node.vcn] = node

    def remove(self, order: tuple[bytes, bytes]) -> Item:
        """Take a key out. Raises KeyError where it is not."""
        path: list[tuple[Block, int]] = []
        node: Block | None = self.root
        while node is not None:
            n = bisect_left(node.items, order, key=_order)
            path.append((node, n))
            if n < len(node.items) and node.items[n].order == order:
                break
            node = node.items[n].below if n < len(node.items) else node.last
        if node is None:
            raise KeyError(order)
        found = node.items[n]
        self._mark(node)
        if found.below is None:
            del node.items[n]
            self._tidy(path)
            return found
        # The greatest key below it takes its place.
        leaf: Block = found.below
        path[-1] = (node, n)
        while leaf.last is not None:
            path.append((leaf, len(leaf.items)))
            leaf = leaf.last
        path.append((leaf, len(leaf.items) - 1))
        put = leaf.items.pop()
        self._mark(leaf)
        put.below = found.below
        node.items[n] = put
        self._tidy(path)
        if (node is not self.root and node.used > self._most) or (node is self.root and node.used > self.room):
            self._split_up(self._path_to(node))
        found.below = None
        return found

    def _path_to(self, wanted: Block) -> list[tuple[Block, int]]:
        path: list[tuple[Block, int]] = []
        node = self.root
        while node is not wanted:
            n = bisect_left(node.items, wanted.items[0].order, key=_order)
            path.append((node, n))
            below = node.items[n].below if n < len(node.items) else node.last
            assert below is not None
            node = below
        return [*path, (node, 0)]

    def _tidy(self, path: list[tuple[Block, int]]) -> None:
        """Give up the last node of a path if it is empty; the key beside it is put in again elsewhere."""
        node = path[-1][0]
        if node is self.root or node.items:
            return
        above, n = path[-2]
        below = node.last
        if below is not None:  # nothing but what lies below it: that takes its place
            if n < len(above.items):
                above.items[n].below = below
            else:
                above.last = below
            again = None
        elif n < len(above.items):
            again = above.items.pop(n)
        elif above.items:
            again = above.items.pop()
            above.last = again.below
        else:
            again = None
            above.last = None
        self._mark(above)
        self._give_up(node)
        if not above.items and above is not self.root:
            self._tidy(path[:-1])
        if again is not None:
            again.below = None
            self.insert(again)

    def _give_up(self, node: Block) -> None:
        del self.blocks[node.vcn]
        self.changed.pop(node.vcn, None)
        self._free.append(node.vcn)
        self._free.sort()

    def walk(self, node: Block | None = None) -> list[Item]:
        """Every item in order."""
        node = node or self.root
        out: list[Item] = []
        for item in node.items:
            out += self.walk(item.below) if item.below else []
            out.append(item)
        return out + (self.walk(node.last) if node.last else [])

    def has(self, order: tuple[bytes, bytes]) -> bool:
        """Whether a key is there."""
        node: Block | None = self.root
        while node is not None:
            n = bisect_left(node.items, order, key=_order)
            if n < len(node.items) and node.items[n].order == order:
                return True
            node = node.items[n].below if n < len(node.items) else node.last
        return False

    def leading_to(self, order: tuple[bytes, bytes]) -> list[Block]:
        """The blocks from the root to the one that holds a key; without the root."""
        out: list[Block] = []
        node: Block | None = self.root
        while node is not None:
            if node is not self.root:
                out.append(node)
            n = bisect_left(node.items, order, key=_order)
            if n < len(node.items) and node.items[n].order == order:
                break
            node = node.items[n].below if n < len(node.items) else node.last
        return out

    # -- as bytes ---------------------------------------------------------------------------

    def root_value(self, kind: int, collation: int, per_block: int) -> bytes:
        """The value of the attribute with the root."""
        entries = self.root.packed()
        head = kind.to_bytes(4, "little") + collation.to_bytes(4, "little") + self.size.to_bytes(4, "little")
        head += (per_block & 0xFF).to_bytes(1, "little") + bytes(3)
        total = NODE_HEAD + len(entries)
        node = NODE_HEAD.to_bytes(4, "little") + total.to_bytes(4, "little") + total.to_bytes(4, "little")
        return head + node + (1 if self.root.last else 0).to_bytes(4, "little") + entries

    def block_bytes(self, block: Block) -> bytes:
        """A block as it stands on disk."""
        entries = block.packed()
        data = bytearray(block.stale or bytes(self.size))
        head = INDEX_MAGIC + (0x28).to_bytes(2, "little") + (self.size // STRIDE + 1).to_bytes(2, "little") + bytes(8)
        head += block.vcn.to_bytes(8, "little")
        used = self.first - _BLOCK_HEAD + len(entries)
        head += (self.first - _BLOCK_HEAD).to_bytes(4, "little") + used.to_bytes(4, "little")
        head += (self.size - _BLOCK_HEAD).to_bytes(4, "little") + (0 if block.leaf else 1).to_bytes(4, "little")
        data[: len(head)] = head
        data[self.first : self.first + len(entries)] = entries
        block.stale = bytes(data)
        block.writes = block.writes % 0xFFFE + 1
        return with_fixups(block.stale, block.writes)


_order: Callable[[Item], tuple[bytes, bytes]] = lambda item: item.order  # noqa: E731
