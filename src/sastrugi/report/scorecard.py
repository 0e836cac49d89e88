"""The scorecard on a terminal: the headline first, then by kind, then what fell short and why."""

from __future__ import annotations

from collections import Counter
from typing import TYPE_CHECKING

from rich.console import Group, RenderableType
from rich.table import Table
from rich.text import Text

from sastrugi.report.style import FAINT, GREEN, ORANGE, SKY, VERMILION, shorten_path, table
from sastrugi.units import format_size, percent, plural, printable, span_of_shares

if TYPE_CHECKING:
    from sastrugi.scoring.names import NameWord
    from sastrugi.scoring.scorecard import Calibration, Figure, Scorecard

_BAR = 12
_MEANINGS = {
    "intact": "same bytes",
    "complete": "bytes in place",
    "named": "folder and name",
    "all three": "intact and named",
    "95 %": "interval of the share",
}
_NAMES: dict[NameWord, str] = {
    "full": "whole",
    "name": "right but for their folders",
    "near": "nearly right",
    "type": "only the type",
    "none": "lost",
}
CAUSES = {
    "gone": "lost bytes for good",
    "not found": "not found",
    "foreign": "with other content",
    "cut": "cut short",
    "padded": "with bytes too many",
    "mixed": "with wrong parts",
    "moved": "with their bytes at another place",
    "name": "with the name damaged or lost",
    "none": "whole",
}
"""What most held a file back, in the plural."""
SHORTFALLS = {"left": "left by the program", "gone": "lost for good", "name": "only the name"}
"""What a file is short of, in words."""
_VERDICT_STYLE = {
    "intact": GREEN,
    "padded": SKY,
    "cut": ORANGE,
    "mixed": ORANGE,
    "foreign": VERMILION,
    "missing": VERMILION,
}


def headline_table(card: Scorecard) -> RenderableType:
    """Intact, complete, named and all three: of the set, of the ceiling, with a bar that marks the ceiling."""
    out = table(gives_way=("", "95 %"), keys=("What",))
    columns = (
        ("What", "left"),
        ("Came back", "right"),
        ("Of the set", "right"),
        ("95 %", "left"),
        ("Of the ceiling", "right"),
    )
    for name, justify in columns:
        out.add_column(name, justify=justify, no_wrap=True)  # type: ignore[arg-type]
    out.add_column(no_wrap=True)
    rows = (("intact", card.intact), ("complete", card.complete), ("named", card.named), ("all three", card.all_three))
    for name, figure in rows:
        form = "{:,.0f}" if figure.interval else "{:,.1f}"
        spread = span_of_shares(figure.interval)
        out.add_row(
            Text(name, style="bold"),
            form.format(figure.value),
            f"{percent(figure.share_of_set)} of {figure.of_set:,}",
            spread,
            f"{percent(figure.share_of_ceiling)} of {form.format(figure.of_ceiling)}",
            _bar(figure),
        )
    meanings = " · ".join(f"{name}: {meaning}" for name, meaning in _MEANINGS.items())
    legend = Text(meanings + "\n", style=FAINT).append("█", style=GREEN).append(" came back   ", style=FAINT)
    legend.append("▒", style=ORANGE).append(" attainable, not back   ", style=FAINT)
    parts: list[RenderableType] = [out, legend.append("·", style=FAINT).append(" gone from the medium", style=FAINT)]
    if card.live_copies:
        told = f"{card.live_copies:,} of those attainable stand only inside of live files with the same content."
        parts.append(Text(told, style=FAINT))
    return Group(*parts)


def _bar(figure: Figure) -> Text:
    if not figure.of_set:
        return Text("–")
    done = round(figure.value / figure.of_set * _BAR)
    could = max(round(figure.of_ceiling / figure.of_set * _BAR), done)
    return (
        Text("█" * done, style=GREEN)
        .append("▒" * (could - done), style=ORANGE)
        .append("·" * (_BAR - could), style=FAINT)
    )


def group_table(card: Scorecard, by: str) -> Table:
    """What was lost and what came back, by a property of the files."""
    out = table(gives_way=("Complete", "Bytes", "Attainable", "All three"), keys=(by.capitalize(),))
    for name in (by.capitalize(), "Files", "Bytes", "Attainable", "Intact", "Complete", "Named", "All three"):
        out.add_column(name, justify="left" if name == by.capitalize() else "right", no_wrap=True)
    for group in card.groups[by]:
        out.add_row(
            Text(printable(group.key)),
            f"{group.files:,}",
            format_size(group.bytes),
            f"{group.attainable:,}",
            _count(group.intact),
            percent(group.complete.share_of_set),
            _count(group.named),
            _count(group.all_three),
        )
    return out


def _count(figure: Figure) -> str:
    return f"{figure.value:,.0f} ({percent(figure.share_of_set)})" if figure.of_set else "–"


