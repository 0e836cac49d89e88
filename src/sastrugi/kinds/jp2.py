"""JPEG 2000: boxes up to the codestream, whose end marker ends the file. Source: ITU-T T.800, annexes A and I."""

from __future__ import annotations

import io
from pathlib import Path
from struct import Struct

from sastrugi.kinds._iso_boxes import box_at
from sastrugi.kinds._pictures import check_picture, picture_of_size
from sastrugi.kinds.base import Kind, Measure, Proof, Signature, Source, broken
from sastrugi.scenario.dice import Dice

_SIGNATURE = b"\x00\x00\x00\x0cjP  \r\n\x87\n"
_BOXES = frozenset(
    b"jP  ftypjp2hjp2ixml uuiduinfjp2cres asocjpchjplhrreqftblcrefnlstcgrpdrepopctcregdtblmdatfreechckmp7b"[n : n + 4]
    for n in range(0, 100, 4)
)
_SOC_SIZ, _SOT, _EOC = b"\xff\x4f\xff\x51", 0xFF90, b"\xff\xd9"
_SEGMENT = Struct(">HHHI")
_MOST_PARTS = 1 << 17


def measure(source: Source, deep: bool = False) -> Measure | None:
    if source.read(0, 12) != _SIGNATURE:
        return None
    at, count, codestream = 0, 0, False
    while (box := box_at(source, at)) is not None and box[0] in _BOXES and not (box[0] == b"jP  " and at):
        name, inner, end = box
        if name == b"jp2c" and not source.read(at, 4).strip(b"\0"):
            end = _codestream_end(source, inner)
        if end > source.size:
            return broken("jp2", at, f"box {name.decode()} reaches beyond the end")
        if name == b"jp2c":
            if source.read(inner, 4) != _SOC_SIZ or source.read(end - 2, 2) != _EOC:
                return broken("jp2", inner, "its codestream does not begin and end with its markers")
            codestream = True
        at, count = end, count + 1
    if not codestream:
        return broken("jp2", at, "it has no codestream")
    return Measure("jp2", at, True, Proof.STRUCTURE, f"{count} boxes meet, the codestream ends with its end marker")


def _codestream_end(source: Source, at: int) -> int:
    """Where a codestream ends of which the box says only that it is the last: along its tiles (annex A)."""
    at += 2
    for _ in range(_MOST_PARTS):
        if source.read(at, 2) == _EOC:
            return at + 2
        head = source.unpack(_SEGMENT, at)
        if head is None:
            break
        marker, length, _, part = head
        if marker == _SOT and part < 14:
            break
        at += part if marker == _SOT else 2 + length
    return at


def make(dice: Dice, size: int) -> bytes:
    def encode(width: int, height: int) -> bytes:
        out = io.BytesIO()
        picture = dice.fork("picture").picture(width, height)
        picture.save(out, "JPEG2000", quality_mode="rates", quality_layers=[5], irreversible=False, num_resolutions=3)
        return out.getvalue()

    return picture_of_size(encode, size, bytes_per_pixel=0.6)


def check(path: Path) -> None:
    check_picture(path, "JPEG2000")


KIND = Kind(
    "jp2", "JPEG 2000 picture", "picture", ("jp2",), "image/jp2", "boxes, codestream up to its end marker",
    Proof.STRUCTURE, measure, (Signature(_SIGNATURE),), make=make, check=check,
)  # fmt: skip
