"""The pass `tables`: what a volume's own live structures say, deleted entries included."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterator

from sastrugi.media import FileMap, Medium
from sastrugi.recovery.confidence import Verdict, judge_deleted, kind_of
from sastrugi.recovery.evidence import Clue, Evidence, evidence
from sastrugi.recovery.findings import Finding
from sastrugi.volumes.reader import Entry, Volume


def table_findings(medium: Medium, number: int, volume: Volume, not_mounted: str = "") -> Iterator[Finding]:
    """Every live and deleted file of one volume. Of one that no system mounts (and why) none is live to anybody."""
    entries = [entry for entry in volume.entries() if not entry.folder]
    for entry in entries if not_mounted else ():
        if not entry.deleted:
            entry.damaged = True
            entry.notes.append(not_mounted)
    live = {entry.map for entry in entries if not (entry.deleted or entry.damaged) and entry.map.stored}
    later = overlaps([entry for entry in entries if entry.deleted and entry.size and entry.placements])
    for entry in entries:
        if not entry.deleted and not entry.damaged:
            yield _live(entry, number, volume)
        elif entry.map in live:
            continue  # the name a live file had before it was renamed or moved: nothing was lost
        else:
            yield _deleted(medium, entry, number, volume, later.get(id(entry), ""))


def _live(entry: Entry, number: int, volume: Volume) -> Finding:
    whole = not entry.notes
    clusters = -(-(entry.size - entry.map.zeros) // volume.cluster_size)
    by = entry.placements[0].reason if entry.placements else "its record"
    seen = [evidence(Clue.LIVE, clusters, by)] if whole else [evidence(Clue.LIVE_BUT, note) for note in entry.notes]
    if entry.map.zeros:
        seen.append(evidence(Clue.HOLES, entry.map.zeros))
    finding = _finding("live", entry, number, entry.map, 0.99 if whole else 0.3, seen, kind_of(entry.name, None))
    finding.sound = finding.covered
    return finding


def _deleted(medium: Medium, entry: Entry, number: int, volume: Volume, overlapped_by: str) -> Finding:
    finding = deleted_finding(entry, number, judge_deleted(medium, volume, entry, overlapped_by))
    finding.evidence[:0] = [evidence(Clue.LISTED_BUT, note) for note in entry.notes] if entry.damaged else []
    return finding


def deleted_finding(entry: Entry, number: int, verdict: Verdict, passes: tuple[str, ...] = ("tables",)) -> Finding:
    """The finding of a file that is not live, by what was decided about it."""
    where = verdict.placement.map if verdict.placement else FileMap()
    seen = [*verdict.evidence, evidence(Clue.NAME, entry.name_note)]
    kind = kind_of(entry.name, verdict.measure)
    finding = _finding("deleted", entry, number, where, verdict.confidence, seen, kind)
    finding.sound, finding.passes = verdict.sound, passes
    return finding


def _finding(
    state: str,
    entry: Entry,
    number: int,
    where: FileMap,
    confidence: float,
    seen: list[Evidence],
    kind: tuple[str, str],
) -> Finding:
    folder = "/" + "/".join(entry.path[:-1])
    return Finding(
        state,
        folder,
        entry.name,
        *kind,
        entry.size,
        where,
        entry.times,
        ("tables",),
        confidence,
        entry.name_sure,
        seen,
        volume=number,
    )


def overlaps(deleted: list[Entry]) -> dict[int, str]:
    """For each deleted entry some of whose bytes a later deleted one claims: the later one's path, by id of the entry.

    Found in one sweep over the claims in order of their place. Which is later, the times of creation say.
    """
    claims = sorted(
        (offset, offset + length, n) for n, entry in enumerate(deleted) for offset, length in entry.map.stored
    )
    out: dict[int, str] = {}
    open_claims: list[tuple[int, Entry]] = []
    for start, end, n in claims:
        entry = deleted[n]
        open_claims = [claim for claim in open_claims if claim[0] > start][-_MOST_OPEN:]
        for _, other in open_claims:
            if other is entry or other.map == entry.map:
                continue
            first, second = sorted((entry, other), key=_written)
            # Where one may lie elsewhere, it takes nothing from what can lie nowhere else.
            if _certain(second) or not _certain(first):
                out[id(first)] = second.full_path
        open_claims.append((end, entry))
    return out


_MOST_OPEN = 64
"""Claims on one place that are compared with each other; more means a hostile volume, and less is said of it."""


def _certain(entry: Entry) -> bool:
    return bool(entry.placements) and entry.placements[0].certain


def _written(entry: Entry) -> dt.datetime:
    moment = entry.times.created or entry.times.modified
    return moment.replace(tzinfo=None) if moment else dt.datetime.min
