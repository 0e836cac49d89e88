"""What the passes of a scan share."""

from __future__ import annotations

import json
import time
from collections import Counter
from collections.abc import Iterable, Iterator, Set

import numpy as np
from numpy.typing import NDArray

from sastrugi.errors import ScanFileError
from sastrugi.media import Extent, Medium, RangeSet
from sastrugi.media.extents import total
from sastrugi.progress import Progress
from sastrugi.recovery.effort import Effort, allowed
from sastrugi.recovery.evidence import Clue, evidence
from sastrugi.recovery.findings import Finding
from sastrugi.recovery.layout import Place, outside_of, unlisted_places
from sastrugi.recovery.limits import Limits
from sastrugi.recovery.scan_file import ScanFile
from sastrugi.recovery.sector_survey import SECTOR, Mark, Survey, SurveyOptions, sectors_of
from sastrugi.volumes.reader import Volume

_COMMIT_SECONDS = 1.0
_REPORT_EVERY = 50
_UNREAD = 0.05


class ScanContext:
    """What all passes need: the medium, its places, the scan file, limits and progress; and the survey of sectors that
    they share. What is found is kept in the scan file at least once a second."""

    def __init__(
        self,
        medium: Medium,
        scan_file: ScanFile,
        places: list[Place],
        limits: Limits,
        progress: Progress,
        needs: Set[str],
        effort: float = 1.0,
    ) -> None:
        """`needs` is what the passes ask of the survey: `folders`, `content`; `effort` is how much of the usual work
        may go into putting pieces together."""
        self._effort = effort
        self.medium, self.file, self.places, self.progress = medium, scan_file, places, progress
        self.limits = limits
        self._groups: Counter[str] = Counter()
        self._committed = time.monotonic()
        self.swept = 0
        self.kept_by_volumes: list[tuple[str, Extent]] | None = None
        """What belongs to no file, and whether it is a table or a folder, as the pass that looks for folders saw it."""
        wanted = SurveyOptions("folders" in needs, "content" in needs, limits.wanted_kinds())
        self.survey = Survey(medium, scan_file, wanted)
        self._complete = False
        self.range = limits.range(medium.size)
        if limits.volume:
            self.add_unlisted()
            chosen = [place.where for place in places if place.number == limits.volume]
            if not chosen:
                raise ScanFileError(f"there is no volume {limits.volume}: 'sastrugi look' lists those there are")
            lo = max(self.range.offset, chosen[0].offset)
            self.range = Extent(lo, max(min(self.range.end, chosen[0].end) - lo, 0))

    @property
    def volumes(self) -> list[Volume]:
        return [place.volume for place in self.places if place.volume]

    def add_unlisted(self) -> list[Place]:
        """The volumes that no table lists, which are looked for once; they are added to the places, and answered."""
        if self._complete:
            return []
        self._complete = True
        outside = outside_of(self.medium, self.places)
        self.sweep(outside)
        boots = (at for base, marks in self.marks(outside) for at in sectors_of(base, marks & Mark.BOOT != 0))
        new = unlisted_places(self.medium, self.places, boots)
        self.places += new
        return new

    def sweep(self, ranges: Iterable[Extent]) -> None:
        """Survey what was not surveyed before."""
        self.swept += self.survey.over(ranges, self.progress, lambda: self.so_far, self.commit_now_and_then)
        self.file.commit()

    def marks(self, ranges: Iterable[Extent]) -> Iterator[tuple[int, NDArray[np.uint16]]]:
        """The marks of the survey inside of `ranges`, which are in order."""
        inside = RangeSet(ranges)
        for base, marks in self.survey.marks():
            for part in inside.overlap(Extent(base, len(marks) * SECTOR)):
                yield part.offset, marks[(part.offset - base) // SECTOR : -(-(part.end - base) // SECTOR)]

    def add(self, finding: Finding) -> None:
        lost = sum(map(self.medium.unreadable.count, finding.extents))
        if lost:
            finding.confidence = min(finding.confidence, _UNREAD)
            finding.evidence.append(evidence(Clue.UNREADABLE, lost, finding.size))
        if self.limits.keeps(finding):
            self.file.add(finding)
            if finding.state != "live":
                self._groups[finding.group] += 1

    def effort(self, share: float) -> Effort:
        """What a stage may spend on putting pieces together: so large a share of what is allowed by what is known now,
        and what the stage before it left."""
        data = total(self.medium.data_ranges(0, self.medium.size))
        return allowed(share * self._effort, data, self.file.measured(), self.file.number("effort_left"))

    def effort_ends(self, effort: Effort) -> None:
        """A stage is over: what it left is for the next one, or it is said that not all was tried."""
        self.file.put("effort_left", str(max(int(effort.left), 0)))
        if effort.spent:
            self.note("not every way to put pieces together was tried: --effort 4 tries more of them")

    def note(self, words: str) -> None:
        """Say that something was left out."""
        self.file.put("notes", json.dumps(list(dict.fromkeys([*self.file.notes(), words]))))

    def commit_now_and_then(self) -> None:
        if time.monotonic() - self._committed > _COMMIT_SECONDS:
            self.file.commit()
            self._committed = time.monotonic()

    @property
    def so_far(self) -> str:
        return ", ".join(f"{count:,} {group}" for group, count in self._groups.most_common())

    def watched(self, findings: Iterable[Finding], task: str) -> None:
        """Add findings as they come."""
        self.progress.start(task, 0, "files")
        for count, finding in enumerate(findings, 1):
            self.add(finding)
            if count % _REPORT_EVERY == 0:
                self.progress.at(count, self.so_far)
                self.progress.check()
                self.commit_now_and_then()
        self.progress.finish()

    def sound_claims(self) -> RangeSet:
        """What belongs to findings as far as nothing speaks against them, in whole sectors; live files that the limits
        leave out are asked of their volumes."""
        claims = RangeSet()
        for extents in (*self.file.sound_extents(), *self._live_left_out()):
            for extent in extents:
                claims.add(Extent(extent.offset, -(-extent.length // SECTOR) * SECTOR))
        return claims

    def _live_left_out(self) -> Iterator[tuple[Extent, ...]]:
        if self.limits.any:
            for place in self.places:
                for entry in place.volume.entries() if place.volume and not place.not_mounted else ():
                    if not (entry.deleted or entry.damaged or entry.folder):
                        yield entry.map.stored
