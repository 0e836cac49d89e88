"""The exFAT reader: what deletions leave, damage to every structure, and noise anywhere."""

from __future__ import annotations

import datetime as dt
import random
import time
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from sastrugi.media import Extent, open_medium
from sastrugi.media.raw import RawImage
from sastrugi.volumes.exfat.directory import parse_set, parse_table
from sastrugi.volumes.exfat.layout import decode_time, encode_time, name_hash, set_checksum, upper_name
from sastrugi.volumes.exfat.plan import plan
from sastrugi.volumes.exfat.read import open_exfat
from sastrugi.volumes.exfat.upcase import table_bytes, upcase
from sastrugi.volumes.exfat.write import ExfatWriter
from sastrugi.volumes.reader import Entry
from tests.conftest import Program
from tests.judges import assert_clean, require_drivers
from tests.test_writers import long_names

NOON = dt.datetime(2031, 2, 3, 12)
SIZE = 4 << 20


def small_volume(path: Path) -> ExfatWriter:
    """Notes in a folder, and a file in many pieces."""
    image = RawImage(path, SIZE)
    writer = ExfatWriter(image, plan(0, SIZE, 1024), "CARD", 0x20310203, NOON)
    writer.make_folder("A/B", NOON)
    dice = random.Random(3)
    for n in range(8):
        writer.store(f"A/B/core section {n}.txt", 3000, [dice.randbytes(3000)], NOON)
    for n in range(0, 8, 2):
        node = writer.find(f"A/B/core section {n}.txt")
        assert node is not None
        writer.delete(node, NOON)
    writer.store("pieces.bin", 9000, [dice.randbytes(9000)], NOON, lie=writer.reserve(9 * 1024, "first"))
    writer.flush()
    return writer


def entries_of(path: Path) -> tuple[dict[str, Entry], list[str]]:
    """Everything a scan asks a volume for."""
    with open_medium(path, 512) as medium:
        volume = open_exfat(medium, Extent(0, medium.size))
        if volume is None:
            return {}, []
        volume.used_and_free()
        list(volume.own_extents())
        entries = {"/".join(entry.path): entry for entry in volume.entries()}
        for entry in entries.values():
            for placement in entry.placements:
                volume.conflicts(placement.extents)
        return entries, volume.health


