"""Sectors that can be of these file systems: first blocks of folders, and superblocks."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from sastrugi.volumes.ext.entries import DOT, DOTS
from sastrugi.volumes.ext.layout import MAGIC, MAGIC_AT

_DOT_HEAD = np.frombuffer(b"\x0c\0\x01", "u1")


def folder_sectors(_sectors: NDArray[np.uint8], heads: NDArray[np.uint8]) -> NDArray[np.bool_]:
    """Sectors that begin as the first block of a folder: entries for itself and for the one above."""
    out: NDArray[np.bool_] = (heads[:, 4] == _DOT_HEAD[0]) & (heads[:, 6] == _DOT_HEAD[2])
    found = np.flatnonzero(out)
    if len(found):
        own = heads[found]
        fits = (own[:, 4:7] == _DOT_HEAD).all(axis=1) & (own[:, 8] == DOT[0]) & (own[:, 9] == 0) & (own[:, 18] == 2)
        out[found] = fits & (own[:, 20] == DOTS[0]) & (own[:, 21] == DOTS[1]) & (own[:, 22] == 0)
    return out


def superblock_sectors(sectors: NDArray[np.uint8], _heads: NDArray[np.uint8]) -> NDArray[np.bool_]:
    """Sectors with the magic number, and a block size and an error behaviour that can be."""
    out: NDArray[np.bool_] = sectors[:, MAGIC_AT : MAGIC_AT + 2].copy().view("<u2")[:, 0] == MAGIC
    found = np.flatnonzero(out)
    if len(found):
        words = np.ascontiguousarray(sectors[found, :128]).view("<u4")
        out[found] = (
            (words[:, 6] <= 6) & (words[:, 8] > 0) & (words[:, 10] > 0) & (words[:, 1] > 0) & (words[:, 19] <= 1)
        )
    return out


def marked_sectors(sectors: NDArray[np.uint8], heads: NDArray[np.uint8]) -> NDArray[np.bool_]:
    """What tells of an earlier volume: first blocks of folders, copies of superblocks."""
    out: NDArray[np.bool_] = folder_sectors(sectors, heads) | superblock_sectors(sectors, heads)
    return out
