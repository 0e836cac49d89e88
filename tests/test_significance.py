"""Intervals and tests: against SciPy and statsmodels, by counting, and by what they promise of many draws."""

from __future__ import annotations

import itertools
from math import comb

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from sastrugi.scoring.paired import Difference, difference
from sastrugi.scoring.significance import (
    LEAST_SPECIMENS,
    LEVEL,
    chance_of_changes,
    files_that_show,
    interval_of_changes,
    over_specimens,
    share_over_specimens,
    specimens_that_show,
    wilson,
)
from sastrugi.units import span_of_shares

SIX = 1e-6


@given(st.integers(0, 400), st.integers(1, 400))
def test_intervals_of_shares_are_those_of_others(count: int, of: int) -> None:
    from scipy.stats import binomtest
    from statsmodels.stats.proportion import proportion_confint

    count = min(count, of)
    own = wilson(count, of)
    assert own == pytest.approx(proportion_confint(count, of, method="wilson"), abs=SIX)
    theirs = binomtest(count, of).proportion_ci(method="wilson")
    assert own == pytest.approx((theirs.low, theirs.high), abs=SIX)


@given(st.integers(0, 80), st.integers(0, 80))
def test_chances_of_changes_are_those_of_others(won: int, lost: int) -> None:
    from statsmodels.stats.contingency_tables import mcnemar

    own = chance_of_changes(won, lost)
    tail = sum(comb(won + lost, k) for k in range(min(won, lost) + 1)) / 2 ** (won + lost)
    assert own == pytest.approx(min(2 * tail, 1.0), abs=SIX)
    assert own == pytest.approx(mcnemar([[3, won], [lost, 5]], exact=True).pvalue, abs=SIX)


def test_published_examples() -> None:
    """Agresti, Categorical Data Analysis (3rd ed., 11.1): of 1,600 people 86 and 150 changed their minds; the difference
    is -0.04, its interval from -0.06 to -0.02. Wilson's interval of 81 of 263 is that of Newcombe (1998): 0.2553 to
    0.3662, and of 0 of 20 it is 0 to 0.1611."""
    low, high = interval_of_changes(86, 150, 1600) or (0, 0)
    assert (round(low, 2), round(high, 2)) == (-0.06, -0.02)
    assert wilson(81, 263) == pytest.approx((0.2553, 0.3662), abs=5e-5)
    assert wilson(0, 20) == pytest.approx((0, 0.1611), abs=5e-5)


@pytest.mark.parametrize("count", [1, 7, 30, 400])
def test_an_interval_leaves_nothing_out_exactly_where_the_test_shows_something(count: int) -> None:
    assert interval_of_changes(0, 0, 0) is None
    for won, lost in itertools.product(range(min(count, 30) + 1), repeat=2):
        if won + lost <= count:
            low, high = interval_of_changes(won, lost, count) or (0, 0)
            assert -1 <= low <= (won - lost) / count + 1e-9 and (won - lost) / count - 1e-9 <= high <= 1 and low < high
            assert (low > 0 or high < 0) == (chance_of_changes(won, lost) < LEVEL), (won, lost, count)


def test_formulas_by_hand() -> None:
    """Numbers that the formulas of docs/method.md give, worked out without this program."""
    assert interval_of_changes(20, 4, 100) == pytest.approx((0.060556, 0.247989), abs=SIX), (
        "the wider of two at each end"
    )
    assert interval_of_changes(3, 0, 10) == pytest.approx((-0.124559, 0.544448), abs=SIX)
    assert interval_of_changes(40, 30, 200) == pytest.approx((-0.036759, 0.132392), abs=SIX)
    assert interval_of_changes(0, 0, 17) == pytest.approx((-0.103156, 0.103156), abs=SIX)
    assert (files_that_show(0.02, 0.1), files_that_show(0.05, 0.3), files_that_show(0.1, 0.05)) == (1960, 940, 77)
    assert (specimens_that_show(0.1, 0.3), specimens_that_show(0.05, 0.1), specimens_that_show(0.3, 0.1)) == (73, 34, 6)
    assert share_over_specimens([5, 9], [10, 10]) == pytest.approx((0.015477, 0.997121), abs=SIX)
    assert share_over_specimens([8, 9, 7], [10, 10, 10]) == pytest.approx((0.413189, 0.957847), abs=SIX)
    assert share_over_specimens([20, 60, 35, 10], [40, 60, 50, 60]) == pytest.approx((0.144509, 0.927551), abs=SIX)
    assert wilson(8, 10, 1.0) == pytest.approx((0.649078, 0.896377), abs=SIX) and wilson(0, 0) is None
    assert (wilson(10, 10) or (0, 2))[1] <= 1 and (wilson(0, 10) or (-1, 0))[0] >= 0
    one = over_specimens(np.array([4.0, -1, 2]), np.array([10.0, 10, 5]))
    assert one.spread == pytest.approx(0.317490, abs=SIX) and (one.p, one.differing) == (0.5, 3)


