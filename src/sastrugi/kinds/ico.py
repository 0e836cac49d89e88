"""Icons: a directory of pictures. Source: Microsoft, Icons in Win32."""

from __future__ import annotations

import io
from pathlib import Path
from struct import Struct

from sastrugi.kinds._pictures import check_picture
from sastrugi.kinds.base import Kind, Measure, Proof, Signature, Source, broken
from sastrugi.scenario.dice import Dice

_ENTRY = Struct("<4BHHII")
_MOST = 64
_BITMAP, _PNG = b"\x28\0\0\0", b"\x89PNG"
_SIDES = (16, 24, 32, 48, 64, 128, 256)


def measure(source: Source, deep: bool = False) -> Measure | None:
    head = source.read(0, 6)
    count = int.from_bytes(head[4:6], "little")
    if head[:4] != b"\0\0\1\0" or not 1 <= count <= _MOST:
        return None
    end = first = 6 + count * _ENTRY.size
    for n in range(count):
        entry = source.unpack(_ENTRY, 6 + n * _ENTRY.size)
        if entry is None or entry[3] or entry[4] > 1 or entry[7] < first:
            return None
        if source.read(entry[7], 4) not in (_BITMAP, _PNG):
            return (
                None if n == 0 else broken("ico", min(entry[7], source.size), f"picture {n + 1} does not begin as one")
            )
        end = max(end, entry[7] + entry[6])
    if end > source.size:
        return broken("ico", source.size, "a picture reaches beyond the end")
    return Measure("ico", end, True, Proof.STRUCTURE, f"all {count} pictures begin where the directory says")


def make(dice: Dice, size: int) -> bytes:
    sides = [side for side in _SIDES if side * side * 2 < size] or [16]
    out = io.BytesIO()
    dice.picture(256, 256).save(
        out, "ICO", sizes=[(side, side) for side in sides], bitmap_format="bmp" if dice.chance(0.5) else "png"
    )
    return out.getvalue()


def check(path: Path) -> None:
    from PIL import Image

    check_picture(path, "ICO")
    with Image.open(path, formats=["ICO"]) as icon:
        for side in icon.info["sizes"]:
            icon.size = side  # type: ignore[misc]
            icon.load()


KIND = Kind(
    "ico", "icon", "picture", ("ico",), "image/x-icon", "furthest picture of the directory", Proof.STRUCTURE, measure,
    (Signature(b"\0\0\1\0"),), make=make, check=check,
)  # fmt: skip
