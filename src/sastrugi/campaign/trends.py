"""How figures went from version to version, or from day to day."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import asdict, dataclass
from typing import Any

from sastrugi.campaign.ledger.store import LedgerRow
from sastrugi.scoring.scorecard import wilson

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


def trend_of(rows: Sequence[LedgerRow], by: str) -> list[Line]:
    """A line for each engine and specimen, its points in the order in which they were first seen; `rows` oldest
    first."""
    lines: defaultdict[tuple[str, str, str], defaultdict[str, list[LedgerRow]]] = defaultdict(lambda: defaultdict(list))
    for row in rows:
        lines[row.engine, _specimen(row), row.identity][_label(row, by)].append(row)
    return [
        Line(engine, specimen, tuple(_point(label, own) for label, own in points.items()))
        for (engine, specimen, _), points in sorted(lines.items())
    ]


def _specimen(row: LedgerRow) -> str:
    """The specimen, with its parameters where a campaign says them."""
    return row.cell.partition(" × ")[0] or row.specimen


def _label(row: LedgerRow, by: str) -> str:
    return {"version": row.engine_version or "–", "day": row.began[:10], "trial": row.id[:8]}[by]


def _point(label: str, rows: list[LedgerRow]) -> Point:
    files, named_of = sum(row.files for row in rows), sum(row.named_of for row in rows)
    intact = sum(row.intact for row in rows)
    seconds = [row.seconds for row in rows if row.seconds is not None]
    return Point(
        label, len(rows), files,
        intact / files if files else 0.0,
        sum(row.attainable for row in rows) / files if files else 0.0,
        sum(row.named for row in rows) / named_of if named_of else 0.0,
        wilson(int(intact), files),
        sum(seconds) / len(seconds) if seconds else None,
    )  # fmt: skip
