"""Pieces of exFAT folders, found anywhere by the types of their entries. What is read from them is proven by the
checksum of each set.

Source: exFAT specification, sections 6.2 to 6.4.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from sastrugi.volumes.exfat.layout import (
    ENTRY_SIZE,
    IN_USE,
    TYPE_BITMAP,
    TYPE_FILE,
    TYPE_LABEL,
    TYPE_NAME,
    TYPE_STREAM,
    TYPE_UPCASE,
)

_SETS = np.zeros(256, bool)
_SETS[[kind & ~IN_USE | bit for kind in (TYPE_FILE, TYPE_STREAM, TYPE_NAME) for bit in (0, IN_USE)]] = True
_ANY = _SETS.copy()
_BENIGN = (0x20, 0x21, 0xA0, 0xA1, 0x60, 0x61, 0xE0, 0xE1)
_ANY[[TYPE_BITMAP, TYPE_UPCASE, TYPE_LABEL, TYPE_LABEL & ~IN_USE, *_BENIGN]] = True


def table_sectors(sectors: NDArray[np.uint8], heads: NDArray[np.uint8]) -> NDArray[np.bool_]:
    """For each sector, shape (sectors, 512): whether all of it can be part of a folder's table, with an entry of a set
    in it. `heads` are their first 32 bytes once more."""
    out: NDArray[np.bool_] = _ANY[heads[:, 0]]
    likely = np.flatnonzero(out)
    rows = sectors[likely, ::ENTRY_SIZE]
    ended = np.logical_or.accumulate(rows == 0, axis=1)
    out[likely] = (_ANY[rows] | ended).all(axis=1) & ~((rows != 0) & ended).any(axis=1) & _SETS[rows].any(axis=1)
    return out
