"""Pieces that file systems share or stand on: writing over extents, marks of sectors, names in indexes, features and
refusals of ext volumes, and the children that decode."""

from __future__ import annotations

import datetime as dt
import random
import shutil
import time
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from sastrugi.errors import VolumeError
from sastrugi.media import Extent
from sastrugi.media.filemap import FileMap
from sastrugi.media.raw import RawImage
from sastrugi.progress import Progress
from sastrugi.subprocess_pool import run_in_children
from sastrugi.volumes.ext.plan import journal_blocks
from sastrugi.volumes.metadata_scan import FIRST_FAMILY_BIT, families, loose_tables
from sastrugi.volumes.ntfs.change_journal import told_names
from sastrugi.volumes.ntfs.file_record import FileState, Named, pack_name
from sastrugi.volumes.ntfs.index import Index, Item
from sastrugi.volumes.ntfs.index_slack import names_in_blocks
from sastrugi.volumes.ntfs.layout import DOS, POSIX
from sastrugi.volumes.ntfs.system_files import order_of
from sastrugi.volumes.registry import file_systems
from tests.judges import EXT, _run, assert_clean, require_drivers
from tests.recipes import random_recipe
from tests.test_end_to_end import NAMES, carried_out
from tests.test_ext import NOON, new_disk

# -- what writers share -----------------------------------------------------------------------------------------------


