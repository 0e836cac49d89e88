"""HFS Plus and HFSX, after Apple's Technical Note TN1150.

`layout` and `names` declare the structures; `plan`, `btree`, `records`, `volume_files`, `catalog_write`,
`volume_header`, `journal_write`, `evidence` and `write` lay volumes down; `tree_read`, `catalog_read`, `mapping` and
`read` read them, `journal_read`, `pool`, `past` and `earlier` what they were before.
"""

from __future__ import annotations

import datetime as dt
from functools import partial
from typing import TYPE_CHECKING, Any
from uuid import UUID

from sastrugi.volumes.hfsplus.opening import open_hfs, starts
from sastrugi.volumes.hfsplus.plan import default_block, plan
from sastrugi.volumes.hfsplus.sector_tests import header_sectors, node_sectors
from sastrugi.volumes.registry import BootMark, FileSystem, Variant, later

if TYPE_CHECKING:
    from sastrugi.media.extents import Extent
    from sastrugi.media.raw import RawImage
    from sastrugi.volumes.writer import Habits, VolumeWriter

_TIME_GRAIN = 1.0


def _format(
    variant: str, image: RawImage, where: Extent, block: int, label: str, serial: int, when: dt.datetime, habits: Habits
) -> VolumeWriter[Any]:
    from sastrugi.volumes.hfsplus.write import HfsWriter  # what only reads starts without it

    planned = plan(_TITLES[variant], where.offset, where.length, block, image.sector, habits == "macos")
    return HfsWriter(image, planned, variant, label, serial, when, habits)


_TITLES = {"hfs+": "HFS+", "hfsx": "HFSX"}

FILE_SYSTEM = FileSystem(
    family="hfsplus",
    title="HFS+",
    variants=tuple(
        Variant(
            name,
            title,
            0xAF,
            _TIME_GRAIN,
            default_block,
            partial(_format, name),
            gpt_type=UUID("48465300-0000-11aa-aa11-00306543ecac"),
            apm_type=f"Apple_{title.replace('+', '')}",
        )
        for name, title in _TITLES.items()
    ),
    open=open_hfs,
    boot=BootMark(header_sectors, starts),
    peek=later(f"{__name__}.peek", "peek"),
    metadata_sectors=node_sectors,
    earlier=later(f"{__name__}.earlier", "earlier_volumes"),
    mounts=(("mount", "-t", "hfsplus"),),
)
