"""NTFS: its codecs and trees, its writer under two drivers, and what comes back after every loss."""

from __future__ import annotations

import datetime as dt
import hashlib
import itertools
import random
import shutil
import subprocess
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from sastrugi.errors import VolumeError
from sastrugi.media import Extent, lznt1, open_medium
from sastrugi.media.raw import RawImage
from sastrugi.recovery.findings import Finding
from sastrugi.recovery.scan_file import ScanFile
from sastrugi.volumes.ntfs.file_record import MappingPairs
from sastrugi.volumes.ntfs.index import Index, Item
from sastrugi.volumes.ntfs.layout import (
    STRIDE,
    decode_runs,
    encode_runs,
    geometry_of,
    mended_block,
    of_ticks,
    stored_at,
    to_ticks,
    with_fixups,
)
from sastrugi.volumes.ntfs.opening import open_ntfs
from sastrugi.volumes.ntfs.plan import plan
from sastrugi.volumes.ntfs.system_files import order_of
from sastrugi.volumes.ntfs.write import COMPRESSED_FILE, NtfsNode, NtfsWriter
from tests.conftest import Program
from tests.judges import assert_clean, format_over, linux, make_volume, ntfs3_reads, require_drivers
from tests.test_drivers import listed, real_files

NOON = dt.datetime(2031, 2, 3, 12)
_LIST_ALL = "find . -type f -exec sha256sum {} + > %s"

# -- codecs -----------------------------------------------------------------------------------------------------------


