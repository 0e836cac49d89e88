"""FLAC: metadata blocks, then numbered frames with checksums. Source: RFC 9639, sections 8 and 9."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from functools import cache
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from sastrugi.kinds._video import check_clip, make_sound
from sastrugi.kinds.base import Kind, Measure, Proof, Signature, Source, broken
from sastrugi.kinds.following import UnitFollower
from sastrugi.scenario.dice import Dice

_BLOCK_SIZES = {1: 192, 2: 576, 3: 1152, 4: 2304, 5: 4608} | {n: 256 << (n - 8) for n in range(8, 16)}
_LARGEST_FRAME = 1 << 20
_HEADER = 16
"""Bytes of a frame's header, at most."""
_FRAME_BITS = 24.0
"""A checksum of 16 bits, and one of the header that also has the right number."""
_CHUNK = 256
_AT_ONCE = 4 << 20
"""Bytes of frames whose checksums are worked out together, each as long as the longest of them."""


def _table(polynomial: int, bits: int) -> list[int]:
    out = []
    for byte in range(256):
        value = byte << (bits - 8)
        for _ in range(8):
            value = (value << 1 ^ polynomial) if value >> (bits - 1) else value << 1
            value &= (1 << bits) - 1
        out.append(value)
    return out


_CRC8, _CRC16 = _table(0x07, 8), _table(0x8005, 16)


def _frame(head: bytes) -> tuple[int, int, bool] | None:
    """Number (of frame or sample), samples and whether blocks vary, from a frame header with a right checksum."""
    if len(head) < 6 or head[0] != 0xFF or head[1] & 0xFE != 0xF8 or head[2] >> 4 == 0 or head[3] & 1:
        return None
    first = head[4]
    extra = 0 if first < 0x80 else 7 - (first ^ 0xFF).bit_length()
    if first >= 0x80 and not 1 <= extra <= 6:
        return None
    number = first if first < 0x80 else first & (0x3F >> extra)
    for byte in head[5 : 5 + extra]:
        if byte & 0xC0 != 0x80:
            return None
        number = number << 6 | byte & 0x3F
    at = 5 + extra
    size_code, rate_code = head[2] >> 4, head[2] & 15
    samples = _BLOCK_SIZES.get(size_code, 0)
    if size_code in (6, 7):
        width = size_code - 5
        samples = int.from_bytes(head[at : at + width], "big") + 1
        at += width
    at += {12: 1, 13: 2, 14: 2}.get(rate_code, 0)
    if at >= len(head) or rate_code == 15:
        return None
    value = 0
    for byte in head[:at]:
        value = _CRC8[value ^ byte]
    return (number, samples, bool(head[1] & 1)) if value == head[at] else None


def measure(source: Source, deep: bool = False) -> Measure | None:
    if source.read(0, 4) != b"fLaC":
        return None
    at, last, total, smallest, largest = 4, False, 0, 0, 0
    while not last:
        head = source.read(at, 4)
        if len(head) < 4 or head[0] & 0x7F == 127 or (at == 4 and head[0] & 0x7F):
            return broken("flac", min(at, source.size), "no metadata block where one must be")
        last, length = bool(head[0] & 0x80), int.from_bytes(head[1:], "big")
        if at == 4:
            info = source.read(8, 34)
            smallest, largest = int.from_bytes(info[4:7], "big"), int.from_bytes(info[7:10], "big")
            total = int.from_bytes(info[13:18], "big") & (1 << 36) - 1
        at += 4 + length
    largest = min(largest or _LARGEST_FRAME, _LARGEST_FRAME)
    starts: list[int] = []
    found = _frames(source, at, total, smallest, largest, starts)
    return _checked(source, found, starts) if deep else found


def _checked(source: Source, found: Measure, starts: list[int]) -> Measure:
    """The measure, with the checksums of all frames in front of its end that are known from end to end."""
    ends = [*starts, found.length] if found.whole else starts
    for part in batches(pairwise(ends)):
        wrong = np.flatnonzero(crc16([source.read(first, end - first) for first, end in part]))
        if len(wrong):
            at = part[int(wrong[0])][0]
            return broken("flac", at, "the checksum of a frame is wrong")
    if not found.whole or found.proof < Proof.STRUCTURE:
        return found
    rule = f"{len(starts):,} numbered frames, their checksums right"
    return Measure("flac", found.length, True, Proof.CHECKSUM, rule)


