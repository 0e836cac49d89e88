"""XML documents. Source: W3C XML 1.0."""

from __future__ import annotations

from pathlib import Path

from sastrugi.kinds._markup import measure_markup
from sastrugi.kinds.base import Kind, Measure, Proof, Signature, Source
from sastrugi.scenario.dice import Dice


def measure(source: Source, deep: bool = False) -> Measure | None:
    return measure_markup(source)


def make(dice: Dice, size: int) -> bytes:
    from html import escape

    parts = ['<?xml version="1.0" encoding="UTF-8"?>\n<season station="Firnline">\n']
    have = len(parts[0])
    while have < size - 11:
        by = escape(dice.person())
        parts.append(f'  <entry time="{dice.moment().isoformat()}" by="{by}">{escape(dice.sentence())}</entry>\n')
        have += len(parts[-1].encode())
    return ("".join(parts) + "</season>\n").encode()


def check(path: Path) -> None:
    from defusedxml.ElementTree import iterparse

    for _, element in iterparse(path):
        element.clear()


KIND = Kind(
    "xml", "XML document", "data", ("xml",), "application/xml", "text up to the root's closing tag", Proof.STRUCTURE,
    measure, (Signature(b"<?xml"), Signature(b"\xef\xbb\xbf<?xml"), Signature(b"<!--")), make=make, check=check,
)  # fmt: skip
