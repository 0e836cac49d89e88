"""What the bytes of one record of the catalog say: a key and its data, or the data alone."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from sastrugi.media.extents import Extent
from sastrugi.volumes.hfsplus.catalog_read import CatalogRecord, records_at, shaped_records
from sastrugi.volumes.hfsplus.layout import FILE, FILE_RECORD
from sastrugi.volumes.registry import SeenRecord


def peek(_variant: str, data: bytes, where: Sequence[Extent], first: int, block: int) -> SeenRecord | None:
    """Name (where the key stands), size and first byte. Of one of several names the file's own record follows it."""
    own = where[0].length if where else 0
    named = _record(data[:own])
    placed = _record(data[own:]) if len(where) > 1 else named
    if named is None or placed is None or placed.kind != FILE_RECORD:
        return None
    start = first + placed.data.runs[0][0] * block if placed.data.runs else None
    return SeenRecord(named.name or "", placed.data.size, start)


def _record(data: bytes) -> CatalogRecord | None:
    raw = np.frombuffer(data, "u1")
    for record in records_at(raw, np.zeros(1, np.int64), np.full(1, len(raw), np.int64)):
        return record if record.number else None
    padded = np.frombuffer(data.ljust(FILE.itemsize, b"\0"), "u1")
    return next((record for record in shaped_records(padded) if record.at == 0), None)
