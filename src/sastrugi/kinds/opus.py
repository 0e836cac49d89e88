"""Opus sound in Ogg pages. Source: RFC 7845."""

from __future__ import annotations

from sastrugi.kinds._video import check_clip, make_sound
from sastrugi.kinds.base import Kind, Proof
from sastrugi.scenario.dice import Dice


def make(dice: Dice, size: int) -> bytes:
    return make_sound(dice, size, "opus", "libopus", 256_000)


KIND = Kind(
    "opus", "Opus sound", "sound", ("opus",), "audio/opus", "as ogg", Proof.CHECKSUM, refines="ogg", make=make,
    check=check_clip,
)  # fmt: skip
