"""Parquet tables: a footer with its length before the end mark says where the pages of each column begin.

Source: Apache Parquet format, "File format" and `parquet.thrift`; Apache Thrift, compact protocol.
"""

from __future__ import annotations

import io
from collections.abc import Iterator
from pathlib import Path

from sastrugi.kinds.base import Kind, Measure, Proof, Signature, Source, broken
from sastrugi.scenario.dice import Dice

_MARK = b"PAR1"
_VERSION_FIELD = 0x15
"""The first byte of a footer: field 1 (version), a 32-bit number, in Thrift's compact protocol."""
_PAGE_TYPES = (0, 2, 4, 6)
"""What stands behind the first byte of a page, which is the same: its type, as a signed number of one byte."""
_ROW_GROUPS, _COLUMNS, _ABOUT_COLUMN = 4, 1, 3
"""Fields: of the footer, of a group of rows, and of a column."""
_PACKED_SIZE, _DATA_AT, _DICTIONARY_AT, _FILTER_AT, _FILTER_SIZE = 7, 9, 11, 14, 15
"""Fields of the part that tells about a column."""
_INDEXES = ((4, 5), (6, 7))
"""Fields of a column that say where indexes of its pages stand, and of how many bytes."""
_BINARY, _LISTS, _MAP, _STRUCT = 8, (9, 10), 11, 12
_MOST_READ, _MOST_CHUNKS, _DEEPEST = 1 << 18, 256, 16
"""Bytes of a footer that are read, pages that are looked at, and structures inside of each other."""


def measure(source: Source, deep: bool = False) -> Measure | None:
    if source.read(0, 4) != _MARK:
        return None
    tail = b""
    for at, block in source.blocks(4):
        window, base = tail + block, at - len(tail)
        hit = window.find(_MARK)
        while hit >= 0:
            mark = base + hit
            footer = int.from_bytes(source.read(mark - 4, 4), "little")
            if 8 <= footer <= mark - 8 and source.read(mark - 4 - footer, 1) == bytes([_VERSION_FIELD]):
                return _by_footer(source, mark, source.read(mark - 4 - footer, min(footer, _MOST_READ)), footer)
            hit = window.find(_MARK, hit + 1)
        tail = window[-3:]
    return broken("parquet", source.size, "no footer ends it")


def _by_footer(source: Source, mark: int, footer: bytes, size: int) -> Measure:
    """The file that ends with the mark at a byte, if pages begin where its footer says that those of columns do, and
    the footer, of so many bytes, stands behind them."""
    columns: list[tuple[int, int]] = []
    whole = False
    try:
        for column in _Compact(footer).columns():
            columns.append(column)
            if len(columns) == _MOST_CHUNKS:
                break
        else:
            whole = True
    except (ValueError, IndexError):
        if size <= _MOST_READ:
            return broken("parquet", mark - 4 - size, "its footer cannot be read")
    for start, _ in sorted(columns):
        head = source.read(start, 3)
        if len(head) < 3 or head[::2] != bytes([_VERSION_FIELD] * 2) or head[1] not in _PAGE_TYPES:
            return broken("parquet", min(start, source.size), "no page begins where the footer says")
    end = max((end for _, end in columns), default=0)
    if whole and columns and end != mark - 4 - size:
        return broken("parquet", min(end, mark - 4 - size), "its footer does not stand behind its columns")
    rule = f"a footer before the end mark, and pages of {len(columns)} columns where it says"
    return Measure("parquet", mark + 4, True, Proof.STRUCTURE, rule)


