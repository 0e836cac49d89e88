"""Windows programs: sections placed by a header. Source: Microsoft, PE Format."""

from __future__ import annotations

from pathlib import Path
from struct import Struct, pack

from sastrugi.kinds.base import Holds, Kind, Measure, Proof, Signature, Source, broken
from sastrugi.scenario.dice import Dice

_COFF = Struct("<4sHHIIIHH")
_SECTION = Struct("<8sIIIIIIHHI")
_WIDE = 0x20B
_CERTIFICATES = 4
_ALIGN = 512


def measure(source: Source, deep: bool = False) -> Measure | None:
    """As far as the last section, or the certificates behind it. What an installer appends cannot be seen."""
    head = source.read(0, 64)
    if head[:2] != b"MZ" or len(head) < 64:
        return None
    at = int.from_bytes(head[60:64], "little")
    coff = source.unpack(_COFF, at)
    if coff is None or coff[0] != b"PE\0\0" or not 1 <= coff[2] <= 96:
        return None
    optional = source.read(at + _COFF.size, coff[6])
    directories = 112 if int.from_bytes(optional[:2], "little") == _WIDE else 96
    end = at + _COFF.size + coff[6] + coff[2] * _SECTION.size
    for n in range(coff[2]):
        section = source.unpack(_SECTION, at + _COFF.size + coff[6] + n * _SECTION.size)
        if section is None:
            return broken("exe", source.size, "its table of sections is cut")
        if section[4]:
            end = max(end, section[4] + section[3])
    entry = optional[directories + 8 * _CERTIFICATES : directories + 8 * _CERTIFICATES + 8]
    certificates = int.from_bytes(entry[:4], "little"), int.from_bytes(entry[4:], "little")
    if certificates[0] >= end:
        end = sum(certificates)
    if end > source.size:
        return broken("exe", source.size, "its sections reach beyond the end")
    return Measure("exe", end, True, Proof.STRUCTURE, f"{coff[2]} sections end here; what is appended is not seen")


def make(dice: Dice, size: int) -> bytes:
    """A program that only returns, with the calibration of a logger in its data section."""
    data = dice.noise(max(size - 1024, 16))
    padded = data + bytes(-len(data) % _ALIGN)
    virtual = -(-len(padded) // 4096) * 4096
    dos = b"MZ" + bytes(58) + pack("<I", 64)
    coff = pack("<4sHHIIIHH", b"PE\0\0", 0x8664, 2, 0, 0, 0, 240, 0x22)
    optional = pack("<HBBIIIII", _WIDE, 14, 0, _ALIGN, len(padded), 0, 4096, 4096)
    optional += pack("<QIIHHHHHHI", 0x140000000, 4096, _ALIGN, 6, 0, 0, 0, 6, 0, 0)
    optional += pack("<IIIHH", 8192 + virtual, _ALIGN, 0, 3, 0)
    optional += pack("<QQQQII", 1 << 20, 4096, 1 << 20, 4096, 0, 16) + bytes(128)
    text = pack("<8sIIIIIIHHI", b".text", 1, 4096, _ALIGN, _ALIGN, 0, 0, 0, 0, 0x60000020)
    table = pack("<8sIIIIIIHHI", b".data", len(data), 8192, len(padded), 2 * _ALIGN, 0, 0, 0, 0, 0xC0000040)
    header = dos + coff + optional + text + table
    return header.ljust(_ALIGN, b"\0") + b"\xc3".ljust(_ALIGN, b"\0") + padded


def check(path: Path) -> None:
    import pefile

    with pefile.PE(str(path)) as program:
        size = path.stat().st_size
        if any(section.PointerToRawData + section.SizeOfRawData > size for section in program.sections):
            raise pefile.PEFormatError("a section reaches beyond the end")


KIND = Kind(
    "exe",
    "Windows program",
    "program",
    ("exe", "dll", "sys", "pyd"),
    "application/vnd.microsoft.portable-executable",
    "last section or certificates",
    Proof.STRUCTURE,
    measure,
    (Signature(b"MZ"),),
    holds=Holds.ALL,
    make=make,
    check=check,
)
