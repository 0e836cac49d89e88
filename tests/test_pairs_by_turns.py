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

from sastrugi.media import open_medium
from sastrugi.media.raw import RawImage
from sastrugi.progress import Progress
from sastrugi.recovery.by_turns import even_shares, even_way
from sastrugi.recovery.findings import Finding
from sastrugi.recovery.scan import scan
from sastrugi.recovery.scan_file import ScanFile
from sastrugi.volumes.fat.plan import plan
from sastrugi.volumes.fat.write import FatWriter
from tests.test_fat import NOON
from tests.test_kinds import sample

CLUSTER, FIRST = 2048, 40
PROVED = ("xz", "gz", "zip", "png", "otf")
BY_HEADERS = ("elf", "wav", "dng", "aiff", "flac", "eml")


def needed(content: bytes) -> int:
    return -(-len(content) // CLUSTER)


class Card:
    """A volume of FAT16 on whose free clusters files lie that no record tells of."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self._image = RawImage(path, 9 << 20)
        self._writer = FatWriter(self._image, plan(0, 9 << 20, 16, CLUSTER), "CARD", 7, NOON)
        self._writer.flush()
        self._next = FIRST

    def lay(self, *contents: bytes, turns: int = 1) -> None:
        """Write contents on the next clusters, by so many turns each as even as can be."""
        for number in even_way([needed(one) for one in contents], turns).labels.tolist() if turns > 1 else ():
            contents = self._take(contents, number)
        for number, content in enumerate(contents):
            while turns == 1 and content:
                contents = self._take(contents, number)
                content = contents[number]

    def _take(self, contents: Sequence[bytes], number: int) -> tuple[bytes, ...]:
        self._image.write(self._writer.geometry.cluster_offset(self._next), contents[number][:CLUSTER])
        self._next += 1
        return tuple(one[CLUSTER:] if n == number else one for n, one in enumerate(contents))

    def harm(self, at: int) -> None:
        """Turn the bits of a byte of what was laid down."""
        offset = self._writer.geometry.cluster_offset(FIRST) + at
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
