"""Stated confidence: what signs weigh, what findings beside one tell, and who was given units later."""

from __future__ import annotations

import datetime as dt
import math
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from sastrugi.kinds import all_kinds
from sastrugi.media import Extent, FileMap, open_medium
from sastrugi.recovery.evidence import Clue, Evidence, evidence
from sastrugi.recovery.findings import PASSES, Finding
from sastrugi.recovery.later_claims import tell_later_claims
from sastrugi.recovery.scan_file import ScanFile
from sastrugi.recovery.weighing import KEPT, Beside, signs, state_confidence, tells_all, weighed, weights
from sastrugi.volumes.reader import Times
from sastrugi.volumes.registry import file_systems
from tests.conftest import Program

NOON = dt.datetime(2031, 2, 3, 12)
TOLD = st.sampled_from(["found", "deleted told", "deleted guessed"])
KINDS = st.sampled_from([*all_kinds(), "other", ""])
CLUES = st.lists(st.sampled_from([one.value for one in Clue]), max_size=5, unique=True).map(tuple)
USUAL = Beside(20, 2)
BESIDE = st.builds(Beside, st.integers(0, 500), st.integers(0, 500))


@given(told=TOLD, kind=KINDS, pieces=st.integers(1, 9), clues=CLUES, sure=st.floats(0, 1), beside=BESIDE)
def test_weights_add_up_to_what_is_stated(
    told: str, kind: str, pieces: int, clues: tuple[str, ...], sure: float, beside: Beside
) -> None:
    """Never 0 or 1; the parts that are told are the whole; and only signs that were fitted weigh anything."""
    stated, own, by_telling, by_others = weighed(told, kind, pieces, clues, sure, beside)
    assert 0.005 <= stated <= 0.995 and len(own) == len(clues)
    total = sum(own) + by_telling + by_others
    if abs(total) < 7:
        assert math.log2(stated / (1 - stated)) == pytest.approx(total, abs=0.05)
    known = [name for name in signs(told, kind, pieces, clues, sure, beside) if name in weights()]
    assert known or stated == 0.5


@pytest.mark.parametrize("told", ["deleted told", "deleted guessed"])
def test_what_speaks_for_a_file_and_against_it_weighs_so(told: str) -> None:
    def sure(*clues: Clue, rules: float, beside: Beside = USUAL, kind: str = "png") -> float:
        return weighed(told, kind, 1, tuple(one.value for one in clues), rules, beside)[0]

    proved = sure(Clue.PLACED, Clue.FREE, Clue.CHECKSUMS_RIGHT, rules=0.99)
    foreign = sure(Clue.PLACED, Clue.FREE, Clue.FOREIGN_START, rules=0.15)
    assert proved > 0.9 and foreign < 0.2
    # Where what can be checked is wrong, what cannot be is worth little.
    unknown = [
        sure(Clue.PLACED, Clue.FREE, Clue.UNKNOWN_KIND, rules=0.75, beside=beside, kind="other")
        for beside in (Beside(60, 1), Beside(0, 60))
    ]
    assert unknown[0] > 0.6 and unknown[1] < 0.2, unknown
    assert sure(Clue.PLACED, Clue.FREE, Clue.CHECKSUMS_RIGHT, Clue.TAKEN_LATER, rules=0.99) <= proved


def test_which_records_tell_all_places() -> None:
    titles = {variant.title: family for family in file_systems().values() for variant in family.variants}
    assert {tells_all(title) for title, family in titles.items() if family.lives} == {False}
    assert tells_all("NTFS") and tells_all("ext4") and tells_all("HFS+")


def test_a_scan_states_what_its_evidence_weighs_once(sastrugi: Program, demo: Path, tmp_path: Path) -> None:
    sastrugi("scan", demo / "specimen", "--out", tmp_path / "a.scan")
    with ScanFile.open(tmp_path / "a.scan", for_writing=True) as scan:
        before = [(one.confidence, one.evidence) for one in scan.findings()]
        state_confidence(scan)
        assert [(one.confidence, one.evidence) for one in scan.findings()] == before
        for one in scan.findings(f"state != 'live' AND size > 0 AND confidence > {KEPT}"):
            bits = sum(piece.weight for piece in one.evidence)
            assert one.tells(Clue.TOLD_SO)
            assert abs(bits) > 6 or one.confidence == pytest.approx(1 / (1 + 2**-bits), abs=0.05), one
    said = sastrugi("list", tmp_path / "a.scan", "--why", "--state", "deleted").out
    assert "  +" in said and "its record tells where it begins" in said
    story = sastrugi("explain", demo / "specimen", tmp_path / "a.scan", "FRN00003.JPG", "--json").json
    assert story["evidence"] and all(one["words"] for one in story["evidence"])


