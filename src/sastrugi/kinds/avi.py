"""AVI video in RIFF chunks, with OpenDML extensions behind. Source: Microsoft AVI RIFF reference; OpenDML 1.02."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

import numpy as np

from sastrugi.kinds._riff import CHUNK, chunks_in, measure_riff
from sastrugi.kinds._video import check_clip, make_clip
from sastrugi.kinds.base import Holds, Kind, Measure, Proof, Signature, Source, broken
from sastrugi.kinds.following import UnitFollower
from sastrugi.scenario.dice import Dice

_LOOKED_AT, _MOST_INDEX = 32, 16 << 20
"""Chunks that are looked at where not all are asked for; bytes of the index that is asked for them."""
_MOST_PARTS = 1000
"""Parts of a film, of a gigabyte each as programs write them."""
_WRONG = "no chunk begins behind the one before it"
_INDEX = np.dtype([("name", "S4"), ("flags", "<u4"), ("at", "<u4"), ("size", "<u4")])


class _Chunks(UnitFollower):
    """Chunks by their lengths, those of the list of media each for itself."""

    cost = 1.5
    _media_end = _end = 0

    def _may_begin(self, data: bytes, at: int) -> bool:
        name = data[at : at + 4]
        if self.fed + at < self._media_end:
            return name[2:].isalnum()
        return self.fed + at == self._end or (name.isascii() and name.strip().isalnum())

    def _unit(self, kept: bytes, at: int) -> int:
        if at and at == self._end:
            self.end = at
            return 0
        if len(kept) < 12:
            return 0
        if not at:
            self._end = 8 + int.from_bytes(kept[4:8], "little")
            return 12
        name: bytes
        length: int
        name, length = CHUNK.unpack_from(kept)
        inside = at < self._media_end
        known = name[2:].isalnum() if inside else name.isascii() and name.strip().isalnum()
        if not known or (inside and at + 8 + length > self._media_end):
            self.wrong = at + 8
            return 0
        self._passed(at + 8, 20.0)
        if name == b"LIST" and kept[8:12] in (b"movi", b"rec "):
            self._media_end = max(self._media_end, at + 8 + length)
            return 12
        return 8 + length + (length & 1)


def measure(source: Source, deep: bool = False) -> Measure | None:
    found = measure_riff(source, b"AVI ", "avi", frozenset({b"LIST"}))
    if found is None:
        return None
    if found.breaks_at is not None:
        wrong = _first_wrong_chunk(source, source.size) if deep else None
        return broken("avi", wrong, _WRONG) if wrong is not None and wrong < found.breaks_at else found
    quick = not deep and _as_indexed(source, found.length, every=False)
    wrong = None if quick else _first_wrong_chunk(source, found.length)
    if wrong is not None and _as_indexed(source, found.length, every=True):
        wrong = None  # chunks do not follow each other, but all of the index is right: players do not mind
    for _ in range(_MOST_PARTS):
        more = source.read(found.length, 12)
        length = found.length + 8 + int.from_bytes(more[4:8], "little")
        if wrong is not None or more[:4] != b"RIFF" or more[8:] != b"AVIX" or length > source.size:
            break
        wrong = _first_wrong_chunk(source, length, found.length) if deep else None
        found = replace(found, length=length)
    return broken("avi", wrong, _WRONG) if wrong is not None else found


def _media(source: Source, end: int, start: int = 0) -> Iterator[tuple[int, int]]:
    """The first byte and the end of each list of media in a RIFF that begins at `start`."""
    for name, inner, behind in chunks_in(source, start + 12, end):
        if name == b"LIST" and source.read(inner, 4) == b"movi":
            yield inner, behind


def _first_wrong_chunk(source: Source, end: int, start: int = 0) -> int | None:
    """Where no chunk stands although the one before it ends there, in lists of media; None if all follow."""
    for first, last in _media(source, end, start):
        reached = first + 4
        for name, inner, behind in chunks_in(source, first + 4, last, nested=b"rec "):
            if not (name[2:].isalnum() or name in (b"LIST", b"JUNK")):
                return inner - CHUNK.size
            reached = behind
        if last - reached >= CHUNK.size:
            return reached
    return None


def _as_indexed(source: Source, end: int, every: bool) -> bool:
    """Whether some chunks, spread over the film, or `every` one stand where the index at its end says. Without an index
    some do, and not all."""
    media, table = next(_media(source, end), None), b""
    for name, inner, behind in chunks_in(source, 12, end):
        if name == b"idx1" and behind - inner <= _MOST_INDEX:
            table = source.read(inner, behind - inner)
    rows = np.frombuffer(table, _INDEX, len(table) // _INDEX.itemsize)
    if media is None or not len(rows):
        return not every
    step = 1 if every else max(len(rows) // _LOOKED_AT, 1)
    some = [(bytes(row["name"]), int(row["at"]), int(row["size"])) for row in rows[::-step][::-1]]
    # Places are counted from the list of media on, or from the start of the file.
    bases = [base for base in (media[0], 0) if source.read(base + some[0][1], 4) == some[0][0]]
    return bool(bases) and all(source.read(bases[0] + at, 8) == CHUNK.pack(name, size) for name, at, size in some)


def make(dice: Dice, size: int) -> bytes:
    return make_clip(dice, size, "avi", "mpeg4")


KIND = Kind(
    "avi", "AVI video", "video", ("avi",), "video/x-msvideo", "RIFF length, chunks must meet it", Proof.STRUCTURE,
    measure, (Signature(b"AVI ", 8),), holds=Holds.PICTURES, follow=_Chunks, make=make, check=check_clip,
)  # fmt: skip
