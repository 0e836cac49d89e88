"""HFS Plus and HFSX: names and trees, the writer under the kernel and a checker, what comes back after losses."""

from __future__ import annotations

import datetime as dt
import hashlib
import random
import shutil
import struct
import unicodedata
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from sastrugi.errors import VolumeError
from sastrugi.media import Extent, RangeSet, open_medium
from sastrugi.media.raw import RawImage
from sastrugi.recovery.layout import find_places
from sastrugi.recovery.scan_file import ScanFile
from sastrugi.specimen.write_tracker import WriteTracker
from sastrugi.volumes.hfsplus.btree import Tree
from sastrugi.volumes.hfsplus.catalog_read import records_at, shaped_overflow, shaped_records
from sastrugi.volumes.hfsplus.journal_read import find_journal, waiting_sectors
from sastrugi.volumes.hfsplus.journal_write import Copy, JournalWriter
from sastrugi.volumes.hfsplus.layout import (
    ATTRIBUTES_KEY,
    FOLDED,
    JOURNAL_INFO,
    Geometry,
    journal_sum,
    of_seconds,
    to_seconds,
)
from sastrugi.volumes.hfsplus.mapping import all_runs
from sastrugi.volumes.hfsplus.names import composed, decomposed, folded, text_of, to_units
from sastrugi.volumes.hfsplus.opening import open_hfs, starts
from sastrugi.volumes.hfsplus.peek import peek
from sastrugi.volumes.hfsplus.plan import plan
from sastrugi.volumes.hfsplus.read import HfsVolume
from sastrugi.volumes.hfsplus.records import FileState, ForkState, catalog_key, overflow, packed_file
from sastrugi.volumes.hfsplus.sector_tests import header_sectors, node_sectors
from sastrugi.volumes.hfsplus.tree_read import TreeFile, spans_of
from sastrugi.volumes.hfsplus.write import HfsWriter
from sastrugi.volumes.metadata_scan import heads_of
from sastrugi.volumes.writer import Evidence
from tests.conftest import Program
from tests.disks import LIST_ALL, NOON, Disk, Loss, real_loss
from tests.hfs_checker import Checker
from tests.judges import HFS, format_hfs, linux, require_drivers, seven_zip
from tests.losses import DROPPED, USED_ON, damage, deletion, emptied_bin, lay_down_search_and_score
from tests.test_drivers import listed


def new_disk(path: Path, variant: str, block: int, size: int = 32 << 20, habits: str = "linux") -> Disk:
    image = RawImage(path, size)
    planned = plan("HFS+", 0, size, block, 512, habits == "macos")
    return Disk(image, HfsWriter(image, planned, variant, "Base camp", 7, NOON, habits), open_hfs)  # type: ignore[arg-type]


# -- names and times --------------------------------------------------------------------------------------------------


@given(st.datetimes(dt.datetime(1904, 1, 1, 0, 0, 1), dt.datetime(2040, 2, 6), timezones=st.just(dt.UTC)))
def test_times_are_read_as_they_were_written(moment: dt.datetime) -> None:
    assert of_seconds(to_seconds(moment)) == moment.replace(microsecond=0)
    assert to_seconds(dt.datetime(1890, 1, 1)) == 0 and of_seconds(0) is None
    assert to_seconds(dt.datetime(2100, 1, 1)) == (1 << 32) - 1


@given(st.text(st.characters(exclude_categories=["Cs", "Cc"]), min_size=1, max_size=60))
def test_a_name_is_read_as_it_was_written(name: str) -> None:
    name = name.replace("/", "")
    stored = decomposed(name)
    assert decomposed(composed(stored)) == stored and text_of(stored.encode("utf-16-be")) == composed(stored)
    if name.isascii():
        assert text_of(to_units(name)) == name
        assert folded(to_units(name.upper())) == folded(to_units(name.lower()))


def test_names_as_the_note_has_them() -> None:
    assert to_units("é:") == "e\u0301/".encode("utf-16-be") and text_of("한".encode("utf-16-be")) == "한"
    assert to_units("\ufa19") == "\ufa19".encode("utf-16-be"), "compatibility ideographs stay as they are"
    assert folded("a\u200cB".encode("utf-16-be")) == folded("Ab".encode("utf-16-be")), (
        "some characters count as nothing"
    )
    assert folded("\0".encode("utf-16-be")) > folded("z".encode("utf-16-be")), "a zero comes last"
    for name in ("a" * 256, "é" * 128, "\ud800"):
        with pytest.raises(VolumeError):
            to_units(name)


_NAMES = """import os
owner = {{}}
out = open({out!r}, "w")
os.mkdir("n")
for code in {codes!r}:
    path = "n/x" + chr(code)
    try:
        file = os.open(path, os.O_CREAT | os.O_EXCL | os.O_WRONLY)
        owner[os.fstat(file).st_ino] = code
        os.close(file)
    except FileExistsError:
        print(code, owner[os.stat(path).st_ino], file=out)
"""


@pytest.mark.drivers
def test_names_are_the_same_where_the_kernel_says_so(tmp_path: Path) -> None:
    """Of thousands of letters: which are one name to the driver, and the order in which it keeps them."""
    require_drivers()
    codes = [
        *range(0xA1, 0x4D0),
        *range(0x531, 0x600),
        *range(0x10A0, 0x1100),
        *range(0x1E00, 0x2000),
        *range(0x2150, 0x2190),
        *range(0xFF01, 0xFF60),
    ]
    disk = new_disk(tmp_path / "v.img", "hfs+", 4096)
    disk.volume()
    script = tmp_path / "names.py"
    script.write_text(_NAMES.format(out=str(tmp_path / "same.txt"), codes=codes))
    linux(disk.image.path, f"/usr/bin/python3 {script}", tmp_path, file_system="hfs+")
    same = dict(tuple(map(int, line.split())) for line in (tmp_path / "same.txt").read_text().splitlines())
    assert Checker(disk.image.path).check() == [], "their order is ours"
    made: dict[bytes, int] = {}
    for code in codes:
        key = folded(to_units("x" + chr(code)))
        first = made.setdefault(key, code)
        # Letters that are younger than the table of the note are whole to the driver, and decomposed here.
        assert same.get(code, code) == first or _decomposed_later(code) or _decomposed_later(first), (
            hex(code),
            hex(first),
        )
    assert len(same) > 500


