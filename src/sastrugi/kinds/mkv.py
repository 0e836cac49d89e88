"""Matroska video. Source: RFC 9559."""

from __future__ import annotations

from sastrugi.kinds._ebml import HEADER, Elements, measure_ebml
from sastrugi.kinds._video import check_clip, make_clip
from sastrugi.kinds.base import Holds, Kind, Measure, Proof, Signature, Source
from sastrugi.scenario.dice import Dice


def measure(source: Source, deep: bool = False) -> Measure | None:
    return measure_ebml(source)


def make(dice: Dice, size: int) -> bytes:
    return make_clip(dice, size, "matroska", "mpeg4")


KIND = Kind(
    "mkv", "Matroska video", "video", ("mkv", "mka"), "video/x-matroska", "elements meet the segment's length",
    Proof.STRUCTURE, measure, (Signature(HEADER),), holds=Holds.PICTURES, follow=Elements, make=make, check=check_clip,
)  # fmt: skip
