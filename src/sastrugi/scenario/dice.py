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

    # -- words --------------------------------------------------------------------------------------------------

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

    # -- arrays -------------------------------------------------------------------------------------------------

    def noise(self, size: int) -> bytes:
        """Bytes without any pattern."""
        return b"".join(
            self._arrays.bytes(min(_NOISE_BLOCK, size - at)) for at in range(0, size, _NOISE_BLOCK)
        )

    def _field(self, height: int, width: int, steps: int) -> NDArray[np.float64]:
        """Smooth noise of shape (height, width) between 0 and 1: a coarse grid, drawn out linearly."""
        rows, columns = min(steps, height) + 1, min(steps * 4 // 3, width) + 1
        grid = self._arrays.random_sample((rows, columns))
        y, x = np.arange(height) * ((rows - 1) / height), np.arange(width) * ((columns - 1) / width)
        top, left = y.astype(int), x.astype(int)
        fy, fx = (y - top)[:, None], (x - left)[None, :]
        upper = grid[top][:, left] * (1 - fx) + grid[top][:, left + 1] * fx
        lower = grid[top + 1][:, left] * (1 - fx) + grid[top + 1][:, left + 1] * fx
        mixed: NDArray[np.float64] = upper * (1 - fy) + lower * fy
        return mixed

    def picture(self, width: int, height: int, moment: float = 0.0) -> Image:
        """A view over a snow field: sky, a ridge, wind-shaped snow, grain. `moment` (0 to 1) moves the drift."""
        from PIL import Image

        relief = sum((self._field(height, width, 3 * 2**n) / 2**n for n in range(5)), np.zeros((height, width))) / 2
        shift = int(moment * width)
        relief = np.roll(relief, shift, axis=1)
        ridge = (self._field(1, width, 12)[0] * 0.25 + 0.2) * height
        below = np.arange(height)[:, None] > ridge[None, :]
        depth = np.clip((np.arange(height)[:, None] - ridge[None, :]) / height, 0, 1)
        waves = np.abs((relief * 6 + depth * 9) % 1 - 0.5) * 2
        snow = 150 + 80 * waves + 20 * relief
        sky = 120 + 70 * (np.arange(height)[:, None] / height) + 25 * relief
        grain = self._arrays.randint(-9, 10, (height, width))
        tint = self.number(-12, 12)
        base = np.where(below, snow, sky) + grain
        shades = [base + np.where(below, a, b) for a, b in ((tint - 6, -35), (0, -5), (8 - tint, 30))]
        return Image.fromarray(np.clip(np.stack(shades, axis=2), 0, 255).astype(np.uint8))

    def sound(self, frames: int, channels: int, rate: int) -> NDArray[np.int16]:
        """Wind with a ringing mast: shape (frames, channels), 16-bit samples."""
        out = np.empty((frames, channels), "<i2")
        gusts = self._field(1, frames, max(frames // rate * 2, 4))[0]
        for channel in range(channels):
            hiss = self._arrays.randint(-6000, 6001, frames)
            wind = (hiss + np.roll(hiss, 1) + np.roll(hiss, 2)) // 3
            step = self.number(180, 900) * 65536 // rate
            phase = (np.arange(frames, dtype=np.int64) * step) % 65536 - 32768
            ring = phase * (32768 - np.abs(phase)) // 32768  # a parabola stands in for the sine
            out[:, channel] = (wind * gusts + ring * 0.4 * gusts).astype(np.int16)
        return out
