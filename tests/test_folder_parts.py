"""Parts of folders: what is joined is what can be one folder."""

from __future__ import annotations

import datetime as dt
import random

from hypothesis import given
from hypothesis import strategies as st

from sastrugi.volumes.folder_parts import FolderPart, join_parts

BEGAN = dt.datetime(2031, 2, 3, 8)


def at(minute: float | None) -> dt.datetime | None:
    return None if minute is None else BEGAN + dt.timedelta(minutes=minute)


moments = st.none() | st.integers(0, 50)
some_parts = st.lists(
    st.builds(
        lambda place, far, begun, takes, ended, head, names: FolderPart(
            place, place + far, at(begun), at(None if begun is None else begun + takes), ended, head, names
        ),
        st.integers(0, 99), st.integers(1, 30), moments, st.integers(0, 9), st.booleans(), st.booleans(),
        st.frozensets(st.binary(min_size=1, max_size=1), max_size=2),
    ),
    max_size=30,
)  # fmt: skip


@given(some_parts, st.dictionaries(st.integers(0, 29), st.integers(0, 29), max_size=9), st.integers(0, 9))
def test_what_is_joined_is_chains(parts: list[FolderPart], told: dict[int, int], seed: int) -> None:
    """Whatever parts there are and whatever is said of them: each has one before it and one behind it at most, heads
    and what follows ends none, and nothing is joined that shares a name or was filled later."""
    dice = random.Random(seed)
    linked: dict[int, int] = {}
    for one, other in told.items():
        if max(one, other) < len(parts) and one != other and other not in linked.values() and not parts[one].ended:
            linked[one] = other
    before = join_parts(parts, linked, lambda one, other: dice.choice([True, False, None]))
    assert len({*before.values()}) == len(before)
    for number, one in before.items():
        assert not parts[number].head
        if linked.get(one) == number:
            continue
        assert not parts[one].ended and parts[one].names.isdisjoint(parts[number].names)
        begun, filled = parts[number].begun, parts[one].filled
        timely = begun is not None and filled is not None and filled <= begun
        assert timely or (parts[one].behind <= parts[number].place and (begun is None or filled is None))
    for number in before:
        seen = {number}
        while number in before:
            number = before[number]
            assert number not in seen
            seen.add(number)


@given(st.lists(st.integers(1, 9), min_size=1, max_size=12), st.integers(0, 1 << 30), st.booleans())
def test_a_folder_alone_is_put_together_wherever_its_parts_lie(lasts: list[int], seed: int, timed: bool) -> None:
    """By its times; where there are none, by its places, if these are in order."""
    places = list(range(0, 10 * len(lasts), 10))
    if timed:
        random.Random(seed).shuffle(places)
    parts, minute = [], 0
    for n, (last, place) in enumerate(zip(lasts, places, strict=True)):
        begun, filled = (at(minute), at(minute + last)) if timed else (None, None)
        parts.append(FolderPart(place, place + 5, begun, filled, n == len(lasts) - 1, not n))
        minute += last + 1
    order = random.Random(seed + 1).sample(range(len(parts)), len(parts))
    before = join_parts([parts[n] for n in order], {}, lambda one, other: None)
    assert {order[number]: order[one] for number, one in before.items()} == {n + 1: n for n in range(len(parts) - 1)}


def test_the_one_that_was_filled_last_goes_on_unless_its_last_name_is_cut() -> None:
    parts = [
        FolderPart(0, 5, at(0), at(4), False, True), FolderPart(10, 15, at(1), at(6), False, True),
        FolderPart(20, 25, at(7), at(9), True, False),
    ]  # fmt: skip
    assert join_parts(parts, {}, lambda one, other: None) == {2: 1}
    assert join_parts(parts, {}, lambda one, other: False if one == 1 else None) == {2: 0}
