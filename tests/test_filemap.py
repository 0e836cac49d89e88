"""The map of a file's bytes: whatever it says, against the same file kept byte for byte."""

from __future__ import annotations

import json
import random
import zlib
from collections.abc import Iterator
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import TypeAdapter

from sastrugi.media import Extent, FileMap, Medium, RangeSet
from sastrugi.media.filemap import UNKNOWN, ZEROS, Segment
from sastrugi.media.raw import RawImage
from sastrugi.specimen.truth import TruthFile

SIZE = 4096
BYTES = random.Random(8).randbytes(SIZE)
UNIT = b"a reading every minute, " * 12
PACKED = zlib.compress(UNIT)
UNIT_AT = 3000
HELD = BYTES[:UNIT_AT] + PACKED + BYTES[UNIT_AT + len(PACKED) :]

extents = st.builds(lambda at, length: Extent(at, min(length, UNIT_AT - at)), st.integers(0, 2900), st.integers(1, 90))
as_it_stands = st.lists(extents, min_size=1, max_size=4).map(lambda e: Segment(sum(x.length for x in e), tuple(e)))
nothing = st.builds(lambda n, coding: Segment(n, (), coding), st.integers(0, 60), st.sampled_from([ZEROS, UNKNOWN]))
split = st.integers(1, len(PACKED) - 1)
coded = st.builds(
    lambda length, at: Segment(
        length, (Extent(UNIT_AT, at), Extent(UNIT_AT + at, len(PACKED) - at)), "zlib"
    ),
    st.integers(1, len(UNIT)), split,
)  # fmt: skip
segments = st.lists(st.one_of(as_it_stands, nothing, coded), max_size=6)


@pytest.fixture(scope="module")
def held(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Medium]:
    with RawImage(tmp_path_factory.mktemp("held") / "m.img", SIZE) as image:
        image.write(0, HELD)
        yield image


def plainly(of: list[Segment]) -> list[tuple[int | None, tuple[int, ...]]]:
    """Each byte of a file: its value (None where it is unknown), and the bytes of the medium that it needs."""
    out: list[tuple[int | None, tuple[int, ...]]] = []
    for length, stored, coding in of:
        places = [at for extent in stored for at in range(extent.offset, extent.end)]
        if coding == ZEROS:
            out += [(0, ())] * length
        elif coding == UNKNOWN:
            out += [(None, ())] * length
        elif coding:
            out += [(UNIT[n], tuple(places)) for n in range(length)]
        else:
            out += [(HELD[at], (at,)) for at in places]
    return out


@given(segments, st.integers(0, 400), st.integers(0, 400), st.sets(st.integers(0, SIZE - 1), max_size=30))
def test_a_map_is_what_its_bytes_are(
    held: Medium, of: list[Segment], position: int, length: int, gone: set[int]
) -> None:
    file, every = FileMap.made(of), plainly(of)
    values = bytes(value or 0 for value, _ in every)
    assert file.size == len(every) and b"".join(file.chunks(held, 37)) == values
    assert file.read(held, position, length) == values[position : position + length]
    assert file.zeros == sum(one.length for one in of if one.coding == ZEROS)
    assert file.coded == {one.coding for one in of} - {"", ZEROS, UNKNOWN}
    known = [n for n, (value, _) in enumerate(every) if value is not None]
    assert file.reach == (max(known, default=-1) + 1)
    assert {n for part in file.unknown() for n in range(part.offset, part.end)} == set(range(len(every))) - set(known)
    missing = RangeSet(Extent(at, 1) for at in gone)
    right = {n for n, (value, needs) in enumerate(every) if value is not None and not gone & set(needs)}
    assert {n for part in file.right(missing) for n in range(part.offset, part.end)} == right
    for at, extent in file.pieces():
        assert [every[at + n][1] for n in range(extent.length)] == [(b,) for b in range(extent.offset, extent.end)]


@given(segments, st.integers(0, 400), st.integers(0, 400))
def test_parts_of_a_map(held: Medium, of: list[Segment], position: int, length: int) -> None:
    file = FileMap.made(of)
    assert file.head(length).size == min(length, file.size)
    assert b"".join(file.head(length).chunks(held)) == file.read(held, 0, length)
    part = file.part(position, length)
    assert part.size == max(min(length, file.size - position), 0)
    own, whole = b"".join(part.chunks(held)), file.read(held, position, length)
    unknown = {n for one in part.unknown() for n in range(one.offset, one.end)}
    assert all(a == b for n, (a, b) in enumerate(zip(own, whole, strict=True)) if n not in unknown)
    assert not file.plain or not unknown


