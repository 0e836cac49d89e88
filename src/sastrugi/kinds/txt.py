"""Plain text: no signature, no length; as long as its bytes are text. Source: RFC 3629 (UTF-8), RFC 2781 (UTF-16)."""

from __future__ import annotations

from pathlib import Path

from sastrugi.kinds._text import SHORTEST, UTF16, sort_of_text, utf8_length, utf16_length
from sastrugi.kinds.base import Kind, Measure, Proof, Signature, Source
from sastrugi.scenario.dice import Dice

_BLOCK = 1 << 16


def measure(source: Source, deep: bool = False) -> Measure | None:
    """Text up to the first byte that cannot be in it: a guess, but for JSON, whose document ends where it closes."""
    encoding = UTF16.get(source.read(0, 2))
    if encoding:
        length = utf16_length(source, encoding)
        if length < SHORTEST:
            return None
        return Measure(
            "txt", length, True, Proof.GUESS, f"UTF-16 text for {length:,} bytes; nothing in a text tells its end"
        )
    length = utf8_length(source)
    if length < SHORTEST:
        return None
    kind, length = sort_of_text(source, length)
    if kind == "json":
        return Measure("json", length, True, Proof.STRUCTURE, "one JSON document, up to where it closes")
    return Measure(kind, length, True, Proof.GUESS, f"text for {length:,} bytes; nothing in a text tells its end")


def make(dice: Dice, size: int) -> bytes:
    """UTF-8, or sometimes UTF-16 with a byte order mark."""
    if dice.chance(0.2):
        return ("\ufeff" + dice.log_text(max(size // 2 - 1, 8))).encode("utf-16-le")[: max(size & ~1, 2)]
    return dice.log_text(size).encode()


def check(path: Path) -> None:
    with path.open("rb") as raw:
        encoding = "utf-16" if raw.read(2) in UTF16 else "utf-8-sig"
    with path.open(encoding=encoding) as file:
        while file.read(_BLOCK):
            pass


KIND = Kind(
    "txt",
    "plain text",
    "document",
    ("txt", "md"),
    "text/plain",
    "up to the first byte that is no text (a guess)",
    Proof.GUESS,
    measure,
    (Signature(b"\xff\xfe"), Signature(b"\xfe\xff")),
    make=make,
    check=check,
    bare=True,
)
