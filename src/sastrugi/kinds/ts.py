"""MPEG transport streams: packets of 188 bytes, each with its sync byte. Source: ISO/IEC 13818-1, 2.4.3."""

from __future__ import annotations

import numpy as np

from sastrugi.kinds._video import check_clip, make_clip
from sastrugi.kinds.base import Kind, Measure, Proof, Signature, Source
from sastrugi.scenario.dice import Dice

_PACKET, _SYNC = 188, 0x47
_FEWEST = 8
_BLOCK = _PACKET * 4096


def measure(source: Source, deep: bool = False) -> Measure | None:
    packets = 0
    for _, block in source.blocks(0, size=_BLOCK):
        heads = np.frombuffer(block, "u1", len(block) // _PACKET * _PACKET).reshape(-1, _PACKET)
        # A sync byte, no transport error, and an adaptation field control that is not the reserved value.
        good = (heads[:, 0] == _SYNC) & (heads[:, 1] < 0x80) & ((heads[:, 3] & 0x30) != 0)
        wrong = np.flatnonzero(~good)
        packets += int(wrong[0]) if len(wrong) else len(heads)
        if len(wrong) or len(block) < _BLOCK:
            break
    if packets < _FEWEST:
        return None
    rule = f"{packets:,} packets with their sync bytes; nothing in a stream tells its end"
    return Measure("ts", packets * _PACKET, True, Proof.GUESS, rule)


def make(dice: Dice, size: int) -> bytes:
    return make_clip(dice, size, "mpegts", "mpeg2video")


KIND = Kind(
    "ts", "MPEG transport stream", "video", ("ts", "mts"), "video/mp2t", "as long as sync bytes follow (a guess)",
    Proof.GUESS, measure, (Signature(b"G@\x00"), Signature(b"G@\x11")), framed=True, make=make, check=check_clip,
)  # fmt: skip
