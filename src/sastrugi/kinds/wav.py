"""WAV sound in RIFF chunks. Source: Microsoft/IBM, Multimedia Programming Interface 1.0, chapter 3."""

from __future__ import annotations

import io
import wave
from pathlib import Path

from sastrugi.kinds._riff import measure_riff
from sastrugi.kinds.base import Kind, Measure, Proof, Signature, Source
from sastrugi.scenario.dice import Dice

_RATE = 16000


def measure(source: Source, deep: bool = False) -> Measure | None:
    return measure_riff(source, b"WAVE", "wav", frozenset({b"fmt ", b"data"}))


def make(dice: Dice, size: int) -> bytes:
    channels = dice.pick((1, 1, 2, 4))
    frames = max((size - 44) // (2 * channels), 16)
    out = io.BytesIO()
    with wave.open(out, "wb") as sound:
        sound.setnchannels(channels)
        sound.setsampwidth(2)
        sound.setframerate(_RATE)
        sound.writeframes(dice.sound(frames, channels, _RATE).tobytes())
    data = out.getvalue()
    return _with_broadcast_chunk(data, dice) if dice.chance(0.4) else data


def _with_broadcast_chunk(data: bytes, dice: Dice) -> bytes:
    """The same sound with a `bext` chunk behind `fmt `. Source: EBU Tech 3285."""
    moment = dice.moment()
    text = dice.caption().encode("ascii", "replace")[:255].ljust(256, b"\0") + b"Firnline".ljust(64, b"\0")
    body = (text + f"{moment:%Y-%m-%d%H:%M:%S}".encode()).ljust(602, b"\0")
    chunk = b"bext" + len(body).to_bytes(4, "little") + body
    return b"RIFF" + (len(data) + len(chunk) - 8).to_bytes(4, "little") + data[8:36] + chunk + data[36:]


def check(path: Path) -> None:
    with wave.open(str(path), "rb") as sound:
        left = sound.getnframes()
        while left > 0:
            data = sound.readframes(min(left, 1 << 16))
            if not data:
                raise ValueError(f"{left} frames of sound are missing")
            left -= len(data) // (sound.getnchannels() * sound.getsampwidth())


KIND = Kind(
    "wav", "WAV sound", "sound", ("wav",), "audio/wav", "RIFF length, chunks must meet it", Proof.STRUCTURE, measure,
    (Signature(b"WAVE", 8),), make=make, check=check,
)  # fmt: skip