def calibration_table(calibration: Calibration) -> RenderableType:
    """What was stated, and what was true."""
    out = table(gives_way=("95 % range",))
    for name in ("Stated confidence", "Results", "Mean stated", "Intact", "95 % range"):
        out.add_column(name, justify="left" if name.startswith("Stated") else "right")
    for one in calibration.bins:
        spread = f"{one.interval[0]:.2f}–{one.interval[1]:.2f}" if one.interval else ""
        out.add_row(
            f"{one.low:.1f} to {one.high:.1f}", f"{one.count:,}", f"{one.stated:.2f}", f"{one.intact:.2f}", spread
        )
    told = f"Brier score {calibration.brier:.3f} (0 is best); stated and true are {calibration.mean_gap:.3f} apart"
    return Group(out, Text(told, style=FAINT))


def short_files_tables(card: Scorecard, limit: int) -> RenderableType:
    """The files that fell short, with the reason: at most `limit` of those that the program left, of those that are
    lost for good, and of those that lack only the name."""
    short = card.short
    if not short:
        return Text("Every lost file came back intact and under its name.\n")
    parts: list[RenderableType] = []
    for which, title in SHORTFALLS.items():
        own = [file for file in short if file.shortfall == which]
        if not own:
            continue
        out = table(gives_way=("Ceiling", "Name", "Content"))
        out.add_column(f"{title.capitalize()} ({len(own):,})", overflow="fold")
        out.add_column("Content", no_wrap=True)
        out.add_column("Complete", justify="right", no_wrap=True)
        out.add_column("Ceiling", justify="right", no_wrap=True)
        out.add_column("Name", no_wrap=True)
        out.add_column("Why", overflow="fold")
        for file in own[:limit] if limit else own:
            out.add_row(
                Text(shorten_path(file.path, 30)),
                Text(file.content, style=_VERDICT_STYLE[file.content]),
                percent(file.completeness),
                percent(file.ceiling_bytes),
                file.name,
                Text(printable(file.reason)),
            )
        parts.append(out)
        if limit and len(own) > limit:
            parts.append(Text(f"{len(own) - limit:,} more (--limit 0 prints all)", FAINT))
    if limit and len(short) > limit:
        causes = Counter(file.cause for file in short)
        told = ", ".join(f"{count:,} {CAUSES[cause]}" for cause, count in causes.most_common())
        parts.append(Text(f"Of all {len(short):,} that fell short: {told}\n"))
    return Group(*parts)


def other_results_table(card: Scorecard, limit: int) -> RenderableType:
    """Results that nobody has a use for, by name: noise, fragments, copies, stale ones."""
    found = card.listed_results
    if not found:
        return Group()
    out = table(gives_way=("Size",))
    out.add_column("Result", no_wrap=True)
    out.add_column(f"{card.listed_title.capitalize()} ({len(found):,})", overflow="fold")
    out.add_column("Size", justify="right", no_wrap=True)
    out.add_column("Of", overflow="fold")
    for one in found[:limit] if limit else found:
        out.add_row(one.is_, Text(shorten_path(one.path, 44)), format_size(one.size), Text(printable(one.of or "–")))
    more = len(found) - limit if limit else 0
    return Group(out, Text(f"{more:,} more (--limit 0 prints all)", FAINT)) if more > 0 else out


def results_line(card: Scorecard) -> Text:
    """What the results are: reference, live, stale, copy, fragment, noise."""
    text = Text(f"Results: {card.counted_results:,}: {classes_line(card)}")
    if card.left_out:
        text.append(f"; {card.left_out:,} files left out")
    if card.table_rows:
        text.append(f"; the table's rows matched: {card.table_matched:,} of {card.table_rows:,}")
    if card.precision is not None:
        text.append(f"; precision {percent(card.precision)}, claimed bytes {percent(card.inflation)} of the medium")
    if card.complete_bytes.of_set:
        whole, right = (percent(one.share_of_set) for one in (card.intact_bytes, card.complete_bytes))
        text.append(f"; by bytes {whole} intact, {right} complete")
    if set(card.names) - {"full"}:
        told = ", ".join(f"{card.names[word]:,} {meaning}" for word, meaning in _NAMES.items() if word in card.names)
        text.append(f"; names of what came back: {told}")
    if set(card.places) - {"same", "untold"}:
        text.append(f"; claimed places: {', '.join(f'{count:,} {word}' for word, count in card.places.items())}")
    if set(card.opens) - {"untested"}:
        text.append(f"; opened: {card.opens.get('yes', 0):,}, broken: {card.opens.get('no', 0):,}")
    if bench := bench_line(card):
        text.append(f"\n{bench}")
    return text


def classes_line(card: Scorecard) -> str:
    """How many results are of each class, but for the bench's own files, which count nowhere."""
    counts = ((name, count) for name, count in card.classes.items() if count and name != "bench")
    return ", ".join(f"{count:,} {name}" for name, count in counts) or "none"


def bench_line(card: Scorecard) -> str:
    """How many results are the bench's own files; empty where none is."""
    count = card.classes.get("bench", 0)
    return (
        f"Not counted: {plural(count, 'result')} that are the bench's own files (buffers, later use)" if count else ""
    )
