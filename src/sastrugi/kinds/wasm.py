"""WebAssembly modules: sections with lengths. Source: W3C WebAssembly Core Specification, 5.5."""

from __future__ import annotations

from pathlib import Path

from sastrugi.kinds.base import Kind, Measure, Proof, Signature, Source, broken
from sastrugi.scenario.dice import Dice

_MARK = b"\0asm\x01\0\0\0"
_ORDER = (1, 2, 3, 4, 5, 13, 6, 7, 8, 9, 12, 10, 11)
_CUSTOM, _CODE, _DATA = 0, 10, 11


def _leb(data: bytes, at: int) -> tuple[int, int] | None:
    value = 0
    for n in range(5):
        if at + n >= len(data):
            return None
        value |= (data[at + n] & 0x7F) << 7 * n
        if data[at + n] < 0x80:
            return value, at + n + 1
    return None


def measure(source: Source, deep: bool = False) -> Measure | None:
    """Sections in the order they must have; the module ends where none follows."""
    if source.read(0, 8) != _MARK:
        return None
    at, count, rank = 8, 0, -1
    while at < source.size:
        head = source.read(at, 8)
        number = _leb(head, 1)
        known = head[0] == _CUSTOM or (head[0] in _ORDER and _ORDER.index(head[0]) > rank)
        if number is None or not known or not number[0]:
            break
        end = at + number[1] + number[0]
        if head[0] == _CUSTOM:
            name = _leb(source.read(at + number[1], 5), 0)
            if name is None or name[0] + name[1] > number[0] or end > source.size:
                break
        elif end > source.size:
            return broken("wasm", at, "a section reaches beyond the end")
        rank = _ORDER.index(head[0]) if head[0] else rank
        at, count = end, count + 1
    if not count:
        return broken("wasm", at, "no section follows its header")
    return Measure("wasm", at, True, Proof.STRUCTURE, f"{count} sections in their order, none follows")


def _number(value: int) -> bytes:
    out = bytearray()
    while True:
        value, low = value >> 7, value & 0x7F
        out.append(low | (0x80 if value else 0))
        if not value:
            return bytes(out)


def make(dice: Dice, size: int) -> bytes:
    """A module that gives a number, and carries calibration data."""

    def section(sort: int, content: bytes) -> bytes:
        return bytes([sort]) + _number(len(content)) + content

    data = dice.noise(max(size - 70, 8))
    pages = len(data) // 65536 + 1
    return (
        _MARK
        + section(1, b"\x01\x60\x00\x01\x7f")
        + section(3, b"\x01\x00")
        + section(5, b"\x01\x00" + _number(pages))
        + section(7, b"\x01\x04read\x00\x00")
        + section(_CODE, b"\x01\x05\x00\x41" + bytes([dice.number(0, 63)]) + b"\x0f\x0b")
        + section(_DATA, b"\x01\x00\x41\x00\x0b" + _number(len(data)) + data)
    )


def check(path: Path) -> None:
    import wasmtime

    wasmtime.Module.validate(wasmtime.Engine(), path.read_bytes())


KIND = Kind(
    "wasm", "WebAssembly module", "program", ("wasm",), "application/wasm", "sections in their order", Proof.STRUCTURE,
    measure, (Signature(_MARK),), make=make, check=check,
)  # fmt: skip
