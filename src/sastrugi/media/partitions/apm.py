"""Partition tables: the Apple partition map.

Source: Apple, Inside Macintosh: Devices, chapter 3 ("SCSI Manager", structures Block0 and Partition). The first block
describes the device, one block behind it each partition, the map itself and what is free among them.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from sastrugi.errors import MediumError
from sastrugi.media.base import Medium
from sastrugi.media.extents import Extent, RangeSet
from sastrugi.media.partitions.base import Partition, place_note

DEVICE_SIGNATURE, MAP_SIGNATURE = b"ER", b"PM"
MAP_BLOCKS = 63
"""Blocks that the map takes behind the first one: as many as it may list partitions."""
_MAP_TYPE, _FREE_TYPE = "Apple_partition_map", "Apple_Free"
_NAME = 32
_MOST = 128
_USABLE = 0x33
"""Valid, allocated, readable and writable."""
_DEVICE = np.dtype([("signature", "V2"), ("block", ">u2"), ("blocks", ">u4")])
_ENTRY = np.dtype(
    [
        ("signature", "V2"), ("reserved", ">u2"), ("entries", ">u4"), ("first", ">u4"), ("count", ">u4"),
        ("name", f"S{_NAME}"), ("type", f"S{_NAME}"), ("data_first", ">u4"), ("data_count", ">u4"), ("status", ">u4"),
    ]
)  # fmt: skip


@dataclass(frozen=True, slots=True)
class ListedVolume:
    """What a map says of a partition: where it is, its name and its type."""

    where: Extent
    name: str
    type: str


def reserved_at_start(sector: int) -> int:
    """Bytes at the start of a medium that device block and map take."""
    return (1 + MAP_BLOCKS) * sector


def lay_apm(places: Sequence[ListedVolume], size: int, sector: int) -> list[tuple[int, bytes]]:
    """Device block and map, each with its offset; what no place takes is listed as free."""
    if size // sector > 0xFFFFFFFF:
        raise MediumError("an Apple partition map cannot reach beyond 4,294,967,295 sectors: use table = 'gpt'")
    own = Extent(sector, MAP_BLOCKS * sector)
    for place in places:
        if place.where.offset < own.end:
            raise MediumError(f"'{place.name}': an Apple partition map keeps the first {own.end:,} bytes for itself")
    listed = [ListedVolume(own, "Apple", _MAP_TYPE), *places]
    whole = Extent(sector, size // sector * sector - sector)
    free = RangeSet(one.where for one in listed).gaps(whole)
    listed = sorted([*listed, *(ListedVolume(gap, "", _FREE_TYPE) for gap in free)], key=lambda one: one.where)
    listed.sort(key=lambda one: one.type == _FREE_TYPE)
    if len(listed) > MAP_BLOCKS:
        raise MediumError(f"an Apple partition map lists {MAP_BLOCKS} stretches of a medium, not {len(listed)}")
    device = np.zeros((), _DEVICE)
    device["signature"], device["block"], device["blocks"] = np.void(DEVICE_SIGNATURE), sector, size // sector
    out = bytearray(device.tobytes().ljust(sector, b"\0"))
    for one in listed:
        entry = np.zeros((), _ENTRY)
        entry["signature"], entry["entries"] = np.void(MAP_SIGNATURE), len(listed)
        entry["first"], entry["count"] = one.where.offset // sector, one.where.length // sector
        entry["data_count"] = entry["count"]
        entry["name"], entry["type"] = one.name.encode("ascii", "replace")[:_NAME], one.type.encode()
        entry["status"] = 0 if one.type == _FREE_TYPE else _USABLE
        out += entry.tobytes().ljust(sector, b"\0")
    return [(0, bytes(out).ljust(reserved_at_start(sector), b"\0"))]


def read_apm(medium: Medium) -> list[Partition]:
    """The partitions that a map lists, but for itself and what is free; empty if there is none."""
    device = medium.read(0, _DEVICE.itemsize)
    block = int.from_bytes(device[2:4], "big")
    if device[:2] != DEVICE_SIGNATURE or block not in (512, 1024, 2048, 4096):
        return []
    out: list[Partition] = []
    n = count = 1
    while n <= min(count, _MOST):
        data = medium.read(n * block, _ENTRY.itemsize)
        if len(data) < _ENTRY.itemsize or data[:2] != MAP_SIGNATURE:
            break
        entry = np.frombuffer(data, _ENTRY, 1)[0]
        count = int(entry["entries"])
        kind = bytes(entry["type"]).decode("ascii", "replace")
        where = Extent(int(entry["first"]) * block, int(entry["count"]) * block)
        if where.length and kind not in (_MAP_TYPE, _FREE_TYPE):
            label = bytes(entry["name"]).decode("ascii", "replace")
            out.append(Partition(n, kind, where, label=label, note=place_note(where, medium.size)))
        n += 1
    return out
