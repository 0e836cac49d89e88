"""3GP video. Source: ISO/IEC 14496-12 (ISO base media file format); 3GPP TS 26.244."""

from __future__ import annotations

from sastrugi.kinds._video import check_clip, make_clip
from sastrugi.kinds.base import Holds, Kind, Proof
from sastrugi.scenario.dice import Dice


def make(dice: Dice, size: int) -> bytes:
    return make_clip(dice, size, "3gp", "mpeg4")


KIND = Kind(
    "3gp",
    "3GP video",
    "video",
    ("3gp",),
    "video/3gpp",
    "as mp4",
    Proof.STRUCTURE,
    refines="mp4",
    holds=Holds.PICTURES,
    make=make,
    check=check_clip,
)