def _decomposed_later(code: int) -> bool:
    """Whether a letter, or its small form, is taken apart by Unicode 3.2, which the driver's older table does not do alike."""
    return len(decomposed(chr(code))) > 1 or len(decomposed(chr(code).lower())) > 1


# -- trees ------------------------------------------------------------------------------------------------------------


@settings(max_examples=25)
@given(seed=st.integers(0, 1 << 32), node=st.sampled_from([512, 1024, 4096]), steps=st.integers(1, 700))
def test_a_tree_holds_what_was_put_into_it(
    tmp_path_factory: pytest.TempPathFactory, seed: int, node: int, steps: int
) -> None:
    """Any order of insertions, changes and removals: what a reader finds on the medium is what a dictionary holds."""
    dice = random.Random(seed)
    image = RawImage(tmp_path_factory.mktemp("tree") / "t.img", 8 << 20)
    sizes = [16]

    def grow() -> int:
        sizes[0] += 16
        return sizes[0]

    moved: list[tuple[list[Any], int]] = []
    tree = Tree(node, ATTRIBUTES_KEY, FOLDED, 16, grow, lambda keys, number: moved.append((keys, number)))
    model: dict[tuple[int, bytes], bytes] = {}
    for _ in range(steps):
        if model and dice.random() < 0.4:
            key = dice.choice(list(model))
            if dice.random() < 0.3:
                size = len(model[key]) - len(_key_bytes(key))
                model[key] = _key_bytes(key) + dice.randbytes(size)
                tree.replace(key, model[key][-size:] if size else b"")
            else:
                assert tree.remove(key) == model.pop(key)
            continue
        key = (dice.randrange(40), f"{dice.randrange(9000)}".rjust(dice.randrange(1, 30), "0").encode("utf-16-be"))
        if key not in model:
            model[key] = _key_bytes(key) + dice.randbytes(2 * dice.randrange(0, 40))
            tree.insert(key, model[key])
    for number, data in tree.changes(4096).items():
        image.write(number * node, data)
    read = TreeFile(image, (Extent(0, sizes[0] * node),), sizes[0] * node)
    leaves, whole = read.leaves
    found = [
        data[lo:hi].tobytes()
        for data, _, spans in read.records(leaves)
        for lo, hi in zip(spans.starts.tolist(), spans.ends.tolist(), strict=True)
    ]
    assert whole and read.good and sorted(found) == sorted(model.values()) and not tree.changes(4096)
    order = [key for leaf in tree.leaves() for key in leaf.keys]
    assert order == sorted(model) == tree.keys_from((-1,), (99,))
    assert tree.free == tree.total - len(tree.nodes) - 1 - len(tree._maps)
    assert all(tree.find(key) is not None for key in model) and tree.find((99, b"")) is None
    for key in list(model):
        tree.remove(key)
    assert (tree.root, tree.depth, tree.leaf_records, tree.nodes) == (0, 0, 0, {})
    image.close()


def _key_bytes(key: tuple[int, bytes]) -> bytes:
    return struct.pack(">HI", 4 + len(key[1]), key[0]) + key[1]


