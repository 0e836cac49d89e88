"""The drift file system: of these tests alone, declared as the real ones are (see layout)."""

from __future__ import annotations

import datetime as dt

from sastrugi.media import Extent
from sastrugi.media.raw import RawImage
from sastrugi.volumes.registry import BootMark, FileSystem, Variant
from sastrugi.volumes.writer import Habits
from tests.driftfs.layout import BLOCK
from tests.driftfs.read import open_drift, peek, starts, superblocks_in
from tests.driftfs.write import DriftWriter


def _format(
    image: RawImage, where: Extent, _unit: int, label: str, serial: int, when: dt.datetime, _habits: Habits
) -> DriftWriter:
    return DriftWriter(image, where, label, serial, when)


FILE_SYSTEM = FileSystem(
    family="drift",
    title="Drift",
    variants=(Variant("drift", "Drift", 0x7D, 1e-6, lambda size, sector, habits: BLOCK, _format),),
    open=open_drift,
    boot=BootMark(superblocks_in, starts),
    peek=peek,
)
