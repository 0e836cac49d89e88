"""ELF programs: segments, sections, and the table that names them. Source: System V ABI, chapter 4; gABI draft."""

from __future__ import annotations

from pathlib import Path
from struct import pack

import numpy as np

from sastrugi.kinds.base import Holds, Kind, Measure, Proof, Signature, Source, broken
from sastrugi.scenario.dice import Dice

_MARK = b"\x7fELF"
_NO_BITS = 8


def measure(source: Source, deep: bool = False) -> Measure | None:
    head = source.read(0, 64)
    if head[:4] != _MARK or len(head) < 52 or head[4] not in (1, 2) or head[5] not in (1, 2):
        return None
    wide, order = head[4] == 2, "<" if head[5] == 1 else ">"
    word = f"{order}u{8 if wide else 4}"
    half, long = order + "u2", order + "u4"
    fields = [("type", half), ("machine", half), ("version", long), ("entry", word), ("phoff", word), ("shoff", word)]
    fields += [("flags", long), ("ehsize", half), ("phsize", half), ("phnum", half), ("shsize", half), ("shnum", half)]
    layout = np.dtype(fields)
    if len(head) < 16 + layout.itemsize:
        return None
    header = np.frombuffer(head, layout, 1, 16)[0]
    if int(header["version"]) != 1:
        return None
    end = int(header["ehsize"])
    segments = _table(
        source, int(header["phoff"]), int(header["phnum"]), int(header["phsize"]), _segment(order, word, wide)
    )
    sections = _table(source, int(header["shoff"]), int(header["shnum"]), int(header["shsize"]), _section(order, word))
    if segments is None or sections is None:
        return broken("elf", source.size, "a table of it lies beyond the end")
    for entry in segments:
        end = max(end, int(entry["offset"]) + int(entry["size"]))
    for entry in sections:
        if entry["type"] != _NO_BITS:
            end = max(end, int(entry["offset"]) + int(entry["size"]))
    end = max(
        end,
        int(header["shoff"]) + len(sections) * int(header["shsize"]),
        int(header["phoff"]) + len(segments) * int(header["phsize"]),
    )
    if end > source.size:
        return broken("elf", source.size, "a section reaches beyond the end")
    table = int(header["shoff"])
    if sections and max(int(entry["offset"]) for entry in sections) > table and source.read(end, 1) == b"\0":
        # Linkers put the table of sections last. A tool that moved sections behind it leaves one more zero byte.
        return Measure("elf", end + 1, True, Proof.GUESS, "sections were moved behind their table; a zero byte follows")
    return Measure(
        "elf", end, True, Proof.STRUCTURE, f"{len(sections)} sections and {len(segments)} segments lie inside"
    )


def _segment(order: str, word: str, wide: bool) -> np.dtype[np.void]:
    if wide:
        return np.dtype(
            [("type", order + "u4"), ("flags", order + "u4"), ("offset", word), ("at", "V16"), ("size", word)]
        )
    return np.dtype([("type", order + "u4"), ("offset", word), ("at", "V8"), ("size", word)])


def _section(order: str, word: str) -> np.dtype[np.void]:
    return np.dtype(
        [
            ("name", order + "u4"),
            ("type", order + "u4"),
            ("flags", word),
            ("at", word),
            ("offset", word),
            ("size", word),
        ]
    )


def _table(source: Source, at: int, count: int, size: int, layout: np.dtype[np.void]) -> list[np.void] | None:
    if not count:
        return []
    data = source.read(at, count * size)
    if len(data) < count * size or size < layout.itemsize:
        return None
    return [np.frombuffer(data, layout, 1, n * size)[0] for n in range(count)]


def make(dice: Dice, size: int) -> bytes:
    """A program that only exits, with calibration data behind its code."""
    code = bytes.fromhex("b83c00000031ff0f05") + dice.noise(max(size - 330, 16))
    names = b"\0.text\0.shstrtab\0"
    start = 64 + 56
    sections = start + len(code) + len(names)
    header = _MARK + bytes([2, 1, 1]) + bytes(9)
    header += pack("<HHIQQQIHHHHHH", 2, 62, 1, 0x400000 + start, 64, sections, 0, 64, 56, 1, 64, 3, 2)
    segment = pack("<IIQQQQQQ", 1, 5, 0, 0x400000, 0x400000, start + len(code), start + len(code), 4096)
    table = bytes(64)
    table += pack("<IIQQQQIIQQ", 1, 1, 6, 0x400000 + start, start, len(code), 0, 0, 16, 0)
    table += pack("<IIQQQQIIQQ", 7, 3, 0, 0, start + len(code), len(names), 0, 0, 1, 0)
    return header + segment + code + names + table


def check(path: Path) -> None:
    from elftools.elf.elffile import ELFFile

    with path.open("rb") as file:
        program = ELFFile(file)
        for section in program.iter_sections():
            if section["sh_type"] != "SHT_NOBITS" and len(section.data()) != section["sh_size"]:
                raise ValueError(f"section {section.name} is cut short")


KIND = Kind(
    "elf",
    "ELF program",
    "program",
    ("elf", "so", "o", "ko"),
    "application/x-elf",
    "furthest section, segment or table",
    Proof.STRUCTURE,
    measure,
    (Signature(_MARK),),
    holds=Holds.ALL,
    make=make,
    check=check,
)
