"""Plain text: no signature and no length; as long as its bytes are text. Source: RFC 3629 (UTF-8)."""

from __future__ import annotations

import codecs
from pathlib import Path

from sastrugi.kinds.base import Kind, Measure, Proof, Source
from sastrugi.scenario.dice import Dice

_CONTROL = bytes({*range(32), 0x7F} - {9, 10, 12, 13, 27})
_BLOCK = 1 << 16
_SHORTEST = 16


def measure(source: Source, deep: bool = False) -> Measure | None:
    """Text up to the first byte that cannot be in it. The length is a guess: nothing in a text says where it ends."""
    decoder = codecs.getincrementaldecoder("utf-8")()
    length = 0
    for at, block in source.blocks(0, size=_BLOCK):
        text = block[: _first_control(block)]
        try:
            decoder.decode(text)
        except UnicodeDecodeError as error:
            pending = len(error.object) - len(text)  # bytes of a character begun in the block before
            length = at + max(error.start - pending, -pending)
            break
        length = at + len(text)
        if len(text) < len(block):
            break
    length -= len(decoder.getstate()[0]) if length == source.size else 0
    if length < _SHORTEST:
        return None
    return Measure("txt", length, True, Proof.GUESS, f"text for {length:,} bytes; nothing in a text tells its end")


def _first_control(block: bytes) -> int:
    """The position of the first byte that no text holds."""
    clean = block.translate(None, _CONTROL)
    if len(clean) == len(block):
        return len(block)
    return min(at for code in _CONTROL if (at := block.find(code)) >= 0)


def make(dice: Dice, size: int) -> bytes:
    return dice.log_text(size).encode()


def check(path: Path) -> None:
    with path.open(encoding="utf-8") as file:
        while file.read(_BLOCK):
            pass


KIND = Kind(
    "txt", "plain text", "document", ("txt", "csv", "log", "md", "gpx"), "text/plain",
    "up to the first byte that is no text (a guess)", Proof.GUESS, measure, make=make, check=check,
)  # fmt: skip
