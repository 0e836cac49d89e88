"""Workbooks: a ZIP archive with `xl/` inside. Source: ECMA-376 part 2 (Open Packaging Conventions)."""

from __future__ import annotations

import io
from pathlib import Path

from sastrugi.kinds._pictures import filling_photographs
from sastrugi.kinds.base import Kind, Proof
from sastrugi.kinds.zip import with_fixed_times
from sastrugi.scenario.dice import Dice

_BYTES_PER_ROW, _MOST_ROWS = 42, 3000


def make(dice: Dice, size: int) -> bytes:
    """Ice-core readings: depth, density, temperature, conductivity."""
    from openpyxl import Workbook
    from openpyxl.drawing.image import Image

    book = Workbook()
    book.properties.creator = dice.person()
    book.properties.created = book.properties.modified = dice.moment()
    sheet = book.active
    assert sheet is not None
    sheet.title = "Core"
    sheet.append(["Depth (m)", "Density (kg/m³)", "Temperature (°C)", "Conductivity (µS/cm)", "Note"])
    rows = min(max((size - 5000) // _BYTES_PER_ROW, 8), _MOST_ROWS)
    for n, picture in enumerate(filling_photographs(dice, size - 5000 - rows * _BYTES_PER_ROW)):
        sheet.add_image(Image(io.BytesIO(picture)), f"G{2 + n * 20}")
    for row in range(rows):
        density, temperature, conductivity = (
            dice.number(3200, 9170),
            dice.number(-4200, -50),
            dice.number(100, 999),
        )
        sheet.append(
            [
                row * 0.05,
                density / 10,
                temperature / 100,
                conductivity / 100,
                dice.word() if row % 7 == 0 else None,
            ]
        )
    out = io.BytesIO()
    book.save(out)
    return with_fixed_times(_fixed_modified(out.getvalue(), book.properties.created.strftime("%Y-%m-%dT%H:%M:%SZ")))


def _fixed_modified(data: bytes, moment: str) -> bytes:
    """The workbook with its own note of when it was saved replaced (the library writes the present time)."""
    import re
    import zipfile

    out = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(data)) as old, zipfile.ZipFile(out, "w") as new:
        for info in old.infolist():
            content = old.read(info)
            if info.filename == "docProps/core.xml":
                content = re.sub(rb"(<dcterms:modified[^>]*>)[^<]*", rb"\g<1>" + moment.encode(), content)
            new.writestr(info, content)
    return out.getvalue()


def check(path: Path) -> None:
    from openpyxl import load_workbook

    with path.open("rb") as file:
        book = load_workbook(file, read_only=True)
        for sheet in book.worksheets:
            for _ in sheet.iter_rows(values_only=True):
                pass


KIND = Kind(
    "xlsx", "Excel workbook", "document", ("xlsx",),
    "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet", "as zip", Proof.CHECKSUM,
    refines="zip", make=make, check=check,
)  # fmt: skip