@settings(max_examples=40)
@given(
    pieces=st.lists(st.tuples(st.integers(1, 9), st.integers(0, 5)), min_size=1, max_size=8), seed=st.integers(0, 1 << 32),
    skip=st.integers(0, 3000), cuts=st.lists(st.integers(0, 1500), max_size=6), grain=st.sampled_from([512, 1024, 4096]),
)  # fmt: skip
def test_content_is_written_over_a_row_of_extents(
    tmp_path_factory: pytest.TempPathFactory,
    pieces: list[tuple[int, int]],
    seed: int,
    skip: int,
    cuts: list[int],
    grain: int,
) -> None:
    """In chunks of any length, from any byte on: what was announced stands there, then zeros to the end of a grain, and
    around it all is as it was; more or less than was announced is refused."""
    dice = random.Random(seed)
    disk = new_disk(tmp_path_factory.mktemp("fill") / "v.img", "ext2", 1024, 4 << 20)
    at, extents = 2 << 20, []
    for count, gap in pieces:
        extents.append(Extent(at, count * 1024))
        at += (count + gap) * 1024
    room = sum(extent.length for extent in extents)
    before = dice.randbytes(at - (2 << 20))
    disk.image.write(2 << 20, before)
    chunks = [dice.randbytes(cut) for cut in cuts]
    size = sum(map(len, chunks))
    if skip + size > room:
        disk.image.close()
        return
    disk.writer.fill("a.bin", extents, size, iter(chunks), skip, grain)
    whole = bytearray(FileMap.of(extents).read(disk.image, 0, room))
    then = b"".join(before[e.offset - (2 << 20) : e.end - (2 << 20)] for e in extents)
    end = min(-(-(skip + size) // grain) * grain, room) if (skip + size) % grain else skip + size
    assert bytes(whole[skip : skip + size]) == b"".join(chunks) and not any(whole[skip + size : end])
    assert bytes(whole[:skip]) == then[:skip] and bytes(whole[end:]) == then[end:]
    for wrong in (size + 1, size - 1) if size else (1,):
        with pytest.raises(VolumeError, match="were announced"):
            disk.writer.fill("a.bin", extents, wrong, iter(chunks), skip, grain)
    disk.image.close()


@settings(max_examples=40)
@given(
    runs=st.lists(st.tuples(st.integers(0, 3), st.integers(1, 30), st.integers(0, 9)), max_size=25),
    chunk=st.integers(1, 64),
)
def test_marks_of_sectors_make_the_same_tables_however_they_are_cut(
    tmp_path_factory: pytest.TempPathFactory, runs: list[tuple[int, int, int]], chunk: int
) -> None:
    """Sectors of one family in a row are one table; those of families that put volumes together themselves are told."""
    names = list(families())
    marks = np.zeros(1 + sum(count + gap for _, count, gap in runs), np.uint16)
    at, expected = 0, []
    for family, count, gap in runs:
        marks[at : at + count] |= np.uint16(1 << (FIRST_FAMILY_BIT + family % len(names)))
        expected.append((names[family % len(names)], at, count))
        at += count + gap
    image = RawImage(tmp_path_factory.mktemp("marks") / "m.img", len(marks) * 512)
    others: dict[str, object] = {}
    parts = [(n * 512, marks[n : n + chunk]) for n in range(0, len(marks), chunk)]
    found = sorted((table.family, table.offset, len(table.data)) for table in loose_tables(image, parts, others))  # type: ignore[arg-type]
    joined: list[tuple[str, int, int]] = []
    for name, first, count in expected:
        if joined and joined[-1][0] == name and joined[-1][1] + joined[-1][2] == first:
            joined[-1] = (name, joined[-1][1], joined[-1][2] + count)
        else:
            joined.append((name, first, count))
    tables = [
        (name, 512 * first, 512 * count) for name, first, count in joined if file_systems()[name].lives is not None
    ]
    assert found == sorted(tables)
    told = {name: list(places) for name, places in others.items()}  # type: ignore[call-overload]
    alone = [
        (name, 512 * n)
        for name, first, count in joined
        if file_systems()[name].lives is None
        for n in range(first, first + count)
    ]
    assert told == {name: [at for own, at in alone if own == name] for name in {own for own, _ in alone}}
    image.close()


# -- names of NTFS ----------------------------------------------------------------------------------------------------


@settings(max_examples=25)
@given(seed=st.integers(0, 1 << 32), harm=st.booleans())
def test_names_in_blocks_of_an_index(tmp_path_factory: pytest.TempPathFactory, seed: int, harm: bool) -> None:
    """Every name that stands is told with file and folder, and some that were taken out; of damaged blocks less."""
    dice = random.Random(seed)
    index, there, ever = Index(4096, 300, 1), {}, {}
    for n in range(160):
        name = f"stake {dice.randrange(10**6)} of the upper basin.csv"
        if name in ever:
            continue
        state = FileState(100 + n, 1 + n % 5, False, NOON, NOON, NOON, NOON)
        named = Named(40 | 2 << 48, name, dice.choice([POSIX, POSIX, DOS]))
        index.insert(Item(order_of(name), pack_name(state, named), state.reference))
        ever[name] = there[name] = (state.reference, named.space)
        if dice.random() < 0.3:
            gone = dice.choice(sorted(there))
            index.remove(order_of(gone))
            del there[gone]
    image = RawImage(tmp_path_factory.mktemp("index") / "i.img", max(index.length, 4096))
    for vcn, block in index.blocks.items():
        image.write(vcn * 4096, index.block_bytes(block))
    if harm:
        for _ in range(30):
            image.write(dice.randrange(image.size - 4), dice.randbytes(4))
    told = names_in_blocks(image, [Extent(0, image.size)], 4096)
    in_root = {item.reference for item in index.root.items}
    if not harm:
        standing = {ref: name for name, (ref, space) in there.items() if space != DOS and ref not in in_root}
        assert standing.items() <= {ref: name for ref, (name, _) in told.items()}.items()
        assert all(ever[name][0] == ref and parent == 40 | 2 << 48 for ref, (name, parent) in told.items())
    assert len(told) <= len(ever) + 40
    image.close()


@settings(max_examples=40)
@given(data=st.binary(max_size=300), times=st.integers(1, 60), at=st.integers(0, 4096))
def test_any_bytes_are_read_as_a_journal_of_changes(
    tmp_path_factory: pytest.TempPathFactory, data: bytes, times: int, at: int
) -> None:
    image = RawImage(tmp_path_factory.mktemp("journal") / "j.img", 64 << 10)
    image.write(at, (data * times)[: image.size - at])
    for name, parent in told_names(image, FileMap.of((Extent(0, image.size),))).values():
        assert name and "/" not in name and parent >= 0
    image.close()


# -- features and refusals of ext -------------------------------------------------------------------------------------

FEATURES = {
    ("ext2", "linux"): {"ext_attr", "filetype", "sparse_super", "large_file"},
    ("ext3", "old-linux"): {"has_journal", "ext_attr", "dir_index", "filetype", "sparse_super", "large_file"},
    ("ext4", "linux"): {"has_journal", "dir_index", "extent", "64bit", "flex_bg", "metadata_csum", "extra_isize", "huge_file", "dir_nlink"},
    ("ext4", "old-linux"): {"has_journal", "dir_index", "extent", "flex_bg", "uninit_bg", "extra_isize", "huge_file", "dir_nlink"},
}  # fmt: skip


@pytest.mark.drivers
@pytest.mark.parametrize(("variant", "habits"), FEATURES)
def test_the_system_sees_the_features_of_its_time(tmp_path: Path, variant: str, habits: str) -> None:
    require_drivers()
    disk = new_disk(tmp_path / "v.img", variant, 1024, 40 << 20, habits)
    disk.volume()
    rows = (line.partition(":") for line in _run("dumpe2fs", "-h", str(disk.image.path)).stdout.decode().splitlines())
    told = {key: value.strip() for key, _, value in rows}
    features = set(told["Filesystem features"].split())
    assert features >= FEATURES[variant, habits]
    assert ("metadata_csum" in features, "64bit" in features) == ((variant, habits) == ("ext4", "linux"),) * 2
    assert told["Filesystem volume name"] == "BASE" and told["Filesystem state"] == "clean"
    small = variant == "ext2" or (variant == "ext3" and habits == "old-linux")
    assert int(told["Inode size"]) == (128 if small else 256)
    assert ("Journal inode" in told) == (variant != "ext2") and journal_blocks(40 << 10) == 4096
    assert told["Free blocks"] == str(disk.writer.clusters.free)


def test_what_an_ext_volume_refuses(tmp_path: Path) -> None:
    disk = new_disk(tmp_path / "v.img", "ext4", 1024, 16 << 20)
    disk.writer.make_folder("A/B", NOON)
    disk.store("A/core.bin", b"firn")
    refused = {
        "has files in it": lambda: disk.writer.delete(disk.find("A"), NOON),
        "a file of it is no folder": lambda: disk.writer.make_folder("A/core.bin/C", NOON),
        "into itself": lambda: disk.writer.rename(disk.find("A"), "A/B/C", NOON),
        "the root": lambda: disk.writer.rename(disk.writer.root, "X", NOON),
        "a link of a folder": lambda: disk.writer.link(disk.find("A"), "Z", NOON),
        "a name that is there": lambda: disk.writer.link(disk.find("A/core.bin"), "A/B", NOON),
        "the volume's own folder": lambda: disk.writer.make_folder("lost+found", NOON),
        "a label": lambda: new_disk(tmp_path / "w.img", "ext4", 1024).writer._format("a label of too many bytes", NOON),
    }
    for call in refused.values():
        with pytest.raises(VolumeError):
            call()
    for n in range(3):  # names as long as can be, of characters that take two bytes
        disk.store(f"A/{'å' * 127}{n}", b"ice")
    disk.volume()
    require_drivers()
    assert_clean(disk.image.path, "ext4")


@pytest.mark.parametrize("variant", EXT)
def test_a_full_volume_says_so_and_stays_sound(tmp_path: Path, variant: str) -> None:
    """Until nothing more fits; what was stored is there, and there is room again where something went."""
    require_drivers()
    disk = new_disk(tmp_path / "v.img", variant, 1024, 6 << 20)
    with pytest.raises(VolumeError, match="full"):
        for n in range(10_000):
            disk.store(f"stake {n}.bin", bytes([n % 251]) * 40_000)
    disk.content.popitem()
    for path in sorted(disk.content)[:3]:
        disk.delete(path)
    disk.store("again.bin", b"a" * 90_000)
    live = {
        e.full_path[1:]: b"".join(e.map.chunks(disk.image))
        for e in disk.volume().entries()
        if not e.folder and not e.deleted
    }
    assert live == disk.content
    assert_clean(disk.image.path, variant)
    names = [f"A folder {n} for the long names of the upper accumulation basin/{'x' * 200}" for n in range(3)]
    for name in names:
        disk.writer.make_folder(name, disk.tick())
    disk.volume()
    assert_clean(disk.image.path, variant)


def test_a_name_whose_entry_grew_shorter_counts_as_standing(tmp_path: Path) -> None:
    """A file with unreadable sectors is lost to its user, but its volume goes on writing the block its name stands in."""
    ran = carried_out(random_recipe(1099, "ext4"), tmp_path)
    assert not ran.extracted.beyond_ceiling
    for score in ran.extracted.files:
        assert score.content == "foreign" or NAMES.index(score.name) <= NAMES.index(score.ceiling_name), score.path
    shutil.rmtree(tmp_path / "s")


# -- children ---------------------------------------------------------------------------------------------------------


def hesitant(path: Path) -> str:
    """What a file takes of a child's time; a module that is slow to load is none of its doing."""
    if path.name == "slow":
        time.sleep(30)
    return f"{path.name} at {dt.date(2031, 2, 3)}"


def test_the_time_a_child_needs_to_start_is_not_a_files(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    (tmp_path / "starts_slowly.py").write_text(
        "import time\ntime.sleep(2.5)\nfrom tests.test_volume_pieces import hesitant\n"
    )
    monkeypatch.syspath_prepend(str(tmp_path))
    outcomes = run_in_children(
        "starts_slowly:hesitant", [Path("one"), Path("slow"), Path("two")], Progress(), seconds=1.5
    )
    assert [o.value for o in outcomes] == ["one at 2031-02-03", None, "two at 2031-02-03"]
    assert "longer than" in outcomes[1].problem
