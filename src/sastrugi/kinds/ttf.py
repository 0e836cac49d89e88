"""TrueType and OpenType fonts: tables with checksums. Source: OpenType specification 1.9, "Font file"."""

from __future__ import annotations

import io
from pathlib import Path

import numpy as np

from sastrugi.kinds.base import Kind, Measure, Proof, Signature, Source, broken
from sastrugi.scenario.dice import Dice

_TRUETYPE, _OPENTYPE, _APPLE = b"\0\1\0\0", b"OTTO", b"true"
_RECORD = np.dtype([("tag", "S4"), ("checksum", ">u4"), ("offset", ">u4"), ("length", ">u4")])
_NEEDED = {b"cmap", b"head", b"name"}
_HEAD_ADJUSTMENT = 8
_LARGEST_FONT = 400_000


def measure(source: Source, deep: bool = False) -> Measure | None:
    head = source.read(0, 12)
    count = int.from_bytes(head[4:6], "big")
    if head[:4] not in (_TRUETYPE, _OPENTYPE, _APPLE) or not 3 <= count <= 128:
        return None
    data = source.read(12, count * _RECORD.itemsize)
    if len(data) < count * _RECORD.itemsize:
        return None
    records = np.frombuffer(data, _RECORD)
    if not {bytes(tag) for tag in records["tag"]} >= _NEEDED:
        return None
    kind = "otf" if head[:4] == _OPENTYPE else "ttf"
    ends = records["offset"].astype(np.int64) + records["length"]
    end = int(ends.max())
    if end > source.size:
        return broken(kind, source.size, "its tables reach beyond the end")
    wrong = []
    for record in sorted(records, key=lambda record: int(record["offset"])):
        table = bytearray(source.read(int(record["offset"]), int(record["length"])))
        if record["tag"] == b"head" and len(table) >= 12:
            table[_HEAD_ADJUSTMENT : _HEAD_ADJUSTMENT + 4] = bytes(4)
        table += bytes(-len(table) % 4)
        if int(np.frombuffer(table, ">u4").sum(dtype=np.uint32)) != int(record["checksum"]):
            wrong.append(record)
    if wrong:
        name = wrong[0]["tag"].decode("ascii", "replace")
        return broken(kind, int(wrong[0]["offset"]), f"the checksum of table {name} is wrong")
    padded = min(-(-end // 4) * 4, source.size)
    length = padded if not source.read(end, padded - end).strip(b"\0") else end
    return Measure(kind, length, True, Proof.CHECKSUM, f"checksums of all {count} tables right")


def build_font(dice: Dice, size: int, outlines: str) -> bytes:
    """A font of drifting shapes: as many glyphs as the size asks for. `outlines` is `glyf` or `CFF`."""
    from fontTools.fontBuilder import FontBuilder
    from fontTools.pens.t2CharStringPen import T2CharStringPen
    from fontTools.pens.ttGlyphPen import TTGlyphPen

    size = min(size, _LARGEST_FONT)
    count = max((size - 1500) // 1500, 4)
    corners = min(max((size - 1500) // count // 5, 6), 400)
    names = [".notdef", *(f"drift{n}" for n in range(count))]
    builder = FontBuilder(1000, isTTF=outlines == "glyf")
    builder.updateHead(created=3_900_000_000, modified=3_900_000_000)
    builder.setupGlyphOrder(names)
    builder.setupCharacterMap({0x4E00 + n: name for n, name in enumerate(names[1:])})
    shapes = {}
    for name in names:
        pen = TTGlyphPen(None) if outlines == "glyf" else T2CharStringPen(600, None)
        points = [(dice.number(0, 550), dice.number(0, 700)) for _ in range(corners)]
        pen.moveTo(points[0])
        for point in points[1:]:
            pen.lineTo(point)
        pen.closePath()
        shapes[name] = pen.glyph() if outlines == "glyf" else pen.getCharString()
    family = f"Firnline {dice.word().title()}"
    if outlines == "glyf":
        builder.setupGlyf(shapes)
    else:
        builder.setupCFF(family.replace(" ", ""), {"FullName": family}, shapes, {})
    builder.setupHorizontalMetrics(dict.fromkeys(names, (600, 0)))
    builder.setupHorizontalHeader(ascent=800, descent=-200)
    builder.setupNameTable({"familyName": family, "styleName": "Regular"})
    builder.setupOS2()
    builder.setupPost()
    builder.font.recalcTimestamp = False
    out = io.BytesIO()
    builder.save(out)
    return out.getvalue()


def make(dice: Dice, size: int) -> bytes:
    return build_font(dice, size, "glyf")


def check(path: Path) -> None:
    from fontTools.ttLib import TTFont

    with TTFont(path, checkChecksums=2, lazy=False) as font:
        for tag in font.keys():  # noqa: SIM118 - a font is no mapping
            font[tag]


KIND = Kind(
    "ttf", "TrueType font", "program", ("ttf",), "font/ttf", "tables with checksums", Proof.CHECKSUM, measure,
    (Signature(_TRUETYPE), Signature(_OPENTYPE), Signature(_APPLE)), make=make, check=check,
)  # fmt: skip
