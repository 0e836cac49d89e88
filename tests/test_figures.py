"""The arithmetic of the measure, each figure by itself: made-up scores in, figures out, by hand or by counting."""

from __future__ import annotations

import datetime as dt
import itertools
import random
import unicodedata
from dataclasses import replace
from typing import Any
from unittest import mock

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from sastrugi.errors import SastrugiError
from sastrugi.media import Extent, RangeSet
from sastrugi.scoring.calibration import calibrate
from sastrugi.scoring.comparison import Comparison, Gone, any_varied, right_bytes
from sastrugi.scoring.damage import all_right, decode, encode, shortfall
from sastrugi.scoring.floors import missed, parse_floors
from sastrugi.scoring.groups import figures_of, group_of, size_class
from sastrugi.scoring.matching import Candidate, assign
from sastrugi.scoring.names import NameVerdict, compare_names, worth_of_name
from sastrugi.scoring.paired import Difference, Needed, compare
from sastrugi.scoring.scorecard import FileScore, ResultScore, Scorecard
from sastrugi.scoring.significance import OverSpecimens
from sastrugi.scoring.times import compare_times
from sastrugi.specimen.ceiling import Copy, equal_blocks, share_by_books, share_of, tells_nothing

BLOCK = 512


def score(number: int = 1, **changes: Any) -> FileScore:
    """A file of 1,000 bytes that came back whole and named, but for what is said otherwise."""
    given_: dict[str, Any] = {
        "id": number, "path": f"/Season/FRN{number:05d}.JPG", "kind": "jpeg", "group": "picture", "volume": "card",
        "life": 1, "loss": "deleted", "pieces": 1, "size": 1000, "content": "intact", "completeness": 1.0,
        "name": "full", "result": f"r{number}", "first_wrong": None, "damage": "2R", "wrong_runs": 0,
        "longest_right": 1000, "times": "same", "place": "untold", "opens": "untested", "nearness": None,
        "confidence": None, "ceiling_bytes": 1.0, "ceiling_name": "full", "ceiling_live": 0.0, "ceiling_tells": True,
        "copies": (), "has_content": True, "beyond_ceiling": False, "name_beyond_ceiling": False,
        "file_system": "fat32", "shift": None, "shifted": 0.0, "cause": "none", "reason": "",
    }  # fmt: skip
    return FileScore(**(given_ | changes))


def card_of(*scores: FileScore, **changes: Any) -> Scorecard:
    counts = changes.pop("classes", {"reference": len(scores)})
    results = tuple(
        ResultScore(path=f"{name}{n}", size=10, is_=name, of=None, confidence=None, problem="")
        for name, count in counts.items() for n in range(count)
    )  # fmt: skip
    given_: dict[str, Any] = {
        "specimen": "card", "identity": "ab", "set": "lost", "results_from": "r", "live_copies": 0, "names_beyond": 0,
        "names": {}, "times": {}, "places": {}, "opens": {}, "precision": None, "inflation": 0.0, "calibration": None,
        "classes": {name: counts.get(name, 0) for name in
                    ("reference", "live", "stale", "copy", "fragment", "noise", "bench")},
        "files": scores, "results": results, "unreadable": (), **figures_of(scores),
    }  # fmt: skip
    return Scorecard(**(given_ | changes))


GONE = {"content": "missing", "completeness": 0.0, "name": "none", "result": None, "has_content": False}


# -- figures ----------------------------------------------------------------------------------------------------------

SCORES = [
    score(1),
    score(2, size=3000, content="mixed", completeness=0.5, ceiling_bytes=0.75, kind="png", pieces=2),
    score(3, size=500, ceiling_bytes=0.0, **GONE),
    score(4, name="name", kind="png", loss="formatted", life=2),
    score(5, size=0, damage="", longest_right=0),
    score(6, size=2000, ceiling_bytes=0.25, ceiling_tells=False, **(GONE | {"content": "foreign", "name": "full"})),
    score(7, ceiling_name="near", size=70_000, pieces=5, file_system="", **GONE),
]


