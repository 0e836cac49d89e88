"""Trials, comparisons and ledgers on a terminal."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import asdict
from typing import TYPE_CHECKING, Any

from rich.console import Group, RenderableType
from rich.table import Table
from rich.text import Text

from sastrugi.report.rows import row_lines
from sastrugi.report.style import FAINT, GREEN, ORANGE, VERMILION, Ink, shorten_end, shorten_path, table
from sastrugi.scoring.significance import LEAST_SPECIMENS
from sastrugi.units import format_seconds, format_size, percent, points, printable

if TYPE_CHECKING:
    from sastrugi.campaign.ledger import LedgerRow
    from sastrugi.campaign.record import Trial
    from sastrugi.campaign.sides import Side
    from sastrugi.scoring.paired import Comparison, Difference, Needed
    from sastrugi.scoring.scorecard import FileScore

_MOST_CHANGED = 3
CHANGES = {"won": GREEN, "lost": VERMILION, "better": GREEN, "worse": ORANGE}
_CHANGE_WORDS = {
    "won": "intact only in the second",
    "lost": "intact only in the first",
    "better": "more of its bytes in the second",
    "worse": "fewer of its bytes in the second",
}


def outcome_line(trial: Trial) -> Text:
    """How a trial ended, and what it took."""
    good = trial.ended_well
    told = Text(f"{printable(trial.spoken)} on {printable(trial.specimen.name)}: ")
    told.append(trial.outcome, style="bold" if good else f"bold {VERMILION}")
    if trial.status:
        told.append(f" (exit status {trial.status})")
    if trial.signal:
        told.append(f" (signal {trial.signal})")
    measures = trial.measures
    if measures.seconds is not None:
        told.append(f", {format_seconds(measures.seconds)}")
    if measures.cpu is not None and measures.memory is not None:
        told.append(f" ({format_seconds(measures.cpu)} of processors, {format_size(measures.memory)} of memory at most")
        told.append(f", {format_size(measures.read or 0)} read, {format_size(measures.written or 0)} written)")
    for line in trial_faults(trial):
        told.append(f"\n{line}", style=ORANGE)
    return told


def trial_faults(trial: Trial) -> list[str]:
    """What is wrong with how an engine behaved, in words."""
    out: list[str] = []
    if trial.changed:
        where = ", ".join(f"{part.offset:,} … {part.end:,}" for part in trial.changed[:_MOST_CHANGED])
        more = f" and {len(trial.changed) - _MOST_CHANGED:,} more" if len(trial.changed) > _MOST_CHANGED else ""
        out.append(f"the medium is not what was handed out: changed at bytes {where}{more}")
    out += [f"left, and not used: {one}" for one in trial.trouble]
    if trial.left_behind:
        out.append(f"processes that it left behind, and that were ended: {trial.left_behind:,}")
    return out


def compare_table(sides: Sequence[Side], results: Sequence[Comparison]) -> RenderableType:
    """The first side against each other one: files intact and named, what they took."""
    out = table(gives_way=("Memory", "Time", "Complete"), keys=("Side",))
    for name in ("Side", "Files", "Intact", "Complete", "Named", "Time", "Memory"):
        out.add_column(name, justify="left" if name == "Side" else "right", no_wrap=True)
    reference = results[0]
    rows = [(sides[0], reference.intact.first, reference.completeness[0], reference.named.first, reference)]
    rows += [
        (side, one.intact.second, one.completeness[1], one.named.second, one)
        for side, one in zip(sides[1:], results, strict=True)
    ]
    for side, intact, complete, named, one in rows:
        memory = format_size(side.memory) if side.memory is not None else "–"
        out.add_row(
            Text(shorten_end(side.name, 30)), f"{one.intact.count:,}", _share(intact, one.intact.count),
            percent(complete), _share(named, one.named.count), format_seconds(side.seconds), memory,
        )  # fmt: skip
    return out


def _share(count: int, of: int) -> str:
    return f"{count:,} ({percent(count / of)})" if of else "–"


def comparison_view(
    first: str, second: str, one: Comparison, limit: int, by: Sequence[str], detect: float | None = None
) -> RenderableType:
    """One side against another: what is shown, the files that changed, and by what they are grouped."""
    parts: list[RenderableType] = [Text(verdict(first, second, one.intact, "files are intact"), style="bold")]
    parts += [Text(line) for line in details(one.intact, detect)]
    parts.append(Text(verdict(first, second, one.named, "files have their whole names")))
    if one.only_first or one.only_second:
        parts.append(
            Text(
                f"not compared: {one.only_first:,} files of {first} alone, {one.only_second:,} of {second} alone", FAINT
            )
        )
    for name in by:
        parts.append(_by_table(name, one))
    return Group(*parts, _changes_table(one, limit), Text())


def verdict(first: str, second: str, found: Difference, what: str) -> str:
    """What is shown, in one sentence; the second side against the first."""
    first, second = printable(first), printable(second)
    if not found.count:
        return f"nothing to compare: no file of {first} has one of {second} that belongs to it"
    counts = f"{found.second:,} against {found.first:,} of {found.count:,}"
    changed = f"{found.won:,} won, {found.lost:,} lost"
    if not found.shown:
        return f"no difference shown between {first} and {second}: {counts} {what}, {changed}"
    more = "more" if found.difference > 0 else "fewer"
    return f"{second} against {first}: {points(found.difference)} {more} {what} ({counts}; {changed})"


def details(found: Difference, detect: float | None = None) -> list[str]:
    """Intervals and probabilities behind a verdict; and what would show a difference of `detect`, if that is stated."""
    out: list[str] = []
    if found.interval is None:
        return out
    if found.over is None:
        out.append(
            f"difference {_span(found.difference, found.interval)} over the files of this specimen alone; "
            f"exact McNemar {_p(found.p)}; this says nothing of other specimens"
        )
    else:
        out.append(
            f"difference {_span(found.difference, found.interval)} over {found.specimens:,} specimens, {_p(found.p)}"
        )
        if found.too_few:
            out.append(
                f"{found.over.differing:,} of the {found.specimens:,} specimens differ: too few ever to show a "
                f"difference, which takes at least {LEAST_SPECIMENS}"
            )
    needed = found.needed() if detect is None else found.needed(detect)
    if needed is not None and (detect is not None or not (found.shown or found.too_few)):
        out.append(_needed_line(needed))
    return out


def _needed_line(needed: Needed) -> str:
    """What would show a difference, in words."""
    told = f"with a power of 80 % a difference of {points(needed.difference)} is shown by {needed.files:,} files of one"
    if needed.specimens is None:
        return f"{told} specimen; how many specimens it takes, one alone cannot tell"
    return f"{told} specimen, or by {needed.specimens:,} specimens spread as these are"


def _span(value: float, interval: tuple[float, float]) -> str:
    """A difference of shares with its interval, in percentage points."""
    return f"{value * 100:+.1f} points (95 %: {interval[0] * 100:+.1f} to {interval[1] * 100:+.1f})"


def _p(value: float) -> str:
    return "p below 0.001" if value < 0.001 else f"p = {value:.3f}"


def _by_table(name: str, one: Comparison) -> Table:
    out = table(keys=(name.capitalize(),))
    for head in (name.capitalize(), "Files", "Won", "Lost"):
        out.add_column(head, justify="left" if head == name.capitalize() else "right", no_wrap=True)
    for key, files, won, lost in one.by[name]:
        out.add_row(Text(printable(key)), f"{files:,}", f"{won:,}", f"{lost:,}")
    return out


def _changes_table(one: Comparison, limit: int) -> RenderableType:
    parts: list[RenderableType] = []
    several = one.intact.specimens > 1
    for change, words in _CHANGE_WORDS.items():
        found = one.of(change)
        if not found:
            continue
        out = table(gives_way=("First", "Size"))
        out.add_column(f"{change.capitalize()} ({len(found):,}): {words}", overflow="fold")
        if several:
            out.add_column("Specimen", no_wrap=True)
        out.add_column("Size", justify="right", no_wrap=True)
        out.add_column("First", no_wrap=True)
        out.add_column("Second", no_wrap=True)
        for pair in found[:limit] if limit else found:
            out.add_row(
                Text(shorten_path(pair.first.path, 44)), *([shorten_end(pair.specimen, 24)] if several else []),
                format_size(pair.first.size),
                f"{pair.first.content} {percent(pair.first.completeness)}",
                f"{pair.second.content} {percent(pair.second.completeness)}",
            )  # fmt: skip
        parts.append(out)
        if limit and len(found) > limit:
            parts.append(Text(f"{len(found) - limit:,} more (--limit 0 prints all)", FAINT))
    return Group(*parts)


def ledger_lines(rows: Sequence[LedgerRow], width: int, ink: Ink) -> Iterator[str]:
    """A line a trial, and what the shares are of."""
    varied = any(row.parameters for row in rows)
    heads = ["Trial", "When", "Specimen", ">Seed", *(["Parameters"] if varied else []), "Losses", "Engine", "Outcome"]
    heads += [">Intact", ">Ceiling", ">Named", ">Time"]
    texts = [
        (
            row.id[:8], row.began[:16].replace("T", " "), shorten_end(row.specimen, 18), f"{row.seed}",
            *([shorten_end(row.parameters, 24)] if varied else []), shorten_end(row.losses, 12),
            shorten_end(f"{row.engine} {row.engine_version}".rstrip(), 20),
            f"{row.outcome} (replaced)" if row.replaced else row.outcome, percent(row.share("intact")),
            percent(row.attainable / row.files if row.files else None), percent(row.share("named")),
            format_seconds(row.seconds),
        )
        for row in rows
    ]  # fmt: skip
    yield from row_lines(heads, texts, width, ink, ("Losses", "Time", "When", "Named", "Seed", "Ceiling", "Parameters"))
    yield ink.grey("intact, ceiling: of the lost files that hold anything · named: of all lost files")


def difference_json(found: Difference, detect: float | None = None) -> dict[str, Any]:
    needed = found.needed() if detect is None else found.needed(detect)
    return {
        "files": found.count, "first": found.first, "second": found.second, "won": found.won, "lost": found.lost,
        "difference": found.difference, "over": found.basis, "interval": found.interval, "p": found.p,
        "shown": found.shown, "specimens": found.specimens,
        "specimens_differing": found.over.differing if found.over else None, "too_few_specimens": found.too_few,
        "files_interval": found.files_interval, "files_p": found.files_p,
        "needed": asdict(needed) if needed else None,
    }  # fmt: skip


def _brief(file: FileScore) -> dict[str, Any]:
    return {"content": file.content, "completeness": file.completeness, "name": file.name}


def comparison_json(first: str, second: str, one: Comparison, detect: float | None = None) -> dict[str, Any]:
    return {
        "first": first, "second": second, "intact": difference_json(one.intact, detect),
        "named": difference_json(one.named, detect),
        "completeness": list(one.completeness), "only_first": one.only_first, "only_second": one.only_second,
        "by": {
            name: [{"key": key, "files": files, "won": won, "lost": lost} for key, files, won, lost in rows]
            for name, rows in one.by.items()
        },
        "files": [
            {
                "specimen": pair.specimen, "path": pair.first.path, "change": pair.change, "size": pair.first.size,
                "first": _brief(pair.first), "second": _brief(pair.second),
            }
            for change in ("won", "lost", "better", "worse") for pair in one.of(change)
        ],
    }  # fmt: skip
