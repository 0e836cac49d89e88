"""MP3: an optional ID3 tag, then frames whose headers tell their lengths. Source: ISO/IEC 11172-3, 2.4; ID3v2.4."""

from __future__ import annotations

from sastrugi.kinds._video import check_clip, make_sound
from sastrugi.kinds.base import BytesSource, Kind, Measure, Proof, Signature, Source, broken
from sastrugi.kinds.following import UnitFollower
from sastrugi.scenario.dice import Dice

_BITRATES = {  # kbit/s by (MPEG 1?, layer)
    (True, 1): (0, 32, 64, 96, 128, 160, 192, 224, 256, 288, 320, 352, 384, 416, 448),
    (True, 2): (0, 32, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320, 384),
    (True, 3): (0, 32, 40, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320),
    (False, 1): (0, 32, 48, 56, 64, 80, 96, 112, 128, 144, 160, 176, 192, 224, 256),
    (False, 2): (0, 8, 16, 24, 32, 40, 48, 56, 64, 80, 96, 112, 128, 144, 160),
    (False, 3): (0, 8, 16, 24, 32, 40, 48, 56, 64, 80, 96, 112, 128, 144, 160),
}
_RATES = {3: (44100, 48000, 32000), 2: (22050, 24000, 16000), 0: (11025, 12000, 8000)}
_FEWEST = 4
_WINDOW = 1 << 16


def _frame_length(head: bytes) -> tuple[int, int] | None:
    """Length of the frame, and what must be the same in all frames of a file (version, layer, sample rate)."""
    if len(head) < 4 or head[0] != 0xFF or head[1] < 0xE0:
        return None
    version, layer = head[1] >> 3 & 3, 4 - (head[1] >> 1 & 3)
    bitrate, rate = head[2] >> 4, head[2] >> 2 & 3
    if version == 1 or layer == 4 or bitrate in (0, 15) or rate == 3 or head[3] & 3 == 2:
        return None
    bits = _BITRATES[version == 3, layer][bitrate] * 1000
    hertz = _RATES[version][rate]
    padding = head[2] >> 1 & 1
    if layer == 1:
        length = (12 * bits // hertz + padding) * 4
    else:
        length = (72 if layer == 3 and version != 3 else 144) * bits // hertz + padding
    return length, version << 4 | layer << 2 | rate


def measure(source: Source, deep: bool = False) -> Measure | None:
    at = _behind_tag(source)
    if at is None:
        return None
    start, count, same = at, 0, -1
    window, base = b"", 0
    while True:
        if at + 4 > base + len(window) or at < base:
            window, base = source.read(at, _WINDOW), at
        frame = _frame_length(window[at - base : at - base + 4])
        if frame is None or (count and frame[1] != same):
            break
        if at + frame[0] > source.size:
            return broken("mp3", at, "its last frame reaches beyond the end") if count >= _FEWEST else None
        same = frame[1]
        at, count = at + frame[0], count + 1
    if count < _FEWEST:
        return None
    declared = _declared_frames(source, start)
    at = _tail_tags(source, at)
    if declared and declared not in (count, count - 1):
        if count < declared:
            return broken("mp3", at, f"{count:,} of the {declared:,} frames its first one announces")
        return Measure("mp3", at, True, Proof.GUESS, f"{count:,} frames, more than announced: nothing tells the end")
    rule = f"{count:,} frames" + (", as many as the first announces" if declared else "; nothing more tells the end")
    return Measure("mp3", at, True, Proof.STRUCTURE if declared else Proof.GUESS, rule)


def _behind_tag(source: Source) -> int | None:
    """The position behind an ID3v2 tag, if there is one; None if its padding does not end."""
    at = _tag_length(source.read(0, 10))
    while at and source.read(at, 1) == b"\0" and at < source.size:  # padding that the tag does not count
        at += 1
        if at > _WINDOW:
            return None
    return at


def _tag_length(head: bytes) -> int:
    """Bytes of the ID3v2 tag that begins with these; 0 if none does."""
    if head[:3] != b"ID3" or len(head) < 10 or max(head[6:10]) >= 0x80:
        return 0
    return 10 + (head[6] << 21 | head[7] << 14 | head[8] << 7 | head[9]) + (10 if head[5] & 0x10 else 0)


def _declared_frames(source: Source, start: int) -> int:
    """The number of frames in a Xing or Info header, 0 if there is none."""
    first = source.read(start, 200)
    for mark in (b"Xing", b"Info"):
        at = first.find(mark)
        if at >= 0 and len(first) >= at + 12 and first[at + 7] & 1:
            return int.from_bytes(first[at + 8 : at + 12], "big")
    return 0


def _tail_tags(source: Source, at: int) -> int:
    """The position behind APE and ID3v1 tags, if any follow."""
    ape = source.read(at, 32)
    if ape[:8] == b"APETAGEX" and len(ape) == 32:
        at += 32 + int.from_bytes(ape[12:16], "little")
    return at + 128 if source.read(at, 3) == b"TAG" and at + 128 <= source.size else at


class _Frames(UnitFollower):
    """A tag, then frames: each header says where the next one stands."""

    packed = True
    cost = 3.0
    _same = -1
    _in_frames = False
    _count = _declared = 0

    def _may_begin(self, data: bytes, at: int) -> bool:
        if not self._in_frames or (self._declared and self._count >= self._declared):
            return True
        return (data[at] == 0xFF and data[at + 1] >= 0xE0) or data[at] in b"TA"

    def _unit(self, kept: bytes, at: int) -> int:
        if not at and not self._in_frames:
            if len(kept) < 10:
                return 0
            tag = _tag_length(kept)
            if tag:
                return tag
        if not self._in_frames and at:
            padding = len(kept) - len(kept.lstrip(b"\0"))  # that the tag does not count
            if padding:
                return padding
        if len(kept) < 4:
            return 0
        self._in_frames = True
        frame = _frame_length(kept[:4])
        if frame is None or (self._same >= 0 and frame[1] != self._same):
            if self._declared and self._count in (self._declared, self._declared + 1):
                self.end = at + 128 if kept[:3] == b"TAG" else at
            elif kept[:3] == b"TAG" or kept[:4] == b"APET":
                return 1 << 40  # nothing behind it can be told
            else:
                self.wrong = at + 4
            return 0
        if not self._count:
            if len(kept) < min(frame[0], 200):
                return 0
            self._declared = _declared_frames(BytesSource(kept), 0)
        self._same, self._count = frame[1], self._count + 1
        self._passed(at + 4, 16.0)
        return frame[0]


def make(dice: Dice, size: int) -> bytes:
    """With an ID3 tag or without; of one bit rate, or of a changing one."""
    titled = dice.chance(0.6)
    options = {} if titled else {"id3v2_version": "0"}
    return make_sound(dice, size, "mp3", "libmp3lame", 320_000, options, titled=titled, varying=dice.chance(0.4))


KIND = Kind(
    "mp3", "MP3 sound", "sound", ("mp3",), "audio/mpeg", "frames, as many as the first announces", Proof.STRUCTURE,
    measure, (Signature(b"ID3"), *(Signature(bytes([0xFF, code])) for code in (0xFB, 0xFA, 0xF3, 0xF2, 0xE3))),
    framed=True, follow=_Frames, make=make, check=check_clip,
)  # fmt: skip
