"""Candidates by place: a finding's extents against the truth's, without reading a byte of content."""

from __future__ import annotations

from bisect import bisect_right
from collections import defaultdict

import numpy as np

from sastrugi.media import Extent, RangeSet
from sastrugi.media.extents import total
from sastrugi.scoring import damage
from sastrugi.scoring.bytes_route import ByBytes
from sastrugi.scoring.matching import Candidate
from sastrugi.scoring.names import compare_names
from sastrugi.scoring.results import Result
from sastrugi.specimen.blocks import BLOCK
from sastrugi.specimen.truth import TruthFile

Piece = tuple[int, int, int, int]
"""Start and end on the medium, position in the file, index of the file."""


def candidates_by_extents(files: list[TruthFile], results: list[Result]) -> ByBytes:
    """Where a finding's bytes come from the very place a reference's lay, unless they were written over since."""
    pieces: list[Piece] = []
    for n, file in enumerate(files):
        gone = RangeSet(file.gone)
        for position, extent in file.places():
            for part in gone.gaps(extent):
                pieces.append((part.offset, part.end, position + part.offset - extent.offset, n))
    pieces.sort()
    starts = [piece[0] for piece in pieces]
    longest = max((piece[1] - piece[0] for piece in pieces), default=0)
    twins: defaultdict[str, list[int]] = defaultdict(list)
    for n, file in enumerate(files):
        twins[file.blake3].append(n)
    out = ByBytes([], {}, {})
    for result in results:
        right: defaultdict[int, list[Extent]] = defaultdict(list)
        touched: set[int] = set()
        position = 0
        for extent in result.extents:
            k = bisect_right(starts, extent.offset - longest)
            while k < len(pieces) and pieces[k][0] < extent.end:
                start, end, inside, n = pieces[k]
                lo, hi = max(start, extent.offset), min(end, extent.end)
                if lo < hi:
                    touched.add(n)
                    if position + lo - extent.offset == inside + lo - start:
                        right[n].append(Extent(inside + lo - start, hi - lo))
                k += 1
            position += extent.length
        for n in {twin for held in touched for twin in twins[files[held].blake3]}:
            here = next((right[m] for m in twins[files[n].blake3] if m in right), [])
            candidate = _candidate(files[n], n, result, here)
            out.candidates.append(candidate)
            if candidate.exact:
                out.exact.setdefault(result.number, []).append(n)
        out.holds[result.number] = sorted(touched)
        if not result.size:
            empty = [n for n, file in enumerate(files) if not file.size]
            out.exact[result.number] = out.holds[result.number] = empty
            out.candidates.extend([_candidate(files[n], n, result, []) for n in empty])
    return out


def _candidate(file: TruthFile, n: int, result: Result, right: list[Extent]) -> Candidate:
    covered = RangeSet(right)
    in_place = total(covered)
    exact = in_place == file.size == result.size
    name = compare_names(result.named, file.path)
    if exact:
        return Candidate(result.number, n, in_place, name, True, None, damage.all_right(file.size))
    blocks = np.full(-(-file.size // BLOCK), damage.WRONG)
    blocks[-(-result.size // BLOCK) :] = damage.ABSENT
    for extent in covered:
        end = file.size if extent.end >= file.size else extent.end // BLOCK * BLOCK
        blocks[-(-extent.offset // BLOCK) : -(-end // BLOCK)] = damage.RIGHT
    gaps = covered.gaps(Extent(0, file.size))
    return Candidate(result.number, n, in_place, name, False, gaps[0].offset if gaps else None, damage.encode(blocks))
