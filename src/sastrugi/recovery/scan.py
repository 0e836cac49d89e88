"""A scan: the passes in order, each finding into the scan file, from where an earlier run stopped."""

from __future__ import annotations

import time
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from pathlib import Path

from sastrugi.errors import Interrupted, MediumError, ScanFileError
from sastrugi.media import Extent, Medium, RangeSet
from sastrugi.media.extents import cut, total
from sastrugi.progress import Progress
from sastrugi.recovery.content import SECTOR, Grid, content_findings
from sastrugi.recovery.findings import FoundVolume, ScanFile, medium_identity
from sastrugi.recovery.layout import Place, find_places, missing_bytes, unlisted_places
from sastrugi.recovery.relics import ghosts_of, loose_outside, relic_findings
from sastrugi.recovery.tables import table_findings
from sastrugi.volumes.relics import loose_tables, sweep

PASSES = ("layout", "tables", "relics", "content")
_COMMIT_SECONDS = 1.0
_REPORT_EVERY = 200


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
) -> ScanResult:
    """Scan `medium` into the scan file `out`.

    `go_on` continues an unfinished scan file; `as_is` accepts a medium that is shorter than its own tables say. Raises
    MediumError for such a medium otherwise, ScanFileError for a scan file that does not fit, and Interrupted (with
    everything saved) when `progress` asks to stop.
    """
    began = time.monotonic()
    places = find_places(medium)
    missing = missing_bytes(medium, places)
    places += unlisted_places(medium, places)
    if missing > 0 and not as_is:
        raise MediumError(
            f"{medium.path}: cut short: its own tables speak of {missing:,} bytes more than the {medium.size:,} "
            "there are; add --as-is to scan what is there"
        )
    wanted = [name for name in PASSES if name in set(passes) | {"layout"}]
    with _open(out, medium, wanted, go_on) as scan_file:
        run = _Run(medium, scan_file, places, progress)
        try:
            for name in scan_file.get("passes").split(","):
                if scan_file.get(f"done_{name}") != "yes":
                    getattr(run, name)()
                    scan_file.put(f"done_{name}", "yes")
                    scan_file.commit()
            scan_file.put("state", "finished")
            scan_file.put("seconds", f"{float(scan_file.get('seconds', '0')) + time.monotonic() - began:.3f}")
            scan_file.commit()
        except (KeyboardInterrupt, Interrupted):
            scan_file.commit()
            raise Interrupted(f"stopped; what was found so far is in {out}") from None
        return ScanResult(out, scan_file.counts(), time.monotonic() - began, run.swept)


def _open(out: Path, medium: Medium, passes: list[str], go_on: bool) -> ScanFile:
    if not go_on:
        return ScanFile.create(out, medium, passes)
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
    """The passes over one medium."""

    def __init__(self, medium: Medium, scan_file: ScanFile, places: list[Place], progress: Progress) -> None:
        self._medium, self._file, self._places, self._progress = medium, scan_file, places, progress
        self.swept = 0

    def layout(self) -> None:
        for place in self._places:
            self._file.add_volume(describe(place))

    def tables(self) -> None:
        self._file.discard("tables")
        for place in self._places:
            if place.volume is None:
                continue
            self._progress.start(f"tables of volume {place.number}", 0, "files")
            for count, finding in enumerate(table_findings(self._medium, place.number, place.volume, place.listed), 1):
                self._file.add(finding)
                if count % _REPORT_EVERY == 0:
                    self._progress.at(count, f"{count:,} found")
                    self._progress.check()
            self._progress.finish()
        self.layout()  # reading the tables tells more of a volume's label and health

    def relics(self) -> None:
        """Folders of earlier lives, and what they tell of."""
        self._file.discard("relics")
        volumes = [place.volume for place in self._places if place.volume]
        live = RangeSet(extent for finding in self._file.findings("state = 'live'") for extent in finding.extents)
        told = {f.extents[0].offset: f.size for f in self._file.findings("start IS NOT NULL") if f.extents}
        data = total(self._medium.data_ranges())
        self._progress.start("relics", data)
        pieces = self._watched(sweep(self._medium, self._sound_claims().gaps(Extent(0, self._medium.size))))
        folders = loose_outside(loose_tables(pieces), volumes, live)
        self._progress.finish()
        ghosts = ghosts_of(self._medium, folders, volumes, len(self._places) + 1)
        for ghost in ghosts:
            self._progress.start(f"relics of life {ghost.number}", 0, "files")
            for count, (_, finding) in enumerate(relic_findings(self._medium, ghost, told, self._progress), 1):
                if finding is not None:
                    self._file.add(finding)
                if count % _REPORT_EVERY == 0:
                    self._progress.at(count, f"{count:,} seen")
            self._progress.finish()

    def _watched(self, pieces: Iterator[tuple[int, bytes]]) -> Iterator[tuple[int, bytes]]:
        done = 0
        for offset, data in pieces:
            self._progress.check()
            yield offset, data
            done += len(data)
            self._progress.at(done)

    def _sound_claims(self) -> RangeSet:
        """What belongs to findings as far as nothing speaks against them, in whole sectors."""
        claims = RangeSet()
        for finding in self._file.findings("sound > 0", order="start"):
            for extent in cut(finding.extents, finding.sound):
                claims.add(Extent(extent.offset, -(-extent.length // SECTOR) * SECTOR))
        return claims

    def content(self) -> None:
        """Sweep what no sound part of a finding claims. Findings and position are saved together, every second."""
        claims = self._sound_claims()
        grids = [
            Grid(place.volume.data, place.volume.cluster_size, place.volume) for place in self._places if place.volume
        ]
        start = int(self._file.get("content_at", "0"))
        found = len(list(self._file.findings("state = 'found'")))
        data = total(self._medium.data_ranges())
        self._progress.start("content", data)
        done_before = total(self._medium.data_ranges(0, start))
        committed = time.monotonic()
        last = start
        for position, new in content_findings(self._medium, claims, grids, start, self._progress):
            if new is not None:
                self._file.add(new)
                found += 1
            self.swept += position - last if position > last else 0
            last = max(last, position)
            self._progress.at(min(done_before + self.swept, data), f"{found:,} found")
            self._file.put("content_at", str(position))
            self._progress.check()
            if time.monotonic() - committed > _COMMIT_SECONDS:
                self._file.commit()
                committed = time.monotonic()
        self._progress.finish()
