"""Writing $LogFile as of a volume that was shut down well: its restart pages say so, and behind them stand the records
of the last changes."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from sastrugi.volumes.ntfs.layout import PAGE_MAGIC, RESTART_MAGIC, STRIDE, with_fixups
from sastrugi.volumes.ntfs.log_layout import (
    CLEAN,
    CLIENT,
    DATA_AT,
    FIRST_PAGE,
    INITIALIZE_RECORD,
    LOG_PAGE,
    LOG_RECORD,
    MULTI_PAGE,
    NO_CLIENT,
    OPERATION,
    PAGE,
    RECORD_ENDS,
    RESTART_AREA,
    RESTART_PAGE,
    USA_PAGE,
    USA_RESTART,
    place_bits,
    stored_in_page,
)

_AREA_AT, _CLIENTS_AT = 0x30, 0x40
_USUAL_CLIENT = b"N\0T\0F\0S\0"


@dataclass(frozen=True, slots=True)
class Logged:
    """A record of the log: where in the file its content stands, and where its head does: (place, length) in order."""

    content: tuple[tuple[int, int], ...]
    head: tuple[tuple[int, int], ...]


class LogWriter:
    """`put` writes bytes at a place of the file."""

    def __init__(self, size: int, put: Callable[[int, bytes], None]) -> None:
        self._size, self._put = size // PAGE * PAGE, put
        self._bits = place_bits(self._size)
        self._turn = 1
        self._page_at, self._at = FIRST_PAGE, DATA_AT
        self._page = bytearray(PAGE)
        self._writes = 0
        self._last = self._last_end = 0
        self._last_length = 0
        for at in range(0, self._size, 1 << 20):
            put(at, b"\xff" * min(1 << 20, self._size - at))
        self.close()

    def record_made(self, number: int, place: int, data: bytes, cluster: int) -> Logged:
        """That a file record now holds `data`; `place` is the byte of the table at which it stands."""
        operation = np.zeros((), OPERATION)
        operation["redo"] = INITIALIZE_RECORD
        operation["redo_at"], operation["redo_length"] = OPERATION.itemsize, len(data)
        operation["undo_at"] = OPERATION.itemsize
        operation["clusters"], operation["vcn"] = 1, place // cluster
        operation["block"], operation["cluster"] = place % cluster // STRIDE, place // cluster
        body = operation.tobytes() + data.ljust(-(-len(data) // 8) * 8, b"\0")
        return self._append(body, number, OPERATION.itemsize, len(data))

    def _append(self, body: bytes, transaction: int, inside: int, length: int) -> Logged:
        if PAGE - self._at < LOG_RECORD.itemsize:  # a head is never cut in two
            self._next_page()
        lsn = self._turn << self._bits | (self._page_at + self._at) >> 3
        head = np.zeros((), LOG_RECORD)
        head["lsn"], head["length"], head["type"], head["transaction"] = lsn, len(body), 1, transaction & 0xFFFF
        whole = LOG_RECORD.itemsize + len(body)
        head["flags"] = MULTI_PAGE if whole > PAGE - self._at else 0
        data = head.tobytes() + body
        placed: list[tuple[int, int]] = []
        heads = [*stored_in_page(self._page_at, self._at, LOG_RECORD.itemsize)]
        done = 0
        while data:
            room = PAGE - self._at
            part, data = data[:room], data[room:]
            self._page[self._at : self._at + len(part)] = part
            first = LOG_RECORD.itemsize + inside
            lo, hi = max(done, first), min(done + len(part), first + length)
            if lo < hi:
                placed += stored_in_page(self._page_at, self._at + lo - done, hi - lo)
            done += len(part)
            self._at += len(part)
            self._last = lsn
            if data:
                self._write_page(ends=False)
                self._next_page()
        self._last_end, self._last_length = lsn, len(body)
        self._write_page(ends=True)
        return Logged(tuple(placed), tuple(heads))

    def _next_page(self) -> None:
        self._page_at += PAGE
        if self._page_at + PAGE > self._size:
            self._page_at, self._turn = FIRST_PAGE, self._turn + 1
        self._page, self._at = bytearray(PAGE), DATA_AT

    def _write_page(self, ends: bool) -> None:
        head = np.zeros((), LOG_PAGE)
        head["magic"], head["usa"], head["usa_count"] = PAGE_MAGIC, USA_PAGE, PAGE // STRIDE + 1
        head["last"], head["flags"], head["count"], head["position"] = self._last, RECORD_ENDS if ends else 0, 1, 1
        head["next"] = self._at if self._at < PAGE else DATA_AT
        head["last_end"] = self._last_end
        self._page[: LOG_PAGE.itemsize] = head.tobytes()
        self._writes = self._writes % 0xFFFE + 1
        self._put(self._page_at, with_fixups(bytes(self._page), self._writes))

    def close(self) -> None:
        """Restart pages that say that all was written: no client has the log open."""
        page, area, client = np.zeros((), RESTART_PAGE), np.zeros((), RESTART_AREA), np.zeros((), CLIENT)
        page["magic"], page["usa"], page["usa_count"] = RESTART_MAGIC, USA_RESTART, PAGE // STRIDE + 1
        page["system_page"] = page["page"] = PAGE
        page["area"], page["minor"], page["major"] = _AREA_AT, 1, 1
        area["lsn"] = self._last_end or 1 << self._bits
        area["clients"], area["free"], area["in_use"], area["flags"] = 1, 0, NO_CLIENT, CLEAN
        area["sequence_bits"] = 64 - self._bits
        area["length"], area["clients_at"] = _CLIENTS_AT + CLIENT.itemsize, _CLIENTS_AT
        area["size"], area["last_length"] = self._size, self._last_length
        area["record_head"], area["data_at"] = LOG_RECORD.itemsize, DATA_AT
        client["oldest"] = client["restart"] = area["lsn"]
        client["previous"] = client["next"] = NO_CLIENT
        client["name_length"], client["name"] = len(_USUAL_CLIENT), _USUAL_CLIENT
        data = page.tobytes().ljust(_AREA_AT, b"\0") + area.tobytes().ljust(_CLIENTS_AT, b"\0") + client.tobytes()
        whole = with_fixups(data.ljust(PAGE, b"\0"), 1)
        for at in (0, PAGE):
            self._put(at, whole)
