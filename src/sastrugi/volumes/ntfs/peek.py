"""What the bytes of one file's records say by themselves."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from sastrugi.media.extents import Extent
from sastrugi.volumes.ntfs.layout import REFERENCE, STRIDE, Geometry
from sastrugi.volumes.ntfs.records import Records, map_of
from sastrugi.volumes.registry import SeenRecord

_NEVER = 1 << 50


def peek(_variant: str, data: bytes, where: Sequence[Extent], first: int, cluster: int) -> SeenRecord | None:
    """`where` they stand; `first` is the byte of the medium at which the volume's first cluster lies."""
    size = int.from_bytes(data[0x1C:0x20], "little")
    if size not in (512, 1024, 2048, 4096) or len(data) % size:
        return None
    places = np.concatenate([np.arange(part.offset, part.end, STRIDE) for part in where])[:: size // STRIDE]
    records = Records(Geometry(first, STRIDE, cluster, _NEVER, 0, 0, size, 4096, 0))
    records.add(np.frombuffer(data, "u1").reshape(-1, size), places.astype(np.int64), None)
    records.join()
    number = int.from_bytes(data[0x2C:0x30], "little")
    record = records.by_number.get(number & REFERENCE)
    if record is None or not record.names:
        return None
    streams = dict(record.streams())
    place = map_of(streams[""], records.geometry)[0] if "" in streams else None
    start = -1 if place is None or place.start is None else place.start
    name, *others = (name.text for name in record.own_names())
    return SeenRecord(name, place.size if place else 0, start, tuple(others))
