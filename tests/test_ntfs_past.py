"""NTFS of the past: the log, volumes that are no more, names whose folders are gone, files that lie as only NTFS has them."""

from __future__ import annotations

import itertools
import random
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from sastrugi.errors import VolumeError
from sastrugi.media import Extent, FileMap
from sastrugi.media.extents import within
from sastrugi.media.filemap import ZEROS, Segment
from sastrugi.media.raw import RawImage
from sastrugi.recovery.scan_file import ScanFile
from sastrugi.volumes.metadata_scan import loose_tables, marked
from sastrugi.volumes.ntfs.change_journal import CREATED, ChangeJournal, journal_clusters, told_names
from sastrugi.volumes.ntfs.earlier import earlier_volumes
from sastrugi.volumes.ntfs.file_record import FileState, Named, RecordPacker, Stream
from sastrugi.volumes.ntfs.layout import DATA, FILE_MAGIC, Geometry, mended_block, with_fixups
from sastrugi.volumes.ntfs.log_layout import FIRST_PAGE, PAGE, place_bits, stored_in_page
from sastrugi.volumes.ntfs.log_read import logged_records
from sastrugi.volumes.ntfs.log_write import LogWriter
from sastrugi.volumes.ntfs.opening import open_ntfs
from sastrugi.volumes.ntfs.plan import plan
from sastrugi.volumes.ntfs.recorded_files import RecordedFiles
from sastrugi.volumes.ntfs.records import Records, map_of, text_of
from sastrugi.volumes.ntfs.write import COMPRESSED_FILE, NtfsWriter
from sastrugi.volumes.reader import Entry
from tests.conftest import Program
from tests.test_ntfs import NOON, Disk, full_disk

# -- the log ----------------------------------------------------------------------------------------------------------


def image_with_log(path: Path, size: int) -> tuple[RawImage, LogWriter]:
    image = RawImage(path, size)
    return image, LogWriter(size, lambda at, data: image.write(at, data))


@settings(max_examples=15)
@given(
    sizes=st.lists(st.integers(48, 1024), min_size=1, max_size=120),
    pages=st.integers(4, 20),
    seed=st.integers(0, 1 << 32),
)
def test_the_log_tells_its_last_records(
    tmp_path_factory: pytest.TempPathFactory, sizes: list[int], pages: int, seed: int
) -> None:
    """However often it was gone through: the newest records are told, the newest first, with the bytes they stand on;
    of older ones none that was written over."""
    dice = random.Random(seed)
    size = FIRST_PAGE + pages * PAGE
    image, log = image_with_log(tmp_path_factory.mktemp("log") / "log.img", size)
    written: list[tuple[bytes, tuple[tuple[int, int], ...]]] = []
    for n, length in enumerate(sizes):
        data = FILE_MAGIC + dice.randbytes(length - 4)
        written.append((data, log.record_made(n, n * 1024, data, 4096).content))
    log.close()
    for data, places in written[-2:]:
        assert b"".join(image.read(at, count) for at, count in places) == data
    told = [record.data for record in logged_records(image, FileMap.of((Extent(0, size),)))]
    newest_first = [data for data, _ in reversed(written)]
    room = pages * (PAGE - 64) - 2 * PAGE
    surely = 0
    while surely < len(sizes) and sum(sizes[-surely - 1 :]) + 200 * (surely + 1) < room:
        surely += 1
    assert told[:surely] == newest_first[:surely] and surely
    assert [data for data in newest_first if data in told] == told
    for record in logged_records(image, FileMap.of((Extent(0, size),))):
        assert b"".join(image.read(*part) for part in record.where) == record.data
    image.close()


@given(start=st.integers(64, 4000), length=st.integers(0, 96), harm=st.integers(0, 4095))
def test_bytes_of_a_page_stand_where_they_are_said_to(start: int, length: int, harm: int) -> None:
    page = bytearray(random.Random(harm).randbytes(PAGE))
    page[4:8] = (0x28).to_bytes(2, "little") + (9).to_bytes(2, "little")
    page[0x28:0x40] = bytes(0x18)
    stored = with_fixups(bytes(page), 77)
    parts = list(stored_in_page(0, start, min(length, PAGE - start)))
    assert b"".join(stored[at : at + count] for at, count in parts) == page[start : start + length]


