"""The items of a still picture: whether coded ones (a picture, or the tiles that it is put together from) are there
where their places are listed. Source: ISO/IEC 14496-12, 8.11 (`iinf`, `iloc`); ISO/IEC 14496-15, 4.3; 23008-12, 6.
"""

from __future__ import annotations

from collections.abc import Iterator

from sastrugi.kinds._film_samples import Boxes, units_follow
from sastrugi.kinds.base import Source

_CODED = (b"hvc1", b"avc1")
_WIDTH = 4
"""Bytes in which lengths of units are written: of what is written in fewer the first item tells that."""
_MOST_ITEMS, _MOST_LIST = 1 << 14, 4 << 20


def first_wrong_item(source: Source, boxes: Boxes, start: int, end: int) -> int | None:
    """The first byte that shows that a coded item does not stand where `meta` (its content lies from `start` to `end`)
    says; None if all do, or if the first one shows that they are written otherwise."""
    lists = {name: (inner, behind) for name, inner, behind in boxes(source, start + 4, end)}
    if not {b"iinf", b"iloc"} <= lists.keys():
        return None
    coded = set(_coded_items(source, boxes, *lists[b"iinf"]))
    places = sorted(place for number, place in _placed_items(source, *lists[b"iloc"]) if number in coded)
    wrong = [units_follow(_WIDTH, source, at, size) for at, size in places]
    return next((at for at in wrong if at is not None), None) if wrong and wrong[0] is None else None


def _coded_items(source: Source, boxes: Boxes, start: int, end: int) -> Iterator[int]:
    """The numbers of items that are coded in units with lengths."""
    first = start + (6 if source.read(start, 1) == b"\0" else 8)
    for name, inner, _ in boxes(source, first, end):
        head = source.read(inner, 12)
        width = 2 if head[:1] == b"\2" else 4
        if name == b"infe" and head[:1] in (b"\2", b"\3") and head[6 + width : 10 + width] in _CODED:
            yield int.from_bytes(head[4 : 4 + width], "big")


def _placed_items(source: Source, start: int, end: int) -> Iterator[tuple[int, tuple[int, int]]]:
    """Number, first byte and size of each item that lies in one piece of this file."""
    data = source.read(start, min(end - start, _MOST_LIST))
    if len(data) < 8 or data[0] > 2:
        return
    version, at = data[0], 6

    def number(width: int) -> int:
        nonlocal at
        at += width
        return int.from_bytes(data[at - width : at], "big")

    of_offset, of_length, of_base = data[4] >> 4, data[4] & 15, data[5] >> 4
    of_index = data[5] & 15 if version else 0
    of_item = 2 if version < 2 else 4
    for _ in range(min(number(of_item), _MOST_ITEMS)):
        if at >= len(data):
            return
        item = number(of_item)
        elsewhere = (number(2) & 15 if version else 0) | number(2)
        base, count = number(of_base), number(2)
        if count == 1:
            number(of_index)
            place = base + number(of_offset), number(of_length)
            if not elsewhere:
                yield item, place
        else:
            at += count * (of_index + of_offset + of_length)
