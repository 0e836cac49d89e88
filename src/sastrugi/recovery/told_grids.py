"""Clusters of lives of which nothing is left but content: files begin on them, so that many of them tell their size."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import replace

from sastrugi.media import Extent
from sastrugi.recovery.confidence import OFF_GRID
from sastrugi.recovery.content import Grid
from sastrugi.recovery.evidence import Clue, evidence
from sastrugi.recovery.findings import Finding
from sastrugi.recovery.scan_file import ScanFile
from sastrugi.recovery.sector_survey import SECTOR

_CLUSTERS = [SECTOR << n for n in range(1, 8)]
_FEWEST, _NEARLY_ALL = 8, 0.95
"""Files that must begin on such clusters, and the share of those that begin on no others."""
_LIKELY = 0.25


def told_grids(scan_file: ScanFile, grids: Sequence[Grid], regions: Sequence[Extent]) -> list[Grid]:
    """The grids that files tell, by where they begin, which begin on none of `grids`: one for each region (where a
    volume lies or can have lain) that has them. Such files are not blamed for it any more."""
    strays: dict[Extent, list[Finding]] = {}
    for one in scan_file.findings("state = 'found' AND sound > 0"):
        start = one.map.start
        holding = [grid for grid in grids if start is not None and grid.holds(start)]
        if start is None or one.confidence < _LIKELY or any(grid.begins(start) for grid in holding):
            continue
        region = next((region for region in regions if region.offset <= start < region.end), None)
        if region is not None:
            strays.setdefault(region, []).append(one)
    out = []
    for region, found in strays.items():
        grid = grid_of(region, [one.map.start or 0 for one in found])
        if grid is not None:
            out.append(grid)
            for one in _blamed(found, grid):
                scan_file.replace(one)
    return out


def grid_of(region: Extent, starts: Sequence[int]) -> Grid | None:
    """The largest clusters on which nearly all of these bytes begin one."""
    if len(starts) < _FEWEST:
        return None
    told: Grid | None = None
    for cluster in _CLUSTERS:
        (rest, count), *_ = Counter((start - region.offset) % cluster for start in starts).most_common(1)
        if count < _NEARLY_ALL * len(starts):
            break
        first = region.offset + rest
        told = Grid(Extent(first, region.end - first), cluster)
    return told or Grid(region, SECTOR)


def _blamed(found: Sequence[Finding], grid: Grid) -> Iterator[Finding]:
    """Findings that were thought less of because they begin on no cluster, and do on one of this grid."""
    for one in found:
        if one.tells(Clue.OFF_GRID) and grid.begins(one.map.start or 0):
            seen = [evidence(Clue.ON_TOLD_GRID) if piece.clue == Clue.OFF_GRID else piece for piece in one.evidence]
            yield replace(one, confidence=min(one.confidence / OFF_GRID, 1.0), evidence=seen)
