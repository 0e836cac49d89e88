"""FAT volumes: the writer against a model, our reader and fsck; the reader against damage."""

from __future__ import annotations

import datetime as dt
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from sastrugi.media import Extent, open_medium
from sastrugi.media.raw import RawImage
from sastrugi.volumes.fat.directory import Record, folder_blocks, parse_table, settle_lost_characters
from sastrugi.volumes.fat.layout import (
    decode_time,
    encode_time,
    pack_fat,
    short_name_checksum,
    times_valid,
    unpack_fat,
)
from sastrugi.volumes.fat.names import long_entries, short_alias
from sastrugi.volumes.fat.plan import plan
from sastrugi.volumes.fat.read import open_fat
from sastrugi.volumes.fat.write import FatWriter
from sastrugi.volumes.reader import Entry
from tests.test_writers import long_names

NOON = dt.datetime(2031, 2, 3, 12)
VOLUMES = {12: (2 << 20, 1024), 16: (8 << 20, 512), 32: (36 << 20, 512)}


@given(
    st.sampled_from([12, 16, 32]),
    st.lists(st.integers(0, 0xFF5), min_size=2, max_size=200).filter(lambda e: len(e) % 2 == 0),
)
def test_fat_entries_of_every_width_pack_and_unpack(bits: int, entries: list[int]) -> None:
    values = np.array(entries, np.uint32)
    assert (unpack_fat(pack_fat(values, bits), bits)[: len(values)] == values).all()