class _Compact:
    """Reads a footer, field by field. What is no footer raises ValueError or IndexError."""

    def __init__(self, data: bytes) -> None:
        self._data, self._at = data, 0

    def columns(self) -> Iterator[tuple[int, int]]:
        """Where the first page of each column of each group of rows begins, and where all that is told of it ends."""
        for field, kind in self._fields(0):
            if field == _ROW_GROUPS and kind in _LISTS:
                for _ in self._items():
                    yield from self._of_group()
            else:
                self._skip(kind, 0)

    def _of_group(self) -> Iterator[tuple[int, int]]:
        for field, kind in self._fields(1):
            if field == _COLUMNS and kind in _LISTS:
                for _ in self._items():
                    column = self._column()
                    if column is not None:
                        yield column
            else:
                self._skip(kind, 1)

    def _column(self) -> tuple[int, int] | None:
        told: dict[int, int] = {}
        about = self._numbers(2, told)
        pages = [about[field] for field in (_DATA_AT, _DICTIONARY_AT) if about.get(field, 0) > 0]
        if not pages and not about.get(_PACKED_SIZE, 0):
            return None  # of a table without rows
        if not pages:
            raise ValueError("a column without pages")
        start = min(pages)
        parts = [(told.get(at, 0), told.get(size, 0)) for at, size in _INDEXES]
        parts.append((about.get(_FILTER_AT, 0), about.get(_FILTER_SIZE, 0)))
        return start, max(start + about.get(_PACKED_SIZE, 0), *(at + size for at, size in parts))

    def _numbers(self, depth: int, told: dict[int, int]) -> dict[int, int]:
        """The numbers of a structure by their fields, into `told`; those of what it tells about a column."""
        about: dict[int, int] = {}
        for field, kind in self._fields(depth):
            if kind in (4, 5, 6):
                number = self._number()
                told[field] = number >> 1 ^ -(number & 1)
            elif depth == 2 and field == _ABOUT_COLUMN and kind == _STRUCT:
                self._numbers(3, about)
            else:
                self._skip(kind, depth)
        return about

    def _byte(self) -> int:
        self._at += 1
        return self._data[self._at - 1]

    def _number(self) -> int:
        out = 0
        for shift in range(0, 70, 7):
            byte = self._byte()
            out |= (byte & 0x7F) << shift
            if byte < 0x80:
                return out
        raise ValueError("a number without an end")

    def _fields(self, depth: int) -> Iterator[tuple[int, int]]:
        """Number and kind of each field of a structure; whoever asks reads or skips what it holds."""
        if depth > _DEEPEST:
            raise ValueError("structures inside of each other without an end")
        field = 0
        while byte := self._byte():
            field = field + (byte >> 4) if byte >> 4 else self._number() >> 1
            yield field, byte & 15

    def _items(self) -> range:
        """One number for each item of a list of structures."""
        head = self._byte()
        count = head >> 4 if head >> 4 < 15 else self._number()
        if (count and head & 15 != _STRUCT) or count > len(self._data):
            raise ValueError("no list of structures")
        return range(count)

    def _skip(self, kind: int, depth: int) -> None:
        if kind in (1, 2):
            return
        if kind == 3:
            self._at += 1
        elif kind in (4, 5, 6):
            self._number()
        elif kind == 7:
            self._at += 8
        elif kind == _BINARY:
            length = self._number()
            self._at += length
        elif kind in _LISTS:
            head = self._byte()
            count = head >> 4 if head >> 4 < 15 else self._number()
            self._skip_many(head & 15, count, depth)
        elif kind == _MAP:
            count = self._number()
            kinds = self._byte() if count else 0
            for _ in range(min(count, len(self._data))):
                self._skip_many(kinds >> 4, 1, depth)
                self._skip_many(kinds & 15, 1, depth)
        elif kind == _STRUCT:
            for _, inner in self._fields(depth + 1):
                self._skip(inner, depth + 1)
        else:
            raise ValueError("a field of no known kind")

    def _skip_many(self, kind: int, count: int, depth: int) -> None:
        if count > len(self._data):
            raise ValueError("a list longer than the footer")
        for _ in range(count):
            if kind in (1, 2):  # of a list, each has its byte
                self._at += 1
            else:
                self._skip(kind, depth + 1)
        if depth > _DEEPEST or self._at > len(self._data):
            raise ValueError("a list without an end")


def make(dice: Dice, size: int) -> bytes:
    import pyarrow as pa
    import pyarrow.parquet as pq

    rows = max((size - 1500) // 40, 4)
    table = pa.table({
        "stake": [dice.number(1, 60) for _ in range(rows)],
        "celsius": [dice.number(-4200, 50) / 100 for _ in range(rows)],
        "note": [dice.word() + str(dice.number(0, 10**9)) for _ in range(rows)],
    })  # fmt: skip
    out = io.BytesIO()
    pq.write_table(table, out, compression="none", use_dictionary=False)
    return out.getvalue()


def check(path: Path) -> None:
    import pyarrow.parquet as pq

    pq.read_table(path, use_threads=False)


KIND = Kind(
    "parquet", "Parquet table", "data", ("parquet",), "application/vnd.apache.parquet", "footer before the end mark",
    Proof.STRUCTURE, measure, (Signature(_MARK),), make=make, check=check,
)  # fmt: skip
