"""The geometry of a new volume, much as the makers of such volumes choose it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from sastrugi.errors import VolumeError
from sastrugi.units import format_size
from sastrugi.volumes.hfsplus.layout import LEAST_BLOCK, MOST_BLOCK, Geometry

if TYPE_CHECKING:
    from sastrugi.volumes.writer import Habits

_SMALL = 16 << 20
_LARGE = 1 << 30
_LEAST_BLOCKS = 64
_LEAST_FOR_JOURNAL = 8 << 20
_LEAST_JOURNAL, _MOST_JOURNAL = 512 << 10, 8 << 20
_LEAST_NODES = 8


@dataclass(frozen=True, slots=True)
class Plan:
    """A geometry, and the bytes that the volume's own files have at first; `journal` is 0 where there is none."""

    geometry: Geometry
    catalog_node: int
    catalog: int
    extents_node: int
    extents: int
    attributes_node: int
    attributes: int
    journal: int


def default_block(size: int, sector: int = 512, habits: Habits = "linux") -> int:
    """The block size that is usual for a volume of `size` bytes."""
    return max(1024 if size < _SMALL else 4096, sector)


def plan(title: str, offset: int, size: int, block: int, sector: int, journaled: bool) -> Plan:
    """The plan of a volume of `size` bytes at `offset`; raises VolumeError with the limits if it cannot be."""
    if block & (block - 1) or not max(LEAST_BLOCK, sector) <= block <= MOST_BLOCK:
        smallest = format_size(max(LEAST_BLOCK, sector))
        raise VolumeError(
            f"a block of {title} cannot be {format_size(block)}: it is a power of two from {smallest} to 64 KiB"
        )
    blocks = size // block
    if blocks >= 1 << 32:
        raise VolumeError(f"{title} holds 2^32 blocks: choose blocks larger than {format_size(block)}")
    catalog_node = 8192 if size >= _LARGE else 4096
    attributes_node = 8192
    catalog = _clump(size // 128, catalog_node, block)
    extents = _clump(size // 512, 4096, block)
    attributes = _clump(size // 512, attributes_node, block)
    journal = 0
    if journaled and size >= _LEAST_FOR_JOURNAL:
        journal = -(-min(max(size // 256, _LEAST_JOURNAL), _MOST_JOURNAL) // block) * block
    own = catalog + extents + attributes + journal + blocks // 8 + 4 * block + 4096
    if blocks < _LEAST_BLOCKS or own > size // 2:
        least = max(_LEAST_BLOCKS * block, 2 * own)
        raise VolumeError(f"{title} needs {format_size(least)} at least, not {format_size(size)}")
    geometry = Geometry(offset, size, block, blocks)
    return Plan(geometry, catalog_node, catalog, 4096, extents, attributes_node, attributes, journal)


def _clump(wanted: int, node: int, block: int) -> int:
    """So many bytes or some nodes, in whole nodes and whole blocks."""
    unit = max(node, block)
    return max(wanted // unit, -(-_LEAST_NODES * node // unit)) * unit
