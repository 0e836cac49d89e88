"""Texts in pieces: how clusters of text go on one behind the other."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from sastrugi.media import Medium
from sastrugi.recovery.by_turns import read_clusters
from sastrugi.recovery.chains import Reading
from sastrugi.recovery.cluster_looks import IN_TEXT
from sastrugi.recovery.sector_survey import SECTOR
from sastrugi.recovery.text_seams import Seams, TextCluster


class TextReading(Reading[int, TextCluster]):
    """Of texts: a look is how many bytes of text a cluster begins with (see text_lengths)."""

    seam, taken_apart, of_byte, looked_at = 25_000.0, 50_000.0, 110.0, 1.5
    smooth = 1.0

    def __init__(self, cluster: int) -> None:
        self._cluster, self._seams = cluster, Seams()

    def looks(self, rows: NDArray[np.uint8]) -> list[int]:
        return text_lengths(rows)

    def is_inside(self, look: int) -> bool:
        return look == self._cluster

    def ends(self, look: int, rest: int) -> bool:
        return look == rest

    def apart(self, data: bytes) -> TextCluster:
        out = TextCluster(data)
        self._seams.learn(out)
        return out

    def last(self, data: bytes) -> TextCluster:
        return TextCluster(data)

    def bits(self, a: TextCluster, b: TextCluster) -> float:
        return self._seams.bits(a, b)


def begins_as_text(medium: Medium, start: int, cluster: int) -> bool:
    """Whether a cluster is text through and through."""
    return text_lengths(read_clusters(medium, (start,), cluster)) == [cluster]


def text_lengths(rows: NDArray[np.uint8]) -> list[int]:
    """Of clusters, shape (clusters, bytes): how many bytes of text each begins with, where nothing follows, or zeros to
    the end of the sector at least (what is behind that was perhaps never written); else 0."""
    other = ~IN_TEXT[rows]
    lengths = np.where(other.any(axis=1), other.argmax(axis=1), rows.shape[1])
    for n in np.flatnonzero(lengths % SECTOR).tolist():
        behind = int(lengths[n])
        if rows[n, behind : -(-behind // SECTOR) * SECTOR].any():
            lengths[n] = 0
    out: list[int] = lengths.tolist()
    return out
