"""MP4 video. Source: ISO/IEC 14496-12 and -14."""

from __future__ import annotations

from sastrugi.kinds._iso_boxes import BOX, measure_boxes
from sastrugi.kinds._iso_following import Boxes
from sastrugi.kinds._video import check_clip, make_clip
from sastrugi.kinds.base import Holds, Kind, Measure, Proof, Signature, Source
from sastrugi.scenario.dice import Dice


def measure(source: Source, deep: bool = False) -> Measure | None:
    return measure_boxes(source, deep)


def make(dice: Dice, size: int) -> bytes:
    """A clip whose index stands first or last, as the dice say; a `free` box of readings brings it to its size."""
    index_first = {"movflags": "+faststart"} if dice.chance(0.5) else None
    data = make_clip(dice, size, "mp4", "mpeg4", index_first)
    padding = size - len(data)
    return data + BOX.pack(padding, b"free") + dice.noise(padding - 8) if padding >= 8 else data


KIND = Kind(
    "mp4", "MP4 video", "video", ("mp4", "m4v"), "video/mp4", "boxes one after the other", Proof.STRUCTURE, measure,
    (Signature(b"ftyp", 4), Signature(b"\0\0\0\x08wide"), Signature(b"moov", 4), Signature(b"mdat", 4)),
    holds=Holds.PICTURES, follow=Boxes, make=make, check=check_clip,
)  # fmt: skip
