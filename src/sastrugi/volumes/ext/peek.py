"""What the bytes of one record say: an entry of a folder and an inode, one behind the other."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from sastrugi.media.extents import Extent
from sastrugi.volumes.ext.entries import text_of
from sastrugi.volumes.ext.inodes import widened
from sastrugi.volumes.ext.layout import EXTENT, EXTENT_HEAD, HAS_EXTENTS, IS_FILE, KIND_MASK, OLD_INODE, Inode
from sastrugi.volumes.registry import SeenRecord


def peek(_variant: str, data: bytes, where: Sequence[Extent], first: int, block: int) -> SeenRecord | None:
    """Name (of an inode alone: none), size and first byte; None where there is no inode of a file. `first` is where the
    volume's first group begins, which with blocks of 1 KiB is its second block."""
    length = where[0].length if len(where) > 1 else 0
    if len(data) < length + OLD_INODE:
        return None
    name = _name(data[:length]) if length else ""
    row = Inode.of(widened(np.frombuffer(data[length:], "u1").reshape(1, -1))[0])
    if name is None or row.mode & KIND_MASK != IS_FILE:
        return None
    start = _first_block(row)
    if start is not None and start:
        start = first - (block if block == 1024 else 0) + start * block
    return SeenRecord(name, row.length, start)


def _first_block(row: Inode) -> int | None:
    """The block at which a file begins; 0 if it has none, None if a block of its tree tells."""
    if not row.flags & HAS_EXTENTS:
        return int.from_bytes(row.blocks[:4], "little")
    head = np.frombuffer(row.blocks, EXTENT_HEAD, 1)[0]
    if head["depth"]:
        return None
    extent = np.frombuffer(row.blocks, EXTENT, 1, EXTENT_HEAD.itemsize)[0]
    return int(extent["start"]) | int(extent["start_high"]) << 32 if head["entries"] else 0


def _name(entry: bytes) -> str | None:
    """The name that an entry tells, if it is one."""
    size = entry[6]
    if not any(entry[:4]) or not size or 8 + size > len(entry):
        return None
    return text_of(entry[8 : 8 + size])