@given(segments, st.lists(st.integers(1, 50), max_size=6))
def test_maps_go_through_text_and_json(of: list[Segment], cuts: list[int]) -> None:
    """And a map is the same however its segments were cut."""
    file = FileMap.made(of)
    assert FileMap.unpacked(file.packed()) == file == FileMap.of_text(file.text())
    assert FileMap.unpacked(file.head(file.reach).packed(), file.size) == file
    pieces: list[Segment] = []
    for one in of:
        if one.coding or not one.stored:
            pieces.append(one)
        else:
            pieces += [Segment(extent.length, (extent,)) for extent in one.stored]
    assert FileMap.made(pieces) == file and hash(FileMap.made(pieces)) == hash(file)


@given(st.lists(extents, max_size=5), st.integers(0, 300), st.integers(0, 300))
def test_extents_of_a_size_with_an_unwritten_end(held: Medium, lie: list[Extent], size: int, valid: int) -> None:
    file = FileMap.of(lie, size, valid)
    stored = b"".join(HELD[e.offset : e.end] for e in lie)[: min(valid, size)]
    assert file.size == size and b"".join(file.chunks(held)) == stored.ljust(size, b"\0")
    assert sum(part.length for part in file.unknown()) == min(valid, size) - len(stored)
    assert file.zeros == max(size - valid, 0)


@pytest.mark.parametrize("packed", [
    5, ["x"], [[1]], [[1, 2, 3, 4]], [["lost", 5]], [["zeros", -1]], [["zeros", "5"]], [[-1, 5]], [[1 << 63, 5]],
    [["zlib", 5]], [["zlib", 1 << 40, [[0, 5]]]], [["zlib", 5, [[0, 1 << 40]]]], [["zlib", 5, 7]], [["zeros", 1 << 62]] * 3,
    [[0, 5], None],
])  # fmt: skip
def test_what_is_no_map_is_refused(packed: object) -> None:
    with pytest.raises((ValueError, TypeError)):
        FileMap.unpacked(packed)


def test_a_damaged_unit_reads_as_zeros_and_a_bomb_is_not_blown_up(held: Medium, tmp_path: Path) -> None:
    file = FileMap.made([Segment(40, (Extent(0, 60),), "zlib"), Segment(5, (Extent(7, 5),))])
    assert file.read(held, 30, 15) == bytes(10) + HELD[7:12]
    bomb = zlib.compress(bytes(1 << 20))
    with RawImage(tmp_path / "m.img", SIZE) as image:
        image.write(0, bomb)
        unit = FileMap.made([Segment(64, (Extent(0, len(bomb)),), "zlib")])
        assert unit.read(image, 0, 1 << 20) == bytes(64)


@given(st.lists(extents, max_size=5), st.lists(st.tuples(st.integers(0, 400), st.integers(1, 50)), max_size=3))
def test_files_as_older_truths_tell_them(lie: list[Extent], unplaced: list[tuple[int, int]]) -> None:
    """`extents` hold in a row what is not among the `unplaced` ranges of the file."""
    known = sum(extent.length for extent in lie)
    missing: set[int] = set()
    for at, length in unplaced:
        missing |= set(range(at, at + length))
    size = 0
    for place in range(known + len(missing) + 401):
        if known == sum(n not in missing for n in range(place)):
            size = place
            break
    missing = {n for n in missing if n < size}
    as_told = {
        "id": 1, "volume": "card", "life": 1, "path": "/a", "kind": "other", "size": size, "blake3": "0" * 64,
        "created": None, "modified": None, "record": [], "end": "live",
        "ceiling": {"bytes": 1, "placed": "none", "name": "full"},
        "extents": [list(extent) for extent in lie], "unplaced": [[n, 1] for n in sorted(missing)],
    }  # fmt: skip
    file = TypeAdapter(TruthFile).validate_json(json.dumps(as_told))
    assert file.map.size == size and file.extents == FileMap.of(lie).stored
    assert {n for part in file.unplaced for n in range(part.offset, part.end)} == missing
    places = iter(at for extent in lie for at in range(extent.offset, extent.end))
    told = {position + n: extent.offset + n for position, extent in file.map.pieces() for n in range(extent.length)}
    assert told == {n: next(places) for n in range(size) if n not in missing}
