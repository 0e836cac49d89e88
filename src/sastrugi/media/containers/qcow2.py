"""qcow2 images, versions 2 and 3, plain and with zlib-compressed clusters.

Source: the "QCOW2 image format" document (docs/interop/qcow2.txt of QEMU). Numbers are big-endian; the medium is kept
in clusters that tables of two levels lead to.
"""

from __future__ import annotations

import os
import zlib
from collections.abc import Iterator
from functools import lru_cache
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from sastrugi.errors import MediumError
from sastrugi.media.containers.base import ContainerWriter, MappedMedium, Piece

MAGIC = b"QFI\xfb"
_HEADER = np.dtype(
    [
        ("magic", "V4"), ("version", ">u4"), ("backing_offset", ">u8"), ("backing_size", ">u4"),
        ("cluster_bits", ">u4"), ("size", ">u8"), ("crypt", ">u4"), ("l1_size", ">u4"), ("l1_offset", ">u8"),
        ("refcount_offset", ">u8"),
        ("refcount_clusters", ">u4"), ("snapshots", ">u4"), ("snapshots_offset", ">u8"), ("incompatible", ">u8"),
        ("compatible", ">u8"), ("autoclear", ">u8"), ("refcount_order", ">u4"), ("header_length", ">u4"),
    ]
)  # fmt: skip
_V2_LENGTH = 72
_FEATURES = {1: "refcounts not closed", 2: "marked corrupt", 4: "external data file", 8: "compression other than zlib",
             16: "extended L2 entries"}  # fmt: skip
_HARMLESS = 1
_COPIED, _COMPRESSED, _ZERO = 1 << 63, 1 << 62, 1
_OFFSET = 0x00FFFFFFFFFFFE00
_MAX_L1 = 1 << 22
_WRITE_BITS = 16
_PLAIN_WINDOW = -12


def is_qcow2(path: Path) -> bool:
    try:
        with path.open("rb") as file:
            return file.read(4) == MAGIC
    except OSError:
        return False


