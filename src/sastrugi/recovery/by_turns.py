"""Two files that were written by turns, of which one is text and the other is not: each cluster tells whose it is.

Where a file begins inside of what another one needs, and both came to an end before a third began, the clusters of the
two lie among each other. Which of them are text is seen by looking; that there are as many as the text needs proves it.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from sastrugi.kinds import all_kinds, recognise
from sastrugi.kinds.registry import is_textual
from sastrugi.media import Extent, Medium, RangeSet
from sastrugi.media.extents import cut, join
from sastrugi.media.filemap import FileMap
from sastrugi.recovery.findings import Finding
from sastrugi.recovery.sources import MediumSource
from sastrugi.units import plural

_MOST_READ = 32 << 20
"""Bytes of two files together that are looked at."""
_SURE = 0.85


def is_text(finding: Finding) -> bool | None:
    """Whether a file is text by its kind; None where its kind is not known."""
    kind = all_kinds().get(finding.kind)
    return is_textual(kind) if kind is not None else None


def text_clusters(data: bytes, cluster: int) -> NDArray[np.bool_]:
    """Which clusters of some bytes hold nothing but text, and zeros behind its end. Shape: (clusters,)."""
    rows = np.frombuffer(data.ljust(-(-len(data) // cluster) * cluster, b"\0"), "u1").reshape(-1, cluster)
    control = (rows < 32) & (rows != 9) & (rows != 10) & (rows != 12) & (rows != 13) | (rows == 127)
    zeros = rows == 0
    behind = np.argmax(~zeros[:, ::-1], axis=1)  # zeros at the end of each
    out: NDArray[np.bool_] = ~(control & ~zeros).any(axis=1) & (zeros.sum(axis=1) == behind) & ~zeros.all(axis=1)
    return out


def may_be(first: Finding, second: Finding, cluster: int) -> bool:
    """Whether two findings can be of such files, by what is said of them."""
    start, inner = first.map.start or 0, second.map.start or 0
    if not start < inner < start + first.size or (inner - start) % cluster:
        return False
    kinds = is_text(first), is_text(second)
    return None not in kinds and kinds[0] != kinds[1] and first.size + second.size <= _MOST_READ


def apart(
    medium: Medium, first: Finding, second: Finding, cluster: int, end: int, taken: RangeSet
) -> tuple[Finding, Finding] | None:
    """Both findings in the places that are theirs, if one is text and the other is not and their clusters bear it out.
    `first` begins in front of `second`; `taken` is what others own, `end` where their volume ends."""
    if not may_be(first, second, cluster):
        return None
    kinds = is_text(first), is_text(second)
    needed = [-(-one.size // cluster) for one in (first, second)]
    start, inner = first.map.start or 0, second.map.start or 0
    places = _free_clusters(start, sum(needed), cluster, end, taken)
    if len(places) < sum(needed) or inner not in places:
        return None
    text = text_clusters(b"".join(medium.read(at, cluster).ljust(cluster, b"\0") for at in places), cluster)
    own = text if kinds[0] else ~text
    if int(own.sum()) != needed[0] or not own[0] or own[places.index(inner)]:
        return None
    split = [[at for at, mine in zip(places, own.tolist(), strict=True) if mine == whose] for whose in (True, False)]
    out: list[Finding] = []
    for one, other, clusters in zip((first, second), (second, first), split, strict=True):
        extents = cut(tuple(join(Extent(at, cluster) for at in clusters)), one.size)
        where = FileMap.of(extents, one.size)
        measure = recognise(MediumSource(medium, where), deep=True)
        if measure is not None and not (measure.whole or is_text(one)):
            return None
        how = f"by turns with {other.name}, in {plural(len(extents), 'piece')}: of the two only one is text"
        reasons = [how, *(reason for reason in one.reasons if "name" in reason)]
        out.append(replace(one, map=where, confidence=_SURE, sound=one.size, reasons=reasons))
    return out[0], out[1]


def _free_clusters(start: int, count: int, cluster: int, end: int, taken: RangeSet) -> Sequence[int]:
    """The first so many clusters from a byte on that nobody owns."""
    out: list[int] = []
    reach = Extent(start, min(4 * count * cluster, max(end - start, 0)))
    for gap in taken.gaps(reach):
        first = start + -(-(gap.offset - start) // cluster) * cluster
        out += range(first, gap.end - cluster + 1, cluster)
        if len(out) >= count:
            break
    return out[:count]
