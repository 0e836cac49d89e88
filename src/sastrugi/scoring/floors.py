"""Floors: limits that a score must not fall below, for a gate."""

from __future__ import annotations

from collections.abc import Iterable

from sastrugi.errors import SastrugiError
from sastrugi.scoring.scorecard import Figure, Scorecard

FIGURES = ("intact", "complete", "named", "all_three", "precision")


def parse_floors(given: Iterable[str]) -> dict[str, float]:
    """Limits from words like `intact=0.95`; raises SastrugiError with what can be written."""
    out: dict[str, float] = {}
    for text in given:
        name, _, value = text.partition("=")
        name = name.strip().replace("-", "_").replace(" ", "_")
        try:
            share = float(value.strip().removesuffix("%")) / (100 if value.strip().endswith("%") else 1)
        except ValueError:
            share = -1.0
        if name not in FIGURES or not 0 <= share <= 1:
            raise SastrugiError(
                f"'{text}' is no floor: write intact=0.95 or intact=95%, for one of {', '.join(FIGURES)}"
            )
        out[name] = share
    return out


def missed(
    card: Scorecard, floors: dict[str, float], ceiling_floors: dict[str, float], most_noise: float | None = None
) -> list[str]:
    """What the scorecard falls short of, in words; empty if it stands on all floors.

    `floors` are shares of the set, `ceiling_floors` of the ceiling; `most_noise` is the share of results that are no
    file at all. Of nothing, every floor is missed but that of noise.
    """
    out: list[str] = []
    for limits, of in ((floors, "set"), (ceiling_floors, "ceiling")):
        for name, limit in limits.items():
            share = _share(card, name, of)
            if share is None or share < limit:
                has = "nothing to measure" if share is None else f"{share:.1%}"
                out.append(f"{name.replace('_', ' ')}: {has} of the {of}, the floor is {limit:.1%}")
    if most_noise is not None and card.results:
        noise = card.classes["noise"] / len(card.results)
        if noise > most_noise:
            out.append(f"noise: {noise:.1%} of the results, the limit is {most_noise:.1%}")
    return out


def _share(card: Scorecard, name: str, of: str) -> float | None:
    if name == "precision":
        return card.precision
    figure: Figure = getattr(card, name)
    return figure.share_of_set if of == "set" else figure.share_of_ceiling
