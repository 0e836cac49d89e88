"""Pairs of files that were written by turns, of which records do not tell both: what is put together is the files."""

from __future__ import annotations

import hashlib
import random
from collections.abc import Iterator, Sequence
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from sastrugi.media import Extent, open_medium
from sastrugi.media.raw import RawImage
from sastrugi.progress import Progress
from sastrugi.recovery.by_turns import even_shares, even_way
from sastrugi.recovery.findings import Finding
from sastrugi.recovery.scan import scan
from sastrugi.recovery.scan_file import ScanFile
from sastrugi.recovery.told_grids import grid_of
from sastrugi.volumes.fat.plan import plan
from sastrugi.volumes.fat.write import FatWriter
from tests.test_fat import NOON
from tests.test_kinds import sample

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

    def lay(self, *contents: bytes, turns: int = 1) -> None:
        """Write contents on the next clusters, by so many turns each as even as can be."""
        for number in even_way([needed(one) for one in contents], turns).labels.tolist() if turns > 1 else ():
            contents = self._take(contents, number)
        for number, content in enumerate(contents):
            while turns == 1 and content:
                contents = self._take(contents, number)
                content = contents[number]

    def _take(self, contents: Sequence[bytes], number: int) -> tuple[bytes, ...]:
        self._image.write(self._at(self._next), contents[number][:CLUSTER])
        self._next += 1
        return tuple(one[CLUSTER:] if n == number else one for n, one in enumerate(contents))

    def harm(self, at: int) -> None:
        """Turn the bits of a byte of what was laid down."""
        offset = self._at(FIRST) + at
        self._image.write(offset, bytes([self._image.read(offset, 1)[0] ^ 0xFF]))

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
    if harmed is not None:
        card.harm(int(harmed * (sum(map(needed, pair)) * CLUSTER - 1)))
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
    """Nothing tells where a letter ends; its clusters show which are text."""
    pair = [sample("eml", 41_000), sample(kind, 52_000)][:: -1 if swapped else 1]
    card = Card(tmp_path / "card.img")
    card.lay(*pair, turns=4)
    card.lay(sample("png", 9000))
    found = {data: one for one, data in card.scanned()}
    assert all(content in found and found[content].confidence > 0.8 for content in pair)


@pytest.mark.parametrize("turns", [3, 4])
def test_those_nearby_tell_how_pairs_took_turns_that_nothing_proves(tmp_path: Path, turns: int) -> None:
    dice = random.Random(turns)
    card = Card(tmp_path / "card.img")
    whole = []
    for n in range(8):
        kinds = ("wav", "aiff") if n % 2 else ("png", "wav")
        pair = [sample(kind, dice.randint(12, 60) << 10) + b"" for kind in kinds]
        whole += pair
        card.lay(*pair, turns=turns)
    card.lay(sample("jpeg", 9000))
    found = {data for _, data in card.scanned()}
    assert np.mean([content in found for content in whole]) == 1


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
