"""Records of NTFS 3.1 on disk, after the documentation of the structures by the Linux drivers' authors.

A volume is a table of file records ($MFT), itself the file of record 0. A record holds attributes: names, times,
content (inside of the record, or as runs of clusters), indexes of folders. Of every sector of a record the last two
bytes are kept elsewhere in it, and replaced by a number that must be the same in all ("fix-ups").
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterable
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from sastrugi.media.extents import Extent

STRIDE = 512
"""Fix-ups count by this, whatever the medium's sectors."""
OEM = b"NTFS    "
BOOT_SIGNATURE = 0xAA55
FILE_MAGIC, INDEX_MAGIC = b"FILE", b"INDX"
RESTART_MAGIC, PAGE_MAGIC = b"RSTR", b"RCRD"

BOOT = np.dtype(
    [
        ("jump", "u1", 3), ("oem", "V8"), ("sector", "<u2"), ("cluster_sectors", "u1"), ("reserved", "<u2"),
        ("zeros", "u1", 5), ("media", "u1"), ("zero16", "<u2"), ("track_sectors", "<u2"), ("heads", "<u2"),
        ("hidden", "<u4"), ("zero32", "<u4"), ("drive", "u1"), ("flags", "u1"), ("extended", "u1"), ("pad", "u1"),
        ("sectors", "<u8"), ("mft", "<u8"), ("mirror", "<u8"), ("record_clusters", "i1"), ("pad1", "u1", 3),
        ("index_clusters", "i1"), ("pad2", "u1", 3), ("serial", "<u8"), ("checksum", "<u4"),
    ]
)  # fmt: skip
RECORD = np.dtype(
    [
        ("magic", "<u4"), ("usa", "<u2"), ("usa_count", "<u2"), ("lsn", "<u8"), ("sequence", "<u2"), ("links", "<u2"),
        ("attributes", "<u2"), ("flags", "<u2"), ("used", "<u4"), ("allocated", "<u4"), ("base", "<u8"),
        ("next", "<u2"), ("pad", "<u2"), ("number", "<u4"),
    ]
)  # fmt: skip
INDEX_BLOCK = np.dtype(
    [("magic", "<u4"), ("usa", "<u2"), ("usa_count", "<u2"), ("lsn", "<u8"), ("vcn", "<u8"),
     ("entries", "<u4"), ("used", "<u4"), ("allocated", "<u4"), ("flags", "<u4")]
)  # fmt: skip
FILE_NAME = np.dtype(
    [
        ("parent", "<u8"), ("created", "<i8"), ("modified", "<i8"), ("changed", "<i8"), ("accessed", "<i8"),
        ("allocated", "<u8"), ("size", "<u8"), ("flags", "<u4"), ("reparse", "<u4"), ("length", "u1"), ("space", "u1"),
    ]
)  # fmt: skip
INFORMATION = np.dtype(
    [
        ("created", "<i8"), ("modified", "<i8"), ("changed", "<i8"), ("accessed", "<i8"), ("flags", "<u4"),
        ("versions", "<u4"), ("version", "<u4"), ("class", "<u4"), ("owner", "<u4"), ("security", "<u4"),
        ("quota", "<u8"), ("usn", "<u8"),
    ]
)  # fmt: skip
MAGIC = {name: int.from_bytes(name, "little") for name in (FILE_MAGIC, INDEX_MAGIC, RESTART_MAGIC, PAGE_MAGIC)}
USA_AT = 0x30
"""Where the fix-ups of a record of version 3.1 stand; before that its number is not told."""

STANDARD_INFORMATION, ATTRIBUTE_LIST, NAME, OBJECT_ID, SECURITY = 0x10, 0x20, 0x30, 0x40, 0x50
VOLUME_NAME, VOLUME_INFORMATION, DATA, INDEX_ROOT, INDEX_ALLOCATION, BITMAP = 0x60, 0x70, 0x80, 0x90, 0xA0, 0xB0
REPARSE, EA_INFORMATION, EA, LOGGED = 0xC0, 0xD0, 0xE0, 0x100
END = 0xFFFFFFFF
IN_USE, IS_FOLDER, BELOW_EXTEND, HAS_VIEWS = 1, 2, 4, 8
COMPRESSED, ENCRYPTED, SPARSE = 0x0001, 0x4000, 0x8000
POSIX, WIN32, DOS, WIN32_AND_DOS = 0, 1, 2, 3
FIRST_RECORD, ROOT, EXTEND, FIRST_FREE = 0, 5, 11, 24
MFT, MIRROR, LOG, VOLUME, ATTRIBUTE_DEFINITIONS, SPACE, BOOT_FILE, BAD, SECURE, UPCASE = 0, 1, 2, 3, 4, 6, 7, 8, 9, 10
FILE_FOLDER, FILE_VIEWS = 0x10000000, 0x20000000
"""Of a file name's flags: a folder, a file with indexes of its own."""
INDEX_LAST, INDEX_BELOW = 2, 1
REFERENCE = (1 << 48) - 1
FOLDER_INDEX = "$I30"
LZNT1 = "lznt1"
_EPOCH = dt.datetime(1601, 1, 1, tzinfo=dt.UTC)
_LARGEST_CLUSTER = 2 << 20
Runs = list[tuple[int, int]]
"""(first cluster, clusters) of runs in order; the first is -1 for a hole."""


