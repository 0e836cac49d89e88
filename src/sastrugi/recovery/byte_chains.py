"""Files of any bytes in pieces: how clusters go on one behind the other by the bytes that are in them."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from sastrugi.recovery.chains import Reading
from sastrugi.recovery.sector_survey import SECTOR

_BASE, _BYTES, _PAIRS = -6.6, 6.1, 2.4
"""Bits of a seam: of any; of two clusters in which each byte is as frequent, and each pair of neighbours by their upper
four bits (both as the cosine of the square roots of their shares). A logistic regression over 27,000 seams of 440 files
of 95 types, packed ones left out (`benchmarks/seams.py`)."""
_MOST_ZEROS = 16
"""Zeros that a file ends with, at most."""
_SHORTEST = 16
"""Bytes of a last cluster that are judged."""

Shares = NDArray[np.float64]


class ByteReading(Reading[tuple[int, ...], Shares]):
    """Of any bytes: a look is, of each sector of a cluster, how many bytes stand before the zeros at its end. A cluster
    is the vector whose product with that of another one tells how alike they are. Shape: (512,)."""

    seam, taken_apart, of_byte, looked_at = 4_000.0, 40_000.0, 8.0, 1.5
    smooth = 1.4

    def __init__(self, cluster: int) -> None:
        """Of any size of clusters."""

    def looks(self, rows: NDArray[np.uint8]) -> list[tuple[int, ...]]:
        sectors = rows.reshape(len(rows), -1, min(SECTOR, rows.shape[1])) != 0
        behind = np.argmax(sectors[:, :, ::-1], axis=2)
        lengths = np.where(sectors.any(axis=2), sectors.shape[2] - behind, 0)
        return list(map(tuple, lengths.tolist()))

    def is_inside(self, look: tuple[int, ...]) -> bool:
        return True

    def ends(self, look: tuple[int, ...], rest: int) -> bool:
        sector, length = divmod(rest, SECTOR)
        if not length or look[sector] > length:
            return False
        before = look[sector - 1] - SECTOR if sector and not look[sector] else look[sector]
        return length - before <= _MOST_ZEROS

    def apart(self, data: bytes) -> Shares:
        values = np.frombuffer(data, np.uint8)
        high = values >> 4
        counts = np.bincount(values, minlength=256), np.bincount(high[:-1] << 4 | high[1:], minlength=256)
        return np.concatenate([
            math.sqrt(_BYTES / max(len(data), 1)) * np.sqrt(counts[0]),
            math.sqrt(_PAIRS / max(len(data) - 1, 1)) * np.sqrt(counts[1]),
        ])  # fmt: skip

    def last(self, data: bytes) -> Shares:
        return self.apart(data) if len(data) >= _SHORTEST else np.zeros(512)

    def bits(self, a: Shares, b: Shares) -> float:
        return _BASE + float(a @ b) if b.any() else 0.0
