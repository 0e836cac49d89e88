"""All findings of a scan that lie in pieces, put together with regard to each other: what is proved narrows the choice
for the rest, and what is left is judged by it."""

from __future__ import annotations

import math
from collections.abc import Container, Iterable, Iterator, Sequence
from dataclasses import replace
from typing import Any

from sastrugi.kinds import recognise
from sastrugi.media import Extent, Medium, RangeSet
from sastrugi.media.filemap import FileMap
from sastrugi.progress import Progress
from sastrugi.recovery.by_turns import Group, apart, groups, is_text
from sastrugi.recovery.byte_chains import ByteReading
from sastrugi.recovery.byte_histograms import compare
from sastrugi.recovery.chains import CLEARLY, MOST_PASSED, PERHAPS, Chains, Reading
from sastrugi.recovery.cluster_looks import Looks
from sastrugi.recovery.confidence import LOOKED_THROUGH, can_prove_itself
from sastrugi.recovery.effort import Effort
from sastrugi.recovery.evidence import Clue, Evidence, evidence
from sastrugi.recovery.findings import SURE, Finding
from sastrugi.recovery.follow import follow_all
from sastrugi.recovery.habits import Habit
from sastrugi.recovery.laid_alike import as_beside, habit_of, text_behind_gaps
from sastrugi.recovery.placing import Budget
from sastrugi.recovery.reassembly import reassemble
from sastrugi.recovery.scan_file import ScanFile
from sastrugi.recovery.sector_survey import SECTOR
from sastrugi.recovery.sources import MediumSource
from sastrugi.recovery.text_chains import TextReading, begins_as_text
from sastrugi.recovery.trails import Walls

_ROUNDS = 3
_BY_TURNS, _BY_TRAILS = 0.35, 0.7
"""Shares of the effort that is left, for files by turns and for those that can be followed."""
_READING, _READ_FOR = 0.6, (5e7, 2e8, 1e9)
"""The share of what is left of the effort that goes to chains, each time that they are asked for; nanoseconds that one
file may take at most, in each round."""
_PROVING = 0.6
"""The share of the first that goes to files by turns of which one at least is proved."""
_AROUND_ALL = 0.5
"""The share of it that goes to following around all that is claimed."""
_FOLLOWED, _MOST_FOLLOWED = 1 << 40, 100_000
"""Bytes of followed files that are measured, and such files: the effort ends it before."""
_PAIRED, _MOST_WAYS = 1 << 30, 1 << 18
"""Bytes of files by turns that are measured, and ways that are tried."""
_LOOKED_AT, _BESIDE = 256 << 20, 1 << 20
"""Bytes of files that nothing proves which are looked at; bytes behind such a file in which its pieces are sought."""
_DELETED = "state = 'deleted' AND size > 0 AND volume IS NOT NULL"
_SURE_AND_LIVE = f"state = 'live' AND sound > 0 AND confidence >= {SURE}"
_FEW, _NEAR = 2000, 16 << 20
"""Findings up to which each is compared with what is claimed near it; bytes behind a file in which its pieces are
looked for."""
_MOST_OPEN = 64
"""Claims on one place that are compared with each other."""
_MOST_PAIRS = 20_000
_ALIKE, _UNLIKE, _OVERWRITTEN, _CONTESTED = 0.85, 0.5, 0.03, 0.5


