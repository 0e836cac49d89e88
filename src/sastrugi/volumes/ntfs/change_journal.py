"""The change journal of a volume ($Extend\\$UsnJrnl): a record for each change, with name, parent, time and reason.

After Microsoft's documentation of USN_RECORD_V2 and of the journal's streams: $J holds the records at the places that
their numbers say (its older part is a hole), $Max how large it may become.
"""

from __future__ import annotations

import datetime as dt
import struct
from collections.abc import Callable, Iterator

import numpy as np
from numpy.typing import NDArray

from sastrugi.media.base import Medium
from sastrugi.media.filemap import FileMap
from sastrugi.volumes.allocation import Run
from sastrugi.volumes.ntfs.file_record import Stream
from sastrugi.volumes.ntfs.layout import FILE_FOLDER, REFERENCE, to_ticks
from sastrugi.volumes.ntfs.units import joined_with_holes

RECORDS, LIMITS = "$J", "$Max"
"""Its streams."""
OVERWRITTEN, EXTENDED, CUT, STREAM_EXTENDED, CREATED, DELETED = 0x1, 0x2, 0x4, 0x20, 0x100, 0x200
OLD_NAME, NEW_NAME, LINKED, STREAM_CHANGED, CLOSED = 0x1000, 0x2000, 0x10000, 0x200000, 0x80000000

_RECORD = np.dtype(
    [
        ("length", "<u4"), ("major", "<u2"), ("minor", "<u2"), ("reference", "<u8"), ("parent", "<u8"),
        ("usn", "<i8"), ("when", "<i8"), ("reason", "<u4"), ("source", "<u4"), ("security", "<u4"),
        ("attributes", "<u4"), ("name_length", "<u2"), ("name_at", "<u2"),
    ]
)  # fmt: skip
_HEAD = struct.Struct("<IHHQQqqIIIIHH")
_PAGE = 4096
"""No record goes over the end of one."""
_LARGEST, _LEAST = 32 << 20, 64 << 10
_FOLDER = 0x10
_AT_ONCE = 4 << 20
_MOST_READ = 1 << 30
assert _RECORD.itemsize == _HEAD.size


def journal_clusters(size: int, cluster: int) -> tuple[int, int]:
    """How many clusters the journal of a volume of `size` bytes has, and how many of them it forgets at once."""
    most = max(min(size // 256, _LARGEST), _LEAST)
    step = max(most // 8 // cluster, 1)
    return max(most // cluster, 1) + step, step


class ChangeJournal:
    """Writes the records of a volume. Its clusters, `runs`, stay the same: those that are forgotten come in again at
    the end. `put` writes bytes at a place of them."""

    def __init__(
        self, runs: list[Run], step: int, cluster: int, when: dt.datetime, put: Callable[[Stream, int, bytes], None]
    ) -> None:
        self.records = Stream(runs=list(runs), sparse=True)
        self._step, self._cluster, self._put = step, cluster, put
        self._count = sum(count for _, count in runs)
        self.identity, self.first = to_ticks(when), 0
        self.changed = True

    @property
    def limits(self) -> bytes:
        """The content of $Max: sizes, which journal it is, and the first number that still stands."""
        step = self._step * self._cluster
        return struct.pack("<4Q", self._count * self._cluster - step, step, self.identity, self.first)

    def tell(
        self, reference: int, parent: int, name: str, reason: int, flags: int, security: int, when: dt.datetime
    ) -> int:
        """A record at the end; answers its number."""
        text = name.encode("utf-16-le", "surrogatepass")
        length = -(-(_RECORD.itemsize + len(text)) // 8) * 8
        at = self.records.size
        if at % _PAGE + length > _PAGE:
            at = -(-at // _PAGE) * _PAGE
        if at + length > self.first + self._count * self._cluster:
            self._forget()
        attributes = (flags & ~FILE_FOLDER) | (_FOLDER if flags & FILE_FOLDER else 0)
        head = _HEAD.pack(
            length, 2, 0, reference, parent, at, to_ticks(when), reason, 0, security, attributes, len(text), _HEAD.size
        )
        self._put(self.records, at - self.first, (head + text).ljust(length, b"\0"))
        self.records.size = self.records.valid = at + length
        self.changed = True
        return at

    def _forget(self) -> None:
        """The oldest clusters become a hole, and come in again at the end."""
        gone: list[Run] = []
        kept: list[Run] = []
        left = self._step
        for start, count in self.records.stored:
            part = min(left, count)
            left -= part
            gone += [(start, part)] if part else []
            kept += [(start + part, count - part)] if count > part else []
        self.first += self._step * self._cluster
        self.records.runs = joined_with_holes([(-1, self.first // self._cluster), *kept, *gone])
        blank = bytes(self._step * self._cluster)
        self._put(self.records, self._count * self._cluster - len(blank), blank)


def told_names(medium: Medium, journal: FileMap) -> dict[int, tuple[str, int]]:
    """Name and parent of each file that a journal's stream $J tells of, by the reference to it, as they were last."""
    found: dict[int, tuple[str, int]] = {}
    for at, data in _stored(medium, journal):
        for place in _records_in(data, at).tolist():
            head = np.frombuffer(data, _RECORD, 1, place)[0]
            name_at, length = place + int(head["name_at"]), int(head["name_length"])
            if head["reason"] & OLD_NAME and not head["reason"] & NEW_NAME:
                continue
            text = data[name_at : name_at + length].decode("utf-16-le", "replace")
            if text and "/" not in text and "\0" not in text:
                found[int(head["reference"])] = text, int(head["parent"])
    return found


def _stored(medium: Medium, journal: FileMap) -> Iterator[tuple[int, bytes]]:
    """What of a stream is no hole, in whole pages, with where in it that stands."""
    left = _MOST_READ
    for position, extent in journal.pieces():
        for part in medium.data_ranges(extent.offset, extent.end):
            first = position + part.offset - extent.offset
            for at in range(first // _PAGE * _PAGE, first + part.length, _AT_ONCE):
                left -= _AT_ONCE
                if left < 0:
                    return
                yield at, journal.read(medium, at, min(_AT_ONCE, -(-(first + part.length - at) // _PAGE) * _PAGE))


def _records_in(data: bytes, at: int) -> NDArray[np.int64]:
    """Where records begin in bytes that stand at `at` of the stream: each tells its own place."""
    words = np.frombuffer(data, "<i8", len(data) // 8)
    count = len(words) - 7
    if count <= 0:
        return np.zeros(0, np.int64)
    places = 8 * np.flatnonzero(words[3 : 3 + count] == at + 8 * np.arange(count))
    rows = np.frombuffer(data, "u1")[places[:, None] + np.arange(_RECORD.itemsize)]
    heads = rows.view(_RECORD)[:, 0]
    length, name_at = heads["length"].astype(np.int64), heads["name_at"].astype(np.int64)
    good = (heads["major"] == 2) & (name_at >= _RECORD.itemsize) & (length <= _PAGE) & (places + length <= len(data))
    good &= (name_at + heads["name_length"] <= length) & ((heads["reference"] & np.uint64(REFERENCE)) > 0)
    return np.asarray(places[good], np.int64)
