"""Whether entropy-coded data decode from end to end, asked of libavcodec, and up to which byte they do.

Markers and statistics cannot tell the data of one photograph from those of another; a decoder can: on foreign data it
soon comes upon a code that is none, or upon more coefficients than a block has. It tells the block at which that was;
the byte follows from how much of the file it takes to come as far.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from enum import Enum
from typing import Any, NamedTuple

from sastrugi.kinds.base import Source

_MOST_BYTES, _MOST_PIXELS, _MOST_AT_ONCE = 24 << 20, 120_000_000, 24_000_000
"""Of files that are decoded: an eighth of each side is what is kept of a picture, but of one that is sent in several
scans all coefficients are."""
_GRAIN, _FINE = 2048, 128
"""Bytes to which a break is told, or so small a part of a large file."""
_LEFT_OVER = 512
"""Bytes behind the last block, before the end marker, that are no sign of anything."""
_PLACE = re.compile(r"error y=(\d+) x=(\d+)")
_ENDS = "overread"


class Answer(Enum):
    """What a decoder says of data: that they are right, that they end before its last block, or nothing."""

    RIGHT, ENDS, UNKNOWN = range(3)


class _Reached(NamedTuple):
    """The block, counted in rows and columns, at which decoding failed."""

    row: int
    column: int


def first_wrong_byte(
    source: Source, tables: Iterable[tuple[int, int]], scan: int, length: int, pixels: int, at_once: bool
) -> int | None:  # fmt: skip
    """About where the file of `length` bytes can no longer be decoded (its end, where its data are fewer or more than
    its blocks need); -1 if all of it can, None where nobody can tell: it is too large, or of a sort that the decoder
    does not know. `tables` are the segments (start, end) before the data of the first scan, at `scan`, that a decoder
    needs: it may stumble over others. `at_once`: all of the picture comes in several scans."""
    if length > _MOST_BYTES or pixels > (_MOST_AT_ONCE if at_once else _MOST_PIXELS):
        return None
    head = b"\xff\xd8" + b"".join(source.read(start, end - start) for start, end in tables)
    data = head + source.read(scan, length - scan)
    whole = _decoded(data)
    if whole is Answer.RIGHT:
        short = data[: -_LEFT_OVER - 2]
        more = len(short) > len(head) + _LEFT_OVER and len(set(data[-_LEFT_OVER - 2 : -2])) > 2
        return length - _LEFT_OVER if more and _decoded(short) is Answer.RIGHT else -1
    if whole is Answer.UNKNOWN:
        return None
    if whole is Answer.ENDS:
        return length
    low, high = len(head), len(data)
    while high - low > max(_GRAIN, length // _FINE):
        middle = (low + high) // 2
        # What fails at another block, or in another of several scans, fails because it is cut short.
        reached = _decoded(data[:middle])
        low, high = (low, middle) if reached == whole else (middle, high)
    return scan + low - len(head)


def _decoded(data: bytes) -> Answer | _Reached:
    """What a decoder says of data; where it fails, the block at which it does."""
    import av
    import av.logging

    codec: Any = av.CodecContext.create("mjpeg", "r")
    codec.options = {"err_detect": "explode", "lowres": "3"}
    codec.thread_count = 1
    before, repeated = av.logging.get_level(), av.logging.get_skip_repeated()
    av.logging.set_level(av.logging.ERROR)
    av.logging.set_skip_repeated(False)
    try:
        with av.logging.Capture() as said:
            try:
                whole = bool(codec.decode(av.Packet(data)))
            except (av.FFmpegError, ValueError, MemoryError):
                whole = False
    finally:
        av.logging.set_level(before)
        av.logging.set_skip_repeated(repeated)
    if whole:
        return Answer.RIGHT
    words = " ".join(text for _, _, text in said)
    place = _PLACE.search(words)
    if place:
        return _Reached(int(place[1]), int(place[2]))
    return Answer.ENDS if _ENDS in words else Answer.UNKNOWN
