"""Why one finding is not surer: what its content says, who owns its places, and how far it can be followed.

The search is made again for this file alone, with more effort than a scan has for one.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from sastrugi.errors import ScanFileError
from sastrugi.kinds import Measure
from sastrugi.media import Extent, Medium, RangeSet
from sastrugi.media.extents import total
from sastrugi.recovery.effort import Effort
from sastrugi.recovery.findings import SURE, Finding, FoundVolume
from sastrugi.recovery.follow import follow, followed_as
from sastrugi.recovery.placing import Budget, measured
from sastrugi.recovery.scan_file import ScanFile
from sastrugi.recovery.sector_survey import SECTOR
from sastrugi.recovery.trails import ENOUGH, Farthest, Walls

_EFFORT, _PATIENCE = 2e10, 8.0
"""What the search may take (nanoseconds by the table of costs), and how patient it is (a scan is so for 2 at most)."""


@dataclass(frozen=True, slots=True)
class WhyNot:
    """What was learned of a finding.

    content: what its bytes measure as, where they are said to lie; None where its kind says nothing.
    owners: sure findings that own some of these bytes, and how many bytes.
    cluster: bytes of a cluster on which its pieces would begin.
    can_be_followed: whether its kind is one that shows where a piece ends.
    farthest: how far it was followed; None where it cannot be.
    enough: bits that going on with a cluster must gain.
    tries: clusters that were tried behind piece ends.
    spent: whether the effort ended the search.
    better: the finding in the places where the search found it.
    """

    finding: Finding
    content: Measure | None
    owners: tuple[tuple[Finding, int], ...]
    cluster: int
    can_be_followed: bool
    farthest: Farthest | None
    tries: int
    spent: bool
    better: Finding | None
    enough: float = ENOUGH


def why_not(medium: Medium, scan_file: ScanFile, number: int) -> WhyNot:
    """What keeps a finding from being surer. Raises ScanFileError if there is none of this number."""
    finding = next(scan_file.findings("number = ?", (number,)), None)
    if finding is None:
        raise ScanFileError(f"there is no finding {number}")
    effort = Effort(_EFFORT)
    budget = Budget(1 << 40, 1 << 30, effort=effort)
    content = measured(medium, finding.map, budget) if finding.extents else None
    cluster, end = _cluster_of(finding, scan_file.volumes(), medium.size)
    taken = RangeSet()
    owners: list[tuple[Finding, int]] = []
    for other in scan_file.findings("sound > 0 AND confidence >= ? AND number <> ?", (SURE, number)):
        if other.map.start != finding.map.start:  # else it is the same file, as something else tells of it
            for extent in other.extents:
                taken.add(extent)
        shared = _shared(finding, other)
        if shared:
            owners.append((other, shared))
    farthest: list[Farthest] = []
    better = None
    kind = followed_as(medium, finding)
    if kind is not None:
        start = finding.map.start or 0
        taken.remove(Extent(start, cluster))  # it begins there, whoever says else
        walls = Walls(medium, scan_file.starts().keys())
        better = follow(medium, finding, cluster, end, taken, budget, walls, _PATIENCE, tell=farthest.append)
    return WhyNot(
        finding,
        content,
        tuple(sorted(owners, key=lambda one: -one[1])),
        cluster,
        kind is not None,
        max(farthest, key=lambda one: one.reached, default=None),
        sum(one.tried for one in farthest),
        budget.spent,
        better,
    )


def _cluster_of(finding: Finding, volumes: list[FoundVolume], size: int) -> tuple[int, int]:
    """Bytes of a cluster where a finding begins, and where the volume there ends."""
    start = finding.map.start or 0

    def likely() -> Iterator[FoundVolume]:
        yield from (one for one in volumes if one.number == finding.volume)
        yield from (one for one in volumes if one.where.offset <= start < one.where.end)

    volume = next((one for one in likely() if one.cluster), None)
    return (volume.cluster, volume.where.end) if volume is not None else (SECTOR, size)


def _shared(finding: Finding, other: Finding) -> int:
    own = RangeSet(finding.extents)
    return sum(total(own.overlap(extent)) for extent in other.extents)
