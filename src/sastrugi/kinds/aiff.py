"""AIFF sound in big-endian chunks. Source: Apple, Audio Interchange File Format 1.3."""

from __future__ import annotations

from sastrugi.kinds._video import check_clip, make_sound
from sastrugi.kinds.base import Kind, Measure, Proof, Signature, Source, broken
from sastrugi.scenario.dice import Dice


def measure(source: Source, deep: bool = False) -> Measure | None:
    head = source.read(0, 12)
    if head[:4] != b"FORM" or head[8:] not in (b"AIFF", b"AIFC"):
        return None
    end = 8 + int.from_bytes(head[4:8], "big")
    at, names = 12, set[bytes]()
    while at + 8 <= end:
        chunk = source.read(at, 8)
        length = int.from_bytes(chunk[4:], "big")
        if len(chunk) < 8 or not all(32 <= byte < 127 for byte in chunk[:4]) or at + 8 + length > end:
            return broken("aiff", min(at, source.size), f"after {len(names)} sorts of chunks no valid one follows")
        names.add(chunk[:4])
        at += 8 + length + (length & 1)
    if not {b"COMM", b"SSND"} <= names or end > source.size:
        return broken(
            "aiff", min(end, source.size), "a chunk that must be there is missing, or it reaches beyond the end"
        )
    return Measure("aiff", end, True, Proof.STRUCTURE, f"{len(names)} sorts of chunks meet the length in the header")


def make(dice: Dice, size: int) -> bytes:
    return make_sound(dice, size, "aiff", "pcm_s16be", 768_000, lossless=True)


KIND = Kind(
    "aiff", "AIFF sound", "sound", ("aiff", "aif", "aifc"), "audio/aiff", "FORM length, chunks must meet it",
    Proof.STRUCTURE, measure, (Signature(b"AIFF", 8), Signature(b"AIFC", 8)), make=make, check=check_clip,
)  # fmt: skip
