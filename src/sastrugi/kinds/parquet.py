"""Parquet tables: a footer with its length before the end mark. Source: Apache Parquet format, "File format"."""

from __future__ import annotations

import io
from pathlib import Path

from sastrugi.kinds.base import Kind, Measure, Proof, Signature, Source, broken
from sastrugi.scenario.dice import Dice

_MARK = b"PAR1"
_VERSION_FIELD = 0x15
"""The first byte of a footer: field 1 (version), a 32-bit number, in Thrift's compact protocol."""


def measure(source: Source, deep: bool = False) -> Measure | None:
    if source.read(0, 4) != _MARK:
        return None
    tail = b""
    for at, block in source.blocks(4):
        window, base = tail + block, at - len(tail)
        hit = window.find(_MARK)
        while hit >= 0:
            mark = base + hit
            footer = int.from_bytes(source.read(mark - 4, 4), "little")
            if 8 <= footer <= mark - 8 and source.read(mark - 4 - footer, 1) == bytes([_VERSION_FIELD]):
                return Measure(
                    "parquet", mark + 4, True, Proof.STRUCTURE, "a footer of the right length before the end mark"
                )
            hit = window.find(_MARK, hit + 1)
        tail = window[-3:]
    return broken("parquet", source.size, "no footer ends it")


def make(dice: Dice, size: int) -> bytes:
    import pyarrow as pa
    import pyarrow.parquet as pq

    rows = max((size - 1500) // 40, 4)
    table = pa.table({
        "stake": [dice.number(1, 60) for _ in range(rows)],
        "celsius": [dice.number(-4200, 50) / 100 for _ in range(rows)],
        "note": [dice.word() + str(dice.number(0, 10**9)) for _ in range(rows)],
    })  # fmt: skip
    out = io.BytesIO()
    pq.write_table(table, out, compression="none", use_dictionary=False)
    return out.getvalue()


def check(path: Path) -> None:
    import pyarrow.parquet as pq

    pq.read_table(path, use_threads=False)


KIND = Kind(
    "parquet", "Parquet table", "data", ("parquet",), "application/vnd.apache.parquet", "footer before the end mark",
    Proof.STRUCTURE, measure, (Signature(_MARK),), make=make, check=check,
)  # fmt: skip