@lru_cache(1 << 12)
def to_ticks(moment: dt.datetime) -> int:
    """100 ns since 1601; a moment without a zone counts as UTC."""
    since = (moment if moment.tzinfo else moment.replace(tzinfo=dt.UTC)) - _EPOCH
    return (since.days * 86400 + since.seconds) * 10**7 + since.microseconds * 10


@lru_cache(1 << 14)
def of_ticks(value: int) -> dt.datetime | None:
    """The moment of 100 ns since 1601, None where none was kept or none can be."""
    if value <= 0:
        return None
    try:
        return _EPOCH + dt.timedelta(microseconds=value // 10)
    except OverflowError:
        return None


@dataclass(frozen=True, slots=True)
class Geometry:
    """What a boot sector tells. Lengths in bytes; `mft` and `mirror` are clusters."""

    offset: int
    sector: int
    cluster: int
    sectors: int
    mft: int
    mirror: int
    record: int
    index: int
    serial: int

    @property
    def where(self) -> Extent:
        """The volume, with the copy of the boot sector behind its last cluster."""
        return Extent(self.offset, (self.sectors + 1) * self.sector)

    @property
    def clusters(self) -> int:
        return self.sectors * self.sector // self.cluster

    def at(self, cluster: int) -> int:
        """The byte of the medium at which a cluster begins."""
        return self.offset + cluster * self.cluster

    def extents(self, runs: Iterable[tuple[int, int]]) -> tuple[Extent, ...]:
        """The places of runs, without their holes."""
        return tuple(Extent(self.at(start), count * self.cluster) for start, count in runs if start >= 0)


def size_of(code: int, cluster: int) -> int:
    """Bytes of a record or index block: clusters, or a power of two if negative."""
    return code * cluster if code > 0 else 1 << -code if -code < 32 else 0


def geometry_of(data: bytes, offset: int) -> Geometry | None:
    """What the boot sector in `data` says of a volume at `offset`; None if it is none that can be."""
    if len(data) < STRIDE or data[3:11] != OEM or int.from_bytes(data[510:512], "little") != BOOT_SIGNATURE:
        return None
    boot = np.frombuffer(data, BOOT, 1)[0]
    sector, code = int(boot["sector"]), int(boot["cluster_sectors"])
    per_cluster = code if code <= 0x80 else 1 << 256 - code  # more than 128 sectors as a negative power
    if sector not in (512, 1024, 2048, 4096) or not per_cluster or per_cluster & (per_cluster - 1):
        return None
    cluster = sector * per_cluster
    record, index = (size_of(int(boot[name]), cluster) for name in ("record_clusters", "index_clusters"))
    found = Geometry(
        offset, sector, cluster, int(boot["sectors"]), int(boot["mft"]), int(boot["mirror"]), record, index,
        int(boot["serial"]),
    )  # fmt: skip
    possible = cluster <= _LARGEST_CLUSTER and record in (512, 1024, 2048, 4096) and STRIDE <= index <= 64 << 10
    possible &= 0 < found.sectors < 1 << 54 and max(found.mft, found.mirror) < found.clusters and not index % STRIDE
    return found if possible else None


# -- fix-ups ----------------------------------------------------------------------------------------------------------


def mended(blocks: NDArray[np.uint8], usa: NDArray[np.int64]) -> NDArray[np.bool_]:
    """Undo the fix-ups of blocks (shape (n, size), changed in place) whose arrays stand at `usa`; which were whole."""
    count, size = blocks.shape
    good: NDArray[np.bool_]
    strides = size // STRIDE
    good = (usa >= 0x18) & (usa + 2 * (strides + 1) <= STRIDE - 2) & (usa % 2 == 0)
    words = blocks.view("<u2")
    base = np.where(good, usa, 0x2A) // 2
    rows = np.arange(count)
    number = words[rows, base]
    for n in range(strides):
        end = (n + 1) * STRIDE // 2 - 1
        good &= words[:, end] == number
    for n in range(strides):
        end = (n + 1) * STRIDE // 2 - 1
        words[good, end] = words[rows[good], base[good] + 1 + n]
    return good


def mended_block(data: bytes) -> bytes | None:
    """One block without its fix-ups; None where they do not fit."""
    strides = len(data) // STRIDE
    if not strides or len(data) % STRIDE:
        return None
    usa = int.from_bytes(data[4:6], "little")
    if usa < 0x18 or not fixups_fit(data, len(data)):
        return None
    number = data[usa : usa + 2]
    block = bytearray(data)
    for n in range(strides):
        end = (n + 1) * STRIDE - 2
        if data[end : end + 2] != number:
            return None
        block[end : end + 2] = data[usa + 2 + 2 * n : usa + 4 + 2 * n]
    return bytes(block)


def fixups_fit(head: bytes, size: int) -> bool:
    """Whether a block of `size` bytes that begins so has room for its fix-ups where its header says."""
    usa = int.from_bytes(head[4:6], "little")
    return not usa % 2 and usa + 2 * (size // STRIDE + 1) <= STRIDE - 2


def with_fixups(data: bytes, number: int) -> bytes:
    """A block as it stands on disk; where its fix-ups are kept its header says."""
    block, own = bytearray(data), number.to_bytes(2, "little")
    usa = int.from_bytes(data[4:6], "little")
    for n in range(len(data) // STRIDE):
        end = (n + 1) * STRIDE - 2
        block[usa + 2 + 2 * n : usa + 4 + 2 * n] = data[end : end + 2]
        block[end : end + 2] = own
    block[usa : usa + 2] = own
    return bytes(block)


def stored_at(position: int, block: int, usa: int, start: int, length: int) -> tuple[Extent, ...]:
    """Where bytes of a block stand that begins at byte `block` of the medium: those at the ends of its sectors among
    its fix-ups (which begin at `usa` of it). `position` bytes of what begins at `start` are left out."""
    out: list[Extent] = []
    at, end = start + position, start + length
    while at < end:
        stride = at // STRIDE
        tail = (stride + 1) * STRIDE - 2
        if at < tail:
            stop = min(end, tail)
            out.append(Extent(block + at, stop - at))
        else:
            stop = min(end, tail + 2)
            out.append(Extent(block + usa + 2 + 2 * stride + at - tail, stop - at))
        at = stop
    return tuple(out)


# -- runs -------------------------------------------------------------------------------------------------------------


def decode_runs(data: bytes, clusters: int) -> tuple[Runs, bool]:
    """The runs of an attribute's mapping pairs, as far as they can be, and whether that is all of them."""
    out: Runs = []
    at = place = 0
    while at < len(data) and data[at]:
        size, offset = data[at] & 15, data[at] >> 4
        end = at + 1 + size + offset
        if not 0 < size <= 8 or offset > 8 or end > len(data):
            return out, False
        count = int.from_bytes(data[at + 1 : at + 1 + size], "little")
        if offset:
            place += int.from_bytes(data[at + 1 + size : end], "little", signed=True)
            if not 0 <= place < clusters or count > clusters - place:
                return out, False
        if not 0 < count < 1 << 44:
            return out, False
        out.append((place if offset else -1, count))
        at = end
    return out, at < len(data)


def encode_runs(runs: Iterable[tuple[int, int]]) -> bytes:
    """Mapping pairs of runs; the first of a hole is -1."""
    out = bytearray()
    before = 0
    for start, count in runs:
        out += encode_run(start - before if start >= 0 else None, count)
        before = start if start >= 0 else before
    return bytes(out) + b"\0"


def encode_run(distance: int | None, count: int) -> bytes:
    """One mapping pair: of a run so far from the one before, or of a hole."""
    length, place = _signed(count), _signed(distance) if distance is not None else b""
    return bytes((len(place) << 4 | len(length),)) + length + place


def _signed(value: int) -> bytes:
    """In as few bytes as hold it with its sign."""
    bits = (value if value >= 0 else ~value).bit_length()
    return value.to_bytes(bits // 8 + 1, "little", signed=True)
