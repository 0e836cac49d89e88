"""What a scan reports: findings, the volumes that it saw, and counts of them."""

from __future__ import annotations

from dataclasses import dataclass, field

from sastrugi.media import Extent, FileMap
from sastrugi.recovery.evidence import Clue, Evidence
from sastrugi.volumes.reader import Times

SURE = 0.8
"""From this confidence on, as the rules give it while a scan runs, a finding is believed and claims its place."""
PASSES = ("layout", "tables", "relics", "journals", "pieces", "content")
"""The ways of searching, in the order in which a scan takes them."""


@dataclass(frozen=True, slots=True)
class FoundVolume:
    """One volume of a scan. `origin` says how it was found; `health` what is wrong with it."""

    number: int
    where: Extent
    file_system: str
    label: str
    serial: str
    cluster: int
    used: int
    free: int
    origin: str
    health: tuple[str, ...] = ()


@dataclass(slots=True)
class Finding:
    """One file that a scan reports.

    `state` is `live` (listed by its volume), `deleted` (a record of it still stands) or `found` (its bytes only).
    `map` tells where it lies, `confidence` (0 to 1) that this is the whole file, `name_sure` (0 to 1) that folder and
    name are right,
    `evidence` what speaks for and against that.
    `sound` counts the bytes from its start that nothing speaks against: no other file is looked for in them.
    """

    state: str
    folder: str
    name: str
    kind: str
    group: str
    size: int
    map: FileMap
    times: Times
    passes: tuple[str, ...]
    confidence: float
    name_sure: float
    evidence: list[Evidence] = field(default_factory=list)
    volume: int | None = None
    number: int = 0
    sound: int = 0

    @property
    def path(self) -> str:
        return f"{self.folder.rstrip('/')}/{self.name}"

    def tells(self, clue: Clue) -> bool:
        """Whether its evidence has this clue."""
        return any(one.clue == clue for one in self.evidence)

    @property
    def sure(self) -> bool:
        """Whether it is believed, while a scan runs."""
        return self.confidence >= SURE

    @property
    def placeless(self) -> bool:
        """Only its record is left: there are no bytes to bring back."""
        return self.size > 0 and not self.map.reach

    @property
    def extents(self) -> tuple[Extent, ...]:
        """What of the medium it stands on."""
        segments = self.map.segments
        return segments[0].stored if len(segments) == 1 else self.map.stored  # asked for very often

    @property
    def covered(self) -> int:
        """Bytes of it that can be brought back: all but an end of which nobody knows the place."""
        return self.map.reach


@dataclass(frozen=True, slots=True)
class Tally:
    """Findings of one `key`, by state; how many are 0.9 sure or more, and their mean confidence."""

    key: str
    live: int
    deleted: int
    found: int
    bytes: int
    sure: int
    confidence: float
