"""Trials, comparisons and ledgers on a terminal."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING, Any

from rich.console import Group, RenderableType
from rich.table import Table
from rich.text import Text

from sastrugi.report.rows import row_lines
from sastrugi.report.style import FAINT, GREEN, ORANGE, VERMILION, Ink, shorten_end, shorten_path, table
from sastrugi.units import format_seconds, format_size, percent, printable

if TYPE_CHECKING:
    from sastrugi.campaign.ledger import LedgerRow
    from sastrugi.campaign.record import Trial
    from sastrugi.campaign.sides import Side
    from sastrugi.scoring.paired import Comparison, Difference
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


def comparison_view(first: str, second: str, one: Comparison, limit: int, by: Sequence[str]) -> RenderableType:
    """One side against another: what is shown, the files that changed, and by what they are grouped."""
    parts: list[RenderableType] = [Text(verdict(first, second, one.intact, "files are intact"), style="bold")]
    parts += [Text(line) for line in details(one.intact)]
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
    return f"{second} against {first}: {percent(abs(found.difference))} {more} {what} ({counts}; {changed})"


def details(found: Difference) -> list[str]:
    """Intervals and probabilities behind a verdict."""
    out: list[str] = []
    if found.interval is not None:
        out.append(f"difference {_span(found.difference, found.interval)} over files; exact McNemar {_p(found.p)}")
    if found.cluster_interval is not None and found.cluster_p is not None:
        more = "" if found.general or not found.shown else ": for others like them not shown yet"
        out.append(
            f"over {found.specimens} specimens, in each of which files are alike: "
            f"{_span(found.difference, found.cluster_interval)}, {_p(found.cluster_p)}{more}"
        )
    elif found.shown:
        out.append("on one specimen: for others it is not shown yet")
    if not found.shown and found.files_needed:
        out.append(f"to show a difference of 2 % in four cases of five, some {found.files_needed:,} files are needed")
    return out


def _span(value: float, interval: tuple[float, float]) -> str:
    return f"{value * 100:+.1f} % ({interval[0] * 100:+.1f} to {interval[1] * 100:+.1f} %)"


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
    for change, words in _CHANGE_WORDS.items():
        found = one.of(change)
        if not found:
            continue
        out = table(gives_way=("First", "Size"))
        out.add_column(f"{change.capitalize()} ({len(found):,}): {words}", overflow="fold")
        out.add_column("Size", justify="right", no_wrap=True)
        out.add_column("First", no_wrap=True)
        out.add_column("Second", no_wrap=True)
        for pair in found[:limit] if limit else found:
            out.add_row(
                Text(shorten_path(pair.first.path, 44)), format_size(pair.first.size),
                f"{pair.first.content} {percent(pair.first.completeness)}",
                f"{pair.second.content} {percent(pair.second.completeness)}",
            )  # fmt: skip
        parts.append(out)
        if limit and len(found) > limit:
            parts.append(Text(f"{len(found) - limit:,} more (--limit 0 prints all)", FAINT))
    return Group(*parts)


def ledger_lines(rows: Sequence[LedgerRow], width: int, ink: Ink) -> Iterator[str]:
    """A line a trial."""
    heads = ("Trial", "When", "Specimen", "Losses", "Engine", "Outcome", ">Intact", ">Ceiling", ">Named", ">Time")
    texts = [
        (
            row.id[:8], row.began[:16].replace("T", " "), shorten_end(row.specimen, 18), shorten_end(row.losses, 12),
            shorten_end(f"{row.engine} {row.engine_version}".rstrip(), 20), row.outcome, percent(row.share("intact")),
            percent(row.attainable / row.files if row.files else None), percent(row.share("named")),
            format_seconds(row.seconds),
        )
        for row in rows
    ]  # fmt: skip
    return row_lines(heads, texts, width, ink, ("Losses", "Time", "Named", "When", "Ceiling"))


def difference_json(found: Difference) -> dict[str, Any]:
    return {
        "files": found.count, "first": found.first, "second": found.second, "won": found.won, "lost": found.lost,
        "difference": found.difference, "interval": found.interval, "p": found.p, "specimens": found.specimens,
        "cluster_interval": found.cluster_interval, "cluster_p": found.cluster_p, "shown": found.shown,
        "files_needed": found.files_needed,
    }  # fmt: skip


def _brief(file: FileScore) -> dict[str, Any]:
    return {"content": file.content, "completeness": file.completeness, "name": file.name}


def comparison_json(first: str, second: str, one: Comparison) -> dict[str, Any]:
    return {
        "first": first, "second": second, "intact": difference_json(one.intact), "named": difference_json(one.named),
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
