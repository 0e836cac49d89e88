"""SQLite databases: pages of one size, counted in the header. Source: SQLite, Database File Format, 1.3."""

from __future__ import annotations

import sqlite3
import tempfile
from pathlib import Path

from sastrugi.kinds.base import Kind, Measure, Proof, Signature, Source, broken
from sastrugi.scenario.dice import Dice

_MARK = b"SQLite format 3\0"
_PAGE_KINDS = (2, 5, 10, 13)


def measure(source: Source, deep: bool = False) -> Measure | None:
    head = source.read(0, 108)
    if head[:16] != _MARK or len(head) < 108 or head[100] not in _PAGE_KINDS:
        return None
    page = int.from_bytes(head[16:18], "big")
    page = 65536 if page == 1 else page
    if page & (page - 1) or page < 512:
        return None
    count = int.from_bytes(head[28:32], "big")
    length = page * count
    if not count:
        return Measure("sqlite", page, True, Proof.GUESS, "an old program wrote it: its pages were not counted")
    if length > source.size:
        return broken("sqlite", source.size, f"its {count:,} pages reach beyond the end")
    if head[24:28] != head[92:96]:
        return Measure("sqlite", length, True, Proof.GUESS, f"{count:,} pages, by a count that may be out of date")
    free, freed = int.from_bytes(head[32:36], "big"), int.from_bytes(head[36:40], "big")
    if free > count or freed >= count:
        return broken("sqlite", 32, "its list of free pages points outside")
    return Measure(
        "sqlite", length, True, Proof.STRUCTURE, f"{count:,} pages of {page:,} bytes, as counted in the header"
    )


def make(dice: Dice, size: int) -> bytes:
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "season.sqlite"
        database = sqlite3.connect(path)
        database.execute("CREATE TABLE readings (time TEXT, place TEXT, note TEXT, celsius REAL)")
        have = 0
        while have < size - 9000:
            row = (dice.moment().isoformat(), dice.caption(), dice.sentence(), dice.number(-4200, 50) / 100)
            database.execute("INSERT INTO readings VALUES (?, ?, ?, ?)", row)
            have += 30 + sum(len(str(value).encode()) for value in row)
        database.commit()
        database.close()
        data = bytearray(path.read_bytes())
    data[96:100] = (3_040_000).to_bytes(4, "big")  # which library wrote it is not part of the sample
    return bytes(data)


def check(path: Path) -> None:
    database = sqlite3.connect(f"file:{path}?mode=ro&immutable=1", uri=True)
    try:
        answer = database.execute("PRAGMA integrity_check").fetchone()[0]
        for (table,) in database.execute("SELECT name FROM sqlite_master WHERE type = 'table'").fetchall():
            for _ in database.execute(f'SELECT * FROM "{table}"'):
                pass
    finally:
        database.close()
    if answer != "ok":
        raise sqlite3.DatabaseError(answer)


KIND = Kind(
    "sqlite",
    "SQLite database",
    "data",
    ("sqlite", "db", "sqlite3"),
    "application/vnd.sqlite3",
    "pages counted in the header",
    Proof.STRUCTURE,
    measure,
    (Signature(_MARK),),
    make=make,
    check=check,
)
