"""Reading $LogFile: file records as they were when they were made, wherever in the log that still stands."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from sastrugi.media.base import Medium
from sastrugi.media.extents import Extent, within
from sastrugi.media.filemap import FileMap
from sastrugi.volumes.ntfs.layout import PAGE_MAGIC, RECORD, mended_block
from sastrugi.volumes.ntfs.log_layout import (
    DATA_AT,
    FIRST_PAGE,
    INITIALIZE_RECORD,
    LOG_RECORD,
    OPERATION,
    PAGE,
    USA_PAGE,
    place_bits,
    stored_in_page,
)

_LARGEST_LOG = 1 << 30
_MOST_PAGES = 4
"""A record of the log is no longer than that."""
_FILE = int.from_bytes(b"FILE", "little")


@dataclass(frozen=True, slots=True)
class LoggedRecord:
    """A file record as the log tells it: its bytes, and where on the medium they stand."""

    lsn: int
    data: bytes
    where: tuple[Extent, ...]


def logged_records(medium: Medium, log: FileMap) -> Iterator[LoggedRecord]:
    """Every file record that was made or changed as a whole, the newest first."""
    if not FIRST_PAGE < log.size <= _LARGEST_LOG or not log.plain:
        return
    pages: dict[int, bytes] = {}
    for at in range(FIRST_PAGE, log.size // PAGE * PAGE, PAGE):
        data = log.read(medium, at, PAGE)
        if data[:4] == PAGE_MAGIC and int.from_bytes(data[4:6], "little") == USA_PAGE:
            page = mended_block(data)
            if page is not None:
                pages[at] = page
    found = [record for at, page in pages.items() for record in _records_in(pages, at, page, log)]
    yield from sorted(found, key=lambda record: -record.lsn)


def _records_in(pages: dict[int, bytes], at: int, page: bytes, log: FileMap) -> Iterator[LoggedRecord]:
    """Those that begin in a page: where a number stands that tells this very place."""
    words = np.frombuffer(page, "<u8")
    mask = (1 << place_bits(log.size // PAGE * PAGE)) - 1
    own = (words & np.uint64(mask)) == (at // 8 + np.arange(len(words), dtype=np.uint64))
    own[: DATA_AT // 8] = False
    for n in np.flatnonzero(own & (words > mask)).tolist():
        record = _record_at(pages, at, n * 8, log)
        if record is not None:
            yield record


def _record_at(pages: dict[int, bytes], page_at: int, start: int, log: FileMap) -> LoggedRecord | None:
    head = np.frombuffer(pages[page_at].ljust(start + LOG_RECORD.itemsize, b"\0"), LOG_RECORD, 1, start)[0]
    length = int(head["length"])
    if not OPERATION.itemsize <= length <= _MOST_PAGES * PAGE:
        return None
    body, places = _content(pages, page_at, start + LOG_RECORD.itemsize, length, log)
    if len(body) < length:
        return None
    operation = np.frombuffer(body, OPERATION, 1)[0]
    at, size = int(operation["redo_at"]), int(operation["redo_length"])
    data = body[at : at + size]
    if operation["redo"] != INITIALIZE_RECORD or len(data) < max(size, RECORD.itemsize):
        return None
    if int.from_bytes(data[:4], "little") != _FILE:
        return None
    return LoggedRecord(int(head["lsn"]), data, within(places, at, size))


def _content(
    pages: dict[int, bytes], page_at: int, start: int, length: int, log: FileMap
) -> tuple[bytes, tuple[Extent, ...]]:
    """Bytes of the log from a place on, over as many pages as there are, and where on the medium they stand."""
    out: list[bytes] = []
    places: list[Extent] = []
    for _ in range(_MOST_PAGES + 1):
        page = pages.get(page_at)
        if page is None or not length:
            break
        part = page[start : start + length]
        out.append(part)
        for place, count in stored_in_page(page_at, start, len(part)):
            places += within(log.stored, place, count)
        length -= len(part)
        page_at += PAGE
        page_at = page_at if page_at + PAGE <= log.size else FIRST_PAGE
        start = DATA_AT
    return b"".join(out), tuple(places)