@given(st.lists(st.binary(max_size=40).map(lambda part: part * 7) | st.binary(max_size=900), max_size=14).map(b"".join))
def test_what_is_packed_unpacks(data: bytes) -> None:
    packed = lznt1.pack(data)
    assert len(packed) <= -(-len(data) // lznt1.CHUNK) * (lznt1.CHUNK + 2)
    assert not data or lznt1.unpack(packed + bytes(2), len(data)) == data
    assert not data or lznt1.unpack(packed, max(len(data) // 2, 1)) == data[: max(len(data) // 2, 1)]


@given(st.binary(max_size=400), st.integers(0, 20_000), st.binary(max_size=30), st.integers(0, 300))
def test_any_bytes_unpack_to_no_more_than_is_wanted(data: bytes, length: int, harm: bytes, at: int) -> None:
    for stored in (data, lznt1.pack(data * 9)[:at] + harm):
        try:
            assert len(lznt1.unpack(stored, length)) <= length
        except ValueError as error:
            assert "LZNT1" in str(error)


RUNS = st.lists(
    st.tuples(st.integers(0, 1 << 40) | st.just(-1), st.integers(1, 1 << 30)), max_size=30
).filter(lambda runs: all(a[0] >= 0 or b[0] >= 0 for a, b in itertools.pairwise(runs)))  # fmt: skip


@given(RUNS)
def test_runs_are_read_as_they_were_written(runs: list[tuple[int, int]]) -> None:
    data = encode_runs(runs)
    assert decode_runs(data, 1 << 50) == (runs, True)
    assert decode_runs(data[:-1], 1 << 50)[1] is False
    found, whole = decode_runs(data, 1000)  # a volume too small for them
    assert found == runs[: len(found)] and (whole or len(found) < len(runs))


@given(st.lists(st.lists(st.tuples(st.integers(0, 1 << 40), st.integers(1, 1 << 30)), max_size=9), max_size=5))
def test_runs_that_grow_are_told_as_if_they_were_told_at_once(steps: list[list[tuple[int, int]]]) -> None:
    pairs, runs = MappingPairs(), list[tuple[int, int]]()
    for more in steps:
        if runs and more:
            runs[-1] = runs[-1][0], runs[-1][1] + 1  # which grew, too
        runs += more
        pairs.tell(runs)
        for first, behind in itertools.combinations(range(len(runs) + 1), 2):
            told = pairs.told(first, behind)
            assert told.pairs == encode_runs(runs[first:behind]) and len(told.pairs) == pairs.length(first, behind)
            assert told.clusters == sum(count for _, count in runs[first:behind])
            assert told.all_clusters == sum(count for _, count in runs)
    pairs.tell(runs[:1])
    assert not runs or pairs.told(0, 1).pairs == encode_runs(runs[:1])


@given(st.binary(max_size=200))
def test_any_bytes_are_runs_inside_of_the_volume(data: bytes) -> None:
    runs, _ = decode_runs(data, 5000)
    assert all(start == -1 or 0 <= start < start + count <= 5000 for start, count in runs)


@given(st.binary(min_size=960, max_size=960), st.integers(1, 0xFFFF), st.integers(0, 900), st.integers(0, 200))
def test_fixups_are_undone_and_bytes_are_found_where_they_stand(
    body: bytes, number: int, start: int, count: int
) -> None:
    block = b"FILE" + (0x30).to_bytes(2, "little") + (3).to_bytes(2, "little") + bytes(0x30 - 8) + bytes(8) + body
    block = block.ljust(1024, b"\0")
    stored = with_fixups(block, number)
    whole = mended_block(stored)
    assert whole is not None and whole[0x38:] == block[0x38:]
    torn = bytearray(stored)
    torn[2 * STRIDE - 1] ^= 1
    assert mended_block(bytes(torn)) is None
    at = 0x38 + start
    count = min(count, 1024 - at)
    medium = bytes(7 * STRIDE) + stored
    parts = stored_at(0, 7 * STRIDE, 0x30, at, count)
    assert b"".join(medium[part.offset : part.end] for part in parts) == block[at : at + count]
    assert stored_at(min(5, count), 7 * STRIDE, 0x30, at, count) == stored_at(
        0, 7 * STRIDE, 0x30, at + min(5, count), max(count - 5, 0)
    )


@given(st.datetimes(dt.datetime(1602, 1, 1), dt.datetime(9000, 1, 1)))
def test_times_are_kept_to_the_microsecond(moment: dt.datetime) -> None:
    assert of_ticks(to_ticks(moment)) == moment.replace(tzinfo=dt.UTC)
    assert of_ticks(0) is None is of_ticks(-5) is of_ticks((1 << 63) - 1)


def test_names_sort_in_upper_case() -> None:
    names = ["Ålbreen", "abc", "ABC", "Zeta", "_x", "ábc", "abd", "AB"]
    assert sorted(names, key=order_of) == ["AB", "ABC", "abc", "abd", "Zeta", "_x", "ábc", "Ålbreen"]


# -- the tree ---------------------------------------------------------------------------------------------------------


def check_tree(index: Index, there: set[tuple[bytes, bytes]]) -> None:
    assert [item.order for item in index.walk()] == sorted(there)
    assert index.root.used <= index.room
    seen: set[int] = set()
    waiting = [index.root]
    while waiting:
        node = waiting.pop()
        below = [item.below for item in node.items] + [node.last]
        assert all(below) or not any(below), "every entry of a node has something below it, or none has"
        for one in below:
            if one is not None:
                assert one.vcn not in seen and one.items and one.used <= index.size - index.first
                seen.add(one.vcn)
                waiting.append(one)
    assert seen == set(index.blocks)
    assert sum(index.in_use()) == len(seen)


@settings(max_examples=20)
@given(seed=st.integers(0, 1 << 32), room=st.sampled_from([120, 300, 700]))
def test_a_tree_holds_what_was_put_in(seed: int, room: int) -> None:
    dice = random.Random(seed)
    index, there = Index(4096, room, 8), dict[tuple[bytes, bytes], bytes]()
    for n in range(900):
        if there and dice.random() < (0.3 if n < 500 else 0.65):
            order = dice.choice(sorted(there))
            assert index.remove(order).key == there.pop(order)
        else:
            order = (b"%06d" % dice.randrange(10**6), b"")
            if order not in there:
                there[order] = dice.randbytes(dice.randrange(4, 100 if room < 200 else 300))
                index.insert(Item(order, there[order], 77))
        if n % 90 == 0:
            check_tree(index, set(there))
    for order in list(there):
        assert [*index.leading_to(order), index.root]
        index.remove(order)
    check_tree(index, set())
    with pytest.raises(KeyError):
        index.remove((b"x", b""))


# -- the writer under drivers -----------------------------------------------------------------------------------------


@dataclass
class Disk:
    """A volume with all that NTFS has, and what is on it."""

    image: RawImage
    writer: NtfsWriter
    content: dict[str, bytes] = field(default_factory=dict)

    def store(self, path: str, data: bytes, attributes: int = 0, lie: tuple[Extent, ...] | None = None) -> NtfsNode:
        self.content[path] = data
        return self.writer.store(path, len(data), [data[:700], data[700:]], NOON, lie=lie, attributes=attributes)

    def find(self, path: str) -> NtfsNode:
        node = self.writer.find(path)
        assert node is not None
        return node

    def delete(self, path: str) -> None:
        self.writer.delete(self.find(path), NOON)
        del self.content[path]


def full_disk(path: Path, cluster: int, size: int, habits: str, sector: int = 512, files: int = 90) -> Disk:
    """Folders with many files, packed ones, streams, links, one in 300 pieces; and changes of all kinds."""
    image = RawImage(path, size, sector)
    disk = Disk(image, NtfsWriter(image, plan(0, size, cluster, sector, habits), "BASE", 7, NOON, habits))  # type: ignore[arg-type]
    dice = random.Random(f"{cluster} {habits}")
    disk.writer.make_folder("Logs/Day 1", NOON)
    for n in range(files):
        count = dice.choice([0, 1, 400, 511, 512, 513, 5000, 70_000 if n % 9 == 0 else 3000])
        disk.store(f"{('', 'Logs/', 'Logs/Day 1/')[n % 3]}core section {n}.bin", dice.randbytes(count))
    wind = b"".join(b"%06d wind from the east\n" % n for n in range(12_000))
    disk.store("packed.txt", wind + bytes(200_000) + dice.randbytes(90_000), COMPRESSED_FILE)
    disk.store("with.txt", b"hello")
    disk.store("with.txt:note", dice.randbytes(300))
    disk.store("with.txt:large", dice.randbytes(30_000))
    disk.writer.link(disk.find("with.txt"), "Logs/linked twice.txt", NOON)
    for name in ("", ":note", ":large"):
        disk.content[f"Logs/linked twice.txt{name}"] = disk.content[f"with.txt{name}"]
    taken = disk.writer.clusters.take(700)
    disk.writer.clusters.release(taken)
    pieces = [(n, 1) for start, count in taken for n in range(start, start + count, 2)][:300]
    disk.writer.clusters.mark(pieces, True)
    disk.store("in pieces.bin", dice.randbytes(300 * cluster), lie=tuple(disk.writer.geometry.extents(pieces)))
    disk.store("Logs/many names.bin", dice.randbytes(20_000))
    for n in range(40):
        disk.writer.link(disk.find("Logs/many names.bin"), f"Logs/Day 1/one of the many names of a file {n}.bin", NOON)
        disk.content[f"Logs/Day 1/one of the many names of a file {n}.bin"] = disk.content["Logs/many names.bin"]
    more = dice.randbytes(9000)
    disk.writer.grow(disk.find("Logs/core section 1.bin"), len(more), [more], NOON)
    disk.content["Logs/core section 1.bin"] += more
    disk.writer.rename(disk.find("core section 0.bin"), "Logs/Day 1/moved with a long name.bin", NOON)
    disk.content["Logs/Day 1/moved with a long name.bin"] = disk.content.pop("core section 0.bin")
    for path in [path for n, path in enumerate(sorted(disk.content)) if n % 6 == 4 and path.endswith(".bin")]:
        disk.delete(path)
    disk.writer.flush()
    image.sync()
    return disk


DISKS = [(512, 30, "linux", 512), (4096, 60, "windows", 512), (65536, 120, "linux", 512), (4096, 60, "linux", 4096),
         (131072, 200, "windows", 512)]  # fmt: skip


@pytest.mark.drivers
@pytest.mark.parametrize(("cluster", "size", "habits", "sector"), DISKS)
def test_drivers_read_all_that_is_written(tmp_path: Path, cluster: int, size: int, habits: str, sector: int) -> None:
    """Every file, stream and link by its digest, in the driver in user space and in the kernel's; then the first one
    makes and deletes files, and our reader follows."""
    require_drivers()
    disk = full_disk(tmp_path / "v.img", cluster, size << 20, habits, sector)
    assert_clean(disk.image.path, "ntfs")
    if habits == "windows":
        journal = disk.writer._system["$UsnJrnl"].streams
        for name in ("$J", "$Max"):
            told = subprocess.run(
                ["ntfscat", "--attribute-name", name, "--inode", "27", str(disk.image.path)], capture_output=True
            )
            assert len(told.stdout) == journal[name].size, told.stderr
    files = {path: hashlib.sha256(data).hexdigest() for path, data in disk.content.items()}
    streams = {path: digest for path, digest in files.items() if ":" in path}
    own = {path: digest for path, digest in files.items() if ":" not in path}
    script = [_LIST_ALL % (tmp_path / "sums.txt")]
    script += [f"sha256sum './{path}' >> {tmp_path / 'streams.txt'}" for path in streams]
    script += ["mkdir new; seq 9000 > new/numbers.txt; mv with.txt new/moved.txt", "rm 'in pieces.bin' packed.txt"]
    if sector == 512:  # the kernel's block device of a user-mode Linux has sectors of 512 bytes
        if (seen := ntfs3_reads(disk.image.path, tmp_path)) is not None:
            assert seen == own
        linux(disk.image.path, "\n".join(script), tmp_path, file_system="ntfs")
        assert listed(tmp_path / "sums.txt") == own
        assert listed(tmp_path / "streams.txt") == streams
        assert_clean(disk.image.path, "ntfs")
        numbers = "".join(f"{n}\n" for n in range(1, 9001)).encode()
        disk.content |= {
            path.replace("with.txt", "new/moved.txt"): data
            for path, data in disk.content.items()
            if path.startswith("with.txt")
        }
        for path in [path for path in disk.content if path.startswith("with.txt")] + ["in pieces.bin", "packed.txt"]:
            del disk.content[path]
        disk.content["new/numbers.txt"] = numbers
    with open_medium(disk.image.path) as medium:
        volume = open_ntfs(medium, Extent(0, medium.size))
        assert volume is not None and not volume.health and volume.label == "BASE"
        live = {e.full_path[1:]: e for e in volume.entries() if not e.deleted and not e.folder}
        assert {path: b"".join(entry.map.chunks(medium)) for path, entry in live.items()} == disk.content


@pytest.mark.drivers
def test_ten_thousand_files_in_a_folder(tmp_path: Path) -> None:
    require_drivers()
    image = RawImage(tmp_path / "v.img", 64 << 20)
    writer = NtfsWriter(image, plan(0, image.size, 4096, 512, "linux"), "", 7, NOON, "linux")
    names = [f"reading {n * 7919 % 10_000:05} of the season.txt" for n in range(10_000)]
    writer.make_folder("many", NOON)
    for name in names:
        writer.store(f"many/{name}", 3, [b"dry"], NOON)
    for name in names[::3]:
        node = writer.find(f"many/{name}")
        assert node is not None
        writer.delete(node, NOON)
    writer.flush()
    image.sync()
    left = sorted(set(names) - set(names[::3]))
    linux(
        image.path,
        f"ls many > {tmp_path / 'names.txt'}; cat 'many/{left[5]}' > {tmp_path / 'one.txt'}",
        tmp_path,
        file_system="ntfs",
    )
    assert (tmp_path / "names.txt").read_text().splitlines() == left
    assert (tmp_path / "one.txt").read_bytes() == b"dry"
    assert_clean(image.path, "ntfs")


@pytest.mark.drivers
def test_a_deletion_leaves_what_the_driver_leaves(tmp_path: Path) -> None:
    """Ours and the driver's, from the same start: records, index, both bitmaps, byte for byte."""
    require_drivers()
    ours, theirs = tmp_path / "ours.img", tmp_path / "theirs.img"
    image = RawImage(ours, 32 << 20)
    writer = NtfsWriter(image, plan(0, image.size, 4096, 512, "linux"), "FIRN", 7, NOON, "linux")
    writer.make_folder("Notebooks", NOON)
    dice = random.Random(5)
    for n in range(12):
        data = dice.randbytes(dice.choice([300, 9000]))
        writer.store(f"Notebooks/Ålbreen core {n}.txt", len(data), [data], NOON)
    writer.flush()
    image.sync()
    shutil.copyfile(ours, theirs)
    victims = [writer.find(f"Notebooks/Ålbreen core {n}.txt") for n in (0, 4, 5, 11)]
    folder = writer.find("Notebooks")
    assert folder is not None and all(victims)
    places = [*writer.extents(folder), *writer.structures()["bitmap"], *writer.run_extents(writer._record_bits.runs)]
    for node in filter(None, victims):
        places += writer.record(node)
        writer.delete(node, NOON)
    writer.flush()
    image.sync()
    linux(theirs, "\n".join(f"rm '{node.path[1:]}'" for node in filter(None, victims)), tmp_path, file_system="ntfs")
    with open_medium(ours) as one, open_medium(theirs) as other:
        for place in places:
            assert one.read(*place) == other.read(*place), place


# -- losses -----------------------------------------------------------------------------------------------------------


@pytest.fixture(scope="module")
def real_disk(tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, dict[str, bytes]]:
    """A volume that the system's mkntfs and driver wrote, with real files, some in pieces, some packed, some with streams."""
    require_drivers()
    here = tmp_path_factory.mktemp("real")
    assert real_files(here / "source", random.Random(9)) > 80
    image = make_volume(here / "v.img", 160 << 20, "ntfs", 4096)
    dice = random.Random(4)
    more = here / "source" / "Cores"
    more.mkdir()
    for n in range(6):
        (more / f"core {n}.bin").write_bytes(dice.randbytes(200_000))
    turns = "\n".join(
        f"for n in 0 1 2 3 4 5; do dd if={more}/core\\ $n.bin of=Cores/core\\ $n.bin bs=20000 skip={at} seek={at} count=1 conv=notrunc 2>/dev/null; done; sync"
        for at in range(10)
    )
    note = here / "note"
    note.write_bytes(dice.randbytes(5000))
    linux(
        image,
        f"cp -r {here}/source/[!C]* .\nmkdir Cores\n{turns}\ncat {note} > 'Cores/core 1.bin:note'",
        here,
        file_system="ntfs",
    )
    content = {
        f"/{p.relative_to(here / 'source').as_posix()}": p.read_bytes()
        for p in (here / "source").rglob("*")
        if p.is_file()
    }
    content["/Cores/core 1.bin:note"] = note.read_bytes()
    return image, content


def findings(sastrugi: Program, image: Path) -> tuple[list[Finding], list[bytes]]:
    scan = image.with_suffix(".scan")
    sastrugi("scan", image, "--out", scan)
    with ScanFile.open(scan) as file, open_medium(image) as medium:
        found = list(file.findings())
        return found, [b"".join(finding.map.chunks(medium)) for finding in found]


def shares(content: dict[str, bytes], found: list[Finding], data: list[bytes]) -> tuple[float, float]:
    """Which share came back intact, and which under its full path, too."""
    there = set(data)
    named = {(finding.path, one) for finding, one in zip(found, data, strict=True)}
    return sum(one in there for one in content.values()) / len(content), sum(
        item in named for item in content.items()
    ) / len(content)


LOSSES = {
    "the boot sector": (1.0, 1.0), "both boot sectors": (1.0, 1.0), "the start of $MFT": (1.0, 1.0),
    "the start of $MFT and its copy": (1.0, 1.0), "a quick format": (0.98, 0.95), "its partition": (1.0, 1.0),
    "a quick format with other clusters": (0.95, 0.95),
}  # fmt: skip


@pytest.mark.drivers
@pytest.mark.parametrize("loss", LOSSES)
def test_real_files_come_back_after(
    sastrugi: Program, real_disk: tuple[Path, dict[str, bytes]], tmp_path: Path, loss: str
) -> None:
    whole, content = real_disk
    image = tmp_path / "v.img"
    shutil.copyfile(whole, image)
    boot = geometry_of(image.read_bytes()[:512], 0)
    assert boot is not None
    zeros = {
        "the boot sector": [(0, 8192)], "both boot sectors": [(0, 8192), (boot.sectors * 512, 512)],
        "the start of $MFT": [(boot.at(boot.mft), 16384)],
        "the start of $MFT and its copy": [(boot.at(boot.mft), 16384), (boot.at(boot.mirror), 4096)],
    }.get(loss, [])  # fmt: skip
    with image.open("r+b") as file:
        for at, count in zeros:
            file.seek(at)
            file.write(bytes(count))
    if loss.startswith("a quick format"):
        format_over(image, "ntfs", 4096 if loss == "a quick format" else 2048)
    if loss == "its partition":
        with image.open("r+b") as file:
            data = file.read()
            file.seek(0)
            file.write(bytes(77 * 512) + bytes(8192) + data[8192:])
    intact, named = shares(content, *findings(sastrugi, image))
    least = LOSSES[loss]
    assert intact >= least[0] and named >= least[1], (intact, named)


def test_the_log_tells_of_files_whose_records_are_gone(sastrugi: Program, tmp_path: Path) -> None:
    """Deleted files, their records used again: what Windows last wrote to its log gives names, folders, places, and
    what stood inside of the records."""
    image = RawImage(tmp_path / "v.img", 40 << 20)
    disk = Disk(image, NtfsWriter(image, plan(0, image.size, 4096, 512, "windows"), "BASE", 7, NOON, "windows"))
    dice = random.Random(6)
    disk.writer.make_folder("Season/Cores", NOON)
    for n in range(14):
        disk.store(f"Season/Cores/core section {n}.bin", dice.randbytes(dice.choice([90, 400, 6000, 30_000])))
    disk.store("Season/Cores/core section 3.bin:note", dice.randbytes(200))
    lost = dict(disk.content)
    evidence = {}
    for path in sorted(lost, key=lambda path: ":" not in path):
        node = disk.find(path)
        evidence[path] = disk.writer.evidence_after(node, "windows")
        if ":" not in path:
            disk.delete(path)
    disk.writer.delete(disk.find("Season/Cores"), NOON)
    disk.writer.delete(disk.find("Season"), NOON)
    later = disk.writer.reserve(60 << 12, "last")
    for n in range(20):
        disk.store(f"later {n}.bin", dice.randbytes(5000), lie=later[:0] + disk.writer.reserve(8192, "last"))
    disk.writer.flush()
    image.sync()
    with open_medium(image.path) as medium:
        volume = open_ntfs(medium, Extent(0, medium.size))
        assert volume is not None
        told = {entry.full_path[1:]: entry for entry in volume.history() if not entry.folder}
        assert not any(e.deleted and not e.folder for e in volume.entries()), "all records are others' now"
        for path, content in lost.items():
            assert b"".join(told[path].map.chunks(medium)) == content and told[path].source, path
            trace = next(trace for trace in evidence[path].traces if trace.source == "log")
            assert medium.read_extents(trace.where)
    found, data = findings(sastrugi, image.path)
    there = {(finding.path[1:], one) for finding, one in zip(found, data, strict=True) if finding.state == "deleted"}
    assert set(lost.items()) <= there
    damaged = bytearray(image.read(0, image.size))
    for at in disk.writer.structures()["logfile"][0].offset + np.arange(4, 40) * 4096 + 700:
        damaged[at] ^= 0x55
    image.write(0, bytes(damaged))
    volume = open_ntfs(image, Extent(0, image.size))
    assert volume is not None
    assert all(len(entry.map.read(image, 0, 99)) <= 99 for entry in volume.history())


def test_wiped_media_hold_nothing(sastrugi: Program, tmp_path: Path) -> None:
    disk = full_disk(tmp_path / "v.img", 4096, 40 << 20, "windows")
    disk.image.write(0, random.Random(1).randbytes(disk.image.size))
    disk.image.sync()
    assert findings(sastrugi, disk.image.path)[0] == []


@pytest.fixture(scope="module")
def windows_disk(tmp_path_factory: pytest.TempPathFactory) -> Path:
    disk = full_disk(tmp_path_factory.mktemp("windows") / "v.img", 1024, 24 << 20, "windows", files=40)
    disk.image.close()
    return disk.image.path


def hostile(image: Path, to: Path, dice: random.Random) -> Path:
    """A copy whose records and index blocks lie: any of their fields, with fix-ups that fit."""
    data = bytearray(image.read_bytes())
    blocks = [at for at in range(0, len(data), 1024) if data[at : at + 4] in (b"FILE", b"INDX")]
    for at in dice.sample(blocks, min(40, len(blocks))):
        size = 1024 if data[at : at + 4] == b"FILE" else 4096
        block = mended_block(bytes(data[at : at + size]))
        if block is None:
            continue
        harmed = bytearray(block)
        for _ in range(dice.randint(1, 8)):
            place = dice.randrange(8, min(size, 400))
            value = dice.choice([b"\0", b"\xff", b"\x80\x00\x00\x00", dice.randbytes(2), b"\xff" * 8])
            harmed[place : place + len(value)] = value
        data[at : at + size] = with_fixups(bytes(harmed[:size]), 9) if harmed[4:8] == block[4:8] else harmed[:size]
    to.write_bytes(data)
    return to


@settings(max_examples=15)
@given(seed=st.integers(0, 1 << 32))
def test_records_that_lie_end_in_less_found(
    windows_disk: Path, tmp_path_factory: pytest.TempPathFactory, seed: int
) -> None:
    image = hostile(windows_disk, tmp_path_factory.mktemp("hostile") / "v.img", random.Random(seed))
    with open_medium(image) as medium:
        volume = open_ntfs(medium, Extent(0, medium.size))
        assert volume is not None
        for entry in volume.entries():
            assert all(0 <= part.offset < part.end <= volume.where.end for part in entry.map.stored)
            assert len(entry.map.read(medium, 0, 8192)) <= 8192 and "/" not in entry.name
            volume.conflicts(entry.map.stored)
        list(volume.structures())


@pytest.mark.parametrize("seed", range(3))
def test_a_medium_that_lies_is_scanned_without_harm(
    sastrugi: Program, windows_disk: Path, tmp_path: Path, seed: int
) -> None:
    image = hostile(windows_disk, tmp_path / "v.img", random.Random(seed))
    sastrugi("scan", image, "--out", tmp_path / "v.scan", code=None)
    sastrugi("extract", tmp_path / "v.scan", "--with-live", "--into", tmp_path / "out", code=None)
    assert {path.name for path in tmp_path.iterdir()} <= {"v.img", "v.scan", "out"}


REFUSED = {
    "too small": (lambda: plan(0, 600_000, 4096, 512, "linux"), "needs .* at least"),
    "a cluster that is none": (lambda: plan(0, 64 << 20, 3000, 512, "linux"), "512 B, 1 KiB, 2 KiB … 2 MiB"),
    "too many clusters": (lambda: plan(0, 16 << 40, 512, 512, "linux"), "clusters larger than"),
}  # fmt: skip


@pytest.mark.parametrize("case", REFUSED)
def test_volumes_that_cannot_be(case: str) -> None:
    call, message = REFUSED[case]
    with pytest.raises(VolumeError, match=message):
        call()


def test_a_large_volume_costs_what_its_files_cost(tmp_path: Path) -> None:
    """12 TiB with holes: a few files, little written."""
    image = RawImage(tmp_path / "v.img", 12 << 40)
    writer = NtfsWriter(image, plan(0, image.size - (1 << 20), 8192, 512, "windows"), "", 7, NOON, "windows")
    content = np.arange(30_000, dtype="u1").tobytes()
    writer.store("one.bin", len(content), [content], NOON)
    writer.flush()
    image.sync()
    assert image.path.stat().st_blocks * 512 < 400 << 20
    volume = open_ntfs(image, Extent(0, image.size - (1 << 20)))
    assert volume is not None
    (entry,) = (e for e in volume.entries() if not e.folder)
    assert b"".join(entry.map.chunks(image)) == content and volume.used_and_free()[1] == writer.room
    image.close()
