"""Extents, holes and partition tables."""

from __future__ import annotations

import itertools
from pathlib import Path

from hypothesis import given
from hypothesis import strategies as st

from sastrugi.media import Extent, RangeSet, open_medium
from sastrugi.media.extents import cut, join, total, within
from sastrugi.media.partitions import TYPE_FAT32_LBA, Partition, mbr_bytes, read_mbr
from sastrugi.media.raw import RawImage
from sastrugi.specimen.digests import medium_digest

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
    kept = list(ranges)
    assert {p for e in kept for p in range(e.offset, e.end)} == model
    assert all(a.end < b.offset for a, b in itertools.pairwise(kept)), "neighbours are joined"
    inside = {p for e in ranges.overlap(probe) for p in range(e.offset, e.end)}
    outside = {p for e in ranges.gaps(probe) for p in range(e.offset, e.end)}
    asked = set(range(probe.offset, probe.end))
    assert inside == asked & model and outside == asked - model
    assert all((p in ranges) == (p in model) for p in range(101))
    for start in set(range(101)) - model:
        free = ranges.free_from(start, 101)
        assert not set(range(free.offset, free.end)) & model and (free.end == 101 or free.end in model)


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


def test_master_boot_record_reads_back(tmp_path: Path) -> None:
    parts = [
        Partition(1, TYPE_FAT32_LBA, Extent(1 << 20, 40 << 20)),
        Partition(2, 0x83, Extent(41 << 20, 100 << 20), bootable=True),
    ]
    image = RawImage(tmp_path / "m.img", 64 << 20)
    image.write(0, mbr_bytes(parts, 0x1234))
    with open_medium(image.path) as medium:
        found = read_mbr(medium)
    assert [(p.number, p.type, p.where, p.bootable) for p in found] == [
        (p.number, p.type, p.where, p.bootable) for p in parts
    ]
    assert "beyond the end" in found[1].note and not found[0].note
