"""Blocks of folders as they are written: chains of entries, and an index by hashes where a folder outgrew a block.

The index is laid out as the kernel does it (fs/ext4/namei.c): block 0 is its root, behind entries for the folder itself
and the one above; where that has no room, blocks of its own come between root and leaves.
"""

from __future__ import annotations

import struct
from bisect import bisect_right
from collections.abc import Callable
from dataclasses import dataclass, field

from sastrugi.volumes.ext.hashes import name_hash
from sastrugi.volumes.ext.layout import TAIL_KIND, TAIL_SIZE, Geometry, entry_size, inode_seed, raw_crc32c

HEAD = struct.Struct("<IHBB")
"""Inode, length of the entry, length of the name, kind."""
_INDEX_AT, _INFO = 24, 8
_DOTS = 24


@dataclass(slots=True)
class _Leaf:
    """A leaf of an index: from which hash on, and which block of the folder."""

    first: int
    logical: int


@dataclass(slots=True)
class _Branch:
    """A block between the root and leaves; of an index of one level there is one alone, the root itself."""

    first: int
    logical: int
    leaves: list[_Leaf] = field(default_factory=list)


class FolderBlocks:
    """The blocks of one folder. `read` gives a block's bytes to be changed, by its number in the folder; `add` makes a
    further one, and answers its number; `moved` is told where an entry of a name stands from now on."""

    def __init__(
        self, geometry: Geometry, number: int, generation: int, indexed: bool,
        read: Callable[[int], bytearray], add: Callable[[], int], moved: Callable[[bytes, int, int], None],
    ) -> None:  # fmt: skip
        self._geometry, self._number = geometry, number
        self._seed = inode_seed(geometry, number, generation) if geometry.checksums else 0
        self._read, self._add, self._moved = read, add, moved
        self._tail = TAIL_SIZE if geometry.checksums else 0
        self._end = geometry.block - self._tail
        self._may_index = indexed
        self._count = 1
        self._room: list[int] = [geometry.block]
        """Of each block, at most how many bytes an entry may need that has room in it."""
        self._branches: list[_Branch] = []
        self._deep = False

    @property
    def indexed(self) -> bool:
        return bool(self._branches)

    def begin(self, above: int) -> None:
        """The first block of a new folder, in the folder of inode `above`."""
        data = self._read(0)
        data[:] = bytes(len(data))
        data[:12] = HEAD.pack(self._number, 12, 1, 2) + b".\0\0\0"
        data[12:_DOTS] = HEAD.pack(above, self._end - 12, 2, 2) + b"..\0\0"
        self._close(data)

    def empty_block(self) -> int:
        """A further block without entries."""
        logical = self._add()
        self._count += 1
        self._room.append(self._geometry.block)
        data = self._read(logical)
        data[:] = HEAD.pack(0, self._end, 0, 0).ljust(self._geometry.block, b"\0")
        self._close(data)
        return logical

    def set_above(self, number: int) -> None:
        data = self._read(0)
        data[12:16] = number.to_bytes(4, "little")
        if self.indexed:
            self._close_index(0)
        else:
            self._close(data)

    def insert(self, name: bytes, number: int, kind: int) -> tuple[int, int]:
        """Add an entry; answers block and byte at which it stands."""
        if self.indexed:
            return self._insert_hashed(name, number, kind)
        need = entry_size(name)
        for logical in range(self._count):
            if self._room[logical] >= need:
                at = self._place(logical, name, number, kind)
                if at is not None:
                    return logical, at
                self._room[logical] = need - 4
        if self._may_index and self._count == 1:
            self._make_index()
            return self._insert_hashed(name, number, kind)
        logical = self.empty_block()
        at = self._place(logical, name, number, kind)
        assert at is not None
        return logical, at

    def remove(self, logical: int, at: int, wipe: bool) -> None:
        """Take an entry out: the one before it reaches over it. `wipe`: its bytes are zeroed."""
        data = self._read(logical)
        before = self._before(data, at)
        length = int.from_bytes(data[at + 4 : at + 6], "little")
        if before is None:
            data[at : at + 4] = bytes(4)
            if wipe:
                data[at + 6 : at + length] = bytes(length - 6)
        else:
            total = at + length - before
            data[before + 4 : before + 6] = total.to_bytes(2, "little")
            if wipe:
                data[at : at + length] = bytes(length)
        self._room[logical] = self._geometry.block
        self._close(data)

    # -- one block --------------------------------------------------------------------------

    def _before(self, data: bytearray, at: int) -> int | None:
        before, place = None, 0
        while place < at:
            before, place = place, place + int.from_bytes(data[place + 4 : place + 6], "little")
        return before

    def _place(self, logical: int, name: bytes, number: int, kind: int) -> int | None:
        """Put an entry into the first gap of a block that has room for it."""
        data = self._read(logical)
        need, at = entry_size(name), 0
        while at < self._end:
            inode, length, name_length, _ = HEAD.unpack_from(data, at)
            used = -(-(8 + name_length) // 4) * 4 if inode else 0
            if length - used >= need:
                if used:
                    data[at + 4 : at + 6] = used.to_bytes(2, "little")
                data[at + used : at + used + 8] = HEAD.pack(number, length - used, len(name), kind)
                data[at + used + 8 : at + used + 8 + len(name)] = name
                self._close(data)
                return at + used
            at += length
        return None

    def _entries(self, data: bytearray, start: int) -> list[tuple[bytes, int, int]]:
        """(name, inode, kind) of the live entries of a block from a byte on."""
        out, at = [], start
        while at < self._end:
            inode, length, name_length, kind = HEAD.unpack_from(data, at)
            if inode:
                out.append((bytes(data[at + 8 : at + 8 + name_length]), inode, kind))
            at += length
        return out

    def _lay(self, logical: int, entries: list[tuple[bytes, int, int]]) -> None:
        """Give a block these entries, one close behind the other; bytes behind the last stay as they were."""
        data, at = self._read(logical), 0
        for n, (name, inode, kind) in enumerate(entries):
            size = entry_size(name) if n < len(entries) - 1 else self._end - at
            data[at : at + 8] = HEAD.pack(inode, size, len(name), kind)
            data[at + 8 : at + 8 + len(name)] = name
            self._moved(name, logical, at)
            at += size
        if not entries:
            data[:8] = HEAD.pack(0, self._end, 0, 0)
        self._room[logical] = self._geometry.block
        self._close(data)

    def _close(self, data: bytearray) -> None:
        """The checksum at a block's end."""
        if self._tail:
            value = raw_crc32c(self._seed, bytes(data[: self._end]))
            data[self._end :] = HEAD.pack(0, TAIL_SIZE, 0, TAIL_KIND) + value.to_bytes(4, "little")

    # -- the index --------------------------------------------------------------------------

    def _hash(self, name: bytes) -> int:
        return name_hash(name, self._geometry.hash_kind, self._geometry.hash_seed)

    def _make_index(self) -> None:
        """The only block becomes the root of an index; what was in it goes into a new leaf."""
        # The entry for the folder above may reach over others that are gone: what comes behind it is where it ends.
        entries = self._entries(self._read(0), 12)[1:]
        leaf = self.empty_block()
        self._branches = [_Branch(0, 0, [_Leaf(0, leaf)])]
        self._lay(leaf, entries)
        self._close_index(0)

    def _limit(self, root: bool) -> int:
        head = _INDEX_AT + _INFO if root else _INFO
        return (self._geometry.block - head - (8 if self._tail else 0)) // 8

    def _insert_hashed(self, name: bytes, number: int, kind: int) -> tuple[int, int]:
        value = self._hash(name)
        branch = self._branches[bisect_right(self._branches, value, key=_first) - 1]
        n = max(bisect_right(branch.leaves, value, key=_first) - 1, 0)
        leaf = branch.leaves[n]
        at = self._place(leaf.logical, name, number, kind)
        if at is not None:
            return leaf.logical, at
        self._split(branch, n)
        return self._insert_hashed(name, number, kind)

    def _split(self, branch: _Branch, n: int) -> None:
        """Move the upper half of a leaf's hashes into a new one; where the branch is full, that first."""
        if len(branch.leaves) >= self._limit(root=not self._deep):
            self._split_branch(branch)
            return
        leaf = branch.leaves[n]
        entries = sorted(self._entries(self._read(leaf.logical), 0), key=lambda entry: self._hash(entry[0]))
        half, size = len(entries), 0
        most = sum(entry_size(name) for name, _, _ in entries) // 2
        while half > 1 and size + entry_size(entries[half - 1][0]) <= most:
            half -= 1
            size += entry_size(entries[half][0])
        half = min(max(half, 1), len(entries) - 1)
        first = self._hash(entries[half][0])
        # Where the hash of the last that stays is the same, the new leaf goes on with it: its number is odd.
        same = first == self._hash(entries[half - 1][0])
        new = self.empty_block()
        branch.leaves.insert(n + 1, _Leaf(first + same, new))
        self._lay(new, entries[half:])
        self._lay(leaf.logical, entries[:half])
        self._close_branch(branch)

    def _split_branch(self, branch: _Branch) -> None:
        if not self._deep:
            logical = self.empty_block()
            self._deep = True
            self._branches = [_Branch(0, logical, branch.leaves)]
            self._close_branch(self._branches[0])
            return
        if len(self._branches) >= self._limit(root=True):
            raise FolderFull
        half = len(branch.leaves) // 2
        upper = branch.leaves[half:]
        del branch.leaves[half:]
        new = _Branch(upper[0].first, self.empty_block(), upper)
        self._branches.insert(self._branches.index(branch) + 1, new)
        self._close_branch(new)
        self._close_branch(branch)

    def _close_branch(self, branch: _Branch) -> None:
        if self._deep:
            data = self._read(branch.logical)
            data[:] = HEAD.pack(0, self._geometry.block, 0, 0).ljust(len(data), b"\0")
            self._write_index(data, _INFO, [(leaf.first, leaf.logical) for leaf in branch.leaves], root=False)
        self._close_index(0)

    def _close_index(self, _logical: int) -> None:
        """Write the root."""
        data = self._read(0)
        data[12 + 4 : 12 + 6] = (self._geometry.block - 12).to_bytes(2, "little")
        data[_DOTS:] = bytes(len(data) - _DOTS)
        kind = self._geometry.hash_kind
        data[_DOTS : _DOTS + _INFO] = bytes([0, 0, 0, 0, kind, _INFO, 1 if self._deep else 0, 0])
        if self._deep:
            rows = [(branch.first, branch.logical) for branch in self._branches]
        else:
            rows = [(leaf.first, leaf.logical) for leaf in self._branches[0].leaves]
        self._write_index(data, _INDEX_AT + _INFO, rows, root=True)

    def _write_index(self, data: bytearray, at: int, rows: list[tuple[int, int]], root: bool) -> None:
        """Entries of an index; in the place of the first one's hash stand how many there are and may be."""
        body = b"".join(struct.pack("<II", first, logical) for first, logical in rows)
        body = struct.pack("<HH", self._limit(root), len(rows)) + body[4:]
        data[at : at + len(body)] = body
        if self._tail:
            end = at + len(body)
            value = raw_crc32c(raw_crc32c(self._seed, bytes(data[:end])), bytes(8))
            data[-8:] = bytes(4) + value.to_bytes(4, "little")


class FolderFull(Exception):
    """An index of two levels has no room left."""


def _first(one: _Leaf | _Branch) -> int:
    return one.first