def test_the_headline_by_hand() -> None:
    """Seven files, one of them empty: of one nothing stands, of one only zeros."""
    figures = figures_of(SCORES)
    wanted = {
        "intact": (2, 6, 3),
        "complete": (2.5, 6, 3.75),
        "named": (3, 7, 4),
        "all_three": (1, 6, 2),
        "intact_bytes": (2000, 77_500, 72_000),
        "complete_bytes": (3500, 77_500, 74_250),
    }
    for name, (value, of_set, of_ceiling) in wanted.items():
        figure = figures[name]
        assert (figure.value, figure.of_set, figure.of_ceiling) == (value, of_set, of_ceiling), name
        assert figure.share_of_set == pytest.approx(value / of_set)
        assert figure.share_of_ceiling == pytest.approx(value / of_ceiling)
        assert (figure.interval is None) == (name in ("complete", "intact_bytes", "complete_bytes"))
    assert figures["intact"].interval == pytest.approx((0.096771, 0.700007), abs=1e-6)
    nothing = figures_of([])
    assert (
        nothing["intact"].share_of_set is None
        and nothing["intact"].interval is None
        and nothing["groups"]["kind"] == ()
    )


def test_groups_by_hand() -> None:
    groups = figures_of(SCORES)["groups"]
    by = {
        name: {one.key: (one.files, one.bytes, one.attainable, one.intact.value) for one in rows}
        for name, rows in groups.items()
    }
    assert by["kind"] == {"jpeg": (5, 73_500, 2, 1), "png": (2, 4000, 1, 1)}
    assert by["loss"] == {"deleted": (6, 76_500, 2, 1), "formatted": (1, 1000, 1, 1)}
    assert list(by["pieces"]) == ["1", "2", "3 or more"] and by["pieces"]["3 or more"] == (1, 70_000, 1, 0)
    assert list(by["size"]) == ["0", "to 4 KiB", "to 1 MiB"] and by["size"]["0"] == (1, 0, 0, 0)
    assert by["life"]["card, life 2"][0] == 1 and by["volume"]["card"][0] == 7 and by["group"]["picture"][0] == 7
    assert by["file-system"] == {"fat32": (6, 7500, 2, 2), "–": (1, 70_000, 1, 0)}
    assert by["name"] == {"full": (6, 7500, 2, 2), "near": (1, 70_000, 1, 0)}
    assert by["ceiling"] == {"whole": (4, 72_000, 3, 2), "part": (2, 5000, 0, 0), "gone": (1, 500, 0, 0)}
    live = figures_of([score(ceiling_live=0.5)])["groups"]["ceiling"]
    assert [one.key for one in live] == ["live copy"]


def test_classes_of_sizes_and_kinds() -> None:
    for size, name in ((0, "0"), (1, "to 4 KiB"), (4096, "to 4 KiB"), (4097, "to 64 KiB"), (65_536, "to 64 KiB"),
                       (65_537, "to 1 MiB"), (1 << 20, "to 1 MiB"), ((1 << 20) + 1, "to 16 MiB"),
                       (16 << 20, "to 16 MiB"), ((16 << 20) + 1, "larger")):  # fmt: skip
        assert size_class(size) == name
    assert (group_of("jpeg"), group_of("wav"), group_of("what is that")) == ("picture", "sound", "data")


@pytest.mark.parametrize(
    ("changes", "short"),
    [
        ({}, ""),
        ({"name": "name"}, "name"),
        ({"has_content": False}, "name"),
        ({"content": "mixed", "completeness": 0.5}, "left"),
        ({"content": "mixed", "completeness": 0.5, "ceiling_bytes": 0.5}, "gone"),
        ({"content": "cut", "completeness": 0.4, "ceiling_bytes": 0.5}, "left"),
        ({"content": "padded", "completeness": 1.0}, "left"),
        ({"content": "padded", "completeness": 1.0, "ceiling_bytes": 0.9}, "left"),
        (GONE, "left"),
        (GONE | {"ceiling_bytes": 0.0}, "gone"),
        (GONE | {"ceiling_bytes": 1e-12}, "gone"),
    ],
)
def test_what_a_file_is_short_of(changes: dict[str, Any], short: str) -> None:
    assert score(**changes).shortfall == short


def test_what_fell_short_comes_in_order() -> None:
    files = [
        score(1), score(2, name="near"), score(3, **GONE), score(4, **(GONE | {"ceiling_bytes": 0.0})),
        score(5, content="mixed", completeness=0.5, ceiling_bytes=0.6), score(6, content="mixed", completeness=0.1),
    ]  # fmt: skip
    assert [one.id for one in card_of(*files).short] == [3, 6, 5, 4, 2]
    card = card_of(score(1, beyond_ceiling=True), score(2, name_beyond_ceiling=True), score(3))
    assert [one.id for one in card.beyond_ceiling] == [1] and [one.id for one in card.names_beyond_ceiling] == [2]
    assert list(card.frame()["id"]) == [1, 2, 3] and "ceiling_tells" in card.frame().columns