@given(st.datetimes(dt.datetime(1980, 1, 1), dt.datetime(2107, 12, 31)))
def test_times_keep_their_grain(when: dt.datetime) -> None:
    date, time, hundredths = encode_time(when)
    fine, coarse = decode_time(date, time, hundredths), decode_time(date, time)
    assert fine is not None and coarse is not None
    assert fine == when.replace(microsecond=when.microsecond // 10000 * 10000)
    assert coarse == when.replace(microsecond=0, second=when.second // 2 * 2)


@given(long_names)
def test_a_deleted_long_name_comes_back_whole_with_its_lost_character(name: str) -> None:
    short, _ = short_alias(name, set())
    table = bytearray(long_entries(name, short) + short + bytes([32]) + bytes(20))
    (live,) = parse_table(bytes(table) + bytes(32), 32)
    assert live.name == name
    for at in range(0, len(table), 32):
        table[at] = 0xE5
    (lost,) = parse_table(bytes(table) + bytes(32), 32)
    assert (lost.name, lost.short, lost.deleted) == (name, short, True)
    assert short_name_checksum(lost.short) == short_name_checksum(short)


def test_a_long_name_whose_end_is_overwritten_says_so() -> None:
    name = "Snow pit notes of the third week.docx"
    short, _ = short_alias(name, set())
    table = bytearray(long_entries(name, short) + short + bytes([32]) + bytes(20))
    for at in range(0, len(table), 32):
        table[at] = 0xE5
    (lost,) = parse_table(bytes(table[32:]) + bytes(32), 32)  # the entry with the last characters is gone
    assert lost.name == "Snow pit notes of the thir.doc" and lost.name_sure < 0.5 and "overwritten" in lost.name_note


@given(st.lists(st.tuples(st.integers(0, 0xFFFF), st.integers(0, 0xFFFF)), min_size=1, max_size=200))
def test_times_are_valid_in_rows_as_one_by_one(words: list[tuple[int, int]]) -> None:
    words += [(date, 0) for date in (0xF45C, 0xF05C, 0xF05D, 0x005D)]  # ends of February, one of 2100
    dates, times = np.array(words, np.uint16).T
    assert times_valid(dates, times).tolist() == [decode_time(*pair) is not None for pair in words]


entry_bytes = st.one_of(
    st.just(bytes(32)),
    st.builds(
        lambda name, case, date, at, attr: name.encode() + bytes([attr, case]) + bytes(9) + at + date + bytes(6),
        st.from_regex(r"[A-Z0-9_]{8}[A-Z ]{3}", fullmatch=True),
        st.sampled_from([0, 8, 0x18, 1]),
        st.sampled_from([b"\x21\x4c", b"\0\0", b"\xff\xff"]),
        st.sampled_from([b"\0\0", b"\xff\xff"]),
        st.sampled_from([0x20, 0x10, 0x80]),
    ),
    st.builds(
        lambda order, case, cluster: bytes([order]) + b"A\0" * 5 + b"\x0f" + bytes([case, 7]) + b"B\0" * 6 + cluster
        + b"C\0" * 2,
        st.sampled_from([0x41, 1, 20, 21, 0x40, 0xE5]),
        st.sampled_from([0, 0, 0, 3]),
        st.sampled_from([b"\0\0", b"\0\0", b"\1\0"]),
    ),
)  # fmt: skip


def can_be_listed(entry: bytes) -> bool:
    """Whether an entry of a table is possible, byte by byte after the specification."""
    if entry[11] & 0xC0:
        return False
    if entry[11] & 0x3F == 0x0F:
        return not entry[12] and entry[26:28] == b"\0\0" and (entry[0] == 0xE5 or 1 <= entry[0] & 0xBF <= 20)
    date, time = int.from_bytes(entry[24:26], "little"), int.from_bytes(entry[22:24], "little")
    return not entry[12] & ~0x18 and decode_time(date, time) is not None


@given(st.lists(st.lists(entry_bytes, min_size=16, max_size=16), min_size=1, max_size=6))
def test_blocks_of_folders_are_told_as_their_entries_are(blocks: list[list[bytes]]) -> None:
    expected = []
    for block in blocks:
        used = next((n for n, entry in enumerate(block) if not entry[0]), len(block))
        expected.append(used > 0 and all(map(can_be_listed, block[:used])) and not any(b"".join(block[used:])))
    assert folder_blocks(b"".join(b"".join(block) for block in blocks), 512).tolist() == expected


def record(name: str, lost: bool) -> Record:
    stem, _, extension = name.partition(".")
    short = (stem.ljust(8) + extension.ljust(3)).encode()
    shown = "_" + name[1:] if lost else name
    return Record(shown, short, lost, 32, 5, 9, None, 0, 32, first_char_lost=lost, name_sure=0.1 if lost else 1)  # type: ignore[arg-type]


def test_lost_first_characters_come_from_the_series() -> None:
    here = [record("FRN00001.JPG", False), record("FRN00002.JPG", True), record("README.TXT", True)]
    there = [record("FRN00009.MP4", True), record("GRN00009.MP4", False)]
    settle_lost_characters([here, there])
    assert [r.name for r in here] == ["FRN00001.JPG", "FRN00002.JPG", "_EADME.TXT"]
    assert "worked out" in here[1].name_note and 0.5 < here[1].name_sure < 1
    assert here[2].name_sure < 0.2 and "lost" in here[2].name_note
    assert there[0].name == "GRN00009.MP4", "its own folder counts before the rest of the volume"


def small_volume(path: Path) -> FatWriter:
    image = RawImage(path, 36 << 20)
    writer = FatWriter(image, plan(0, 36 << 20, 32, 512), "CARD", 7, NOON)
    writer.make_folder("A/B", NOON)
    for n in range(6):
        writer.store(f"A/B/core section {n}.txt", 3000, [b"firn " * 600], NOON)
    writer.flush()
    return writer


def entries_of(path: Path) -> tuple[list[Entry], list[str]]:
    with open_medium(path) as medium:
        volume = open_fat(medium, Extent(0, medium.size))
        if volume is None:
            return [], []
        volume.used_and_free()
        entries = list(volume.entries())
        for entry in entries:
            for placement in entry.placements:
                volume.conflicts(placement.extents)
        return entries, volume.health


@pytest.mark.parametrize("damage", ["loop", "outside", "boot", "fat 1", "folder loop"])
def test_damage_costs_findings_but_never_hangs(tmp_path: Path, damage: str) -> None:
    path = tmp_path / "v.img"
    writer = small_volume(path)
    geometry, image = writer.geometry, writer.image
    node = writer.find("A/B/core section 3.txt")
    assert node is not None
    first = node.runs[0][0]
    both = [geometry.fat(copy).offset for copy in range(2)]
    if damage == "loop":  # the chain of one file comes back to its start
        for fat in both:
            image.write(fat + (first + 2) * 4, first.to_bytes(4, "little"))
    elif damage == "outside":
        for fat in both:
            image.write(fat + first * 4, (0x0ABCDEF0).to_bytes(4, "little"))
    elif damage == "boot":
        image.write(0, bytes(512))
    elif damage == "fat 1":
        image.write(geometry.fat(0).offset, bytes(geometry.fat(0).length))
    else:  # a folder entry that names its own grandparent
        record = writer.record(writer.find("A/B"))[-1]  # type: ignore[arg-type]
        image.write(record.end - 6, writer.find("A").runs[0][0].to_bytes(2, "little"))  # type: ignore[union-attr]
    entries, health = entries_of(path)
    by_name = {e.name: e for e in entries}
    if damage in ("loop", "outside"):
        notes = by_name["core section 3.txt"].notes
        assert ("loop" in notes[0]) if damage == "loop" else ("leaves the volume" in notes[0])
        assert not by_name["core section 4.txt"].notes
    elif damage == "folder loop":
        assert "core section 0.txt" not in by_name and "B" in by_name
    else:
        assert len(by_name) == 8 and health
        assert ("backup" in health[0]) if damage == "boot" else ("copy 2" in health[0])


@settings(max_examples=40)
@given(first=st.integers(0, 60), count=st.integers(1, 40), fill=st.sampled_from([0, 7, 255]))
def test_what_drivers_cannot_follow_in_the_first_fat_is_damaged(
    tmp_path_factory: pytest.TempPathFactory, first: int, count: int, fill: int
) -> None:
    """Also where the whole table has to be taken from the copy; what keeps all its entries stays as it is."""
    path = tmp_path_factory.mktemp("fat-1") / "v.img"
    writer = small_volume(path)
    table = writer.geometry.fat(0).offset
    standing = np.frombuffer(writer.image.read(table, 4 * (first + count)), "<u4") & 0x0FFFFFFF
    writer.image.write(table + 4 * first, bytes([fill]) * (4 * count))
    struck = {n for n in range(first, first + count) if not (fill == 255 and standing[n] >= 0x0FFFFFF8)}
    seen = set()
    for entry in entries_of(path)[0]:
        node = None if entry.folder else writer.find("/".join(entry.path))
        if node is not None:
            own = {cluster for start, length in node.runs for cluster in range(start, start + length)}
            assert entry.damaged == bool(own & struck), entry.path
            seen.add(entry.damaged)
            assert [list(place.extents) for place in entry.placements] == [list(writer.extents(node))]
    assert len(seen) > 0


@settings(max_examples=60)
@given(
    st.lists(st.tuples(st.integers(0, 3 << 20), st.binary(min_size=1, max_size=64)), min_size=1, max_size=40),
    st.booleans(),
)
def test_hostile_bytes_never_raise(
    tmp_path_factory: pytest.TempPathFactory, writes: list[tuple[int, bytes]], near_start: bool
) -> None:
    path = tmp_path_factory.mktemp("hostile") / "v.img"
    image = small_volume(path).image
    targets = [0, 512, 32 * 512, image_data_start(path)]
    for offset, data in writes:
        image.write(targets[offset % 4] + offset % 2048 if near_start else offset, data)
    entries_of(path)


def image_data_start(path: Path) -> int:
    with open_medium(path) as medium:
        volume = open_fat(medium, Extent(0, medium.size))
        return volume.data.offset if volume else 1 << 20
