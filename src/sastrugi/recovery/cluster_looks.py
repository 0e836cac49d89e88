"""What clusters look like: text, or packed data."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

_AT_ONCE = 1 << 20
_UNEVEN = 2
"""Times as many pairs of equal bytes as there are among random ones."""
_IN_TEXT = np.isin(np.arange(256), [9, 10, 12, 13, *range(32, 127), *range(128, 256)])


def text_clusters(rows: NDArray[np.uint8]) -> NDArray[np.bool_]:
    """Which clusters hold nothing but text, and zeros behind its end. Shapes: (clusters, bytes) and (clusters,)."""
    out = np.zeros(len(rows), bool)
    some = max(_AT_ONCE // max(rows.shape[1], 1), 1)
    for at in range(0, len(rows), some):
        part = rows[at : at + some]
        zeros = part == 0
        behind = np.argmax(~zeros[:, ::-1], axis=1)  # zeros at the end of each
        text = (_IN_TEXT[part] | zeros).all(axis=1)
        out[at : at + some] = text & (zeros.sum(axis=1) == behind) & ~zeros.all(axis=1)
    return out


def packed_clusters(rows: NDArray[np.uint8]) -> NDArray[np.bool_]:
    """Which clusters can be packed data: no byte is much more frequent in them than others. Shapes: (clusters, bytes)
    and (clusters,)."""
    count, size = rows.shape
    numbered = (np.arange(count)[:, None] << 8 | rows).ravel()
    counts = np.bincount(numbered, minlength=count << 8).reshape(count, 256)
    out: NDArray[np.bool_] = (counts * counts).sum(axis=1) < _UNEVEN * (size + size * size // 256)
    return out