def test_many_specimens_are_drawn_and_few_are_counted() -> None:
    same = over_specimens(np.ones(30), np.full(30, 2.0))
    assert same.p == 1 / 20_001 and same.interval == (0.5, 0.5), "of 20,000 signs none comes near it"
    mixed = np.sin(np.arange(25) * 7) + 0.3
    assert over_specimens(mixed, np.ones(25)) == over_specimens(mixed, np.ones(25)), "the same signs each time"
    dice = np.random.default_rng(1)
    for k in (13, 14, 15, 16):
        sums, sizes = dice.normal(1, 3, k), np.full(k, 10.0)
        found = over_specimens(sums, sizes)
        assert (found.p * 2**k == round(found.p * 2**k)) == (k <= 14), "of all signs, or of 20,000"
        signs = 1 - 2 * ((np.arange(1 << k)[:, None] >> np.arange(k)) & 1)
        exact = float(np.mean(np.abs(signs @ sums) >= abs(sums.sum()) - 1e-9))
        assert found.p == pytest.approx(exact, abs=0.015 if k > 14 else SIX)
        low, high = found.interval
        for edge in (low - 0.01, high + 0.01):
            assert over_specimens(sums - edge * sizes, sizes).p < LEVEL + 0.01


Specimens = st.lists(st.tuples(st.integers(1, 30), st.floats(-1, 1)), min_size=2, max_size=9)


@given(Specimens)
def test_signs_of_specimens_by_counting(each: list[tuple[int, float]]) -> None:
    sizes = np.array([size for size, _ in each], float)
    sums = np.array([round(size * share) for size, share in each], float)
    found = over_specimens(sums, sizes)
    signs = np.array(list(itertools.product((1, -1), repeat=len(sums))))
    assert found.p == pytest.approx(np.mean(np.abs(signs @ sums) >= abs(sums.sum()) - 1e-9), abs=SIX)
    low, high = found.interval
    ratio = sums.sum() / sizes.sum()
    assert -1 <= low <= ratio + SIX and ratio - SIX <= high <= 1
    assert (low > SIX or high < -SIX) <= (found.p < LEVEL)
    # A difference within the interval is not refused by the same test, one outside of it is.
    for edge, outwards in ((low, -1), (high, 1)):
        if abs(edge) < 1:
            assert over_specimens(sums - (edge - outwards * SIX) * sizes, sizes).p >= LEVEL
            assert over_specimens(sums - (edge + outwards * SIX) * sizes, sizes).p < LEVEL or high - low < SIX
    assert found.differing == np.count_nonzero(sums) and found.spread >= 0


def test_two_specimens_are_several() -> None:
    assert [difference([], [], []).specimens, difference([True], [True], ["a"]).specimens] == [1, 1]
    one, two = (difference([True, False], [True, True], names) for names in (["a", "a"], ["a", "b"]))
    assert (one.specimens, one.over) == (1, None) and two.specimens == 2 and two.over is not None


def test_few_specimens_show_nothing() -> None:
    """However alike: five come out so by chance in one case of sixteen."""
    for k in range(2, 9):
        found = over_specimens(np.full(k, 10.0), np.full(k, 20.0))
        assert (found.p < LEVEL) == (k >= LEAST_SPECIMENS)
        assert (found.interval == (-1, 1)) == (k < LEAST_SPECIMENS)


