"""A file in places that were guessed: measured, judged, and told as a finding; and what that may cost."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from sastrugi.kinds import Measure, Proof, recognise
from sastrugi.media import Extent, Medium
from sastrugi.media.extents import cut
from sastrugi.media.filemap import FileMap
from sastrugi.recovery.confidence import BY_PROOF, LOOKED_THROUGH, of_measure
from sastrugi.recovery.effort import Effort
from sastrugi.recovery.evidence import Clue, evidence, of_names
from sastrugi.recovery.findings import Finding
from sastrugi.recovery.sources import MediumSource

LATE = 32 << 10
"""Bytes by which a break may be told late."""
_BY_HEADERS = 0.7
_PENALTY = 0.97
"""What a guess of the place costs, however well it is proved."""


@dataclass(slots=True)
class Budget:
    """How much may still be read for tries of one search. `tries` counts those that were made; `effort` is what all
    searches share."""

    left: int = 256 << 20
    most: int = 1500
    tries: int = 0
    effort: Effort | None = None

    def spend(self, count: int, kind: str = "") -> bool:
        self.left -= count
        self.tries += 1
        if self.effort is not None:
            self.effort.spend(count, kind)
        return not self.spent

    def followed(self, count: int, cost: float) -> bool:
        """Whether going on may be tried further, after so many bytes of it."""
        if self.effort is not None:
            self.effort.follow(count, cost)
        return not self.spent

    @property
    def spent(self) -> bool:
        return self.left <= 0 or self.tries >= self.most or (self.effort is not None and self.effort.spent)


def measured(medium: Medium, file: FileMap, budget: Budget) -> Measure | None:
    if budget.spent:
        return None
    source = MediumSource(medium, file)
    measure = recognise(source, deep=True)
    budget.spend(source.looked, measure.kind if measure is not None else "")
    return measure


def is_right(measure: Measure, finding: Finding, recorded: bool, checked: bool = False) -> bool:
    """Whether a measure proves a file whole, as long as its record says if there is one. `checked`: checks along all of
    it came out, so that headers are enough."""
    if not measure.whole or (measure.proof < Proof.STATISTICS and not (checked and recorded)):
        return False
    return not recorded or measure.length == finding.size


def as_placed(
    finding: Finding, measure: Measure, extents: Sequence[Extent], how: Clue, tries: int, checked: bool = False
) -> Finding:  # fmt: skip
    """The finding in other places. `checked`: each piece passed more checks than chance would, whatever the proof of
    the whole is."""
    length = finding.size if finding.state == "deleted" else measure.length
    places = cut(extents, length)
    seen = [evidence(how, len(places), tries), of_measure(measure), *of_names(finding.evidence)]
    through = checked or measure.proof in LOOKED_THROUGH
    proof = max(measure.proof, Proof.STRUCTURE) if checked else measure.proof
    sure = BY_PROOF[proof] * (_PENALTY if through or tries == 1 else _BY_HEADERS)
    sound = length if through or tries == 1 else 0
    return replace(finding, map=FileMap.of(places, length), size=length, confidence=sure, evidence=seen, sound=sound)
