"""Tables as text. Source: RFC 4180."""

from __future__ import annotations

import csv
import io
from pathlib import Path

from sastrugi.kinds.base import Kind, Proof
from sastrugi.scenario.dice import Dice


def make(dice: Dice, size: int) -> bytes:
    out = io.StringIO()
    table = csv.writer(out, lineterminator="\r\n" if dice.chance(0.5) else "\n")
    table.writerow(["time", "stake", "height", "celsius"])
    while out.tell() < size:
        table.writerow(
            [dice.moment().isoformat(), dice.number(1, 60), dice.number(200, 4000), dice.number(-4200, 50) / 100]
        )
    return out.getvalue().encode()


def check(path: Path) -> None:
    with path.open(encoding="utf-8-sig", newline="") as file:
        widths = {len(row) for row in csv.reader(file, strict=True) if row}
    if len(widths) != 1:
        raise ValueError("its rows are not of one width")


KIND = Kind(
    "csv",
    "table as text",
    "data",
    ("csv", "tsv"),
    "text/csv",
    "as txt (a guess)",
    Proof.GUESS,
    refines="txt",
    make=make,
    check=check,
)
