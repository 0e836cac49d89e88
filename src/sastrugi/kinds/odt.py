"""OpenDocument texts. Source: OASIS OpenDocument 1.2."""

from __future__ import annotations

from sastrugi.kinds._open_document import check, finish, new_document
from sastrugi.kinds._pictures import filling_photographs
from sastrugi.kinds.base import Kind, Proof
from sastrugi.scenario.dice import Dice


def make(dice: Dice, size: int) -> bytes:
    """A log, and photographs that bring it to its size."""
    from odf import draw, text
    from odf.opendocument import OpenDocumentText

    document = new_document(OpenDocumentText)
    document.text.addElement(text.H(outlinelevel=1, text=dice.caption()))
    for paragraph in dice.log_text(min(max(size, 400), 20_000)).split("\n\n"):
        document.text.addElement(text.P(text=paragraph))
    for n, picture in enumerate(filling_photographs(dice, size - 12_000)):
        place = document.addPicture(f"view-{n}.jpg", "image/jpeg", picture)
        frame = draw.Frame(width="15cm", height="11cm")
        frame.addElement(draw.Image(href=place))
        paragraph = text.P()
        paragraph.addElement(frame)
        document.text.addElement(paragraph)
    return finish(document, dice)


KIND = Kind(
    "odt",
    "OpenDocument text",
    "document",
    ("odt",),
    "application/vnd.oasis.opendocument.text",
    "as zip",
    Proof.CHECKSUM,
    refines="zip",
    make=make,
    check=check,
)
