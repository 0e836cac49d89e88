"""A contact sheet of findings, read straight from the medium.

Each finding is written to a temporary file and drawn there by a child process with limits: whatever a decoder does with
a hostile file, the program goes on.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from sastrugi.media import Medium
from sastrugi.progress import Progress
from sastrugi.recovery.temp_copy import TempCopy, plain_suffix
from sastrugi.report.pairs import Drawn, Sample, draw_samples
from sastrugi.report.sheet import Tile, draw_tiles
from sastrugi.units import format_size, plural, printable

if TYPE_CHECKING:
    from sastrugi.recovery.findings import Finding


@dataclass(frozen=True, slots=True)
class Shown:
    """One finding of a sheet, with the problem if it could not be drawn."""

    finding: Finding
    problem: str


def draw_preview(
    medium: Medium, findings: Sequence[Finding], most: int, title: str, out: Path, progress: Progress
) -> list[Shown]:
    """Draw the first `most` findings to a PNG file."""
    shown = list(findings[:most])
    with_bytes = [finding for finding in shown if finding.covered]
    tasks: list[Sample] = []
    for finding in with_bytes:
        suffix = plain_suffix(finding.name)
        tasks.append((TempCopy(medium.path, finding.map, suffix), suffix))
    drawn = dict(zip((finding.number for finding in with_bytes), draw_samples(tasks, progress), strict=True))
    tiles: list[Tile] = []
    for finding in shown:
        one = drawn.get(finding.number, Drawn(b"", "no bytes of it have a place on the medium"))
        facts = (
            f"{finding.number}: {finding.kind}, {format_size(finding.size)}, {finding.state} {finding.confidence:.2f}"
        )
        tiles.append(Tile(finding.name, facts, one.picture, one.problem))
    more = f" (the first {most:,} shown)" if len(findings) > most else ""
    draw_tiles(tiles, f"{printable(title)}: {plural(len(findings), 'finding')}{more}", out)
    return [Shown(finding, tile.problem) for finding, tile in zip(shown, tiles, strict=True)]
