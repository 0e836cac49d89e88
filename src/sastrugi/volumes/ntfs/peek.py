"""What the bytes of one file record say by themselves."""

from __future__ import annotations

import numpy as np

from sastrugi.volumes.ntfs.layout import STRIDE, Geometry
from sastrugi.volumes.ntfs.records import dissected, map_of
from sastrugi.volumes.registry import SeenRecord


def peek(_variant: str, data: bytes, first: int, cluster: int) -> SeenRecord | None:
    """`first` is the byte of the medium at which the volume's first cluster lies."""
    if len(data) < 2 * STRIDE or len(data) % STRIDE:
        return None
    geometry = Geometry(first, STRIDE, cluster, 1 << 50, 0, 0, len(data), 4096, 0)
    block = np.frombuffer(data, "u1").reshape(1, -1)
    for record, _ in dissected(block, np.zeros(1, np.int64), np.zeros(1, np.int64), geometry):
        names, streams = record.own_names(), dict(record.streams())
        if not names:
            return None
        place = map_of(streams[""], geometry)[0] if "" in streams else None
        inside = place is None or streams[""][0].runs is None
        return SeenRecord(names[0].text, place.size if place else 0, 0 if inside or not place else place.start or 0)
    return None
