"""Word documents: a ZIP archive with `word/` inside. Source: ECMA-376 part 2 (Open Packaging Conventions)."""

from __future__ import annotations

import io
from pathlib import Path

from sastrugi.kinds._pictures import filling_photographs
from sastrugi.kinds.base import Kind, Proof
from sastrugi.kinds.zip import with_fixed_times
from sastrugi.scenario.dice import Dice


def make(dice: Dice, size: int) -> bytes:
    """A field notebook: headings, paragraphs, and photographs that bring it to its size."""
    from docx import Document
    from docx.shared import Inches

    document = Document()
    properties = document.core_properties
    properties.created = properties.modified = dice.moment()
    properties.author = properties.last_modified_by = dice.person()
    document.add_heading(dice.caption(), 0)
    pictures = filling_photographs(dice, size - 38_000)
    for section in range(2 + len(pictures)):
        document.add_heading(dice.caption(), 1)
        for paragraph in dice.log_text(1200).split("\n\n"):
            document.add_paragraph(paragraph)
        if section < len(pictures):
            document.add_picture(io.BytesIO(pictures[section]), width=Inches(5))
    out = io.BytesIO()
    document.save(out)
    return with_fixed_times(out.getvalue())


def check(path: Path) -> None:
    from docx import Document

    with path.open("rb") as file:
        Document(file)


KIND = Kind(
    "docx", "Word document", "document", ("docx",),
    "application/vnd.openxmlformats-officedocument.wordprocessingml.document", "as zip", Proof.CHECKSUM,
    refines="zip", make=make, check=check,
)  # fmt: skip
