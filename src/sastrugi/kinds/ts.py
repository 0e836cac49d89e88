"""MPEG transport streams: packets of 188 bytes, each with its sync byte. Source: ISO/IEC 13818-1, 2.4.3."""

from __future__ import annotations

from collections.abc import Mapping
from types import MappingProxyType

import numpy as np
from numpy.typing import NDArray

from sastrugi.kinds._video import check_clip, make_clip
from sastrugi.kinds.base import Kind, Measure, Proof, Signature, Source
from sastrugi.kinds.following import UnitFollower
from sastrugi.scenario.dice import Dice

_PACKET, _SYNC = 188, 0x47
_FEWEST = 8
_BLOCK = _PACKET * 4096
_NULL = 0x1FFF
_PACKET_BITS = 9.0
"""Of a sync byte, and a counter that goes on."""


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


def inside(rows: NDArray[np.uint8]) -> NDArray[np.bool_]:
    """Rows of bytes, shape (rows, bytes), in which sync bytes stand as far apart as packets are long."""
    packets = rows.shape[1] // _PACKET
    if packets < 2:
        return np.zeros(len(rows), bool)
    sync = (rows[:, : packets * _PACKET] == _SYNC).reshape(len(rows), packets, _PACKET)
    out: NDArray[np.bool_] = sync.all(axis=1).any(axis=1)
    return out


class _Packets(UnitFollower):
    """Packets by their sync bytes, and by the counters of each stream."""

    cost = 4.0
    _counters: Mapping[int, int] = MappingProxyType({})

    def could_go_on(self, data: bytes) -> bool:
        at = -len(self._kept) % _PACKET
        return data[at] == _SYNC if at < len(data) else True

    def _unit(self, kept: bytes, at: int) -> int:
        heads = np.frombuffer(kept, np.uint8, len(kept) // _PACKET * _PACKET).reshape(-1, _PACKET)[:, :4]
        if not len(heads):
            return 0
        good = (heads[:, 0] == _SYNC) & (heads[:, 1] < 0x80) & ((heads[:, 3] & 0x30) != 0)
        count = int(np.argmin(good)) if not good.all() else len(heads)
        streams = ((heads[:count, 1] & 0x1F).astype(int) << 8 | heads[:count, 2]).tolist()
        counters = dict(self._counters)
        for n, (stream, told) in enumerate(zip(streams, heads[:count, 3].tolist(), strict=True)):
            before = counters.get(stream)
            if before is not None and (told - before) & 0xF > 1 and stream != _NULL:
                count = n
                break
            counters[stream] = told & 0xF
        self._counters = counters
        if count:
            self._passed(at + (count - 1) * _PACKET + 4, _PACKET_BITS * count, _PACKET)
        if count < len(heads):
            self.wrong = at + count * _PACKET + 4
            return 0
        return count * _PACKET


def make(dice: Dice, size: int) -> bytes:
    return make_clip(dice, size, "mpegts", "mpeg2video")


KIND = Kind(
    "ts", "MPEG transport stream", "video", ("ts", "mts"), "video/mp2t", "as long as sync bytes follow (a guess)",
    Proof.GUESS, measure, (Signature(b"G@\x00"), Signature(b"G@\x11")), framed=True, inside=inside, follow=_Packets,
    make=make, check=check_clip,
)  # fmt: skip
