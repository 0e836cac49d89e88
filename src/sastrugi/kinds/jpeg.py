"""JPEG: segments, then entropy-coded scans up to EOI. Source: ITU-T T.81, annex B; Exif 2.3 for the header."""

from __future__ import annotations

import io
from pathlib import Path
from struct import Struct

import numpy as np
from numpy.typing import NDArray

from sastrugi.kinds._exif import (
    DATE_TIME,
    DATE_TIME_ORIGINAL,
    IMAGE_DESCRIPTION,
    MAKE,
    MODEL,
    Fields,
    exif_header,
)
from sastrugi.kinds._jpeg_decoding import first_wrong_byte
from sastrugi.kinds._jpeg_following import Blocks
from sastrugi.kinds._pictures import check_picture, picture_of_size
from sastrugi.kinds.base import Kind, Measure, Proof, Signature, Source, broken
from sastrugi.scenario.dice import Dice
from sastrugi.units import plural

_LENGTH = Struct(">H")
_FRAME_SIZE = Struct(">HH")
_SOI, _EOI, _SOS = 0xD8, 0xD9, 0xDA
_NO_TABLES = frozenset({*range(0xE0, 0xF0), 0xFE}) - {0xEE}
_PROGRESSIVE = 0xC2
_DECODED = (0xC0, 0xC1, _PROGRESSIVE)
_RST_FIRST, _RST_LAST = 0xD0, 0xD7
_FRAMES = frozenset(range(0xC0, 0xD0)) - {0xC4, 0xC8, 0xCC}
_SEGMENTS = frozenset({*range(0xE0, 0xF0), 0xDB, 0xC4, 0xCC, 0xDD, 0xDC, 0xFE, _SOS}) | _FRAMES
_BLOCK = 1 << 18
_PREVIEW = (160, 120)
_ROW = 512
_ZERO_ROWS = 8
_TEXT = np.zeros(256, bool)
_TEXT[[*range(0x20, 0x7F), 9, 10, 13]] = True
_WORDS = 16
"""A row of text has at least this many different characters; a flat picture may code to a few repeated ones."""


def measure(source: Source, deep: bool = False) -> Measure | None:
    head = source.read(0, 4)
    if head[:3] != b"\xff\xd8\xff" or len(head) < 4 or head[3] not in _SEGMENTS | {0xFF}:
        return None
    at, scans, first_scan = 2, 0, 0
    frame, pixels = 0, 0
    tables: list[tuple[int, int]] = []
    while True:
        marker = source.read(at, 2)
        if len(marker) < 2:
            return broken("jpeg", min(at, source.size), "ends before its end marker")
        if marker == b"\xff\xff":  # fill byte
            at += 1
            continue
        code = marker[1]
        if marker[0] == 0xFF and code == _EOI and scans:
            rule = f"segments right, entropy-coded data plausible through {plural(scans, 'scan')} to the end marker"
            known = deep and frame in _DECODED
            several = frame == _PROGRESSIVE
            wrong = first_wrong_byte(source, tables, first_scan, at + 2, pixels, several) if known else None
            if wrong is None:
                return Measure("jpeg", at + 2, True, Proof.STATISTICS, rule)
            if wrong >= 0:
                return broken("jpeg", wrong, "its entropy-coded data cannot be decoded from about there")
            return Measure("jpeg", at + 2, True, Proof.DECODES, "segments right, all of its blocks decode")
        if marker[0] != 0xFF or code not in _SEGMENTS or (code == _SOS and not frame):
            return broken("jpeg", at, "a marker stands where none can be")
        length = source.unpack(_LENGTH, at + 2)
        if length is None or length[0] < 2 or at + 2 + length[0] > source.size:
            return broken("jpeg", at, "a segment reaches beyond the end")
        if code in _FRAMES:
            size = source.unpack(_FRAME_SIZE, at + 5)
            frame, pixels = code, size[0] * size[1] if size is not None else 0
        if not scans and code not in _NO_TABLES:
            tables.append((at, at + 2 + length[0]))
        at += 2 + length[0]
        if code == _SOS:
            scans += 1
            first_scan = first_scan or at
            at, problem = _scan_end(source, at)
            if problem:
                return broken("jpeg", at, problem)


