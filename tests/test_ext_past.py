"""ext volumes of every shape, what their journals tell of any history, and recipes that lay them down and lose them."""

from __future__ import annotations

import datetime as dt
import hashlib
import random
import subprocess
from pathlib import Path

import numpy as np
import pytest
from hypothesis import HealthCheck, assume, given, settings
from hypothesis import strategies as st

from sastrugi.errors import VolumeError
from sastrugi.media import Extent, RangeSet, open_medium
from sastrugi.media.filemap import FileMap
from sastrugi.media.raw import RawImage
from sastrugi.progress import Progress
from sastrugi.recovery.scan import scan
from sastrugi.recovery.scan_file import ScanFile
from sastrugi.report.evidence import reasons
from sastrugi.volumes.ext import lists as block_lists
from sastrugi.volumes.ext.earlier import earlier_volumes
from sastrugi.volumes.ext.groups import Groups
from sastrugi.volumes.ext.journal_layout import JOURNAL_SUPERBLOCK, SUMS_3, WIDE_NUMBERS
from sastrugi.volumes.ext.journal_read import pending_blocks
from sastrugi.volumes.ext.journal_write import JournalWriter
from sastrugi.volumes.ext.layout import geometry_of, superblock_sum
from sastrugi.volumes.ext.lists import BlockLists, list_sectors
from sastrugi.volumes.ext.opening import open_ext, starts
from sastrugi.volumes.ext.peek import peek
from sastrugi.volumes.ext.plan import plan
from sastrugi.volumes.ext.sector_tests import folder_sectors
from sastrugi.volumes.ext.write import ExtWriter
from sastrugi.volumes.metadata_scan import heads_of, loose_tables, marked
from sastrugi.volumes.probing import probe
from tests.conftest import Program
from tests.disks import NOON, Disk
from tests.judges import EXT, assert_clean, require_drivers
from tests.losses import DROPPED, USED_ON, damage, deletion, emptied_bin, lay_down_search_and_score
from tests.test_ext import SEED, UUID, new_disk
from tests.test_kinds import sample
from tests.test_relics import came_back

# -- geometries -------------------------------------------------------------------------------------------------------


@pytest.mark.drivers
@settings(max_examples=15)
@given(
    variant=st.sampled_from(EXT), size=st.integers(64 << 10, 90 << 20), power=st.sampled_from([10, 11, 12]),
    habits=st.sampled_from(["linux", "old-linux"]),
)  # fmt: skip
def test_any_volume_is_one_for_the_checker(
    tmp_path_factory: pytest.TempPathFactory, variant: str, size: int, power: int, habits: str
) -> None:
    """Any size and block: a volume without a fault that holds a file, and is told by its superblock and every copy of
    that; or a reason why it cannot be."""
    require_drivers()
    try:
        geometry = plan(variant, 0, size, 1 << power, 512, habits, UUID, SEED)  # type: ignore[arg-type]
        image = RawImage(tmp_path_factory.mktemp("any") / "v.img", size)
        disk = Disk(image, ExtWriter(image, geometry, variant, "ANY", NOON, habits), open_ext)  # type: ignore[arg-type]
        disk.store("core.bin", b"firn" * 700)
    except VolumeError as error:
        assert any(words in str(error) for words in ("at least", "too few", "full"))
        return
    volume = disk.volume()
    assert_clean(image.path, variant)
    assert volume.mountable and not volume.health and volume.file_system in (variant, "ext2")  # too small for a journal
    places = [1024] + [geometry.at(geometry.group_start(n)) for n in range(1, geometry.groups) if geometry.has_copy(n)]
    for at in places:
        data = image.read(at, 1024)
        told = geometry_of(data, 0)
        assert told is not None and (told.block, told.blocks, told.group_inodes, told.inode) == (
            geometry.block, geometry.blocks, geometry.group_inodes, geometry.inode
        )  # fmt: skip
        assert (0, at != 1024) in starts(image, at)
        assert not geometry.checksums or int.from_bytes(data[1020:], "little") == superblock_sum(data)
    used, free = volume.used_and_free()
    assert used + free == (geometry.blocks - geometry.first) * geometry.block and free == disk.writer.room
    image.zero(0, 2048)
    assert (probe(image, Extent(0, size)) is not None) == (len(places) > 1)
    image.close()


