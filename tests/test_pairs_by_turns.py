"""Pairs of files that were written by turns, of which records do not tell both: what is put together is the files."""

from __future__ import annotations

import hashlib
import random
from collections.abc import Iterator, Sequence
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from sastrugi.media import Extent, open_medium
from sastrugi.media.raw import RawImage
from sastrugi.progress import Progress
from sastrugi.recovery.by_turns import even_shares, even_way
from sastrugi.recovery.content import Grid
from sastrugi.recovery.findings import Finding
from sastrugi.recovery.pairs_by_turns import PairsByTurns
from sastrugi.recovery.scan import scan
from sastrugi.recovery.scan_file import ScanFile
from sastrugi.recovery.sector_survey import Survey, SurveyOptions
from sastrugi.recovery.told_grids import grid_of
from sastrugi.volumes.fat.plan import plan
from sastrugi.volumes.fat.write import FatWriter
from tests.test_fat import NOON
from tests.test_kinds import sample
from tests.test_pieces import finding_of

CLUSTER, FIRST = 2048, 40
PROVED = ("xz", "gz", "zip", "png", "otf")
BY_HEADERS = ("elf", "wav", "dng", "aiff", "flac")


def needed(content: bytes) -> int:
    return -(-len(content) // CLUSTER)


class Card:
    """A volume of FAT16 on whose free clusters files lie that no record tells of; or nothing but such files, on
    clusters from some byte on."""

    def __init__(self, path: Path, base: int | None = None) -> None:
        self.path = path
        self._image = RawImage(path, 9 << 20)
        geometry = plan(0, 9 << 20, 16, CLUSTER)
        if base is None:
            FatWriter(self._image, geometry, "CARD", 7, NOON).flush()
        self._base = geometry.cluster_offset(0) if base is None else base
        self._next = FIRST

    def _at(self, cluster: int) -> int:
        return self._base + cluster * CLUSTER

    def lay(self, *contents: bytes, turns: int = 0, order: Sequence[int] = ()) -> None:
        """Write contents on the next clusters: one behind the other, by so many turns each as even as can be, or in an
        order of clusters."""
        needs = [needed(one) for one in contents]
        straight = [number for number, need in enumerate(needs) for _ in range(need)]
        left = list(contents)
        for number in order or (even_way(needs, turns).labels.tolist() if turns else straight):
            self._image.write(self._at(self._next), left[number][:CLUSTER])
            left[number] = left[number][CLUSTER:]
            self._next += 1

    def harm(self, at: int) -> None:
        """Turn the bits of a byte of what was laid down."""
        offset = self._at(FIRST) + at
        self._image.write(offset, bytes([self._image.read(offset, 1)[0] ^ 0xFF]))

    @property
    def next(self) -> int:
        """The cluster on which the next content begins."""
        return self._next

    def put_together(
        self, recorded: Sequence[tuple[int, bytes]], looked_at: Sequence[Extent], grid: Grid
    ) -> set[bytes]:  # fmt: skip
        """The contents of what is told where records name some files, by their clusters, as if in one piece."""
        self._image.close()
        with open_medium(self.path) as medium, ScanFile.create(self.path.with_suffix(".scan"), medium, ()) as told:
            survey = Survey(medium, told, SurveyOptions())
            survey.over(looked_at, Progress(), lambda: "", lambda: None)
            for n, (cluster, content) in enumerate(recorded):
                one = finding_of(f"FRN{n:05d}.WAV", "wav", len(content), self._at(cluster))
                one.confidence, one.sound = (0.99, len(content)) if n % 2 else (0.1, 0)
                told.add(one)
            PairsByTurns(medium, told, survey, ()).put_together([grid], Progress())
            return {one.map.read(medium, 0, one.size) for one in told.findings() if len(one.extents) > 1}

    def scanned(self) -> Iterator[tuple[Finding, bytes]]:
        """What a scan reports of it, and the bytes."""
        self._image.close()
        out = self.path.with_suffix(".scan")
        with open_medium(self.path) as medium:
            scan(medium, out, Progress(), replace=True)
            with ScanFile.open(out) as found:
                for one in found.findings():
                    yield one, one.map.read(medium, 0, one.size)


@settings(max_examples=30)
@given(
    kinds=st.tuples(st.sampled_from(PROVED), st.sampled_from(PROVED + BY_HEADERS)), turns=st.integers(2, 5),
    sizes=st.tuples(st.integers(12, 60), st.integers(12, 60)), swapped=st.booleans(), harmed=st.none() | st.floats(0, 1),
)  # fmt: skip
def test_two_beginnings_and_the_room_they_have_tell_both(
    tmp_path_factory: pytest.TempPathFactory, kinds: tuple[str, str], turns: int, sizes: tuple[int, int],
    swapped: bool, harmed: float | None,
) -> None:  # fmt: skip
    """None says in a record how long it is; what follows them begins where both are at their ends. With a wrong byte
    nothing is claimed that is not so."""
    pair = [sample(kind, size << 10) for kind, size in zip(kinds, sizes, strict=True)][:: -1 if swapped else 1]
    behind = sample("jpeg", 9000)
    card = Card(tmp_path_factory.mktemp("pairs") / "card.img")
    card.lay(*pair, turns=turns)
    card.lay(behind)
    if harmed is not None:  # behind the header, parts of which no checksum covers
        card.harm(512 + int(harmed * (sum(map(needed, pair)) * CLUSTER - 513)))
    found = {hashlib.sha256(data).hexdigest(): one for one, data in card.scanned()}
    whole = [hashlib.sha256(content).hexdigest() for content in (*pair, behind)]
    able = even_shares(needed(pair[0]), turns)[0] < needed(pair[0])
    if harmed is None and able:
        assert all(digest in found and found[digest].confidence > 0.5 for digest in whole)
    in_pieces = [one for digest, one in found.items() if digest not in whole and len(one.extents) > 1]
    assert not [one for one in in_pieces if one.confidence > 0.9 and one.kind in PROVED]


@pytest.mark.parametrize("kind", ["jpeg", "png", "gz"])
@pytest.mark.parametrize("swapped", [False, True])
def test_a_letter_and_a_file_that_is_none_come_apart(tmp_path: Path, kind: str, swapped: bool) -> None:
    """Nothing tells where a letter ends, nor after how many clusters each turn; clusters show which are text."""
    pair = [sample("eml", 41_000), sample(kind, 52_000)][:: -1 if swapped else 1]
    dice, left = random.Random(kind), [needed(one) for one in pair]
    order: list[int] = []
    while any(left):
        for number in (0, 1):
            run = min(dice.randint(3, 6), left[number])
            order += [number] * run
            left[number] -= run
    card = Card(tmp_path / "card.img")
    card.lay(*pair, order=order)
    card.lay(sample("png", 9000))
    found = {data: one for one, data in card.scanned()}
    assert all(content in found and found[content].confidence > 0.8 for content in pair)
    assert len(found) == 3, "parts of what was put together are no findings"


@pytest.mark.parametrize("turns", [3, 4])
@pytest.mark.parametrize("told", [True, False])
def test_those_nearby_tell_how_pairs_took_turns_that_nothing_proves(tmp_path: Path, turns: int, told: bool) -> None:
    """A record says of each second sound that it lies in one piece; of what begins inside of it there is none. Where no
    pair nearby is proved, nothing is told of them."""
    dice = random.Random(turns)
    card = Card(tmp_path / "card.img", 0)
    pairs = []
    for n in range(8):
        pair = [sample(kind, dice.randint(20, 60) << 10) for kind in ("wav", "aiff" if n % 2 or not told else "png")]
        pairs.append((card.next, pair))
        card.lay(*pair, turns=turns)
    end = card.next
    card.lay(sample("jpeg", 9000))
    found = card.put_together(
        [(at, pair[0]) for at, pair in pairs], [Extent(0, end * CLUSTER + 512)], Grid(Extent(0, 9 << 20), CLUSTER)
    )
    assert [all(content in found for content in pair) for _, pair in pairs] == [told] * len(pairs)


@pytest.mark.parametrize("base", [0, 512, 3 * 512])
def test_files_tell_the_clusters_of_a_life_that_nothing_else_tells_of(tmp_path: Path, base: int) -> None:
    card = Card(tmp_path / "card.img", base)
    alone = [sample(kind, size << 10) for size in (9, 13, 21, 30) for kind in ("png", "gz", "zip")]
    pair = [sample("xz", 40 << 10), sample("wav", 50 << 10)]
    card.lay(*alone[:6])
    card.lay(*pair, turns=3)
    card.lay(*alone[6:])
    found = {data: one for one, data in card.scanned()}
    assert all(content in found and found[content].confidence > 0.5 for content in (*alone, *pair))


@given(
    cluster=st.sampled_from([512 << n for n in range(8)]), base=st.integers(0, 500), strays=st.integers(0, 2),
    seed=st.integers(0, 1 << 30),
)  # fmt: skip
def test_the_largest_clusters_on_which_nearly_all_begin(cluster: int, base: int, strays: int, seed: int) -> None:
    dice = random.Random(seed)
    region = Extent(512 * dice.randrange(9), 1 << 30)
    starts = [region.offset + base * 512 + cluster * n for n in dice.sample(range(10_000), 60)]
    grid = grid_of(region, [*starts, *(region.offset + 512 * dice.randrange(20_000) for _ in range(strays))])
    assert grid is not None and grid.cluster >= cluster and all(grid.begins(start) for start in starts)
    assert grid.cluster == cluster or cluster * 2 > 512 << 7
    assert grid_of(region, starts[:7]) is None
