"""A scan: the passes in order, each finding into the scan file, from where an earlier run stopped."""

from __future__ import annotations

import json
import time
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from sastrugi.errors import Interrupted, MediumError, SastrugiError, ScanFileError
from sastrugi.media import Extent, Medium, RangeSet
from sastrugi.progress import Progress
from sastrugi.recovery.assembly import Assembly
from sastrugi.recovery.bins import with_bin_names
from sastrugi.recovery.content import ContentPass, Grid
from sastrugi.recovery.findings import PASSES, Finding, FoundVolume
from sastrugi.recovery.layout import Place, find_places, missing_bytes, outside_of, unlisted_places
from sastrugi.recovery.limits import Limits
from sastrugi.recovery.relics import ghosts_of, loose_outside, relic_findings
from sastrugi.recovery.scan_file import ScanFile, medium_identity, remove_scan_file
from sastrugi.recovery.survey import SECTOR, Mark, Survey, Wanted
from sastrugi.recovery.tables import table_findings
from sastrugi.units import format_size
from sastrugi.volumes.base import Volume
from sastrugi.volumes.relics import LooseTable, loose_tables

_COMMIT_SECONDS = 1.0
_REPORT_EVERY = 50
_UNREAD = 0.05
MOST_LOOSE = 24 << 20
"""Bytes of folders of earlier lives that are read, 32 for an entry: of several hundred thousand files."""


@dataclass(frozen=True, slots=True)
class ScanResult:
    """What a scan did, for the one who asked for it."""

    path: Path
    findings: dict[str, int]
    seconds: float
    bytes_swept: int


def scan(
    medium: Medium,
    out: Path,
    progress: Progress,
    passes: Iterable[str] = PASSES,
    go_on: bool = False,
    as_is: bool = False,
    limits: Limits | None = None,
    replace: bool = False,
) -> ScanResult:
    """Scan `medium` into the scan file `out`.

    `go_on` continues an unfinished scan file, with the limits it was begun with.
    `replace` makes a new one in the place of one that is there. `as_is` accepts a medium that is shorter than its own
    tables say. Raises MediumError for such a medium otherwise, ScanFileError for a scan file that does not fit, and
    Interrupted (with everything saved) when `progress` asks to stop. A scan that fails at once leaves no file.
    """
    began = time.monotonic()
    places = find_places(medium)
    missing = missing_bytes(medium, places)
    if missing > 0 and not as_is:
        raise MediumError(
            f"{medium.path}: cut short: its own tables speak of {missing:,} bytes more than the {medium.size:,} "
            "there are; add --as-is to scan what is there"
        )
    wanted = [name for name in PASSES if name in set(passes) | {"layout"}]
    limits = limits or Limits()
    limits.check(medium)
    if replace and not go_on:
        remove_scan_file(out)
    with _open(out, medium, wanted, go_on, limits) as scan_file:
        try:
            run = _Run(medium, scan_file, places, Limits.read(scan_file.get("limits")), progress)
            named = scan_file.get("passes").split(",")
            for step, name in enumerate(named, 1):
                if name not in PASSES:
                    raise ScanFileError(f"{out}: is damaged: '{name[:40]}' is no pass")
                progress.stage = f"{step}/{len(named)} {name}"
                if scan_file.get(f"done_{name}") != "yes":
                    getattr(run, name)()
                    scan_file.put(f"done_{name}", "yes")
                    scan_file.commit()
            scan_file.put("unread", json.dumps(list(medium.unread)))
            scan_file.put("seconds", f"{scan_file.seconds() + time.monotonic() - began:.3f}")
            scan_file.finish()
        except (KeyboardInterrupt, Interrupted):
            scan_file.commit()
            raise Interrupted(f"stopped; what was found so far is in {out}") from None
        except SastrugiError:
            if not go_on and not scan_file.last_number():
                remove_scan_file(out)
            raise
        return ScanResult(out, scan_file.counts(), time.monotonic() - began, run.swept)


def _open(out: Path, medium: Medium, passes: list[str], go_on: bool, limits: Limits) -> ScanFile:
    if not go_on:
        scan_file = ScanFile.create(out, medium, passes)
        scan_file.put("limits", limits.text())
        scan_file.commit()
        return scan_file
    scan_file = ScanFile.open(out, for_writing=True)
    if scan_file.finished:
        raise ScanFileError(f"{out}: this scan is finished: see it with 'sastrugi list {out}'")
    if scan_file.get("medium_identity") != medium_identity(medium):
        raise ScanFileError(
            f"{out}: was begun on another medium ({scan_file.get('medium')}), or the medium has changed since"
        )
    return scan_file


