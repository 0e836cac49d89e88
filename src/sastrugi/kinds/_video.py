"""Sound and moving pictures through FFmpeg (PyAV): making clips of a wanted size, and decoding them to their end."""

from __future__ import annotations

import tempfile
from collections.abc import Mapping
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np

from sastrugi.scenario.dice import Dice

_FRAMES, _FRAMES_PER_SECOND = 24, 12
_SMALL = 100_000
_RATE = 48000
_SOUND_CHUNK = 1 << 16
_TOLERANCE = 0.05


def make_clip(
    dice: Dice, size: int, container_format: str, codec: str, options: Mapping[str, str] | None = None
) -> bytes:
    """A clip of drifting snow near `size` bytes: one thread, no time stamps, so that the bytes repeat."""
    import av

    width, height = (352, 288) if size > _SMALL else (128, 96)
    seconds = max(_FRAMES // _FRAMES_PER_SECOND, min(size // 2_000_000, 60))
    scene = [np.asarray(picture) for picture in dice.fork("scene").pictures(width, height, _FRAMES)]
    rate = max(min(size * 8 // seconds, 40_000_000), 40_000)
    fps = 25 if codec.startswith("mpeg") and codec != "mpeg4" else _FRAMES_PER_SECOND
    with tempfile.TemporaryDirectory() as folder:  # some containers are gone over again at the end
        path = Path(folder) / "clip"
        settings = {"fflags": "+bitexact", **(options or {})}
        with av.open(str(path), "w", format=container_format, options=settings) as container:
            stream: Any = container.add_stream(codec, rate=fps)
            stream.height, stream.width, stream.pix_fmt = height, width, "yuv420p"
            stream.bit_rate = rate
            stream.codec_context.thread_count = 1
            stream.codec_context.options = {"flags": "+bitexact", "idct": "simple", "dct": "int", "cpu-used": "8"}
            stream.codec_context.time_base = Fraction(1, fps)
            for n in range(seconds * fps):
                frame = av.VideoFrame.from_ndarray(scene[n % _FRAMES], format="rgb24")
                container.mux(stream.encode(frame))
            container.mux(stream.encode(None))
        return path.read_bytes()


def make_sound(
    dice: Dice, size: int, container_format: str, codec: str, bit_rate: int, options: Mapping[str, str] | None = None,
    titled: bool = True, lossless: bool = False, varying: bool = False,
) -> bytes:  # fmt: skip
    """Wind and a ringing mast, near `size` bytes at `bit_rate` bits a second."""
    import av

    frames = max(size * 8 * _RATE // bit_rate, 4800)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "sound"
        settings = {"fflags": "+bitexact", **(options or {})}
        with av.open(str(path), "w", format=container_format, options=settings) as container:
            if titled:
                container.metadata["title"] = dice.caption()
            stream: Any = container.add_stream(codec, rate=_RATE, layout="mono")
            if not lossless:
                stream.bit_rate = bit_rate
            stream.codec_context.thread_count = 1
            quality = {"flags": "+bitexact+qscale", "global_quality": "0"} if varying else {"flags": "+bitexact"}
            stream.codec_context.options = {**quality, "strict": "experimental"}
            for at in range(0, frames, _SOUND_CHUNK):
                samples = dice.sound(min(_SOUND_CHUNK, frames - at), 1, _RATE)
                frame = av.AudioFrame.from_ndarray(np.ascontiguousarray(samples.T), format="s16", layout="mono")
                frame.rate, frame.pts = _RATE, at
                container.mux(stream.encode(frame))
            container.mux(stream.encode(None))
        return path.read_bytes()


def check_clip(path: Path) -> None:
    """Decode every frame; raises what FFmpeg raises, or ValueError if nothing can be decoded or much is missing."""
    import av

    with av.open(str(path), options={"err_detect": "explode"}) as container:
        streams = [stream for stream in container.streams if stream.type in ("video", "audio")]
        if not streams:
            raise ValueError("holds neither pictures nor sound")
        decoded = 0
        reached = 0.0
        for packet in container.demux(streams):
            for frame in packet.decode():
                decoded += 1
                reached = max(reached, _end_of(frame, packet.stream))
        if not decoded:
            raise ValueError("not one frame can be decoded")
        announced = (container.duration or 0) / av.time_base
        if reached < announced * 0.95 - _TOLERANCE:
            raise ValueError(f"{reached:.1f} of {announced:.1f} seconds can be decoded")


def _end_of(frame: Any, stream: Any) -> float:
    """The second at which a decoded frame ends."""
    begins = getattr(frame, "time", None) or 0.0
    if stream.type == "audio":
        return float(begins + frame.samples / frame.sample_rate)
    return float(begins + (1 / stream.average_rate if stream.average_rate else 0))
