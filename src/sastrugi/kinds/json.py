"""JSON documents. Source: RFC 8259."""

from __future__ import annotations

import json
from pathlib import Path

from sastrugi.kinds.base import Kind, Proof
from sastrugi.scenario.dice import Dice


def make(dice: Dice, size: int) -> bytes:
    readings = []
    have = 60
    while have < size:
        reading = {"time": dice.moment().isoformat(), "place": dice.caption(), "celsius": dice.number(-4200, 50) / 100}
        readings.append(reading)
        have += len(json.dumps(reading, ensure_ascii=False).encode()) + 4
    return (json.dumps({"station": "Firnline", "readings": readings}, ensure_ascii=False, indent=0) + "\n").encode()


def check(path: Path) -> None:
    json.loads(path.read_bytes())


KIND = Kind(
    "json", "JSON document", "data", ("json",), "application/json", "where the document closes", Proof.STRUCTURE,
    refines="txt", make=make, check=check,
)  # fmt: skip
