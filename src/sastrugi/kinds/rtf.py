"""Rich text: braces that open and close. Source: Microsoft, Rich Text Format 1.9.1."""

from __future__ import annotations

import re
from pathlib import Path

import numpy as np

from sastrugi.kinds.base import FileSource, Holds, Kind, Measure, Proof, Signature, Source, broken
from sastrugi.scenario.dice import Dice

_CONTROL = re.compile(r"\{\\fonttbl.*?\}\}?|\\[a-z]+-?\d*\??|[{}\\;]", re.DOTALL)
"""Words that say how text looks, and the names of fonts."""


def measure(source: Source, deep: bool = False) -> Measure | None:
    """Up to the brace that closes the first one. A brace behind a backslash is text."""
    if source.read(0, 5) != b"{\\rtf":
        return None
    depth, before = 0, b"\0"
    for at, block in source.blocks(0):
        data = np.frombuffer(before + block, "u1")
        braces = np.flatnonzero((data == ord("{")) | (data == ord("}")))
        braces = braces[data[braces - 1] != ord("\\")]
        braces = braces[braces > 0]
        level = depth + np.cumsum(np.where(data[braces] == ord("{"), 1, -1))
        closed = braces[(level <= 0) & (data[braces] == ord("}"))][:1] - 1
        zero = block.find(b"\0")
        if zero >= 0 and not (len(closed) and closed[0] < zero):
            return broken("rtf", at + zero, "a zero byte stands in it")
        if len(closed):
            end = at + int(closed[0]) + 1
            while source.read(end, 1) in (b"\r", b"\n"):
                end += 1
            return Measure("rtf", end, True, Proof.STRUCTURE, "every brace is closed")
        depth, before = int(level[-1]) if len(level) else depth, block[-1:]
    return broken("rtf", source.size, "its first brace is never closed")


def make(dice: Dice, size: int) -> bytes:
    parts = [r"{\rtf1\ansi\deff0{\fonttbl{\f0 Helvetica;}}" + "\n"]
    have = len(parts[0])
    while have < size - 2:
        line = "".join(char if ord(char) < 128 else f"\\u{ord(char)}?" for char in dice.sentence())
        parts.append(rf"{{\b {dice.word()}}} {line}\par" + "\n")
        have += len(parts[-1])
    return ("".join(parts) + "}\n").encode()


def check(path: Path) -> None:
    with FileSource(path) as source:
        measured = measure(source)
        if measured is None or not measured.whole:
            raise ValueError(measured.rule if measured else "no rich text")
        text = source.read(0, measured.length).decode("ascii")
    if not any(char.isalnum() for char in _CONTROL.sub("", text)):
        raise ValueError("there is no text in it")


KIND = Kind(
    "rtf",
    "rich text",
    "document",
    ("rtf",),
    "application/rtf",
    "brace that closes the first",
    Proof.STRUCTURE,
    measure,
    (Signature(b"{\\rtf"),),
    holds=Holds.ALL,
    make=make,
    check=check,
)
