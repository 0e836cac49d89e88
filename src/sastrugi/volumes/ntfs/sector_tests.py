"""Sectors that can be of NTFS."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from sastrugi.volumes.ntfs.layout import FILE_MAGIC, MAGIC, STRIDE


def record_sectors(sectors: NDArray[np.uint8], heads: NDArray[np.uint8]) -> NDArray[np.bool_]:
    """Which sectors, shape (sectors, 512), may begin a file record or an index block."""
    words = heads.view("<u4")[:, 0] if heads.shape[1] >= 4 else sectors[:, :4].view("<u4")[:, 0]
    out: NDArray[np.bool_] = (words == MAGIC[FILE_MAGIC]) | (words == MAGIC[b"INDX"])
    found = np.flatnonzero(out)
    usa = sectors[found, 4:6].copy().view("<u2")[:, 0]
    count = sectors[found, 6:8].copy().view("<u2")[:, 0]
    out[found] = (usa >= 0x28) & (usa <= 0x60) & (count >= 2) & (count <= 1 + (64 << 10) // STRIDE)
    return out
