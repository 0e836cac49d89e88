"""Logs: lines that begin with a time. Source: RFC 3339 for the times."""

from __future__ import annotations

import datetime as dt

from sastrugi.kinds.base import Kind, Proof
from sastrugi.kinds.txt import check
from sastrugi.scenario.dice import Dice


def make(dice: Dice, size: int) -> bytes:
    moment = dice.moment()
    parts: list[str] = []
    have = 0
    while have < size:
        moment += dt.timedelta(seconds=dice.number(1, 900))
        parts.append(
            f"{moment:%Y-%m-%d %H:%M:%S} logger-{dice.number(1, 9)} {dice.pick(('info', 'warn'))} {dice.sentence()}\n"
        )
        have += len(parts[-1].encode())
    return "".join(parts).encode()


KIND = Kind(
    "log",
    "log",
    "document",
    ("log",),
    "text/plain",
    "as txt (a guess)",
    Proof.GUESS,
    refines="txt",
    make=make,
    check=check,
)
