"""Extents, holes and partition tables."""

from __future__ import annotations

import itertools
import sys
from functools import partial
from pathlib import Path
from uuid import UUID

import pytest
from hypothesis import given
from hypothesis import strategies as st

from sastrugi.errors import MediumError
from sastrugi.media import Extent, RangeSet, open_medium
from sastrugi.media.extents import Laid, cut, join, total, within
from sastrugi.media.faults import write_faults
from sastrugi.media.partitions import read_table
from sastrugi.media.partitions.apm import ListedVolume, lay_apm
from sastrugi.media.partitions.gpt import lay_gpt
from sastrugi.media.partitions.mbr import lay_mbr
from sastrugi.media.raw import RawImage
from sastrugi.specimen.digests import medium_digest
from sastrugi.threads import in_threads
from tests.judges import partitions_by_sfdisk, require_drivers, seven_zip

spans = st.builds(Extent, st.integers(0, 80), st.integers(0, 20))


@given(st.lists(st.tuples(st.booleans(), spans), max_size=30), spans)
def test_range_set_is_a_set_of_positions(steps: list[tuple[bool, Extent]], probe: Extent) -> None:
    ranges, model = RangeSet(), set[int]()
    for grow, span in steps:
        positions = set(range(span.offset, span.end))
        if grow:
            ranges.add(span)
            model |= positions
        else:
            ranges.remove(span)
            model -= positions
    kept, copied = list(ranges), RangeSet(ranges)
    copied.add(Extent(200, 1))
    assert list(ranges) == kept and list(copied) == [*kept, Extent(200, 1)], "a copy has nothing in common with it"
    assert ranges.count(Extent(0, 300)) == len(model) and copied.count(Extent(0, 300)) == len(model) + 1
    assert {p for e in kept for p in range(e.offset, e.end)} == model
    assert all(a.end < b.offset for a, b in itertools.pairwise(kept)), "neighbours are joined"
    inside = {p for e in ranges.overlap(probe) for p in range(e.offset, e.end)}
    part = ranges.within(probe)
    assert list(part) == list(ranges.overlap(probe)) and part.same_as(ranges) == (model <= inside)
    outside = {p for e in ranges.gaps(probe) for p in range(e.offset, e.end)}
    asked = set(range(probe.offset, probe.end))
    assert inside == asked & model and outside == asked - model and ranges.covers(probe) == (asked <= model)
    assert all((p in ranges) == (p in model) for p in range(101))
    for start in set(range(101)) - model:
        free = ranges.free_from(start, 101)
        assert not set(range(free.offset, free.end)) & model and (free.end == 101 or free.end in model)


@given(st.lists(spans, max_size=20), st.lists(st.integers(0, 99), max_size=40, unique=True), spans)
def test_many_ranges_at_once_are_what_they_are_one_by_one(before: list[Extent], more: list[int], probe: Extent) -> None:
    ranges, each = RangeSet(before), RangeSet(before)
    new = list(RangeSet(Extent(at, 1) for at in more))
    assert ranges.count(Extent(0, 100)) == each.count(Extent(0, 100))
    ranges.add_ordered([one.offset for one in new], [one.end for one in new])
    for one in new:
        each.add(one)
    assert list(ranges) == list(each) and ranges.count(Extent(0, 100)) == each.count(Extent(0, 100))
    assert ranges.meets(probe) == bool(ranges.overlap(probe))


@given(st.lists(spans, max_size=6), st.lists(st.lists(spans, max_size=3), max_size=4), st.integers(0, 200))
def test_what_grows_lies_as_if_it_had_been_laid_at_once(
    begun: list[Extent], grown: list[list[Extent]], position: int
) -> None:
    laid, every = Laid(join(begun)), list(begun)
    for more in grown:
        laid.grow(join(more))
        every += more
    assert laid.size == total(every)
    assert laid.within(position, 30) == Laid(join(every)).within(position, 30) == within(join(every), position, 30)


