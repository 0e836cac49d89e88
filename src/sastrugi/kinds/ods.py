"""OpenDocument spreadsheets. Source: OASIS OpenDocument 1.2."""

from __future__ import annotations

from sastrugi.kinds._open_document import check, finish, new_document
from sastrugi.kinds._pictures import filling_photographs
from sastrugi.kinds.base import Kind, Proof
from sastrugi.scenario.dice import Dice

_BYTES_PER_ROW, _MOST_ROWS = 15, 1500


def make(dice: Dice, size: int) -> bytes:
    from odf import draw, table, text
    from odf.opendocument import OpenDocumentSpreadsheet

    document = new_document(OpenDocumentSpreadsheet)
    sheet = table.Table(name="Stakes")
    shapes = table.Shapes()
    sheet.addElement(shapes)
    rows = min(max((size - 4000) // _BYTES_PER_ROW, 8), _MOST_ROWS)
    for n, picture in enumerate(filling_photographs(dice, size - 4000 - rows * _BYTES_PER_ROW)):
        place = document.addPicture(f"view-{n}.jpg", "image/jpeg", picture)
        frame = draw.Frame(width="9cm", height="7cm", x="10cm", y=f"{1 + 8 * n}cm")
        frame.addElement(draw.Image(href=place))
        shapes.addElement(frame)
    for _ in range(rows):
        row = table.TableRow()
        for value in (dice.number(1, 60), dice.number(200, 4000) / 10, dice.number(-4200, 50) / 100):
            cell = table.TableCell(valuetype="float", value=value)
            cell.addElement(text.P(text=str(value)))
            row.addElement(cell)
        sheet.addElement(row)
    document.spreadsheet.addElement(sheet)
    return finish(document, dice)


KIND = Kind(
    "ods", "OpenDocument spreadsheet", "document", ("ods",), "application/vnd.oasis.opendocument.spreadsheet", "as zip",
    Proof.CHECKSUM, refines="zip", make=make, check=check,
)  # fmt: skip
