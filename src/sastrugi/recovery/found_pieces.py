"""Files that only their bytes tell of and that lie in pieces: their heads, put together with what follows elsewhere.

Nothing says how long they are but themselves: what is whole by its structure alone, although another file begins inside
of it, took turns with that; what breaks goes on behind a gap.
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import replace

from sastrugi.media import Medium, RangeSet
from sastrugi.progress import Progress
from sastrugi.recovery.by_turns import apart, groups
from sastrugi.recovery.confidence import can_prove_itself
from sastrugi.recovery.content import Grid, breaks, is_nameless_text
from sastrugi.recovery.effort import Effort
from sastrugi.recovery.evidence import Clue, evidence, of_names
from sastrugi.recovery.findings import SURE, Finding
from sastrugi.recovery.follow import follow_all
from sastrugi.recovery.habits import Habit
from sastrugi.recovery.laid_alike import MOST_MARKUP, markup_behind_gaps
from sastrugi.recovery.placing import Budget
from sastrugi.recovery.reassembly import reassemble
from sastrugi.recovery.reassembly_pass import claim, claim_extents
from sastrugi.recovery.scan_file import ScanFile
from sastrugi.recovery.trails import Walls

_MOST_READ, _MOST_READ_OF_ONE = 192 << 20, 16 << 20
_MOST_TRIES, _MOST_TRIES_OF_ONE = 5000, 120
_BY_TRAILS = 0.5
"""The share of the effort for files that can be followed."""
_CLAIMED = "sound > 0 AND state != 'found'"
_NOT_PLACED = "state = 'deleted' AND size > 0 AND confidence < ?"


class FoundPieces:
    """One run over what content alone tells of."""

    def __init__(self, medium: Medium, scan_file: ScanFile, effort: Effort | None = None) -> None:
        self._medium, self._file, self._effort = medium, scan_file, effort or Effort(math.inf)
        found = [
            one for one in scan_file.findings("state = 'found'") if len(one.extents) == 1 and not is_nameless_text(one)
        ]
        self._left = sorted((one for one in found if not _proved(one)), key=lambda one: one.map.start or 0)
        self._settled: set[int] = set()
        self._guessed: set[int] = set()
        """Those that were put where they may lie as well as elsewhere."""
        self._taken = RangeSet()
        if not self._left:
            return
        for extents in scan_file.sound_extents(_CLAIMED):
            claim_extents(self._taken, extents)
        for one in found:
            if _proved(one):
                claim(self._taken, one, one.sound)
        self._walls = Walls(medium, scan_file.starts())
        self._recorded: dict[tuple[int | None, int], Finding] = {
            (one.map.start, one.size): one
            for one in scan_file.findings(_NOT_PLACED, (SURE,))
            if one.map.start is not None
        }
        """Files that a record tells of, by their first byte and size, which do not lie where they seemed to."""

    def follow(self, grids: Sequence[Grid], progress: Progress) -> None:
        """Put those that can be followed in the places that are theirs. Nothing is committed."""

        def waiting() -> Iterator[tuple[Finding, int, int]]:
            for grid, own in self._by_grid(grids):
                for one in own:
                    if one.number not in self._settled and (breaks(one) or one.tells(Clue.GUESSED_END)):
                        yield one, grid.cluster, grid.data.end

        if not self._left:
            return
        with self._effort.part(_BY_TRAILS) as effort:
            budget = Budget(1 << 40, 1 << 30, effort=effort)
            follow_all(self._medium, waiting, self._taken, budget, self._walls, self._put, progress)

    def put_together(self, grids: Sequence[Grid], progress: Progress) -> None:
        """Put the others in the places that are theirs. Nothing is committed."""
        if not self._left:
            return
        progress.start("pieces of what was found", len(self._left), "files")
        habit, turns = Habit(), Budget(_MOST_READ, _MOST_TRIES, effort=self._effort)
        left_to_read, left_to_try, done = _MOST_READ, _MOST_TRIES, 0
        for grid, own in self._by_grid(grids):
            rest = [one for one in own if not breaks(one) and one.number not in self._settled]
            for group in groups(self._medium, rest, grid.cluster, grid.data.end, self._taken):
                progress.check()
                for one in apart(self._medium, group, habit, turns):
                    self._put(one)
            for one in sorted(own, key=lambda one: one.size):
                progress.check()
                spent = left_to_read <= 0 or self._effort.spent
                if one.number in self._settled | self._guessed or not breaks(one) or spent:
                    continue
                better = markup_behind_gaps(self._medium, one, grid.cluster, grid.data.end, self._taken)
                left_to_read -= MOST_MARKUP
                if better is None and left_to_read > 0 and left_to_try > 0:
                    allowed = min(left_to_read, _MOST_READ_OF_ONE), min(left_to_try, _MOST_TRIES_OF_ONE)
                    budget = Budget(*allowed, 0, self._effort)
                    better = reassemble(
                        self._medium, one, grid.cluster, grid.data.end, self._taken, budget, walls=self._walls
                    )
                    left_to_read -= allowed[0] - budget.left
                    left_to_try -= budget.tries
                if better is not None:
                    self._put(better)
                done += 1
                progress.at(done, f"{len(self._settled):,} put together")
        progress.finish()

    def _by_grid(self, grids: Sequence[Grid]) -> Iterator[tuple[Grid, list[Finding]]]:
        """Each file with the grid that it begins on: what begins on the coarsest of several hardly does so by
        chance."""
        left = self._left
        for grid in sorted(grids, key=lambda grid: -grid.cluster):
            own = [one for one in left if grid.holds(one.map.start or 0) and grid.begins(one.map.start or 0)]
            mine = {one.number for one in own}
            left = [one for one in left if one.number not in mine]
            yield grid, own

    def _put(self, finding: Finding) -> None:
        (self._settled if finding.sound else self._guessed).add(finding.number)
        record = self._recorded.get((finding.map.start, finding.size)) if finding.sound and finding.sure else None
        if record is not None:  # it is that file, which has a name
            self._file.drop([finding.number])
            seen = [one for one in finding.evidence if not one.of_a_name]
            finding = replace(
                record, map=finding.map, confidence=finding.confidence, sound=finding.sound,
                evidence=[*seen, *of_names(record.evidence)],
            )  # fmt: skip
            self._file.replace(finding)
        else:
            seen = list(dict.fromkeys([*finding.evidence, evidence(Clue.NAMELESS)]))
            self._file.replace(replace(finding, evidence=seen))
        if finding.sound and finding.sure:
            claim(self._taken, finding)
            self._file.drop_parts_of(finding)


def _proved(finding: Finding) -> bool:
    """Whether it is whole by content that can stand nowhere else."""
    return can_prove_itself(finding.kind) and finding.sure