@given(data=st.binary(max_size=2048), node=st.sampled_from([64, 512]))
def test_any_bytes_are_nodes_without_harm(data: bytes, node: int) -> None:
    rows = np.frombuffer(data.ljust(-(-max(len(data), 1) // node) * node, b"\0"), "u1").reshape(-1, node)
    spans = spans_of(rows)
    assert ((spans.starts >= 14) & (spans.ends > spans.starts) & (spans.ends <= rows.size)).all()
    for record in (*records_at(rows.reshape(-1), spans.starts, spans.ends), *shaped_records(rows.reshape(-1))):
        assert 0 <= record.at <= record.data_at < rows.size and "/" not in (record.name or "")
    assert all(one.runs for one in shaped_overflow(rows.reshape(-1)))


# -- the writer under judges ------------------------------------------------------------------------------------------


@settings(max_examples=15)
@given(
    variant=st.sampled_from(HFS), size=st.integers(100 << 10, 60 << 20), power=st.integers(9, 16),
    habits=st.sampled_from(["linux", "macos"]),
)  # fmt: skip
def test_any_volume_is_one_for_the_checker(
    tmp_path_factory: pytest.TempPathFactory, variant: str, size: int, power: int, habits: str
) -> None:
    """Any size and block: a volume without a fault that holds a file and is told by its header and the copy of that; or
    a reason why it cannot be."""
    size = size // 512 * 512
    try:
        disk = new_disk(tmp_path_factory.mktemp("any") / "v.img", variant, 1 << power, size, habits)
    except VolumeError as error:
        assert "at least" in str(error)
        return
    disk.store("core.bin", b"firn" * 700)
    volume = disk.volume()
    assert Checker(disk.image.path).check() == [] and volume.mountable and not volume.health
    assert (volume.label, volume.where) == ("Base camp", Extent(0, size))
    assert volume.used_and_free()[1] == disk.writer.room
    assert (0, False) in starts(disk.image, 1024) and (0, True) in starts(disk.image, size - 1024)
    disk.image.zero(1024, 512)
    spare = open_hfs(disk.image, Extent(0, size))
    assert spare is not None and not spare.mountable and "copy" in spare.health[0]
    assert [e.full_path for e in spare.entries() if not e.deleted] == ["/core.bin"]
    disk.image.close()


def full_disk(path: Path, variant: str, block: int, habits: str, size: int = 64 << 20) -> Disk:
    """Folders with many files, one in hundreds of pieces, forks, links, attributes; and changes of all kinds."""
    disk = new_disk(path, variant, block, size, habits)
    dice, writer = random.Random(f"{variant} {block}"), disk.writer
    writer.make_folder("Logs/Day 1", NOON)
    names = ("core section", "Ísinn við Þingvað", "Ледник", "氷河", "Señal ½ é", "two: colons")
    for n in range(180):
        count = dice.choice([0, 1, block - 1, block, block + 1, 5000, 70_000 if n % 9 == 0 else 3000])
        where = ("", "Logs/", "Logs/Day 1/")[n % 3]
        disk.store(f"{where}{names[n % 6]} {n} of the upper firn.bin", dice.randbytes(count))
    disk.store("large.bin", dice.randbytes(4 << 20))
    taken = writer.extent_runs(writer.reserve(600 * block))
    writer.clusters.release(taken)
    pieces = [(n, 1) for start, count in taken for n in range(start, start + count, 2)][:270]
    writer.clusters.mark(pieces, True)
    disk.store("in pieces.bin", dice.randbytes(270 * block - 5), lie=writer.run_extents(pieces))
    for path_ in ("Logs/Ísinn við Þingvað 1 of the upper firn.bin", "in pieces.bin"):
        more = dice.randbytes(9 * block + 17)
        writer.grow(disk.find(path_), len(more), [more], disk.tick())
        disk.content[path_] += more
    disk.store("in pieces.bin:rsrc", dice.randbytes(3 * block + 9))
    disk.store("large.bin:rsrc", dice.randbytes(700))
    for name in ("Logs/linked.bin", "third name.bin"):
        writer.link(disk.find("large.bin"), name, disk.tick())
        disk.content[name] = disk.content["large.bin"]
        disk.content[f"{name}:rsrc"] = disk.content["large.bin:rsrc"]
    writer.rename(disk.find("Logs/Day 1"), "Day one", disk.tick())
    disk.content = {path.replace("Logs/Day 1", "Day one"): data for path, data in disk.content.items()}
    for path_ in [p for p in sorted(disk.content) if "section" in p][::3]:
        disk.delete(path_, habits)
    writer.delete(disk.find("third name.bin"), disk.tick(), habits)  # type: ignore[arg-type]
    disk.content = {path: data for path, data in disk.content.items() if not path.startswith("third")}
    disk.volume()
    return disk


DISKS = [("hfs+", 512, "linux"), ("hfs+", 1024, "macos"), ("hfsx", 4096, "linux"), ("hfs+", 65536, "linux")]


@pytest.mark.drivers
@pytest.mark.parametrize(("variant", "block", "habits"), DISKS)
def test_other_readers_read_what_is_written(tmp_path: Path, variant: str, block: int, habits: str) -> None:
    """The checker finds nothing; the kernel and 7-Zip give every file and fork by its digest; then (where there is no
    journal) the kernel makes, moves and deletes, and our reader follows."""
    require_drivers()
    disk = full_disk(tmp_path / "v.img", variant, block, habits, (256 if block > 16384 else 64) << 20)
    assert Checker(disk.image.path).check() == []
    forks = {path: data for path, data in disk.content.items() if path.endswith(":rsrc")}
    files = {path: data for path, data in disk.content.items() if path not in forks}
    seven_zip("x", f"-o{tmp_path / 'out'}", disk.image.path)
    (top,) = (tmp_path / "out").iterdir()
    out = {unicodedata.normalize("NFC", p.relative_to(top).as_posix()): p for p in top.rglob("*") if p.is_file()}
    for path in ("in pieces.bin", "in pieces.bin:rsrc", "Logs/Ледник 10 of the upper firn.bin"):
        assert path not in disk.content or out[path].read_bytes() == disk.content[path], path
    script = [LIST_ALL % (tmp_path / "sums.txt")]
    if habits == "linux":
        script += ["mkdir new; seq 9000 > new/numbers.txt; cp large.bin new/; mv 'in pieces.bin' new/moved.bin"]
        script += ["rm -r 'Day one'; rm Logs/linked.bin; for i in $(seq 300); do echo $i > new/many$i; done"]
    linux(disk.image.path, "\n".join(script), tmp_path, file_system=variant)
    seen = {
        composed(path.replace("/", "\0")).replace("\0", "/"): digest
        for path, digest in listed(tmp_path / "sums.txt").items()
    }
    assert {p: d for p, d in seen.items() if not p.startswith(".journal")} == {
        path: hashlib.sha256(data).hexdigest() for path, data in files.items()
    }
    assert Checker(disk.image.path).check() == []
    if habits == "linux":
        files = {p: data for p, data in files.items() if not p.startswith("Day one") and p != "Logs/linked.bin"}
        files["new/numbers.txt"] = "".join(f"{n}\n" for n in range(1, 9001)).encode()
        files["new/moved.bin"], files["new/large.bin"] = files.pop("in pieces.bin"), files["large.bin"]
        files |= {f"new/many{n}": f"{n}\n".encode() for n in range(1, 301)}
        forks = {"new/moved.bin:rsrc": forks["in pieces.bin:rsrc"], "large.bin:rsrc": forks["large.bin:rsrc"]}
    with open_medium(disk.image.path) as medium:
        volume = open_hfs(medium, Extent(0, medium.size))
        assert volume is not None and not volume.health and volume.label == "Base camp"
        live = {e.full_path[1:]: e for e in volume.entries() if not e.deleted and not e.folder}
        assert {path: b"".join(entry.map.chunks(medium)) for path, entry in live.items()} == files | forks


def test_a_catalog_of_many_pieces(tmp_path: Path) -> None:
    """Many files on a volume that was full of holes: the catalog has more pieces than its record has room for."""
    block = 512
    disk = new_disk(tmp_path / "v.img", "hfs+", block, 24 << 20)
    writer = disk.writer
    units = 16384 // block
    taken = writer.extent_runs(writer.reserve(writer.room // block * block))
    (start, count), *_ = taken
    holes = [(n, units) for n in range(start, start + count - 2 * units, 2 * units)]
    writer.clusters.release(holes)
    for n in range(2000):
        writer.store(f"reading {n * 7919 % 2000:05}.txt", 0, [], NOON)
    for n in range(0, 2000, 2):
        writer.delete(disk.find(f"reading {n:05}.txt"), NOON)
    volume = disk.volume()
    assert len(volume.catalog._extents) > 8 and not volume.health
    assert len([e for e in volume.entries() if not e.deleted]) == 1000
    with pytest.raises(VolumeError, match="full"):
        disk.writer.reserve(disk.writer.room + block)
    writer.clusters.release([(n, units) for n in range(start + units, start + count - 2 * units, 2 * units)])
    assert [w for w in Checker(disk.image.path).check() if "bitmap" not in w and "free blocks" not in w] == []


def test_a_full_volume_says_so_and_stays_sound(tmp_path: Path) -> None:
    disk = new_disk(tmp_path / "v.img", "hfs+", 1024, 1 << 20)
    with pytest.raises(VolumeError, match="full"):
        for n in range(9000):
            disk.store(f"reading {n:05} of the season.txt", b"dry" * (n % 700))
    disk.content.popitem()
    with pytest.raises(VolumeError, match="full"):
        disk.writer.grow(disk.find("reading 00001 of the season.txt"), 1 << 20, [bytes(1 << 20)], NOON)
    for in_place in (True, False):
        with pytest.raises(VolumeError, match="full"):
            disk.writer.rewrite(disk.find("reading 00002 of the season.txt"), 1 << 20, [bytes(1 << 20)], NOON, in_place)
    volume = disk.volume()
    assert Checker(disk.image.path).check() == []
    live = {e.full_path[1:]: disk.bytes_of(e) for e in volume.entries() if not e.deleted}
    assert live == disk.content


def test_what_a_volume_cannot_do_it_says(tmp_path: Path) -> None:
    disk = new_disk(tmp_path / "v.img", "hfs+", 4096)
    node = disk.store("Core.bin", b"firn")
    writer = disk.writer
    writer.make_folder("Logs", NOON)
    for path, words in (
        ("core.BIN", "already"),
        ("Logs/a/b", "no such folder"),
        (".journal", "volume's own"),
        ("Core.bin/x", "no such folder"),
    ):
        with pytest.raises(VolumeError, match=words):
            disk.writer.store(path, 0, [], NOON)
    disk.store("Core.bin:rsrc", b"icon")
    for call in (
        lambda: writer.link(disk.find("Logs"), "x", NOON), lambda: writer.store("Core.bin:rsrc", 1, [b"x"], NOON),
        lambda: writer.rename(disk.find("Core.bin:rsrc"), "x", NOON), lambda: writer.delete(writer.root, NOON),
        lambda: writer.store("Logs:rsrc", 1, [b"x"], NOON), lambda: writer.store("short.bin", 9, [b"x"], NOON),
    ):  # fmt: skip
        with pytest.raises(VolumeError):
            call()
    writer.rewrite(disk.find("Core.bin:rsrc"), 9000, [b"i" * 9000], NOON, False)
    assert disk.find("Core.bin:rsrc").size == 9000 and writer.streams_of(node) == [disk.find("Core.bin:rsrc")]
    writer.delete(disk.find("Core.bin:rsrc"), NOON)
    assert [e.full_path for e in disk.volume().entries() if not e.deleted and not e.folder] == ["/Core.bin"]
    assert Checker(disk.image.path).check() == []
    case = new_disk(tmp_path / "x.img", "hfsx", 4096)
    case.store("core.bin", b"a")
    case.store("Core.bin", b"b")
    assert len([e for e in case.volume().entries() if not e.deleted]) == 2 and Checker(case.image.path).check() == []
    for title, block, message in (
        ("HFS+", 256, "power of two"),
        ("HFSX", 1 << 17, "cannot be"),
        ("HFS+", 4096, "at least"),
    ):
        with pytest.raises(VolumeError, match=message):
            plan(title, 0, 200 << 10, block, 512, False)


# -- what is left -----------------------------------------------------------------------------------------------------


@settings(max_examples=10)
@given(seed=st.integers(0, 1 << 32), habits=st.sampled_from(["macos", "linux"]), variant=st.sampled_from(HFS))
def test_any_history_is_told(tmp_path_factory: pytest.TempPathFactory, seed: int, habits: str, variant: str) -> None:
    """Files that come, grow, move, get other content and go: of each that went the reader tells what the writer says can
    be told; with a journal that never went round that is all of them, as they were last."""
    dice = random.Random(seed)
    disk = new_disk(tmp_path_factory.mktemp("history") / "v.img", variant, 1024, 512 << 20, habits)
    writer = disk.writer
    writer.make_folder("Logs/Day 1", NOON)
    gone: dict[str, tuple[bytes, Any, Any]] = {}
    tracker = WriteTracker(disk.image)
    for n in range(40):
        live = sorted(disk.content)
        do = dice.choice(["store", "store", "store", "delete", "grow", "rewrite", "rename"]) if live else "store"
        path = dice.choice(live) if live else ""
        if do == "store":
            disk.store(f"{('', 'Logs/', 'Logs/Day 1/')[n % 3]}core {n}.bin", dice.randbytes(dice.randrange(1, 9000)))
        elif do == "delete":
            content, place = disk.content[path], writer.map(disk.find(path))
            evidence = disk.delete(path, habits)
            traces = [(trace, tracker.watch(trace.where, 1)) for trace in evidence.traces]
            gone[path] = content, traces, tracker.watch(place.stored)
        elif do == "rename":
            new = f"{('', 'Logs/', 'Logs/Day 1/')[n % 3]}moved {n}.bin"
            writer.rename(disk.find(path), new, disk.tick())
            disk.content[new] = disk.content.pop(path)
        else:
            data = dice.randbytes(dice.randrange(1, 5000))
            if do == "grow":
                writer.grow(disk.find(path), len(data), [data], disk.tick())
                disk.content[path] += data
            else:
                writer.rewrite(disk.find(path), len(data), [data], disk.tick(), False)
                disk.content[path] = data
    volume = disk.volume()
    assert Checker(disk.image.path).check() == []
    assert {
        e.full_path[1:]: disk.bytes_of(e) for e in volume.entries() if not e.deleted and not e.folder
    } == disk.content
    found = {e.full_path[1:]: e for e in (*volume.history(), *(e for e in volume.entries() if e.deleted))}
    for path, (content, traces, tracked) in gone.items():
        standing = {(trace.tells, trace.worth) for trace, where in traces if not where.gone}
        assert habits != "macos" or {told for told, _ in standing} == {"name", "place"}, path
        if standing >= {("name", "full"), ("place", "whole")}:
            assert path in found and (tracked.gone or disk.bytes_of(found[path]) == content), path
    told = set(found) - set(gone)
    assert not any(path in disk.content and found[path].map == writer.map(disk.find(path)) for path in told)
    disk.image.close()


def test_an_evidence_is_what_stands(tmp_path: Path) -> None:
    """What the writer says is left of a deleted file holds its name and its first block, wherever it says that stands; and
    what it foresees is left."""
    disk = new_disk(tmp_path / "v.img", "hfs+", 1024)
    for n in range(120):
        disk.store(f"core {n:03}.bin", random.Random(n).randbytes(3000))
    told = 0
    for n in (119, 60, 61, 3, 118):
        node = disk.find(f"core {n:03}.bin")
        start = (disk.writer.extents(node)[0].offset // 1024).to_bytes(4, "big")
        before = disk.writer.evidence_after(node, "linux")
        evidence = disk.delete(f"core {n:03}.bin")
        assert set(before.traces) <= set(evidence.traces)
        for trace in evidence.traces:
            data = b"".join(disk.image.read(*part) for part in trace.where)
            assert (f"{n:03}".encode("utf-16-be") if trace.tells == "name" else start) in data
            told += 1
        seen = peek("hfs+", disk.image.read_extents(evidence.record), evidence.record, 0, 1024)
        assert not evidence.traces or seen is None or seen.name in ("", f"core {n:03}.bin")
    assert told >= 4


def test_a_bin_tells_where_files_were(tmp_path: Path) -> None:
    disk = new_disk(tmp_path / "v.img", "hfs+", 4096, habits="macos")
    disk.writer.make_folder("Season/Photos", NOON)
    disk.writer.make_folder(".Trashes/501", NOON)
    disk.store("Season/Photos/sérac.jpg", b"\xff\xd8" * 3000)
    disk.store("Season/inside/x.txt", b"dry") if disk.writer.make_folder("Season/inside", NOON) else None
    disk.writer.rename(disk.find("Season/Photos/sérac.jpg"), ".Trashes/501/sérac.jpg", disk.tick())
    disk.writer.rename(disk.find("Season/inside"), ".Trashes/501/inside", disk.tick())
    for path in (".Trashes/501/sérac.jpg", ".Trashes/501/inside/x.txt", ".Trashes/501/inside"):
        disk.writer.delete(disk.find(path), disk.tick(), "macos")
    assert set(disk.gone()) == {"Season/Photos/sérac.jpg", "Season/inside/x.txt"}


def test_names_of_a_file_that_had_several(tmp_path: Path) -> None:
    disk = new_disk(tmp_path / "v.img", "hfs+", 4096, habits="macos")
    disk.store("one.bin", b"firn" * 2000)
    disk.writer.link(disk.find("one.bin"), "two.bin", disk.tick())
    disk.writer.delete(disk.find("one.bin"), disk.tick(), "macos")
    assert "two.bin" not in disk.gone() and "one.bin" not in disk.gone(), "it stands under its other name"
    disk.writer.delete(disk.find("two.bin"), disk.tick(), "macos")
    gone = disk.gone()
    assert gone["two.bin"] == b"firn" * 2000 and not any("iNode" in path for path in gone)


@pytest.mark.parametrize(
    "structure", ["header", "backup-header", "bitmap", "catalog header", "first leaf", "extents", "attributes"]
)
def test_a_damaged_volume_gives_what_is_left(tmp_path: Path, structure: str) -> None:
    disk = full_disk(tmp_path / "v.img", "hfs+", 1024, "linux")
    writer: Any = disk.writer
    catalog = writer._own.catalog
    where = {
        "catalog header": [writer._own.node_at(catalog, 0)], "first leaf": [writer._own.node_at(catalog, catalog.tree.first_leaf)],
    }.get(structure) or writer.structures()[structure]  # fmt: skip
    for part in where:
        disk.image.zero(*part)
    volume = open_hfs(disk.image, Extent(0, disk.image.size))
    assert volume is not None
    entries = {e.full_path[1:]: e for e in volume.entries() if not e.deleted and not e.folder}
    whole = {path for path, e in entries.items() if disk.bytes_of(e) == disk.content.get(path)}
    assert volume.mountable == (structure in ("backup-header", "bitmap"))
    if structure == "first leaf":
        assert 0 < len(whole) < len(disk.content) and volume.health
    else:
        lost = {"in pieces.bin"} if structure == "extents" else set()
        assert whole == set(disk.content) - lost


def test_a_volume_that_was_not_unmounted(tmp_path: Path) -> None:
    """Changes that stand in the journal alone: what is live is what a driver would say after a mount."""
    disk = new_disk(tmp_path / "v.img", "hfs+", 1024, habits="macos")
    for n in range(30):
        disk.store(f"core {n}.bin", random.Random(n).randbytes(2000))
    disk.volume()
    writer: Any = disk.writer
    journal = writer._own.journal
    first = journal._next
    before = {
        part: disk.image.read(*part) for parts in writer.structures().values() for part in parts if part.offset != 0
    }
    log = writer.structures()["journal"][0]
    for n in range(3):
        disk.store(f"late {n}.bin", random.Random(n + 99).randbytes(4000))
    for n in range(0, 30, 9):
        disk.delete(f"core {n}.bin", "macos")
    disk.volume()
    for part, data in before.items():  # the changes never came to their places
        if part != log:
            disk.image.write(part.offset, data)
    head = bytearray(disk.image.read(log.offset, 44))
    head[8:16] = struct.pack("<Q", first)
    head[36:40] = bytes(4)
    head[36:40] = struct.pack("<I", journal_sum(bytes(head)))
    disk.image.write(log.offset, bytes(head))
    volume = open_hfs(disk.image, Extent(0, disk.image.size))
    assert volume is not None and "not unmounted" in " ".join(volume.health)
    live = {e.full_path[1:]: b"".join(e.map.chunks(disk.image)) for e in volume.entries() if not e.deleted}
    assert live == disk.content
    disk.image.write(log.offset + first + 8, b"\1\2\3\4")  # a list whose checksum is wrong ends the row
    volume = open_hfs(disk.image, Extent(0, disk.image.size))
    assert volume is not None and "late 2.bin" not in {e.full_path[1:] for e in volume.entries() if not e.deleted}


LOSSES = {
    "deleted, small blocks": Loss("hfsx", 512, 150, 0.97, 0.85),
    "some deleted": Loss("hfs+", 4096, 200, 0.40, 0.0, then="cd files; ls | head -n 3 | xargs rm -r; cd ..; sync"),
    "formatted": Loss("hfs+", 4096, 200, 0.98, 0.95, then="sync", over=lambda image: format_hfs(image, "hfs+", 4096)),
    "formatted with other blocks": Loss("hfs+", 4096, 200, 0.95, 0.80, then="sync", over=lambda image: format_hfs(image, "hfsx", 1024)),
}  # fmt: skip


@pytest.mark.drivers
@pytest.mark.parametrize("case", LOSSES)
def test_real_files_come_back(sastrugi: Program, tmp_path: Path, case: str) -> None:
    real_loss(sastrugi, tmp_path, LOSSES[case], case)


@pytest.mark.parametrize("variant", HFS)
def test_an_image_of_it_is_adopted(sastrugi: Program, tmp_path: Path, variant: str) -> None:
    disk = new_disk(tmp_path / "lost.img", variant, 1024, 16 << 20, "macos")
    (tmp_path / "originals").mkdir()
    for n in range(12):
        disk.store(f"core {n}.bin", random.Random(n).randbytes(6000 + 3000 * n))
        (tmp_path / "originals" / f"core {n}.bin").write_bytes(disk.content[f"core {n}.bin"])
    disk.volume()
    shutil.copyfile(disk.image.path, tmp_path / "before.img")
    lost = {f"core {n}.bin" for n in range(4)}
    for path in sorted(lost):
        disk.delete(path, "macos")
    disk.volume()
    words = ("--before", tmp_path / "before.img", "--originals", tmp_path / "originals", "--into", tmp_path / "s")
    sastrugi("adopt", tmp_path / "lost.img", *words)
    sastrugi("audit", tmp_path / "s")
    sastrugi("scan", tmp_path / "s", "--out", tmp_path / "s.scan")
    with ScanFile.open(tmp_path / "s.scan") as scan:
        assert {f.name for f in scan.findings("state = 'deleted'")} == lost
    card = sastrugi("score", tmp_path / "s", tmp_path / "s.scan", "--out", tmp_path / "c.json", "--json").json
    assert card["intact"]["of_set"] == card["intact"]["value"] == 4


# -- hostile input ----------------------------------------------------------------------------------------------------


@pytest.fixture(scope="module", params=[("hfs+", "macos"), ("hfsx", "linux")])
def small_disk(request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, list[Extent]]:
    """A volume with deleted files, and where what it tells of itself stands."""
    variant, habits = request.param
    disk = new_disk(tmp_path_factory.mktemp("small") / "v.img", variant, 1024, 9 << 20, habits)
    disk.writer.make_folder("Logs", NOON)
    for n in range(40):
        disk.store(f"{('', 'Logs/')[n % 2]}core {n}.bin", random.Random(n).randbytes((n % 28 + 1) * 900))
    for n in range(0, 40, 3):
        disk.delete(f"{('', 'Logs/')[n % 2]}core {n}.bin", habits)
    disk.volume()
    own = [part for parts in disk.writer.structures().values() for part in parts]
    own += [part for node in disk.writer.walk() for part in disk.writer.record(node)]
    disk.image.close()
    return disk.image.path, own


@settings(max_examples=40)
@given(seed=st.integers(0, 1 << 32))
def test_any_bytes_end_in_less_found(
    small_disk: tuple[Path, list[Extent]], tmp_path_factory: pytest.TempPathFactory, seed: int
) -> None:
    """Wherever bytes are changed (links in circles, keys and offsets beyond their nodes, forks of 2^63 bytes, folders in
    themselves): no error, nothing outside of the medium, no end without an end."""
    dice = random.Random(seed)
    path, own = small_disk
    copy = tmp_path_factory.mktemp("hostile") / "v.img"
    shutil.copyfile(path, copy)
    with copy.open("r+b") as file:
        for _ in range(dice.choice([1, 5, 40, 400])):
            part = dice.choice(own)
            file.seek(part.offset + min(dice.randrange(part.length), dice.choice([64, 600, 1 << 30])))
            file.write(
                dice.choice([b"\xff", b"\0\0\0\0", dice.randbytes(4), b"\x7f" + b"\xff" * 7, b"\0\0\0\2", b"\0\x0e"])
            )
    with open_medium(copy) as medium:
        volume = open_hfs(medium, Extent(0, medium.size))
        if volume is None:
            return
        for entry in (*volume.entries(), *volume.history()):
            assert all(0 <= e.offset < e.end <= volume.where.end for e in entry.map.stored)
            assert "/" not in entry.name and entry.size < 1 << 50
        list(volume.numbered())
        volume.conflicts((volume.where,))
        volume.used_and_free()
        list(volume.structures())


@given(data=st.binary(max_size=400), cut=st.integers(0, 400))
def test_any_record_is_looked_at(data: bytes, cut: int) -> None:
    where = [Extent(0, min(cut, len(data)))] + ([Extent(4096, len(data) - cut)] if cut < len(data) else [])
    seen = peek("hfs+", data, where, 0, 4096)
    assert seen is None or seen.size >= 0


def test_few_sectors_look_like_nodes_or_headers(tmp_path: Path) -> None:
    noise = np.frombuffer(random.Random(3).randbytes(512 * 40_000), "u1").reshape(-1, 512)
    assert not node_sectors(noise, heads_of(noise)).any() and not header_sectors(noise, heads_of(noise)).any()
    disk = full_disk(tmp_path / "v.img", "hfs+", 1024, "linux")
    sectors = np.frombuffer(disk.image.path.read_bytes(), "u1").reshape(-1, 512)
    writer: Any = disk.writer
    own = RangeSet(extent for parts in disk.writer.structures().values() for extent in parts)
    marked = np.flatnonzero(node_sectors(sectors, heads_of(sectors))).tolist()
    assert len(marked) >= len(list(writer._own.catalog.tree.leaves())) and all(n * 512 in own for n in marked)
    assert np.flatnonzero(header_sectors(sectors, heads_of(sectors))).tolist() == [2, len(sectors) - 2]


def test_a_folder_in_itself_is_no_end_without_an_end(tmp_path: Path) -> None:
    disk = new_disk(tmp_path / "v.img", "hfs+", 4096)
    disk.writer.make_folder("a/b", NOON)
    disk.store("a/b/core.bin", b"firn")
    disk.volume()
    writer: Any = disk.writer
    node, n = writer._own.catalog.tree.find(disk.find("a").key)
    at = writer._own.node_at(writer._own.catalog, node.number).offset + node.ends[n]
    disk.image.write(at + 2, disk.find("a/b").file.number.to_bytes(4, "big"))  # `a` is in `b`, which is in it
    volume = open_hfs(disk.image, Extent(0, disk.image.size))
    assert isinstance(volume, HfsVolume)
    (entry,) = (e for e in volume.entries() if e.name == "core.bin")
    assert entry.damaged and entry.path[0].startswith("folder-") and disk.bytes_of(entry) == b"firn"


# -- recipes ----------------------------------------------------------------------------------------------------------

CASES = {
    "deleted": ("hfs+", "1 KiB", "macos", deletion("macos")),
    "deleted without a journal": ("hfsx", "4 KiB", "linux", deletion("linux")),
    "binned": ("hfs+", "4 KiB", "macos", emptied_bin("macos")),
    "partition": ("hfsx", "512 B", "macos", DROPPED),
    "header": ("hfs+", "4 KiB", "macos", damage("header")),
    "catalog": ("hfs+", "4 KiB", "macos", damage("catalog")),
    "extents": ("hfsx", "1 KiB", "linux", damage("extents")),
    "formatted": (
        "hfs+",
        "4 KiB",
        "linux",
        '{do = "format", volume = "logs", file_system = "hfs+", cluster = "4 KiB"}',
    ),
    "FAT over it": (
        "hfs+",
        "4 KiB",
        "linux",
        '{do = "format", volume = "logs", file_system = "fat16", cluster = "4 KiB"}',
    ),
    "used on": ("hfs+", "1 KiB", "macos", f"{deletion('macos')}, {USED_ON}"),
}


@pytest.mark.parametrize("loss", CASES)
def test_every_loss_is_laid_down_searched_and_scored(sastrugi: Program, tmp_path: Path, loss: str) -> None:
    # Where nothing tells of places any more, files in pieces stay in pieces.
    table, spared = ("gpt", "apm", "mbr")[len(loss) % 3], 5 if loss in ("deleted without a journal", "used on") else 12
    lay_down_search_and_score(sastrugi, tmp_path, *CASES[loss], table, len(loss), spared)


def test_copies_that_are_made_after_a_deletion_tell_too(tmp_path: Path) -> None:
    """What stands behind the end of a node goes into the journal with each further copy of the node."""
    disk = new_disk(tmp_path / "v.img", "hfs+", 4096, 64 << 20, "macos")
    for n in range(5):
        disk.store(f"core {n:02}.bin", b"firn" * 900)
    gone = disk.delete("core 04.bin", "macos")
    assert disk.writer.told_since(gone) is not None and disk.writer.told_since(Evidence((), ())) is None
    for n in range(3):
        disk.writer.rewrite(disk.find("core 03.bin"), 100 + n, [b"x" * (100 + n)], disk.tick(), True)
    disk.volume()
    now = disk.writer.told_since(gone)
    assert now is not None and len(set(now.traces) - set(gone.traces)) >= 3
    for trace in now.traces:
        assert any(disk.image.read(*part).strip(b"\0") for part in trace.where)


@pytest.mark.parametrize(("table", "kinds"), [
    ("gpt", {"hfs+": "HFS+", "ext4": "Linux", "ntfs": "basic data", "fat16": "basic data"}),
    ("apm", {"hfs+": "Apple_HFS", "hfsx": "Apple_HFSX", "ext4": "Apple_UNIX_SVR2", "fat16": "DOS_FAT_32"}),
])  # fmt: skip
def test_a_table_lists_each_volume_as_what_it_is(
    sastrugi: Program, tmp_path: Path, table: str, kinds: dict[str, str]
) -> None:
    """Also after it was formatted as something else; and the volume is found by what the table says."""
    names = ", ".join(f'{{ name = "v{n}", size = "20 MiB" }}' for n in range(len(kinds)))
    steps = "".join(
        f'[[steps]]\ndo = "format"\nvolume = "v{n}"\nfile_system = "{first}"\n'
        f'[[steps]]\ndo = "format"\nvolume = "v{n}"\nfile_system = "{name}"\n'
        for n, (name, first) in enumerate(zip(kinds, reversed(list(kinds)), strict=True))
    )
    (tmp_path / "r.toml").write_text(
        f'recipe = 1\nname = "r"\ntitle = "r"\nseed = 3\n[medium]\nsize = "96 MiB"\n'
        f'[[steps]]\ndo = "partition"\ntable = "{table}"\nvolumes = [{names}]\n{steps}'
    )
    sastrugi("build", "r.toml", "--into", "s", cwd=tmp_path)
    sastrugi("audit", "s", cwd=tmp_path)
    with open_medium(tmp_path / "s") as medium:
        places = find_places(medium)
    assert [place.partition.type_name for place in places if place.partition] == list(kinds.values())
    assert [place.partition.label for place in places if place.partition] == [f"v{n}" for n in range(len(kinds))]
    assert [place.volume.file_system.casefold() for place in places if place.volume] == list(kinds)


# -- records and journals, there and back -----------------------------------------------------------------------------

RUNS = st.lists(st.tuples(st.integers(1, 1 << 31), st.integers(1, 1 << 20)), max_size=30)


@given(
    number=st.integers(16, (1 << 32) - 1), parent=st.integers(2, (1 << 32) - 1), size=st.integers(0, 1 << 40), runs=RUNS,
    other=RUNS, name=st.text("abcæ雪é .-_0189", min_size=1, max_size=60), folder=st.booleans(), shift=st.integers(0, 40),
)  # fmt: skip
def test_a_record_is_read_as_it_was_packed(
    number: int, parent: int, size: int, runs: list[tuple[int, int]], other: list[tuple[int, int]], name: str, folder: bool,
    shift: int,
) -> None:  # fmt: skip
    """By its place in a node, by its shape anywhere, and without its key; and its further extents by theirs."""
    state = FileState(number, folder, NOON, NOON, NOON, ForkState(size, runs), ForkState(7, other), valence=0)
    key, data = catalog_key(parent, to_units(name)), packed_file(state)
    raw = np.frombuffer(bytes(2 * shift) + key + data + bytes(300), "u1")
    start = np.array([2 * shift])
    (by_place,) = records_at(raw, start, start + len(key) + len(data))
    assert by_place in list(shaped_records(raw))
    assert (by_place.number, by_place.parent, by_place.name) == (number, parent, composed(decomposed(name)))
    assert of_seconds(by_place.created) == NOON.replace(tzinfo=dt.UTC)
    if folder:
        return
    assert by_place.data == (size, sum(n for _, n in runs), tuple(runs[:8])) and by_place.resource.runs == tuple(
        other[:8]
    )
    alone = [one for one in shaped_records(np.frombuffer(bytes(2 * shift) + data, "u1")) if one.at == 2 * shift]
    assert [(one.number, one.name, one.data) for one in alone] == [(number, None, by_place.data)]
    records = b"".join(record for _, record in overflow(0, number, runs))
    further = [one for one in shaped_overflow(np.frombuffer(records, "u1")) if one.number == number]
    assert [run for one in further for run in one.runs] == runs[8:]
    whole = all_runs(by_place.data, further)
    assert list(whole) == runs


@settings(max_examples=30)
@given(seed=st.integers(0, 1 << 32), size=st.sampled_from([64 << 10, 200 << 10]), behind=st.integers(1, 6))
def test_a_journal_gives_back_what_was_not_written(
    tmp_path_factory: pytest.TempPathFactory, seed: int, size: int, behind: int
) -> None:
    """After any row of transactions, however often it went round: of the last ones, which came to no place, every sector
    is told by its newest copy; and each copy stands where the writer says, until it is written over."""
    dice = random.Random(seed)
    geometry = Geometry(0, 8 << 20, 4096, 2048)
    image = RawImage(tmp_path_factory.mktemp("journal") / "j.img", 8 << 20)
    at = 1 << 20
    journal = JournalWriter(size, lambda place, data: image.write(at + place, data))
    image.write(4096, struct.pack(JOURNAL_INFO, 1, bytes(32), at, size))
    copies: list[tuple[Copy, bytes]] = []
    waiting: dict[int, bytes] = {}
    first = 0
    count = dice.randint(behind, 40)
    for n in range(count):
        if n == count - behind:
            first = journal._next
        pieces = {
            dice.randrange(4096, 1 << 19) // 512 * 512: dice.randbytes(512 * dice.randint(1, 8)) for _ in range(2)
        }
        if max(pieces) - min(pieces) < 4096:
            pieces = dict(list(pieces.items())[:1])
        for place, copy in journal.write(pieces).items():
            copies.append((copy, pieces[place]))
            if n >= count - behind:
                waiting |= {place + k: pieces[place][k : k + 512] for k in range(0, len(pieces[place]), 512)}
    head = bytearray(journal.header())
    head[8:16] = struct.pack("<Q", first)
    head[36:40] = bytes(4)
    head[36:40] = struct.pack("<I", journal_sum(bytes(head[:44])))
    image.write(at, bytes(head))
    found = find_journal(image, geometry, 1)
    assert found is not None and (found.where, found.first, found.list_size) == (Extent(at, size), first, 4096)
    told = waiting_sectors(image, geometry, found)
    assert {place: image.read(copy, 512) for place, copy in told.items()} == waiting
    for copy, data in copies:
        if journal.stands(copy):
            assert (
                b"".join(image.read(at + found.inside(copy.at + k), 1) for k in (0, len(data) - 1))
                == data[:1] + data[-1:]
            )
    image.close()


@pytest.mark.parametrize("over", ["ext4", "ntfs"])
def test_a_volume_under_another_is_told_by_its_nodes(sastrugi: Program, tmp_path: Path, over: str) -> None:
    """Neither header stands: nodes anywhere tell the names, and the files where blocks are."""
    recipe = f'''recipe = 1
name = "under"
title = "Under another"
seed = 9
medium.size = "80 MiB"
steps = [
    {{do = "format", file_system = "hfs+", cluster = "2 KiB", label = "OLD"}},
    {{do = "store", into = "/Season", corpus = {{files = 70, kinds = ["png", "pdf", "jpeg"], size = "3 KiB..60 KiB", depth = 2}}, reuse = "last"}},
    {{do = "damage", what = "backup-header"}},
    {{do = "format", file_system = "{over}", cluster = "4 KiB"}},
]
'''
    (tmp_path / "r.toml").write_text(recipe)
    sastrugi("build", "r.toml", "--into", "s", cwd=tmp_path)
    sastrugi("scan", "s", "--out", "s.scan", cwd=tmp_path)
    card = sastrugi("score", "s", "s.scan", "--json", "--out", "c.json", cwd=tmp_path).json
    lost = [file for file in card["files"] if file["ceiling_bytes"] == 1.0]
    assert len(lost) > 20 and sum(file["content"] == "intact" for file in lost) >= 0.95 * len(lost)
    named = [file for file in lost if file["ceiling_name"] in ("full", "name")]
    assert sum(file["name"] in ("full", "name") for file in named) >= 0.9 * len(named)
