"""ZIP archives followed entry by entry. Source: as `_zip_records`."""

from __future__ import annotations

import zlib
from typing import Self

from sastrugi.kinds._zip_records import CENTRAL, DESCRIPTOR, END, END64, LOCAL, LOCATOR64, Head, read_head
from sastrugi.kinds.following import UNPACKED, UnitFollower, Unpacking, survived

_RECORD, _MOST_NAMES = 46, 1 << 17
_NO_TAGS = bytes({*range(256)} - {*b"<>"})
_TAG_BITS, _MOST_TAG_BITS = 0.5, 8.0
"""What a tag is worth that begins behind the one before it, and all of those that are unpacked at once."""
_MARK_BITS, _CHECKSUM_BITS = 24.0, 32.0


class Entries(UnitFollower):
    """Entries by their checksums, then the directory, which must name them."""

    ends = packed = True

    _begun = _markup = False
    _tag = b""

    def __init__(self) -> None:
        self._entry: Head | None = None
        self._left: int | None = None
        self._unpacking: Unpacking | None = None
        self._value = self._unpacked = self._packed = 0
        self._starts: frozenset[int] = frozenset()

    def copy(self) -> Self:
        other = super().copy()
        other._unpacking = self._unpacking.copy() if self._unpacking is not None else None
        return other

    def _unit(self, kept: bytes, at: int) -> int:
        if self._entry is not None:
            return self._data(kept, at) if self._left != 0 else self._behind_data(kept, at)
        if len(kept) < 4:
            return 0
        mark = kept[:4]
        if mark == LOCAL:
            return self._head(kept, at)
        length = _length_of(mark, kept)
        if length is None or (mark == CENTRAL and not self._names(kept)):
            self.wrong = at + (4 if length is None else _RECORD)
            return 0
        if length and len(kept) >= length:
            self._passed(at + length, _MARK_BITS)
            if mark == END:
                self.end = at + length
            return length
        return 0

    def _names(self, kept: bytes) -> bool:
        """Whether an entry of the directory is one that was met, if all of it is there."""
        place = int.from_bytes(kept[42:46], "little")
        return len(kept) < _RECORD or place == 0xFFFFFFFF or place in self._starts

    def _head(self, kept: bytes, at: int) -> int:
        head = read_head(kept)
        if head is None:
            if len(kept) > _MOST_NAMES + 30:
                self.wrong = at + 30
            return 0
        self.bits += _MARK_BITS
        self._entry, self._left = head, None if head.streamed and not head.packed else head.packed
        self._unpacking = Unpacking(-15) if head.deflated else None
        self._value = self._unpacked = self._packed = 0
        self._begun = False
        self._starts |= {at}
        return head.length

    def _data(self, kept: bytes, at: int) -> int:
        entry = self._entry
        assert entry is not None
        part = kept if self._left is None else kept[: self._left]
        if self._unpacking is None:
            if self._left is None:
                return self._stored_with_length_behind(kept)
            self._value = zlib.crc32(part, self._value)
            used = len(part)
        else:
            before = self._unpacking.taken
            out, broke = self._unpacking.feed(part)
            self.work += sum(map(len, out)) // UNPACKED
            used = self._unpacking.taken - before
            if broke is None and self._unpacking.ended:
                broke = None if self._left is None or used == self._left else used + 1
            elif broke is None and self._left == used:
                broke = used  # it should have come to its end
            if broke is not None:
                self.wrong = at + broke
                return 0
            self.bits += survived(used)
            for one in out:
                self._value = zlib.crc32(one, self._value)
            if not self._follows_tags(b"".join(out)):
                self.wrong = at + used
                return 0
            self._unpacked = self._unpacking.out
            if self._left is None and self._unpacking.ended:
                self._left = used
        self._packed += used
        self._left = None if self._left is None else self._left - used
        return used

    def _follows_tags(self, data: bytes) -> bool:
        """Whether what was unpacked goes on as markup does, if it is that: no tag begins inside of another."""
        if not self._begun:
            self._markup, self._tag = data[:1] == b"<", b""
            self._begun = bool(data)
        if not self._markup:
            return True
        tags = self._tag + data.translate(None, _NO_TAGS)
        self._tag = tags[-1:]
        self.bits += min(_TAG_BITS * tags.count(b"<"), _MOST_TAG_BITS)
        return b"<<" not in tags

    def _stored_with_length_behind(self, kept: bytes) -> int:
        """Up to where a descriptor may stand, of which the length and the checksum are those of what is before it."""
        found = kept.find(DESCRIPTOR)
        if found < 0:
            found = max(len(kept) - 3, 0)
        elif len(kept) >= found + 16:
            value = zlib.crc32(kept[:found], self._value)
            fields = kept[found + 4 : found + 16]
            told = value.to_bytes(4, "little") + (self._packed + found).to_bytes(8, "little")[:4]
            if fields[:8] == told:
                self._left = 0
            else:
                found += 1
        self._value = zlib.crc32(kept[:found], self._value)
        self._packed += found
        if self._left == 0 and not found:
            return self._behind_data(kept, self.fed - len(kept))
        return found

    def _behind_data(self, kept: bytes, at: int) -> int:
        """Check what was unpacked by the header, or by the descriptor that follows."""
        entry = self._entry
        assert entry is not None
        checksum, used = entry.checksum, 0
        if entry.streamed:
            if len(kept) < 28:
                return 0
            marked = kept[:4] == DESCRIPTOR
            checksum = int.from_bytes(kept[4:8] if marked else kept[:4], "little")
            used = next(
                (n for n in (16, 24, 12, 20) if kept[n : n + 2] == b"PK" and marked == (n % 16 == 0 or n == 24)), 0
            )
            if not used:
                self.wrong = at + 28
                return 0
        if entry.checked and checksum != self._value:
            self.wrong = at + used
            return 0
        self._entry = None
        self._passed(at + used, _CHECKSUM_BITS if entry.checked else 0.0, 0 if entry.checked else None)
        return used or self._unit(kept, at)


def _length_of(mark: bytes, kept: bytes) -> int | None:
    """Bytes of a record behind the entries; 0 where that is not known yet, None if it is none."""
    if mark == CENTRAL:
        lengths = [int.from_bytes(kept[n : n + 2], "little") for n in (28, 30, 32)]
        return _RECORD + sum(lengths) if len(kept) >= _RECORD else 0
    if mark == END64:
        return 12 + int.from_bytes(kept[4:12], "little") if len(kept) >= 12 else 0
    if mark == LOCATOR64:
        return 20
    if mark == b"PK\x05\x05":
        return 6 + int.from_bytes(kept[4:6], "little") if len(kept) >= 6 else 0
    if mark == END:
        return 22 + int.from_bytes(kept[20:22], "little") if len(kept) >= 22 else 0
    return None
