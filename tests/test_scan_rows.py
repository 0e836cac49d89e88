"""What the table of findings keeps: the quick ways in and out of it say what the slow ones say."""

from __future__ import annotations

import json
import random
from collections.abc import Iterator

import pytest
from hypothesis import given
from hypothesis import strategies as st

from sastrugi.kinds.base import BytesSource
from sastrugi.media import Extent, FileMap, Medium
from sastrugi.media.filemap import UNKNOWN, ZEROS, Segment
from sastrugi.media.raw import RawImage
from sastrugi.recovery.findings import Finding
from sastrugi.recovery.scan_rows import map_of, packed_map, sound_part
from sastrugi.recovery.sources import MediumSource
from sastrugi.volumes.reader import Times

SIZE = 200_000

extents = st.builds(Extent, st.integers(0, 1 << 62), st.integers(1, 1 << 40))
stands = st.lists(extents, min_size=1, max_size=3).map(lambda e: Segment(sum(x.length for x in e), tuple(e)))
nothing = st.builds(lambda n, coding: Segment(n, (), coding), st.integers(1, 60), st.sampled_from([ZEROS, UNKNOWN]))
maps = st.one_of(st.lists(st.one_of(stands, nothing), max_size=4), stands.map(lambda one: [one])).map(FileMap.made)


@given(lies=maps, sound=st.integers(0, 1 << 41))
def test_places_go_into_the_table_and_come_back(lies: FileMap, sound: int) -> None:
    finding = Finding("deleted", "/", "a", "txt", "data", lies.size, lies, Times(), ("tables",), 0.5, 1.0, [])
    packed = packed_map(finding)
    assert json.loads(packed) == lies.head(lies.reach).packed()
    assert map_of(packed, lies.size) == lies
    assert sound_part(packed, lies.size, sound) == lies.head(sound).stored


@pytest.mark.parametrize(
    ("packed", "size"),
    [
        ("[[1, 2", 2), ("[[1, -2]]", 2), ("[[-1, 2]]", 2), ("{}", 0), ("7", 1), ('[["1", "2"]]', 2), ("[[1.0, 2]]", 2),
        (f"[[{10**18}, {10**19}]]", 10**19), ("[" * 100_000, 5), ("[[1, \N{ARABIC-INDIC DIGIT TWO}]]", 2),
    ],
)  # fmt: skip
def test_what_is_no_place_is_refused(packed: str, size: int) -> None:
    with pytest.raises(ValueError):
        map_of(packed, size)
    with pytest.raises(ValueError):
        sound_part(packed, size, size)


@pytest.fixture(scope="module")
def held(tmp_path_factory: pytest.TempPathFactory) -> Iterator[tuple[Medium, bytes]]:
    data = random.Random(4).randbytes(SIZE)
    with RawImage(tmp_path_factory.mktemp("held") / "m.img", SIZE) as image:
        image.write(0, data)
        yield image, data


reads = st.lists(st.tuples(st.integers(-5, 150_000), st.integers(-2, 80_000)), max_size=8)


@given(parts=st.lists(st.tuples(st.integers(0, SIZE - 1), st.integers(1, 90_000)), min_size=1, max_size=3), reads=reads)
def test_a_file_on_a_medium_reads_as_its_bytes_do(
    held: tuple[Medium, bytes], parts: list[tuple[int, int]], reads: list[tuple[int, int]]
) -> None:
    medium, data = held
    lies = [Extent(at, min(length, SIZE - at)) for at, length in parts]
    content = BytesSource(b"".join(data[at : at + length] for at, length in lies))
    source = MediumSource(medium, FileMap.of(lies))
    assert source.size == content.size
    for position, length in reads:
        wanted = content.read(position, length) if length > 0 else b""
        assert source.read(position, length) == wanted
