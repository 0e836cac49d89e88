"""Writing a journal as a driver does that is unmounted in the end: it is empty then, but its last transactions
stand."""

from __future__ import annotations

import datetime as dt
import struct
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from sastrugi.volumes.ext.journal_layout import (
    COMMIT,
    COMMIT_BLOCK,
    CRC32C_KIND,
    DESCRIPTOR_BLOCK,
    ESCAPED,
    HAS_REVOKES,
    HEAD,
    JOURNAL_MAGIC,
    JOURNAL_SUPERBLOCK,
    LAST,
    MAGIC_BYTES,
    REVOKE_BLOCK,
    SAME_UUID,
    SUMS_3,
    SUPERBLOCK_2,
    TAIL_SIZE,
    UUID_SIZE,
    WIDE_NUMBERS,
    copy_sum,
    tag_size,
)
from sastrugi.volumes.ext.layout import MIRRORED_SEED, raw_crc32c, to_seconds


@dataclass(frozen=True, slots=True)
class Copy:
    """A copy of a block in the journal: the journal's own block in which it stands, and that of the descriptor that
    says so. `turn` is the descriptor's among all blocks ever written: what is `length` older was written over."""

    transaction: int
    at: int
    descriptor: int
    turn: int


class JournalWriter:
    """A journal of `length` blocks of `block` bytes; `put` writes bytes at a block of it."""

    def __init__(self, length: int, block: int, uuid: bytes, features: int, put: Callable[[int, bytes], None]) -> None:
        self.length, self._block, self._uuid, self._put = length, block, uuid, put
        self._features = features
        self._seed = raw_crc32c(MIRRORED_SEED, uuid)
        self.sequence = 1
        """Of the next transaction."""
        self._next = 1
        self._unwritten: list[bytes] = []
        self.turn = 0
        """How many blocks were written so far."""

    @property
    def _sums(self) -> bool:
        return bool(self._features & SUMS_3)

    @property
    def most(self) -> int:
        """Blocks of the largest transaction; larger ones are written as several."""
        return max(self.length // 4, 1)

    def write(self, blocks: Mapping[int, bytes], revoked: Sequence[int], when: dt.datetime) -> dict[int, Copy]:
        """A transaction: the new content of blocks by their numbers. Answers where the copies stand."""
        sequence = self.sequence
        self.sequence += 1
        out: dict[int, Copy] = {}
        if revoked:
            self._features |= HAS_REVOKES
            self._revoke(sequence, revoked)
        size = tag_size(self._features)
        room = self._block - HEAD.size - UUID_SIZE - (TAIL_SIZE if self._sums else 0)
        numbers = list(blocks)
        for n in range(0, len(numbers), room // size):
            self._copies(sequence, {number: blocks[number] for number in numbers[n : n + room // size]}, out)
        commit = bytearray(self._commit(sequence, when))
        if self._sums:
            commit[16:20] = raw_crc32c(self._seed, bytes(commit)).to_bytes(4, "big")
        self._append(bytes(commit))
        self._write_out()
        return out

    def _commit(self, sequence: int, when: dt.datetime) -> bytes:
        kind = (CRC32C_KIND, 4) if self._sums else (0, 0)
        seconds, extra = to_seconds(when)
        fields = COMMIT.pack(JOURNAL_MAGIC, COMMIT_BLOCK, sequence, *kind, bytes(32), seconds, extra >> 2)
        return fields.ljust(self._block, b"\0")

    def _copies(self, sequence: int, blocks: Mapping[int, bytes], out: dict[int, Copy]) -> None:
        tags = bytearray(HEAD.pack(JOURNAL_MAGIC, DESCRIPTOR_BLOCK, sequence))
        copies: list[bytes] = []
        for n, (number, data) in enumerate(blocks.items()):
            flags = (SAME_UUID if n else 0) | (LAST if n == len(blocks) - 1 else 0)
            if data[:4] == MAGIC_BYTES:
                flags, data = flags | ESCAPED, bytes(4) + data[4:]
            copies.append(data)
            if self._sums:
                tags += struct.pack(
                    ">4I", number & 0xFFFFFFFF, flags, number >> 32, copy_sum(self._seed, sequence, data)
                )
            else:
                tags += struct.pack(">IHH", number & 0xFFFFFFFF, 0, flags)
                tags += (number >> 32).to_bytes(4, "big") if self._features & WIDE_NUMBERS else b""
            if not n:
                tags += self._uuid
        turn = self.turn
        descriptor = self._append(self._with_tail(bytes(tags)))
        for number, data in zip(blocks, copies, strict=True):
            out[number] = Copy(sequence, self._append(data), descriptor, turn)

    def _revoke(self, sequence: int, revoked: Sequence[int]) -> None:
        width = 8 if self._features & WIDE_NUMBERS else 4
        room = (self._block - 16 - TAIL_SIZE) // width
        for n in range(0, len(revoked), room):
            some = revoked[n : n + room]
            body = b"".join(number.to_bytes(width, "big") for number in some)
            head = HEAD.pack(JOURNAL_MAGIC, REVOKE_BLOCK, sequence) + (16 + len(body)).to_bytes(4, "big")
            self._append(self._with_tail(head + body))

    def _with_tail(self, data: bytes) -> bytes:
        block = data.ljust(self._block, b"\0")
        if not self._sums:
            return block
        return block[:-TAIL_SIZE] + raw_crc32c(self._seed, block).to_bytes(4, "big")

    def _append(self, data: bytes) -> int:
        at = self._next
        self._unwritten.append(data)
        self._next = at + 1 if at + 1 < self.length else 1
        if self._next == 1:
            self._write_out(at + 1)
        self.turn += 1
        return at

    def _write_out(self, end: int = 0) -> None:
        """Write what was appended, which ends in front of a block, by default of the next."""
        if self._unwritten:
            self._put((end or self._next) - len(self._unwritten), b"".join(self._unwritten))
            self._unwritten.clear()

    def superblock(self) -> bytes:
        """The journal's first block, by which all transactions are done: nothing is to be replayed."""
        row = np.zeros((), JOURNAL_SUPERBLOCK)
        row["magic"], row["type"], row["block"] = JOURNAL_MAGIC, SUPERBLOCK_2, self._block
        row["length"], row["first"], row["sequence"] = self.length, 1, self.sequence
        row["incompatible"], row["uuid"], row["users"] = self._features, np.void(self._uuid), 1
        row["checksum_kind"] = CRC32C_KIND if self._sums else 0
        data = bytearray(row.tobytes())
        if self._sums:
            data[252:256] = raw_crc32c(MIRRORED_SEED, bytes(data)).to_bytes(4, "big")
        return bytes(data).ljust(self._block, b"\0")