def test_results_that_nobody_asked_for() -> None:
    counts = {"reference": 4, "noise": 1, "stale": 2, "copy": 3, "bench": 5, "live": 6, "fragment": 7}
    card = card_of(score(1), classes=counts)
    assert (card.invented, card.counted_results) == (11, 23)
    assert [one.is_ for one in card.listed_results] == ["noise"] + ["fragment"] * 7 + ["copy"] * 3 + ["stale"] * 2
    assert card.listed_title == "not asked for"
    only = card.model_copy(update={"listed": ("bench", "noise")})
    assert [one.is_ for one in only.listed_results] == ["bench"] * 5 + [
        "noise"
    ] and only.listed_title == "bench and noise"


# -- floors -----------------------------------------------------------------------------------------------------------


def test_floors_stand_and_fall() -> None:
    card = card_of(score(1), score(2, **GONE), classes={"reference": 1, "noise": 1, "bench": 6}, precision=0.5)
    assert parse_floors(["intact=0.5", "all three = 40%", "all-three=30%"]) == {"intact": 0.5, "all_three": 0.3}
    for wrong in ("intact", "intact=", "sharp=1", "intact=2", "=0.5"):
        with pytest.raises(SastrugiError, match="is no floor"):
            parse_floors([wrong])
    assert missed(card, {"intact": 0.5, "precision": 0.5}, {"named": 0.5}, 0.5) == []
    assert missed(card, {"intact": 0.51}, {}) == ["intact: 50 % of the set, the floor is 51 %"]
    assert missed(card, {"precision": 0.6}, {"all_three": 0.6}) == [
        "precision: 50 % of the set, the floor is 60 %", "all three: 50 % of the ceiling, the floor is 60 %"
    ]  # fmt: skip
    assert missed(card, {}, {}, 0.49) == ["noise: 50 % of the results, the limit is 49 %"]
    assert missed(card_of(score(1), classes={"bench": 3}), {}, {}, 0.0) == [], "the bench's own are no noise"
    # A negative control: nothing could come back, and a floor stands if nothing did.
    control = score(1, ceiling_bytes=0.0, **GONE)
    assert missed(card_of(control, classes={"live": 2, "bench": 1}), {}, {"intact": 1}) == []
    imprecise = card_of(control, classes={"live": 2}, precision=0.4)
    assert missed(imprecise, {}, {"intact": 1, "precision": 0.5}) == [
        "precision: 40 % of the ceiling, the floor is 50 %"
    ]
    told = missed(card_of(control, classes={"fragment": 1}), {}, {"intact": 1})
    assert told == ["intact: nothing to measure of the ceiling, the floor is 100 %"]
    assert missed(card_of(classes={}), {"intact": 1}, {}) == []
    assert missed(card_of(control, classes={}), {"intact": 1}, {}) == ["intact: 0 % of the set, the floor is 100 %"]


# -- blocks and bytes -------------------------------------------------------------------------------------------------

letters = st.lists(st.sampled_from("RWA"), max_size=40)


@given(letters, st.integers(1, BLOCK))
def test_maps_of_damage_by_counting(found: list[str], last: int) -> None:
    code = encode(np.frombuffer("".join(found).encode(), np.uint8))
    assert code == "".join(f"{sum(1 for _ in own)}{letter}" for letter, own in itertools.groupby(found))
    assert "".join(letter * count for count, letter in decode(code)) == "".join(found)
    size = max((len(found) - 1) * BLOCK + last, 0) if found else 0
    runs = [(right, sum(1 for _ in own)) for right, own in itertools.groupby(one == "R" for one in found)]
    at, longest = 0, 0
    for right, count in runs:
        longest = max(longest, min((at + count) * BLOCK, size) - at * BLOCK) if right else longest
        at += count
    assert shortfall(code, size) == (sum(not right for right, _ in runs), longest)
    assert (code == all_right(size)) == (set(found) <= {"R"})


def plainly(then: bytes, now: bytes, standing: set[int] | None = None) -> tuple[int, int, int | None, str]:
    """Right bytes, wrong blocks, first wrong byte and letters of a map, byte by byte."""
    right = wrong = 0
    first = next((n for n in range(len(then)) if n >= len(now) or then[n] != now[n]), None)
    out = ""
    for at in range(0, len(then), BLOCK):
        own = range(at, min(at + BLOCK, len(then)))
        same = [n for n in own if n < len(now) and then[n] == now[n]]
        there = [n for n in own if n < len(now)]
        whole = len(same) == len(own)
        wrong += not whole
        out += "R" if whole else "A" if at >= len(now) else "W"
        if standing is not None and not whole and not standing.issuperset(own):
            there = [n for n in own if n in standing]
            same = [n for n in same if n in standing]
        right += len(same) if there and len(same) * 2 >= len(there) else 0
    return right, wrong, first, out


