"""Legacy compound documents (xls, doc, ppt, msi): sectors chained by a table. Source: [MS-CFB], section 2."""

from __future__ import annotations

import io
from pathlib import Path

import numpy as np

from sastrugi.kinds.base import Kind, Measure, Proof, Signature, Source, broken
from sastrugi.scenario.dice import Dice

_MARK = b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1"
_FREE, _LARGEST = 0xFFFFFFFF, 0xFFFFFFFA
_HEADER_TABLE, _HEADER_ENTRIES = 76, 109
_BYTES_PER_ROW = 44


def measure(source: Source, deep: bool = False) -> Measure | None:
    """As far as the last sector that the allocation table uses."""
    head = source.read(0, 512)
    if head[:8] != _MARK or len(head) < 512 or head[28:30] != b"\xfe\xff":
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
    import xlwt

    book = xlwt.Workbook()
    sheet = book.add_sheet("Stakes")
    for row in range(min(max((size - 5000) // _BYTES_PER_ROW, 8), 65_000)):
        sheet.write(row, 0, dice.word())
        sheet.write(row, 1, dice.number(200, 4000) / 10)
        sheet.write(row, 2, dice.number(-4200, 50) / 100)
    out = io.BytesIO()
    book.save(out)
    return out.getvalue()


def check(path: Path) -> None:
    import olefile

    with olefile.OleFileIO(path, raise_defects=olefile.DEFECT_INCORRECT) as file:
        for stream in file.listdir():
            file.openstream(stream).read()


KIND = Kind(
    "xls", "legacy compound document", "document", ("xls", "doc", "ppt", "msi"), "application/vnd.ms-excel",
    "last sector that its table uses", Proof.STRUCTURE, measure, (Signature(_MARK),), make=make, check=check,
)  # fmt: skip
