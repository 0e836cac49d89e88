"""Ogg sound (Vorbis and others). Source: RFC 3533; Vorbis I specification."""

from __future__ import annotations

from sastrugi.kinds._ogg_pages import MARK, Pages, measure_pages
from sastrugi.kinds._video import check_clip, make_sound
from sastrugi.kinds.base import Kind, Measure, Proof, Signature, Source
from sastrugi.scenario.dice import Dice


def measure(source: Source, deep: bool = False) -> Measure | None:
    return measure_pages(source)


def make(dice: Dice, size: int) -> bytes:
    return make_sound(dice, size, "ogg", "flac", 600_000, lossless=True)


KIND = Kind(
    "ogg", "Ogg sound", "sound", ("ogg", "oga"), "audio/ogg", "pages with checksums up to the last", Proof.CHECKSUM,
    measure, (Signature(MARK + b"\0"),), framed=True, follow=Pages, make=make, check=check_clip,
)  # fmt: skip
