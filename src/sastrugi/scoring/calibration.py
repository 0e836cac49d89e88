"""Whether stated confidence means what it says: against what came back intact."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import groupby

from sastrugi.scoring.scorecard import Bin, Calibration
from sastrugi.scoring.significance import wilson

_BINS = 10


def calibrate(stated: Sequence[tuple[float, bool]]) -> Calibration | None:
    """Of (confidence, came back intact) pairs: the Brier score (mean squared difference; 0 is best, 0.25 is what always
    saying one half gets) and a table in tenths. None of none. Source: G. W. Brier, Monthly Weather Review 78 (1950)."""
    if not stated:
        return None
    stated = sorted(stated)  # so that the order of results does not show in the last digit of a sum
    bins: list[Bin] = []
    for n, one in groupby(stated, lambda pair: min(int(pair[0] * _BINS), _BINS - 1)):
        inside = list(one)
        hits = sum(hit for _, hit in inside)
        bins.append(
            Bin(
                low=n / _BINS,
                high=(n + 1) / _BINS,
                count=len(inside),
                stated=sum(p for p, _ in inside) / len(inside),
                intact=hits / len(inside),
                interval=wilson(hits, len(inside)),
            )
        )
    brier = sum((p - hit) ** 2 for p, hit in stated) / len(stated)
    off = sum(one.count * abs(one.stated - one.intact) for one in bins) / len(stated)
    return Calibration(count=len(stated), brier=brier, mean_gap=off, bins=tuple(bins))
