"""The modified time of a result against its reference's, within what the file system can keep."""

from __future__ import annotations

import datetime as dt
from typing import Literal

from sastrugi.volumes.registry import time_grain

TimeWord = Literal["same", "zone", "differs", "untold"]
_HOUR, _WIDEST, _TICK = 3600.0, 14, 1e-4


def compare_times(found: dt.datetime | None, wanted: dt.datetime | None, file_system: str) -> TimeWord:
    """`same` within the grain; `zone` a whole number of hours off, as clocks of other zones; `untold` where one
    of them is not known."""
    if found is None or wanted is None:
        return "untold"
    if found.tzinfo is wanted.tzinfo and found == wanted:
        return "same"  # as nearly all: asking for the zone of this place takes long
    off = abs((_as_here(found) - _as_here(wanted)).total_seconds())
    grain = time_grain(file_system)
    near = max(grain - _TICK, grain / 2)
    if off < near:
        return "same"
    hours = round(off / _HOUR)
    if 0 < hours <= _WIDEST and abs(off - hours * _HOUR) < near:
        return "zone"
    return "differs"


def _as_here(moment: dt.datetime) -> dt.datetime:
    """Local time without a zone: as cameras keep it, and as results have it."""
    return moment.astimezone().replace(tzinfo=None) if moment.tzinfo else moment