@pytest.mark.parametrize("recipe", ["wiped-free-space", "wiped-card"])
def test_on_wiped_media_little_is_promised(sastrugi: Program, tmp_path: Path, recipe: str) -> None:
    sastrugi("build", recipe, "--into", tmp_path / "s")
    sastrugi("scan", tmp_path / "s", "--out", tmp_path / "s.scan")
    with ScanFile.open(tmp_path / "s.scan") as scan:
        stated = [one.confidence for one in scan.findings("state != 'live' AND size > 0")]
    assert sum(stated) <= 0.05 * len(stated), stated


# -- who was given units later ------------------------------------------------------------------------------------------


def claims(tmp_path: Path, *findings: Finding, certain: frozenset[int] = frozenset({1})) -> list[list[Evidence]]:
    """What is told of findings once later claims are."""
    (tmp_path / "m.img").write_bytes(bytes(1 << 16))
    with open_medium(tmp_path / "m.img") as medium, ScanFile.create(tmp_path / "m.scan", medium, PASSES) as scan:
        for one in findings:
            scan.add(one)
        tell_later_claims(scan, certain)
        return [one.evidence for one in scan.findings()]


def at(start: int, length: int, hours: int, *clues: Clue, state: str = "deleted", sound: int = 0) -> Finding:
    times = Times(NOON + dt.timedelta(hours=hours), None, None)
    where = FileMap.of((Extent(start, length),))
    return Finding(
        state, "/", f"{start}.bin", "other", "data", length, where, times, ("tables",), 0.9, 1.0,
        [evidence(one) for one in clues], 1, sound=sound,
    )  # fmt: skip


def test_of_two_claims_on_one_unit_the_later_one_holds(tmp_path: Path) -> None:
    early, late, beside = at(0, 4096, 0), at(2048, 4096, 5), at(8192, 512, 1)
    told = claims(tmp_path, early, late, beside)
    assert told == [[evidence(Clue.TAKEN_LATER, 2048, "/2048.bin")], [], []]


def test_claims_of_one_time_are_both_in_doubt(tmp_path: Path) -> None:
    told = claims(tmp_path, at(0, 4096, 0), at(2048, 4096, 0))
    assert [one[0].clue for one in told] == [Clue.CLAIMED_TWICE, Clue.CLAIMED_TWICE]


def test_what_content_proves_is_held_whatever_records_say(tmp_path: Path) -> None:
    proved = at(0, 4096, 0, Clue.CHECKSUMS_RIGHT, sound=4096)
    told = claims(tmp_path, proved, at(2048, 4096, 5))
    assert [[piece.clue for piece in one] for one in told] == [[Clue.CHECKSUMS_RIGHT], [Clue.CONTESTED]]


def test_what_only_guesses_its_place_takes_nothing(tmp_path: Path) -> None:
    assert claims(tmp_path, at(0, 4096, 0), at(2048, 4096, 5), certain=frozenset()) == [[], []]


@given(starts=st.lists(st.tuples(st.integers(0, 60), st.integers(1, 20)), min_size=2, max_size=25))
def test_every_overlap_is_seen_once(tmp_path_factory: pytest.TempPathFactory, starts: list[tuple[int, int]]) -> None:
    findings = [at(512 * start, 512 * length, n) for n, (start, length) in enumerate(starts)]
    told = claims(tmp_path_factory.mktemp("claims"), *findings)
    for n, (own, pieces) in enumerate(zip(findings, told, strict=True)):
        (mine,) = own.extents
        later = [other for other in findings[n + 1 :] if other.map != own.map]
        taken = {
            unit for other in later for unit in range(other.extents[0].offset, other.extents[0].end, 512)
            if mine.offset <= unit < mine.end and other.path != own.path
        }  # fmt: skip
        assert sum(int(one.facts[0]) for one in pieces) == 512 * len(taken)
