"""LZNT1, the packing of bytes in chunks of 4 KiB ([MS-XCA], section 2.5)."""

from __future__ import annotations

import numpy as np

CHUNK = 4096
_SIGNATURE = 0x3000
_PACKED = 0x8000
_LEAST, _MOST_CANDIDATES = 3, 8


def unpack(stored: bytes, length: int) -> bytes:
    """Up to `length` bytes; what comes before a damage, if there is some. Raises ValueError where the first chunk is
    none."""
    out = bytearray()
    at = 0
    while len(out) < length and at + 2 <= len(stored):
        header = int.from_bytes(stored[at : at + 2], "little")
        if not header:
            break
        size = (header & 0xFFF) + 1
        data = stored[at + 2 : at + 2 + size]
        if header & 0x7000 != _SIGNATURE or len(data) < size:
            break
        try:
            chunk = _unpacked(data) if header & _PACKED else data
        except (IndexError, ValueError):
            break
        out += chunk
        at += 2 + size
        if len(chunk) < CHUNK and len(out) < length:
            out += bytes(min(CHUNK - len(chunk), length - len(out)))
    if not out and length:
        raise ValueError("no chunk of LZNT1 begins there")
    return bytes(out[:length])


def _unpacked(data: bytes) -> bytes:
    """One chunk: groups of eight items, each a byte or a (distance, length) whose bits depend on the place."""
    out = bytearray()
    at, end = 0, len(data)
    while at < end:
        flags = data[at]
        at += 1
        if not flags and end - at >= 8:  # eight bytes as they are
            out += data[at : at + 8]
            at += 8
            continue
        for bit in range(8):
            if at >= end:
                break
            if not flags >> bit & 1:
                out.append(data[at])
                at += 1
                continue
            word = data[at] | data[at + 1] << 8
            at += 2
            shift = 12 - _bits(len(out))
            distance, count = (word >> shift) + 1, (word & (1 << shift) - 1) + _LEAST
            start = len(out) - distance
            if start < 0 or len(out) + count > CHUNK:
                raise ValueError("a chunk of LZNT1 points before its start or beyond its end")
            if distance >= count:
                out += out[start : start + count]
            else:  # what is copied repeats itself
                out += (out[start:] * (count // distance + 1))[:count]
    return bytes(out)


def _bits(position: int) -> int:
    """Bits of a distance at a position of a chunk, less 4."""
    return max((position - 1).bit_length() - 4, 0) if position else 0


def pack(data: bytes) -> bytes:
    """All of `data` as chunks; those that do not pack stand as they are. Zeros make the last one whole: drivers take
    one that stands as it is for as long as all."""
    out = bytearray()
    for start in range(0, len(data), CHUNK):
        chunk = data[start : start + CHUNK].ljust(CHUNK, b"\0")
        packed = _packed(chunk)
        if len(packed) < len(chunk):
            out += (_PACKED | _SIGNATURE | len(packed) - 1).to_bytes(2, "little") + packed
        else:
            out += (_SIGNATURE | len(chunk) - 1).to_bytes(2, "little") + chunk
    return bytes(out)


def _packed(chunk: bytes) -> bytes:
    """Greedy: at each place the longest of the last few repeats of its three bytes."""
    out = bytearray()
    before = _repeats_before(chunk)
    at = 0
    while at < len(chunk):
        flags, items = 0, bytearray()
        for bit in range(8):
            if at >= len(chunk):
                break
            shift = 12 - _bits(at)
            most = min((1 << shift) - 1 + _LEAST, len(chunk) - at)
            best, where, start = 0, 0, before[at]
            for _ in range(_MOST_CANDIDATES):
                if start < 0 or best == most:
                    break
                if chunk[start + best] == chunk[at + best] and (count := _alike(chunk, start, at, most)) > best:
                    best, where = count, start
                start = before[start]
            if best >= _LEAST:
                flags |= 1 << bit
                items += ((at - where - 1) << shift | best - _LEAST).to_bytes(2, "little")
            else:
                items.append(chunk[at])
            at += best if best >= _LEAST else 1
        out.append(flags)
        out += items
    return bytes(out)


def _repeats_before(chunk: bytes) -> list[int]:
    """For each place, the last one before it at which the same three bytes stand; -1 where there is none."""
    data = np.frombuffer(chunk, np.uint8).astype(np.uint32)
    words = data[:-2] << 16 | data[1:-1] << 8 | data[2:]
    order = np.argsort(words, kind="stable")
    same = np.flatnonzero(words[order[1:]] == words[order[:-1]])
    before = np.full(len(chunk), -1)
    before[order[same + 1]] = order[same]
    out: list[int] = before.tolist()
    return out


def _alike(chunk: bytes, start: int, at: int, most: int) -> int:
    """How many bytes from one place on are those from another on."""
    differ = int.from_bytes(chunk[start : start + most], "little") ^ int.from_bytes(chunk[at : at + most], "little")
    return ((differ & -differ).bit_length() - 1) // 8 if differ else most
