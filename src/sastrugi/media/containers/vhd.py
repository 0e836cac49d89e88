"""VHD images, fixed and dynamic.

Source: Microsoft, "Virtual Hard Disk Image Format Specification", version 1.0 (2006). Numbers are big-endian; a dynamic
disk keeps blocks of 2 MiB behind a table, each with a bitmap of its sectors in front.
"""

from __future__ import annotations

import os
from collections.abc import Iterator
from functools import lru_cache
from pathlib import Path
from uuid import NAMESPACE_URL, uuid5

import numpy as np
from numpy.typing import NDArray

from sastrugi.errors import MediumError
from sastrugi.media.containers.base import ContainerWriter, MappedMedium, Piece
from sastrugi.units import format_size

COOKIE, SPARSE_COOKIE = b"conectix", b"cxsparse"
FIXED, DYNAMIC, DIFFERENCING = 2, 3, 4
_VERSION = 0x00010000
_NO_OFFSET = (1 << 64) - 1
_UNUSED = 0xFFFFFFFF
_FOOTER = np.dtype(
    [
        ("cookie", "V8"), ("features", ">u4"), ("version", ">u4"), ("data_offset", ">u8"), ("time", ">u4"),
        ("creator", "V4"), ("creator_version", ">u4"), ("creator_host", "V4"), ("original_size", ">u8"),
        ("current_size", ">u8"), ("cylinders", ">u2"), ("heads", "u1"), ("sectors", "u1"), ("type", ">u4"),
        ("checksum", ">u4"), ("uuid", "V16"), ("saved", "u1"), ("reserved", "V427"),
    ]
)  # fmt: skip
_HEADER = np.dtype(
    [
        ("cookie", "V8"), ("data_offset", ">u8"), ("table_offset", ">u8"), ("version", ">u4"), ("entries", ">u4"),
        ("block_size", ">u4"), ("checksum", ">u4"), ("rest", "V984"),
    ]
)  # fmt: skip
_SECTOR = 512
_BLOCK = 2 << 20
_BITMAP = _BLOCK // _SECTOR // 8
_LARGEST = 2040 << 30
_MAX_GEOMETRY = 65535, 16, 255
"""Readers take the size itself, and not cylinders x heads x sectors, where the geometry is the largest there is."""


def _checksum(record: bytes, at: int) -> int:
    """One's complement of the sum of all bytes, but for the four of the checksum itself."""
    values = np.frombuffer(record, "u1")
    return ~(int(values.sum()) - int(values[at : at + 4].sum())) & 0xFFFFFFFF


def is_vhd(path: Path) -> bool:
    """Whether a file ends in a footer, or begins with the copy of one that a dynamic disk has."""
    try:
        with path.open("rb") as file:
            if file.read(8) == COOKIE:
                return True
            size = file.seek(0, os.SEEK_END)
            file.seek(max(size - _SECTOR, 0))
            return file.read(8) == COOKIE
    except OSError:
        return False


