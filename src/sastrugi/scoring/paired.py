"""Two programs, two builds, or two losses against each other, file by file; never a bare "better".

Sources: the exact test of Q. McNemar (Psychometrika 12, 1947); the adjusted Wald interval of a difference of paired
shares by A. Agresti and Y. Min (Statistics in Medicine 24, 2005); the number of pairs by R. J. Connor (Biometrics 43,
1987); the variance of a ratio over clusters in W. G. Cochran, Sampling Techniques (3rd ed., chapter 6).
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from math import ceil, sqrt

import numpy as np
from numpy.typing import NDArray

from sastrugi.scoring.groups import size_class
from sastrugi.scoring.scorecard import FileScore, Scorecard

_Z95, _Z80 = 1.959963984540054, 0.8416212335729143
LEVEL = 0.05
SMALLEST = 0.02
"""The difference for which the number of files is told that would show it."""
_ROUNDING = 1e-9
_EXACT_CLUSTERS = 14
BY: dict[str, Callable[[FileScore], str]] = {
    "kind": lambda f: f.kind,
    "loss": lambda f: f.loss,
    "pieces": lambda f: str(f.pieces) if f.pieces < 3 else "3 or more",
    "size": lambda f: size_class(f.size),
    "file-system": lambda f: f.file_system or "–",
}
"""What pairs are told by."""


@dataclass(frozen=True, slots=True)
class Pair:
    """One reference file and what came back of it on either side; `specimen` is the name of the one it is of, `cluster`
    tells it from others of that name."""

    specimen: str
    cluster: str
    first: FileScore
    second: FileScore

    @property
    def change(self) -> str:
        """Won (intact on the second side only), lost, better or worse by bytes, or the same."""
        if self.first.intact != self.second.intact:
            return "won" if self.second.intact else "lost"
        more = self.second.completeness - self.first.completeness
        if abs(more) <= _ROUNDING:
            return "same"
        return "better" if more > 0 else "worse"


@dataclass(frozen=True, slots=True)
class Difference:
    """A difference of two shares of the same `count` files: `won` and `lost` are those that only one side has;
    `interval` is its 95 % interval over files, `p` the exact probability of so much under no difference. Over several
    specimens `cluster_interval` and `cluster_p` allow for files of one specimen being alike."""

    count: int
    first: int
    second: int
    won: int
    lost: int
    interval: tuple[float, float] | None
    p: float
    specimens: int = 1
    cluster_interval: tuple[float, float] | None = None
    cluster_p: float | None = None

    @property
    def difference(self) -> float:
        return (self.won - self.lost) / self.count if self.count else 0.0

    @property
    def shown(self) -> bool:
        """Whether these files show a difference at 95 %."""
        return bool(self.count) and self.p < LEVEL

    @property
    def general(self) -> bool:
        """Whether it is shown for specimens like these, and not for these alone."""
        return self.shown and self.cluster_p is not None and self.cluster_p < LEVEL

    @property
    def files_needed(self) -> int | None:
        """How many files would show a difference of SMALLEST in four cases of five, if as many change as changed
        here."""
        if not self.count:
            return None
        changing = max((self.won + self.lost) / self.count, SMALLEST)
        root = _Z95 * sqrt(changing) + _Z80 * sqrt(max(changing - SMALLEST**2, 0.0))
        return ceil(root**2 / SMALLEST**2)


@dataclass(frozen=True, slots=True)
class Comparison:
    """Pairs, what is unpaired, and the differences in whole files and in names; `by` gives files, won and lost by each
    property of BY."""

    pairs: tuple[Pair, ...]
    only_first: int
    only_second: int
    intact: Difference
    named: Difference
    completeness: tuple[float, float]
    by: dict[str, tuple[tuple[str, int, int, int], ...]]

    def of(self, change: str) -> list[Pair]:
        """The pairs that changed so, in the order of their paths."""
        found = [pair for pair in self.pairs if pair.change == change]
        return sorted(found, key=lambda pair: (pair.specimen, pair.first.path))


def compare(first: Sequence[Scorecard], second: Sequence[Scorecard]) -> Comparison:
    """Pair the files of two sides. Those of one specimen are paired by number; where the specimens differ (another
    loss, another file system), by path and size. Files that are the same on a side several times (repeats) count once,
    as the worst of them."""
    ours, theirs = _by_specimen(first), _by_specimen(second)
    pairs: list[Pair] = []
    only_first = only_second = 0
    for own, other, exactly in _matched_specimens(ours, theirs):
        left, right = _files(own, exactly), _files(other, exactly)
        both = left.keys() & right.keys()
        card = (own or other)[0]
        pairs += [
            Pair(card.specimen, card.identity or card.specimen, left[key], right[key]) for key in sorted(both, key=str)
        ]
        only_first += len(left) - len(both)
        only_second += len(right) - len(both)
    return _compared(pairs, only_first, only_second)


def _compared(pairs: list[Pair], only_first: int, only_second: int) -> Comparison:
    filled = [pair for pair in pairs if pair.first.size]
    clusters = [pair.cluster for pair in filled]
    return Comparison(
        tuple(pairs), only_first, only_second,
        difference([p.first.intact for p in filled], [p.second.intact for p in filled], clusters),
        difference([p.first.named for p in pairs], [p.second.named for p in pairs], [p.cluster for p in pairs]),
        (_mean(p.first.completeness for p in filled), _mean(p.second.completeness for p in filled)),
        {name: _grouped(filled, key_of) for name, key_of in BY.items()},
    )  # fmt: skip


def difference(first: Sequence[bool], second: Sequence[bool], clusters: Sequence[str]) -> Difference:
    """The difference of the shares of True in `second` and in `first`, which are of the same files in the same order.
    `clusters` says which files belong together."""
    from scipy.stats import binomtest

    a, b = np.array(first, bool), np.array(second, bool)
    won, lost = int((b & ~a).sum()), int((a & ~b).sum())
    p = float(binomtest(won, won + lost, 0.5).pvalue) if won + lost else 1.0
    names = sorted(set(clusters))
    interval = _agresti_min(won, lost, len(a)) if len(a) else None
    out = Difference(len(a), int(a.sum()), int(b.sum()), won, lost, interval, p, max(len(names), 1))
    if len(names) < 2:
        return out
    number = {name: n for n, name in enumerate(names)}
    at = np.array([number[name] for name in clusters])
    sums = np.bincount(at, b.astype(float) - a.astype(float), len(names)).astype(np.float64)
    sizes = np.bincount(at, minlength=len(names)).astype(np.float64)
    spread, chance = _over_clusters(sums, sizes)
    return Difference(out.count, out.first, out.second, won, lost, interval, p, len(names), spread, chance)


def _agresti_min(won: int, lost: int, count: int) -> tuple[float, float]:
    b, c, n = won + 0.5, lost + 0.5, count + 2
    middle, half = (b - c) / n, _Z95 * sqrt((b + c) - (b - c) ** 2 / n) / n
    return max(middle - half, -1.0), min(middle + half, 1.0)


def _over_clusters(sums: NDArray[np.float64], sizes: NDArray[np.float64]) -> tuple[tuple[float, float], float]:
    """The interval of Σsums/Σsizes, and the probability of so much if signs of whole clusters were by chance: of all
    signs where clusters are few, of 20,000 of them otherwise."""
    from scipy.stats import t

    k, total = len(sums), float(sizes.sum())
    ratio = float(sums.sum()) / total
    spread = sqrt(k / (k - 1) * float(((sums - ratio * sizes) ** 2).sum())) / total
    half = float(t.ppf(1 - LEVEL / 2, k - 1)) * spread
    if k <= _EXACT_CLUSTERS:
        signs = 1 - 2 * ((np.arange(1 << k)[:, None] >> np.arange(k)) & 1)
    else:
        signs = np.random.default_rng(1).choice((-1, 1), (20_000, k))
    extreme = np.abs(signs @ sums) >= abs(float(sums.sum())) - _ROUNDING
    chance = float(extreme.mean()) if k <= _EXACT_CLUSTERS else float((extreme.sum() + 1) / (len(signs) + 1))
    return (max(ratio - half, -1.0), min(ratio + half, 1.0)), chance


def _by_specimen(cards: Sequence[Scorecard]) -> dict[str, list[Scorecard]]:
    out: defaultdict[str, list[Scorecard]] = defaultdict(list)
    for card in cards:
        out[card.identity or card.specimen].append(card)
    return dict(out)


def _matched_specimens(
    ours: dict[str, list[Scorecard]], theirs: dict[str, list[Scorecard]]
) -> Iterable[tuple[list[Scorecard], list[Scorecard], bool]]:
    """Specimens of both sides that belong together, and whether they are the same one: the same first, those that are
    left by their names, and one that is left on either side with the other."""
    for key in [key for key in ours if key in theirs]:
        yield ours[key], theirs[key], True
    left = [cards for key, cards in ours.items() if key not in theirs]
    right = [cards for key, cards in theirs.items() if key not in ours]
    for own in left[:]:
        found = next((other for other in right if other[0].specimen == own[0].specimen), None)
        if found is not None:
            left.remove(own)
            right.remove(found)
            yield own, found, False
    for n in range(max(len(left), len(right))):
        yield (left[n] if n < len(left) else []), (right[n] if n < len(right) else []), False


def _files(cards: Sequence[Scorecard], exactly: bool) -> dict[object, FileScore]:
    out: dict[object, FileScore] = {}
    for card in cards:
        counts: defaultdict[tuple[str, int], int] = defaultdict(int)
        for file in card.files:
            key: object = file.id
            if not exactly:
                counts[file.path, file.size] += 1
                key = (file.path, file.size, counts[file.path, file.size])
            known = out.get(key)
            if known is None or (file.intact, file.completeness) < (known.intact, known.completeness):
                out[key] = file
    return out


def _grouped(pairs: Sequence[Pair], key_of: Callable[[FileScore], str]) -> tuple[tuple[str, int, int, int], ...]:
    counts: defaultdict[str, list[int]] = defaultdict(lambda: [0, 0, 0])
    for pair in pairs:
        own = counts[key_of(pair.first)]
        own[0] += 1
        own[1] += pair.change == "won"
        own[2] += pair.change == "lost"
    return tuple((key, files, won, lost) for key, (files, won, lost) in sorted(counts.items()))


def _mean(values: Iterable[float]) -> float:
    found = list(values)
    return sum(found) / len(found) if found else 0.0
