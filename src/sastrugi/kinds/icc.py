"""Colour profiles, as cameras and scanners bring them. Source: ICC.1:2022, clauses 7.2 (header) and 7.3 (tag table)."""

from __future__ import annotations

from pathlib import Path
from struct import Struct, pack

from sastrugi.kinds.base import Kind, Measure, Proof, Signature, Source, broken
from sastrugi.scenario.dice import Dice

_MARK, _MARK_AT = b"acsp", 36
_HEADER = 128
_TAG = Struct(">4sII")
_MOST_TAGS = 1000
_DATE = (2031, 2, 3, 12, 0, 0)


def measure(source: Source, deep: bool = False) -> Measure | None:
    head = source.read(0, _HEADER + 4)
    if len(head) < _HEADER + 4 or head[_MARK_AT : _MARK_AT + 4] != _MARK:
        return None
    size, tags = int.from_bytes(head[:4], "big"), int.from_bytes(head[_HEADER:], "big")
    if not tags <= _MOST_TAGS or size < _HEADER + 4 + tags * _TAG.size:
        return broken("icc", _HEADER, "its table of tags has no room in its size")
    if size > source.size:
        return broken("icc", source.size, "its size reaches beyond the end")
    for n in range(tags):
        tag = source.unpack(_TAG, _HEADER + 4 + n * _TAG.size)
        if tag is None or tag[1] + tag[2] > size or tag[1] < _HEADER:
            return broken("icc", _HEADER + 4 + n * _TAG.size, "a tag reaches beyond its size")
    return Measure("icc", size, True, Proof.STRUCTURE, "size in its header, and every tag inside of it")


def make(dice: Dice, size: int) -> bytes:
    """The grey profile of a scanner for ice-core photographs: white point, a measured curve, a copyright."""
    points = max(min((size - 400) // 2, 4096), 2)
    curve = b"curv" + bytes(4) + pack(">I", points)
    curve += b"".join(pack(">H", min(round((n / (points - 1)) ** 2.2 * 65535), 65535)) for n in range(points))
    white = b"XYZ " + bytes(4) + pack(">3i", 0xF6D6, 0x10000, 0xD32D)
    text = f"Firnline station, {dice.sentence()}".encode("ascii", "replace")
    note = b"text" + bytes(4) + text + b"\0"
    name = b"desc" + bytes(4) + pack(">I", 9) + b"Firnline\0" + bytes(12 + 67)
    data, table = b"", b""
    for tag, value in ((b"desc", name), (b"cprt", note), (b"wtpt", white), (b"kTRC", curve)):
        table += _TAG.pack(tag, _HEADER + 4 + 4 * _TAG.size + len(data), len(value))
        data += value + bytes(-len(value) % 4)
    body = pack(">I", 4) + table + data
    head = pack(
        ">I4sI4s4s4s6H4s", _HEADER + len(body), b"\0\0\0\0", 0x02400000, b"scnr", b"GRAY", b"XYZ ", *_DATE, _MARK
    )
    head = head.ljust(68, b"\0") + pack(">3i", 0xF6D6, 0x10000, 0xD32D)
    return head.ljust(_HEADER, b"\0") + body


def check(path: Path) -> None:
    from PIL import ImageCms

    ImageCms.getProfileName(ImageCms.ImageCmsProfile(str(path)))
    if int.from_bytes(path.read_bytes()[:4], "big") > path.stat().st_size:  # the library reads tags only when asked
        raise ValueError("it is cut off")


KIND = Kind(
    "icc", "Colour profile", "picture", ("icc", "icm"), "application/vnd.iccprofile", "size in its header",
    Proof.STRUCTURE, measure, (Signature(_MARK, _MARK_AT),), make=make, check=check,
)  # fmt: skip