def describe(place: Place) -> FoundVolume:
    """A place on the medium, with what its volume says of itself."""
    volume = place.volume
    note = (place.partition.note,) if place.partition and place.partition.note else ()
    if volume is None:
        return FoundVolume(place.number, place.where, "unknown", "", "", 0, 0, 0, place.origin, note)
    used, free = volume.used_and_free()
    return FoundVolume(
        place.number,
        place.where,
        volume.file_system,
        volume.label,
        volume.serial,
        volume.cluster_size,
        used,
        free,
        place.origin,
        (*note, *volume.health),
    )


class _Run:
    """The passes over one medium. What is found is kept in the scan file at least once a second."""

    def __init__(
        self, medium: Medium, scan_file: ScanFile, places: list[Place], limits: Limits, progress: Progress
    ) -> None:
        self._medium, self._file, self._places, self._progress = medium, scan_file, places, progress
        self._limits = limits
        self._groups: Counter[str] = Counter()
        self._committed = time.monotonic()
        self.swept = 0
        named = scan_file.get("passes").split(",")
        wanted = Wanted("relics" in named, "content" in named, limits.wanted_kinds())
        self._survey = Survey(medium, scan_file, wanted)
        self._complete = False
        self._range = limits.range(medium.size)
        if limits.volume:
            self._add_unlisted()
            chosen = [place.where for place in places if place.number == limits.volume]
            if not chosen:
                raise ScanFileError(f"there is no volume {limits.volume}: 'sastrugi look' lists those there are")
            lo = max(self._range.offset, chosen[0].offset)
            self._range = Extent(lo, max(min(self._range.end, chosen[0].end) - lo, 0))

    @property
    def _volumes(self) -> list[Volume]:
        return [place.volume for place in self._places if place.volume]

    # -- what all passes need ---------------------------------------------------------------

    def _add_unlisted(self) -> list[Place]:
        """The volumes that no table lists, which are looked for once; they are added to the places, and answered."""
        if self._complete:
            return []
        self._complete = True
        outside = outside_of(self._medium, self._places)
        self._sweep(outside)
        boots = (at for base, marks in self._marks(outside) for at in _sectors(base, marks & Mark.BOOT != 0))
        new = unlisted_places(self._medium, self._places, boots)
        self._places += new
        return new

    def _sweep(self, ranges: Iterable[Extent]) -> None:
        """Survey what was not surveyed before."""
        self.swept += self._survey.over(ranges, self._progress, lambda: self._so_far, self._commit_now_and_then)
        self._file.commit()

    def _marks(self, ranges: Iterable[Extent]) -> Iterator[tuple[int, NDArray[np.uint16]]]:
        """The marks of the survey inside of `ranges`, which are in order."""
        inside = RangeSet(ranges)
        for base, marks in self._survey.marks():
            for part in inside.overlap(Extent(base, len(marks) * SECTOR)):
                yield part.offset, marks[(part.offset - base) // SECTOR : -(-(part.end - base) // SECTOR)]

    def _add(self, finding: Finding) -> None:
        lost = sum(map(self._medium.unreadable.count, finding.extents))
        if lost:
            finding.confidence = min(finding.confidence, _UNREAD)
            finding.reasons.append(f"{lost:,} of its {finding.size:,} bytes could not be read")
        if self._limits.keeps(finding):
            self._file.add(finding)
            if finding.state != "live":
                self._groups[finding.group] += 1

    def _commit_now_and_then(self) -> None:
        if time.monotonic() - self._committed > _COMMIT_SECONDS:
            self._file.commit()
            self._committed = time.monotonic()

    @property
    def _so_far(self) -> str:
        return ", ".join(f"{count:,} {group}" for group, count in self._groups.most_common())

    def _watched(self, findings: Iterable[Finding], task: str) -> None:
        """Add findings as they come."""
        self._progress.start(task, 0, "files")
        for count, finding in enumerate(findings, 1):
            self._add(finding)
            if count % _REPORT_EVERY == 0:
                self._progress.at(count, self._so_far)
                self._progress.check()
                self._commit_now_and_then()
        self._progress.finish()

    def _sound_claims(self) -> RangeSet:
        """What belongs to findings as far as nothing speaks against them, in whole sectors; live files that the limits
        leave out are asked of their volumes."""
        claims = RangeSet()
        for extents in (*self._file.sound_extents(), *self._live_left_out()):
            for extent in extents:
                claims.add(Extent(extent.offset, -(-extent.length // SECTOR) * SECTOR))
        return claims

    def _live_left_out(self) -> Iterator[tuple[Extent, ...]]:
        if self._limits.any:
            for place in self._places:
                for entry in place.volume.entries() if place.volume and place.listed else ():
                    if not (entry.deleted or entry.damaged or entry.folder) and entry.placements:
                        yield entry.placements[0].extents

    # -- the passes -------------------------------------------------------------------------

    def layout(self) -> None:
        if "tables" not in self._file.get("passes").split(","):  # which looks for them after those that are listed
            self._add_unlisted()
        for place in self._places:
            self._file.add_volume(describe(place))

    def tables(self) -> None:
        """Volumes that are listed first: what they tell can be seen while the rest of the medium is swept."""
        self._file.discard("tables")
        listed = list(self._places)
        self._tables_of(listed)
        self._file.commit()
        self._tables_of([place for place in self._places if place not in listed] or self._add_unlisted())
        self.layout()  # reading the tables tells more of a volume's label and health

    def _tables_of(self, places: Sequence[Place]) -> None:
        for place in places:
            if place.volume is None or self._limits.volume not in (0, place.number):
                continue
            found = table_findings(self._medium, place.number, place.volume, place.listed)
            self._watched(with_bin_names(self._medium, found), f"volume {place.number}")

    def relics(self) -> None:
        """Folders of earlier lives, and what they tell of; then all that lies in pieces, by what is known now."""
        self._file.discard("relics")
        self._add_unlisted()
        live = RangeSet(extent for finding in self._file.findings("state = 'live'") for extent in finding.extents)
        told = self._file.starts()
        unclaimed = self._sound_claims().gaps(self._range)
        self._sweep(unclaimed)
        # Folders that are reached are among them: their names tell lost first characters of others.
        tables = self._bounded(loose_tables(self._medium, self._marks(unclaimed)))
        folders = loose_outside(tables, self._volumes, live)
        self._file.forget_volumes(len(self._places))
        ghosts = ghosts_of(self._medium, folders, self._volumes, len(self._places) + 1)
        for ghost in ghosts:
            self._file.add_volume(describe(ghost.place()))
            found = relic_findings(self._medium, ghost, told, self._progress)
            self._watched(with_bin_names(self._medium, found), f"life {ghost.number}")
        geometry = {p.number: (p.volume.cluster_size, p.volume.data.end) for p in self._places if p.volume}
        geometry |= {ghost.number: (ghost.cluster_size, ghost.where.end) for ghost in ghosts}
        own = [extent for volume in self._volumes for _, extent in volume.own_extents()]
        own += [Extent(table.offset, len(table.data)) for table in tables]
        # All of it or nothing is kept: it changes findings of `tables`, and begins anew where the pass does.
        self._file.commit()
        try:
            Assembly(self._medium, self._file, geometry, own).run(self._progress)
        except (KeyboardInterrupt, Interrupted):
            self._file.rollback()
            raise

    def _bounded(self, found: Iterable[LooseTable]) -> list[LooseTable]:
        """Loose tables up to as many bytes as can be held; what is left out is said."""
        out: list[LooseTable] = []
        left = MOST_LOOSE
        for table in found:
            if left < len(table.data):
                note = f"of parts of lost folders only the first {format_size(MOST_LOOSE)} were read"
                self._file.put("notes", json.dumps([note]))
                break
            left -= len(table.data)
            out.append(table)
        return out

    def content(self) -> None:
        """Sweep what no sound part of a finding claims. Findings and position are saved together, every second."""
        self._add_unlisted()
        claims = self._sound_claims()
        grids = [Grid(volume.data, volume.cluster_size, volume) for volume in self._volumes]
        grids += [Grid(v.where, v.cluster) for v in self._file.volumes() if v.number > len(self._places)]
        start = max(self._file.number("content_at"), self._range.offset)
        unclaimed = [gap for gap in claims.gaps(self._range) if gap.end > start]
        self._sweep(unclaimed)
        self._progress.start("files by their content", self._range.end - start)
        content = ContentPass(self._medium, self._survey, claims, grids, self._has_strays(grids))
        for position, new in content.findings(start, self._range.end):
            if new is not None:
                self._add(new)
            self._progress.at(min(position, self._range.end) - start, self._so_far)
            self._file.put("content_at", str(position))
            self._progress.check()
            self._commit_now_and_then()
        self._progress.finish()

    def _has_strays(self, grids: Sequence[Grid]) -> bool:
        """Whether a file was found, before a scan was broken off, that begins on no cluster."""
        for finding in self._file.findings("state = 'found' AND sound > 0"):
            holding = [grid for grid in grids if grid.holds(finding.extents[0].offset)]
            if holding and not any(grid.begins(finding.extents[0].offset) for grid in holding):
                return True
        return False


def _sectors(base: int, marks: NDArray[np.bool_]) -> Iterator[int]:
    """Where the marked sectors are."""
    for n in np.flatnonzero(marks).tolist():
        yield base + n * SECTOR
