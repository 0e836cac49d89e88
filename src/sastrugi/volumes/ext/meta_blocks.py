"""Blocks of metadata between two transactions: changed in memory, then written together."""

from __future__ import annotations

from sastrugi.media.raw import RawImage
from sastrugi.volumes.ext.layout import Geometry

_KEPT = 4096
"""Blocks that are kept in memory for the next change."""


class MetaBlocks:
    """Blocks of a volume by their numbers."""

    def __init__(self, image: RawImage, geometry: Geometry) -> None:
        self._image, self._geometry = image, geometry
        self._kept: dict[int, bytearray] = {}
        self._changed: dict[int, None] = {}

    def read(self, block: int) -> bytearray:
        """A block as it is now."""
        data = self._kept.get(block)
        if data is None:
            data = bytearray(self._image.read(self._geometry.at(block), self._geometry.block))
            self._kept[block] = data
        return data

    def edit(self, block: int) -> bytearray:
        """A block that will be written with the next transaction, to be changed."""
        self._changed[block] = None
        return self.read(block)

    def put(self, block: int, data: bytes) -> None:
        self._changed[block] = None
        self._kept[block] = bytearray(data)

    def forget(self, block: int) -> None:
        """A block that became free: what was changed of it is not written."""
        self._changed.pop(block, None)
        self._kept.pop(block, None)

    @property
    def pending(self) -> int:
        return len(self._changed)

    def changes(self) -> dict[int, bytes]:
        return {block: bytes(self._kept[block]) for block in self._changed}

    def write(self) -> None:
        """Bring all changes to the medium."""
        for block in sorted(self._changed):
            self._image.write(self._geometry.at(block), bytes(self._kept[block]))
        self._changed.clear()
        if len(self._kept) > _KEPT:
            self._kept.clear()
