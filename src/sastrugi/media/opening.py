"""From a path to a medium: an image file, a block device, or a specimen folder."""

from __future__ import annotations

import stat
from pathlib import Path

from sastrugi.errors import MediumError, system_words
from sastrugi.media.base import Medium
from sastrugi.media.containers import find_container
from sastrugi.media.extents import RangeSet
from sastrugi.media.faults import read_faults
from sastrugi.media.partitions import SECTOR_SIZES, settle_sector
from sastrugi.media.raw import RawMedium

SPECIMEN_IMAGE = "medium.img"
"""The name of the medium inside a specimen folder."""

_TEXT = bytes({*range(0x20, 0x7F), 9, 10, 12, 13})


def open_medium(path: Path | str, sector: int | None = None) -> Medium:
    """Open an image, a block device or a specimen folder for reading.

    Raises MediumError if there is nothing there, or if it can hold no volume: empty, no whole number of sectors,
    or plain text. `sector` is worked out from the medium's own structures where it is not given.
    """
    given = Path(path)
    target = given
    try:
        mode = target.stat().st_mode
        if stat.S_ISDIR(mode):
            target = given / SPECIMEN_IMAGE
            if not target.is_file():
                raise MediumError(
                    f"{given}: a folder, but no specimen (it holds no {SPECIMEN_IMAGE}): name an image file, "
                    "a device or a specimen folder"
                )
            mode = target.stat().st_mode
    except OSError as error:
        reason = system_words(error)
        raise MediumError(f"{given}: {reason}: name an image file, a device or a specimen folder") from error
    if not (stat.S_ISREG(mode) or stat.S_ISBLK(mode)):
        raise MediumError(f"{given}: neither an image file nor a block device")
    found = find_container(target) if stat.S_ISREG(mode) else None
    medium = found or RawMedium(target, sector or SECTOR_SIZES[0])
    problem = _not_a_medium(medium)
    if problem:
        medium.close()
        raise MediumError(f"{given}: {problem}")
    faults = read_faults(target)
    if faults is not None:
        medium.unreadable = RangeSet(faults.unreadable)
        if isinstance(medium, RawMedium):
            medium.faults = faults
    if sector is None:
        settle_sector(medium)
    return medium


def _not_a_medium(medium: Medium) -> str:
    if medium.size == 0:
        return "empty: an image holds at least one sector"
    head = medium.read(0, 4096)
    if not head.translate(None, _TEXT):
        return "a text file, not an image of a medium"
    if medium.size % medium.sector:
        return (
            f"{medium.size:,} bytes are no whole number of {medium.sector}-byte sectors: "
            "not an image of a medium, or cut short"
        )
    return ""
