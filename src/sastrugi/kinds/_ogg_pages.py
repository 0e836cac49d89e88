"""Ogg pages with checksums. Source: RFC 3533, section 6."""

from __future__ import annotations

import zlib

from sastrugi.kinds.base import Measure, Proof, Source, broken
from sastrugi.kinds.following import UnitFollower

MARK = b"OggS"
_CONTINUED, _FIRST, _LAST = 1, 2, 4
_REVERSED = bytes(int(f"{n:08b}"[::-1], 2) for n in range(256))


def _checksum(page: bytes) -> int:
    """The page's CRC (polynomial 0x04C11DB7, most significant bit first), through zlib's mirrored one."""
    mirrored = zlib.crc32(page.translate(_REVERSED), 0xFFFFFFFF) ^ 0xFFFFFFFF
    return int(f"{mirrored:032b}"[::-1], 2)


def measure_pages(source: Source) -> Measure | None:
    """Pages up to the last of every stream that began. Another file's pages behind it belong to that."""
    if source.read(0, 6)[:5] != MARK + b"\0":
        return None
    kind = "opus" if source.read(28, 8) == b"OpusHead" else "ogg"
    at = count = 0
    open_streams: set[bytes] = set()
    while True:
        head = source.read(at, 27)
        if len(head) < 27 or head[:5] != MARK + b"\0":
            return broken(kind, min(at, source.size), f"no page follows after {count:,}, but its streams go on")
        lacing = source.read(at + 27, head[26])
        length = 27 + head[26] + sum(lacing)
        page = source.read(at, length)
        if len(page) < length:
            return broken(kind, at, "a page reaches beyond the end")
        if _checksum(page[:22] + bytes(4) + page[26:]) != int.from_bytes(head[22:26], "little"):
            return broken(kind, at, f"the checksum of page {count + 1:,} is wrong")
        if head[5] & _FIRST:
            open_streams.add(head[14:18])
        if head[5] & _LAST:
            open_streams.discard(head[14:18])
        at, count = at + length, count + 1
        chained = source.read(at, 6) if at % 512 else b""
        if not open_streams and not (chained[:4] == MARK and chained[5:] == bytes([_FIRST])):
            return Measure(kind, at, True, Proof.CHECKSUM, f"checksums of all {count:,} pages right, up to the last")


class Pages(UnitFollower):
    """Pages by their checksums, up to the last of every stream."""

    ends = packed = True
    cost = 8.0
    _open: frozenset[bytes] = frozenset()

    def could_go_on(self, data: bytes) -> bool:
        kept = self._kept
        if len(kept) < 27 or len(kept) < 27 + kept[26]:
            return True
        at = 27 + kept[26] + sum(kept[27 : 27 + kept[26]]) - len(kept)
        return bool(kept[5] & _LAST) or at + 4 > len(data) or data[at : at + 4] == MARK

    def _unit(self, kept: bytes, at: int) -> int:
        if at and not self._open:
            self.end = at
            return 0
        if len(kept) < 27 or len(kept) < 27 + kept[26]:
            return 0
        if kept[:5] != MARK + b"\0":
            self.wrong = at + 5
            return 0
        length = 27 + kept[26] + sum(kept[27 : 27 + kept[26]])
        if len(kept) < length:
            return 0
        page = kept[:length]
        if _checksum(page[:22] + bytes(4) + page[26:]) != int.from_bytes(page[22:26], "little"):
            self.wrong = at + length
            return 0
        self._passed(at + length, 32.0, 0)
        self._open |= {page[14:18]} if page[5] & _FIRST else set()
        self._open -= {page[14:18]} if page[5] & _LAST else set()
        return length
