"""Where a volume can be, by a volume header or its copy. What reads it is imported where there is one."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from sastrugi.media.base import Medium
from sastrugi.media.extents import Extent
from sastrugi.media.overlay import OverlayMedium
from sastrugi.volumes.hfsplus.layout import (
    BACKUP_FROM_END,
    FIRST_NUMBER,
    HEADER,
    HEADER_AT,
    HEADER_SIZE,
    LEAST_BLOCK,
    MOST_BLOCK,
    SECTOR,
    VERSIONS,
    VOLUME_HEADER,
    Geometry,
)

if TYPE_CHECKING:
    from sastrugi.volumes.hfsplus.read import HfsVolume


def header_in(data: bytes) -> np.void | None:
    """A volume header that says nothing that cannot be, or None."""
    if len(data) < HEADER_SIZE:
        return None
    row = np.frombuffer(data, VOLUME_HEADER, 1)[0]
    block, blocks = int(row["block"]), int(row["blocks"])
    if VERSIONS.get(int(row["signature"])) != int(row["version"]) or not blocks:
        return None
    if not LEAST_BLOCK <= block <= MOST_BLOCK or block & (block - 1) or not int(row["catalog_file"]["size"]):
        return None
    return row if int(row["next_number"]) >= FIRST_NUMBER else None


def starts(medium: Medium, at: int) -> list[tuple[int, bool]]:
    """Where the volume of a header may begin: so much before it; or, if it is the copy at the end, where its catalog
    bears that out."""
    row = header_in(medium.read(at, HEADER_SIZE))
    if row is None:
        return []
    block, blocks = int(row["block"]), int(row["blocks"])
    whole = block * blocks
    catalog = int(row["catalog_file"]["extents"][0]["start"]) * block
    out = [(at - HEADER_AT, False)]
    for over in range(0, block, SECTOR):  # a volume may be longer than its blocks
        start = at + BACKUP_FROM_END - whole - over
        if start >= 0 and medium.read(start + catalog + 8, 4) == bytes((HEADER, 0, 0, 3)):
            out.append((start, True))
    if len(out) == 1 and at + BACKUP_FROM_END >= whole:
        out.append((at + BACKUP_FROM_END - whole, True))
    return out


def open_hfs(medium: Medium, where: Extent) -> HfsVolume | None:
    """By the volume header, or by its copy in the last KiB of the range."""
    row = header_in(medium.read(where.offset + HEADER_AT, HEADER_SIZE))
    if row is not None and int(row["catalog_file"]["extents"][0]["start"]) < int(row["blocks"]):
        whole = int(row["block"]) * int(row["blocks"])
        size = where.length if whole <= where.length < whole + int(row["block"]) else whole
        if where.offset + size <= medium.size + max(medium.size // 2, MOST_BLOCK):
            return _written_back(_volume(medium, where.offset, size, row, False), medium, row)
    for at in (where.end - BACKUP_FROM_END, where.end - SECTOR):
        row = header_in(medium.read(at, HEADER_SIZE)) if at > where.offset else None
        if row is None:
            continue
        size = at + BACKUP_FROM_END - where.offset
        if int(row["block"]) * int(row["blocks"]) <= size < int(row["block"]) * (int(row["blocks"]) + 1):
            return _volume(medium, where.offset, size, row, True)
    return None


def _volume(medium: Medium, offset: int, size: int, row: np.void, by_copy: bool) -> HfsVolume:
    from sastrugi.volumes.hfsplus.read import HfsVolume

    return HfsVolume(medium, Geometry(offset, size, int(row["block"]), int(row["blocks"])), row, by_copy)


def _written_back(volume: HfsVolume, medium: Medium, row: np.void) -> HfsVolume:
    """A volume that was not unmounted, as it is once a driver has written its journal back."""
    from sastrugi.volumes.hfsplus.journal_read import waiting_sectors

    journal, g = volume.journal, volume.geometry
    sectors = waiting_sectors(medium, g, journal) if journal is not None else {}
    if not sectors:
        return volume
    then = OverlayMedium(medium, sectors, SECTOR)
    newer = header_in(then.read(g.offset + HEADER_AT, HEADER_SIZE))
    opened = _volume(then, g.offset, g.size, row if newer is None else newer, False)
    opened.health.append("it was not unmounted: it is read as it is once its journal is written back")
    return opened
