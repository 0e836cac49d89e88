"""Media as they once were, and whose the bytes of a volume are: each against the plainest way to work it out."""

from __future__ import annotations

import random
from collections.abc import Iterator
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from sastrugi.media import Extent, Medium
from sastrugi.media.overlay import OverlayMedium
from sastrugi.media.raw import RawImage
from sastrugi.volumes.reader import UNLISTED_OWNER
from sastrugi.volumes.space import OwnedSpace
from tests.conftest import Program

SIZE, BLOCK = 4096, 64
BYTES = random.Random(2).randbytes(SIZE // 2) + bytes(SIZE // 2)
blocks = st.dictionaries(st.integers(0, 63), st.integers(0, 63), max_size=12)
ranges = st.lists(st.tuples(st.integers(0, 120), st.integers(1, 30)).map(lambda part: Extent(*part)), max_size=8)


@pytest.fixture(scope="module")
def now(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Medium]:
    with RawImage(tmp_path_factory.mktemp("now") / "m.img", SIZE) as image:
        image.write(0, BYTES[: SIZE // 2])
        yield image


@given(blocks, st.integers(0, SIZE + 100), st.integers(0, SIZE + 100))
def test_a_medium_as_it_was(now: Medium, copies: dict[int, int], position: int, length: int) -> None:
    then = OverlayMedium(now, {to * BLOCK: at * BLOCK for to, at in copies.items()}, BLOCK)
    wanted = bytearray(BYTES)
    for to, at in copies.items():
        wanted[to * BLOCK : (to + 1) * BLOCK] = BYTES[at * BLOCK : (at + 1) * BLOCK]
    assert then.read(position, length) == bytes(wanted[position : position + length])
    told = bytearray(SIZE)
    for part in then.data_ranges(position, position + length):
        assert position <= part.offset and part.end <= min(position + length, SIZE) and part.length > 0
        told[part.offset : part.end] = wanted[part.offset : part.end]
    assert told[position : position + length] == wanted[position : position + length]


@given(ranges, st.lists(st.tuples(ranges, st.sampled_from(["a", "b", "c"])), max_size=4), ranges)
def test_whose_bytes_are(used: list[Extent], owned: list[tuple[list[Extent], str]], asked: list[Extent]) -> None:
    in_use = {n for part in used for n in range(part.offset, part.end)}
    owners: dict[int, str] = {}
    for parts, name in owned:
        for part in parts:
            for n in range(part.offset, part.end):
                owners.setdefault(n, name)

    def used_of(part: Extent) -> Iterator[Extent]:
        return (Extent(n, 1) for n in range(part.offset, part.end) if n in in_use)

    space = OwnedSpace(used_of, [(part, name, ord(name)) for parts, name in owned for part in parts])
    told = {n: one.owner for one in space.conflicts(asked) for n in range(one.extent.offset, one.extent.end)}
    wanted = {n for part in asked for n in range(part.offset, part.end)} & in_use
    assert told == {n: owners.get(n, UNLISTED_OWNER) for n in wanted}
    assert all(one.identity == ord(one.owner) for one in space.conflicts(asked) if one.owner != UNLISTED_OWNER)


@pytest.mark.parametrize(("file_system", "what"), [("fat32", "boot"), ("exfat", "boot"), ("exfat", "upcase")])
def test_what_no_system_mounts_is_lost_and_comes_back(
    sastrugi: Program, tmp_path: Path, file_system: str, what: str
) -> None:
    """The backup tells a reader all; to a user the files are gone, and so they are to a scan and a score."""
    (tmp_path / "r.toml").write_text(f"""recipe = 1
name = "boot"
title = "A card that asks to be formatted"
seed = 1
medium.size = "40 MiB"
steps = [
    {{do = "partition", volumes = [{{name = "card"}}]}},
    {{do = "format", file_system = "{file_system}"}},
    {{do = "store", corpus = {{files = 6, kinds = ["png", "txt"]}}}},
    {{do = "damage", what = "{what}"}},
]
""")
    sastrugi("build", tmp_path / "r.toml", "--into", tmp_path / "s")
    sastrugi("audit", tmp_path / "s")
    sastrugi("scan", tmp_path / "s", "--out", tmp_path / "s.scan")
    card = sastrugi("score", tmp_path / "s", tmp_path / "s.scan", "--out", tmp_path / "c.json", "--json").json
    assert (card["intact"]["value"], card["named"]["value"], card["all_three"]["value"]) == (6, 6, 6)
    found = sastrugi("list", tmp_path / "s.scan", "--json").json
    assert {one["state"] for one in found} == {"deleted"}
    assert all("no system mounts its volume" in one["reasons"][0] for one in found)