class Assembly:
    """One run over the findings of a scan file.

    `geometry` tells the cluster size of each volume and where it ends; `own` is what file systems keep for themselves.
    """

    def __init__(
        self, medium: Medium, scan_file: ScanFile, geometry: dict[int, tuple[int, int]], own: Iterable[Extent],
        effort: Effort | None = None,
    ) -> None:  # fmt: skip
        self._medium, self._file, self._geometry = medium, scan_file, geometry
        self._effort = effort or Effort(math.inf)
        self._budget = Budget(effort=self._effort)
        self._siblings = compare(medium, scan_file)
        # Read once and kept up: the file is asked for all of them in every round.
        self._findings = {finding.number: finding for finding in scan_file.findings(_DELETED)}
        self._in_order: list[Finding] | None = None
        self._as_text: dict[int, bool] = {}
        self._walls = Walls(medium, scan_file.starts())
        self._contested = self._find_contested()
        self._firm = RangeSet(own)
        for extents in scan_file.sound_extents(_SURE_AND_LIVE):
            claim_extents(self._firm, extents)
        doubted = self._contested | self._siblings.unlike.keys()
        weak: list[Finding] = []
        for finding in self._findings.values():
            if finding.sound and finding.sure and finding.number not in doubted:
                if self._is_firm(finding):
                    claim(self._firm, finding, finding.sound)
                else:
                    weak.append(finding)
        self._taken = RangeSet(self._firm)
        for finding in weak:
            claim(self._taken, finding, finding.sound)
        self._perhaps = RangeSet(self._taken)
        for finding in self._findings.values():
            if not finding.sure and finding.number in self._siblings.alike and not _overlap(self._taken, finding):
                claim(self._perhaps, finding)

    def _is_firm(self, finding: Finding) -> bool:
        """Whether a sure finding lies where it does by its content, or by a record: not by headers alone."""
        told = finding.volume not in self._geometry
        return told or finding.number in self._siblings.alike or can_prove_itself(finding.kind)

    def _find_contested(self) -> set[int]:
        """Findings whose places are claimed by others too, whose content proves nothing about that, while the others'
        does: they are not where they are said to lie."""
        claims: list[tuple[int, int, int]] = []
        for finding in self._findings.values():
            if finding.volume not in self._geometry:
                continue  # its records tell where it lies
            if finding.sure or finding.number in self._siblings.alike:
                claims += [(extent.offset, extent.end, finding.number) for extent in finding.extents]
        pairs: set[tuple[int, int]] = set()
        open_claims: list[tuple[int, int]] = []
        for start, end, number in sorted(claims):
            open_claims = [claim for claim in open_claims if claim[0] > start][-_MOST_OPEN:]
            pairs |= {(other, number) for _, other in open_claims if other != number}
            open_claims.append((end, number))
            if len(pairs) > _MOST_PAIRS:
                break
        self._proofs = Budget()
        proved = {number: self._proves(number) for number in {number for pair in pairs for number in pair}}
        return {a for pair in pairs for a, b in (pair, pair[::-1]) if proved[b] and not proved[a]}

    def _proves(self, number: int) -> bool:
        """Whether a finding is the file that it says to be, by more than its headers."""
        if number in self._siblings.alike:
            return True
        finding = self._findings[number]
        if finding.tells(Clue.ONLY_PLACE) and finding.sure:
            return True  # what lies nowhere else lies there
        if not self._proofs.spend(finding.covered):
            return False
        measure = recognise(MediumSource(self._medium, finding.map), deep=True)
        return measure is not None and measure.whole and measure.proof in LOOKED_THROUGH

    def run(self, progress: Progress) -> None:
        """Try findings in other places, more than once. Nothing is committed."""
        with self._effort.part(_READING) as effort:
            self._read_on(progress, effort, CLEARLY, TextReading, self._exactly_by_turns())
        with self._effort.part(_BY_TURNS) as effort:
            self._part_groups(progress, effort)
        with self._effort.part(_BY_TRAILS) as effort:
            self._follow(progress, effort)
        self._read_all_on(progress, CLEARLY)
        for round_number in range(1, _ROUNDS + 1):
            waiting = sorted(self._waiting(), key=lambda one: one.size)  # what costs little comes first
            progress.start(f"pieces, round {round_number}", len(waiting), "files")
            settled = 0
            for count, finding in enumerate(waiting, 1):
                settled += self._settle(finding, round_number > 1)
                progress.at(count, f"{settled:,} put together")
                progress.check()
            progress.finish()
            if (not settled and round_number > 1) or self._budget.spent:
                break
        self._read_all_on(progress, PERHAPS)
        self._lay_alike(progress)
        self._weigh()

    def _read_all_on(self, progress: Progress, least: float) -> None:
        sorts: tuple[type[TextReading], type[ByteReading]] = (TextReading, ByteReading)
        for sort in sorts:
            with self._effort.part(_READING) as effort:
                self._read_on(progress, effort, least, sort)

    def _read_on(
        self, progress: Progress, effort: Effort, least: float, sort: type[TextReading] | type[ByteReading],
        but_for: Container[int] = (),
    ) -> None:  # fmt: skip
        """Lay files that nothing proves (texts, or all others) on the chains of clusters that go together best, where
        these are so likely at least. The likeliest are laid first: each leaves less to choose from for the others."""
        for volume, (cluster, end) in self._geometry.items():
            reading: Reading[Any, Any] = sort(cluster)
            chains = Chains(reading, self._medium, cluster, end, self._walls, effort)
            for most in _READ_FOR:
                read = []
                for one in self._unproved(volume, cluster, sort is TextReading):
                    if one.number in but_for:
                        continue
                    progress.check()
                    if effort.spent:
                        break  # what was found so far is laid
                    reach = Extent(one.map.start or 0, MOST_PASSED * cluster)
                    chain = chains.find(one, self._claims_but_for([one], reach), most)
                    if chain is not None and (chain.proof or chain.probability >= least):
                        read.append((chain.proof is not None, chain.probability, one.number, chain.laid(one, cluster)))
                for *_, laid in sorted(read, key=lambda told: (not told[0], -told[1], told[2])):
                    if not any(map(self._taken.meets, laid.extents)):
                        self._settled(laid)

    def _unproved(self, volume: int, cluster: int, text: bool) -> list[Finding]:
        """Those of one volume of which nothing tells where they lie, and that begin as text, or that do not; the
        shortest first."""
        unsure = (
            one
            for one in self._waiting()
            if one.volume == volume and one.map.plain and one.size > cluster and not one.tells(Clue.ONLY_PLACE)
        )
        return sorted((one for one in unsure if self._begins_as_text(one, cluster) == text), key=lambda one: one.size)

    def _begins_as_text(self, one: Finding, cluster: int) -> bool:
        if one.number not in self._as_text:
            told = is_text(one)
            begins = told is None and begins_as_text(self._medium, one.map.start or 0, cluster)
            self._as_text[one.number] = bool(told) or begins
        return self._as_text[one.number]

    def _follow(self, progress: Progress, effort: Effort) -> None:
        def waiting() -> Iterator[tuple[Finding, int, int]]:
            for one in self._waiting():
                if one.volume in self._geometry:
                    yield one, *self._geometry[one.volume]

        found: list[Finding] = []

        def put(finding: Finding) -> None:
            self._settled(finding)
            claim(self._firm, finding, finding.sound)
            found.append(finding)

        # First around what only headers speak for, which mostly lies where it seems to; then through it.
        looks = Looks()
        for claims, share in ((self._taken, _AROUND_ALL), (self._firm, 1.0)):
            with effort.part(share) as part:
                budget = Budget(_FOLLOWED, _MOST_FOLLOWED, effort=part)
                follow_all(self._medium, waiting, claims, budget, self._walls, put, progress, looks)
        self._make_way([one for one in found if one.sound])

    def _make_way(self, found: Iterable[Finding]) -> None:
        """What only headers speak for does not lie where files lie that were followed."""
        new = RangeSet()
        for one in found:
            claim(new, one, one.sound)
        numbers = {one.number for one in found}
        for one in list(self._findings.values()):
            if one.sound and one.sure and one.number not in numbers and not self._is_firm(one) and _overlap(new, one):
                for extent in _owned(one.extents, one.sound):
                    for claims in (self._taken, self._perhaps):
                        for free in self._firm.gaps(extent):
                            claims.remove(free)
                seen = [*one.evidence, evidence(Clue.CONTESTED)]
                self._put(replace(one, confidence=_CONTESTED, sound=0, evidence=seen))

    def _waiting(self) -> list[Finding]:
        """Those that are not where they surely lie, as the file orders them."""
        return [
            one
            for one in self._by_place()
            if (not one.sure or one.number in self._contested) and one.number not in self._siblings.compared
        ]

    def _settled(self, finding: Finding) -> None:
        """It lies where it was put, and keeps others from there."""
        self._put(finding)
        self._contested.discard(finding.number)
        if finding.sound:
            claim(self._taken, finding)
            claim(self._perhaps, finding)

    def _part_groups(self, progress: Progress, effort: Effort) -> None:
        """Files that were written by turns: each begins where the one before it was not at its end. What is proved of
        some tells how the others took turns, too, so they are gone through twice."""
        habit = Habit()
        for unproved, share in ((False, _PROVING), (True, 1.0)):
            with effort.part(share) as part:
                self._part_with(habit, unproved, Budget(_PAIRED, _MOST_WAYS, effort=part), progress)

    def _exactly_by_turns(self) -> set[int]:
        """Files, by their numbers, that took turns in a stretch which holds nothing else. How they took turns tells
        more of them than how their texts go on: most of these are of one kind."""
        every = (group for volume in self._geometry for group in self._groups(volume))
        return {one.number for group in every if group.closed for one in group.files}

    def _groups(self, volume: int) -> list[Group]:
        """Files of one volume that may have been written by turns."""
        cluster, end = self._geometry[volume]
        waiting = [one for one in self._by_place() if one.volume == volume and _is_guessed(one)]
        return list(groups(self._medium, waiting, cluster, end, self._claims_but_for(waiting)))

    def _part_with(self, habit: Habit, unproved: bool, budget: Budget, progress: Progress) -> None:
        for volume in self._geometry:
            told = self._groups(volume)
            for group in told:
                group.offer_to(habit)
            for group in told:
                progress.check()
                if budget.spent:
                    return
                for one in apart(self._medium, group, habit, budget, unproved):
                    self._settled(one)

    def _lay_alike(self, progress: Progress) -> None:
        """What nothing proves: texts on what is text, and the others as those beside them lie."""
        left = _LOOKED_AT
        for volume, (cluster, end) in self._geometry.items():
            for by_habit in (False, True):
                own = [one for one in self._by_place() if one.volume == volume]
                habit = habit_of(own, cluster)
                waiting = [
                    one for one in own if _is_guessed(one) and one.size > cluster and not can_prove_itself(one.kind)
                ]
                for one in waiting:
                    progress.check()
                    idle = not habit.near(one.map.start or 0) if by_habit else one.sure
                    if idle or one.number in self._siblings.compared:
                        continue
                    left -= one.size
                    if left < 0:
                        return
                    taken = self._claims_but_for([one], Extent(one.map.start or 0, 2 * one.size + _BESIDE))
                    if by_habit:
                        laid = as_beside(self._medium, one, cluster, end, taken, habit)
                    else:
                        laid = text_behind_gaps(self._medium, one, cluster, end, taken)
                    if laid is not None:
                        self._put(laid)
                        self._contested.discard(one.number)
                        claim(self._taken, laid)

    def _claims_but_for(self, findings: Sequence[Finding], reach: Extent | None = None) -> RangeSet:
        """What is taken (within reach), but not by some findings."""
        taken = self._taken.within(reach) if reach else RangeSet(self._taken)
        for one in findings:
            if one.sure:
                for extent in _owned(one.extents, one.covered):
                    taken.remove(extent)
        return taken

    def _by_place(self) -> list[Finding]:
        """Those that lie nowhere first, as the file orders them."""
        if self._in_order is None:
            self._in_order = sorted(self._findings.values(), key=_place)
        return self._in_order

    def _put(self, finding: Finding) -> None:
        self._in_order = None
        self._findings[finding.number] = finding
        self._file.replace(finding)

    def _settle(self, finding: Finding, across: bool) -> bool:
        cluster, end = self._geometry.get(finding.volume or 0, (0, 0))
        start = finding.map.start or 0
        near = Extent(start, finding.size + _NEAR)
        # Where both claim the same, the second search would be the first again.
        same = len(self._findings) <= _FEW and self._perhaps.within(near).same_as(self._taken.within(near))
        for others in ((self._taken,) if same else (self._perhaps, self._taken)) if cluster else ():
            better = reassemble(self._medium, finding, cluster, end, others, self._budget, across, self._walls)
            if better is not None:
                self._settled(better)
                return True
        return False

    def _weigh(self) -> None:
        """What was put together since, and the others beside it, tell more of a file whose content proves nothing."""
        for finding in list(self._findings.values()):
            sure, sound = finding.confidence, finding.sound
            seen: Evidence | None = None
            number, alike, unlike = finding.number, self._siblings.alike, self._siblings.unlike
            guessed = finding.volume in self._geometry
            lost = _overlap(self._taken, finding) if sure < SURE and guessed else 0
            if lost and sound:
                sure, sound = min(sure, _OVERWRITTEN), 0
                seen = evidence(Clue.OVERWRITTEN, lost)
            elif number in self._contested:
                sure, sound = min(sure, _CONTESTED), 0
                seen = evidence(Clue.CONTESTED)
            elif number in alike:
                sure = max(sure, _ALIKE)
                seen = evidence(Clue.ALIKE, alike[number])
            elif number in unlike:
                sure = min(sure, _UNLIKE)
                seen = evidence(Clue.UNLIKE, unlike[number])
            if seen is not None:
                gone = lost >= finding.covered
                every = [*finding.evidence, seen, *([evidence(Clue.NOTHING_LEFT)] if gone else [])]
                self._put(
                    replace(
                        finding,
                        confidence=0.0 if gone else sure,
                        sound=sound,
                        evidence=every,
                        map=FileMap() if gone else finding.map,
                    )
                )


