"""The pictures of a film: whether one begins, as its coding has it, wherever the index says so.

Source: ISO/IEC 14496-12, 8.5 to 8.7 (sample tables); -15, 4.3 (units with lengths); -2, 6.2 and 13818-2, 6.2 (start
codes); ITU-T H.263, 5.1; SMPTE RDD 36, 5.1 (frame headers).
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from functools import partial

import numpy as np
from numpy.typing import NDArray

from sastrugi.kinds.base import Source

Boxes = Callable[[Source, int, int], Iterator[tuple[bytes, int, int]]]
"""The boxes between two bytes of a source: their names, the starts and the ends of their contents."""
Test = Callable[[Source, int, int], int | None]
"""The first byte that shows that no picture of so many bytes (the last) begins at a byte; None if one does."""
Pictures = tuple[Test, NDArray[np.int64], NDArray[np.int64]]
"""The test for a track's pictures, their first bytes in order and their sizes."""

_MOST_SAMPLES = 1 << 18
"""Samples of a film that are looked at: of more than two hours."""
_LOOKED_AT = 32
"""Pictures, spread over the film, that are looked at where not all of them are asked for."""
_LEAST = 8
"""Bytes of a sample that is looked at: shorter ones stand for a picture that repeats."""
_MOST_UNITS = 512
_FIELDS = 86
"""Bytes of a visual sample entry, in front of the boxes in it."""
_UNITS = {b"avc1": (b"avcC", 4), b"avc3": (b"avcC", 4), b"hvc1": (b"hvcC", 21), b"hev1": (b"hvcC", 21)}
"""Codings in units with lengths: the box that says in how many bytes lengths are written, and where."""
_START_CODE, _IMAGE = (0, b"\0\0\1", b"\xff\xff\xff"), (0, b"\xff\xd8", b"\xff\xff")
_BEGIN = {
    b"mp4v": _START_CODE, b"m2v1": _START_CODE, b"jpeg": _IMAGE, b"mjpa": _IMAGE,
    b"s263": (0, b"\0\0\x80", b"\xff\xff\xfc"),
    **{b"ap" + sort: (4, b"icpf", b"\xff\xff\xff\xff") for sort in (b"cn", b"cs", b"co", b"ch", b"4h", b"4x")},
}  # fmt: skip
"""Codings by what stands in each picture: where, which bytes, and which bits of them count."""


