"""The pages and records of $LogFile (version 1.1).

Two restart pages say whether the volume is clean. Behind two pages of spare room follow pages of log records, used in
turns. A record's number (LSN) tells at which byte of the file it stands, by its low bits, and how often the file was
gone through before, by its high ones.
"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from sastrugi.volumes.ntfs.layout import STRIDE

PAGE = 4096
FIRST_PAGE = 4 * PAGE
"""Where log records begin: behind the restart pages and the spare ones."""
DATA_AT = 0x40
"""Where records begin in a page."""
USA_RESTART, USA_PAGE = 0x1E, 0x28
NO_CLIENT = 0xFFFF
CLEAN = 2
MULTI_PAGE, RECORD_ENDS = 1, 1
NOTHING, INITIALIZE_RECORD = 0x00, 0x02
"""Operations: no change; a file record made, whose whole content follows."""

RESTART_PAGE = np.dtype(
    [
        ("magic", "S4"), ("usa", "<u2"), ("usa_count", "<u2"), ("checked", "<u8"), ("system_page", "<u4"),
        ("page", "<u4"), ("area", "<u2"), ("minor", "<i2"), ("major", "<i2"),
    ]
)  # fmt: skip
RESTART_AREA = np.dtype(
    [
        ("lsn", "<u8"), ("clients", "<u2"), ("free", "<u2"), ("in_use", "<u2"), ("flags", "<u2"),
        ("sequence_bits", "<u4"), ("length", "<u2"), ("clients_at", "<u2"), ("size", "<u8"),
        ("last_length", "<u4"), ("record_head", "<u2"),
        ("data_at", "<u2"), ("opened", "<u4"), ("reserved", "<u4"),
    ]
)  # fmt: skip
CLIENT = np.dtype(
    [
        ("oldest", "<u8"), ("restart", "<u8"), ("previous", "<u2"), ("next", "<u2"), ("sequence", "<u2"),
        ("reserved", "u1", 6), ("name_length", "<u4"), ("name", "S128"),
    ]
)  # fmt: skip
LOG_PAGE = np.dtype(
    [
        ("magic", "S4"), ("usa", "<u2"), ("usa_count", "<u2"), ("last", "<u8"), ("flags", "<u4"), ("count", "<u2"),
        ("position", "<u2"), ("next", "<u2"), ("reserved", "u1", 6), ("last_end", "<u8"),
    ]
)  # fmt: skip
LOG_RECORD = np.dtype(
    [
        ("lsn", "<u8"), ("previous", "<u8"), ("undo_next", "<u8"), ("length", "<u4"), ("client", "<u4"),
        ("type", "<u4"), ("transaction", "<u4"), ("flags", "<u2"), ("reserved", "u1", 6),
    ]
)  # fmt: skip
OPERATION = np.dtype(
    [
        ("redo", "<u2"), ("undo", "<u2"), ("redo_at", "<u2"), ("redo_length", "<u2"), ("undo_at", "<u2"),
        ("undo_length", "<u2"), ("attribute", "<u2"), ("clusters", "<u2"), ("record_at", "<u2"),
        ("attribute_at", "<u2"), ("block", "<u2"), ("align", "<u2"), ("vcn", "<u4"), ("align2", "<u4"),
        ("cluster", "<u8"),
    ]
)  # fmt: skip


def stored_in_page(page_at: int, start: int, length: int) -> Iterator[tuple[int, int]]:
    """Where bytes of a page stand in the file, (place, length): those at the ends of its sectors among its fix-ups."""
    at, end = start, start + length
    while at < end:
        stride = at // STRIDE
        tail = (stride + 1) * STRIDE - 2
        stop = min(end, tail if at < tail else tail + 2)
        yield page_at + (at if at < tail else USA_PAGE + 2 + 2 * stride + at - tail), stop - at
        at = stop


def place_bits(size: int) -> int:
    """How many low bits of a record's number tell its place, in a file of so many bytes: it counts by eights."""
    return max(size.bit_length() - 1 - 3, 1) + (0 if size & (size - 1) == 0 else 1)