@pytest.fixture(scope="module")
def many_clusters(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, np.ndarray]:
    """A volume of 130,000 clusters, a third of them allocated in runs; and which they are, from cluster 2 on."""
    path = tmp_path_factory.mktemp("exfat") / "m.img"
    dice = np.random.default_rng(7)
    with RawImage(path, 64 << 20) as image:
        ExfatWriter(image, plan(0, 64 << 20, 512), "CARD", 1, NOON).flush()
        volume = open_exfat(image, Extent(0, image.size))
        assert volume is not None
        used = np.repeat(dice.random(volume.geometry.clusters // 9 + 1) < 0.3, 9)[: volume.geometry.clusters]
        bitmap = volume._bitmap[0]
        image.write(bitmap.offset, np.packbits(used, bitorder="little").tobytes())
    return path, used


@given(asked=st.lists(st.tuples(st.integers(0, 140_000), st.integers(0, 40_000)), max_size=12))
def test_allocated_runs_are_those_of_the_bitmap_in_whatever_order_they_are_asked_for(
    many_clusters: tuple[Path, np.ndarray], asked: list[tuple[int, int]]
) -> None:
    path, used = many_clusters
    with open_medium(path, 512) as medium:
        volume = open_exfat(medium, Extent(0, medium.size))
        assert volume is not None
        for start, length in asked:
            there = np.zeros(length, bool)
            for at, count in volume._used_runs(start, start + length):
                assert count > 0 and start <= at and at + count <= start + length
                there[at - start : at - start + count] = True
            padded = np.zeros(start + length + len(used) + 2, bool)
            padded[2 : 2 + len(used)] = used
            assert (there == padded[start : start + length]).all()


def test_a_deleted_file_in_pieces_comes_back_by_its_chain(tmp_path: Path) -> None:
    writer = small_volume(tmp_path / "v.img")
    node = writer.find("pieces.bin")
    assert node is not None and len(node.runs) > 2
    extents = writer.extents(node)
    writer.delete(node, NOON)
    writer.flush()
    entries, health = entries_of(tmp_path / "v.img")
    first = entries["pieces.bin"].placements[0]
    assert (first.extents, health) == (extents, []) and "still stands" in first.reason
    assert entries["A/B/core section 2.txt"].deleted and not entries["A/B/core section 1.txt"].deleted


def test_a_folder_that_was_moved_counts_where_it_is(tmp_path: Path) -> None:
    writer = small_volume(tmp_path / "v.img")
    writer.make_folder("C", NOON)
    writer.rename(writer.find("A/B"), "C/Moved", NOON)  # type: ignore[arg-type]
    writer.flush()
    entries, _ = entries_of(tmp_path / "v.img")
    assert not entries["C/Moved/core section 1.txt"].deleted and entries["A/B"].deleted


def damage(writer: ExfatWriter, what: str) -> None:
    image, region = writer.image, 12 * 512
    if what == "both boots":
        image.write(100, b"\xff\xff")
        image.write(region + 100, b"\xff\xff")
    elif what == "boot gone":
        image.write(0, bytes(512))
    elif what == "loop":
        chain = writer.needs(writer.find("pieces.bin"))[1:]  # type: ignore[arg-type]
        first = writer.find("pieces.bin").runs[0][0]  # type: ignore[union-attr]
        image.write(chain[1].offset, first.to_bytes(4, "little"))
    else:
        for extent in writer.structures()[what]:
            image.zero(*extent)


@pytest.mark.parametrize(
    ("what", "told", "lost"),
    [
        ("boot", "its backup", 0), ("boot gone", "its backup", 0), ("backup-boot", "", 0), ("loop", "", 0),
        ("both boots", "so is its backup's", 0), ("fat1", "root folder is damaged", 0), ("bitmap", "", 0), ("root", "bitmap cannot be found", 12),
    ],
)  # fmt: skip
def test_damage_is_told_and_costs_what_it_hits(tmp_path: Path, what: str, told: str, lost: int) -> None:
    writer = small_volume(tmp_path / "v.img")
    whole, _ = entries_of(tmp_path / "v.img")
    damage(writer, what)
    left, health = entries_of(tmp_path / "v.img")
    assert told in "; ".join(health) and bool(told) == bool(health)
    if what == "root":
        assert not left
    else:
        assert set(left) == set(whole)
    if what == "loop":
        assert "loop" in left["pieces.bin"].notes[0]


@settings(max_examples=150)
@given(st.data())
def test_noise_anywhere_ends_in_less_found(tmp_path_factory: pytest.TempPathFactory, data: st.DataObject) -> None:
    path = tmp_path_factory.mktemp("noise") / "v.img"
    writer = small_volume(path)
    places = [part for parts in writer.structures().values() for part in parts]
    places += [writer.extents(writer.find(name))[0] for name in ("A", "A/B")]  # type: ignore[arg-type]
    for _ in range(data.draw(st.integers(1, 6))):
        place = data.draw(st.sampled_from(places))
        at = data.draw(st.integers(0, min(place.length, 4096) - 1))
        noise = data.draw(st.binary(min_size=1, max_size=40))
        writer.image.write(place.offset + at, noise[: place.length - at])
    began = time.monotonic()
    entries_of(path)
    assert time.monotonic() - began < 10


@given(long_names, st.booleans())
def test_a_set_proves_itself_deleted_or_not(name: str, deleted: bool) -> None:
    from sastrugi.volumes.exfat.write import _entry_set, _label_entry

    data = bytearray(_entry_set(*blank_entries(), name))
    if deleted:
        for at in range(0, len(data), 32):
            data[at] &= 0x7F
    seen = parse_set(bytes(data))
    assert seen is not None and (seen.name, seen.deleted, seen.proven) == (name, deleted, True)
    table = _label_entry("X") + bytes(data) + bytes(64)
    assert [record.name for record in parse_table(table)] == [name]
    data[-1] ^= 1
    broken = parse_set(bytes(data))
    assert broken is None or not broken.proven


def blank_entries() -> tuple[np.ndarray, np.ndarray]:  # type: ignore[type-arg]
    from sastrugi.volumes.exfat.layout import FILE_ENTRY, STREAM_ENTRY, TYPE_FILE, TYPE_STREAM

    entry, stream = np.zeros((), FILE_ENTRY), np.zeros((), STREAM_ENTRY)
    entry["type"], stream["type"] = TYPE_FILE, TYPE_STREAM
    for when in ("created", "modified", "accessed"):
        entry[when] = encode_time(NOON)[0]
    stream["length"], stream["first_cluster"] = 9, 5
    return entry, stream


def test_the_end_of_an_overwritten_name_is_told(tmp_path: Path) -> None:
    from sastrugi.volumes.exfat.write import _entry_set

    data = bytearray(_entry_set(*blank_entries(), "Snow pit notes of the third week.docx"))
    for at in range(0, len(data), 32):
        data[at] &= 0x7F
    data[96:128] = b"\x85" + bytes(31)  # the second name entry is another set's now
    seen = parse_set(bytes(data))
    assert seen is not None and seen.name == "Snow pit notes " and seen.name_sure < 0.5


def expand_upcase(table: bytes) -> np.ndarray:
    """The 65,536 upper-case code units of a (compressed) up-case table; what it does not tell maps to itself."""
    units = np.frombuffer(table, "<u2", len(table) // 2)
    out = np.arange(1 << 16, dtype=np.uint16)
    at = n = 0
    marks = np.flatnonzero(units == 0xFFFF)
    for mark in (*marks.tolist(), len(units)):
        if mark < n:
            continue  # the count of the run before
        literal = units[n:mark][: (1 << 16) - at]
        out[at : at + len(literal)] = literal
        at += len(literal)
        if mark + 1 < len(units):
            at += int(units[mark + 1])
        n = mark + 2
        if at >= 1 << 16:
            break
    return out


def test_the_upcase_table_is_that_of_the_standard_where_it_is_fixed() -> None:
    table = expand_upcase(table_bytes())
    assert (table == upcase()).all()
    assert bytes(table[:128].astype("u1")) == bytes(range(128)).upper()
    assert upper_name("Ålbreen ıß", table).decode("utf-16-le") == "ÅLBREEN Iß"
    assert name_hash(b"") == 0


@given(st.datetimes(dt.datetime(1980, 1, 1), dt.datetime(2107, 12, 31)))
def test_times_keep_ten_milliseconds(when: dt.datetime) -> None:
    assert decode_time(*encode_time(when)) == when.replace(microsecond=when.microsecond // 10000 * 10000)


# -- files of which the end was never written -------------------------------------------------------------------------

WRITTEN = {"LOG0001.BIN": 9000, "LOG0002.BIN": 0, "LOG0003.BIN": 9000, "LOG0004.BIN": 0, "LOG0005.BIN": 4096}
UNWRITTEN_SIZE = 20_000


@pytest.fixture(scope="module")
def reserved_ahead(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A card of a logger that reserves 20,000 bytes for each file and writes fewer; two of five are deleted. Beside it
    are the files as they read."""
    folder = tmp_path_factory.mktemp("reserved")
    dice = random.Random(5)
    with RawImage(folder / "card.img", SIZE) as image:
        writer = ExfatWriter(image, plan(0, SIZE, 4096), "CARD", 7, NOON)
        for name, valid in WRITTEN.items():
            content = dice.randbytes(UNWRITTEN_SIZE)
            node = writer.store(name, UNWRITTEN_SIZE, [content], NOON)
            (record,) = writer.record(node)
            entries = bytearray(image.read(*record))
            entries[40:48] = valid.to_bytes(8, "little")
            entries[2:4] = set_checksum(bytes(entries)).to_bytes(2, "little")
            image.write(record.offset, bytes(entries))
            slot = node.first_slot * 32
            writer.root.table[slot : slot + len(entries)] = entries
            (folder / "originals").mkdir(exist_ok=True)
            (folder / "originals" / name).write_bytes(content[:valid].ljust(UNWRITTEN_SIZE, b"\0"))
        for name in ("LOG0003.BIN", "LOG0004.BIN"):
            writer.delete(writer.find(name), NOON)  # type: ignore[arg-type]
        writer.flush()
    return folder


def test_what_was_never_written_reads_as_zeros(sastrugi: Program, reserved_ahead: Path, tmp_path: Path) -> None:
    require_drivers()
    assert_clean(reserved_ahead / "card.img", "exfat")
    out = tmp_path / "card.scan"
    sastrugi("scan", reserved_ahead / "card.img", "--out", out)
    sastrugi("extract", out, "--into", tmp_path / "results", "--state", "any")
    for original in (reserved_ahead / "originals").iterdir():
        assert (tmp_path / "results" / original.name).read_bytes() == original.read_bytes(), original.name
    listed = {one["name"]: one for one in sastrugi("list", out, "--state", "any", "--json").json}
    assert [listed[name]["state"] for name in sorted(WRITTEN)] == ["live", "live", "deleted", "deleted", "live"]
    assert listed["LOG0001.BIN"]["map"][-1] == ["zeros", 11_000] and listed["LOG0002.BIN"]["map"] == [["zeros", 20_000]]
    assert any("11,000 bytes of it were never written" in reason for reason in listed["LOG0003.BIN"]["reasons"])
    assert listed["LOG0001.BIN"]["confidence"] > 0.9


def test_media_with_unwritten_ends_are_adopted_and_scored(
    sastrugi: Program, reserved_ahead: Path, tmp_path: Path
) -> None:
    image, originals = reserved_ahead / "card.img", reserved_ahead / "originals"
    sastrugi("adopt", image, "--originals", originals, "--lost", "LOG000[34].BIN", "--into", tmp_path / "s")
    sastrugi("audit", tmp_path / "s")
    sastrugi("scan", tmp_path / "s", "--out", tmp_path / "s.scan")
    by_extents = sastrugi("score", tmp_path / "s", tmp_path / "s.scan", "--out", tmp_path / "a.json", "--json").json
    sastrugi("extract", tmp_path / "s.scan", "--into", tmp_path / "results")
    by_bytes = sastrugi("score", tmp_path / "s", tmp_path / "results", "--out", tmp_path / "b.json", "--json").json
    for card in (by_extents, by_bytes):
        assert [(one["path"], one["content"], one["place"]) for one in card["files"]] == [
            ("/LOG0003.BIN", "intact", "same"), ("/LOG0004.BIN", "intact", "same"),
        ]  # fmt: skip
    told = sastrugi("explain", tmp_path / "s", tmp_path / "results", "LOG0003.BIN").out
    assert "reads as zeros" in told and "nowhere" in told


@pytest.mark.parametrize("deleted", [False, True])
def test_a_size_that_nothing_holds_is_no_hole(sastrugi: Program, tmp_path: Path, deleted: bool) -> None:
    """A record that claims a petabyte of which nothing was written keeps nobody from the other files."""
    writer = small_volume(tmp_path / "v.img")
    node = writer.find("A/B/core section 1.txt")
    assert node is not None
    (record,) = writer.record(node)
    entries = bytearray(writer.image.read(*record))
    entries[40:48], entries[56:64] = bytes(8), (1 << 50).to_bytes(8, "little")
    entries[2:4] = set_checksum(bytes(entries)).to_bytes(2, "little")
    if deleted:
        for at in range(0, len(entries), 32):
            entries[at] &= 0x7F
    writer.image.write(record.offset, bytes(entries))
    sastrugi("scan", tmp_path / "v.img", "--out", tmp_path / "v.scan")
    sastrugi("extract", tmp_path / "v.scan", "--into", tmp_path / "results", "--state", "any", code=None)
    assert (tmp_path / "results" / "A" / "B" / "core section 3.txt").stat().st_size == 3000
    assert sum(path.stat().st_size for path in (tmp_path / "results").rglob("*.txt")) < SIZE
