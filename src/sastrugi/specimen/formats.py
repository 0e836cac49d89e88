"""Formats that a recipe asks for, of any file system there is."""

from __future__ import annotations

import datetime as dt
from typing import Any

from sastrugi.errors import VolumeError
from sastrugi.media import Extent
from sastrugi.media.raw import RawImage
from sastrugi.volumes.registry import variant_named, variant_names
from sastrugi.volumes.writer import Habits, VolumeWriter

FILE_SYSTEMS = variant_names()


def format_volume(
    image: RawImage, where: Extent, file_system: str, cluster: int | None, label: str, serial: int, when: dt.datetime,
    habits: Habits = "linux",
) -> VolumeWriter[Any]:  # fmt: skip
    """Format a range of the image (quick). Without `cluster` the size that is usual is taken.

    Raises VolumeError, with the limits, if the file system cannot be so large or so small.
    """
    known = variant_named(file_system)
    if known is None:
        raise VolumeError(f"'{file_system}' is no file system here: there are {', '.join(FILE_SYSTEMS)}")
    size = cluster or known.default_unit(where.length, image.sector, habits)
    return known.format(image, where, size, label, serial, when, habits)
