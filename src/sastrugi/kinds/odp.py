"""OpenDocument presentations. Source: OASIS OpenDocument 1.2."""

from __future__ import annotations

from sastrugi.kinds._open_document import check, finish, new_document
from sastrugi.kinds._pictures import filling_photographs
from sastrugi.kinds.base import Kind, Proof
from sastrugi.scenario.dice import Dice


def make(dice: Dice, size: int) -> bytes:
    from odf import draw, style, text
    from odf.opendocument import OpenDocumentPresentation

    document = new_document(OpenDocumentPresentation)
    layout = style.PageLayout(name="Wide")
    layout.addElement(style.PageLayoutProperties(pagewidth="28cm", pageheight="21cm"))
    document.automaticstyles.addElement(layout)
    master = style.MasterPage(name="Plain", pagelayoutname=layout)
    document.masterstyles.addElement(master)
    pictures = filling_photographs(dice, size - 8_000)
    for n in range(2 + len(pictures)):
        page = draw.Page(name=f"page {n + 1}", masterpagename=master)
        title = draw.Frame(width="24cm", height="3cm", x="2cm", y="1cm")
        box = draw.TextBox()
        box.addElement(text.P(text=dice.caption()))
        title.addElement(box)
        page.addElement(title)
        if n < len(pictures):
            place = document.addPicture(f"view-{n}.jpg", "image/jpeg", pictures[n])
            frame = draw.Frame(width="20cm", height="15cm", x="4cm", y="5cm")
            frame.addElement(draw.Image(href=place))
            page.addElement(frame)
        document.presentation.addElement(page)
    return finish(document, dice)


KIND = Kind(
    "odp",
    "OpenDocument presentation",
    "document",
    ("odp",),
    "application/vnd.oasis.opendocument.presentation",
    "as zip",
    Proof.CHECKSUM,
    refines="zip",
    make=make,
    check=check,
)
