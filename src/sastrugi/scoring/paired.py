"""Two programs, two builds, or two losses against each other, file by file; never a bare "better".

Over several specimens the verdict is over specimens: files of one are alike, so that many files of few specimens prove
little about others. Over one it is over its files, and speaks of that specimen alone. Methods: significance.py.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np

from sastrugi.scoring.groups import size_class
from sastrugi.scoring.scorecard import FileScore, Scorecard
from sastrugi.scoring.significance import (
    LEAST_SPECIMENS,
    LEVEL,
    Interval,
    OverSpecimens,
    chance_of_changes,
    files_that_show,
    interval_of_changes,
    over_specimens,
    specimens_that_show,
)

SMALLEST = 0.02
"""The difference that is looked for, if the user states none."""
_ROUNDING = 1e-9
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
    def sides(self) -> tuple[FileScore, FileScore]:
        return self.first, self.second

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
class Needed:
    """What it would take to show a difference of `difference` four times of five (with a power of 80 %): files, where
    all are of one specimen; specimens, where several tell how far they are spread."""

    difference: float
    files: int
    specimens: int | None


@dataclass(frozen=True, slots=True)
class Difference:
    """A difference of two shares of the same `count` files: `won` and `lost` are those that only one side has.
    `files_interval` (95 %) and `files_p` are over files, as if they were independent; `specimens` is how many there
    are, `over` what several of them say."""

    count: int
    first: int
    second: int
    won: int
    lost: int
    files_interval: Interval | None
    files_p: float
    specimens: int = 1
    over: OverSpecimens | None = None

    @property
    def difference(self) -> float:
        return (self.won - self.lost) / self.count if self.count else 0.0

    @property
    def basis(self) -> Literal["files", "specimens"]:
        """What interval, probability and verdict are over."""
        return "files" if self.over is None else "specimens"

    @property
    def interval(self) -> Interval | None:
        """The 95 % interval of the difference. Over specimens it is never narrower than over files: that several of
        them agree does not make each of them sure."""
        if self.over is None or self.files_interval is None:
            return self.files_interval
        (low, high), (files_low, files_high) = self.over.interval, self.files_interval
        return min(low, files_low), max(high, files_high)

    @property
    def p(self) -> float:
        """The probability of so much, or more, under no difference."""
        return self.files_p if self.over is None else max(self.over.p, self.files_p)

    @property
    def shown(self) -> bool:
        """Whether a difference is shown at 95 %. Then, and only then, the interval leaves 0 out."""
        return bool(self.count) and self.p < LEVEL

    @property
    def too_few(self) -> bool:
        """Whether so few specimens differ that no difference of theirs could ever be shown."""
        return self.over is not None and self.over.differing < LEAST_SPECIMENS

    def needed(self, difference: float = SMALLEST) -> Needed | None:
        """What would show a difference, if as many files change, and specimens are spread as far, as here; None where
        there is nothing to go by."""
        if not self.count:
            return None
        files = files_that_show(difference, (self.won + self.lost) / self.count)
        return Needed(difference, files, specimens_that_show(difference, self.over.spread) if self.over else None)


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


def difference(first: Sequence[bool], second: Sequence[bool], specimens: Sequence[str]) -> Difference:
    """The difference of the shares of True in `second` and in `first`, which are of the same files in the same order;
    `specimens` says of which specimen each is."""
    a, b = np.array(first, bool), np.array(second, bool)
    won, lost = int((b & ~a).sum()), int((a & ~b).sum())
    names, at = np.unique(np.array(specimens, str), return_inverse=True)
    over = None
    if len(names) > 1:
        sums = np.bincount(at, b.astype(float) - a.astype(float), len(names)).astype(np.float64)
        over = over_specimens(sums, np.bincount(at, minlength=len(names)).astype(np.float64))
    interval, p = interval_of_changes(won, lost, len(a)), chance_of_changes(won, lost)
    return Difference(len(a), int(a.sum()), int(b.sum()), won, lost, interval, p, max(len(names), 1), over)


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
