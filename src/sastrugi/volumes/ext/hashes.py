"""Hashes of names, by which a folder's index is sorted (the kernel's fs/ext4/hash.c documents them)."""

from __future__ import annotations

import struct
from collections.abc import Callable
from functools import lru_cache

LEGACY, HALF_MD4, TEA = 0, 1, 2
UNSIGNED = 3
"""Added to the kind where names count as unsigned bytes."""
_DEFAULT_SEED = (0x67452301, 0xEFCDAB89, 0x98BADCFE, 0x10325476)
_MASK = 0xFFFFFFFF
_END = 0x7FFFFFFF
_TEA_DELTA = 0x9E3779B9


@lru_cache(1 << 14)
def name_hash(name: bytes, kind: int, seed: bytes) -> int:
    """The hash of a name, an even number; `seed` are the superblock's 16 bytes."""
    signed = kind < UNSIGNED
    kind %= UNSIGNED
    state = struct.unpack("<4I", seed) if any(seed) else _DEFAULT_SEED
    if kind == LEGACY:
        value = _legacy(name, signed)
    elif kind == HALF_MD4:
        for at in range(0, len(name), 32):
            state = _half_md4(state, _words(name[at:], 8, signed))
        value = state[1]
    else:
        for at in range(0, len(name), 16):
            state = _tea(state, _words(name[at:], 4, signed))
        value = state[0]
    value &= ~1
    return (_END - 1) << 1 if value == _END << 1 else value


def _words(name: bytes, count: int, signed: bool) -> list[int]:
    """A part of a name as words, filled up with its length."""
    pad = len(name) | len(name) << 8
    pad = (pad | pad << 16) & _MASK
    out: list[int] = []
    value = pad
    part = name[: 4 * count]
    for n, byte in enumerate(part):
        value = ((byte - 256 if signed and byte > 127 else byte) + (value << 8)) & _MASK
        if n % 4 == 3:
            out.append(value)
            value = pad
    if len(out) < count:
        out.append(value)
    return out + [pad] * (count - len(out))


def _legacy(name: bytes, signed: bool) -> int:
    first, second = 0x12A3FE2D, 0x37ABE8F9
    for byte in name:
        number = byte - 256 if signed and byte > 127 else byte
        value = (second + (first ^ (number * 7152373 & _MASK))) & _MASK
        if value & 0x80000000:
            value -= 0x7FFFFFFF
        second, first = first, value
    return first << 1 & _MASK


def _tea(state: tuple[int, ...], words: list[int]) -> tuple[int, ...]:
    one, two = state[0], state[1]
    total = 0
    for _ in range(16):
        total = (total + _TEA_DELTA) & _MASK
        one = (one + (((two << 4) + words[0]) ^ (two + total) ^ ((two >> 5) + words[1]))) & _MASK
        two = (two + (((one << 4) + words[2]) ^ (one + total) ^ ((one >> 5) + words[3]))) & _MASK
    return (state[0] + one) & _MASK, (state[1] + two) & _MASK, state[2], state[3]


def _half_md4(state: tuple[int, ...], words: list[int]) -> tuple[int, ...]:
    a, b, c, d = state

    def turned(value: int, by: int) -> int:
        value &= _MASK
        return (value << by | value >> (32 - by)) & _MASK

    rounds: tuple[tuple[tuple[int, ...], tuple[int, ...], int, Callable[[int, int, int], int]], ...] = (
        ((0, 1, 2, 3, 4, 5, 6, 7), (3, 7, 11, 19), 0, lambda x, y, z: z ^ (x & (y ^ z))),
        ((1, 3, 5, 7, 0, 2, 4, 6), (3, 5, 9, 13), 0x5A827999, lambda x, y, z: (x & y) + ((x ^ y) & z)),
        ((3, 7, 2, 6, 1, 5, 0, 4), (3, 9, 11, 15), 0x6ED9EBA1, lambda x, y, z: x ^ y ^ z),
    )
    for order, shifts, constant, mix in rounds:
        for n, word in enumerate(order):
            value = turned(a + mix(b, c, d) + words[word] + constant, shifts[n % 4])
            a, b, c, d = d, value, b, c
    return (state[0] + a) & _MASK, (state[1] + b) & _MASK, (state[2] + c) & _MASK, (state[3] + d) & _MASK
