"""A font for drawing: the one that comes with Matplotlib, so that pictures are the same on every machine."""

from __future__ import annotations

from functools import cache
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from PIL.ImageFont import FreeTypeFont


@cache
def font(size: int) -> FreeTypeFont:
    """DejaVu Sans Mono at `size` pixels."""
    import matplotlib
    from PIL import ImageFont

    return ImageFont.truetype(f"{matplotlib.get_data_path()}/fonts/ttf/DejaVuSansMono.ttf", size)