@given(st.integers(0, 1 << 30), st.integers(1, 3000), st.integers(0, 3200), st.booleans())
def test_a_comparison_by_counting(seed: int, size: int, came: int, partly: bool) -> None:
    """In pieces of any length, with ranges that are gone in the middle of blocks, as byte by byte."""
    dice = random.Random(seed)
    then = bytearray(dice.randbytes(size))
    if dice.random() < 0.3:
        then[: size // 2] = bytes(size // 2)
    now = bytearray(then[:came]) + dice.randbytes(max(came - size, 0))
    for _ in range(dice.randrange(4)):
        lo = dice.randrange(len(now) + 1)
        now[lo : lo + dice.choice([1, 60, 300, 700])] = dice.randbytes(
            len(now[lo : lo + dice.choice([1, 60, 300, 700])])
        )
    now = now[:came]
    standing = RangeSet([Extent(0, size)])
    for _ in range(dice.randrange(4) if partly else 0):
        standing.remove(Extent(dice.randrange(size), dice.choice([1, 100, 512, 900])))
    bytes_standing = {n for part in standing for n in range(part.offset, min(part.end, size))}
    gone = Gone.of(size, standing) if len(bytes_standing) < size else None
    comparison = Comparison(size, len(now), gone)
    for at in range(0, size, 1024):
        piece = bytes(then[at : at + 1024])
        comparison.add(at, np.frombuffer(piece, "u1"), np.frombuffer(bytes(now[at : at + len(piece)]), "u1"))
    found = comparison.result(size)
    right, wrong, first, map_ = plainly(bytes(then), bytes(now), bytes_standing if gone else None)
    assert (found.right, found.wrong, found.first_wrong) == (right, wrong, first)
    assert "".join(letter * count for count, letter in decode(found.damage)) == map_
    if gone is not None:
        back = {n for lo, hi in gone.standing(0, size) for n in range(lo, hi)}
        assert back == bytes_standing
        blocks = [bytes(then[at : at + BLOCK]) for at in range(0, size, BLOCK)]
        whole = [n for n, block in enumerate(blocks) if block == bytes(now[n * BLOCK : n * BLOCK + len(block)])]
        assert found.beyond == any(gone.blocks[n] and len(set(blocks[n])) > 1 for n in whole)
        assert Comparison(size, size, gone).result(0).right == 0


def told(then: bytes, now: bytes, named: bool = False) -> bool:
    comparison = Comparison(len(then), len(now), None, named)
    comparison.add(0, np.frombuffer(then, "u1"), np.frombuffer(now, "u1"))
    return comparison.result(len(then)).telling


def test_what_tells_whose_a_result_is() -> None:
    dice = random.Random(4)
    then = dice.randbytes(2048)

    def wrong(places: range) -> bytes:
        return bytes(byte ^ 1 if n in set(places) else byte for n, byte in enumerate(then))

    assert told(then, then) and not told(then, wrong(range(2048))) and not told(then, b"")
    # Seven bytes of eight in any block, or 64 in a row (at whole 64s); a name asks for half of a block.
    eighth = bytes(byte ^ 1 if n % 8 == 0 else byte for n, byte in enumerate(then))
    more = bytes(byte ^ 1 if n % 8 == 0 or n % 512 == 1 else byte for n, byte in enumerate(then))
    assert told(then, eighth) and not told(then, more) and told(then, more, named=True)
    assert told(then, wrong(range(64))[:64] + then[64:128] + wrong(range(2048))[128:])
    assert not told(then, wrong(range(2048))[:1] + then[1:64] + wrong(range(2048))[64:])
    half = bytes(byte ^ 1 if n % 2 else byte for n, byte in enumerate(then))
    less = bytes(byte ^ 1 if n % 2 or n % 512 == 0 else byte for n, byte in enumerate(then))
    assert told(then, half, named=True) and not told(then, half) and not told(then, less, named=True)
    # Zeros tell nothing, unless all of it is zeros; nor do fewer than eight bytes.
    zeros = bytes(1024) + dice.randbytes(1024)
    assert not told(zeros, bytes(2048)) and not told(zeros, bytes(2048), named=True) and told(bytes(700), bytes(700))
    assert not told(b"core 41", b"core 41") and told(b"core 41m", b"core 41m")


def test_bytes_of_blocks() -> None:
    then, now = np.arange(1300, dtype=np.uint16).astype(np.uint8), np.zeros(1100, np.uint8)
    assert right_bytes(then, now).tolist() == [2, 2, 1]
    assert right_bytes(then, then[:600]).tolist() == [512, 88, 0] and right_bytes(then[:0], now).tolist() == []
    flags = np.array([True, True, True])
    assert any_varied(then, flags) and not any_varied(np.zeros(1300, np.uint8), flags)
    only_end = np.concatenate((np.zeros(1024, np.uint8), then[:200]))
    assert any_varied(only_end, flags) and not any_varied(only_end, np.array([True, True, False]))
    late = np.zeros(20 * BLOCK, np.uint8)
    late[15 * BLOCK] = 1
    assert any_varied(late, np.ones(20, bool)) and not any_varied(late, np.arange(20) < 15)
    assert equal_blocks(b"a" * 1100, b"a" * 600 + b"b" + b"a" * 499).tolist() == [True, False, True]
    assert equal_blocks(b"", b"").tolist() == [] and equal_blocks(b"a" * 513, b"a" * 512 + b"b").tolist() == [
        True,
        False,
    ]
    assert tells_nothing(b"1234567") and tells_nothing(bytes(512)) and tells_nothing(b"12345678" * 5 + b"12")
    assert not tells_nothing(b"12345678" * 63 + b"12345679") and not tells_nothing(b"12345678" * 5 + b"21")


# -- ceilings of contents with several copies -------------------------------------------------------------------------


@given(
    st.lists(
        st.tuples(st.lists(st.tuples(st.integers(0, 90), st.integers(1, 30)), max_size=4), st.booleans()), max_size=4
    )
)
def test_what_stands_in_several_copies_by_counting(copies: list[tuple[list[tuple[int, int]], bool]]) -> None:
    size, lost, live, holders = 100, set[int](), set[int](), []
    made = []
    for n, (parts, lives) in enumerate(copies):
        made.append(
            Copy(RangeSet(Extent(at, min(length, size - at)) for at, length in parts), f"/live{n}" if lives else "")
        )
    for parts, lives in copies:
        if not lives:
            lost |= {n for at, length in parts for n in range(at, min(at + length, size))}
    seen = set(lost)
    for (parts, lives), copy in zip(copies, made, strict=True):
        own = {n for at, length in parts for n in range(at, min(at + length, size))}
        if lives and own - seen:
            holders.append(copy.live)
            live |= own - seen
            seen |= own
    found = share_of(size, made)
    assert found.bytes == pytest.approx(len(lost | live) / size) and found.live == pytest.approx(len(live) / size)
    assert found.copies == tuple(holders)
    empty = share_of(0, made)
    assert (empty.bytes, empty.live, empty.copies) == (1.0, 0.0, ())


def test_shares_by_books() -> None:
    from sastrugi.media import FileMap

    file = FileMap.of([Extent(1000, 300), Extent(5000, 700)])
    assert share_by_books(file, RangeSet()) == 1 and share_by_books(FileMap(), RangeSet()) == 1
    assert share_by_books(file, RangeSet([Extent(900, 200), Extent(5600, 500)])) == pytest.approx(0.8)


# -- times, confidence, matching --------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("file_system", "seconds", "word"),
    [
        ("fat32", 0, "same"), ("fat32", 1.9, "same"), ("fat32", 1.9999, "differs"), ("fat32", -1.9, "same"), ("fat32", 2, "differs"),
        ("fat32", 3600, "zone"), ("fat32", -3 * 3600 + 1.5, "zone"), ("fat32", 14 * 3600, "zone"),
        ("fat32", 15 * 3600, "differs"), ("fat32", 1800, "differs"), ("fat32", 3602, "differs"),
        ("ntfs", 0.5, "differs"), ("exfat", 0.005, "same"), ("exfat", 0.02, "differs"), ("ext4", 0.9, "differs"),
        ("hfs+", 0.9, "same"), ("hfs+", 1.0, "differs"),
    ],
)  # fmt: skip
def test_times_within_what_a_file_system_keeps(file_system: str, seconds: float, word: str) -> None:
    wanted = dt.datetime(2031, 2, 3, 8, 2)
    assert compare_times(wanted + dt.timedelta(seconds=seconds), wanted, file_system) == word
    assert compare_times(None, wanted, file_system) == compare_times(wanted, None, file_system) == "untold"
    aware = wanted.astimezone(dt.UTC)
    assert compare_times(aware, wanted, file_system) == "same"


