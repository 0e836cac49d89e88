"""Trends of a ledger: as a table, and drawn."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from sastrugi.report.rows import row_lines
from sastrugi.report.style import BLUE, GREEN, GREY, ORANGE, PURPLE, SKY, VERMILION, Ink, shorten_end
from sastrugi.safety import atomic_file
from sastrugi.units import format_seconds, percent, span_of_shares

if TYPE_CHECKING:
    from sastrugi.campaign.trends import Line

MARKS = (("o", BLUE), ("s", ORANGE), ("^", GREEN), ("D", VERMILION), ("v", PURPLE), ("P", SKY), ("X", GREY))
"""A mark and a colour for each line: neither stands alone."""
_MOST_DRAWN = 14
_MOST_LABELS = 24


def trend_lines(lines: Sequence[Line], by: str, width: int, ink: Ink) -> Iterator[str]:
    """A line a point."""
    heads = (
        "Engine",
        "Specimen",
        by.capitalize(),
        ">Trials",
        ">Files",
        ">Intact",
        ">95 %",
        ">Ceiling",
        ">Named",
        ">Time",
    )
    texts = [
        (
            shorten_end(line.engine, 18) if not number else "", shorten_end(line.specimen, 22) if not number else "",
            shorten_end(point.label, 12), f"{point.trials:,}", f"{point.files:,}", percent(point.intact),
            span_of_shares(point.interval),
            percent(point.ceiling), percent(point.named), format_seconds(point.seconds),
        )
        for line in lines for number, point in enumerate(line.points)
    ]  # fmt: skip
    return row_lines(heads, texts, width, ink, ("Time", "Trials", "Files", "Named", "95 %"))


def draw_trend(lines: Sequence[Line], by: str, target: Path) -> None:
    """Intact files over versions or days, a line an engine and specimen, with intervals and ceilings."""
    import matplotlib

    matplotlib.use("Agg")
    from matplotlib import pyplot

    drawn = sorted(lines, key=lambda line: -len(line.points))[:_MOST_DRAWN]
    labels = list(dict.fromkeys(point.label for line in lines for point in line.points))
    matplotlib.rcParams["text.parse_math"] = False  # names of engines and specimens are no formulas
    figure, axes = pyplot.subplots(figsize=(10, 5.6), layout="constrained")
    try:
        for number, line in enumerate(drawn):
            mark, colour = MARKS[number % len(MARKS)]
            at = [labels.index(point.label) for point in line.points]
            shares = [100 * point.intact for point in line.points]
            name = f"{line.engine}, {line.specimen}"
            axes.plot(
                at,
                shares,
                marker=mark,
                color=colour,
                label=name,
                linewidth=1.6,
                linestyle="-" if number < len(MARKS) else "--",
            )
            for x, point in zip(at, line.points, strict=True):
                if point.interval:
                    axes.plot([x, x], [100 * value for value in point.interval], color=colour, linewidth=1, alpha=0.6)
                axes.plot(x, 100 * point.ceiling, marker="_", color="#222222", markersize=14)
        step = max(1, -(-len(labels) // _MOST_LABELS))
        axes.set_xticks(range(0, len(labels), step), labels[::step], rotation=30 if len(labels) > 8 else 0)
        axes.set(ylim=(-3, 105), xlim=(-0.5, max(len(labels) - 0.5, 0.5)), ylabel="% of lost files intact", xlabel=by)
        axes.spines[["top", "right"]].set_visible(False)
        more = f" ({len(lines) - len(drawn)} more lines not drawn)" if len(lines) > len(drawn) else ""
        axes.set_title(f"Intact files by {by}; thin: 95 % interval, bar: ceiling{more}", loc="left", fontsize=11)
        axes.legend(frameon=False, fontsize=9, loc="upper left", bbox_to_anchor=(1.01, 1))
        with atomic_file(target) as temporary:
            figure.savefig(temporary, format="png", dpi=120)
    finally:
        pyplot.close(figure)
