"""Files that only their bytes tell of and that lie in pieces: their heads, put together with what follows elsewhere.

Nothing says how long they are but themselves: what is whole by its structure alone, although another file begins inside
of it, took turns with that; what breaks goes on behind a gap.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from sastrugi.media import Medium, RangeSet
from sastrugi.progress import Progress
from sastrugi.recovery.by_turns import apart, groups
from sastrugi.recovery.confidence import can_prove_itself
from sastrugi.recovery.content import Grid, breaks, is_nameless_text
from sastrugi.recovery.effort import Effort
from sastrugi.recovery.evidence import Clue, evidence
from sastrugi.recovery.findings import Finding
from sastrugi.recovery.habits import Habit
from sastrugi.recovery.laid_alike import MOST_MARKUP, markup_behind_gaps
from sastrugi.recovery.reassembly import Budget, reassemble
from sastrugi.recovery.reassembly_pass import claim, claim_extents
from sastrugi.recovery.scan_file import ScanFile

_MOST_READ, _MOST_READ_OF_ONE = 192 << 20, 16 << 20
_MOST_TRIES, _MOST_TRIES_OF_ONE = 5000, 120
_CLAIMED = "sound > 0 AND state != 'found'"


def put_together(
    medium: Medium, scan_file: ScanFile, grids: Sequence[Grid], progress: Progress, effort: Effort | None = None
) -> None:
    """Put findings of content alone in the places that are theirs. Nothing is committed."""
    found = [
        one for one in scan_file.findings("state = 'found'") if len(one.extents) == 1 and not is_nameless_text(one)
    ]
    left = [one for one in found if not _proved(one)]
    if not left:
        return
    taken = RangeSet()
    for extents in scan_file.sound_extents(_CLAIMED):
        claim_extents(taken, extents)
    for one in found:
        if _proved(one):
            claim(taken, one, one.sound)
    left.sort(key=lambda one: one.map.start or 0)
    walls = sorted(start for start in scan_file.starts() if start is not None)
    progress.start("pieces of what was found", len(left), "files")
    habit, turns = Habit(), Budget(_MOST_READ, _MOST_TRIES, effort=effort)
    left_to_read, left_to_try = _MOST_READ, _MOST_TRIES
    settled, done = set[int](), 0
    # What begins on the coarsest of several grids hardly does so by chance.
    for grid in sorted(grids, key=lambda grid: -grid.cluster):
        own = [one for one in left if grid.holds(one.map.start or 0) and grid.begins(one.map.start or 0)]
        mine = {one.number for one in own}
        left = [one for one in left if one.number not in mine]
        for group in groups(medium, [one for one in own if not breaks(one)], grid.cluster, grid.data.end, taken):
            progress.check()
            for one in apart(medium, group, habit, turns):
                _put(scan_file, taken, one)
                settled.add(one.number)
        for one in sorted(own, key=lambda one: one.size):
            progress.check()
            if one.number in settled or not breaks(one) or left_to_read <= 0 or (effort is not None and effort.spent):
                continue
            better = markup_behind_gaps(medium, one, grid.cluster, grid.data.end, taken)
            left_to_read -= MOST_MARKUP
            if better is None and left_to_read > 0 and left_to_try > 0:
                budget = Budget(min(left_to_read, _MOST_READ_OF_ONE), min(left_to_try, _MOST_TRIES_OF_ONE), 0, effort)
                better = reassemble(medium, one, grid.cluster, grid.data.end, taken, budget, walls=walls)
                left_to_read -= min(left_to_read, _MOST_READ_OF_ONE) - budget.left
                left_to_try -= budget.tries
            if better is not None:
                _put(scan_file, taken, better)
                settled.add(one.number)
            done += 1
            progress.at(done, f"{len(settled):,} put together")
    progress.finish()


def _put(scan_file: ScanFile, taken: RangeSet, finding: Finding) -> None:
    scan_file.replace(replace(finding, evidence=list(dict.fromkeys([*finding.evidence, evidence(Clue.NAMELESS)]))))
    if finding.sound and finding.sure:
        claim(taken, finding)
        scan_file.drop_parts_of(finding)


def _proved(finding: Finding) -> bool:
    """Whether it is whole by content that can stand nowhere else."""
    return can_prove_itself(finding.kind) and finding.sure
