"""Pieces that no proof tells of: laid as their neighbours lie, texts behind what is none, heads that were found."""

from __future__ import annotations

import random
from pathlib import Path

import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from sastrugi.kinds import all_kinds, recognise
from sastrugi.kinds.base import Holds
from sastrugi.media import Extent, RangeSet
from sastrugi.media.filemap import FileMap
from sastrugi.media.raw import RawImage
from sastrugi.progress import Progress
from sastrugi.recovery.by_turns import even_shares
from sastrugi.recovery.content import ContentPass, Grid
from sastrugi.recovery.evidence import Clue, evidence
from sastrugi.recovery.found_pieces import FoundPieces
from sastrugi.recovery.habits import Habit
from sastrugi.recovery.laid_alike import as_beside, habit_of, markup_behind_gaps, text_behind_gaps
from sastrugi.recovery.scan_file import ScanFile
from sastrugi.recovery.sector_survey import Survey, SurveyOptions
from sastrugi.recovery.sources import MediumSource
from tests.test_kinds import sample
from tests.test_pieces import CLUSTER, SIZE, finding_of, lay


def in_pieces(need: int, pieces: int, gap: int, first: int = 5) -> list[int]:
    """The clusters of a file that lies in even pieces behind even gaps."""
    out: list[int] = []
    for share in even_shares(need, pieces):
        out += range(first, first + share)
        first += share + gap
    return out


@given(clusters=st.integers(1, 500), turns=st.integers(1, 80))
def test_even_shares_are_all_of_it_and_even(clusters: int, turns: int) -> None:
    shares = even_shares(clusters, turns)
    assert sum(shares) == clusters and len(shares) == min(turns, clusters)
    assert max(shares) - min(shares) <= 1 and min(shares) > 0


