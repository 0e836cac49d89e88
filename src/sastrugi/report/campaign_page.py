"""A campaign as a page: the matrix, survival, kinds, speed, ranking; and its cells for other programs."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import numpy as np

from sastrugi.progress import Progress
from sastrugi.report.campaign_view import Tally, by_engine, tallies
from sastrugi.report.csv_cells import csv_of
from sastrugi.report.pages import page
from sastrugi.report.style import GREEN
from sastrugi.report.svg import bare, svg
from sastrugi.report.trends import MARKS
from sastrugi.report.trial_view import details, verdict
from sastrugi.scoring.paired import compare
from sastrugi.scoring.scorecard import METHOD
from sastrugi.units import format_size, parse_size, percent, span_of_shares

if TYPE_CHECKING:
    from matplotlib.figure import Figure as Drawing

    from sastrugi.campaign.run import CampaignState, CellState
    from sastrugi.scoring.scorecard import Scorecard

_CHURN = "churn"
_MOST_ROWS, _MOST_KINDS = 60, 40
_FAINT = "#595959"
_DARK = 0.6

Scored = list[tuple["CellState", "Scorecard"]]


def campaign_page(state: CampaignState, progress: Progress) -> str:
    progress.start("read", len(state.cells), "cells")
    scored: Scored = []
    tally = tallies(state)
    for cell, card in state.scorecards():
        scored.append((cell, card))
        progress.at(len(scored))
        progress.check()
    specimens = list(dict.fromkeys(cell.specimen for cell in state.cells))
    ranking = by_engine(tally)
    figures = {
        "matrix": _heat_of_specimens(specimens[:_MOST_ROWS], state.engines, tally),
        "kinds": _heat_of_kinds(scored, state.engines),
        "survival": survival(scored, state.engines),
        "speed": _speed(ranking),
        "ranking": _ranking_bars(ranking),
    }
    badly = [cell for cell in state.cells if cell.problem or (cell.trial and not cell.trial.ended_well)]
    progress.finish()
    return page(
        "campaign.html", state=state, figures=figures, ranking=ranking, badly=badly,
        gate=[cell for cell in state.cells if cell.below_the_gate],
        pairs=_pairs(scored, list(ranking)), more=max(len(specimens) - _MOST_ROWS, 0), specimens=specimens,
        span_of_shares=span_of_shares, method=METHOD,
    )  # fmt: skip


def campaign_csv(state: CampaignState) -> str:
    """A row a cell."""
    import pandas as pd

    rows: list[dict[str, Any]] = []
    cards = {cell.key: card for cell, card in state.scorecards()}
    for cell in state.cells:
        card, trial = cards.get(cell.key), cell.trial
        row: dict[str, Any] = {
            "specimen": cell.specimen,
            "engine": cell.engine,
            "repeat": cell.repeat,
            **cell.parameters,
        }
        row |= {
            "outcome": trial.outcome if trial else "",
            "problem": cell.problem,
            "below_the_gate": "; ".join(cell.below_the_gate),
        }
        if card is not None and trial is not None:
            row |= {
                "trial": trial.id, "files": card.intact.of_set, "attainable": card.intact.of_ceiling,
                "intact": card.intact.value, "complete": card.complete.value, "named": card.named.value,
                "all_three": card.all_three.value, "results": len(card.results), **card.classes,
                "seconds": trial.measures.seconds, "cpu": trial.measures.cpu, "memory": trial.measures.memory,
            }  # fmt: skip
        rows.append(row)
    return csv_of(pd.DataFrame(rows))


def _pairs(scored: Scored, engines: Sequence[str]) -> list[dict[str, Any]]:
    """The best engine against each other one, file by file."""
    cards = {engine: [card for cell, card in scored if cell.engine == engine] for engine in engines}
    if len(engines) < 2:
        return []
    best = engines[0]
    out: list[dict[str, Any]] = []
    for engine in engines[1:]:
        one = compare(cards[engine], cards[best])
        told = [f"{verdict(engine, best, one.intact, 'files are intact')}.", *details(one.intact)]
        out.append({"verdict": told[0], "details": "; ".join(told[1:])})
    return out


def _shares(
    rows: Sequence[str], engines: Sequence[str], tally: dict[tuple[str, str], Tally]
) -> tuple[Any, list[list[str]]]:
    shares = np.full((len(rows), len(engines)), np.nan)
    told = [["" for _ in engines] for _ in rows]
    for r, row in enumerate(rows):
        for c, engine in enumerate(engines):
            one = tally.get((row, engine))
            if one is not None and one.share is not None:
                shares[r, c], told[r][c] = one.share, f"{one.intact:.0f} of {one.attainable:.0f}"
            elif one is not None:
                told[r][c] = "nothing could"
    return shares, told


def _heat(rows: Sequence[str], engines: Sequence[str], tally: dict[tuple[str, str], Tally], label: str) -> str:
    shares, told = _shares(rows, engines, tally)

    def draw(drawing: Drawing) -> None:
        axes = drawing.add_subplot()
        axes.imshow(shares, cmap="viridis", vmin=0, vmax=1, aspect="auto")
        for (r, c), share in np.ndenumerate(shares):
            colour = _FAINT if np.isnan(share) else "white" if share < _DARK else "black"
            axes.annotate(told[r][c], (c, r), ha="center", va="center", color=colour, fontsize=8)
        axes.set_xticks(range(len(engines)), engines, rotation=20 if len(engines) > 4 else 0)
        axes.set_yticks(range(len(rows)), rows)
        axes.tick_params(length=0)

    longest = max((len(row) for row in rows), default=0)
    return svg(0.7 + longest * 0.075 + 1.05 * len(engines), 0.7 + 0.27 * len(rows), label, draw)


def _heat_of_specimens(rows: Sequence[str], engines: Sequence[str], tally: dict[tuple[str, str], Tally]) -> str:
    return _heat(rows, engines, tally, "Intact files of the ceiling by specimen and engine")


def _heat_of_kinds(scored: Scored, engines: Sequence[str]) -> str:
    tally: defaultdict[tuple[str, str], Tally] = defaultdict(Tally)
    for cell, card in scored:
        for group in card.groups.get("kind", ()):
            one = tally[group.key, cell.engine]
            one.intact += group.intact.value
            one.attainable += group.intact.of_ceiling
    kinds = sorted({kind for kind, _ in tally})[:_MOST_KINDS]
    return _heat(kinds, engines, dict(tally), "Intact files of the ceiling by kind and engine") if kinds else ""


def survival(scored: Scored, engines: Sequence[str]) -> str:
    """Share of the lost files that is intact, and that could be, against bytes written after the loss."""
    points: defaultdict[str, defaultdict[int, list[Scorecard]]] = defaultdict(lambda: defaultdict(list))
    for cell, card in scored:
        if _CHURN in cell.parameters and card.intact.of_set:
            points[cell.engine][parse_size(cell.parameters[_CHURN])].append(card)
    amounts = sorted({amount for own in points.values() for amount in own})
    if len(amounts) < 2:
        return ""

    def share(cards: Sequence[Scorecard], of_ceiling: bool) -> float:
        of = sum(card.intact.of_set for card in cards)
        return 100 * sum(card.intact.of_ceiling if of_ceiling else card.intact.value for card in cards) / of

    def draw(drawing: Drawing) -> None:
        axes = drawing.add_subplot()
        every = {amount: [card for own in points.values() for card in own.get(amount, ())] for amount in amounts}
        axes.fill_between(
            amounts, [share(every[a], True) for a in amounts], color="#e4e4e4", label="could come back", step=None
        )
        for number, engine in enumerate(engine for engine in engines if engine in points):
            mark, colour = MARKS[number % len(MARKS)]
            own = sorted(points[engine])
            axes.plot(own, [share(points[engine][a], False) for a in own], marker=mark, color=colour, label=engine,
                      markersize=13 - 3 * min(number, 3), fillstyle="none", markeredgewidth=1.6)  # fmt: skip
        axes.set_xticks(amounts, [format_size(amount) for amount in amounts])
        axes.set(
            ylim=(0, 104), xlim=(amounts[0], amounts[-1]), ylabel="% of lost files", xlabel="written after the loss"
        )
        axes.legend(frameon=False, fontsize=8, loc="upper right")
        bare(axes)

    return svg(5.6, 3.4, "Intact files and ceiling against bytes written after the loss", draw)


def _speed(ranking: dict[str, Tally]) -> str:
    """Seconds against what came back."""
    if not ranking:
        return ""

    def draw(drawing: Drawing) -> None:
        axes = drawing.add_subplot()
        for number, (engine, one) in enumerate(ranking.items()):
            mark, colour = MARKS[number % len(MARKS)]
            axes.plot(one.seconds / one.cells, 100 * (one.share or 0), mark, color=colour, markersize=9, label=engine)
        axes.set(ylim=(-4, 108), xlabel="seconds a trial", ylabel="% of the ceiling intact")
        axes.set_xlim(0, 1.15 * max(one.seconds / one.cells for one in ranking.values()) or 1)
        axes.legend(frameon=False, fontsize=8, loc="lower right")
        bare(axes)

    return svg(5.0, 3.4, "Seconds a trial against intact files", draw)


def _ranking_bars(ranking: dict[str, Tally]) -> str:
    def draw(drawing: Drawing) -> None:
        axes = drawing.add_subplot()
        for row, one in enumerate(ranking.values()):
            axes.barh(row, 100, color="#eeeeee", height=0.6)
            axes.barh(row, 100 * (one.share or 0), color=GREEN, height=0.6)
            if one.interval:
                axes.plot([100 * value for value in one.interval], [row, row], color="#222222", linewidth=1)
            axes.annotate(percent(one.share), (101, row), va="center", annotation_clip=False)
        axes.set_yticks(range(len(ranking)), list(ranking))
        axes.invert_yaxis()
        axes.set_xlim(0, 100)
        axes.set_xlabel("% of the ceiling intact; thin line: 95 % interval", color=_FAINT)
        bare(axes)

    return svg(6.6, 0.9 + 0.36 * len(ranking), "Engines by intact files of the ceiling", draw) if ranking else ""
