"""ZIP records, walked from the first local header to the end record.

Source: PKWARE APPNOTE.TXT 6.3.x: 4.3.7 (local file header), 4.3.9 (data descriptor), 4.3.12 (central directory),
4.3.14-16 (end records).
"""

from __future__ import annotations

import zlib
from dataclasses import dataclass
from struct import Struct

from sastrugi.kinds._packed import UnpackCounter
from sastrugi.kinds.base import Source

_GRAIN = 4096
"""Where packed data break is told as exactly as this."""
LOCAL, CENTRAL, END, END64, LOCATOR64, DESCRIPTOR = (
    b"PK\x03\x04", b"PK\x01\x02", b"PK\x05\x06", b"PK\x06\x06", b"PK\x06\x07", b"PK\x07\x08"
)  # fmt: skip
_LOCAL = Struct("<4s5H3I2H")
_CENTRAL = Struct("<4s6H3I5H2I")
_END = Struct("<4s4H2IH")
_DESCRIPTOR = Struct("<4s3I")
_DESCRIPTOR64 = Struct("<4sI2Q")
_ZIP64_EXTRA = 0x0001
_HAS_DESCRIPTOR = 0x0008
_STORED, _DEFLATED = 0, 8
_FULL = 0xFFFFFFFF
_MAX_NAME_BYTES = 1 << 16


@dataclass(frozen=True, slots=True)
class Member:
    """One local file header and where its data lie, counted from the start of the archive."""

    name: str
    offset: int
    method: int
    checksum: int
    data: int
    packed: int


@dataclass(slots=True)
class Archive:
    """What the walk found. `end` is the archive's length if `problem` is empty, otherwise where it breaks."""

    members: list[Member]
    end: int
    problem: str = ""
    first_content: bytes = b""


def walk(source: Source) -> Archive:
    """Local headers and their data, then the central directory, which must name the same offsets, then the end."""
    members: list[Member] = []
    at = 0
    while True:
        mark = source.read(at, 4)
        if mark != LOCAL:
            break
        member = _local(source, at)
        if member is None:
            return Archive(members, at, "an entry's data do not end where another record begins")
        if member.data + member.packed > source.size:
            return Archive(members, at, "an entry reaches beyond the end")
        members.append(member)
        at = _after_data(source, member)
    archive = Archive(members, at)
    if members and members[0].method == _STORED:
        archive.first_content = source.read(members[0].data, min(members[0].packed, 128))
    _directory(source, archive)
    return archive


def _local(source: Source, at: int) -> Member | None:
    fields = source.unpack(_LOCAL, at)
    head = read_head(source.read(at, _LOCAL.size + fields[9] + fields[10])) if fields is not None else None
    if head is None:
        return None
    data, packed, checksum = at + head.length, head.packed, head.checksum
    if head.streamed and not packed:
        found = (_behind_deflated if head.deflated else _search_descriptor)(source, data)
        if found is None:
            return None
        packed, checksum = found
    return Member(head.name, at, head.method, checksum, data, packed)


@dataclass(frozen=True, slots=True)
class Head:
    """A local file header: its own length, and what it says of the data behind it. `streamed`: their lengths and their
    checksum stand behind them."""

    name: str
    length: int
    method: int
    checksum: int
    packed: int
    streamed: bool

    @property
    def deflated(self) -> bool:
        return self.method == _DEFLATED

    @property
    def checked(self) -> bool:
        """Whether the data can be checked."""
        return self.method in (_STORED, _DEFLATED)


def read_head(data: bytes) -> Head | None:
    """The local file header that begins with these bytes; None if not all of it is there."""
    if len(data) < _LOCAL.size:
        return None
    _, _, flags, method, _, _, checksum, packed, unpacked, name_length, extra_length = _LOCAL.unpack_from(data)
    length = _LOCAL.size + name_length + extra_length
    if len(data) < length:
        return None
    extra = data[_LOCAL.size + name_length : length]
    name = data[_LOCAL.size : _LOCAL.size + name_length].decode("utf-8" if flags & 0x800 else "cp437", "replace")
    if packed == _FULL or unpacked == _FULL:
        packed = _zip64(extra, unpacked == _FULL, packed)
    return Head(name, length, method, checksum, packed, bool(flags & _HAS_DESCRIPTOR))


def _zip64(extra: bytes, has_unpacked: bool, packed: int) -> int:
    at = 0
    while at + 4 <= len(extra):
        tag, length = (
            int.from_bytes(extra[at : at + 2], "little"),
            int.from_bytes(extra[at + 2 : at + 4], "little"),
        )
        if tag == _ZIP64_EXTRA:
            skip = 8 if has_unpacked else 0
            return int.from_bytes(extra[at + 4 + skip : at + 12 + skip], "little")
        at += 4 + length
    return packed


