"""WebM video: Matroska with few codecs. Source: RFC 9559, and the WebM container guidelines."""

from __future__ import annotations

from sastrugi.kinds._video import check_clip, make_clip
from sastrugi.kinds.base import Holds, Kind, Proof
from sastrugi.scenario.dice import Dice


def make(dice: Dice, size: int) -> bytes:
    return make_clip(dice, size, "webm", "libvpx")


KIND = Kind(
    "webm", "WebM video", "video", ("webm",), "video/webm", "as mkv", Proof.STRUCTURE, refines="mkv",
    holds=Holds.PICTURES, make=make, check=check_clip,
)  # fmt: skip
