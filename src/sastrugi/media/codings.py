"""Codings by which stored bytes stand for others: decoders by name. What is damaged decodes to ValueError."""

from __future__ import annotations

import zlib
from collections.abc import Callable

Decoder = Callable[[bytes, int], bytes]
"""Of the stored bytes, and of how many bytes are wanted: no more are made, whatever the stored ones claim."""


def _inflate(stored: bytes, length: int) -> bytes:
    """RFC 1950."""
    try:
        return zlib.decompressobj().decompress(stored, length)
    except zlib.error as error:
        raise ValueError(f"a zlib unit is damaged: {error}") from error


DECODERS: dict[str, Decoder] = {"zlib": _inflate}
