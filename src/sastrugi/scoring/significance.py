"""Intervals and tests, over files and over specimens (docs/method.md, "Intervals and tests").

Sources: the interval of a share by E. B. Wilson (JASA 22, 1927), with the effective number of files of E. L. Korn and
B. I. Graubard (Survey Methodology 24, 1998) where they come from several specimens; the exact test of changes by Q.
McNemar (Psychometrika 12, 1947) with the exact interval of C. J. Clopper and E. S. Pearson (Biometrika 26, 1934); the
adjusted Wald interval of a difference of paired shares by A. Agresti and Y. Min (Statistics in Medicine 24, 2005); the
test by signs of whole specimens of R. A. Fisher (The Design of Experiments, 1935), and its interval by the typical
values of J. A. Hartigan (JASA 64, 1969); the variance of a ratio over clusters of W. G. Cochran (Sampling Techniques,
3rd ed., chapter 6); the number of pairs by R. J. Connor (Biometrics 43, 1987)."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from math import ceil, sqrt

import numpy as np
from numpy.typing import NDArray

LEVEL, POWER = 0.05, 0.8
Z95, Z80 = 1.959963984540054, 0.8416212335729143
LEAST_SPECIMENS = 6
"""Signs of five specimens come out alike by chance in 2 of 32 cases: more often than LEVEL."""
_ALL_SIGNS = 14
"""Up to so many specimens all changes of signs are looked at; of more so many, drawn at random:"""
_DRAWN = 20_000
_ROUNDING = 1e-9

Interval = tuple[float, float]
Numbers = NDArray[np.float64]


def wilson(count: float, of: float, z: float = Z95) -> Interval | None:
    """The Wilson interval of a share, at 95 % unless told otherwise; None of nothing."""
    if not of:
        return None
    p, z2 = count / of, z**2
    middle = (p + z2 / (2 * of)) / (1 + z2 / of)
    half = z / (1 + z2 / of) * sqrt(p * (1 - p) / of + z2 / (4 * of * of))
    return max(middle - half, 0.0), min(middle + half, 1.0)


def share_over_specimens(counts: Sequence[float], of: Sequence[float]) -> Interval | None:
    """The 95 % interval of Σcounts/Σof, one item a specimen: Wilson's with as many files as would tell as much if all
    were independent, never more than there are; and with Student's t for what few specimens tell of their spread. Of
    one specimen it is over its files. None of nothing."""
    from scipy.stats import t

    hits, sizes = np.array(counts, np.float64), np.array(of, np.float64)
    hits, sizes = hits[sizes > 0], sizes[sizes > 0]
    k, total = len(sizes), float(sizes.sum())
    if k < 2:
        return wilson(float(hits.sum()), total)
    share = float(hits.sum()) / total
    alone = share * (1 - share) / total
    effect = max(_variance_of_ratio(hits, sizes) / alone, 1.0) if alone else 1.0
    return wilson(float(hits.sum()) / effect, total / effect, float(t.ppf(1 - LEVEL / 2, k - 1)))


def _variance_of_ratio(sums: Numbers, sizes: Numbers) -> float:
    """The variance of Σsums/Σsizes over specimens."""
    k, total = len(sums), float(sizes.sum())
    ratio = float(sums.sum()) / total
    return k / (k - 1) * float(((sums - ratio * sizes) ** 2).sum()) / total**2


# -- changes of files -----------------------------------------------------------------------------


def chance_of_changes(won: int, lost: int) -> float:
    """The exact probability of so uneven numbers of files won and lost, or more so, if both were as likely."""
    from scipy.stats import binomtest

    return float(binomtest(won, won + lost, 0.5).pvalue) if won + lost else 1.0


def interval_of_changes(won: int, lost: int, count: int) -> Interval | None:
    """The 95 % interval of (won - lost) / count over files: Agresti and Min's, made wider where the exact test has it
    so. It leaves 0 out exactly where that test shows a difference."""
    from scipy.stats import binomtest

    if not count:
        return None
    b, c, n = won + 0.5, lost + 0.5, count + 2
    middle, half = (b - c) / n, Z95 * sqrt((b + c) - (b - c) ** 2 / n) / n
    low, high = max(middle - half, -1.0), min(middle + half, 1.0)
    changed = won + lost
    if changed:
        exact = binomtest(won, changed).proportion_ci(1 - LEVEL, "exact")
        low = min(low, (2 * float(exact.low) - 1) * changed / count)
        high = max(high, (2 * float(exact.high) - 1) * changed / count)
    return low, high


def files_that_show(difference: float, changing: float) -> int:
    """How many files of one kind would show a difference with POWER, if such a share of them changes."""
    changing = max(changing, difference)
    root = Z95 * sqrt(changing) + Z80 * sqrt(max(changing - difference**2, 0.0))
    return ceil(root**2 / difference**2)


# -- differences over specimens -------------------------------------------------------------------


@dataclass(frozen=True, slots=True)
class OverSpecimens:
    """A difference over specimens: its 95 % interval, the probability of so much if the signs of whole specimens were
    by chance, how many of them differ at all, and how far they are spread (the standard deviation of one)."""

    interval: Interval
    p: float
    differing: int
    spread: float


def over_specimens(sums: Numbers, sizes: Numbers) -> OverSpecimens:
    """Of Σsums/Σsizes, one item a specimen (two or more). The interval holds the differences that the same test does
    not refuse: the most and least that means of some of the specimens are, but for the outermost."""
    k = len(sums)
    if k <= _ALL_SIGNS:
        signs = 1.0 - 2 * ((np.arange(1 << k)[:, None] >> np.arange(k)) & 1)
        own = 0
    else:
        signs = np.random.default_rng(1).choice((-1.0, 1.0), (_DRAWN, k))
        own = 1  # the signs as they are count as one of those drawn
    total, size = float(sums.sum()), float(sizes.sum())
    changed, sized = signs @ sums, signs @ sizes
    p = (int((np.abs(changed) >= abs(total) - _ROUNDING).sum()) + own) / (len(signs) + own)
    # A difference d is refused where |Σ±(sums - d·sizes)| seldom reaches |Σ(sums - d·sizes)|: where it is beyond the
    # mean of the specimens with one sign, or of those with the other, for all but few of the changes.
    with np.errstate(divide="ignore", invalid="ignore"):
        means = np.stack(((total + changed) / (size + sized), (total - changed) / (size - sized)))
    none = np.stack((size + sized < _ROUNDING, size - sized < _ROUNDING))
    highest = np.sort(np.where(none, np.inf, means).max(axis=0))[::-1]
    lowest = np.sort(np.where(none, -np.inf, means).min(axis=0))
    few = ceil(LEVEL * (len(signs) + own)) - own - 1
    interval = max(float(lowest[few]), -1.0), min(float(highest[few]), 1.0)
    spread = sqrt(max(_variance_of_ratio(sums, sizes), 0.0) * k)
    return OverSpecimens(interval, p, int((np.abs(sums) > _ROUNDING).sum()), spread)


def specimens_that_show(difference: float, spread: float) -> int:
    """How many specimens would show a difference with POWER, if they are spread so far."""
    return max(ceil(((Z95 + Z80) * spread / difference) ** 2 + Z95**2 / 2), LEAST_SPECIMENS)
