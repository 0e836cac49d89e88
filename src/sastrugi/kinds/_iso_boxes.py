"""Boxes one after the other. Source: ISO/IEC 14496-12 (ISO base media file format), 4.2."""

from __future__ import annotations

from collections.abc import Iterator
from struct import Struct

import numpy as np

from sastrugi.kinds._film_samples import first_wrong_picture
from sastrugi.kinds._still_items import first_wrong_item
from sastrugi.kinds.base import Measure, Proof, Source, broken
from sastrugi.units import plural

BOX = Struct(">I4s")
_LARGE = Struct(">Q")
TOP = frozenset(
    {b"ftyp", b"moov", b"mdat", b"free", b"skip", b"wide", b"uuid", b"moof", b"mfra", b"sidx", b"ssix", b"styp",
     b"meta", b"pdin", b"prft", b"emsg", b"udta", b"junk", b"pnot"}
)  # fmt: skip
_UNTYPED = (b"wide", b"moov", b"mdat")
"""What a QuickTime film may begin with that says no type, as those do that are older than the box for it."""
_IN_FRONT = 64
"""Bytes of its media in front of the first that its index names, at most."""
_PARENTS = (b"moov", b"trak", b"mdia", b"minf", b"stbl")
_OFFSETS = {b"stco": ">u4", b"co64": ">u8"}
_BRANDS = {
    b"qt  ": "mov", b"M4A ": "m4a", b"M4B ": "m4a", b"heic": "heic", b"heix": "heic", b"mif1": "heic", b"avif": "avif",
    b"avis": "avif",
}  # fmt: skip
_STILL = ("heic", "avif")
_MAX_INDEX, _MOST_BOXES = 64 << 20, 1000


def box_at(source: Source, at: int) -> tuple[bytes, int, int] | None:
    """Name, start of the content and end of the box at `at`; None where there is none."""
    head = source.unpack(BOX, at)
    if head is None:
        return None
    size, name = head
    inner = at + 8
    if size == 1:
        large = source.unpack(_LARGE, inner)
        if large is None:
            return None
        size, inner = large[0], inner + 8
    if not size and name == b"jp2c":
        return name, inner, inner  # the last one, whose content tells its end
    if size < inner - at:
        return None
    return name, inner, at + size


def boxes_in(source: Source, start: int, end: int) -> Iterator[tuple[bytes, int, int]]:
    """Name, start of the content and end of each box between two bytes, up to the first that is none."""
    for _ in range(_MOST_BOXES):
        box = box_at(source, start) if start < end else None
        if box is None or not start < box[2] <= end:
            return
        yield box
        start = box[2]


def measure_boxes(source: Source, deep: bool = False) -> Measure | None:
    """Top-level boxes up to the first that is none; index and media must both be there, the index point inside, and
    pictures begin where it says."""
    head = source.read(0, 12)
    typed = head[4:8] == b"ftyp" and 16 <= int.from_bytes(head[:4], "big") <= 4096
    if len(head) < 12 or not (typed or head[4:8] in _UNTYPED):
        return None
    brand = head[8:12] if typed else b"qt  "
    kind = _BRANDS.get(brand, "3gp" if brand[:2] == b"3g" else "mp4")
    at, media = 0, 0
    names: list[bytes] = []
    index: tuple[int, int] | None = None
    items: tuple[int, int] | None = None
    while at < source.size:
        box = box_at(source, at)
        if box is None or box[0] not in TOP or (box[0] == b"ftyp" and at):
            break
        name, inner, end = box
        if end > source.size:
            return broken(kind, at, f"box {name.decode()} reaches beyond the end") if typed or names else None
        names.append(name)
        if name == b"moov":
            index = inner, end
        elif name == b"meta":
            items = inner, end
        elif name == b"mdat":
            media = media or inner
        at = end
    whole = {b"moov", b"mdat"} <= set(names) or {b"moov", b"moof"} <= set(names)
    if not whole and not (kind in _STILL and b"meta" in names):
        if not typed:
            return None
        return broken(kind, at, "index and media are not both there")
    if index is not None:
        named = _named_media(source, *index)
        if named is not None and named[1] >= at:
            return broken(kind, at, f"its index names media at {named[1]:,}, beyond its {at:,} bytes")
        packed = next(boxes_in(source, *index), (b"",))[0] == b"cmov"  # what it names is not looked at
        if not (typed or packed) and (named is None or not 0 <= named[0] - media < _IN_FRONT):
            return None  # the end of a film that begins before it
        wrong = first_wrong_picture(source, boxes_in, *index, every=deep)
        if wrong is not None:
            return broken(kind, min(wrong, at), "no picture begins where its index says that one does")
    wrong = first_wrong_item(source, boxes_in, *items) if items is not None else None
    if wrong is not None:
        return broken(kind, min(wrong, at), "a part of the picture is not where it is listed")
    rule = f"{plural(len(names), 'box', 'boxes')} meet, the index points inside"
    return Measure(kind, at, True, Proof.STRUCTURE, rule)


def _named_media(source: Source, start: int, end: int, depth: int = 0) -> tuple[int, int] | None:
    """The lowest and the highest chunk offset in an index; None if it has none."""
    found: list[int] = []
    for name, inner, behind in boxes_in(source, start, end):
        if name in _PARENTS and depth < len(_PARENTS):
            found += _named_media(source, inner, behind, depth + 1) or ()
        elif name in _OFFSETS:
            width = np.dtype(_OFFSETS[name]).itemsize
            table = source.read(inner + 8, min(behind - inner - 8, _MAX_INDEX))
            offsets = np.frombuffer(table, _OFFSETS[name], len(table) // width)
            found += [int(offsets.min()), int(offsets.max())] if len(offsets) else []
    return (min(found), max(found)) if found else None
