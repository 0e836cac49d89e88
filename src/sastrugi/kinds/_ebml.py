"""EBML elements. Source: RFC 8794 (EBML) and RFC 9559 (Matroska), section 5."""

from __future__ import annotations

from sastrugi.kinds.base import BytesSource, Measure, Proof, Source, broken
from sastrugi.kinds.following import UnitFollower

HEADER = b"\x1a\x45\xdf\xa3"
_SEGMENT = 0x18538067
_CLUSTER = 0x1F43B675
_LEVEL_1 = frozenset(
    {0x114D9B74, 0x1549A966, 0x1654AE6B, _CLUSTER, 0x1C53BB6B, 0x1941A469, 0x1043A770, 0x1254C367, 0xEC, 0xBF}
)
_SIMPLE_BLOCK, _BLOCK_GROUP, _ENCRYPTED_BLOCK, _SHORT = 0xA3, 0xA0, 0xAF, 16
_IN_CLUSTER = frozenset({0xE7, 0xA3, 0xA0, 0xA7, 0xAB, 0x5854, 0xEC, 0xBF})
_BEGIN_IN_CLUSTER, _BEGIN_OUTSIDE = (
    frozenset(name.to_bytes(4, "big").lstrip(b"\0")[0] for name in names) for names in (_IN_CLUSTER, _LEVEL_1)
)


def _element(source: Source, at: int) -> tuple[int, int, int | None] | None:
    """Id, start of the content and size (None if unknown) of the element at `at`."""
    head = source.read(at, 12)
    if not head or not head[0]:
        return None
    id_length = 9 - head[0].bit_length()
    if id_length > 4 or len(head) <= id_length or not head[id_length]:
        return None
    size_length = 9 - head[id_length].bit_length()
    raw = head[id_length : id_length + size_length]
    if len(raw) < size_length:
        return None
    value = int.from_bytes(raw, "big") & ((1 << 7 * size_length) - 1)
    unknown = value == (1 << 7 * size_length) - 1
    return int.from_bytes(head[:id_length], "big"), at + id_length + size_length, None if unknown else value


def measure_ebml(source: Source) -> Measure | None:
    """The header, then a segment whose elements must meet its size; of unknown size, as long as elements follow."""
    if source.read(0, 4) != HEADER:
        return None
    header = _element(source, 0)
    if header is None or header[2] is None or header[2] > 4096:
        return None
    kind = "webm" if b"webm" in source.read(header[1], header[2]) else "mkv"
    at = header[1] + header[2]
    segment = _element(source, at)
    if segment is None or segment[0] != _SEGMENT:
        return broken(kind, min(at, source.size), "no segment follows the header")
    end = None if segment[2] is None else segment[1] + segment[2]
    if end is not None and end > source.size:
        return broken(kind, source.size, "its segment reaches beyond the end")
    return _measure_segment(source, kind, segment[1], end)


def _measure_segment(source: Source, kind: str, at: int, end: int | None) -> Measure:
    """The elements of a segment, from `at` to its end where that is told."""
    count = clusters = 0
    allowed = _LEVEL_1
    while end is None or at < end:
        element = _element(source, at)
        if element is not None and element[0] in _LEVEL_1 and element[2] is not None:
            allowed = _LEVEL_1
        if element is None or element[0] not in allowed | _LEVEL_1:
            if end is None and clusters:
                return Measure(kind, at, True, Proof.GUESS, f"its length was never written; {count} elements end here")
            return broken(kind, min(at, source.size), f"no element follows after {count}")
        if element[2] is None:  # a live recording: the cluster's own elements follow
            allowed, at = _LEVEL_1 | _IN_CLUSTER, element[1]
        else:
            at = element[1] + element[2]
        if at > (end or source.size):
            return broken(kind, min(element[1], source.size), "an element reaches beyond the end")
        count += 1
        clusters += element[0] == _CLUSTER
    return Measure(kind, at, True, Proof.STRUCTURE, f"{count} elements meet the length of the segment")


def _plausible(element: tuple[int, int, int | None], kept: bytes) -> bool:
    """Whether an element can be one of a cluster's: blocks name one of few tracks, all others are short."""
    name, head, size = element
    if name == _SIMPLE_BLOCK:
        return 0x80 < kept[head] < 0x90
    return name in (_BLOCK_GROUP, _ENCRYPTED_BLOCK) or (size is not None and size <= _SHORT)


class Elements(UnitFollower):
    """Elements by their lengths, those of clusters each for itself."""

    cost = 2.0
    _segment_end: int | None = None
    _cluster_end: int | None = None
    _in_segment = _in_cluster = False

    def _may_begin(self, data: bytes, at: int) -> bool:
        begins = self.fed + at
        if not self._in_segment or begins in (self._segment_end, self._cluster_end):
            return True
        inside = _BEGIN_IN_CLUSTER if self._in_cluster else _BEGIN_OUTSIDE
        return data[at] in inside or (self._cluster_end is None and data[at] in _BEGIN_OUTSIDE)

    def _unit(self, kept: bytes, at: int) -> int:
        if self._in_segment and at == self._segment_end:
            self.end = at
            return 0
        if self._in_cluster and at == self._cluster_end:
            self._in_cluster = False
        if len(kept) < 16:
            return 0
        element = _element(BytesSource(kept[:16]), 0)
        known = not at
        if element is not None and at:
            inner, outer = element[0] in _IN_CLUSTER, element[0] in _LEVEL_1
            if not self._in_segment:
                known = element[0] == _SEGMENT
            elif not self._in_cluster:
                known = outer
            else:
                known = (inner and _plausible(element, kept)) or (self._cluster_end is None and outer)
        if element is None or not known:
            self.wrong = at + 8
            return 0
        name, head, size = element
        if not self._in_segment and name == _SEGMENT:
            self._in_segment, self._segment_end = True, None if size is None else at + head + size
            return head
        limits = (self._cluster_end if self._in_cluster else None, self._segment_end)
        if (size is None and name != _CLUSTER) or any(end and at + head + (size or 0) > end for end in limits):
            self.wrong = at + 8
            return 0
        self._passed(at + head, 8.0 if self._in_cluster and name in _IN_CLUSTER else 24.0)
        if name == _CLUSTER:
            self._in_cluster, self._cluster_end = True, None if size is None else at + head + size
            return head
        return head + (size or 0)