def test_calibration_by_hand() -> None:
    found = calibrate([(0.05, False), (0.95, True), (0.95, True), (0.9, False), (1.0, True)])
    assert found is not None and found.count == 5
    assert found.brier == pytest.approx((0.0025 + 0.0025 + 0.0025 + 0.81 + 0) / 5)
    assert [(one.low, one.high, one.count) for one in found.bins] == [(0.0, 0.1, 1), (0.9, 1.0, 4)]
    assert [one.stated for one in found.bins] == pytest.approx([0.05, 0.95]) and [one.intact for one in found.bins] == [
        0,
        0.75,
    ]
    assert found.mean_gap == pytest.approx((1 * 0.05 + 4 * 0.2) / 5)
    assert found.bins[1].interval == pytest.approx((0.300642, 0.954413), abs=1e-6)
    assert calibrate([]) is None


def test_weights_of_candidates() -> None:
    """A byte is more than the best name, a name more than any confidence; exact content counts as one byte more."""
    plain = Candidate(0, 0, 100, NameVerdict.NONE)
    assert replace(plain, in_place=101).weight > replace(plain, name=NameVerdict.FULL, sure=1.0).weight
    assert replace(plain, name=NameVerdict.TYPE).weight > replace(plain, sure=1.0).weight > plain.weight
    assert replace(plain, exact=True).weight - plain.weight == 1
    assert [worth_of_name(word) for word in ("none", "type", "near", "name", "full")] == [0, 1, 2, 3, 4]
    assert [NameVerdict(n).word for n in range(5)] == ["none", "type", "near", "name", "full"]


