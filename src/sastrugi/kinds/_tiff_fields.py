"""TIFF directories and what they point to. Source: Adobe, TIFF 6.0, sections 2, 8, 15; TIFF/EP (sub-directories)."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from sastrugi.kinds.base import Measure, Proof, Source, broken
from sastrugi.units import plural

LITTLE, BIG = b"II*\0", b"MM\0*"
_TYPE_SIZES = {1: 1, 2: 1, 3: 2, 4: 4, 5: 8, 6: 1, 7: 1, 8: 2, 9: 4, 10: 8, 11: 4, 12: 8, 13: 4}
_STRIP_OFFSETS, _STRIP_COUNTS, _TILE_OFFSETS, _TILE_COUNTS = 273, 279, 324, 325
_JPEG_OFFSET, _JPEG_LENGTH = 513, 514
_DIRECTORIES = (330, 34665, 34853, 40965)
_DNG_VERSION = 50706
_MAX_DIRECTORIES, _MAX_ENTRIES, _MAX_VALUES = 4096, 4096, 1 << 22


def measure_tiff(source: Source) -> Measure | None:
    """The furthest byte that any directory, value, strip or tile reaches."""
    mark = source.read(0, 8)
    if mark[:4] not in (LITTLE, BIG) or len(mark) < 8:
        return None
    order = "<" if mark[:4] == LITTLE else ">"
    reader = _Reader(source, order)
    queue, seen = [int(np.frombuffer(mark, order + "u4")[1])], set[int]()
    while queue and len(seen) < _MAX_DIRECTORIES:
        at = queue.pop()
        if not at or at in seen:
            continue
        seen.add(at)
        following = reader.directory(at)
        if following is None:
            return (
                None
                if len(seen) == 1
                else broken("tiff", min(at, source.size), "a directory is not where it should be")
            )
        queue += following
    kind = "dng" if reader.dng else "tiff"
    if not reader.pictures:
        return broken(kind, min(reader.end, source.size), "no picture data are named")
    if reader.end > source.size:
        return broken(kind, source.size, "its directories point beyond the end")
    return Measure(
        kind,
        reader.end,
        True,
        Proof.STRUCTURE,
        f"{plural(len(seen), 'directory', 'directories')}, all that is pointed to lies inside",
    )


class _Reader:
    """Follows directories and keeps the furthest end."""

    def __init__(self, source: Source, order: str) -> None:
        self._source, self._order = source, order
        self.end = 8
        self.pictures = 0
        self.dng = False

    def _reach(self, offset: int, length: int) -> None:
        self.end = max(self.end, offset + length)

    def directory(self, at: int) -> list[int] | None:
        """Read one directory; answers the offsets of others, or None if it is none."""
        head = self._source.read(at, 2)
        count = int.from_bytes(head, "little" if self._order == "<" else "big")
        if len(head) < 2 or not 1 <= count <= _MAX_ENTRIES:
            return None
        layout = np.dtype(
            [("tag", self._order + "u2"), ("type", self._order + "u2"), ("count", self._order + "u4"), ("value", "V4")]
        )
        data = self._source.read(at + 2, count * 12 + 4)
        if len(data) < count * 12 or not np.isin(np.frombuffer(data, layout, count)["type"], list(_TYPE_SIZES)).all():
            return None
        self._reach(at, 2 + count * 12 + 4)
        fields: dict[int, Sequence[int]] = {}
        for entry in np.frombuffer(data, layout, count):
            tag, kind, number = int(entry["tag"]), int(entry["type"]), int(entry["count"])
            size = _TYPE_SIZES[kind] * number
            value = entry["value"].tobytes()
            if size > 4:
                offset = int(np.frombuffer(value, self._order + "u4")[0])
                self._reach(offset, size)
            self.dng |= tag == _DNG_VERSION
            wanted = (_STRIP_OFFSETS, _STRIP_COUNTS, _TILE_OFFSETS, _TILE_COUNTS, _JPEG_OFFSET, _JPEG_LENGTH)
            if tag in (*wanted, *_DIRECTORIES) and kind in (3, 4, 13) and number <= _MAX_VALUES:
                raw = value if size <= 4 else self._source.read(offset, size)
                fields[tag] = np.frombuffer(
                    raw, self._order + f"u{_TYPE_SIZES[kind]}", min(number, len(raw) // _TYPE_SIZES[kind])
                ).tolist()
        for offsets, lengths in (
            (_STRIP_OFFSETS, _STRIP_COUNTS),
            (_TILE_OFFSETS, _TILE_COUNTS),
            (_JPEG_OFFSET, _JPEG_LENGTH),
        ):
            pairs = list(zip(fields.get(offsets, ()), fields.get(lengths, ()), strict=False))
            self.pictures += len(pairs)
            if pairs:
                self._reach(*max(pairs, key=sum))
        following = data[count * 12 : count * 12 + 4]
        chain = int.from_bytes(following, "little" if self._order == "<" else "big")
        return [chain, *(offset for tag in _DIRECTORIES for offset in fields.get(tag, ()))]
