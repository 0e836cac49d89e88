"""Writing a journal as a driver does that is unmounted in the end: nothing is to be played back, but its last
transactions stand.

Source: TN1150, "Journal". A transaction is a block list, which says where each copy belongs, and the copies behind it;
the row goes round in a buffer behind the journal's header.
"""

from __future__ import annotations

import struct
from collections.abc import Callable, Mapping
from dataclasses import dataclass

from sastrugi.volumes.hfsplus.layout import (
    BLOCK_INFO,
    BLOCK_LIST,
    BLOCK_LIST_SUMMED,
    JOURNAL_ENDIAN,
    JOURNAL_HEADER,
    JOURNAL_HEADER_SUMMED,
    JOURNAL_MAGIC,
    SECTOR,
    journal_sum,
)

LIST_SIZE = 4096
_MOST = LIST_SIZE // BLOCK_INFO.itemsize - 2
_SUM_AT, _HEADER_SUM_AT = 8, 36


@dataclass(frozen=True, slots=True)
class Copy:
    """A copy of a piece of the volume: the byte of the journal's buffer at which it begins, and how many bytes were
    written before it; what is a round older was written over."""

    at: int
    turn: int


class JournalWriter:
    """A journal of `size` bytes; `put` writes bytes at a byte of it."""

    def __init__(self, size: int, put: Callable[[int, bytes], None]) -> None:
        self._size, self._put = size, put
        self._next = SECTOR
        self._turn = 0

    @property
    def _room(self) -> int:
        return self._size - SECTOR

    @property
    def most(self) -> int:
        """Bytes of copies of the largest transaction; more are several."""
        return self._room // 4

    def write(self, pieces: Mapping[int, bytes]) -> dict[int, Copy]:
        """A transaction: the new content of pieces of the volume by the byte of it at which they begin, whole sectors.
        Answers where the copies stand."""
        out: dict[int, Copy] = {}
        places = list(pieces)
        for n in range(0, len(places), _MOST):
            some = places[n : n + _MOST]
            self._list({place: pieces[place] for place in some}, n + _MOST < len(places), out)
        return out

    def _list(self, pieces: Mapping[int, bytes], more: bool, out: dict[int, Copy]) -> None:
        used = LIST_SIZE + sum(map(len, pieces.values()))
        head = struct.pack("<" + BLOCK_LIST, _MOST + 1, len(pieces) + 1, used, 0, 0)
        head += struct.pack("<QII", 0, 0, int(more))
        for place, data in pieces.items():
            head += struct.pack("<QII", place // SECTOR, len(data), 0)
        summed = bytearray(head)
        summed[_SUM_AT : _SUM_AT + 4] = struct.pack("<I", journal_sum(head[:BLOCK_LIST_SUMMED]))
        self._append(bytes(summed).ljust(LIST_SIZE, b"\0"))
        for place, data in pieces.items():
            turn = self._turn
            out[place] = Copy(self._append(data), turn)

    def _append(self, data: bytes) -> int:
        at = self._next
        first = min(len(data), self._size - at)
        self._put(at, data[:first])
        if first < len(data):
            self._put(SECTOR, data[first:])
        self._next = SECTOR + (at - SECTOR + len(data)) % self._room
        self._turn += len(data)
        return at

    def stands(self, copy: Copy) -> bool:
        """Whether a copy was not written over."""
        return self._turn - copy.turn <= self._room

    def header(self) -> bytes:
        """The journal's header, by which all transactions are done."""
        data = bytearray(
            struct.pack(
                "<" + JOURNAL_HEADER, JOURNAL_MAGIC, JOURNAL_ENDIAN, self._next, self._next, self._size, LIST_SIZE, 0,
                SECTOR,
            )
        )  # fmt: skip
        data[_HEADER_SUM_AT : _HEADER_SUM_AT + 4] = struct.pack("<I", journal_sum(bytes(data[:JOURNAL_HEADER_SUMMED])))
        return bytes(data).ljust(SECTOR, b"\0")