@given(st.lists(spans, max_size=8), st.integers(0, 60), st.integers(0, 60))
def test_extents_place_bytes_of_a_file(extents: list[Extent], position: int, length: int) -> None:
    places = [p for e in extents for p in range(e.offset, e.end)]
    flat = lambda found: [p for e in found for p in range(e.offset, e.end)]  # noqa: E731
    assert flat(join(extents)) == places
    assert flat(cut(extents, length)) == places[:length]
    assert flat(within(extents, position, length)) == places[position : position + length]


def test_holes_cost_nothing_and_do_not_change_the_digest(tmp_path: Path) -> None:
    image = RawImage(tmp_path / "sparse.img", 1 << 40)
    image.write(1 << 39, b"firn" * 1024)
    ranges = list(image.data_ranges())
    assert total(ranges) <= 1 << 20 and any(e.offset <= 1 << 39 < e.end for e in ranges)
    digest = medium_digest(image)
    image.write(1 << 30, bytes(4096))  # zeros that are no hole
    assert medium_digest(image) == digest
    image.write((1 << 30) + 7, b"\1")
    assert medium_digest(image) != digest
    image.zero(1 << 30, 4096)
    assert medium_digest(image) == digest


MIB = 1 << 20
FAT12, EXFAT, FAT32, FAT16 = 0x01, 0x07, 0x0C, 0x0E
NAMES = {FAT12: "fat12", EXFAT: "exfat", FAT32: "fat32", FAT16: "fat16"}
PLACES = [
    (Extent(MIB, 5 * MIB), FAT32, False), (Extent(7 * MIB, 5 * MIB), EXFAT, True),
    (Extent(14 * MIB, 5 * MIB), FAT16, True), (Extent(20 * MIB, 5 * MIB), FAT12, True),
]  # fmt: skip
GUIDS = [UUID(int=n + (1 << 100)) for n in range(5)]
DATA = UUID("ebd0a0a2-b9e5-4433-87c0-68b6b72699c7")
NUMBERS = {"mbr": [1, 5, 6, 7], "gpt": [1, 2, 3, 4], "apm": [2, 3, 4, 5]}


def with_table(path: Path, scheme: str, sector: int = 512, places: list[tuple[Extent, int, bool]] = PLACES) -> Path:
    image = RawImage(path, 64 * MIB, sector)
    gpt = [(where, NAMES[type_], DATA) for where, type_, _ in places]
    apm = [ListedVolume(where, NAMES[type_], "DOS_FAT_32") for where, type_, _ in places]
    writes = {
        "mbr": lambda: lay_mbr(places, 0x1234, sector),
        "gpt": lambda: lay_gpt(gpt, GUIDS, image.size, sector),
        "apm": lambda: lay_apm(apm, image.size, sector),
    }[scheme]()
    for offset, data in writes:
        image.write(offset, data)
    image.close()
    return path


@pytest.mark.parametrize("sector", [512, 4096])
@pytest.mark.parametrize("scheme", ["mbr", "gpt", "apm"])
def test_partition_tables_read_back(tmp_path: Path, scheme: str, sector: int) -> None:
    path = with_table(tmp_path / "m.img", scheme, sector)
    if scheme == "mbr" and sector == 4096:  # a boot sector tells where the partition begins, and so the sector size
        with path.open("r+b") as file:
            file.seek(MIB + 510)
            file.write(b"\x55\xaa")
    with open_medium(path) as medium:
        found = read_table(medium)
        assert medium.sector == sector
    assert [part.where for part in found] == [where for where, _, _ in PLACES]
    assert [part.number for part in found] == NUMBERS[scheme]
    assert [part.logical for part in found] == [scheme == "mbr" and logical for _, _, logical in PLACES]
    assert not any(part.note for part in found)


@pytest.mark.drivers
@pytest.mark.parametrize("scheme", ["mbr", "gpt"])
def test_the_system_reads_our_partition_tables(tmp_path: Path, scheme: str) -> None:
    require_drivers()
    assert partitions_by_sfdisk(with_table(tmp_path / "m.img", scheme)) == [where for where, _, _ in PLACES]


@pytest.mark.drivers
def test_another_reader_lists_our_partition_map(tmp_path: Path) -> None:
    require_drivers()
    listed = seven_zip("l", "-tapm", with_table(tmp_path / "m.img", "apm"))
    assert all(str(where.length) in listed for where, _, _ in PLACES)
    assert all(name in listed for name in NAMES.values())


