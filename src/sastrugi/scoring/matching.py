"""One result answers for one reference: the assignment with the most bytes in place, then with the best names, then
with what the program is surest of."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np

from sastrugi.scoring.names import NameVerdict

_NAME_WEIGHT, _SURE_WEIGHT = 1 / 16, 1 / 64
"""Less than one byte, so that names decide only between equals; less than a better name, so that how sure a program is
decides only where nothing else does."""
_MOST_CELLS = 4 << 20
"""Pairs of one group for which the best assignment is worked out; larger groups are matched best pair first."""


@dataclass(frozen=True, slots=True)
class Candidate:
    """A result that may answer for a reference: `in_place` bytes of it stand where they should.

    `first_wrong` is the first byte that does not; `damage` is the map of its blocks (see damage). `beyond_ceiling`
    says that blocks came back that no longer exist; `sure` is the stated confidence, if there is one.
    """

    result: int
    reference: int
    in_place: int
    name: NameVerdict
    exact: bool = False
    first_wrong: int | None = None
    damage: str = ""
    beyond_ceiling: bool = False
    sure: float = 0.0

    @property
    def weight(self) -> float:
        return self.in_place + (1 if self.exact else 0) + self.name * _NAME_WEIGHT + self.sure * _SURE_WEIGHT


def assign(candidates: Iterable[Candidate]) -> dict[int, Candidate]:
    """The best one-to-one assignment, as candidate by reference. Solved group by group of connected candidates."""
    by_result: defaultdict[int, list[Candidate]] = defaultdict(list)
    by_reference: defaultdict[int, list[Candidate]] = defaultdict(list)
    for candidate in candidates:
        by_result[candidate.result].append(candidate)
        by_reference[candidate.reference].append(candidate)
    chosen: dict[int, Candidate] = {}
    seen: set[int] = set()
    for start in by_reference:
        if start in seen:
            continue
        group: dict[tuple[int, int], Candidate] = {}
        queue = [start]
        seen.add(start)
        while queue:
            for candidate in by_reference[queue.pop()]:
                group[candidate.reference, candidate.result] = candidate
                for other in by_result[candidate.result]:
                    if other.reference not in seen:
                        seen.add(other.reference)
                        queue.append(other.reference)
        chosen |= _solve(group)
    return chosen


def _solve(group: dict[tuple[int, int], Candidate]) -> dict[int, Candidate]:
    if len(group) == 1:
        return {reference: candidate for (reference, _), candidate in group.items()}
    rows = sorted({reference for reference, _ in group})
    columns = sorted({result for _, result in group})
    if len(rows) * len(columns) > _MOST_CELLS:
        return _best_first(group)
    from scipy.optimize import linear_sum_assignment

    weights = np.zeros((len(rows), len(columns)))
    row_of, column_of = {r: n for n, r in enumerate(rows)}, {c: n for n, c in enumerate(columns)}
    for (reference, result), candidate in group.items():
        weights[row_of[reference], column_of[result]] = candidate.weight
    picked = zip(*linear_sum_assignment(weights, maximize=True), strict=True)
    pairs = ((rows[int(r)], columns[int(c)]) for r, c in picked)
    return {pair[0]: group[pair] for pair in pairs if pair in group}


def _best_first(group: dict[tuple[int, int], Candidate]) -> dict[int, Candidate]:
    chosen: dict[int, Candidate] = {}
    used: set[int] = set()
    for (reference, result), candidate in sorted(group.items(), key=lambda item: (-item[1].weight, item[0])):
        if reference not in chosen and result not in used:
            chosen[reference] = candidate
            used.add(result)
    return chosen
