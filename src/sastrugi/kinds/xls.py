"""Legacy compound documents (xls, doc, ppt, msi): sectors chained by a table. Source: [MS-CFB], section 2; [MS-XLS]."""

from __future__ import annotations

from pathlib import Path
from struct import pack

import numpy as np

from sastrugi.kinds._compound import MARK, compound_file
from sastrugi.kinds.base import Holds, Kind, Measure, Proof, Signature, Source, broken
from sastrugi.scenario.dice import Dice

_FREE, _LARGEST = 0xFFFFFFFF, 0xFFFFFFFA
_HEADER_TABLE, _HEADER_ENTRIES = 76, 109
_BYTES_PER_ROW = 57
_BIFF8, _GLOBALS, _SHEET = 0x0600, 0x0005, 0x0010
_BOF, _EOF, _CODEPAGE, _FONT, _XF, _BOUND_SHEET, _LABEL, _NUMBER = (
    0x0809, 0x000A, 0x0042, 0x0031, 0x00E0, 0x0085, 0x0204, 0x0203,
)  # fmt: skip
"""Records of a workbook ([MS-XLS], section 2.3)."""


def measure(source: Source, deep: bool = False) -> Measure | None:
    """As far as the last sector that the allocation table uses."""
    head = source.read(0, 512)
    if head[:8] != MARK or len(head) < 512 or head[28:30] != b"\xfe\xff":
        return None
    shift = int.from_bytes(head[30:32], "little")
    if shift not in (9, 12):
        return None
    size = 1 << shift
    count, more = int.from_bytes(head[44:48], "little"), int.from_bytes(head[68:72], "little")
    tables = np.frombuffer(head, "<u4", _HEADER_ENTRIES, _HEADER_TABLE)[: min(count, _HEADER_ENTRIES)].tolist()
    seen: set[int] = set()
    while more < _LARGEST and more not in seen and len(tables) < count:
        seen.add(more)
        block = np.frombuffer(source.read((more + 1) * size, size).ljust(size, b"\xff"), "<u4")
        tables += block[:-1].tolist()
        more = int(block[-1])
    last = -1
    for n, table in enumerate(tables[:count]):
        data = source.read((table + 1) * size, size)
        if table >= _LARGEST or len(data) < size:
            return broken("xls", min((n + 1) * size, source.size), "a part of its allocation table is not there")
        used = np.flatnonzero(np.frombuffer(data, "<u4") != _FREE)
        if len(used):
            last = max(last, n * (size // 4) + int(used[-1]))
    end = (last + 2) * size
    if last < 0 or end > source.size:
        return broken("xls", source.size, "its sectors reach beyond the end")
    return Measure("xls", end, True, Proof.STRUCTURE, "the allocation table is whole, all its sectors lie inside")


def make(dice: Dice, size: int) -> bytes:
    """A workbook of one sheet: stakes, their heights and temperatures."""
    cells: list[bytes] = []
    for row in range(min(max((size - 5000) // _BYTES_PER_ROW, 8), 65_000)):
        word = dice.word().encode("latin-1", "replace")
        cells.append(_record(_LABEL, pack("<HHHHB", row, 0, 0, len(word), 0) + word))
        for column, value in ((1, dice.number(200, 4000) / 10), (2, dice.number(-4200, 50) / 100)):
            cells.append(_record(_NUMBER, pack("<HHHd", row, column, 0, value)))
    sheet = _begin(_SHEET) + b"".join(cells) + _record(_EOF, b"")
    name = b"Stakes"
    font = _record(_FONT, pack("<HHHHHBBBBBB", 200, 0, 0x7FFF, 400, 0, 0, 0, 0, 0, 5, 0) + b"Arial")
    look = _record(_XF, pack("<HHHBBBBIIH", 0, 0, 0xFFF5, 0x20, 0, 0, 0, 0, 0, 0x20C0)) + _record(
        _XF, pack("<HHHBBBBIIH", 0, 0, 1, 0x20, 0, 0, 0, 0, 0, 0x20C0)
    )
    start = _begin(_GLOBALS) + _record(_CODEPAGE, pack("<H", 1200)) + 5 * font + look
    place = len(start) + 4 + 8 + len(name) + 4
    start += _record(_BOUND_SHEET, pack("<IHBB", place, 0, len(name), 0) + name) + _record(_EOF, b"")
    return compound_file("Workbook", start + sheet)


def _begin(what: int) -> bytes:
    return _record(_BOF, pack("<HHHHII", _BIFF8, what, 0x0DBB, 1996, 0, 6))


def _record(kind: int, data: bytes) -> bytes:
    return pack("<HH", kind, len(data)) + data


def check(path: Path) -> None:
    import olefile

    with olefile.OleFileIO(path, raise_defects=olefile.DEFECT_INCORRECT) as file:
        for stream in file.listdir():
            file.openstream(stream).read()


KIND = Kind(
    "xls", "legacy compound document", "document", ("xls", "doc", "ppt", "msi"), "application/vnd.ms-excel",
    "last sector that its table uses", Proof.STRUCTURE, measure, (Signature(MARK),),
    holds=Holds.ALL, make=make, check=check,
)  # fmt: skip