@settings(max_examples=20)
@given(seed=st.integers(0, 1 << 32))
def test_a_log_full_of_anything_is_read_without_harm(tmp_path_factory: pytest.TempPathFactory, seed: int) -> None:
    dice = random.Random(seed)
    size = FIRST_PAGE + 8 * PAGE
    image, log = image_with_log(tmp_path_factory.mktemp("log") / "log.img", size)
    for n in range(30):
        log.record_made(n, n * 1024, FILE_MAGIC + dice.randbytes(400), 4096)
    for _ in range(60):
        at = dice.randrange(size - 8)
        image.write(at, dice.choice([dice.randbytes(8), b"\xff" * 8, bytes(8), (at // 8).to_bytes(8, "little")]))
    for record in logged_records(image, FileMap.of((Extent(0, size),))):
        assert len(record.data) == sum(part.length for part in record.where) <= 4 * PAGE
    assert not list(logged_records(image, FileMap())) and place_bits(1 << 20) == 17
    image.close()


# -- where files lie --------------------------------------------------------------------------------------------------


@settings(max_examples=15)
@given(
    units=st.lists(st.sampled_from(["text", "noise", "zeros", "half"]), min_size=1, max_size=9), rest=st.integers(0, 65_535),
    cluster=st.sampled_from([512, 4096]), spread=st.booleans(), seed=st.integers(0, 1 << 32),
)  # fmt: skip
def test_packed_files_are_read_as_they_were_written(
    tmp_path_factory: pytest.TempPathFactory, units: list[str], rest: int, cluster: int, spread: bool, seed: int
) -> None:
    """Units that pack, that do not, that are holes; on clusters that lie anywhere."""
    dice = random.Random(seed)
    unit = 16 * cluster
    make = {
        "text": lambda: b"".join(b"%05d wind\n" % n for n in range(unit))[:unit], "noise": lambda: dice.randbytes(unit),
        "zeros": lambda: bytes(unit), "half": lambda: dice.randbytes(unit // 2) + bytes(unit // 2),
    }  # fmt: skip
    content = b"".join(make[kind]() for kind in units)
    content = content[: len(content) - rest % unit] or b"x"
    image = RawImage(tmp_path_factory.mktemp("packed") / "v.img", 12 << 20)
    disk = Disk(image, NtfsWriter(image, plan(0, image.size, cluster, 512, "linux"), "", 7, NOON, "linux"))
    lie = None
    if spread and len(content) > 600:
        count = -(-len(content) // cluster)
        taken = disk.writer.clusters.take(2 * count)
        disk.writer.clusters.release(taken)
        every = [n for start, length in taken for n in range(start, start + length)][::2]
        disk.writer.clusters.mark([(n, 1) for n in every], True)
        lie = tuple(disk.writer.geometry.extents([(n, 1) for n in every]))
    node = disk.store("packed.log", content, COMPRESSED_FILE, lie)
    disk.writer.flush()
    volume = open_ntfs(image, Extent(0, image.size))
    assert volume is not None
    (entry,) = (e for e in volume.entries() if not e.folder)
    assert b"".join(entry.map.chunks(image)) == content and entry.map == disk.writer.map(node) and not entry.notes
    assert entry.map.read(image, len(content) // 2, 700) == content[len(content) // 2 :][:700]
    used, free = volume.used_and_free()
    assert free == disk.writer.room and used + free == volume.geometry.clusters * cluster
    image.close()


def no_list(_stream: Stream, data: bytes) -> None:
    assert not data


@pytest.mark.parametrize(("pieces", "names"), [*itertools.product([1, 60, 900], [1, 3, 12]), (9000, 1), (1, 200)])
def test_attributes_without_room_stand_in_further_records(pieces: int, names: int) -> None:
    """Many names, many pieces: every record is one, and together they tell what they were made of; where they are very
    many, their list stands elsewhere."""
    geometry = Geometry(0, 512, 4096, 1 << 30, 0, 0, 1024, 4096, 0)
    state = FileState(30, 5, False, NOON, NOON, NOON, NOON)
    state.names = [Named(5 | 5 << 48, f"core section {n} of the upper firn.bin", 0) for n in range(names)]
    runs = [(1000 + 3 * n, 1 + n % 2) for n in range(pieces)]
    clusters = sum(count for _, count in runs)
    state.streams[""] = Stream(clusters * 4096 - 5, clusters * 4096 - 5, runs=runs)
    state.streams["note"] = Stream(40, 40, inside=b"drilled at 12 m, core box 7, by hand....")
    given_out = iter(range(100, 300))
    lists: list[bytes] = []
    packer = RecordPacker(
        1024, 4096, lambda: (next(given_out), 2), lambda number: None, lambda stream, data: lists.append(data)
    )  # type: ignore[arg-type]
    blocks = []
    for number, sequence, base, attributes in packer.records(state):
        used = packer.packed(number, sequence, base, attributes, state)
        blocks.append(np.frombuffer(with_fixups(used.ljust(1024, b"\0"), 3), "u1"))
    records = Records(geometry)
    records.add(np.stack(blocks), np.arange(len(blocks), dtype=np.int64) * 1024, None)
    records.join()
    (record,) = records.by_number.values()
    assert sorted(name.text for name in record.names) == sorted(named.text for named in state.names)
    streams = dict(record.streams())
    place, notes = map_of(streams[""], geometry)
    assert not notes and place == FileMap.of(geometry.extents(runs)).head(clusters * 4096 - 5)
    assert map_of(streams["note"], geometry)[0].size == 40
    assert bool(lists[-1]) == (pieces > 1000 or names > 100)
    assert len(blocks) == len(record.where) and (len(blocks) > 1) == (names > 3 or pieces > 100)
    if len(blocks) > 2:  # without one of them less is told, and that is said
        fewer = Records(geometry)
        fewer.add(np.stack(blocks[:-1]), np.arange(len(blocks) - 1, dtype=np.int64) * 1024, None)
        fewer.join()
        part, notes = map_of(dict(fewer.by_number[30].streams()).get("", streams[""]), geometry)
        assert part.size == place.size and (notes or part == place)


def test_more_names_than_a_list_holds_are_refused() -> None:
    state = FileState(30, 5, False, NOON, NOON, NOON, NOON)
    state.streams[""] = Stream(3, 3, inside=b"ice")
    state.names = [Named(5, f"core section {n} of the upper firn.bin", 0) for n in range(9000)]
    packer = RecordPacker(1024, 4096, lambda: (99, 1), lambda number: None, no_list)
    with pytest.raises(VolumeError, match="too long"):
        packer.records(state)


# -- paths ------------------------------------------------------------------------------------------------------------


def files_of(states: list[FileState]) -> dict[str, Entry]:
    packer = RecordPacker(1024, 4096, lambda: (900, 1), lambda number: None, no_list)
    blocks = []
    for state in states:
        (made,) = packer.records(state)
        used = bytearray(packer.packed(*made, state))
        if state.usn:  # deleted: no longer in use, its sequence number counted on
            used[0x10:0x12] = (state.sequence + 1).to_bytes(2, "little")
            used[0x16] &= 0xFE
        blocks.append(np.frombuffer(with_fixups(bytes(used).ljust(1024, b"\0"), 3), "u1"))
    records = Records(Geometry(0, 512, 4096, 1 << 30, 0, 0, 1024, 4096, 0))
    records.add(np.stack(blocks), np.arange(len(blocks), dtype=np.int64) * 1024, None)
    records.join()
    return {entry.full_path: entry for entry in RecordedFiles(records).entries()}


def state_of(
    number: int, name: str, parent: int, folder: bool = False, sequence: int = 1, deleted: bool = False
) -> FileState:
    state = FileState(
        number, sequence, folder, NOON, NOON, NOON, NOON, names=[Named(parent, name, 0)], usn=int(deleted)
    )
    if not folder:
        state.streams[""] = Stream(4, 4, inside=b"firn")
    return state


def test_paths_follow_references_as_far_as_they_hold() -> None:
    root = 5 | 5 << 48
    one = 1 << 48
    found = files_of([
        state_of(30, "Season", root, folder=True), state_of(31, "Cores", 30 | one, folder=True, deleted=True),
        state_of(32, "live.bin", 30 | one), state_of(33, "lost.bin", 31 | one, deleted=True),
        state_of(34, "of another.bin", 30 | 7 << 48, deleted=True), state_of(35, "of nobody.bin", 77 | one),
        state_of(36, "one", 37 | one, folder=True), state_of(37, "two", 36 | one, folder=True),
        state_of(38, "in a circle.bin", 36 | one), state_of(39, "../../up.bin", root),
    ])  # fmt: skip
    assert {path for path, entry in found.items() if not entry.folder} == {
        "/Season/live.bin", "/Season/Cores/lost.bin", "/folder-of-record-30-7/of another.bin",
        "/folder-of-record-77-1/of nobody.bin", "/..\uff0f..\uff0fup.bin",
        *(path for path in found if path.endswith("in a circle.bin")),
    }  # fmt: skip
    assert found["/Season/Cores/lost.bin"].deleted and found["/Season/Cores/lost.bin"].name_sure == 1.0
    assert found["/folder-of-record-30-7/of another.bin"].name_sure < 0.5
    assert sum(path.endswith("in a circle.bin") for path in found) == 1


# -- volumes that are no more -----------------------------------------------------------------------------------------


def past(image: RawImage, offset: int, cluster: int, habits: str, seed: int, size: int = 24 << 20) -> dict[str, bytes]:
    """A volume with files in folders; its boot sectors are gone."""
    dice = random.Random(seed)
    writer = NtfsWriter(image, plan(offset, size, cluster, 512, habits), "", seed, NOON, habits)  # type: ignore[arg-type]
    disk = Disk(image, writer)
    writer.make_folder(f"Season {seed}/Cores", NOON)
    for n in range(40):
        picture = b"\x89PNG\r\n\x1a\n" if n % 4 == 0 else b""
        disk.store(f"Season {seed}/Cores/core {n} of the upper accumulation basin.{'png' if picture else 'bin'}",
                   picture + dice.randbytes(dice.choice([200, 3000, 20_000])))  # fmt: skip
    writer.flush()
    for part in (*writer.structures()["boot"], *writer.structures()["backup-boot"]):
        image.zero(*part)
    return disk.content


@pytest.mark.parametrize("clusters", [(4096, 1024), (4096, 4096), (512, 4096)])
@pytest.mark.parametrize("habits", ["linux", "windows"])
def test_volumes_side_by_side_are_told_apart(tmp_path: Path, clusters: tuple[int, int], habits: str) -> None:
    """Two of them without boot sectors, on one medium: each file where it lies, none twice."""
    image = RawImage(tmp_path / "v.img", 64 << 20)
    content = past(image, 3 * 512 * 77, clusters[0], habits, 1) | past(image, 30 << 20, clusters[1], habits, 2)
    others: dict[str, object] = {}
    list(loose_tables(image, marked(image, [Extent(0, image.size)]), others))  # type: ignore[arg-type]
    begins = lambda name, at: image.read(at, 4) == b"\x89PNG" if name.endswith(".png") else None  # noqa: E731
    found = earlier_volumes(image, others["ntfs"], [], begins)  # type: ignore[arg-type]
    told: dict[str, bytes] = {}
    for volume in found:
        for entry in volume.entries():
            if not entry.folder:
                assert entry.deleted and entry.full_path[1:] not in told
                told[entry.full_path[1:]] = b"".join(entry.map.chunks(image))
    assert told == content
    assert sorted(volume.where.offset for volume in found) == [3 * 512 * 77, 30 << 20]
    assert all(volume.told_by.endswith("records") for volume in found)
    image.close()


@pytest.mark.parametrize("left", ["logfile", "journal", "index"])
def test_a_folder_whose_record_is_anothers_keeps_its_name(tmp_path: Path, left: str) -> None:
    """By the log, by the journal of changes, or by what still stands behind the entries of the folder above."""
    image = RawImage(tmp_path / "v.img", 24 << 20)
    disk = Disk(image, NtfsWriter(image, plan(0, image.size, 4096, 512, "windows"), "BASE", 7, NOON, "windows"))
    disk.writer.make_folder("Season/zz drift", NOON)
    for n in range(40):
        disk.store(f"Season/stake {n:02}.bin", bytes([n]) * 900)
    disk.store("Season/zz drift/wind.bin", b"w" * 9000)
    gone = disk.find("Season/zz drift").file
    disk.delete("Season/zz drift/wind.bin")
    disk.writer.delete(disk.find("Season/zz drift"), NOON)
    disk.store("taken.bin", b"t" * 9000)
    assert disk.find("taken.bin").file.number == gone.number
    disk.writer.flush()
    tellers = {
        "logfile": disk.writer.structures()["logfile"],
        "journal": disk.writer.run_extents(disk.writer._system["$UsnJrnl"].streams["$J"].stored),
        "index": disk.writer.extents(disk.find("Season")),
    }
    for name in tellers.keys() - {left, "index" if left != "journal" else ""}:
        for part in tellers[name]:
            image.zero(*part)
    volume = open_ntfs(image, Extent(0, image.size))
    assert volume is not None
    paths = {entry.full_path for entry in volume.entries() if entry.deleted}
    assert "/Season/zz drift/wind.bin" in paths, paths
    image.close()


@settings(max_examples=20)
@given(
    names=st.lists(st.text("abcß雪", min_size=1, max_size=200), min_size=1, max_size=30),
    cluster=st.sampled_from([512, 4096]), many=st.integers(1, 40),
)  # fmt: skip
def test_the_journal_tells_what_was_told_last(
    tmp_path_factory: pytest.TempPathFactory, names: list[str], cluster: int, many: int
) -> None:
    """Also once its oldest part has become a hole."""
    count, step = journal_clusters(1 << 20, cluster)
    image = RawImage(tmp_path_factory.mktemp("journal") / "j.img", 3 * count * cluster)
    places = lambda runs: tuple(Extent(start * cluster, n * cluster) for start, n in runs)  # noqa: E731

    def put(stream: Stream, place: int, data: bytes) -> None:
        for part in within(places(stream.stored), place, len(data)):
            image.write(part.offset, data[: part.length])
            data = data[part.length :]

    journal = ChangeJournal([(3 * n, 1) for n in range(count)], step, cluster, NOON, put)
    told: dict[int, tuple[int, tuple[str, int]]] = {}
    for turn in range(many):
        for n, name in enumerate(names):
            place = journal.tell(100 + n, 5, f"{name}{turn}", CREATED, 0x20, 256, NOON)
            told[100 + n] = place, (f"{name}{turn}", 5)
    stream = journal.records
    hole = journal.first
    where = FileMap.made([*([Segment(hole, (), ZEROS)] if hole else []), *FileMap.of(places(stream.stored)).segments])
    kept = {reference: last for reference, (place, last) in told.items() if place >= hole}
    assert told_names(image, where.head(stream.size)) == kept
    assert len(kept) == len(names) or hole
    image.close()


@settings(max_examples=10)
@given(seed=st.integers(0, 1 << 32))
def test_records_of_anything_make_no_volume_that_cannot_be(tmp_path_factory: pytest.TempPathFactory, seed: int) -> None:
    dice = random.Random(seed)
    image = RawImage(tmp_path_factory.mktemp("any") / "v.img", 4 << 20)
    for n in range(60):
        block = bytearray(dice.randbytes(1024))
        block[:8] = FILE_MAGIC + (0x30).to_bytes(2, "little") + (3).to_bytes(2, "little")
        block[0x14:0x18] = (0x38).to_bytes(2, "little") + dice.randbytes(2)
        block[0x18:0x20] = (1000).to_bytes(4, "little") + (1024).to_bytes(4, "little")
        block[0x38:0x40] = dice.choice([0x10, 0x30, 0x80]).to_bytes(4, "little") + dice.choice([24, 96, 200]).to_bytes(
            4, "little"
        )
        image.write(n * 4096, with_fixups(bytes(block), 9))
    for volume in earlier_volumes(image, range(0, 60 * 4096, 4096), [], lambda name, at: None):
        for entry in volume.entries():
            assert all(0 <= part.offset < part.end <= image.size for part in entry.map.stored)
    image.close()


def test_an_image_of_it_is_adopted(sastrugi: Program, tmp_path: Path) -> None:
    image = RawImage(tmp_path / "before.img", 24 << 20)
    disk = Disk(image, NtfsWriter(image, plan(0, image.size, 4096, 512, "windows"), "BASE", 7, NOON, "windows"))
    dice = random.Random(3)
    for n in range(12):
        data = (
            b"".join(b"%06d wind from the east %d\n" % (k, n) for k in range(4000))
            if n % 3 == 0
            else dice.randbytes(6000)
        )
        disk.store(f"core {n}.bin", data, COMPRESSED_FILE if n % 3 == 0 else 0)
        (tmp_path / "originals").mkdir(exist_ok=True)
        (tmp_path / "originals" / f"core {n}.bin").write_bytes(data)
    disk.writer.flush()
    image.sync()
    after = tmp_path / "after.img"
    after.write_bytes(image.path.read_bytes())
    for n in (0, 1, 2, 3):
        disk.delete(f"core {n}.bin")
    disk.writer.flush()
    image.sync()
    lost, before = tmp_path / "lost.img", tmp_path / "after.img"
    lost.write_bytes(image.path.read_bytes())
    sastrugi("adopt", lost, "--before", before, "--originals", tmp_path / "originals", "--into", tmp_path / "s")
    sastrugi("audit", tmp_path / "s")
    sastrugi("scan", tmp_path / "s", "--out", tmp_path / "s.scan")
    with ScanFile.open(tmp_path / "s.scan") as scan:
        deleted = {finding.name for finding in scan.findings("state = 'deleted'")}
    assert deleted == {f"core {n}.bin" for n in range(4)}
    card = sastrugi("score", tmp_path / "s", tmp_path / "s.scan", "--out", tmp_path / "c.json", "--json").json
    assert card["intact"]["share_of_set"] == card["named"]["share_of_set"] == 1.0


@given(st.binary(max_size=60))
def test_any_bytes_are_a_name_that_is_no_path(data: bytes) -> None:
    """Lone halves of characters, slashes, zeros: what cannot stand in a path is replaced."""
    name = text_of(data)
    assert "/" not in name and "\0" not in name and name.encode("utf-8").decode("utf-8") == name
    assert text_of("Ålbreen 雪.txt".encode("utf-16-le")) == "Ålbreen 雪.txt"
    assert text_of(b"\x00\xd8x\x00") == "\N{REPLACEMENT CHARACTER}x"


# -- records that claim what cannot be --------------------------------------------------------------------------------


def test_a_stream_without_runs_claims_nothing(tmp_path: Path) -> None:
    """It says that it has clusters, names none, and is larger than any medium: nothing is read as if it stood inside."""
    disk = full_disk(tmp_path / "v.img", 1024, 24 << 20, "linux", files=10)
    node = disk.store("claims.bin", random.Random(3).randbytes(9000))
    disk.writer.flush()
    place = disk.writer.record(node)
    record = bytearray(mended_block(disk.image.read_extents(place)) or b"")
    at = int.from_bytes(record[0x14:0x16], "little")
    while record[at] != DATA:
        at += int.from_bytes(record[at + 4 : at + 8], "little")
    assert record[at + 8] == 1, "its data lie outside of the record"
    record[at + int.from_bytes(record[at + 32 : at + 34], "little")] = 0
    for field in (40, 48, 56):
        record[at + field : at + field + 8] = (1 << 61).to_bytes(8, "little")
    disk.writer.write_over(place, with_fixups(bytes(record), 3))
    volume = open_ntfs(disk.image, Extent(0, disk.image.size))
    assert volume is not None
    owned = volume.conflicts((Extent(0, disk.image.size),))
    assert owned and not [one for one in owned if one.extent.end > disk.image.size]
    (entry,) = (one for one in volume.entries() if one.name == "claims.bin")
    assert not entry.map.stored


def test_records_in_the_log_whose_fix_ups_lie_nowhere(tmp_path: Path) -> None:
    disk = full_disk(tmp_path / "v.img", 4096, 48 << 20, "windows", files=10)
    disk.delete(next(iter(disk.content)))
    disk.writer.flush()
    harmed = 0
    for where in disk.writer.structures()["logfile"]:
        data = bytearray(disk.image.read(*where))
        at = data.find(FILE_MAGIC)
        while at >= 0:
            data[at + 4 : at + 6] = random.Random(at).choice([b"\xfe\xff", b"\xff\x01", b"\xf0\x03"])
            harmed += 1
            at = data.find(FILE_MAGIC, at + 1)
        disk.image.write(where.offset, bytes(data))
    volume = open_ntfs(disk.image, Extent(0, disk.image.size))
    assert volume is not None and harmed > 10
    assert list(volume.history()) == [] and len(list(volume.entries())) > 5
