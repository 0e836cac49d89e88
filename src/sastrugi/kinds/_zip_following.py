"""ZIP archives followed entry by entry. Source: as `_zip_records`."""

from __future__ import annotations

import zlib
from typing import Self

from sastrugi.kinds._jpeg_following import Blocks
from sastrugi.kinds._png_following import Chunks
from sastrugi.kinds._zip_records import CENTRAL, DESCRIPTOR, END, END64, LOCAL, LOCATOR64, Head, read_head
from sastrugi.kinds.following import UNPACKED, Follower, UnitFollower, Unpacking, survived

_RECORD, _MOST_NAMES = 46, 1 << 17
_NO_TAGS = bytes({*range(256)} - {*b"<>"})
_TAG_BITS, _MOST_TAG_BITS = 0.5, 1 / 128
"""What a tag is worth that begins behind the one before it, and all that a packed byte makes."""
_MARK_BITS, _CHECKSUM_BITS = 24.0, 32.0
_PICTURES: dict[bytes, type[Follower]] = {b"\xff\xd8\xff": Blocks, b"\x89PN": Chunks}
"""What is followed inside of an entry, by how it begins. (A checksum tells of an entry as a whole, and packed pictures
unpack to something whatever they are.)"""
_LOOKED_AT = 3
_PICTURE = 1.44 / 3072
"""Bits for a byte of a packed picture that goes on. Foreign data unpack to noise, and noise is soon no picture."""
_SLICE = 1 << 10
"""Bytes of an entry after which the picture in it is asked whether it goes on right."""


class Entries(UnitFollower):
    """Entries by their checksums, then the directory, which must name them."""

    ends = packed = True
    cost = 30.0
    _begun = _markup = False
    _start = _tag = b""
    _tags, _told = 0, 0.0
    _picture: Follower | None = None

    def __init__(self) -> None:
        self._entry: Head | None = None
        self._left: int | None = None
        self._unpacking: Unpacking | None = None
        self._value = self._packed = 0
        self._starts: frozenset[int] = frozenset()

    def copy(self) -> Self:
        other = super().copy()
        other._unpacking = self._unpacking.copy() if self._unpacking is not None else None
        other._picture = self._picture.copy() if self._picture is not None else None
        return other

    def forgiven(self) -> Self:
        other = self.copy()
        other._picture = self._picture.forgiven() if self._picture is not None else None
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
        self._value = self._packed = 0
        self._begun, self._start, self._picture = False, b"", None
        self._starts |= {at}
        return head.length

    def _data(self, kept: bytes, at: int) -> int:
        part = kept if self._left is None else kept[: self._left]
        if self._unpacking is None and self._left is None:
            return self._stored_with_length_behind(kept)
        if self._picture is not None or not self._begun:
            part = part[:_SLICE]
        out, used, broke = [part], len(part), None
        if self._unpacking is not None:
            out, used, broke = self._unpacked_from(self._unpacking, part)
        for one in out:
            self._value = zlib.crc32(one, self._value)
        self._packed += used
        if broke is None and not self._goes_on(b"".join(out)):
            broke = used
        if broke is not None:
            self.wrong = at + broke
            return 0
        self._left = None if self._left is None else self._left - used
        if self._left is None and self._unpacking is not None and self._unpacking.ended:
            self._left = 0
        return used

    def _unpacked_from(self, unpacking: Unpacking, part: bytes) -> tuple[list[bytes], int, int | None]:
        """What some bytes unpack to, how many of them were used, and after how many they broke."""
        before = unpacking.taken
        out, broke = unpacking.feed(part)
        self.work += sum(map(len, out)) // UNPACKED
        used = unpacking.taken - before
        if broke is None and unpacking.ended:
            broke = None if self._left is None or used == self._left else used + 1
        elif broke is None and self._left == used:
            broke = used  # it should have come to its end
        if broke is None:
            self.bits += survived(used)
        return out, used, broke

    def _goes_on(self, data: bytes) -> bool:
        """Whether the content of an entry goes on as what it began as does."""
        if not self._begun:
            data = self._start = self._start + data
            if len(data) < _LOOKED_AT:
                return True
            self._markup, self._tag, self._tags, self._told = data[:1] == b"<", b"", 0, 0.0
            kind = _PICTURES.get(data[:_LOOKED_AT])
            self._picture = kind() if kind is not None else None
            self._begun = True
        picture = self._picture
        if picture is None:
            return not self._markup or self._follows_tags(data)
        bits, work = picture.bits, picture.work
        picture.feed(data)
        self.bits += picture.bits - bits + (_PICTURE * len(data) if self._unpacking is not None else 0.0)
        self.work += int((picture.work - work) * picture.cost / self.cost)
        self.suspected = picture.suspected
        return picture.wrong is None

    def _follows_tags(self, data: bytes) -> bool:
        """Whether markup goes on as such: no tag begins inside of another."""
        tags = self._tag + data.translate(None, _NO_TAGS)
        self._tag = tags[-1:]
        self._tags += data.count(b"<")
        before, self._told = self._told, min(_TAG_BITS * self._tags, _MOST_TAG_BITS * self._packed)
        self.bits += max(self._told - before, 0.0)
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
