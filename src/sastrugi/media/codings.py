"""Codings by which stored bytes stand for others: decoders by name. What is damaged decodes to ValueError."""

from __future__ import annotations

import zlib
from collections.abc import Callable

from sastrugi.media import lznt1

Decoder = Callable[[bytes, int], bytes]
"""Of the stored bytes, and of how many bytes are wanted: no more are made, whatever the stored ones claim."""


def _inflate(stored: bytes, length: int) -> bytes:
    """RFC 1950. Of a damaged stream what comes before the damage."""
    try:
        return zlib.decompressobj().decompress(stored, length)
    except zlib.error:
        pass
    out, stream = bytearray(), zlib.decompressobj()
    try:
        for at in range(0, len(stored), _STEP):
            out += stream.decompress(stored[at : at + _STEP], length - len(out))
            if len(out) == length:
                break
    except zlib.error as error:
        if not out:
            raise ValueError(f"a zlib unit is damaged: {error}") from error
    return bytes(out)


_STEP = 64
DECODERS: dict[str, Decoder] = {"lznt1": lznt1.unpack, "zlib": _inflate}
