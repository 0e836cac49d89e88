"""The figures of a report, as SVG text. Colours never stand alone: a word is beside each."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np

from sastrugi.report.style import GREEN, ORANGE, VERMILION
from sastrugi.report.svg import bare, svg
from sastrugi.scoring.damage import decode
from sastrugi.units import percent

if TYPE_CHECKING:
    from matplotlib.figure import Figure as Drawing

    from sastrugi.scoring.scorecard import Calibration, FileScore, Group, Scorecard

_HEADLINE = ("intact", "complete", "named", "all_three")
_FAINT, _MAP_HEIGHT, _MAP_WIDTH = "#595959", 14, 480
_DAMAGE = {"R": (GREEN, "right"), "W": (VERMILION, "wrong"), "A": ("#dddddd", "absent")}


_FEWEST_BARS = 2


def headline_bars(card: Scorecard) -> str:
    """The headline rates of the set, each with its interval and a mark where its ceiling is."""

    def draw(drawing: Drawing) -> None:
        axes = drawing.add_subplot()
        for row, name in enumerate(_HEADLINE):
            figure = getattr(card, name)
            share, ceiling = figure.share_of_set or 0.0, (figure.of_ceiling / figure.of_set if figure.of_set else 0.0)
            axes.barh(row, 100, color="#eeeeee", height=0.6)
            axes.barh(row, share * 100, color=GREEN, height=0.6)
            axes.plot([ceiling * 100] * 2, [row - 0.42, row + 0.42], color="#222222", linewidth=2)
            if figure.interval:
                axes.plot([v * 100 for v in figure.interval], [row, row], color="#222222", linewidth=1)
            axes.annotate(percent(figure.share_of_set), (101, row), va="center", annotation_clip=False)
        axes.set_yticks(range(4), [name.replace("_", " ") for name in _HEADLINE])
        axes.invert_yaxis()
        axes.set_xlim(0, 100)
        axes.set_xlabel("% of the set; upright mark: ceiling; thin line: 95 % interval", color=_FAINT)
        bare(axes)

    return svg(6.6, 2.3, "Headline rates with intervals and ceilings", draw)


def heat_map(card: Scorecard) -> str:
    """Share of files that are intact, kind by loss, with counts in the cells."""
    kinds = sorted({file.kind for file in card.files})
    losses = sorted({file.loss for file in card.files})
    total, whole = np.zeros((len(kinds), len(losses))), np.zeros((len(kinds), len(losses)))
    for file in card.files:
        at = kinds.index(file.kind), losses.index(file.loss)
        total[at] += 1
        whole[at] += file.intact

    def draw(drawing: Drawing) -> None:
        axes = drawing.add_subplot()
        with np.errstate(invalid="ignore"):
            shares = whole / total
        axes.imshow(shares, cmap="viridis", vmin=0, vmax=1, aspect="auto")
        for (row, column), of in np.ndenumerate(total):
            if of:
                dark = shares[row, column] < 0.6
                told = f"{whole[row, column]:.0f} of {of:.0f}"
                axes.annotate(told, (column, row), ha="center", va="center", color="white" if dark else "black")
        axes.set_xticks(range(len(losses)), losses)
        axes.set_yticks(range(len(kinds)), kinds)
        axes.tick_params(length=0)

    width, height = max(1.6 + 1.3 * len(losses), 3.5), max(0.8 + 0.27 * len(kinds), 1.6)
    return svg(width, height, "Intact files by kind and loss", draw)


def reliability(calibration: Calibration) -> str:
    """Stated confidence against the share that is intact, with intervals; on the diagonal it means what it says."""

    def draw(drawing: Drawing) -> None:
        axes = drawing.add_subplot()
        axes.plot([0, 1], [0, 1], color=_FAINT, linewidth=1, linestyle="--")
        for one in calibration.bins:
            if one.interval:
                axes.plot([one.stated] * 2, one.interval, color=ORANGE, linewidth=1.5)
            axes.plot(one.stated, one.intact, "o", color="#222222", markersize=4 + 2 * np.log10(one.count))
            axes.annotate(f"{one.count}", (one.stated, one.intact), (6, -10), textcoords="offset points", color=_FAINT)
        axes.set(xlim=(-0.03, 1.03), ylim=(-0.03, 1.05), xlabel="stated confidence", ylabel="share intact")
        bare(axes)

    return svg(4, 3.4, "Stated confidence against the share that came back intact", draw)


def curve(groups: Sequence[Group], what: str) -> str:
    """Intact and ceiling by a property that has an order; nothing where all files share it."""
    if sum(bool(group.intact.of_set) for group in groups) < _FEWEST_BARS:
        return ""

    def draw(drawing: Drawing) -> None:
        axes = drawing.add_subplot()
        shown = [group for group in groups if group.intact.of_set]
        place = range(len(shown))
        ceiling = [100 * g.intact.of_ceiling / g.intact.of_set for g in shown]
        share = [100 * (g.intact.share_of_set or 0) for g in shown]
        axes.plot(place, ceiling, "_", color="#222222", markersize=18, markeredgewidth=2, label="ceiling")
        axes.bar(place, share, color=GREEN, width=0.55, label="intact")
        for n, group in enumerate(shown):
            axes.annotate(f"{group.intact.of_set}", (n, 2), ha="center", color="white" if share[n] > 8 else _FAINT)
        axes.set_xticks(place, [g.key for g in shown])
        axes.set(xlim=(-0.6, max(len(shown), 4) - 0.4), ylim=(0, 108), ylabel="% of files", xlabel=what)
        axes.legend(frameon=False, loc="lower right", fontsize=8, bbox_to_anchor=(1, 1), ncols=2)
        bare(axes)

    return svg(4, 3, f"Intact files and ceiling by {what}", draw)


def damage_map(file: FileScore) -> str:
    """One file from its first block to its last: right, wrong or absent."""
    runs = decode(file.damage)
    blocks = sum(count for count, _ in runs) or 1
    parts: list[str] = []
    at = 0
    for count, letter in runs:
        x, width = at / blocks * _MAP_WIDTH, max(count / blocks * _MAP_WIDTH, 1)
        colour, word = _DAMAGE[letter]
        told = f"blocks {at:,} to {at + count - 1:,}: {word}"
        parts.append(
            f'<rect x="{x:.1f}" width="{width:.1f}" height="{_MAP_HEIGHT}" fill="{colour}"><title>{told}</title></rect>'
        )
        at += count
    label = ", ".join(f"{sum(c for c, one in runs if one == key)} {word}" for key, (_, word) in _DAMAGE.items())
    told = f'role="img" aria-label="{label} of {blocks} blocks" class="damage"'
    return f'<svg {told} viewBox="0 0 {_MAP_WIDTH} {_MAP_HEIGHT}" preserveAspectRatio="none">{"".join(parts)}</svg>'
