"""Names in the blocks of indexes, wherever in them: an entry that was taken out stands until others move over it."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np
from numpy.typing import NDArray

from sastrugi.media.base import Medium
from sastrugi.media.extents import Extent
from sastrugi.volumes.ntfs.layout import DOS, FILE_NAME, INDEX_MAGIC, REFERENCE, STRIDE, mended_block
from sastrugi.volumes.ntfs.records import text_of

_HEAD = 16
_MOST_ENTRY = 1024
_ENTRY = np.dtype([("reference", "<u8"), ("size", "<u2"), ("key", "<u2"), ("last", "<u4"), ("name", FILE_NAME)])


def names_in_blocks(medium: Medium, extents: Iterable[Extent], block: int) -> dict[int, tuple[str, int]]:
    """Name and parent of every file that an entry tells of, by the reference to the file; `block` are the bytes of a
    block of an index."""
    found: dict[int, tuple[str, int]] = {}
    for extent in extents:
        for part in medium.data_ranges(extent.offset, extent.end):
            first = extent.offset + (part.offset - extent.offset) // block * block
            for at in range(first, part.end, block):
                data = medium.read(at, block)
                whole = mended_block(data) if data[:4] == INDEX_MAGIC and not len(data) % STRIDE else None
                if whole is not None:
                    _collect(whole, found)
    return found


def _collect(data: bytes, found: dict[int, tuple[str, int]]) -> None:
    for place in _entries_in(data).tolist():
        entry = np.frombuffer(data, _ENTRY, 1, place)[0]
        name, start = entry["name"], place + _ENTRY.itemsize
        text = text_of(data[start : start + 2 * int(name["length"])])
        if name["space"] != DOS and text:
            found.setdefault(int(entry["reference"]), (text, int(name["parent"])))


def _entries_in(data: bytes) -> NDArray[np.int64]:
    """Where entries can begin, by lengths that fit each other."""
    count = (len(data) - _ENTRY.itemsize) // 8
    if count <= 0:
        return np.zeros(0, np.int64)
    bytes_, places = np.frombuffer(data, "u1"), 8 * np.arange(3, count)
    words = bytes_[: len(data) // 2 * 2].view("<u2")
    length, key = words[places // 2 + 4].astype(np.int64), words[places // 2 + 5].astype(np.int64)
    name = bytes_[places + _HEAD + FILE_NAME.fields["length"][1]].astype(np.int64)  # type: ignore[index]
    good = (name > 0) & (key == FILE_NAME.itemsize + 2 * name) & (length >= _HEAD + key) & (length % 8 == 0)
    good &= (length <= _MOST_ENTRY) & (places + _HEAD + key <= len(data))
    numbers = bytes_[: len(data) // 8 * 8].view("<u8")
    for at in (0, _HEAD // 8):  # the file and its folder are both some record
        good &= (numbers[places // 8 + at] & np.uint64(REFERENCE)) > 0
    return np.asarray(places[good], np.int64)
