"""OpenType fonts with compact outlines. Source: OpenType specification 1.9."""

from __future__ import annotations

from sastrugi.kinds.base import Kind, Proof
from sastrugi.kinds.ttf import build_font, check
from sastrugi.scenario.dice import Dice


def make(dice: Dice, size: int) -> bytes:
    return build_font(dice, size, "CFF")


KIND = Kind(
    "otf",
    "OpenType font",
    "program",
    ("otf",),
    "font/otf",
    "as ttf",
    Proof.CHECKSUM,
    refines="ttf",
    make=make,
    check=check,
)
