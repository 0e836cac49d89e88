"""M4A sound. Source: ISO/IEC 14496-12 (ISO base media file format)."""

from __future__ import annotations

from sastrugi.kinds._video import check_clip, make_sound
from sastrugi.kinds.base import Holds, Kind, Proof
from sastrugi.scenario.dice import Dice


def make(dice: Dice, size: int) -> bytes:
    return make_sound(dice, size, "ipod", "aac", 256_000)


KIND = Kind(
    "m4a",
    "M4A sound",
    "sound",
    ("m4a",),
    "audio/mp4",
    "as mp4",
    Proof.STRUCTURE,
    refines="mp4",
    holds=Holds.PICTURES,
    make=make,
    check=check_clip,
)
