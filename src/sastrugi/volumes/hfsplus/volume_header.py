"""The volume header as it is written."""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass

import numpy as np

from sastrugi.volumes.hfsplus.catalog_write import CatalogWriter
from sastrugi.volumes.hfsplus.layout import (
    HFS_PLUS,
    HFSX,
    JOURNALED,
    MOUNTED_BY_JOURNAL,
    MOUNTED_BY_LINUX,
    MOUNTED_BY_MAC,
    UNMOUNTED,
    VERSIONS,
    VOLUME_HEADER,
    to_seconds,
)
from sastrugi.volumes.hfsplus.records import packed_fork
from sastrugi.volumes.hfsplus.volume_files import VolumeFiles

_USUAL_CLUMP = 16 << 10


@dataclass(frozen=True, slots=True)
class Identity:
    """What of a volume does not change: whether case counts, whether a Mac made it, its number and when it was made."""

    by_case: bool
    by_mac: bool
    serial: int
    created: dt.datetime


def packed_header(
    own: VolumeFiles, catalog: CatalogWriter, identity: Identity, modified: dt.datetime, writes: int
) -> bytes:
    """The header of a volume that was unmounted, changed last at a time and written so many times."""
    g, clusters = own.geometry, own.clusters
    row = np.zeros((), VOLUME_HEADER)
    signature = HFSX if identity.by_case else HFS_PLUS
    row["signature"], row["version"] = signature, VERSIONS[signature]
    row["attributes"] = UNMOUNTED | (JOURNALED if own.journal else 0)
    by = MOUNTED_BY_MAC if identity.by_mac else MOUNTED_BY_LINUX
    row["mounted_by"] = np.void(MOUNTED_BY_JOURNAL if own.journal else by)
    row["journal"] = own.journal_block
    row["created"] = row["checked"] = to_seconds(identity.created)
    row["modified"] = to_seconds(modified)
    row["files"], row["folders"] = catalog.files, catalog.folders
    row["block"], row["blocks"], row["free"] = g.block, g.blocks, clusters.free
    row["next_block"] = min(clusters.last + 1, g.blocks - 1)
    row["resource_clump"] = row["data_clump"] = max(g.block, _USUAL_CLUMP)
    row["next_number"], row["writes"], row["encodings"] = catalog.next_number, writes, 1
    row["serial"] = identity.serial
    row["allocation_file"] = packed_fork(own.bitmap, own.bitmap.size)
    for name, file in (
        ("extents_file", own.extents), ("catalog_file", own.catalog), ("attributes_file", own.attributes),
    ):  # fmt: skip
        row[name] = packed_fork(file.fork, file.clump)
    return row.tobytes()