def batches(frames: Iterable[tuple[int, int]]) -> Iterator[list[tuple[int, int]]]:
    """Frames, (start, end), so many at once that all of them have room at the length of the longest."""
    part: list[tuple[int, int]] = []
    longest = 0
    for first, end in frames:
        own = -(-(end - first) // _CHUNK) * _CHUNK
        if part and (len(part) + 1) * max(longest, own) > _AT_ONCE:
            yield part
            part, longest = [], 0
        part.append((first, end))
        longest = max(longest, own)
    if part:
        yield part


def crc16(frames: list[bytes]) -> NDArray[np.uint16]:
    """The checksum of each frame (polynomial 0x8005, most significant bit first, from 0): of all together, in chunks.
    Zeros in front do not count, so frames are of one length then. A frame with its own checksum behind it gives 0."""
    chunks = max(-(-max(map(len, frames)) // _CHUNK), 1)
    rows = np.frombuffer(b"".join(frame.rjust(chunks * _CHUNK, b"\0") for frame in frames), np.uint8)
    each = _in_a_chunk()[np.arange(_CHUNK), rows.reshape(-1, _CHUNK)]
    parts = np.bitwise_xor.reduce(each, axis=1).reshape(len(frames), chunks)
    out: NDArray[np.uint16] = parts[:, 0]
    high, low = _behind_a_chunk()
    for n in range(1, chunks):
        out = high[out >> np.uint16(8)] ^ low[out & np.uint16(0xFF)] ^ parts[:, n]
    return out


def _behind_zeros(value: NDArray[np.uint16]) -> NDArray[np.uint16]:
    """What checksums become by one zero behind them."""
    out: NDArray[np.uint16] = (value << np.uint16(8)) ^ np.array(_CRC16, np.uint16)[value >> np.uint16(8)]
    return out


@cache
def _in_a_chunk() -> NDArray[np.uint16]:
    """What each byte of a chunk adds to its checksum, by its place and value. Shape: (bytes of a chunk, 256)."""
    out = np.empty((_CHUNK, 256), np.uint16)
    value = np.array(_CRC16, np.uint16)
    for place in reversed(range(_CHUNK)):
        out[place] = value
        value = _behind_zeros(value)
    return out


@cache
def _behind_a_chunk() -> tuple[NDArray[np.uint16], NDArray[np.uint16]]:
    """What a checksum becomes by a chunk of zeros behind it: the part of its high byte, and of its low one."""
    value = np.concatenate((np.arange(256, dtype=np.uint16) << np.uint16(8), np.arange(256, dtype=np.uint16)))
    for _ in range(_CHUNK):
        value = _behind_zeros(value)
    return value[:256], value[256:]


def _frames(source: Source, at: int, total: int, smallest: int, largest: int, starts: list[int]) -> Measure:
    """Follow frames by their numbers, and note where they start; the last one ends where its checksum comes out."""
    done = count = 0
    while True:
        window = source.read(at, largest + _HEADER)
        frame = _frame(window[:_HEADER])
        expected = done if frame and frame[2] else count
        if frame is None or frame[0] != expected:
            return broken("flac", min(at, source.size), f"no frame number {count:,} where it must be")
        starts.append(at)
        done, count = done + frame[1], count + 1
        if total and done >= total:
            break
        following = window.find(b"\xff", max(smallest, 2))
        while following >= 0:
            later = _frame(window[following : following + _HEADER])
            if later is not None and later[0] == (done if later[2] else count):
                break
            following = window.find(b"\xff", following + 1)
        if following < 0:
            if total:
                return broken("flac", min(at, source.size), f"frame {count:,} is missing")
            break
        at += following
    return _last_frame(source, at, window[:largest], smallest, count)


def _ends(window: bytes, smallest: int) -> list[int]:
    """After how many bytes the checksum of a frame comes out."""
    value = 0
    ends: list[int] = []
    for n, byte in enumerate(window, 1):
        value = (value << 8 & 0xFFFF) ^ _CRC16[value >> 8 ^ byte]
        if not value and n >= max(smallest, 8):
            ends.append(n)
    return ends


def _last_frame(source: Source, at: int, window: bytes, smallest: int, count: int) -> Measure:
    ends = _ends(window, smallest)
    for end in ends:  # where only slack follows, the end is sure
        behind = source.read(at + end, -(at + end) % 512)
        if not behind.strip(b"\0"):
            rule = f"{count:,} numbered frames, the checksum of the last right"
            return Measure("flac", at + end, True, Proof.STRUCTURE, rule)
    if not ends:
        return broken("flac", at, f"the checksum of the last frame ({count:,}) never comes out")
    return Measure("flac", at + ends[0], True, Proof.GUESS, f"{count:,} frames; nothing but a checksum tells the end")


class _Frames(UnitFollower):
    """Metadata blocks, then frames by their numbers, each right by its checksum when the next one begins."""

    packed = True
    cost = 10.0
    _begun = _in_frames = False
    _total = _smallest = _largest = _done = _count = 0
    _unchecked: tuple[tuple[int, bytes], ...] = ()

    def _look(self, data: bytes, at: int) -> None:
        super()._look(data, at)
        if not self._unchecked:
            return
        frames, self._unchecked = self._unchecked, ()
        wrong = np.flatnonzero(crc16([frame for _, frame in frames]))
        good = frames[: int(wrong[0])] if len(wrong) else frames
        if good:
            self._passed(good[-1][0] + len(good[-1][1]), _FRAME_BITS * len(good), 0)
        if len(wrong):
            start, frame = frames[int(wrong[0])]
            self.wrong = start + len(frame)

    def _unit(self, kept: bytes, at: int) -> int:
        if self._in_frames:
            return self._frame(kept, at)
        head, info = 4 if self._begun else 8, 0 if self._begun else 34
        if len(kept) < head + info:
            return 0
        block = kept[head - 4 : head]
        if block[0] & 0x7F == 127 or (not self._begun and block[0] & 0x7F):
            self.wrong = at + head
            return 0
        if not self._begun:
            fields = kept[8:42]
            self._smallest, largest = int.from_bytes(fields[4:7], "big"), int.from_bytes(fields[7:10], "big")
            self._largest = min(largest or _LARGEST_FRAME, _LARGEST_FRAME)
            self._total = int.from_bytes(fields[13:18], "big") & (1 << 36) - 1
            self._begun = True
        self._in_frames = bool(block[0] & 0x80)
        return head + int.from_bytes(block[1:], "big")

    def _frame(self, kept: bytes, at: int) -> int:
        if len(kept) < _HEADER:
            return 0
        frame = _frame(kept[:_HEADER])
        if frame is None or frame[0] != (self._done if frame[2] else self._count):
            self.wrong = at + _HEADER
            return 0
        done, count = self._done + frame[1], self._count + 1
        if self._total and done >= self._total:
            end = next((n for n in _ends(kept[: self._largest], self._smallest) if _slack(kept, at + n, n)), 0)
            self.end = at + end if end else None
            if not end and len(kept) >= self._largest + 512:
                self.wrong = at + len(kept)
            return 0
        mark, reach = kept[:2], self._largest + 2  # the same in front of each
        following = kept.find(mark, max(self._smallest, 2), reach)
        while following >= 0:
            later = _frame(kept[following : following + _HEADER])
            if later is not None and later[0] == (done if later[2] else count):
                break
            following = kept.find(mark, following + 1, reach)
        if following < 0:
            if len(kept) >= self._largest + _HEADER:
                self.wrong = at + self._largest + _HEADER
            return 0
        self._done, self._count = done, count
        self._unchecked += ((at, kept[:following]),)
        return following


def _slack(kept: bytes, at: int, n: int) -> bool:
    """Whether nothing but zeros is behind a byte, to the end of its sector."""
    behind = kept[n : n + -at % 512]
    return len(behind) == -at % 512 and not behind.strip(b"\0")


def make(dice: Dice, size: int) -> bytes:
    return make_sound(dice, size, "flac", "flac", 600_000, lossless=True)


KIND = Kind(
    "flac", "FLAC sound", "sound", ("flac",), "audio/flac", "numbered frames with checksums", Proof.CHECKSUM,
    measure, (Signature(b"fLaC"),), follow=_Frames, make=make, check=check_clip,
)  # fmt: skip
