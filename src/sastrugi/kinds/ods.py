"""OpenDocument spreadsheets. Source: OASIS OpenDocument 1.2."""

from __future__ import annotations

from sastrugi.kinds._open_document import check, finish, new_document
from sastrugi.kinds.base import Kind, Proof
from sastrugi.scenario.dice import Dice

_BYTES_PER_ROW = 30


def make(dice: Dice, size: int) -> bytes:
    from odf import table, text
    from odf.opendocument import OpenDocumentSpreadsheet

    document = new_document(OpenDocumentSpreadsheet)
    sheet = table.Table(name="Stakes")
    for _ in range(min(max((size - 4000) // _BYTES_PER_ROW, 8), 20_000)):
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
