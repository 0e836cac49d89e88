"""How figures went from version to version, or from day to day."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import asdict, dataclass
from typing import Any

from sastrugi.campaign.ledger.store import Sums
from sastrugi.scoring.significance import wilson

_LABEL = 12
POINTS = ("version", "day", "trial")


@dataclass(frozen=True, slots=True)
class Point:
    """The trials of one version or day together: how many there are, files, and shares of the set; the interval is of
    `intact`. `seconds` are per trial."""

    label: str
    trials: int
    files: int
    intact: float
    ceiling: float
    named: float
    interval: tuple[float, float] | None
    seconds: float | None


@dataclass(frozen=True, slots=True)
class Line:
    """One engine on one specimen, over time."""

    engine: str
    specimen: str
    points: tuple[Point, ...]

    def as_json(self) -> dict[str, Any]:
        return asdict(self)


def trend_of(sums: Sequence[Sums]) -> list[Line]:
    """A line for each engine and specimen, its points in the order in which they were first seen."""
    lines: defaultdict[tuple[str, str, str], defaultdict[str, list[Sums]]] = defaultdict(lambda: defaultdict(list))
    for one in sums:
        # With its parameters, where a campaign says them.
        specimen = one.cell.partition(" × ")[0] or one.specimen
        lines[one.engine, specimen, one.identity][one.label].append(one)
    return [
        Line(engine, specimen, tuple(_point(label, own) for label, own in points.items()))
        for (engine, specimen, _), points in sorted(lines.items())
    ]


def _point(label: str, own: list[Sums]) -> Point:
    files, named_of = sum(one.files for one in own), sum(one.named_of for one in own)
    intact, timed = sum(one.intact for one in own), sum(one.timed for one in own)
    trials = sum(one.trials for one in own)  # of one specimen: again the same files, which count once in the interval
    return Point(
        label[:_LABEL] or "–", trials, files,
        intact / files if files else 0.0,
        sum(one.attainable for one in own) / files if files else 0.0,
        sum(one.named for one in own) / named_of if named_of else 0.0,
        wilson(intact / trials, files / trials) if trials else None,
        sum(one.seconds or 0.0 for one in own) / timed if timed else None,
    )  # fmt: skip
