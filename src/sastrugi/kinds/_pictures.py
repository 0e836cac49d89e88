"""What the picture kinds share: reaching a wanted size, and opening with Pillow."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from sastrugi.scenario.dice import Dice

_MAX_SIDE = 12000
_SMALLEST_PHOTOGRAPH = 8_000


def picture_of_size(encode: Callable[[int, int], bytes], size: int, bytes_per_pixel: float) -> bytes:
    """The encoding of a 4:3 picture whose size comes near `size` bytes, by two corrections from a first guess."""
    data = b""
    scale = bytes_per_pixel
    for _ in range(3):
        width = min(max(int((size / scale * 4 / 3) ** 0.5), 16), _MAX_SIDE)
        height = max(width * 3 // 4, 12)
        data = encode(width, height)
        if abs(len(data) - size) <= size // 5:
            break
        scale = len(data) / (width * height)
    return data


def filling_photographs(dice: Dice, size: int, usual: int = 50_000) -> list[bytes]:
    """Photographs that come to `size` bytes together: of the `usual` size, larger ones where that would be many."""
    from sastrugi.kinds.jpeg import make

    count = min(max(round(size / usual), 1 if size >= _SMALLEST_PHOTOGRAPH else 0), 12)
    return [make(dice.fork(f"picture {n}"), size // count) for n in range(count)]


def check_picture(path: Path, picture_format: str) -> None:
    """Decode every frame; raises what Pillow raises when the file is damaged."""
    from PIL import Image

    with Image.open(path, formats=[picture_format]) as picture:
        for frame in range(getattr(picture, "n_frames", 1)):
            picture.seek(frame)
            picture.load()