def _place(finding: Finding) -> tuple[bool, int, int]:
    start = finding.map.start
    return (start is not None, start or 0, finding.number)


def _is_guessed(finding: Finding) -> bool:
    """Whether a file lies in one piece only because nothing says otherwise."""
    return len(finding.extents) == 1 and finding.map.plain and not finding.tells(Clue.ONLY_PLACE)


def claim(claims: RangeSet, finding: Finding, length: int | None = None) -> None:
    """Add what a finding keeps others from: of so many of its bytes, or of all of them that can be brought back."""
    claim_extents(claims, finding.extents, finding.covered if length is None else length)


def claim_extents(claims: RangeSet, extents: Iterable[Extent], length: int = 1 << 62) -> None:
    """Add what so many bytes of a file on these extents keep others from."""
    for extent in _owned(extents, length):
        claims.add(extent)


def _owned(extents: Iterable[Extent], length: int) -> Iterator[Extent]:
    """What begins at a sector has this to its end; what stands inside of a record has its own bytes."""
    for offset, size in extents:
        own = min(size, length)
        if own > 0:
            yield Extent(offset, own if offset % SECTOR else -(-own // SECTOR) * SECTOR)
        length -= own


def _overlap(claims: RangeSet, finding: Finding) -> int:
    return sum(claims.count(extent) for extent in finding.extents)