def test_assignments() -> None:
    """The greatest total in each group of candidates that hang together; in large ones the best pair first."""
    none, full = NameVerdict.NONE, NameVerdict.FULL
    chosen = assign([Candidate(0, 0, 90, none), Candidate(1, 0, 80, none), Candidate(0, 1, 85, none)])
    assert {reference: c.result for reference, c in chosen.items()} == {0: 1, 1: 0}
    chosen = assign([Candidate(0, 0, 50, none), Candidate(1, 0, 50, full)])
    assert chosen[0].result == 1, "between equals the name decides"
    chosen = assign([Candidate(0, 0, 50, full, sure=0.1), Candidate(1, 0, 50, full, sure=0.2)])
    assert chosen[0].result == 1, "then what the program is surer of"
    chosen = assign([Candidate(0, 0, 50, full, sure=0.0), Candidate(1, 0, 50, NameVerdict.NAME, sure=1.0)])
    assert chosen[0].result == 0
    apart = [Candidate(5, 7, 10, none), Candidate(3, 9, 10, none), Candidate(4, 9, 20, none), Candidate(4, 8, 15, none),
             Candidate(2, 8, 1, none), Candidate(1, 6, 3, none)]  # fmt: skip
    found = {reference: one.result for reference, one in assign(apart).items()}
    assert found == {7: 5, 9: 3, 8: 4, 6: 1}
    with mock.patch("sastrugi.scoring.matching._MOST_CELLS", 1):
        found = {reference: one.result for reference, one in assign(apart).items()}
    assert found == {7: 5, 9: 4, 8: 2, 6: 1}, "20 and 1 instead of 10 and 15"
    many = [Candidate(n, m, 10 + (n == m), none) for n in range(30) for m in range(30)]
    assert {reference: one.result for reference, one in assign(many).items()} == {n: n for n in range(30)}