@given(wanted=st.lists(st.tuples(st.integers(0, 3), st.booleans(), st.booleans()), max_size=120))
def test_inodes_are_given_out_once(
    tmp_path_factory: pytest.TempPathFactory, wanted: list[tuple[int, bool, bool]]
) -> None:
    """Each to one file at a time, the lowest of its group first."""
    disk = new_disk(tmp_path_factory.mktemp("inodes") / "v.img", "ext4", 1024, 33 << 20)
    groups: Groups = disk.writer.groups
    taken: list[tuple[int, bool]] = []
    for near, folder, give_back in wanted:
        if give_back and taken:
            groups.free_inode(*taken.pop(len(taken) // 2))
            continue
        number = groups.take_inode(near, folder)
        assert number not in {other for other, _ in taken} and number > 11
        taken.append((number, folder))
    block, at = groups.inode_place(12)
    assert at % 256 == 0 and disk.writer.geometry.at(block) + at == disk.volume().tables.place(12)
    disk.image.close()


# -- histories --------------------------------------------------------------------------------------------------------


@settings(max_examples=12)
@given(
    seed=st.integers(0, 1 << 32),
    variant=st.sampled_from(["ext3", "ext4"]),
    habits=st.sampled_from(["linux", "old-linux"]),
)
def test_any_history_is_told(tmp_path_factory: pytest.TempPathFactory, seed: int, variant: str, habits: str) -> None:
    """Files that come, grow, move, get other content and go, in folders that move and go: while nothing went round in
    the journal, each that went is told as it was last, under its last path, and what is live is told as live."""
    dice = random.Random(seed)
    disk = new_disk(tmp_path_factory.mktemp("history") / "v.img", variant, 1024, 64 << 20, habits)
    folders = ["", *(disk.writer.make_folder(name, disk.tick()).path[1:] for name in ("A", "A/B", "C"))]
    gone: dict[str, bytes] = {}
    lay: dict[str, tuple[Extent, ...]] = {}
    """Where those lay whose blocks nobody was given since."""
    for n in range(dice.randrange(10, 70)):
        do, path = dice.choice(["store", "store", "grow", "move", "delete", "rewrite", "folder"]), ""
        if disk.content:
            path = dice.choice(sorted(disk.content))
        if do == "store" or not path:
            where = dice.choice(folders)
            disk.store(f"{where}/file {n}.bin".lstrip("/"), dice.randbytes(dice.choice([1, 900, 5000, 40_000])))
        elif do == "grow":
            more = dice.randbytes(dice.choice([10, 3000]))
            disk.writer.grow(disk.find(path), len(more), [more], disk.tick())
            disk.content[path] += more
        elif do == "rewrite":
            disk.content[path] = dice.randbytes(dice.choice([1, 2000, 20_000]))
            content = disk.content[path]
            disk.writer.rewrite(disk.find(path), len(content), [content], disk.tick(), dice.random() < 0.5)
        elif do == "move":
            to = f"{dice.choice(folders)}/moved {n}.bin".lstrip("/")
            disk.writer.rename(disk.find(path), to, disk.tick())
            disk.content[to] = disk.content.pop(path)
        elif do == "delete":
            gone[path], lay[path] = disk.content[path], disk.writer.extents(disk.find(path))
            disk.delete(path, habits)
        elif "C" in folders and not any(one.startswith("C/") for one in disk.content):
            folders.remove("C")
            disk.writer.delete(disk.find("C"), disk.tick(), habits)  # type: ignore[arg-type]
        nodes = [disk.writer.root, *disk.writer.walk()]
        taken = RangeSet(part for node in nodes for part in (*disk.writer.extents(node), *disk.writer.needs(node)))
        lay = {path: parts for path, parts in lay.items() if not any(taken.overlap(part) for part in parts)}
    volume = disk.volume()
    live = {
        e.full_path[1:]: b"".join(e.map.chunks(disk.image)) for e in volume.entries() if not e.folder and not e.deleted
    }
    assert live == disk.content
    told = {e.full_path[1:]: e for e in volume.history()}
    assert told.keys() == gone.keys(), sorted(told.keys() ^ gone.keys())
    assert all(told[path].size == len(content) for path, content in gone.items())
    assert {path: b"".join(told[path].map.chunks(disk.image)) for path in lay} == {path: gone[path] for path in lay}
    disk.image.close()


@settings(max_examples=30)
@given(
    counts=st.lists(st.integers(1, 6), min_size=1, max_size=12), features=st.sampled_from([0, WIDE_NUMBERS, SUMS_3 | WIDE_NUMBERS]),
    seed=st.integers(0, 1 << 32), cut=st.booleans(),
)  # fmt: skip
def test_what_a_driver_would_write_back(
    tmp_path_factory: pytest.TempPathFactory, counts: list[int], features: int, seed: int, cut: bool
) -> None:
    """From some transaction on: the newest copy of each block, but for those that were revoked later, and for a last
    transaction that was never committed."""
    dice, length = random.Random(seed), 200
    image = RawImage(tmp_path_factory.mktemp("journal") / "j.img", length * 1024)
    writer = JournalWriter(length, 1024, UUID, features, lambda at, data: image.write(at * 1024, data))
    first, start, expected = dice.randrange(len(counts)), 1, {}
    for n, count in enumerate(counts):
        if n == first:
            start = writer.turn + 1
        blocks = {dice.randrange(1, 40): dice.randbytes(1024) for _ in range(count)}
        revoked = sorted({dice.randrange(1, 40) for _ in range(dice.choice([0, 2]))} - blocks.keys())
        copies = writer.write(blocks, revoked, NOON)
        if n >= first and not (cut and n == len(counts) - 1):
            expected = {number: at for number, at in expected.items() if number not in revoked}
            expected |= {number: copy.at * 1024 for number, copy in copies.items()}
    if cut:  # its commit block never came
        image.write((writer.turn if writer.turn < length else 1) * 1024, bytes(1024))
    head = np.frombuffer(writer.superblock(), JOURNAL_SUPERBLOCK, 1).copy()
    head["start"], head["sequence"] = start, first + 1
    image.write(0, head.tobytes())
    assert pending_blocks(image, FileMap.of((Extent(0, length * 1024),)), 1024, 5000) == expected
    image.write(0, writer.superblock())
    assert not pending_blocks(image, FileMap.of((Extent(0, length * 1024),)), 1024, 5000)
    image.close()


def test_a_tree_of_extents_is_followed_after_the_deletion(tmp_path: Path) -> None:
    """The inode's copy names blocks of the tree: they stand where they stood, as a driver forgets what it changed there."""
    disk = new_disk(tmp_path / "v.img", "ext4", 1024, 24 << 20)
    taken = disk.writer.extent_runs(disk.writer.reserve(260 * 1024))
    every = [start + n for start, count in taken for n in range(count)]
    lie, rest = [(n, 1) for n in every[::2]], [(n, 1) for n in every[1::2]]
    disk.writer.clusters.release(rest)
    disk.writer.groups.count(rest, 1)
    content = random.Random(4).randbytes(130 * 1024 - 7)
    node = disk.store("in pieces.bin", content, disk.writer.run_extents(lie))
    assert len(node.file.tree) == 2, "more than one block of a tree"
    disk.delete("in pieces.bin")
    (entry,) = disk.volume().history()
    assert b"".join(entry.map.chunks(disk.image)) == content and len(entry.map.stored) == 130
    assert not node.file.tree and not node.file.runs
    disk.image.close()


# -- formats ----------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("block", [1024, 4096])
def test_what_a_format_leaves(tmp_path: Path, block: int) -> None:
    """Inodes behind the few that are zeroed, names from folders' blocks, places as they were."""
    disk = new_disk(tmp_path / "v.img", "ext4", block, 64 << 20)
    disk.writer.make_folder("Season/Week 1/Notes", NOON)
    for n in range(60):
        disk.store(f"Season/Week 1/{('', 'Notes/')[n % 2]}core {n}.bin", random.Random(n).randbytes(100 + 700 * n))
    disk.volume()
    geometry = plan("ext4", 0, disk.image.size, block, 512, "linux", bytes(16), SEED)
    ExtWriter(disk.image, geometry, "ext4", "NEW", NOON + dt.timedelta(days=1), "linux").flush()
    volume = open_ext(disk.image, Extent(0, disk.image.size))
    assert volume is not None and not [e for e in volume.entries() if not e.folder] and not list(volume.history())
    others: dict[str, object] = {}
    list(loose_tables(disk.image, marked(disk.image, [Extent(0, disk.image.size)]), others))  # type: ignore[arg-type]
    (found,) = earlier_volumes(disk.image, others["ext"], [volume], lambda name, at: None)  # type: ignore[arg-type]
    told = {e.full_path: b"".join(e.map.chunks(disk.image)) for e in found.entries()}
    zeroed = block // 256 - 14  # inodes of the first block of the table that files had
    assert len(told) >= len(disk.content) - max(zeroed, 0) - 4
    whole = {path for path, content in told.items() if content in disk.content.values()}
    assert len(whole) >= 0.9 * len(told)
    names = {path.rpartition("/")[2] for path in whole}
    assert names <= {path.rpartition("/")[2] for path in disk.content} and len(names) > 40
    assert found.told_by.endswith("inodes") and all(e.deleted for e in found.entries())
    disk.image.close()


@given(st.binary(min_size=512, max_size=512))
def test_few_sectors_begin_a_folder(data: bytes) -> None:
    sectors = np.frombuffer(data, "u1").reshape(1, -1).copy()
    assert not folder_sectors(sectors, heads_of(sectors))[0] or data[8:9] == b"."
    own = (
        (12).to_bytes(4, "little")
        + b"\x0c\0\x01\x02.\0\0\0"
        + (2).to_bytes(4, "little")
        + data[16:18]
        + b"\x02\x02..\0\0"
    )
    sectors[0, : len(own)] = np.frombuffer(own, "u1")
    assert folder_sectors(sectors, heads_of(sectors))[0]


@settings(max_examples=60)
@given(data=st.binary(max_size=600), cut=st.integers(0, 300), block=st.sampled_from([1024, 4096]))
def test_any_record_is_looked_at(data: bytes, cut: int, block: int) -> None:
    where = (Extent(0, cut), Extent(5000, max(len(data) - cut, 0))) if cut else (Extent(0, len(data)),)
    seen = peek("ext4", data, where, 1024, block)
    assert seen is None or (seen.size >= 0 and "/" not in seen.name)


# -- recipes ----------------------------------------------------------------------------------------------------------

LOSSES = {
    "deleted": ("ext4", "1 KiB", "linux", deletion("linux")),
    "deleted before 2021": ("ext3", "4 KiB", "old-linux", deletion("old-linux")),
    "deleted by the old driver": ("ext2", "1 KiB", "old-linux", deletion("old-linux")),
    "binned": ("ext4", "4 KiB", "linux", emptied_bin("linux")),
    "partition": ("ext3", "1 KiB", "linux", DROPPED),
    "superblock": ("ext4", "1 KiB", "linux", damage("superblock")),
    "descriptors": ("ext2", "1 KiB", "linux", damage("descriptors")),
    "inodes": ("ext4", "4 KiB", "linux", damage("inodes")),
    "formatted": (
        "ext4",
        "4 KiB",
        "linux",
        '{do = "format", volume = "logs", file_system = "ext4", cluster = "4 KiB"}',
    ),
    "used on": ("ext4", "1 KiB", "linux", f"{deletion('linux')}, {USED_ON}"),
}


@pytest.mark.parametrize("loss", LOSSES)
def test_every_loss_is_laid_down_searched_and_scored(sastrugi: Program, tmp_path: Path, loss: str) -> None:
    table, spared = "gpt" if len(loss) % 2 else "mbr", 8 if loss in ("formatted", "used on") else 0
    lay_down_search_and_score(sastrugi, tmp_path, *LOSSES[loss], table, len(loss), spared)


def test_a_text_over_a_list_of_blocks_is_put_together(sastrugi: Program, tmp_path: Path) -> None:
    """On ext2 a list of blocks stands among a text's own; nothing else tells of the file any more."""
    disk = new_disk(tmp_path / "v.img", "ext2", 1024, 16 << 20)
    text = "".join(f"{n:06d} wind from the east, {n % 17} m/s, drift at the upper stake\n" for n in range(900)).encode()
    disk.store("before.csv", b"1,2\n" * 300)
    node = disk.store("wind.txt", text)
    places = disk.writer.extents(node)
    disk.delete("wind.txt")
    disk.volume()
    assert len(places) > 1
    sastrugi("scan", disk.image.path, "--out", tmp_path / "v.scan")
    with ScanFile.open(tmp_path / "v.scan") as scan:
        found = [f for f in scan.findings("state != 'live'") if f.map.start == places[0].offset]
        assert [b"".join(f.map.chunks(disk.image)) for f in found] == [text]
        assert "by a list" in " ".join(reasons(found[0].evidence))


# -- lists of blocks that outlive their volume ------------------------------------------------------------------------


def without_a_volume(image: Path, source: Path) -> tuple[int, set[str]]:
    """Wipe all that a volume keeps for itself; the files of a folder that a scan brings back whole, by name."""
    with open_medium(image) as medium:
        volume = open_ext(medium, Extent(0, medium.size))
        assert volume is not None
        own = [extent for _, extent in volume.own_extents()]
    with image.open("r+b") as file:
        for offset, length in own:
            file.seek(offset)
            file.write(bytes(length))
    with open_medium(image) as medium:
        scan(medium, image.with_suffix(".scan"), Progress())
    found = set(came_back(image.with_suffix(".scan"), image))
    wanted = {hashlib.sha256(path.read_bytes()).hexdigest(): path.name for path in source.iterdir()}
    return len(wanted), {wanted[digest] for digest in found if digest in wanted}


@pytest.fixture(scope="module")
def pictures(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Files of kinds that end by themselves, most of them larger than twelve blocks."""
    folder = tmp_path_factory.mktemp("pictures")
    for n, kind in enumerate(["png", "zip", "jpeg", "gz", "wav", "csv"] * 2):
        (folder / f"{n}.{kind}").write_bytes(sample(kind, 9_000 + n * n * 6_000))
    return folder


@pytest.mark.parametrize("block", [1024, 4096])
def test_a_list_of_blocks_tells_a_file_of_a_volume_that_is_gone(tmp_path: Path, pictures: Path, block: int) -> None:
    disk = new_disk(tmp_path / "v.img", "ext2", block, 24 << 20)
    for path in sorted(pictures.iterdir()):
        disk.store(path.name, path.read_bytes())
    disk.writer.flush()
    disk.image.close()
    count, back = without_a_volume(tmp_path / "v.img", pictures)
    assert (count, sorted(path.name for path in pictures.iterdir() if path.name not in back)) == (12, [])


@pytest.mark.drivers
@pytest.mark.parametrize(("file_system", "block"), [("ext2", 1024), ("ext3", 4096)])
def test_lists_that_the_systems_tool_wrote_tell_files_of_a_volume_that_is_gone(
    tmp_path: Path, pictures: Path, file_system: str, block: int
) -> None:
    """mke2fs fills a volume as the older drivers do, a list behind the first twelve blocks (today's driver puts lists
    elsewhere, so that larger files lie in one piece)."""
    require_drivers()
    words = [
        "-t",
        file_system,
        "-b",
        str(block),
        "-E",
        "nodiscard",
        "-d",
        str(pictures),
        str(tmp_path / "v.img"),
        "24M",
    ]
    subprocess.run(["mke2fs", "-q", "-F", *words], check=True, capture_output=True)
    count, back = without_a_volume(tmp_path / "v.img", pictures)
    assert (count, sorted(path.name for path in pictures.iterdir() if path.name not in back)) == (12, [])


@given(seed=st.integers(0, 1 << 32), full=st.floats(0, 1))
@settings(suppress_health_check=[HealthCheck.function_scoped_fixture])
def test_no_list_leads_out_of_its_medium(tmp_path: Path, seed: int, full: float) -> None:
    """A medium of blocks that all look like lists of others."""
    dice = random.Random(seed)
    blocks = 200
    medium = bytearray(blocks << 10)
    for n in range(blocks):
        count = dice.randint(1, 256) if dice.random() < full else 0
        first = dice.randint(0, blocks + 20)
        medium[n << 10 : n + 1 << 10] = (first + np.arange(count, dtype="<u4")).tobytes().ljust(1024, b"\0")
    (tmp_path / "v.img").write_bytes(medium)
    with open_medium(tmp_path / "v.img") as image:
        sectors = np.frombuffer(medium, "u1").reshape(-1, 512)
        marked = (np.flatnonzero(list_sectors(sectors, heads_of(sectors))) * 512).tolist()
        lists = BlockLists(image, marked, [0, 512, 4096])
        for start in lists.starts:
            for told in lists.files_at(start):
                assert told.extents[0].offset == start and told.space == sum(one.length for one in told.extents)
                assert all(extent.offset >= 0 and extent.end <= len(medium) for extent in told.extents)


def test_lists_are_read_up_to_as_many_as_a_medium_can_hold(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """A medium of lists each of which leads to all others: what is read of them is bounded."""
    monkeypatch.setattr(block_lists, "_READ_AT_LEAST", 40)
    with RawImage(tmp_path / "v.img", 2 << 20) as image:
        for n in range(0, 1500, 14):
            image.write(n << 10, b"\x89PNG\r\n\x1a\n" + bytes([7]) * 1000)
            image.write(n + 12 << 10, (n + 13 + np.arange(256, dtype="<u4")).tobytes())
        lists = BlockLists(image, [n + 12 << 10 for n in range(0, 1500, 14)], [0])
        told = [one for start in lists.starts for one in lists.files_at(start)]
        assert 0 < len(told) <= 40 + (2 << 20) // (64 << 10)
        scan(image, tmp_path / "v.scan", Progress())


@pytest.mark.parametrize("block", [1024, 4096])
@pytest.mark.parametrize("volume_is_left", [True, False])
def test_first_blocks_and_lists_need_not_be_neighbours(tmp_path: Path, block: int, volume_is_left: bool) -> None:
    """As the kernel lays files down without extents: 16 blocks in one place, then 16, 32, 64 … in others, and the lists
    somewhere else. A text, a picture of noise, and bytes of no kind."""
    dice, places = random.Random(block), iter(range(40, 4000, 300))
    per = block // 4
    text = "".join(f"{n:06d} wind from the east, {n % 17} m/s\n" for n in range(4500)).encode()
    contents = {"text": text, "data": dice.randbytes(21 * block + 17), "sound": sample("flac", 40 * block)}
    with RawImage(tmp_path / "v.img", 4200 * block) as image:
        where = {}
        for content in contents.values():
            need = -(-len(content) // block)
            numbers: list[int] = []
            while len(numbers) < need:
                first, count = next(places), max(16, 1 << len(numbers).bit_length() >> 1)
                numbers += range(first, first + min(count, 256))
            numbers = numbers[:need]
            where[numbers[0] * block] = content
            for n, number in enumerate(numbers):
                image.write(number * block, content[n * block : (n + 1) * block])
            listed, at = numbers[12:], next(places)
            for n in range(0, len(listed), per):
                image.write((at + n // per) * block, np.array(listed[n : n + per], "<u4").tobytes())
        if not volume_is_left:
            image.write(0, b"another volume began here, once upon a time\n")
        scan(image, tmp_path / "v.scan", Progress())
        with ScanFile.open(tmp_path / "v.scan") as found:
            back = {one.map.start: one.map.read(image, 0, one.size) for one in found.findings()}
    assert {start: back.get(start) == content for start, content in where.items()} == dict.fromkeys(where, True)


@given(first=st.integers(14, 60), count=st.integers(80, 256), at=st.integers(8, 64))
def test_numbers_in_a_row_that_are_content_take_no_file_apart(
    tmp_path_factory: pytest.TempPathFactory, first: int, count: int, at: int
) -> None:
    """An array that looks like a list of blocks where one could stand: it is the file that it is in one piece, unless
    the numbers tell of a volume that begins where one does."""
    assume((at << 3) + 13 > first)
    numbers = np.zeros(256, "<u4")
    numbers[:count] = first + np.arange(count)
    data = bytearray(sample("wav", 90_000))
    data[12 << 10 : 13 << 10] = numbers.tobytes()
    image = tmp_path_factory.mktemp("rows") / "v.img"
    with RawImage(image, 4 << 20) as medium:
        medium.write(at << 13, bytes(data))
        scan(medium, image.with_suffix(".scan"), Progress())
    assert hashlib.sha256(data).hexdigest() in came_back(image.with_suffix(".scan"), image)
