"""Partition tables: GPT, with its backup at the end of the medium.

Source: UEFI specification, section 5.3 (GUID Partition Table Disk Layout). Both headers and both arrays of entries
carry a CRC-32; a copy counts only when its own are right.
"""

from __future__ import annotations

import zlib
from collections.abc import Sequence
from dataclasses import replace
from uuid import UUID

import numpy as np

from sastrugi.errors import MediumError
from sastrugi.media.base import Medium
from sastrugi.media.extents import Extent
from sastrugi.media.partitions.base import Partition, place_note
from sastrugi.media.partitions.mbr import MBR_SIGNATURE, PROTECTIVE_TYPE, RECORD
from sastrugi.media.partitions.types import gpt_type_name

GPT_SIGNATURE = b"EFI PART"
_REVISION = 0x00010000
_HEADER_SIZE = 92
_ENTRIES, _ENTRY_SIZE = 128, 128
_HEADER = np.dtype(
    [
        ("signature", "V8"), ("revision", "<u4"), ("header_size", "<u4"), ("header_crc", "<u4"), ("reserved", "<u4"),
        ("my_lba", "<u8"), ("other_lba", "<u8"), ("first_usable", "<u8"), ("last_usable", "<u8"), ("disk_guid", "V16"),
        ("entries_lba", "<u8"), ("entry_count", "<u4"), ("entry_size", "<u4"), ("entries_crc", "<u4"),
    ]
)  # fmt: skip
_ENTRY = np.dtype(
    [
        ("type", "V16"), ("guid", "V16"), ("first_lba", "<u8"), ("last_lba", "<u8"), ("attributes", "<u8"),
        ("name", "<u2", 36),
    ]
)  # fmt: skip


def reserved_at_end(sector: int) -> int:
    """Bytes at the end of a medium that the backup table takes."""
    return _ENTRIES * _ENTRY_SIZE + sector


def lay_gpt(
    places: Sequence[tuple[Extent, str, UUID]], guids: Sequence[UUID], size: int, sector: int
) -> list[tuple[int, bytes]]:
    """Protective MBR, both headers and both arrays, each with its offset. `places` are extents, names and types;
    `guids` the disk's and then one for each place."""
    array_sectors = -(-_ENTRIES * _ENTRY_SIZE // sector)
    last = size // sector - 1
    first_usable, last_usable = 2 + array_sectors, last - 1 - array_sectors
    if len(places) > _ENTRIES:
        raise MediumError(f"a GPT lists {_ENTRIES} partitions, not {len(places)}")
    entries = np.zeros(_ENTRIES, _ENTRY)
    for entry, (where, name, type_), guid in zip(entries, places, guids[1:], strict=False):
        begin, end = where.offset // sector, where.end // sector - 1
        if begin < first_usable or end > last_usable:
            raise MediumError(
                f"'{name}': a GPT keeps the first {first_usable * sector:,} and the last "
                f"{(array_sectors + 1) * sector:,} bytes of the medium for itself"
            )
        entry["type"], entry["guid"] = np.void(type_.bytes_le), np.void(guid.bytes_le)
        entry["first_lba"], entry["last_lba"] = begin, end
        units = np.frombuffer(name.encode("utf-16-le")[:72], "<u2")
        entry["name"][: len(units)] = units
    array = entries.tobytes()
    out = [(0, _protective(size // sector))]
    for own, other, entries_lba in ((1, last, 2), (last, 1, last - array_sectors)):
        header = np.zeros((), _HEADER)
        header["signature"], header["revision"] = np.void(GPT_SIGNATURE), _REVISION
        header["header_size"], header["my_lba"], header["other_lba"] = _HEADER_SIZE, own, other
        header["first_usable"], header["last_usable"] = first_usable, last_usable
        header["disk_guid"], header["entries_lba"] = np.void(guids[0].bytes_le), entries_lba
        header["entry_count"], header["entry_size"] = _ENTRIES, _ENTRY_SIZE
        header["entries_crc"] = zlib.crc32(array)
        header["header_crc"] = zlib.crc32(header.tobytes())
        out.append((own * sector, header.tobytes().ljust(sector, b"\0")))
        out.append((entries_lba * sector, array.ljust(array_sectors * sector, b"\0")))
    return out


def _protective(sectors: int) -> bytes:
    """The master boot record that keeps old tools away (section 5.2.3)."""
    record = np.zeros(4, RECORD)
    record["first_chs"][0], record["last_chs"][0] = (0, 2, 0), (0xFF, 0xFF, 0xFF)
    record["type"][0], record["first_lba"][0] = PROTECTIVE_TYPE, 1
    record["sectors"][0] = min(sectors - 1, 0xFFFFFFFF)
    return bytes(446) + record.tobytes() + MBR_SIGNATURE


def read_gpt(medium: Medium) -> list[Partition]:
    """The partitions of the first copy that is right by its checksums; empty if there is none.

    Partitions read from the backup say so in their note.
    """
    last = medium.size // medium.sector - 1
    for own in (1, last):
        entries = _read_copy(medium, own)
        if entries is None:
            continue
        out: list[Partition] = []
        for n, entry in enumerate(entries, 1):
            kind = UUID(bytes_le=entry["type"].tobytes())
            first, end = int(entry["first_lba"]), int(entry["last_lba"]) + 1
            if kind.int == 0 or end <= first:
                continue
            where = Extent(first * medium.sector, (end - first) * medium.sector)
            label = entry["name"].tobytes().decode("utf-16-le", "replace").split("\0")[0]
            part = Partition(n, gpt_type_name(kind), where, label=label)
            notes = [place_note(where, medium.size), "listed by the backup table only" if own != 1 else ""]
            out.append(replace(part, note="; ".join(note for note in notes if note)))
        return out
    return []


def _read_copy(medium: Medium, lba: int) -> np.ndarray[tuple[int], np.dtype[np.void]] | None:
    block = medium.read(lba * medium.sector, medium.sector)
    if len(block) < _HEADER_SIZE or block[:8] != GPT_SIGNATURE:
        return None
    header = np.frombuffer(block, _HEADER, 1)[0]
    size, count, entry_size = int(header["header_size"]), int(header["entry_count"]), int(header["entry_size"])
    if not _HEADER_SIZE <= size <= len(block) or not 0 < count <= 1024 or entry_size not in (128, 256, 512):
        return None
    crc_at = 16
    if zlib.crc32(block[:crc_at] + bytes(4) + block[crc_at + 4 : size]) != header["header_crc"]:
        return None
    array = medium.read(int(header["entries_lba"]) * medium.sector, count * entry_size)
    if len(array) != count * entry_size or zlib.crc32(array) != header["entries_crc"]:
        return None
    rows = np.frombuffer(array, "u1").reshape(count, entry_size)[:, :_ENTRY_SIZE]
    return np.ascontiguousarray(rows).view(_ENTRY)[:, 0]
