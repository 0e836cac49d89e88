"""Floors: limits that a score must not fall below, for a gate."""

from __future__ import annotations

from collections.abc import Iterable

from sastrugi.errors import SastrugiError
from sastrugi.scoring.scorecard import Figure, Scorecard
from sastrugi.units import parse_share, percent

FIGURES = ("intact", "complete", "named", "all_three", "precision")


def parse_floors(given: Iterable[str]) -> dict[str, float]:
    """Limits from words like `intact=0.95`; raises SastrugiError with what can be written."""
    out: dict[str, float] = {}
    for text in given:
        name, _, value = text.partition("=")
        name = name.strip().replace("-", "_").replace(" ", "_")
        try:
            out[name] = parse_share(value)
        except SastrugiError:
            name = ""
        if name not in FIGURES:
            raise SastrugiError(
                f"'{text[:60]}' is no floor: write intact=0.95 or intact=95%, for one of {', '.join(FIGURES)}"
            )
    return out


def missed(
    card: Scorecard, floors: dict[str, float], ceiling_floors: dict[str, float], most_noise: float | None = None
) -> list[str]:
    """What the scorecard falls short of, in words; empty if it stands on all floors.

    `floors` are shares of the set, `ceiling_floors` of the ceiling; `most_noise` is the share of results that are no
    file at all. Where nothing was to come back (a negative control) a floor stands if nothing did.
    """
    out: list[str] = []
    for limits, of in ((floors, "set"), (ceiling_floors, "ceiling")):
        for name, limit in limits.items():
            share = _share(card, name, of)
            if share is None and _rightly_nothing(card, of):
                continue
            if share is None or share < limit:
                has = "nothing to measure" if share is None else percent(share)
                out.append(f"{name.replace('_', ' ')}: {has} of the {of}, the floor is {percent(limit)}")
    if most_noise is not None and card.results:
        noise = card.classes["noise"] / card.counted_results if card.counted_results else 0.0
        if noise > most_noise:
            out.append(f"noise: {percent(noise)} of the results, the limit is {percent(most_noise)}")
    return out


def _rightly_nothing(card: Scorecard, of: str) -> bool:
    """Whether nothing was expected, and what came back is nothing but files that were never lost."""
    expected = card.intact.of_set if of == "set" else card.intact.of_ceiling
    return not expected and not card.invented


def _share(card: Scorecard, name: str, of: str) -> float | None:
    if name == "precision":
        return card.precision
    figure: Figure = getattr(card, name)
    return figure.share_of_set if of == "set" else figure.share_of_ceiling