def first_wrong_picture(source: Source, boxes: Boxes, start: int, end: int, every: bool) -> int | None:
    """The first byte that shows that no picture begins where the index (the content of `moov`, from `start` to `end`)
    says that one does; None if all begin that are looked at: some, or `every`. Codings that are not known are not."""
    wrong: list[int] = []
    left = _MOST_SAMPLES
    for name, inner, behind in boxes(source, start, end):
        track = _pictures_of(source, boxes, inner, behind) if name == b"trak" else None
        if track is None or not 0 < len(track[1]) <= left:
            continue
        test, starts, sizes = track
        if test(source, int(starts[0]), int(sizes[0])) is not None:
            continue  # the first one is not what the test expects
        left -= len(starts)
        found = None
        for step in (1,) if every else (max(len(starts) // _LOOKED_AT, 1), 1):
            some = zip(starts[::-step][::-1].tolist(), sizes[::-step][::-1].tolist(), strict=True)  # and the last one
            found = next((at for one in some if (at := test(source, *one)) is not None), None)
            if found is None:
                break
        wrong += [] if found is None else [found]
    return min(wrong, default=None)


def _pictures_of(
    source: Source, boxes: Boxes, start: int, end: int
) -> Pictures | None:  # fmt: skip
    """The pictures of a track; None if the coding is not known, or the tables do not fit each other."""
    tables = {b"": (start, end)}
    for parent in (b"", b"mdia", b"minf", b"stbl"):
        if parent not in tables:
            return None
        tables |= {name: (inner, behind) for name, inner, behind in boxes(source, *tables[parent])}
    test = _test_for(source, boxes, *tables[b"stsd"]) if b"stsd" in tables else None
    laid = _laid(source, tables) if test is not None else None
    if test is None or laid is None:
        return None
    starts, sizes = laid
    told = np.flatnonzero(sizes >= _LEAST)
    told = told[np.argsort(starts[told], kind="stable")]
    return test, starts[told], sizes[told]


def pictures_told(source: Source, boxes: Boxes, start: int, end: int) -> Pictures | None:
    """The pictures of the first track of which the coding is known; None if there is none."""
    tracks = (
        _pictures_of(source, boxes, inner, behind)
        for name, inner, behind in boxes(source, start, end)
        if name == b"trak"
    )
    return next((track for track in tracks if track is not None and 0 < len(track[1]) <= _MOST_SAMPLES), None)


def _laid(source: Source, tables: dict[bytes, tuple[int, int]]) -> tuple[NDArray[np.int64], NDArray[np.int64]] | None:
    """First byte and size of every sample of a track. Shapes: (samples,) each."""
    short = b"stco" in tables
    offsets = _table(source, tables, b"stco" if short else b"co64", ">u4" if short else ">u8", 8)
    runs = _table(source, tables, b"stsc", ">u4", 8)
    sizes = _table(source, tables, b"stsz", ">u4", 12)
    if offsets is None or runs is None or sizes is None:
        return None
    first, each = runs[::3] - 1, runs[1::3]  # of chunks that hold as many samples
    lengths = np.diff(first, append=len(offsets))
    if first[0] or (lengths <= 0).any() or (each > len(sizes)).any() or (runs[2::3] != runs[2]).any():
        return None  # some samples may be of another coding than the first one
    each = np.repeat(each, lengths)
    if each.sum() != len(sizes):
        return None
    before = np.concatenate([[0], np.cumsum(sizes)])
    return np.repeat(offsets - before[np.cumsum(each) - each], each) + before[:-1], sizes


def _table(
    source: Source, tables: dict[bytes, tuple[int, int]], name: bytes, sort: str, fields: int
) -> NDArray[np.int64] | None:  # fmt: skip
    """The numbers of a table, behind so many bytes of fields of which the last four count its rows."""
    if name not in tables:
        return None
    start, end = tables[name]
    rows = int.from_bytes(source.read(start + fields - 4, 4), "big") * (3 if name == b"stsc" else 1)
    if name == b"stsz" and source.read(start + 4, 4) != bytes(4):
        return None  # samples of one size are sound
    width = np.dtype(sort).itemsize
    if not 0 < rows <= 3 * _MOST_SAMPLES or rows * width > end - start - fields:
        return None
    data = source.read(start + fields, rows * width)
    found = np.frombuffer(data, sort, len(data) // width).astype(np.int64)
    return found if len(found) == rows and (found >= 0).all() else None


def _test_for(source: Source, boxes: Boxes, start: int, end: int) -> Test | None:
    """The test for the coding that a track's first sample entry names."""
    entry = next(boxes(source, start + 8, end), None)
    if entry is None:
        return None
    coding, inner, behind = entry
    if coding in _BEGIN:
        return partial(_begins, *_BEGIN[coding])
    box, at = _UNITS.get(coding, (b"", 0))
    for name, content, _ in boxes(source, inner - 8 + _FIELDS, behind) if box else ():
        if name == box and (told := source.read(content + at, 1)):
            return partial(units_follow, told[0] % 4 + 1)
    return None


def _begins(at: int, wanted: bytes, mask: bytes, source: Source, start: int, size: int) -> int | None:
    there = source.read(start + at, len(wanted))
    right = len(there) == len(wanted) and all(a & m == b for a, b, m in zip(there, wanted, mask, strict=True))
    return None if right else start


def units_follow(width: int, source: Source, start: int, size: int) -> int | None:
    """Where the units of a picture, each with its length in front, do not follow each other up to its end."""
    at = 0
    for _ in range(_MOST_UNITS):
        length = int.from_bytes(source.read(start + at, width), "big")
        if not length or at + width + length > size:
            return start + at
        at += width + length
        if at == size:
            break
    return None
