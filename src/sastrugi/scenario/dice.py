"""Everything random comes from here: one seed, named forks, and the same bytes on every machine and any day.

Text draws on `random.Random` and arrays on NumPy's frozen `RandomState`, whose streams are promised not to change;
pictures and sound use only additions, multiplications and shifts, which give the same result on every processor.
"""

from __future__ import annotations

import datetime as dt
import hashlib
import random
from collections.abc import Sequence
from functools import cached_property
from typing import TYPE_CHECKING, TypeVar

import numpy as np
from numpy.typing import NDArray

from sastrugi.scenario import season

if TYPE_CHECKING:
    from PIL.Image import Image

T = TypeVar("T")
_NOISE_BLOCK = 1 << 20
_BAND = 64
_RELIEF_STEP = 6
_SOUND_BLOCK = 1 << 20
SEASON_START = dt.datetime(2031, 1, 12, 6, 0)


class Dice:
    """A source of made-up things. Two dice of the same seed text give the same things in the same order."""

    def __init__(self, seed: str) -> None:
        self.seed = seed
        digest = hashlib.sha256(seed.encode()).digest()
        self._words = random.Random(int.from_bytes(digest[:16], "big"))
        self._array_seed = np.frombuffer(digest[16:], "<u4")

    @cached_property
    def _arrays(self) -> np.random.RandomState:
        return np.random.RandomState(self._array_seed)

    def fork(self, name: str) -> Dice:
        """Dice of their own for a part, so that parts do not depend on the order they are made in."""
        return Dice(f"{self.seed}/{name}")

    def number(self, low: int, high: int) -> int:
        """A whole number from low to high, both included."""
        return low + int(self._words.random() * (high - low + 1))

    def chance(self, share: float) -> bool:
        return self._words.random() < share

    def pick(self, choices: Sequence[T]) -> T:
        return choices[self.number(0, len(choices) - 1)]

    def spread(self, low: int, high: int) -> int:
        """A size between low and high, small ones more often (even on a logarithmic scale)."""
        return min(max(int(low * (high / low) ** self._words.random()), low), high) if low else self.number(low, high)

    def shuffled(self, items: Sequence[T]) -> list[T]:
        keyed = [(self._words.random(), n) for n in range(len(items))]
        return [items[n] for _, n in sorted(keyed)]

    # -- words ------------------------------------------------------------------------------

    def word(self) -> str:
        return self.pick(season.WORDS)

    def person(self) -> str:
        return self.pick(season.PEOPLE)

    def moment(self) -> dt.datetime:
        """A moment of the season, in whole minutes."""
        return SEASON_START + dt.timedelta(minutes=self.number(0, 60 * 24 * 60))

    def caption(self) -> str:
        return f"{self.pick(season.THEMES)}, {self.pick(season.PLACES)}"

    def sentence(self) -> str:
        text = f"{self.pick(season.SUBJECTS)} {self.pick(season.VERBS)}"
        while "{n}" in text:
            text = text.replace("{n}", str(self.number(2, 90)), 1)
        return text[0].upper() + text[1:] + "."

    def log_text(self, size: int) -> str:
        """A station log of exactly `size` bytes in UTF-8 (ASCII padding brings it there)."""
        parts: list[str] = []
        have = 0
        while have < size:
            moment = self.moment()
            weather = self.pick(season.WEATHER).replace("{n}", str(self.number(5, 400)))
            body = " ".join(self.sentence() for _ in range(self.number(2, 5)))
            entry = f"{moment:%Y-%m-%d %H:%M} {self.pick(season.PLACES)}, {self.person()}\n{weather} {body}\n\n"
            parts.append(entry)
            have += len(entry.encode())
        raw = "".join(parts).encode()[:size]
        text = raw.decode("utf-8", "ignore")
        return text + "." * (size - len(text.encode()))

    # -- arrays -----------------------------------------------------------------------------

    def noise(self, size: int) -> bytes:
        """Bytes without any pattern."""
        return b"".join(self._arrays.bytes(min(_NOISE_BLOCK, size - at)) for at in range(0, size, _NOISE_BLOCK))

    def _field(self, height: int, width: int, steps: int) -> NDArray[np.float32]:
        """Smooth noise of shape (height, width) between 0 and 1: a coarse grid, drawn out linearly."""
        rows, columns = min(steps, height) + 1, min(steps * 4 // 3, width) + 1
        return _drawn_out(self._arrays.random_sample((rows, columns)).astype(np.float32), height, width)

    def pictures(self, width: int, height: int, count: int = 1) -> list[Image]:
        """Views over a snow field: sky, a ridge, wind-shaped snow, grain. From one view to the next the drift moves."""
        from PIL import Image

        coarse = height // _RELIEF_STEP + 2, width // _RELIEF_STEP + 2
        octaves = sum((self._field(*coarse, 3 * 2**n) / 2**n for n in range(5)), np.zeros(coarse, np.float32)) / 2
        relief = _drawn_out(octaves.astype(np.float32), height, width)
        ridge = (self._field(1, width, 12) * 0.25 + 0.2) * height
        tint = self.number(-12, 12)
        grain = np.frombuffer(self._arrays.bytes(width * height), np.int8).reshape(height, width)
        colours = (tint - 6, -35), (0, -5), (8 - tint, 30)
        out = []
        for n in range(count):
            shades = np.empty((height, width, 3), np.uint8)
            for top in range(0, height, _BAND):  # in bands, so that large pictures need little memory
                band = slice(top, min(top + _BAND, height))
                row = np.arange(band.start, band.stop, dtype=np.float32)[:, None]
                below = row > ridge
                drift = np.roll(relief[band], n * width // count, axis=1) if n else relief[band]
                snow = (row - ridge) * np.float32(9 / height) + drift * 6
                snow -= np.floor(snow)
                snow -= 0.5
                np.abs(snow, out=snow)
                snow *= 160
                snow += drift * 20
                snow += 150
                sky = row * np.float32(70 / height) + drift * 25 + 120
                np.copyto(snow, sky, where=~below)
                base = (snow + (grain[band] >> 4)).astype(np.int16)
                for channel, (ground, air) in enumerate(colours):
                    lit = base + (below * np.int16(ground - air) + np.int16(air))
                    np.clip(lit, 0, 255, out=shades[band, :, channel], casting="unsafe")
            out.append(Image.fromarray(shades))
        return out

    def picture(self, width: int, height: int) -> Image:
        return self.pictures(width, height)[0]

    def sound(self, frames: int, channels: int, rate: int) -> NDArray[np.int16]:
        """Wind with a ringing mast: shape (frames, channels), 16-bit samples."""
        blocks = [
            self._sound_block(min(_SOUND_BLOCK, frames - at), channels, rate) for at in range(0, frames, _SOUND_BLOCK)
        ]
        return blocks[0] if len(blocks) == 1 else np.concatenate(blocks)

    def _sound_block(self, frames: int, channels: int, rate: int) -> NDArray[np.int16]:
        out = np.empty((frames, channels), "<i2")
        gusts = self._field(1, frames, max(frames // rate * 2, 4))[0].astype(np.float64)
        for channel in range(channels):
            hiss = self._arrays.randint(-6000, 6001, frames)
            wind = (hiss + np.roll(hiss, 1) + np.roll(hiss, 2)) // 3
            step = self.number(180, 900) * 65536 // rate
            phase = (np.arange(frames, dtype=np.int64) * step) % 65536 - 32768
            ring = phase * (32768 - np.abs(phase)) // 32768  # a parabola stands in for the sine
            out[:, channel] = (wind * gusts + ring * 0.4 * gusts).astype(np.int16)
        return out


def _drawn_out(grid: NDArray[np.float32], height: int, width: int) -> NDArray[np.float32]:
    """A coarse grid enlarged to (height, width), linearly between its points."""
    y = np.arange(height) * ((grid.shape[0] - 1) / height)
    x = np.arange(width) * ((grid.shape[1] - 1) / width)
    top, left = np.minimum(y.astype(int), grid.shape[0] - 2), np.minimum(x.astype(int), grid.shape[1] - 2)
    fy, fx = (y - top).astype(np.float32)[:, None], (x - left).astype(np.float32)[None, :]
    wide = grid[:, left] + (grid[:, left + 1] - grid[:, left]) * fx
    steps, drawn = np.diff(wide, axis=0), np.empty((height, width), np.float32)
    for at in range(0, height, _BAND):
        band = slice(at, at + _BAND)
        np.multiply(steps[top[band]], fy[band], out=drawn[band])
        drawn[band] += wide[top[band]]
    return drawn