def drawn(dice: np.random.Generator, specimens: int, gain: float, noise: float = 0.10) -> Difference:
    """Two programs on specimens of 10 to 60 files: the second is better by `gain`, give or take some of a specimen."""
    first: list[bool] = []
    second: list[bool] = []
    names: list[str] = []
    for n in range(specimens):
        files = int(dice.integers(10, 60))
        more = float(np.clip(0.6 + gain + dice.normal(0, noise), 0, 1))
        first += (dice.random(files) < 0.6).tolist()
        second += (dice.random(files) < more).tolist()
        names += [str(n)] * files
    return difference(first, second, names)


def test_equal_programs_are_seldom_told_apart() -> None:
    """Of equal programs whose specimens differ a little some one in twenty comparisons shows something, not more; and
    their intervals hold no difference as often."""
    dice = np.random.default_rng(11)
    found = [drawn(dice, 12, 0.0) for _ in range(400)]
    assert 0.01 <= np.mean([one.shown for one in found]) <= 0.075
    over_files = np.mean([one.files_p < LEVEL for one in found])
    assert over_files > 0.09, "as if files were independent, it would be many more"
    for one in found:
        assert one.interval is not None and one.basis == "specimens"
        assert one.shown == (one.interval[0] > 0 or one.interval[1] < 0)


def test_what_is_needed_shows_a_difference() -> None:
    """As many specimens as are said to be needed show a real difference some four times of five."""
    dice = np.random.default_rng(5)
    spread = np.median([one.over.spread for one in (drawn(dice, 30, 0.10) for _ in range(20)) if one.over])
    needed = specimens_that_show(0.10, float(spread))
    assert 10 < needed < 60
    assert 0.7 <= np.mean([drawn(dice, needed, 0.10).shown for _ in range(200)]) <= 0.95
    assert specimens_that_show(0.5, 0.0) == LEAST_SPECIMENS
    # And of one specimen as many files: here one in ten changes, and 2 points more are won than lost.
    files = files_that_show(0.02, 0.10)
    shown = 0
    for _ in range(200):
        changes = dice.choice(3, files, p=[0.06, 0.04, 0.9])
        shown += difference((changes == 1).tolist(), (changes == 0).tolist(), ["one"] * files).shown
    assert 0.68 <= shown / 200 <= 0.92
    assert files_that_show(0.02, 0.001) == files_that_show(0.02, 0.02), "as many must change as differ"


def test_shares_over_specimens_hold_what_they_promise() -> None:
    """Some 95 of a hundred intervals of programs on specimens that differ hold the true share; over files they are far
    from it. Of one specimen they are over its files, and what always comes back is not sure to."""
    dice = np.random.default_rng(2)
    held = plain = 0
    for _ in range(300):
        shares = np.clip(dice.normal(0.7, 0.15, 12), 0, 1)
        of = dice.integers(20, 60, 12)
        counts = dice.binomial(of, shares)
        low, high = share_over_specimens(counts.tolist(), of.tolist()) or (0, 0)
        held += low <= 0.695 <= high
        low, high = wilson(int(counts.sum()), int(of.sum())) or (0, 0)
        plain += low <= 0.695 <= high
    assert 0.9 <= held / 300 <= 0.99 and plain / 300 < 0.85
    assert share_over_specimens([7, 0], [9, 0]) == wilson(7, 9) and share_over_specimens([], []) is None
    assert share_over_specimens([7, 0, 5], [9, 0, 8]) == share_over_specimens([7, 5], [9, 8])
    assert share_over_specimens([1, 5], [1, 8]) != wilson(6, 8), "one of a single file is a specimen, too"
    low, high = share_over_specimens([50] * 8, [50] * 8) or (0, 0)
    assert 0.98 < low < 1 and high == pytest.approx(1)


@pytest.mark.parametrize(
    ("interval", "told"),
    [
        ((0.66, 0.97), "66–97"),
        ((0.9968, 1.0), "99.7–100"),
        ((0.0, 0.0031), "0–0.3"),
        ((0.5, 0.504), "50–50.4"),
        ((0.0, 1.0), "0–100"),
        ((0.9, 0.996), "90–99.6"),
        (None, ""),
    ],
)
def test_spans_say_100_only_where_it_is(interval: tuple[float, float] | None, told: str) -> None:
    assert span_of_shares(interval) == told
