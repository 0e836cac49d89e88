"""The pass `journals`: files that only a volume's own history tells of."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from sastrugi.media import FileMap, Medium
from sastrugi.recovery.confidence import judge_deleted
from sastrugi.recovery.evidence import Clue, evidence
from sastrugi.recovery.findings import Finding
from sastrugi.recovery.tables import deleted_finding
from sastrugi.volumes.reader import Volume


def history_findings(medium: Medium, number: int, volume: Volume, told: Mapping[int, int]) -> Iterator[Finding]:
    """Every file that older copies of a volume's metadata tell of. `told` are the places (first byte) and sizes of what
    was found before: it is not told again, nor is what the history tells twice."""
    seen: set[tuple[str, FileMap]] = set()
    for entry in volume.history():
        where = entry.map
        if entry.folder or not entry.size or (entry.full_path, where) in seen:
            continue
        if where.start is not None and told.get(where.start) == entry.size:
            continue
        seen.add((entry.full_path, where))
        finding = deleted_finding(entry, number, judge_deleted(medium, volume, entry, ""), ("journals",))
        if finding.placeless:
            continue  # nothing of it is left where it lay then
        if entry.source:
            finding.evidence.insert(0, evidence(Clue.TOLD_BY, entry.source))
        yield finding