@pytest.mark.parametrize(
    ("at", "note"), [(512 + 20, "backup"), (1024 + 40, "backup"), (64 * MIB - 512 + 30, ""), (64 * MIB - 33 * 512, "")]
)
def test_a_gpt_survives_damage_to_one_copy(tmp_path: Path, at: int, note: str) -> None:
    path = with_table(tmp_path / "m.img", "gpt")
    with path.open("r+b") as file:
        file.seek(at)
        byte = file.read(1)[0]
        file.seek(at)
        file.write(bytes([byte ^ 1]))
    with open_medium(path, 512) as medium:
        found = read_table(medium)
    assert [part.where for part in found] == [where for where, _, _ in PLACES]
    assert all(note in part.note for part in found)


@given(st.binary(max_size=120), st.integers(0, 26 * MIB // 512 - 1), st.sampled_from(["mbr", "gpt", "apm"]))
def test_tables_full_of_noise_end_in_less_found(
    tmp_path_factory: pytest.TempPathFactory, noise: bytes, block: int, scheme: str
) -> None:
    path = with_table(tmp_path_factory.mktemp("t") / "m.img", scheme)
    with path.open("r+b") as file:
        file.seek(446 + (block % 3 or block) * 512)  # the first records, or anywhere
        file.write(noise)
    with open_medium(path) as medium:
        assert len(read_table(medium)) <= 128


def test_tables_refuse_what_they_cannot_list() -> None:
    five = [(Extent((2 + 6 * n) * MIB, 5 * MIB), FAT32, False) for n in range(5)]
    with pytest.raises(MediumError, match="make some 'logical = true'"):
        lay_mbr(five, 1, 512)
    with pytest.raises(MediumError, match="free sector before it"):
        lay_mbr([(Extent(MIB, MIB), FAT32, False), (Extent(2 * MIB, MIB), FAT32, True)], 1, 512)
    with pytest.raises(MediumError, match="use table = 'gpt'"):
        lay_mbr([(Extent(MIB, 3 << 40), EXFAT, False)], 1, 512)
    with pytest.raises(MediumError, match="for itself"):
        lay_gpt([(Extent(512, MIB), "a", DATA)], GUIDS, 64 * MIB, 512)
    with pytest.raises(MediumError, match="for itself"):
        lay_apm([ListedVolume(Extent(512, MIB), "a", "Apple_HFS")], 64 * MIB, 512)
    with pytest.raises(MediumError, match="use table = 'gpt'"):
        lay_apm([], 3 << 40, 512)
    with pytest.raises(MediumError, match="lists 63 stretches"):
        lay_apm([ListedVolume(Extent((2 * n + 1) * MIB, MIB), "a", "Apple_HFS") for n in range(40)], 99 * MIB, 512)


def test_a_partition_beyond_the_end_says_so(tmp_path: Path) -> None:
    path = with_table(tmp_path / "m.img", "mbr", places=[(Extent(MIB, 100 * MIB), FAT32, False)])
    with open_medium(path) as medium:
        (part,) = read_table(medium)
    assert "beyond the end" in part.note


def test_threads_that_read_side_by_side_note_all_that_cannot_be_read(
    tmp_path: Path, request: pytest.FixtureRequest
) -> None:
    """Each sector is asked for once, by whichever thread; none is lost from the notes, and none is given as read."""
    request.addfinalizer(partial(sys.setswitchinterval, sys.getswitchinterval()))
    sys.setswitchinterval(1e-6)  # threads take turns at nearly every step
    image = tmp_path / "m.img"
    image.write_bytes(b"\xff" * (2000 * 1024))
    dead = [Extent(n * 1024, 512) for n in range(2000)]
    write_faults(image, dead)
    with open_medium(image) as medium:
        order = [n * 1009 % 2000 for n in range(2000)]
        for n, data in in_threads(lambda n: medium.read(n * 1024, 1024), order):
            assert data == bytes(512) + b"\xff" * 512, n
        assert list(medium.unread) == dead
