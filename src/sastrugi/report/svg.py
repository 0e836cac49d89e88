"""Figures as SVG text, the same on any day."""

from __future__ import annotations

import io
import re
from collections.abc import Callable
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure as Drawing


def svg(width: float, height: float, label: str, draw: Callable[[Drawing], None]) -> str:
    """The SVG of a figure of `width` by `height` inches; the same figure gives the same text on any day."""
    import matplotlib

    matplotlib.use("Agg")
    from matplotlib import pyplot

    settings: Any = {
        "svg.hashsalt": "sastrugi", "svg.fonttype": "none", "font.family": "sans-serif", "font.size": 10,
        "text.parse_math": False,  # names of engines and specimens are no formulas
    }  # fmt: skip
    with matplotlib.rc_context(settings):
        drawing = pyplot.figure(figsize=(width, height), layout="constrained")
        try:
            draw(drawing)
            buffer = io.StringIO()
            drawing.savefig(buffer, format="svg", metadata={"Date": None, "Creator": None})
        finally:
            pyplot.close(drawing)
    text = buffer.getvalue()
    text = text[text.index("<svg") :]
    text = re.sub(r"<metadata>.*?</metadata>", "", text, flags=re.DOTALL)
    return text.replace("<svg ", f'<svg role="img" aria-label="{label}" ', 1)


def bare(axes: Axes) -> None:
    axes.spines[["top", "right"]].set_visible(False)