@pytest.mark.parametrize(
    ("found", "wanted", "verdict"),
    [
        ("recovered/DCIM/FRN00001.JPG", "/DCIM/FRN00001.JPG", "full"), ("FRN00001.JPG", "/FRN00001.JPG", "full"),
        ("other/FRN00001.JPG", "/DCIM/FRN00001.JPG", "name"), ("xDCIM/FRN00001.JPG", "/DCIM/FRN00001.JPG", "name"),
        ("/DCIM/FRN00001.JPG/", "DCIM/FRN00001.JPG", "full"), ("XX/FRN00001.JPG", "/XX/FRN00001.JPG", "full"),
        ("a/b/Firn.txt", "/c/d/Firn.txt", "name"), ("cafe\u0301.txt", "/caf\u00e9.txt", "full"),
        ("_RN00001.JPG", "/FRN00001.JPG", "near"), ("RN00001.JPG", "/FRN00001.JPG", "near"),
        ("FRN0001.JPG", "/FRN00001.JPG", "near"), ("FRN00001.JP", "/FRN00001.JPG", "near"),
        ("FR00001.JPG", "/FRN00001.JPG", "near"), ("FRN000.JPG", "/FRN00001.JPG", "type"),
        ("FRN00001.JPG1", "/FRN00001.JPG", "none"), ("XFRN00001.JPG", "/FRN00001.JPG", "type"),
        ("frn00001.jpg", "/FRN00001.JPG", "near"), ("ICECOR~1.DOC", "/Ice core notes.docx", "near"),
        ("ICECOR~12.DOC", "/Ice core notes.docx", "near"), ("ICECOR~1", "/Ice core notes", "near"),
        ("SNOWPI~1.TXT", "/Snow pit.17.txt", "near"), ("ABC~1.TXT", "/a.bc.txt", "near"), ("ICECOR~1.TXT", "/Ice core notes.docx", "none"),
        ("SNOW~1.DOC", "/Ice core notes.docx", "none"), ("ICECOR~1.DOC", "/Ice core notes", "none"),
        ("?RN00001.JPG", "/FRN00001.JPG", "near"), ("FR_00001.JPG", "/FRN00001.JPG", "near"),
        ("__N00001.JPG", "/FRN00001.JPG", "type"), ("FRN00002.JPG", "/FRN00001.JPG", "type"),
        ("GRN00001.JPG", "/FRN00001.JPG", "type"), ("f0001.jpg", "/FRN00001.JPG", "type"),
        ("f0001", "/FRN00001.JPG", "none"), ("notes", "/Notes on snow", "none"), ("", "/x.y", "none"),
        (".jpg", "/FRN00001.JPG", "none"), ("x.", "/y.", "none"), ("a/x.tar", "/b/y.tar", "type"),
    ],
)  # fmt: skip
def test_names_are_judged_as_people_would(found: str, wanted: str, verdict: str) -> None:
    assert compare_names(found, wanted).word == verdict


@given(st.text(max_size=30), st.text(max_size=30))
def test_name_verdicts_never_raise_and_are_full_only_for_the_same(found: str, wanted: str) -> None:
    verdict = compare_names(found, wanted)
    assert compare_names(wanted, wanted) == NameVerdict.FULL
    if verdict == NameVerdict.FULL:
        plain = [unicodedata.normalize("NFC", text).strip("/") for text in (found, wanted)]
        assert plain[0].endswith(plain[1])


# -- pairs ------------------------------------------------------------------------------------------------------------


def test_changes_of_pairs_by_hand() -> None:
    first = [score(n) for n in range(1, 6)]
    second = [
        first[0], replace(first[1], **GONE), replace(first[2], content="mixed", completeness=0.5),
        replace(first[3], name="near"), first[4],
    ]  # fmt: skip
    first[4] = replace(first[4], **GONE)
    one = compare([card_of(*first)], [card_of(*second)])
    assert {change: [pair.first.id for pair in one.of(change)] for change in ("won", "lost", "better", "worse", "same")} == {
        "won": [5], "lost": [2, 3], "better": [], "worse": [], "same": [1, 4]
    }  # fmt: skip
    assert one.completeness == (pytest.approx(0.8), pytest.approx(0.7))
    assert (one.named.first, one.named.second, one.named.won, one.named.lost) == (4, 3, 1, 2)
    assert one.by["kind"] == (("jpeg", 5, 1, 2),) and one.by["file-system"] == (("fat32", 5, 1, 2),)
    half = [replace(one, content="mixed", completeness=0.5) for one in first]
    less = [replace(one, content="mixed", completeness=0.4) for one in first]
    assert len(compare([card_of(*half)], [card_of(*less)]).of("worse")) == 5
    assert len(compare([card_of(*less)], [card_of(*half)]).of("better")) == 5
    empty = compare([card_of(score(1, size=0))], [card_of(score(1, size=0))])
    assert (empty.intact.count, empty.named.count, empty.completeness) == (0, 1, (0.0, 0.0))


def test_of_several_trials_of_one_specimen_the_worst_counts() -> None:
    whole, half = score(1), score(1, **GONE)
    for cards in ([whole, half], [half, whole]):
        found = compare([card_of(one) for one in cards], [card_of(whole)])
        assert (found.intact.first, found.intact.second, found.intact.won) == (0, 1, 1)
    assert compare([card_of(whole)], [card_of(whole)]).intact.difference == 0


