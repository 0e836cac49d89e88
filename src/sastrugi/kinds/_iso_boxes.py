"""Boxes one after the other. Source: ISO/IEC 14496-12 (ISO base media file format), 4.2."""

from __future__ import annotations

from struct import Struct

import numpy as np

from sastrugi.kinds.base import Measure, Proof, Source, broken
from sastrugi.units import plural

BOX = Struct(">I4s")
_LARGE = Struct(">Q")
_TOP = frozenset(
    {b"ftyp", b"moov", b"mdat", b"free", b"skip", b"wide", b"uuid", b"moof", b"mfra", b"sidx", b"ssix", b"styp",
     b"meta", b"pdin", b"prft", b"emsg", b"udta", b"junk", b"pnot"}
)  # fmt: skip
_PARENTS = (b"moov", b"trak", b"mdia", b"minf", b"stbl")
_OFFSETS = {b"stco": ">u4", b"co64": ">u8"}
_BRANDS = {
    b"qt  ": "mov", b"M4A ": "m4a", b"M4B ": "m4a", b"heic": "heic", b"heix": "heic", b"mif1": "heic", b"avif": "avif",
    b"avis": "avif",
}  # fmt: skip
_STILL = ("heic", "avif")
_MAX_INDEX = 64 << 20


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


def measure_boxes(source: Source) -> Measure | None:
    """Top-level boxes up to the first that is none; index and media must both be there, and the index point inside."""
    head = source.read(0, 12)
    if len(head) < 12 or head[4:8] != b"ftyp" or not 16 <= int.from_bytes(head[:4], "big") <= 4096:
        return None
    brand = head[8:12]
    kind = _BRANDS.get(brand, "3gp" if brand[:2] == b"3g" else "mp4")
    at, names = 0, []
    index: tuple[int, int] | None = None
    while at < source.size:
        box = box_at(source, at)
        if box is None or box[0] not in _TOP or (box[0] == b"ftyp" and at):
            break
        name, inner, end = box
        if end > source.size:
            return broken(kind, at, f"box {name.decode()} reaches beyond the end")
        names.append(name)
        if name == b"moov":
            index = inner, end
        at = end
    whole = {b"moov", b"mdat"} <= set(names) or {b"moov", b"moof"} <= set(names)
    if not whole and not (kind in _STILL and b"meta" in names):
        return broken(kind, at, "index and media are not both there")
    if index is not None:
        outside = _offset_outside(source, *index, limit=at)
        if outside is not None:
            return broken(kind, at, f"its index names media at {outside:,}, beyond its {at:,} bytes")
    rule = f"{plural(len(names), 'box', 'boxes')} meet, the index points inside"
    return Measure(kind, at, True, Proof.STRUCTURE, rule)


def _offset_outside(source: Source, start: int, end: int, limit: int, depth: int = 0) -> int | None:
    """The first chunk offset in the index that points at or beyond `limit`."""
    at = start
    while at < end:
        box = box_at(source, at)
        if box is None or box[2] > end:
            return None
        name, inner, at = box
        if name in _PARENTS and depth < len(_PARENTS):
            found = _offset_outside(source, inner, at, limit, depth + 1)
            if found is not None:
                return found
        elif name in _OFFSETS:
            width = np.dtype(_OFFSETS[name]).itemsize
            table = source.read(inner + 8, min(at - inner - 8, _MAX_INDEX))
            offsets = np.frombuffer(table, _OFFSETS[name], len(table) // width)
            if len(offsets) and int(offsets.max()) >= limit:
                return int(offsets.max())
    return None
