"""One file's whole story on a terminal, and its picture beside the original's."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from pydantic_core import to_jsonable_python
from rich.console import Console, ConsoleOptions, Group, RenderableType, RenderResult
from rich.text import Text

from sastrugi.media.filemap import AS_IT_STANDS, UNKNOWN, ZEROS
from sastrugi.report.evidence import sentence
from sastrugi.report.pairs import Drawn, Pair, SideBySide
from sastrugi.report.sheet import Tile, draw_tiles
from sastrugi.report.style import FAINT, GREEN, VERMILION, table
from sastrugi.scoring.damage import decode
from sastrugi.units import format_size, percent, plural, printable

if TYPE_CHECKING:
    from sastrugi.recovery.evidence import Evidence
    from sastrugi.scoring.file_report import Story
    from sastrugi.specimen.truth import Specimen

_MOST_PIECES, _ROWS, _ROW = 24, 4, 16
_MARKS = {"R": ("█", GREEN), "W": ("▒", VERMILION), "A": ("·", FAINT)}


def story_view(specimen: Specimen, story: Story, pair: Pair | None = None) -> RenderableType:
    """All of it in words; and `pair`, as it was and as it came back, in pictures."""
    file, score = story.file, story.score
    head = Text(printable(file.path), style="bold")
    head.append(f"\n{file.kind}, {plural(file.size, 'byte')}; life {file.life} of '{file.volume}'", style="not bold")
    end = f"{file.end} by step {file.ended_by}" if file.ended_by is not None else file.end
    written = f"; written {file.created:%Y-%m-%d %H:%M}" if file.created else ""
    head.append(f"{written}, {end}", style="not bold")
    parts: list[RenderableType] = [head, _places(story), _verdict(story)]
    if score.damage:
        parts += [Text("From its first block to its last:", style=FAINT), DamageLine(score.damage)]
        legend = Text()
        for letter, word in (("R", "right"), ("W", "wrong"), ("A", "absent")):
            mark, colour = _MARKS[letter]
            legend.append(mark, style=colour).append(f" {word}   ", style=FAINT)
        parts.append(legend)
    if story.evidence:
        parts.append(_evidence(story.evidence))
    if story.result is not None and story.differs_at is not None and story.differs_at < file.size:
        parts += [Text(), difference(specimen, story)]
    if pair is not None:
        parts += [Text(), SideBySide(_captioned(story, pair))]
    return Group(*parts)


def _evidence(pieces: Sequence[Evidence]) -> RenderableType:
    """What the scan saw, with what each piece weighs: what speaks for it first, what only tells last."""
    out = table()
    out.add_column("Bits", justify="right", no_wrap=True)
    out.add_column("Evidence", overflow="fold")
    for piece in sorted(pieces, key=lambda one: (not one.weight, -one.weight)):
        bits = Text("–", style=FAINT)
        if piece.weight:
            bits = Text(f"{piece.weight:+.1f}", style=GREEN if piece.weight > 0 else VERMILION)
        out.add_row(bits, printable(sentence(piece)))
    return out


def _places(story: Story) -> RenderableType:
    out = table()
    for name in ("From byte", "Bytes", "Lay at", "Now"):
        out.add_column(name, justify="left" if name == "Now" else "right")
    for piece in story.pieces[:_MOST_PIECES]:
        takers = " and ".join(taker.rpartition("/")[2] for taker in story.file.gone_to[:2]) or "other data"
        now = Text(f"overwritten by {takers}", style=VERMILION) if piece.gone else Text("still there", style=GREEN)
        where = f"{piece.where.offset:,}" if piece.where.offset >= 0 else "unknown"
        if piece.coding == ZEROS:
            where, now = "nowhere", Text("reads as zeros", style=FAINT)
        elif piece.coding not in (AS_IT_STANDS, UNKNOWN):
            now.append(f", as {piece.coding}", style=FAINT)
        out.add_row(f"{piece.position:,}", f"{piece.where.length:,}", where, now)
    more = len(story.pieces) - _MOST_PIECES
    return Group(out, Text(f"… and {plural(more, 'more piece')}", style=FAINT)) if more > 0 else out


def _verdict(story: Story) -> Text:
    score, result = story.score, story.result
    out = Text(f"Ceiling: {percent(score.ceiling_bytes)} of its bytes, name {score.ceiling_name}.")
    if score.ceiling_live:
        where = " and ".join(printable(path) for path in score.copies[:2])
        out.append(f" {percent(score.ceiling_live)} of them stand only in the live file {where}.")
    out.append("\n")
    if result is None:
        return out.append("Nothing came back for it", style="bold").append(
            f": {score.reason}." if score.reason else "."
        )
    out.append(f"Came back: {score.content}", style="bold")
    out.append(f", {percent(score.completeness)} complete, as {printable(result.path)} ({format_size(result.size)}); ")
    out.append(f"name {score.name}, times {score.times}")
    if result.confidence is not None:
        out.append(f", stated confidence {result.confidence:.2f}")
    if score.opens != "untested":
        out.append(f", opens: {score.opens}")
    if score.nearness is not None:
        out.append(f", {score.nearness:.1f} dB from the original")
    out.append(f"; {printable(score.reason)}." if score.reason else ".")
    if score.wrong_runs:
        out.append(
            f"\n{plural(score.wrong_runs, 'run')} not right; the longest right one is {score.longest_right:,} bytes."
        )
    return out


@dataclass(frozen=True, slots=True)
class DamageLine:
    """A damage map in one line: each mark is the worst of the blocks that share it."""

    damage: str

    def __rich_console__(self, console: Console, options: ConsoleOptions) -> RenderResult:
        letters = "".join(letter * count for count, letter in decode(self.damage))
        step = max(-(-len(letters) // options.max_width), 1)
        out = Text()
        for at in range(0, len(letters), step):
            part = letters[at : at + step]
            mark, colour = _MARKS["W" if "W" in part else "A" if "A" in part else "R"]
            out.append(mark, style=colour)
        yield out


def difference(specimen: Specimen, story: Story) -> RenderableType:
    """The first bytes that differ, the original's and the result's in pairs of rows."""
    assert story.result is not None and story.differs_at is not None
    first = story.differs_at // _ROW * _ROW
    then = specimen.original(story.file, first, _ROWS * _ROW)
    with story.result.opened() as read:
        now = read(first, len(then))
    lines = [Text(f"First difference at byte {story.differs_at:,}:")]
    room = max(len(f"{first + _ROWS * _ROW:,}"), 6)  # so that a row fits 80 columns
    for at in range(0, len(then), _ROW):
        a, b = then[at : at + _ROW], now[at : at + _ROW]
        for name, row, other in (("was", a, b), ("is ", b, a)):
            line = Text(f"{first + at:>{room},}  {name}  ", style=FAINT)
            for n, byte in enumerate(row):
                same = n < len(other) and other[n] == byte
                line.append(f"{byte:02x} ", style=FAINT if same else f"bold {GREEN if name == 'was' else VERMILION}")
            line.append("   " * (_ROW - len(row)) + " ")
            line.append("".join(chr(c) if 32 <= c < 127 else "·" for c in row), style=FAINT)
            lines.append(line if row else Text(f"{first + at:>{room},}  {name}  (ended)", style=FAINT))
    return Group(*lines)


def story_json(story: Story) -> dict[str, Any]:
    return {
        "file": to_jsonable_python(story.file),
        "pieces": [
            {"position": p.position, **p.where._asdict(), "gone": p.gone, "coding": p.coding} for p in story.pieces
        ],
        "score": to_jsonable_python(story.score),
        "differs_at": story.differs_at,
        "evidence": [{"clue": one.clue, "bits": one.weight, "words": sentence(one)} for one in story.evidence],
    }


def draw_story(story: Story, pair: Pair, out: Path) -> None:
    """The original and what came back, side by side, to a PNG file."""
    tiles = [Tile(story.file.name, told, one.picture, one.problem) for told, one in _captioned(story, pair)]
    draw_tiles(tiles, printable(story.file.path), out)


def _captioned(story: Story, pair: Pair) -> list[tuple[str, Drawn]]:
    was, came = pair
    out = [(f"as it was, {format_size(story.file.size)}", was)]
    return out if came is None else [*out, (f"as it came back, {percent(story.score.completeness)} complete", came)]
