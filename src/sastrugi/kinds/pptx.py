"""Presentations: a ZIP archive with `ppt/` inside. Source: ECMA-376 part 2 (Open Packaging Conventions)."""

from __future__ import annotations

import io
from pathlib import Path

from sastrugi.kinds._pictures import filling_photographs
from sastrugi.kinds.base import Kind, Proof
from sastrugi.kinds.zip import with_fixed_times
from sastrugi.scenario.dice import Dice


def make(dice: Dice, size: int) -> bytes:
    """Slides with a text each, and photographs that bring it to its size."""
    from pptx import Presentation
    from pptx.util import Inches

    show = Presentation()
    properties = show.core_properties
    properties.created = properties.modified = dice.moment()
    properties.author = properties.last_modified_by = dice.person()
    pictures = filling_photographs(dice, size - 32_000)
    for n in range(2 + len(pictures)):
        slide = show.slides.add_slide(show.slide_layouts[1])
        slide.shapes.title.text = dice.caption()
        slide.placeholders[1].text = " ".join(dice.sentence() for _ in range(3))
        if n < len(pictures):
            slide.shapes.add_picture(io.BytesIO(pictures[n]), Inches(2), Inches(3), width=Inches(5))
    out = io.BytesIO()
    show.save(out)
    return with_fixed_times(out.getvalue())


def check(path: Path) -> None:
    from pptx import Presentation

    with path.open("rb") as file:
        for slide in Presentation(file).slides:
            for shape in slide.shapes:
                _ = shape.has_text_frame and shape.text_frame.text


KIND = Kind(
    "pptx", "PowerPoint presentation", "document", ("pptx",),
    "application/vnd.openxmlformats-officedocument.presentationml.presentation", "as zip", Proof.CHECKSUM,
    refines="zip", make=make, check=check,
)  # fmt: skip