@given(pieces=st.integers(2, 4), gap=st.integers(1, 3), seed=st.integers(0, 99), alike=st.booleans())
def test_a_file_lies_as_those_beside_it(
    tmp_path_factory: pytest.TempPathFactory, pieces: int, gap: int, seed: int, alike: bool
) -> None:
    """Where its neighbours are proved to lie in pieces, and not where those differ, or lie in one."""
    content = sample("wav", 40_000)
    need = -(-len(content) // CLUSTER)
    with RawImage(tmp_path_factory.mktemp("beside") / "m.img", SIZE) as image:
        image.write(0, random.Random(seed).randbytes(SIZE))
        places = lay(image, content, in_pieces(need, pieces, gap))
        beside = []
        for n, first in enumerate((200, 240, 280)):
            way = in_pieces(need, pieces if alike else n + 1, gap, first)
            proved = finding_of(f"{n}.png", "png", len(content), first * CLUSTER)
            proved.map, proved.confidence = proved.map.of(lay(image, content, way)), 0.95
            beside.append(proved)
        one = finding_of("a.wav", "wav", len(content), places[0].offset)
        laid = as_beside(image, one, CLUSTER, SIZE, RangeSet(), habit_of(beside, CLUSTER))
        assert (laid is not None) == alike
        assert laid is None or (laid.extents == places and laid.confidence < 0.9)
        assert as_beside(image, one, CLUSTER, SIZE, RangeSet(), Habit()) is None


@given(seed=st.integers(0, 1 << 20), pieces=st.integers(1, 5), cluster=st.sampled_from([512, 2048]))
def test_pieces_in_any_order_upset_no_habit(
    tmp_path_factory: pytest.TempPathFactory, seed: int, pieces: int, cluster: int
) -> None:
    """Neighbours that lie backwards, over each other or beside the grid: what is told then is none or inside."""
    dice = random.Random(seed)
    with RawImage(tmp_path_factory.mktemp("order") / "m.img", SIZE) as image:
        image.write(0, dice.randbytes(SIZE))
        beside = []
        for n in range(4):
            proved = finding_of(f"{n}.png", "png", pieces * 3 * cluster, 0)
            step = dice.choice([-5, -3, 0, 4]) * cluster + dice.choice([0, 0, 100])
            extents = [Extent(SIZE // 2 + step * k, 3 * cluster) for k in range(pieces)]
            proved.map, proved.confidence = FileMap.of(extents), 0.95
            beside.append(proved)
        one = finding_of("a.wav", "wav", dice.randint(1, 40 * cluster), dice.randrange(SIZE // cluster) * cluster)
        laid = as_beside(image, one, cluster, SIZE, RangeSet(), habit_of(beside, cluster))
        assert laid is None or sum(extent.length for extent in laid.extents) == one.size
        assert laid is None or all(0 <= extent.offset < extent.end <= SIZE for extent in laid.extents)


@given(
    lines=st.integers(100, 900), runs=st.lists(st.integers(1, 5), min_size=2, max_size=8), gap=st.integers(1, 4),
    told=st.booleans(), dirty=st.booleans(), seed=st.integers(0, 1 << 20),
)  # fmt: skip
def test_a_text_goes_on_behind_what_is_none(
    tmp_path_factory: pytest.TempPathFactory, lines: int, runs: list[int], gap: int, told: bool, dirty: bool, seed: int
) -> None:
    """Whether a record tells its size or markup its end; also where bytes of an earlier file stand behind that."""
    dice = random.Random(seed)
    body = "".join(f"{n:05d} wind {dice.randrange(40)} m/s\n" for n in range(lines))
    text = (body if told else f"<html><body><pre>{body}</pre></body></html>").encode()
    need = -(-len(text) // CLUSTER)
    assume(not (dirty and len(text) % CLUSTER < 200))  # a few bytes of noise may be text, of text noise
    clusters, at = [], 5
    for run in runs * need:
        clusters += range(at, at + run)
        at += run + gap
    with RawImage(tmp_path_factory.mktemp("text") / "m.img", SIZE) as image:
        image.write(0, dice.randbytes(SIZE))
        padding = b"\xe0\1\xff" * CLUSTER if dirty else bytes(CLUSTER)
        lay(image, (text + padding)[: need * CLUSTER], clusters[:need])
        places = [Extent(cluster * CLUSTER, CLUSTER) for cluster in clusters[:need]]
        one = finding_of("a", "txt" if told else "html", len(text) if told else runs[0] * CLUSTER, places[0].offset)
        laid = (text_behind_gaps if told else markup_behind_gaps)(image, one, CLUSTER, SIZE, RangeSet())
        in_one = clusters[need - 1] == 5 + need - 1
        far = clusters[need - 1] - 5 - need + 1 > 64
        assert (laid is None) == (in_one or far or need < 2)
        assert laid is None or image.read_extents(laid.extents) == text
        assert laid is None or not dirty or not told or len(text) % CLUSTER == 0 or laid.confidence < 0.8


@given(
    kind=st.sampled_from(["png", "gz", "jpeg", "html"]), pieces=st.integers(2, 4), gap=st.integers(1, 2),
    seed=st.integers(0, 99),
)  # fmt: skip
def test_heads_that_were_found_are_put_together(
    tmp_path_factory: pytest.TempPathFactory, kind: str, pieces: int, gap: int, seed: int
) -> None:
    """No record tells of it: what was found ends where its structure breaks, and goes on behind gaps of noise."""
    folder = tmp_path_factory.mktemp("heads")
    content = sample(kind, 40_000)
    need = -(-len(content) // CLUSTER)
    with RawImage(folder / "m.img", SIZE) as image:
        image.write(0, random.Random(seed).randbytes(SIZE))
        places = lay(image, content.ljust(need * CLUSTER, b"\0"), in_pieces(need, pieces, gap))
        rest = FileMap.of((Extent(places[0].offset, SIZE - places[0].offset),))
        measure = recognise(MediumSource(image, rest), deep=True)
        assert measure is not None
        assume(not measure.whole)  # noise may end a picture
        head = finding_of("a", kind, max(measure.length, 1), places[0].offset)
        head.state, head.volume = "found", None
        head.evidence = [evidence(Clue.BREAKS, measure.kind, measure.breaks_at, 0, measure.rule)]
        with ScanFile.create(folder / "m.scan", image, ("content",)) as scan:
            scan.add(head)
            grids = [Grid(Extent(0, SIZE), CLUSTER)]
            pieces_of = FoundPieces(image, scan)
            pieces_of.follow(grids, Progress())
            pieces_of.put_together(grids, Progress())
            (found,) = scan.findings()
        whole = image.read_extents(found.extents) == content
        assert whole or (found.size == head.size and found.confidence == head.confidence), "right, or as it was"
        assert whole or kind == "jpeg" or (pieces > 2 and kind != "html"), "across one gap; markup across all"


@pytest.mark.parametrize(("outer", "inner", "cut"), [("wav", "png", True), ("tiff", "jpeg", False), ("wav", "", False)])
def test_headers_alone_yield_to_what_begins_inside(tmp_path: Path, outer: str, inner: str, cut: bool) -> None:
    """A file that only its headers speak for does not hide another that begins on a cluster of it, unless it may be
    part of it."""
    content = bytearray(sample(outer, 60_000))
    held = sample(inner, 12_000) if inner else b""
    at = 8 * CLUSTER
    content[at : at + len(held)] = held
    with RawImage(tmp_path / "m.img", SIZE) as image, ScanFile.create(tmp_path / "m.scan", image, ("content",)) as scan:
        image.write(4 * CLUSTER, bytes(content))
        survey = Survey(image, scan, SurveyOptions(False, True))
        survey.over([Extent(0, SIZE)], Progress(), lambda: "", lambda: None)
        grid = Grid(Extent(0, SIZE), CLUSTER)
        found = [one for _, one in ContentPass(image, survey, RangeSet(), [grid]).findings(0, SIZE) if one]
        (first, *others) = [one for one in found if one.kind in (outer, inner)]
        assert first.map.start == 4 * CLUSTER
        assert (first.sound == at and first.confidence < 0.5) == cut
        assert [one.kind for one in others] == ([inner] if cut else [])


def test_what_may_be_held_is_called_as_it_is_measured() -> None:
    """The words for containers and their parts are those that measures answer with."""
    measured = {kind.name for kind in all_kinds().values() if kind.measure or kind.refines}
    parts = {part for held in Holds for part in held.value or ()}
    holding = {kind.name for kind in all_kinds().values() if kind.holds is not Holds.NOTHING or kind.framed}
    assert parts <= measured and holding <= measured, (parts | holding) - measured
    assert {kind.holds for kind in all_kinds().values()} == set(Holds)