class Qcow2Medium(MappedMedium):
    """A qcow2 image, opened for reading."""

    def _open(self) -> None:
        block = self._file.read(0, _HEADER.itemsize)
        if len(block) < _V2_LENGTH:
            raise MediumError(f"{self.path}: cut short: its qcow2 header is not whole")
        header = np.frombuffer(block.ljust(_HEADER.itemsize, b"\0"), _HEADER, 1)[0]
        version = int(header["version"])
        if version not in (2, 3):
            raise MediumError(f"{self.path}: is qcow2 version {version}; versions 2 and 3 can be read")
        if header["backing_offset"]:
            name = self._file.read(int(header["backing_offset"]), min(int(header["backing_size"]), 1023))
            told = name.decode("utf-8", "replace")
            raise MediumError(f"{self.path}: needs its backing file '{told}': make it one image first")
        if header["crypt"]:
            raise MediumError(f"{self.path}: is encrypted (method {int(header['crypt'])}): make a plain image first")
        bits = int(header["incompatible"]) & ~_HARMLESS if version == 3 else 0
        if bits:
            known = [name for bit, name in _FEATURES.items() if bits & bit]
            unknown = [f"bit {n}" for n in range(64) if bits >> n & 1 and 1 << n not in _FEATURES]
            raise MediumError(f"{self.path}: needs features that cannot be read here: {', '.join(known + unknown)}")
        self._bits = int(header["cluster_bits"])
        if not 9 <= self._bits <= 21:
            raise MediumError(f"{self.path}: clusters of 2^{self._bits} bytes cannot be")
        self.size = int(header["size"])
        self._cluster = 1 << self._bits
        self._per_table = self._cluster // 8
        needed = -(-self.size // (self._cluster * self._per_table))
        count, at = int(header["l1_size"]), int(header["l1_offset"])
        if not needed <= count <= _MAX_L1:
            raise MediumError(f"{self.path}: its table of {count:,} entries does not fit {self.size:,} bytes")
        data = self._file.read(at, 8 * count)
        if len(data) < 8 * count:
            raise MediumError(f"{self.path}: cut short: its first table (at byte {at:,}) is not whole")
        self._l1 = np.frombuffer(data, ">u8").astype(np.uint64) & np.uint64(_OFFSET)
        tables = self._l1[self._l1 != 0].astype(np.int64)
        self._check(tables, "its first table", np.array([0, *range(at, at + 8 * count, self._cluster)]))
        self._own = np.unique(np.concatenate((tables, [0, at // self._cluster * self._cluster])))
        if len(np.unique(tables)) != len(tables):
            raise MediumError(f"{self.path}: two entries of its first table point at the same place")
        self._l2 = lru_cache(maxsize=32)(self._load_table)

    def _check(self, places: NDArray[np.int64], what: str, taken: NDArray[np.int64]) -> None:
        """Raise MediumError where a table points outside the file, or at what is no place for data."""
        if len(places) and (places.max() >= self._file.size or np.any(places % self._cluster)):
            bad = int(places.max() if places.max() >= self._file.size else places[places % self._cluster != 0][0])
            raise MediumError(f"{self.path}: {what} points outside the file, or between clusters (byte {bad:,})")
        own = np.isin(places, taken // self._cluster * self._cluster)
        if own.any():
            raise MediumError(f"{self.path}: {what} points at another table (byte {int(places[own][0]):,})")

    def _load_table(self, index: int) -> NDArray[np.uint64] | None:
        """The entries of a second-level table, or None where there is none."""
        place = int(self._l1[index])
        if not place:
            return None
        data = self._file.read(place, self._cluster)
        if len(data) < self._cluster:
            raise MediumError(f"{self.path}: cut short: a table at byte {place:,} is not whole")
        table = np.frombuffer(data, ">u8").astype(np.uint64)
        plain = table[(table & np.uint64(_COMPRESSED)) == 0] & np.uint64(_OFFSET)
        self._check(plain[plain != 0].astype(np.int64), f"the table at byte {place:,}", self._own)
        return table

    def _pieces(self, offset: int, length: int) -> Iterator[Piece]:
        end = offset + length
        span = self._cluster * self._per_table
        while offset < end:
            index = offset // span
            upto = min((index + 1) * span, end)
            table = self._l2(index)
            if table is None:
                empty = self._l1[index : -(-end // span)] != 0
                run = int(empty.argmax()) if empty.any() else len(empty)
                upto = min((index + run) * span, end)
                yield upto - offset, None
            else:
                first = offset // self._cluster % self._per_table
                last = first + -(-(upto - offset // self._cluster * self._cluster) // self._cluster)
                yield from self._table_pieces(table[first:last], offset, upto)
            offset = upto

    def _table_pieces(self, entries: NDArray[np.uint64], offset: int, end: int) -> Iterator[Piece]:
        """Neighbouring clusters that also are neighbours in the file as one piece."""
        packed = (entries & np.uint64(_COMPRESSED)) != 0
        places = (entries & np.uint64(_OFFSET)).astype(np.int64)
        zero = ~packed & ((places == 0) | ((entries & np.uint64(_ZERO)) != 0))
        goes_on = np.zeros(len(entries), bool)
        goes_on[1:] = (zero[1:] & zero[:-1]) | (
            ~(zero[1:] | zero[:-1] | packed[1:] | packed[:-1]) & (np.diff(places) == self._cluster)
        )
        starts = np.flatnonzero(~goes_on)
        base = offset // self._cluster * self._cluster
        for k, start in enumerate(starts.tolist()):
            stop = int(starts[k + 1]) if k + 1 < len(starts) else len(entries)
            lo, hi = max(base + start * self._cluster, offset), min(base + stop * self._cluster, end)
            skip = lo - base - start * self._cluster
            if packed[start]:
                yield hi - lo, self._unpack(int(entries[start]))[skip : skip + hi - lo]
            else:
                yield hi - lo, None if zero[start] else int(places[start]) + skip

    def _unpack(self, entry: int) -> bytes:
        """A compressed cluster: its place, and how many sectors behind that of its first byte it reaches."""
        shift = 62 - (self._bits - 8)
        place = entry & ((1 << shift) - 1)
        sectors = (entry & (_COMPRESSED - 1)) >> shift
        data = self._file.read(place, (sectors + 1) * 512 - place % 512)
        try:
            out = zlib.decompressobj(-15).decompress(data, self._cluster)
        except zlib.error as error:
            raise MediumError(f"{self.path}: the compressed cluster at byte {place:,} is damaged: {error}") from error
        if len(out) != self._cluster:
            raise MediumError(f"{self.path}: the compressed cluster at byte {place:,} is cut short")
        return out


class Qcow2Writer(ContainerWriter):
    """Writes qcow2 version 3, with clusters of 64 KiB; `packed` ones are compressed where that makes them smaller.

    Clusters come in the order of the medium, so each is complete when the next begins. Tables and clusters are
    appended; refcounts are written at the end.
    """

    def __init__(self, path: Path, size: int, resume: bool, packed: bool = False) -> None:
        super().__init__(path, size, resume)
        self._packed = packed
        self._cluster = 1 << _WRITE_BITS
        self._per_table = self._cluster // 8
        self._l1_size = max(-(-size // (self._cluster * self._per_table)), 1)
        self._l1_at = self._cluster
        self._tables: dict[int, NDArray[np.uint64]] = {}
        self._changed: set[int] = set()
        self._held: tuple[int, bytearray] | None = None
        if resume:
            self._read_back()
            return
        self._l1 = np.zeros(self._l1_size, np.uint64)
        self._end = self._l1_at + self._whole(8 * self._l1_size)
        self._put(0, self._header(0, 0))
        self._put(self._l1_at, bytes(self._whole(8 * self._l1_size)))

    def _whole(self, size: int) -> int:
        return -(-size // self._cluster) * self._cluster

    def _header(self, refcount_at: int, refcount_clusters: int) -> bytes:
        header = np.zeros((), _HEADER)
        header["magic"], header["version"], header["cluster_bits"] = np.void(MAGIC), 3, _WRITE_BITS
        header["size"], header["l1_size"], header["l1_offset"] = self.size, self._l1_size, self._l1_at
        header["refcount_offset"], header["refcount_clusters"] = refcount_at, refcount_clusters
        header["refcount_order"], header["header_length"] = 4, _HEADER.itemsize
        return header.tobytes().ljust(self._cluster, b"\0")

    def _read_back(self) -> None:
        """The tables of the last checkpoint; what was written behind it is cut off."""
        data = os.pread(self._fd, 8 * self._l1_size, self._l1_at)
        self._l1 = np.frombuffer(data, ">u8").astype(np.uint64)
        self._end = self._l1_at + self._whole(8 * self._l1_size)
        for index in np.flatnonzero(self._l1).tolist():
            place = int(self._l1[index]) & _OFFSET
            table = np.frombuffer(os.pread(self._fd, self._cluster, place), ">u8").astype(np.uint64)
            self._tables[index] = table
            self._end = max(self._end, place + self._cluster)
            for entry in table[table != 0].tolist():
                self._end = max(self._end, self._end_of(entry))
        self._end = self._whole(self._end)
        os.ftruncate(self._fd, self._end)

    def _end_of(self, entry: int) -> int:
        if not entry & _COMPRESSED:
            return (entry & _OFFSET) + self._cluster
        shift = 62 - (_WRITE_BITS - 8)
        return (entry & ((1 << shift) - 1)) // 512 * 512 + (((entry & (_COMPRESSED - 1)) >> shift) + 1) * 512

    def write(self, offset: int, data: bytes) -> None:
        view = memoryview(data)
        while view:
            number, inside = divmod(offset, self._cluster)
            part = view[: self._cluster - inside]
            if self._held is not None and self._held[0] != number:
                self._settle()
            if len(part) == self._cluster:
                self._place(number, part)
            else:
                self._held = self._held or (number, bytearray(self._cluster))
                self._held[1][inside : inside + len(part)] = part
            offset, view = offset + len(part), view[len(part) :]

    def _settle(self) -> None:
        if self._held is not None:
            number, data = self._held
            self._held = None
            self._place(number, memoryview(data))

    def _place(self, number: int, data: memoryview) -> None:
        """Append one cluster, or write it over where it was settled at a checkpoint."""
        index, inside = divmod(number, self._per_table)
        table = self._tables.get(index)
        if table is None:
            table = self._tables[index] = np.zeros(self._per_table, np.uint64)
            self._end = self._whole(self._end)
            self._l1[index] = self._end | _COPIED
            self._put(self._end, bytes(self._cluster))
            self._end += self._cluster
        self._changed.add(index)
        before = int(table[inside])
        if before and not before & _COMPRESSED:
            self._put(before & _OFFSET, data)
            return
        if self._packed:
            packer = zlib.compressobj(6, zlib.DEFLATED, _PLAIN_WINDOW)
            small = packer.compress(data) + packer.flush()
            if len(small) < self._cluster:
                shift = 62 - (_WRITE_BITS - 8)
                sectors = (self._end + len(small) - 1) // 512 - self._end // 512
                table[inside] = _COMPRESSED | sectors << shift | self._end
                self._put(self._end, small)
                self._end += len(small)
                return
        self._end = self._whole(self._end)
        table[inside] = self._end | _COPIED
        self._put(self._end, data)
        self._end += self._cluster

    def checkpoint(self) -> None:
        self._settle()
        for index in sorted(self._changed):
            self._put(int(self._l1[index]) & _OFFSET, self._tables[index].astype(">u8").tobytes())
        self._changed.clear()
        self._put(self._l1_at, self._l1.astype(">u8").tobytes())

    def finish(self) -> None:
        self.checkpoint()
        self._end = self._whole(self._end)
        at, clusters = self._put_refcounts()
        self._put(0, self._header(at, clusters))
        os.ftruncate(self._fd, self._end)
        self.close()

    def _put_refcounts(self) -> tuple[int, int]:
        """Refcount blocks and their table behind everything; answers the table's place and clusters."""
        per_block = self._cluster // 2
        used = self._end // self._cluster
        blocks = tables = 1
        while True:
            total = used + blocks + tables
            needed = -(-total // per_block)
            room = -(-8 * needed // self._cluster)
            if needed == blocks and room == tables:
                break
            blocks, tables = needed, room
        counts = np.zeros(blocks * per_block, ">u2")
        counts[:total] = 1
        for start, more in self._shared():
            counts[start] += more
        blocks_at = self._end
        self._put(blocks_at, counts.tobytes())
        table_at = blocks_at + blocks * self._cluster
        entries = (np.arange(blocks, dtype=np.uint64) * np.uint64(self._cluster) + np.uint64(blocks_at)).astype(">u8")
        self._put(table_at, entries.tobytes().ljust(tables * self._cluster, b"\0"))
        self._end = table_at + tables * self._cluster
        return table_at, tables

    def _shared(self) -> Iterator[tuple[int, int]]:
        """Clusters of the file that hold parts of several compressed ones, and how many references more than one."""
        if not self._packed:
            return
        held: dict[int, int] = {}
        shift = 62 - (_WRITE_BITS - 8)
        for table in self._tables.values():
            for entry in table[(table & np.uint64(_COMPRESSED)) != 0].tolist():
                place = entry & ((1 << shift) - 1)
                for cluster in range(place // self._cluster, (self._end_of(entry) - 1) // self._cluster + 1):
                    held[cluster] = held.get(cluster, 0) + 1
        for cluster, count in held.items():
            if count > 1:
                yield cluster, count - 1
