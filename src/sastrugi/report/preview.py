"""A contact sheet of findings, read straight from the medium.

Each finding is written to a temporary file and drawn there by a child process with limits: whatever a decoder does with
a hostile file, the program goes on.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from sastrugi.children import run_in_children
from sastrugi.media import Medium
from sastrugi.progress import Progress
from sastrugi.recovery.borrow import Borrowed, plain_suffix
from sastrugi.report.sheet import Tile, draw_tiles
from sastrugi.report.tiles import bytes_tile, tile
from sastrugi.units import format_size, plural, printable

if TYPE_CHECKING:
    from sastrugi.recovery.findings import Finding

_LARGEST = 256 << 20
"""Bytes of one finding that are looked at."""
_SECONDS, _MEMORY = 20.0, 3 << 30


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
    with_bytes = [finding for finding in shown if finding.extents]
    tasks = [Borrowed(medium.path, finding.extents, plain_suffix(finding.name)) for finding in with_bytes]
    progress.start("draw", len(tasks), "files")
    outcomes = run_in_children(f"{__name__}:draw_one", tasks, progress, _SECONDS, _MEMORY)
    progress.finish()
    drawn = {finding.number: outcome for finding, outcome in zip(with_bytes, outcomes, strict=True)}
    tiles: list[Tile] = []
    for finding in shown:
        outcome = drawn.get(finding.number)
        picture, problem = b"", "no bytes of it have a place on the medium"
        if outcome is not None:
            picture, problem = outcome.value or (b"", outcome.problem)
        facts = (
            f"{finding.number}: {finding.kind}, {format_size(finding.size)}, {finding.state} {finding.confidence:.2f}"
        )
        tiles.append(Tile(finding.name, facts, picture, problem))
    more = f" (the first {most:,} shown)" if len(findings) > most else ""
    draw_tiles(tiles, f"{printable(title)}: {plural(len(findings), 'finding')}{more}", out)
    return [Shown(finding, one.problem) for finding, one in zip(shown, tiles, strict=True)]


def draw_one(task: Borrowed) -> tuple[bytes, str]:
    """PNG bytes of a small picture of one finding, and why it shows only its bytes. Runs in a child."""
    with task.as_file(_LARGEST) as path:
        try:
            return tile(path)[1], ""
        except MemoryError:
            raise
        except Exception as error:
            problem = " ".join(str(error).replace(str(path), "it").split()) or type(error).__name__
            return bytes_tile(path), problem