def test_specimens_that_belong_together() -> None:
    """The same one first, then those of one name, then the only one left on either side; what has no partner is
    counted."""

    def cards(*named: tuple[str, str, int]) -> list[Scorecard]:
        return [
            card_of(*(score(n) for n in range(1, files + 1)), specimen=name, identity=id_) for name, id_, files in named
        ]

    def pairs(first: list[Scorecard], second: list[Scorecard]) -> tuple[list[tuple[str, str]], int, int]:
        one = compare(first, second)
        return sorted({(pair.specimen, pair.cluster) for pair in one.pairs}), one.only_first, one.only_second

    assert pairs(cards(("a", "1", 2)), cards(("a", "1", 3))) == ([("a", "1")], 0, 1)
    assert pairs(cards(("a", "1", 2), ("b", "2", 1)), cards(("b", "3", 2), ("a", "1", 2))) == (
        [("a", "1"), ("b", "2")],
        0,
        1,
    )
    assert pairs(cards(("a", "1", 2), ("c", "9", 1)), cards(("x", "3", 2), ("c", "9", 1))) == (
        [("a", "1"), ("c", "9")],
        0,
        0,
    )
    assert pairs(cards(("a", "", 2)), cards(("a", "", 2))) == ([("a", "a")], 0, 0)
    assert pairs(cards(("a", "1", 2), ("b", "2", 4)), cards(("a", "1", 2))) == ([("a", "1")], 4, 0)
    assert pairs(cards(("a", "1", 1), ("b", "2", 4), ("c", "3", 4)), cards(("c", "7", 4), ("b", "8", 4), ("d", "5", 3)))[0] == [
        ("a", "1"), ("b", "2"), ("c", "3")
    ]  # fmt: skip


def test_what_would_show_a_difference_by_hand() -> None:
    one = Difference(200, 100, 110, 15, 5, (0.0, 0.1), 0.04)
    assert one.needed() == Needed(0.02, 1960, None) and one.needed(0.1) == Needed(0.1, 77, None)
    several = replace(one, specimens=9, over=OverSpecimens((-0.1, 0.2), 0.2, 9, 0.3))
    assert several.needed(0.1) == Needed(0.1, 77, 73) and (several.p, several.basis) == (0.2, "specimens")
    assert (
        several.interval == (-0.1, 0.2) and not several.shown and not several.too_few and one.shown and not one.too_few
    )
    assert replace(several, over=OverSpecimens((0.01, 0.05), 0.01, 5, 0.3)).too_few
    narrow = replace(several, over=OverSpecimens((0.04, 0.06), 0.001, 9, 0.01))
    assert narrow.interval == (0.0, 0.1) and narrow.p == 0.04, "never surer than over files"
    assert one.difference == 0.05 and Difference(0, 0, 0, 0, 0, None, 1.0).difference == 0.0
    assert Difference(0, 0, 0, 0, 0, None, 1.0).needed() is None and not Difference(0, 0, 0, 0, 0, None, 0.0).shown


def test_files_of_one_path_in_other_specimens() -> None:
    """Paired by path, size and how many there were: of two files of one name and size each has its own partner."""
    twice = [score(1), replace(score(2), path="/Season/FRN00001.JPG", **GONE), score(3, size=7)]
    other = [replace(one, id=one.id + 50) for one in twice]
    one = compare([card_of(*twice, identity="1", specimen="a")], [card_of(*other, identity="2", specimen="a")])
    assert (
        len(one.pairs) == 3 and not one.of("won") and not one.of("lost") and (one.only_first, one.only_second) == (0, 0)
    )
    # Two specimens on one side, one on the other, no name alike: the first two belong together, the third is alone.
    alone = compare([card_of(score(1), identity="1", specimen="a"), card_of(score(1), score(2), identity="2", specimen="b")],
                    [card_of(score(9), identity="3", specimen="c")])  # fmt: skip
    assert (len(alone.pairs), alone.only_first, alone.only_second) == (0, 3, 1)
    alone = compare([card_of(score(1), identity="1", specimen="a")],
                    [card_of(score(1), identity="2", specimen="b"), card_of(score(2), identity="3", specimen="c")])  # fmt: skip
    assert (len(alone.pairs), alone.only_first, alone.only_second) == (1, 0, 1)
