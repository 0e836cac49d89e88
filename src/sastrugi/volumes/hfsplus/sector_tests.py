"""Sectors that can be of HFS Plus: volume headers, leaf nodes."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from sastrugi.volumes.hfsplus.layout import DESCRIPTOR_SIZE, HFS_PLUS, HFSX, LEAST_BLOCK, MOST_BLOCK

_MOST_RECORDS = 1024
"""Records of one node."""
_EXTENTS_KEY = 10


def _word(heads: NDArray[np.uint8], at: int) -> NDArray[np.int32]:
    out: NDArray[np.int32] = heads[:, at].astype(np.int32) << 8 | heads[:, at + 1]
    return out


def header_sectors(sectors: NDArray[np.uint8], heads: NDArray[np.uint8]) -> NDArray[np.bool_]:
    """Sectors with the signature and version of a volume header, and a block size that can be."""
    signature, version = _word(heads, 0), _word(heads, 2)
    out: NDArray[np.bool_] = ((signature == HFS_PLUS) & (version == 4)) | ((signature == HFSX) & (version == 5))
    found = np.flatnonzero(out)
    if len(found):
        block = np.ascontiguousarray(sectors[found, 40:44]).view(">u4")[:, 0].astype(np.int64)
        out[found] = (block >= LEAST_BLOCK) & (block <= MOST_BLOCK) & (block & (block - 1) == 0)
    return out


def node_sectors(_sectors: NDArray[np.uint8], heads: NDArray[np.uint8]) -> NDArray[np.bool_]:
    """Sectors that begin as a leaf node of a catalog or of an extents overflow file: descriptor and first key."""
    out: NDArray[np.bool_] = (heads[:, 8] == 0xFF) & (heads[:, 9] == 1) & (heads[:, 12] == 0) & (heads[:, 13] == 0)
    found = np.flatnonzero(out)
    if len(found):
        own = heads[found]
        count, length = _word(own, 10), _word(own, DESCRIPTOR_SIZE)
        catalog = (length >= 6) & (length <= 516) & (length == 6 + 2 * _word(own, 20)) & own[:, 16:20].any(axis=1)
        extents = (length == _EXTENTS_KEY) & ((own[:, 16] == 0) | (own[:, 16] == 0xFF)) & (own[:, 17] == 0)
        out[found] = (count > 0) & (count <= _MOST_RECORDS) & (catalog | extents)
    return out