class VhdMedium(MappedMedium):
    """A VHD image, opened for reading."""

    def _open(self) -> None:
        footer = self._footer()
        self.size = int(footer["current_size"])
        kind = int(footer["type"])
        if kind == DIFFERENCING:
            raise MediumError(f"{self.path}: is a differencing VHD: it needs its parent, which cannot be read here")
        if kind not in (FIXED, DYNAMIC):
            raise MediumError(f"{self.path}: is a VHD of type {kind}, which is not known")
        self._table: NDArray[np.uint32] | None = None
        if kind == FIXED:
            if self._file.size - _SECTOR < self.size:
                raise MediumError(
                    f"{self.path}: cut short: {self.size - self._file.size + _SECTOR:,} bytes are missing"
                )
            return
        self._read_table(int(footer["data_offset"]))

    def _footer(self) -> np.void:
        """The footer at the end or, where that is damaged, its copy at the start."""
        told = ""
        for at in (self._file.size - _SECTOR, 0):
            block = self._file.read(max(at, 0), _SECTOR)
            if len(block) < _SECTOR or block[:8] != COOKIE:
                continue
            footer: np.void = np.frombuffer(block, _FOOTER, 1)[0]
            if _checksum(block, 64) == footer["checksum"]:
                return footer
            told = told or f"{self.path}: the checksum of its VHD footer (at byte {at:,}) is wrong"
        raise MediumError(told or f"{self.path}: cut short: it has no whole VHD footer")

    def _read_table(self, at: int) -> None:
        block = self._file.read(at, _HEADER.itemsize)
        if len(block) < _HEADER.itemsize or block[:8] != SPARSE_COOKIE:
            raise MediumError(f"{self.path}: the header of a dynamic VHD is not at byte {at:,}, where its footer says")
        header = np.frombuffer(block, _HEADER, 1)[0]
        if _checksum(block, 36) != header["checksum"]:
            raise MediumError(f"{self.path}: the checksum of its VHD header (at byte {at:,}) is wrong")
        self._block_size = int(header["block_size"])
        entries, table_at = int(header["entries"]), int(header["table_offset"])
        if self._block_size < _SECTOR or self._block_size & (self._block_size - 1) or self._block_size > 1 << 28:
            raise MediumError(f"{self.path}: blocks of {self._block_size:,} bytes cannot be")
        if not -(-self.size // self._block_size) <= entries <= 1 << 24:
            raise MediumError(f"{self.path}: its table of {entries:,} blocks does not fit {format_size(self.size)}")
        data = self._file.read(table_at, 4 * entries)
        if len(data) < 4 * entries:
            raise MediumError(f"{self.path}: cut short: its table of blocks (at byte {table_at:,}) is not whole")
        table = np.frombuffer(data, ">u4").astype(np.uint32)
        self._bitmap_size = -(-(self._block_size // _SECTOR // 8) // _SECTOR) * _SECTOR
        used = np.sort(table[table != _UNUSED].astype(np.int64) * _SECTOR)
        whole = self._bitmap_size + self._block_size
        if len(used) and (used[0] < table_at + 4 * entries and used[0] + whole > table_at):
            raise MediumError(f"{self.path}: its table of blocks points at the table itself (byte {used[0]:,})")
        if len(used) and used[-1] + self._bitmap_size > self._file.size:
            raise MediumError(f"{self.path}: cut short: a block at byte {used[-1]:,} lies beyond the end of the file")
        if np.any(np.diff(used) < whole):
            first = int(used[np.flatnonzero(np.diff(used) < whole)[0]])
            raise MediumError(f"{self.path}: two blocks of its table lie over each other (at byte {first:,})")
        self._table = table
        self._bitmap = lru_cache(maxsize=64)(self._load_bitmap)

    def _load_bitmap(self, place: int) -> NDArray[np.bool_] | None:
        """Which sectors of a block are there; None if all are."""
        data = self._file.read(place, self._block_size // _SECTOR // 8)
        bits = np.unpackbits(np.frombuffer(data, "u1")).astype(bool)
        return None if bits.all() else bits

    def _pieces(self, offset: int, length: int) -> Iterator[Piece]:
        if self._table is None:
            yield length, offset
            return
        end = offset + length
        while offset < end:
            number, inside = divmod(offset, self._block_size)
            count = min(self._block_size - inside, end - offset)
            entry = int(self._table[number])
            if entry == _UNUSED:
                behind = self._table[number : -(-end // self._block_size)] != _UNUSED
                run = int(behind.argmax()) if behind.any() else len(behind)
                count = min((number + run) * self._block_size, end) - offset
                yield count, None
            else:
                yield from self._block_pieces(entry * _SECTOR, inside, count)
            offset += count

    def _block_pieces(self, place: int, inside: int, count: int) -> Iterator[Piece]:
        bits = self._bitmap(place)
        data = place + self._bitmap_size
        if bits is None:
            yield count, data + inside
            return
        at, end = inside, inside + count
        while at < end:
            here = bits[at // _SECTOR : -(-end // _SECTOR)]
            change = np.flatnonzero(here != here[0])
            upto = min((at // _SECTOR + int(change[0])) * _SECTOR if len(change) else end, end)
            yield upto - at, data + at if here[0] else None
            at = upto


class VhdWriter(ContainerWriter):
    """Writes a VHD: fixed (the raw bytes and a footer), or dynamic (blocks of 2 MiB as they come)."""

    def __init__(self, path: Path, size: int, resume: bool, dynamic: bool = True) -> None:
        if size % _SECTOR or size > _LARGEST:
            raise MediumError(f"a VHD holds whole sectors, {format_size(_LARGEST)} at most, not {format_size(size)}")
        super().__init__(path, size, resume)
        self._dynamic = dynamic
        if not dynamic:
            os.ftruncate(self._fd, size + _SECTOR)
            return
        self._entries = -(-size // _BLOCK)
        self._table_at = _SECTOR + _HEADER.itemsize
        table_end = self._table_at + -(-4 * self._entries // _SECTOR) * _SECTOR
        if resume:
            data = os.pread(self._fd, 4 * self._entries, self._table_at)
            self._table = np.frombuffer(data, ">u4").astype(np.uint32)
            used = self._table[self._table != _UNUSED].astype(np.int64)
            self._end = max([table_end, *(used * _SECTOR + _BITMAP + _BLOCK).tolist()])
            os.ftruncate(self._fd, self._end)
        else:
            self._table = np.full(self._entries, _UNUSED, np.uint32)
            self._end = table_end
            self._put(0, self._footer())
            self._put(_SECTOR, self._header())
            self._put_table()

    def _footer(self) -> bytes:
        footer = np.zeros((), _FOOTER)
        footer["cookie"], footer["features"], footer["version"] = np.void(COOKIE), 2, _VERSION
        footer["data_offset"] = _SECTOR if self._dynamic else _NO_OFFSET
        footer["creator"], footer["creator_version"] = np.void(b"sast"), _VERSION
        footer["original_size"] = footer["current_size"] = self.size
        footer["cylinders"], footer["heads"], footer["sectors"] = _MAX_GEOMETRY
        footer["type"] = DYNAMIC if self._dynamic else FIXED
        footer["uuid"] = np.void(uuid5(NAMESPACE_URL, f"sastrugi:{self.size}").bytes)
        footer["checksum"] = _checksum(footer.tobytes(), 64)
        return footer.tobytes()

    def _header(self) -> bytes:
        header = np.zeros((), _HEADER)
        header["cookie"], header["data_offset"] = np.void(SPARSE_COOKIE), _NO_OFFSET
        header["table_offset"], header["version"], header["entries"] = self._table_at, _VERSION, self._entries
        header["block_size"] = _BLOCK
        header["checksum"] = _checksum(header.tobytes(), 36)
        return header.tobytes()

    def _put_table(self) -> None:
        data = self._table.astype(">u4").tobytes()
        self._put(self._table_at, data.ljust(-(-len(data) // _SECTOR) * _SECTOR, b"\xff"))

    def write(self, offset: int, data: bytes) -> None:
        if not self._dynamic:
            self._put(offset, data)
            return
        view = memoryview(data)
        while view:
            number, inside = divmod(offset, _BLOCK)
            part = view[: _BLOCK - inside]
            if self._table[number] == _UNUSED:
                self._table[number] = self._end // _SECTOR
                self._put(self._end, b"\xff" * _BITMAP)
                self._end += _BITMAP + _BLOCK
                os.ftruncate(self._fd, self._end)
            self._put(int(self._table[number]) * _SECTOR + _BITMAP + inside, part)
            offset, view = offset + len(part), view[len(part) :]

    def checkpoint(self) -> None:
        if self._dynamic:
            self._put_table()

    def finish(self) -> None:
        self.checkpoint()
        self._put(self._end if self._dynamic else self.size, self._footer())
        self.close()
