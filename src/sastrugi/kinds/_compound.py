"""A compound file of one stream, version 3. Source: [MS-CFB], sections 2.2 to 2.6."""

from __future__ import annotations

from struct import pack

import numpy as np

MARK = b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1"
_SECTOR, _SMALLEST_STREAM = 512, 4096
_FREE, _END, _TABLE = 0xFFFFFFFF, 0xFFFFFFFE, 0xFFFFFFFD
_IN_HEADER, _PER_TABLE = 109, _SECTOR // 4


def compound_file(name: str, stream: bytes) -> bytes:
    """The stream first, then the directory, then the allocation table. A short stream is filled up with zeros, so that
    it needs no table of small sectors. Holds at most 109 sectors of table (about 7 MB)."""
    stream = stream.ljust(_SMALLEST_STREAM, b"\0")
    size = len(stream)
    stream = stream.ljust(-(-size // _SECTOR) * _SECTOR, b"\0")
    data, folder = len(stream) // _SECTOR, 1
    tables = 1
    while data + folder + tables > tables * _PER_TABLE:
        tables += 1
    if tables > _IN_HEADER:
        raise ValueError(f"{size:,} bytes are too many for one compound file of this sort")
    table = np.full(tables * _PER_TABLE, _FREE, "<u4")
    table[: data - 1] = np.arange(1, data)
    table[data - 1] = table[data] = _END
    table[data + 1 : data + 1 + tables] = _TABLE
    directory = _entry("Root Entry", 5, _END, 0, child=1) + _entry(name, 2, 0, size) + 2 * _entry("", 0, 0, 0)
    places = [data + 1 + n for n in range(tables)] + [_FREE] * (_IN_HEADER - tables)
    header = MARK + bytes(16) + pack("<HHHHH6x", 0x3E, 3, 0xFFFE, 9, 6)
    header += pack("<IIIIIIIII", 0, tables, data, 0, _SMALLEST_STREAM, _END, 0, _END, 0)
    return header + pack(f"<{_IN_HEADER}I", *places) + stream + directory + table.tobytes()


def _entry(name: str, sort: int, start: int, size: int, child: int = _FREE) -> bytes:
    text = (name + "\0").encode("utf-16-le") if name else b""
    links = pack("<III", _FREE, _FREE, child) if name else pack("<III", _FREE, _FREE, _FREE)
    return text.ljust(64, b"\0") + pack("<HBB", len(text), sort, 1) + links + bytes(36) + pack("<IQ", start, size)
