"""MPEG program streams: packs and packets up to the end code. Source: ISO/IEC 13818-1, 2.5 (and 11172-1)."""

from __future__ import annotations

from sastrugi.kinds._video import check_clip, make_clip
from sastrugi.kinds.base import Holds, Kind, Measure, Proof, Signature, Source, broken
from sastrugi.kinds.following import UnitFollower
from sastrugi.scenario.dice import Dice

_PACK = b"\x00\x00\x01\xba"
_END = 0xB9
_FEWEST = 4


def measure(source: Source, deep: bool = False) -> Measure | None:
    if source.read(0, 4) != _PACK:
        return None
    at = count = 0
    while True:
        head = source.read(at, 14)
        if len(head) < 4 or head[:3] != b"\x00\x00\x01" or head[3] < _END:
            break
        if head[3] == _END:
            return Measure("mpg", at + 4, True, Proof.STRUCTURE, f"{count:,} packets up to the end code")
        length = _length(head)
        if at + length > source.size:
            return broken("mpg", at, "a packet reaches beyond the end")
        at, count = at + length, count + 1
    if count < _FEWEST:
        return None
    if len(head) >= 4 and head.strip(b"\0"):
        return broken("mpg", at, f"no packet follows after {count:,}")
    return Measure("mpg", at, True, Proof.GUESS, f"{count:,} packets; nothing more tells the end: no end code follows")


class _Packets(UnitFollower):
    """Packs and packets: each says where the next one begins."""

    cost = 2.0

    def _may_begin(self, data: bytes, at: int) -> bool:
        return data[at : at + 3] == b"\0\0\1"

    def _unit(self, kept: bytes, at: int) -> int:
        if len(kept) < 14:
            if kept[:4] == b"\0\0\1" + bytes([_END]):
                self.end = at + 4
            return 0
        if kept[:3] != b"\0\0\1" or kept[3] < _END:
            self.wrong = at + 4
            return 0
        self._passed(at + 4, 24.0)
        if kept[3] == _END:
            self.end = at + 4
            return 0
        return _length(kept[:14])


def _length(head: bytes) -> int:
    """Bytes of the pack header or packet that begins so."""
    if head[3] == _PACK[3] and len(head) == 14:
        return 14 + (head[13] & 7) if head[4] >> 6 == 1 else 12
    return 6 + int.from_bytes(head[4:6], "big")


def make(dice: Dice, size: int) -> bytes:
    return make_clip(dice, size, "vob", "mpeg2video") + b"\x00\x00\x01\xb9"


KIND = Kind(
    "mpg", "MPEG program stream", "video", ("mpg", "mpeg", "vob"), "video/mpeg", "packets up to the end code",
    Proof.STRUCTURE, measure, (Signature(_PACK),), framed=True, holds=Holds.PICTURES, follow=_Packets,
    make=make, check=check_clip,
)  # fmt: skip
