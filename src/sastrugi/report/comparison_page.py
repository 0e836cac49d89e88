"""A comparison as a page, and as data."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from sastrugi.report.pages import page
from sastrugi.report.style import GREEN, VERMILION
from sastrugi.report.svg import bare, svg
from sastrugi.report.trial_view import comparison_json, details, verdict
from sastrugi.scoring.scorecard import METHOD

if TYPE_CHECKING:
    from matplotlib.figure import Figure as Drawing

    from sastrugi.campaign.sides import Side
    from sastrugi.scoring.paired import Comparison

_MOST_FILES = 500


def comparison_document(
    sides: Sequence[Side], found: Sequence[Comparison], detect: float | None = None
) -> dict[str, Any]:
    """The whole comparison (docs/formats/comparison.md)."""
    return {
        "format": "sastrugi-comparison", "version": 2, "method": METHOD,
        "sides": [
            {
                "name": side.name, "seconds": side.seconds, "memory": side.memory, "scorecards": len(side.scored),
                "trials": [one.trial.id for one in side.scored if one.trial], "outcomes": side.outcomes,
            }
            for side in sides
        ],
        "against_the_first": [
            comparison_json(sides[0].name, side.name, one, detect) for side, one in zip(sides[1:], found, strict=True)
        ],
    }  # fmt: skip


def comparison_page(sides: Sequence[Side], found: Sequence[Comparison], detect: float | None = None) -> str:
    parts = []
    for side, one in zip(sides[1:], found, strict=True):
        changed = [(pair, change) for change in ("lost", "won", "worse", "better") for pair in one.of(change)]
        parts.append(
            {
                "name": side.name,
                "one": one,
                "verdict": verdict(sides[0].name, side.name, one.intact, "files are intact"),
                "names": verdict(sides[0].name, side.name, one.named, "files have their whole names"),
                "details": details(one.intact, detect),
                "changed": changed[:_MOST_FILES],
                "more": max(len(changed) - _MOST_FILES, 0),
                "bars": {name: won_and_lost(one, name) for name in one.by if len(one.by[name]) > 1},
            }
        )
    return page("comparison.html", sides=sides, first=sides[0], parts=parts, found=found, method=METHOD)


def won_and_lost(one: Comparison, by: str) -> str:
    """Files won and lost by a property: to the right and to the left of nothing."""
    rows = one.by[by]

    def draw(drawing: Drawing) -> None:
        axes = drawing.add_subplot()
        most = max((max(won, lost) for _, _, won, lost in rows), default=0) or 1
        for place, (_, files, won, lost) in enumerate(rows):
            axes.barh(place, won, color=GREEN, height=0.6)
            axes.barh(place, -lost, color=VERMILION, height=0.6)
            axes.annotate(f"{won} won", (won, place), (4, 0), textcoords="offset points", va="center", fontsize=8)
            axes.annotate(
                f"{lost} lost", (-lost, place), (-4, 0), textcoords="offset points", va="center", ha="right", fontsize=8
            )
            axes.annotate(f"of {files}", (most * 2, place), va="center", ha="right", fontsize=8, color="#595959")
        axes.set_yticks(range(len(rows)), [key for key, *_ in rows])
        axes.invert_yaxis()
        axes.axvline(0, color="#222222", linewidth=1)
        axes.set_xlim(-most * 1.5, most * 2)
        axes.margins(y=0.02)
        axes.set_xticks([])
        axes.tick_params(length=0)
        bare(axes)
        axes.spines[["bottom", "left"]].set_visible(False)

    return svg(4.6, 0.5 + 0.32 * len(rows), f"Files won and lost by {by}", draw)