def _scan_end(source: Source, start: int) -> tuple[int, str]:
    """Position of the marker that ends entropy-coded data from `start`, or of the first byte that cannot be in it.

    In such data 0xFF is followed by zero or by restart markers in turn. Rows of text do not occur in it, nor do
    long runs of zeros (short ones do: large black areas with optimised codes).
    """
    restart = -1
    at = start
    while at < source.size:
        block = source.read(at, _BLOCK + 1)
        data = np.frombuffer(block, "u1")
        usable = len(data) - 1
        marks = np.flatnonzero(data[:-1] == 0xFF)
        codes = data[marks + 1]
        keep = codes != 0
        marks, codes = marks[keep], codes[keep]
        restarts = (codes >= _RST_FIRST) & (codes <= _RST_LAST)
        others = np.flatnonzero(~restarts)
        end = int(marks[others[0]]) if len(others) else usable
        before = slice(None, others[0] if len(others) else None)
        order = codes[before][restarts[before]].astype(int) - _RST_FIRST
        foreign = _foreign_row(data[:end])
        if foreign is not None:
            return at + foreign, "data that cannot be entropy-coded begins"
        if len(order):
            expected = (np.arange(len(order)) + (restart + 1)) % 8
            wrong = np.flatnonzero(order != expected)
            if len(wrong):
                return at + int(marks[np.flatnonzero(restarts)[wrong[0]]]), "restart markers are out of order"
            restart = int(order[-1])
        if len(others):
            code = int(codes[others[0]])
            if code == _EOI or code in _SEGMENTS or code == 0xFF:
                return at + end, ""
            return at + end, "a marker stands where none can be"
        if usable <= 0:
            break
        at += usable
    return source.size, "ends inside its entropy-coded data"


def inside(rows: NDArray[np.uint8]) -> NDArray[np.bool_]:
    """Rows of bytes, shape (rows, bytes), that can be entropy-coded: 0xFF stands in them, but only before zero and few
    markers. What else is as mixed has other bytes behind it; of rows that are mostly zeros only the last one is."""
    out = np.zeros(len(rows), bool)
    for at in range(0, len(rows), step := max(_AT_ONCE // max(rows.shape[1], 1), 1)):
        part = rows[at : at + step]
        marks, behind = part[:, :-1] == 0xFF, part[:, 1:]
        mixed = marks.any(axis=1) & (np.count_nonzero(part, axis=1) > part.shape[1] // 2)
        ends = (marks & (behind == _EOI)).any(axis=1)
        out[at : at + step] = (mixed | ends) & ~(marks & ~_BEHIND_MARK[behind]).any(axis=1)
    return out


_AT_ONCE = 1 << 22
_BEHIND_MARK = np.zeros(256, bool)
_BEHIND_MARK[[0, *range(_RST_FIRST, _RST_LAST + 1), 0xC4, _EOI, _SOS, 0xFF]] = True


def _foreign_row(data: NDArray[np.uint8]) -> int | None:
    """Where a row of text, or the first of many rows of zeros, begins."""
    count = len(data) // _ROW
    rows = data[: count * _ROW].reshape(count, _ROW)
    highest = rows.max(axis=1) if count else np.zeros(0, np.uint8)
    zero = np.convolve(highest == 0, np.ones(_ZERO_ROWS, int), "valid") if count >= _ZERO_ROWS else np.zeros(0, int)
    starts = [int(n) for n in np.flatnonzero(zero == _ZERO_ROWS)[:1]]
    for n in np.flatnonzero((highest > 0) & (highest < 0x80)):
        if _TEXT[rows[n]].all() and len(np.unique(rows[n])) >= _WORDS:
            starts.append(int(n))
            break
    return min(starts) * _ROW if starts else None


def make(dice: Dice, size: int) -> bytes:
    def encode(width: int, height: int) -> bytes:
        return _encode(dice.fork("picture"), width, height)

    return picture_of_size(encode, size, bytes_per_pixel=0.45)


def _encode(dice: Dice, width: int, height: int) -> bytes:
    """A photograph with an Exif header as a camera writes it: maker, model, time, and a small preview of itself."""
    picture = dice.picture(width, height)
    preview = io.BytesIO()
    if width >= _PREVIEW[0]:
        small = picture.resize(_PREVIEW)
        small.save(preview, "JPEG", quality=60)
    moment = dice.moment().strftime("%Y:%m:%d %H:%M:%S").encode()
    main: Fields = {
        MAKE: b"Firnline",
        MODEL: b"Ice Camera 3",
        DATE_TIME: moment,
        IMAGE_DESCRIPTION: dice.caption().encode(),
    }
    header = exif_header(main, {DATE_TIME_ORIGINAL: moment}, preview.getvalue())
    out = io.BytesIO()
    picture.save(out, "JPEG", quality=88, exif=header, progressive=dice.chance(0.25), subsampling=2)
    return out.getvalue()


def check(path: Path) -> None:
    check_picture(path, "JPEG")


KIND = Kind(
    "jpeg", "JPEG photograph", "picture", ("jpg", "jpeg", "jpe"), "image/jpeg", "segments and scans up to EOI",
    Proof.STATISTICS, measure, (Signature(b"\xff\xd8\xff"),), inside=inside, follow=Blocks, make=make, check=check,
)  # fmt: skip
