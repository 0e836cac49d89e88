"""Where a volume can be, by a superblock or a copy of one. What reads it is imported where there is one."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from sastrugi.media.base import Medium
from sastrugi.media.extents import Extent
from sastrugi.media.overlay import OverlayMedium
from sastrugi.volumes.ext.layout import (
    GROUP_AT,
    NEEDS_RECOVERY,
    SUPERBLOCK,
    SUPERBLOCK_AT,
    SUPERBLOCK_SIZE,
    geometry_of,
)

if TYPE_CHECKING:
    from sastrugi.volumes.ext.read import ExtVolume

_SIGNATURE_AT, _SIGNATURE = 510, b"\x55\xaa"
"""Of boot sectors, which a volume of this kind has none of."""


def starts(medium: Medium, at: int) -> list[tuple[int, bool]]:
    """Where the volume of a superblock may begin: 1024 bytes before, or (of a copy) so many groups."""
    data = medium.read(at, SUPERBLOCK_SIZE)
    geometry = geometry_of(data, at)
    if geometry is None:
        return []
    group = int(np.frombuffer(data, SUPERBLOCK, 1)[0]["group"])
    if group:
        return [(at - geometry.group_start(group) * geometry.block, True)]
    return [(at - SUPERBLOCK_AT, False)]


def open_ext(medium: Medium, where: Extent) -> ExtVolume | None:
    """By the superblock, or by the copy of it in the second group (or a later one)."""
    data = medium.read(where.offset + SUPERBLOCK_AT, SUPERBLOCK_SIZE)
    geometry = geometry_of(data, where.offset)
    if geometry is not None:
        from sastrugi.volumes.ext.read import ExtVolume

        if not geometry.can_be_on(medium.size):
            return None
        volume = ExtVolume(medium, geometry, data, False)
        if not volume.fits():
            return None
        return _written_back(volume, medium, data) if geometry.incompatible & NEEDS_RECOVERY else volume
    if medium.read(where.offset + _SIGNATURE_AT, 2) == _SIGNATURE:
        return None  # another file system's: copies of this one's superblock are found by those who look at all sectors
    for block in (1024, 2048, 4096):
        for group in (1, 3, 5, 7, 9):
            place = (group * 8 * block + (1 if block == 1024 else 0)) * block
            if place >= where.length:
                break
            data = medium.read(where.offset + place, SUPERBLOCK_SIZE)
            geometry = geometry_of(data, where.offset)
            of_group = int.from_bytes(data[GROUP_AT : GROUP_AT + 2], "little")
            if geometry is None or not geometry.can_be_on(medium.size):
                continue
            if geometry.block == block and of_group == group:
                from sastrugi.volumes.ext.read import ExtVolume

                return ExtVolume(medium, geometry, data, True)
    return None


def _written_back(volume: ExtVolume, medium: Medium, superblock: bytes) -> ExtVolume:
    """A volume that was not unmounted, as it is once a driver has written its journal back."""
    from sastrugi.volumes.ext.journal_read import pending_blocks
    from sastrugi.volumes.ext.read import ExtVolume

    g = volume.geometry
    blocks = pending_blocks(medium, volume.journal, g.block, g.blocks)
    then = OverlayMedium(medium, {g.at(block): place for block, place in blocks.items()}, g.block)
    return ExtVolume(then, g, superblock, False) if blocks else volume