def _behind_deflated(source: Source, data: int) -> tuple[int, int] | None:
    """Packed size and checksum of a deflated entry whose header does not tell: a deflated stream says itself where it
    ends, and a descriptor follows that tells the same."""
    unpack, counter = zlib.decompressobj(-15), UnpackCounter(source, 1)
    try:
        for at, block in source.blocks(data, size=_GRAIN):
            packed = at + len(block) - data
            while block and not unpack.eof:
                if not counter.add(len(unpack.decompress(block, 1 << 20)), packed):
                    return None
                block = unpack.unconsumed_tail
            if unpack.eof:
                return _descriptor_at(source, data, packed - len(unpack.unused_data))
    except zlib.error:
        pass
    return None


def _descriptor_at(source: Source, data: int, packed: int) -> tuple[int, int] | None:
    fields = source.read(data + packed, 12)
    if fields[:4] == DESCRIPTOR:
        fields = source.read(data + packed + 4, 12)
    same = len(fields) == 12 and int.from_bytes(fields[4:8], "little") == packed & _FULL
    return (packed, int.from_bytes(fields[:4], "little")) if same else None


def _search_descriptor(source: Source, data: int) -> tuple[int, int] | None:
    """Packed size and checksum of an entry whose header does not tell: where a descriptor states its own distance.

    Either the descriptor carries its signature, or the next record begins right behind a bare one.
    """
    tail = b""
    for at, block in source.blocks(data):
        window, base = tail + block, at - len(tail)
        hit = window.find(b"PK")
        while hit >= 0:
            here = base + hit
            mark = window[hit : hit + 4]
            if mark == DESCRIPTOR:
                for layout in (_DESCRIPTOR, _DESCRIPTOR64):
                    fields = source.unpack(layout, here)
                    if fields and fields[2] == here - data:
                        return here - data, fields[1]
            elif mark in (LOCAL, CENTRAL) and here - data >= 12:
                bare = source.read(here - 12, 12)
                if int.from_bytes(bare[4:8], "little") == here - 12 - data:
                    return here - 12 - data, int.from_bytes(bare[:4], "little")
            hit = window.find(b"PK", hit + 1)
        tail = window[-3:]
    return None


def _after_data(source: Source, member: Member) -> int:
    """Where the next record begins: behind the data, and behind a descriptor if one stands there."""
    at = member.data + member.packed
    if source.read(at, 4) == DESCRIPTOR:
        for size in (16, 24):
            if source.read(at + size, 2) == b"PK":
                return at + size
    if source.read(at, 2) != b"PK" and source.read(at + 12, 2) == b"PK":
        return at + 12
    return at


def _directory(source: Source, archive: Archive) -> None:
    """Check the central directory and the end record at `archive.end`; move it behind them."""
    start = at = archive.end
    offsets: set[int] = set()
    while (fields := source.unpack(_CENTRAL, at)) is not None and fields[0] == CENTRAL:
        offsets.add(fields[16])
        at += _CENTRAL.size + fields[10] + fields[11] + fields[12]
    if source.read(at, 4) == b"PK\x05\x05":  # digital signature
        at += 6 + int.from_bytes(source.read(at + 4, 2), "little")
    directory_end = at
    if source.read(at, 4) == END64:
        at += 12 + int.from_bytes(source.read(at + 4, 8), "little")
        if source.read(at, 4) == LOCATOR64:
            at += 20
    end = source.unpack(_END, at)
    if end is None or end[0] != END:
        archive.problem = "no end record follows the entries"
        archive.end = min(at, source.size)
        return
    _, _, _, _, count, size, offset, comment = end
    if (size != _FULL and size != directory_end - start) or (offset != _FULL and offset != start):
        archive.problem = "the end record and the central directory do not meet"
    elif count != 0xFFFF and count != len(offsets):
        archive.problem = f"the end record counts {count} entries, the central directory has {len(offsets)}"
    elif not offsets <= {member.offset for member in archive.members} | {_FULL}:
        archive.problem = "the central directory names entries that are not there"
    elif at + _END.size + comment > source.size:
        archive.problem = "the end record reaches beyond the end"
    archive.end = min(at + _END.size + comment, source.size)


def first_damaged(source: Source, archive: Archive) -> tuple[Member, int] | None:
    """The first member whose data do not have the checksum they should, and where that shows: where they can no longer
    be unpacked, or else where they begin. Reads every byte."""
    for member in archive.members:
        if member.method not in (_STORED, _DEFLATED):
            continue
        value, counter = 0, UnpackCounter(source, 1)
        unpack = zlib.decompressobj(-15) if member.method == _DEFLATED else None
        reached = member.data
        try:
            step = _GRAIN if unpack else 1 << 16
            for at, block in source.blocks(member.data, member.data + member.packed, size=step):
                reached = at
                while block:
                    data = unpack.decompress(block, 1 << 20) if unpack else block
                    if unpack and not counter.add(len(data), at - member.data + step):
                        return member, reached
                    value = zlib.crc32(data, value)
                    block = unpack.unconsumed_tail if unpack else b""
        except zlib.error:
            return member, reached
        if value != member.checksum:
            return member, member.data
    return None
