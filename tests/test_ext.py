"""ext2, ext3, ext4: codecs and trees, folders beside a model, the writer under the kernel, and what comes back after losses."""

from __future__ import annotations

import datetime as dt
import hashlib
import random
import shutil
import subprocess
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from sastrugi.errors import VolumeError
from sastrugi.media import Extent, open_medium
from sastrugi.media.filemap import FileMap
from sastrugi.media.raw import RawImage
from sastrugi.progress import Progress
from sastrugi.recovery.evidence import Clue
from sastrugi.recovery.scan import scan
from sastrugi.recovery.scan_file import ScanFile
from sastrugi.volumes.ext.entries import entries_of, entries_of_many
from sastrugi.volumes.ext.folders import FolderBlocks
from sastrugi.volumes.ext.hashes import name_hash
from sastrugi.volumes.ext.inode import FileState, InodePacker, lists_for, split_runs, tokens, tree_for
from sastrugi.volumes.ext.inodes import widened
from sastrugi.volumes.ext.journal_layout import MAGIC_BYTES, SUMS_3, WIDE_NUMBERS
from sastrugi.volumes.ext.journal_read import read_copies
from sastrugi.volumes.ext.journal_write import JournalWriter
from sastrugi.volumes.ext.layout import HAS_EXTENTS, IS_FILE, Inode, of_seconds, to_seconds
from sastrugi.volumes.ext.mapping import map_of, placed
from sastrugi.volumes.ext.opening import open_ext
from sastrugi.volumes.ext.plan import plan
from sastrugi.volumes.ext.write import ExtWriter
from tests.conftest import Program
from tests.disks import LIST_ALL, NOON, Disk, Loss, real_loss
from tests.judges import EXT, assert_clean, debugfs, linux, make_volume, require_drivers
from tests.test_drivers import listed, real_files

UUID, SEED = bytes(range(16)), bytes(range(100, 116))


def geometry_for(variant: str, block: int, size: int = 64 << 20, habits: str = "linux"):  # type: ignore[no-untyped-def]
    return plan(variant, 0, size, block, 512, habits, UUID, SEED)  # type: ignore[arg-type]


# -- codecs -----------------------------------------------------------------------------------------------------------


@given(st.datetimes(dt.datetime(1902, 1, 1), dt.datetime(2400, 1, 1), timezones=st.just(dt.UTC)))
def test_times_are_read_as_they_were_written(moment: dt.datetime) -> None:
    assert of_seconds(*to_seconds(moment)) == (moment if moment.timestamp() else None)


@pytest.mark.drivers
@settings(max_examples=20)
@given(name=st.text("abcæ雪 .-_0189", min_size=1, max_size=80), kind=st.sampled_from(["legacy", "half_md4", "tea"]))
def test_names_are_hashed_as_the_system_does(name: str, kind: str) -> None:
    require_drivers()
    name = f"n{name}"  # the tool takes a dash for an option
    seed = "8f2e2b0c-9d5c-4b53-a7f2-1d2c3b4a5968"
    told = debugfs(Path("/dev/null"), f'dx_hash -h {kind} -s {seed} "{name}"')
    value = name_hash(name.encode(), ["legacy", "half_md4", "tea"].index(kind), bytes.fromhex(seed.replace("-", "")))
    assert f" 0x{value:x} " in told


@given(blocks=st.integers(0, 900), per=st.sampled_from([4, 8, 256]))
def test_lists_are_laid_among_what_they_list(blocks: int, per: int) -> None:
    every = list(tokens(min(blocks, 12 + per + per**2 + per**3), per))
    assert sum(count for level, count in every if not level) == min(blocks, 12 + per + per**2 + per**3)
    assert lists_for(min(blocks, 12 + per + per**2 + per**3), per) == sum(1 for level, _ in every if level)
    assert every[0] == (0, min(blocks, 12))


RUN_LENGTHS = st.lists(st.tuples(st.integers(1, 60), st.integers(1, 9)), max_size=400)


@pytest.mark.parametrize("variant", ["ext2", "ext4"])
@settings(max_examples=40)
@given(lengths=RUN_LENGTHS, short=st.integers(0, 1023))
def test_an_inode_tells_the_places_it_was_given(variant: str, lengths: list[tuple[int, int]], short: int) -> None:
    """Through trees and lists as deep as it takes; each of their blocks is one that the packer was given."""
    geometry = geometry_for(variant, 1024)
    state = FileState(12, 77, IS_FILE | 0o644, NOON, NOON, NOON)
    at, logical = 9000, 0
    for count, gap in lengths:
        state.runs.append((logical, at, count))
        logical, at = logical + count, at + count + gap
    if variant == "ext4":
        state.flags = HAS_EXTENTS
        need = tree_for(len(split_runs(state.runs)), 1024)
    else:
        need = lists_for(logical, 256)
    state.tree = list(range(200, 200 + need))
    state.size = max(logical * 1024 - short, 0)
    kept: dict[int, bytes] = {}
    raw = InodePacker(geometry, kept.__setitem__).packed(state)
    assert sorted(kept) == state.tree
    row = Inode.of(widened(np.frombuffer(raw, "u1").reshape(1, -1))[0])
    place, wrong, tree = map_of(row, geometry, kept.__getitem__, 0, raw)
    expected = FileMap.of((Extent(start * 1024, count * 1024) for _, start, count in state.runs), state.size)
    assert not wrong and sorted(tree) == (state.tree if variant == "ext2" or need else []) and place == expected
    gone = Inode.of(
        widened(np.frombuffer(InodePacker(geometry, kept.__setitem__).packed(state, NOON), "u1").reshape(1, -1))[0]
    )
    assert not map_of(gone, geometry, kept.__getitem__, 0)[0].stored and gone.deleted and not gone.links


@settings(max_examples=60)
@given(inside=st.binary(min_size=60, max_size=60), flags=st.sampled_from([0, HAS_EXTENTS, 0x10000000]), seed=st.integers(0, 1 << 32),
       size=st.integers(0, 1 << 45))  # fmt: skip
def test_any_inode_has_places_inside_of_its_volume(inside: bytes, flags: int, seed: int, size: int) -> None:
    """Whatever it and the blocks of its tree tell: extents that overlap, trees that are their own branches."""
    geometry, dice = geometry_for("ext4", 1024), random.Random(seed)
    head = b"\x0a\xf3" + dice.randbytes(2)[:1] + b"\0" + b"\x04\0" + bytes([dice.randrange(6), 0, 0, 0, 0, 0])
    row = Inode.of(np.zeros(1, widened(np.zeros((1, 256), np.uint8)).dtype)[0])._replace(
        mode=IS_FILE, links=1, flags=flags, size=size & 0xFFFFFFFF, size_high=size >> 32, blocks=dice.choice([inside, head + inside[12:]])
    )  # fmt: skip
    place, _, _ = map_of(row, geometry, lambda block: dice.choice([inside, head]) * 17, 0, dice.randbytes(256))
    assert all(geometry.where.offset <= e.offset and e.end <= geometry.where.end for e in place.stored)
    assert len(placed(row, geometry, lambda block: head * 85).tree) <= 1 << 17


# -- folders ----------------------------------------------------------------------------------------------------------


class Blocks:
    """The blocks of a folder in memory, and what is in it."""

    def __init__(self, variant: str, block: int) -> None:
        self.geometry = geometry_for(variant, block)
        self.blocks = [bytearray(block)]
        self.there: dict[bytes, tuple[int, int, int]] = {}
        self.folder = FolderBlocks(
            self.geometry, 12, 5, variant != "ext2", self.blocks.__getitem__, self._add, self._moved
        )
        self.folder.begin(2)

    def _add(self) -> int:
        self.blocks.append(bytearray(self.geometry.block))
        return len(self.blocks) - 1

    def _moved(self, name: bytes, logical: int, at: int) -> None:
        if name in self.there:
            self.there[name] = (self.there[name][0], logical, at)

    def insert(self, name: bytes, number: int) -> None:
        self.there[name] = (number, 0, 0)
        self.there[name] = (number, *self.folder.insert(name, number, 1))

    def check(self) -> None:
        found: dict[bytes, tuple[int, int, int]] = {}
        for logical, data in enumerate(self.blocks):
            entries, whole = entries_of(bytes(data), 1 << 30, gaps=False)
            index = logical in ({0} | {branch.logical for branch in self.folder._branches}) and self.folder.indexed
            assert whole or index
            found |= {e.name: (e.inode, logical, e.at) for e in entries if e.name not in (b".", b"..")}
            many, good = entries_of_many(np.frombuffer(bytes(data), "u1").reshape(1, -1).copy(), 1 << 30)
            assert not good[0] or [(a, i) for a, i in zip(many.at.tolist(), many.inode.tolist(), strict=True)] == [
                (e.at, e.inode) for e in entries
            ]
        assert found == self.there


@pytest.mark.parametrize(("variant", "block"), [("ext2", 1024), ("ext3", 1024), ("ext4", 1024), ("ext4", 4096)])
@settings(max_examples=8)
@given(seed=st.integers(0, 1 << 32), wipe=st.booleans())
def test_a_folder_holds_what_was_put_into_it(variant: str, block: int, seed: int, wipe: bool) -> None:
    """Linear and hashed, through splits of its index; each entry stands where the folder says."""
    dice, blocks = random.Random(seed), Blocks(variant, block)
    for n in range(700):
        if blocks.there and dice.random() < 0.25:
            name = dice.choice(sorted(blocks.there))
            blocks.folder.remove(*blocks.there.pop(name)[1:], wipe)
        else:
            blocks.insert(b"%s %d" % (dice.choice([b"core", b"stake reading of the upper basin" * 3]), n), 100 + n)
        if n % 140 == 9:
            blocks.check()
    blocks.check()


@pytest.mark.parametrize("wipe", [False, True])
def test_an_index_takes_over_what_is_live(wipe: bool) -> None:
    """Also where the first names of the only block are gone, and the entry for the folder above reaches over them."""
    blocks = Blocks("ext4", 1024)
    for n in range(60):
        blocks.insert(b"stake reading number %d" % n, 20 + n)
        if n < 3:
            blocks.folder.remove(*blocks.there.pop(b"stake reading number %d" % n)[1:], wipe)
        blocks.check()
    assert blocks.folder.indexed and len(blocks.there) == 57


def test_what_a_deletion_leaves_of_a_name() -> None:
    """Before Linux 5.13 the name stands in a gap; since then it is wiped."""
    for wipe in (False, True):
        blocks = Blocks("ext4", 1024)
        for n in range(5):
            blocks.insert(b"stake %d.csv" % n, 20 + n)
        for name in (b"stake 3.csv", b"stake 1.csv"):
            blocks.folder.remove(*blocks.there[name][1:], wipe)
        gone = {e.name: e.inode for e in entries_of(bytes(blocks.blocks[0]), 1 << 20)[0] if e.gone}
        assert gone == ({} if wipe else {b"stake 3.csv": 23, b"stake 1.csv": 21})


@settings(max_examples=60)
@given(data=st.binary(min_size=1024, max_size=1024) | st.binary(max_size=200).map(lambda part: (part + bytes(16)) * 70))
def test_any_block_is_read_as_a_folder(data: bytes) -> None:
    data = data[:1024].ljust(1024, b"\0")
    entries, whole = entries_of(data, 5000)
    many, good = entries_of_many(np.frombuffer(data, "u1").reshape(1, -1).copy(), 5000)
    live = [(e.at, e.inode, len(e.name)) for e in entries if not e.gone]
    assert not (good[0] and whole) or live == list(
        zip(many.at.tolist(), many.inode.tolist(), many.length.tolist(), strict=True)
    )


# -- the journal ------------------------------------------------------------------------------------------------------


@settings(max_examples=30)
@given(
    sizes=st.lists(st.integers(1, 9), min_size=1, max_size=60), length=st.integers(40, 120), seed=st.integers(0, 1 << 32),
    features=st.sampled_from([0, WIDE_NUMBERS, SUMS_3, SUMS_3 | WIDE_NUMBERS]), headless=st.booleans(),
)  # fmt: skip
def test_a_journal_tells_its_last_transactions(
    tmp_path_factory: pytest.TempPathFactory, sizes: list[int], length: int, seed: int, features: int, headless: bool
) -> None:
    """However often it was gone round, with or without its superblock: copies that the writer says stand are told, each
    with its bytes; of those that were written over none."""
    dice = random.Random(seed)
    image = RawImage(tmp_path_factory.mktemp("journal") / "j.img", length * 1024)
    writer = JournalWriter(length, 1024, UUID, features, lambda at, data: image.write(at * 1024, data))
    last: list[tuple[int, int, bytes, int, int]] = []
    for count in sizes:
        blocks = {
            dice.randrange(1, 5000): dice.choice([dice.randbytes(4), MAGIC_BYTES]) + dice.randbytes(1020)
            for _ in range(count)
        }
        revoked = [dice.randrange(1, 5000) for _ in range(dice.choice([0, 0, 3]))]
        for number, copy in writer.write(blocks, revoked, NOON).items():
            last.append((number, copy.transaction, blocks[number], copy.at, copy.turn))
    image.write(0, bytes(1024) if headless else writer.superblock())
    copies = read_copies(image, FileMap.of((Extent(0, length * 1024),)), 1024, 5001)
    told = {}
    for n in range(len(copies)):
        data = image.read(int(copies.at[n]), 1024)
        data = MAGIC_BYTES + data[4:] if copies.escaped[n] else data
        told[int(copies.block[n]), int(copies.transaction[n])] = data
        assert copies.good[n] and list(copies.block) == sorted(copies.block)
    standing = {(n, t): data for n, t, data, _, turn in last if turn >= writer.turn - (length - 1)}
    assert standing.items() <= told.items()
    every = {(n, t): data for n, t, data, _, _ in last}
    assert all(every.get(key) == data for key, data in told.items())
    image.close()


def test_a_journal_of_one_block_tells_nothing(tmp_path: Path) -> None:
    """Also if that begins as a descriptor."""
    image = RawImage(tmp_path / "j.img", 1024)
    image.write(0, MAGIC_BYTES + (1).to_bytes(4, "big") + (1).to_bytes(4, "big") + bytes(28) + b"\0\0\0\x0a" * 20)
    assert not len(read_copies(image, FileMap.of((Extent(0, 1024),)), 1024, 5000))
    image.close()


def test_a_copy_that_was_changed_is_told_wrong(tmp_path: Path) -> None:
    image = RawImage(tmp_path / "j.img", 40 * 1024)
    writer = JournalWriter(40, 1024, UUID, SUMS_3, lambda at, data: image.write(at * 1024, data))
    copy = writer.write({7: b"a" * 1024, 8: b"b" * 1024}, [], NOON)[8]
    image.write(0, writer.superblock())
    image.write(copy.at * 1024 + 500, b"x")
    copies = read_copies(image, FileMap.of((Extent(0, 40 * 1024),)), 1024, 5000)
    assert dict(zip(copies.block.tolist(), copies.good.tolist(), strict=True)) == {7: True, 8: False}
    image.close()


# -- the writer under the kernel --------------------------------------------------------------------------------------


def new_disk(path: Path, variant: str, block: int, size: int = 64 << 20, habits: str = "linux") -> Disk:
    image = RawImage(path, size)
    writer = ExtWriter(image, geometry_for(variant, block, size, habits), variant, "BASE", NOON, habits)  # type: ignore[arg-type]
    return Disk(image, writer, open_ext)


def full_disk(path: Path, variant: str, block: int, habits: str) -> Disk:
    """Folders with many files, one in hundreds of pieces, a large one, links; and changes of all kinds."""
    disk = new_disk(path, variant, block, 64 << 20, habits)
    dice = random.Random(f"{variant} {block}")
    disk.writer.make_folder("Logs/Day 1", NOON)
    for n in range(150):
        count = dice.choice([0, 1, 59, 60, 61, block, block + 1, 5000, 70_000 if n % 9 == 0 else 3000])
        disk.store(
            f"{('', 'Logs/', 'Logs/Day 1/')[n % 3]}core section {n} of the upper firn.bin", dice.randbytes(count)
        )
    disk.store("large.bin", dice.randbytes(4 << 20))
    taken = disk.writer.reserve(900 * block)
    for one in taken:
        disk.writer.clusters.release(disk.writer.extent_runs([one]))
        disk.writer.groups.count(disk.writer.extent_runs([one]), 1)
    runs = disk.writer.extent_runs(taken)
    need = disk.writer.space_for(300 * block) // block
    pieces = [(n, 1) for start, count in runs for n in range(start, start + count, 2)][:need]
    disk.writer.clusters.mark(pieces, True)
    disk.writer.groups.count(pieces, -1)
    disk.store("in pieces.bin", dice.randbytes(300 * block), lie=disk.writer.run_extents(pieces))
    for path in ("Logs/core section 1 of the upper firn.bin", "in pieces.bin"):
        more = dice.randbytes(9 * block + 17)
        disk.writer.grow(disk.find(path), len(more), [more], disk.tick())
        disk.content[path] += more
    disk.writer.link(disk.find("large.bin"), "Logs/linked.bin", disk.tick())
    disk.content["Logs/linked.bin"] = disk.content["large.bin"]
    disk.writer.symlink("short", "Logs/linked.bin", disk.tick())
    disk.writer.symlink("long", "Logs/" + "./" * 40 + "linked.bin", disk.tick())
    disk.writer.rename(disk.find("Logs/Day 1"), "Day one", disk.tick())
    disk.content = {path.replace("Logs/Day 1", "Day one"): data for path, data in disk.content.items()}
    for path in sorted(disk.content)[::6]:
        if not path.endswith("linked.bin"):
            disk.delete(path, habits)
    disk.writer.flush()
    disk.image.sync()
    return disk


DISKS = [("ext2", 1024, "linux"), ("ext2", 4096, "old-linux"), ("ext3", 1024, "old-linux"), ("ext3", 4096, "linux"), ("ext4", 1024, "linux"),
         ("ext4", 2048, "old-linux"), ("ext4", 4096, "linux")]  # fmt: skip


@pytest.mark.drivers
@pytest.mark.parametrize(("variant", "block", "habits"), DISKS)
def test_the_kernel_reads_and_writes_what_is_written(tmp_path: Path, variant: str, block: int, habits: str) -> None:
    """Every file by its digest; the system's tools agree about blocks; then the kernel makes and deletes files, and our
    reader follows."""
    require_drivers()
    disk = full_disk(tmp_path / "v.img", variant, block, habits)
    assert_clean(disk.image.path, variant)
    for path in ("in pieces.bin", "large.bin"):
        if path in disk.content:
            numbers = [int(word) for word in debugfs(disk.image.path, f'blocks "/{path}"').split()]
            state = disk.find(path).file
            assert sorted(numbers) == sorted([*(s + n for _, s, c in state.runs for n in range(c)), *state.tree])
    script = [LIST_ALL % (tmp_path / "sums.txt"), f"cat short long > {tmp_path / 'links.bin'}"]
    script += [
        "mkdir new; seq 9000 > new/numbers.txt; cp large.bin new/; mv Logs/linked.bin new/moved.bin",
        "rm -r 'Day one'",
    ]
    linux(disk.image.path, "\n".join(script), tmp_path, file_system=variant)
    assert listed(tmp_path / "sums.txt") == {p: hashlib.sha256(data).hexdigest() for p, data in disk.content.items()}
    assert (tmp_path / "links.bin").read_bytes() == 2 * disk.content["Logs/linked.bin"]
    assert_clean(disk.image.path, variant)
    disk.content = {path: data for path, data in disk.content.items() if not path.startswith("Day one")}
    disk.content["new/numbers.txt"] = "".join(f"{n}\n" for n in range(1, 9001)).encode()
    disk.content["new/moved.bin"] = disk.content.pop("Logs/linked.bin")
    disk.content["new/large.bin"] = disk.content["large.bin"]
    with open_medium(disk.image.path) as medium:
        volume = open_ext(medium, Extent(0, medium.size))
        assert volume is not None and not volume.health and (volume.label, volume.file_system) == ("BASE", variant)
        live = {e.full_path[1:]: e for e in volume.entries() if not e.deleted and not e.folder}
        assert {path: b"".join(entry.map.chunks(medium)) for path, entry in live.items()} == disk.content


@pytest.mark.drivers
@pytest.mark.parametrize(("variant", "block"), [("ext2", 4096), ("ext4", 1024)])
def test_five_thousand_files_in_a_folder(tmp_path: Path, variant: str, block: int) -> None:
    """Names as they come and go: an index of two levels where blocks are small."""
    require_drivers()
    disk = new_disk(tmp_path / "v.img", variant, block, 96 << 20)
    names = [f"reading {n * 7919 % 5_000:05} of the season at the upper stake.txt" for n in range(5_000)]
    disk.writer.make_folder("many", NOON)
    for name in names:
        disk.writer.store(f"many/{name}", 3, [b"dry"], NOON)
    for name in names[::3]:
        disk.writer.delete(disk.find(f"many/{name}"), NOON)
    disk.volume()
    left = sorted(set(names) - set(names[::3]))
    assert_clean(disk.image.path, variant)
    script = f"ls many > {tmp_path / 'names.txt'}; cat 'many/{left[5]}' 'many/{left[-7]}' > {tmp_path / 'one.txt'}"
    linux(disk.image.path, script, tmp_path, file_system=variant)
    assert (tmp_path / "names.txt").read_text().splitlines() == left
    assert (tmp_path / "one.txt").read_bytes() == b"drydry"


@pytest.mark.drivers
@pytest.mark.parametrize("variant", EXT)
def test_a_deletion_leaves_what_the_kernel_leaves(tmp_path: Path, variant: str) -> None:
    """Of the inodes, the folder's block and both bitmaps, but for the times of the other kernel's clock."""
    require_drivers()
    disk = new_disk(tmp_path / "ours.img", variant, 1024, 24 << 20)
    disk.writer.make_folder("Notebooks", NOON)
    dice = random.Random(5)
    for n in range(12):
        disk.store(f"Notebooks/core {n}.txt", dice.randbytes(dice.choice([300, 9000, 40_000])))
    disk.volume()
    theirs = tmp_path / "theirs.img"
    shutil.copyfile(disk.image.path, theirs)
    victims = [disk.find(f"Notebooks/core {n}.txt") for n in (0, 4, 5, 11)]
    inodes = [disk.writer.record(node)[1] for node in victims]
    places = [*disk.writer.extents(disk.find("Notebooks"))]
    for name in ("block-bitmap", "inode-bitmap"):
        places += disk.writer.structures()[name]
    paths = [node.path for node in victims]
    for path in paths:
        disk.delete(path[1:])
    disk.volume()
    linux(theirs, "\n".join(f"rm '{path[1:]}'" for path in paths), tmp_path, file_system=variant)
    with open_medium(disk.image.path) as one, open_medium(theirs) as other:
        for place in places:
            assert one.read(*place) == other.read(*place), place
        for place in inodes:
            ours, kernels = bytearray(one.read(*place)), bytearray(other.read(*place))
            for data in (ours, kernels):
                assert int.from_bytes(data[20:24], "little") and data[8:12] != bytes(4)
                # times, the version, checksums, and the driver's own count of changes
                for at, length in ((8, 16), (36, 4), (124, 2), (130, 14), (152, 4)):
                    data[at : at + length] = bytes(len(data[at : at + length]))
            assert ours == kernels, place


# -- losses on what a kernel wrote ------------------------------------------------------------------------------------


def _formatted(variant: str, block: int) -> Callable[[Path], None]:
    def over(image: Path) -> None:
        words = [
            "mke2fs",
            "-q",
            "-F",
            "-t",
            variant,
            "-b",
            str(block),
            "-E",
            "nodiscard,lazy_itable_init=1",
            str(image),
        ]
        subprocess.run(words, check=True, env={"PATH": "/usr/sbin:/sbin:/usr/bin:/bin"})

    return over


def _other_formatted(image: Path) -> None:
    subprocess.run(
        ["mkfs.vfat", "-F", "32", str(image)], check=True, env={"PATH": "/usr/sbin:/sbin"}, capture_output=True
    )


LOSSES = {
    "ext4 deleted": Loss("ext4", 1024, 100, 0.97, 0.95),
    "ext4 deleted, large blocks": Loss("ext4", 4096, 200, 0.97, 0.95),
    "ext3 deleted": Loss("ext3", 1024, 100, 0.90, 0.90),
    "ext2 deleted": Loss("ext2", 1024, 100, 0.75, 0.0),
    "ext4 formatted": Loss("ext4", 4096, 200, 0.85, 0.85, then="sync", over=_formatted("ext4", 4096)),
    "ext4, then FAT": Loss("ext4", 1024, 100, 0.97, 0.95, then="sync", over=_other_formatted),
    "ext3 formatted": Loss("ext3", 4096, 100, 0.75, 0.0, then="sync", over=_formatted("ext3", 4096)),
}


@pytest.mark.drivers
@pytest.mark.parametrize("case", LOSSES)
def test_real_files_come_back(sastrugi: Program, tmp_path: Path, case: str) -> None:
    real_loss(sastrugi, tmp_path, LOSSES[case], case)


@pytest.mark.drivers
@pytest.mark.parametrize("options", [("-O", "inline_data", "-I", "256"), ("-O", "meta_bg,^resize_inode"), ("-b", "2048", "-O", "^64bit,^metadata_csum,uninit_bg"),
                                     ("-O", "bigalloc"), ("-r", "0")], ids=" ".join)  # fmt: skip
def test_what_features_change_is_read(tmp_path: Path, options: tuple[str, ...]) -> None:
    """Files inside of inodes, holes, what was reserved and never written, folders with an index, links."""
    require_drivers()
    image = tmp_path / "v.img"
    with image.open("wb") as file:
        file.truncate(48 << 20)
    kind = "ext2" if "-r" in options else "ext4"
    subprocess.run(
        ["mke2fs", "-q", "-F", "-t", kind, *options, str(image)],
        check=True,
        env={"PATH": "/usr/sbin:/sbin:/usr/bin:/bin"},
    )
    script = f"""mkdir many deep
for i in $(seq 1 700); do echo "reading $i" > "many/reading number $i.txt"; done
printf tiny > tiny.txt; seq 20 > medium.txt; head -c 130 /bin/sh > t130.bin; head -c 3000000 /usr/bin/python3* > large.bin
truncate -s 3M holes.bin; echo mid | dd of=holes.bin bs=1 seek=1500000 conv=notrunc 2>/dev/null; echo end >> holes.bin
fallocate -l 300000 reserved.bin 2>/dev/null || true; echo begun | dd of=reserved.bin conv=notrunc bs=1 2>/dev/null
ln tiny.txt deep/linked.txt; ln -s ../tiny.txt deep/soft
{LIST_ALL % (tmp_path / "sums.txt")}"""
    linux(image, script, tmp_path, file_system="ext4")
    with open_medium(image) as medium:
        volume = open_ext(medium, Extent(0, medium.size))
        assert volume is not None and not volume.health
        live = {e.full_path[1:]: e for e in volume.entries() if not e.deleted and not e.folder}
        digests = {path: hashlib.sha256(b"".join(e.map.chunks(medium))).hexdigest() for path, e in live.items()}
        assert digests == listed(tmp_path / "sums.txt") and len(digests) > 700
        assert live["holes.bin"].map.zeros and not volume.conflicts((volume.data,))[0].identity


@pytest.mark.drivers
def test_a_volume_that_was_not_unmounted(tmp_path: Path) -> None:
    """The kernel stopped while changes stood in the journal alone: what is live is what it would say after a mount."""
    require_drivers()
    source = tmp_path / "source"
    real_files(source, random.Random(8))
    image = make_volume(tmp_path / "v.img", 100 << 20, "ext4", 1024)
    linux(
        image,
        f"cp -r {source} files; sync; rm -r files/Docs; echo late > late.txt; sync\necho WELL UNMOUNTED; halt -f -p",
        tmp_path,
        file_system="ext4",
    )
    with open_medium(image) as medium:
        volume = open_ext(medium, Extent(0, medium.size))
        assert volume is not None and "not unmounted" in volume.health[0]
        live = {
            e.full_path[1:]: hashlib.sha256(b"".join(e.map.chunks(medium))).hexdigest()
            for e in volume.entries()
            if not e.folder and not e.deleted
        }
        gone = {e.full_path for e in volume.history()}
    linux(image, LIST_ALL % (tmp_path / "sums.txt"), tmp_path, file_system="ext4")
    assert live == listed(tmp_path / "sums.txt") and "late.txt" in live
    assert not any(path.startswith("files/Docs") for path in live) and any("/files/Docs" in path for path in gone)


@pytest.mark.drivers
def test_a_copy_of_a_superblock_in_the_journal_begins_no_volume(sastrugi: Program, tmp_path: Path) -> None:
    require_drivers()
    image = make_volume(tmp_path / "v.img", 40 << 20, "ext4", 4096)
    linux(image, "seq 90000 > a; sync; rm a; sync; seq 9 > b; rm b; sync", tmp_path, file_system="ext4")
    with open_medium(image) as medium:
        journal = open_ext(medium, Extent(0, medium.size)).journal.stored  # type: ignore[union-attr]
        data = b"".join(medium.read(*part) for part in journal)
    assert any(data[at + 1080 : at + 1082] == b"\x53\xef" for at in range(0, len(data), 4096)), "none is there"
    with (tmp_path / "disk.img").open("wb") as disk:
        disk.seek(1 << 20)
        disk.write(bytes(2048) + image.read_bytes()[2048:])  # the superblock itself, of which there is no other
    sastrugi("scan", tmp_path / "disk.img", "--out", tmp_path / "d.scan")
    with ScanFile.open(tmp_path / "d.scan") as scan:
        assert [volume.where.offset for volume in scan.volumes()] == []


# -- the past ---------------------------------------------------------------------------------------------------------


def test_names_and_folders_of_the_past(tmp_path: Path) -> None:
    """Renamed before it went, in a folder that went too, with two names, and inodes that others have now."""
    disk = new_disk(tmp_path / "v.img", "ext4", 1024)
    disk.writer.make_folder("Season/Drift", NOON)
    for name in ("wind.bin", "Season/Drift/stake.bin", "Season/twice.bin"):
        disk.store(name, name.encode() * 400)
    gone = dict(disk.content)
    disk.writer.link(disk.find("Season/twice.bin"), "other name.bin", disk.tick())
    disk.content["other name.bin"] = disk.content["Season/twice.bin"]
    disk.writer.rename(disk.find("wind.bin"), "Season/Drift/renamed.bin", disk.tick())
    disk.content["Season/Drift/renamed.bin"] = disk.content.pop("wind.bin")
    numbers = {disk.find(path).file.number for path in disk.content}
    for path in list(disk.content):
        disk.delete(path)
    disk.writer.delete(disk.find("Season/Drift"), disk.tick())
    for n in range(4):
        disk.store(f"later {n}.bin", bytes([n + 1]) * 50)
    assert numbers & {disk.find(f"later {n}.bin").file.number for n in range(4)}
    found = {e.full_path[1:]: e for e in disk.volume().history()}
    first = {"Season/Drift/renamed.bin": "wind.bin", "other name.bin": "Season/twice.bin"}
    assert set(found) == {"Season/Drift/stake.bin", *first}
    assert {path: b"".join(e.map.chunks(disk.image))[200:] for path, e in found.items() if "stake" in path} == {
        "Season/Drift/stake.bin": gone["Season/Drift/stake.bin"][200:]
    }
    assert all(e.size == len(gone[first.get(path, path)]) for path, e in found.items())
    assert all("transaction" in e.source and e.deleted for e in found.values())


def test_what_was_written_over_in_the_journal_is_not_told(tmp_path: Path) -> None:
    disk = new_disk(tmp_path / "v.img", "ext3", 1024, 16 << 20)
    disk.store("early.bin", b"early" * 900)
    disk.delete("early.bin")
    assert set(disk.gone()) == {"early.bin"}
    for n in range(400):
        disk.store(f"use {n % 7}.bin", b"u")
        disk.delete(f"use {n % 7}.bin")
    assert "early.bin" not in disk.gone()


def test_a_list_of_blocks_that_still_stands_is_followed(tmp_path: Path) -> None:
    """On ext2 lists follow the first twelve blocks of a file; when nothing tells of the file, they still tell of its
    other blocks."""
    disk = new_disk(tmp_path / "v.img", "ext2", 1024, 16 << 20)
    content = random.Random(3).randbytes(400_000)
    disk.store("a.bin", content[:900])
    place = disk.writer.map(disk.store("large.bin", content))
    disk.store("b.bin", content[:900])
    disk.delete("large.bin")
    disk.volume()
    scan(disk.image, tmp_path / "v.scan", Progress())
    with ScanFile.open(tmp_path / "v.scan") as found:
        (one,) = [one for one in found.findings() if one.tells(Clue.BY_LIST)]
    assert (one.map.start, b"".join(one.map.chunks(disk.image))) == (place.start, content)
    assert one.tells(Clue.UNKNOWN_KIND)


@pytest.mark.parametrize("structure", ["superblock", "descriptors", "inodes", "root", "journal"])
def test_a_damaged_volume_gives_what_is_left(tmp_path: Path, structure: str) -> None:
    disk = new_disk(tmp_path / "v.img", "ext4", 1024, 40 << 20)
    for n in range(30):
        disk.store(f"stake {n}.bin", bytes([n + 1]) * 5000)
    disk.volume()
    for part in disk.writer.structures()[structure]:
        disk.image.zero(*part)
    volume = open_ext(disk.image, Extent(0, disk.image.size))
    assert volume is not None
    entries = {e.full_path[1:]: e for e in (*volume.entries(), *volume.history())}
    assert bool(volume.health) == (structure not in ("root", "journal"))
    whole = {path for path, e in entries.items() if b"".join(e.map.chunks(disk.image)) == disk.content.get(path)}
    assert whole == (set(disk.content) if structure not in ("inodes", "root") else whole)
    assert structure != "inodes" or len(whole) == len(disk.content), "the journal tells of every inode"


@pytest.mark.parametrize("variant", ["ext2", "ext4"])
def test_an_image_of_it_is_adopted(sastrugi: Program, tmp_path: Path, variant: str) -> None:
    disk = new_disk(tmp_path / "lost.img", variant, 1024, 16 << 20)
    (tmp_path / "originals").mkdir()
    for n in range(12):
        data = random.Random(n).randbytes(6000 + 3000 * n)
        disk.store(f"core {n}.bin", data)
        (tmp_path / "originals" / f"core {n}.bin").write_bytes(data)
    disk.volume()
    shutil.copyfile(disk.image.path, tmp_path / "before.img")
    lost = {f"core {n}.bin" for n in range(4)}
    for path in sorted(lost):
        disk.delete(path)
    disk.volume()
    words = ("--before", tmp_path / "before.img", "--originals", tmp_path / "originals", "--into", tmp_path / "s")
    sastrugi("adopt", tmp_path / "lost.img", *words)
    sastrugi("audit", tmp_path / "s")
    sastrugi("scan", tmp_path / "s", "--out", tmp_path / "s.scan")
    with ScanFile.open(tmp_path / "s.scan") as scan:
        assert {f.name for f in scan.findings("state = 'deleted'")} == (lost if variant == "ext4" else set())
    card = sastrugi("score", tmp_path / "s", tmp_path / "s.scan", "--out", tmp_path / "c.json", "--json").json
    assert card["intact"]["of_set"] == 4 and (variant != "ext4" or card["intact"]["value"] == 4)


# -- hostile input ----------------------------------------------------------------------------------------------------


@pytest.fixture(scope="module", params=["ext2", "ext3", "ext4"])
def small_disk(request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory) -> tuple[Path, list[Extent]]:
    """A volume with deleted files, and where what it tells of itself stands."""
    disk = new_disk(tmp_path_factory.mktemp("small") / "v.img", request.param, 1024, 8 << 20)
    disk.writer.make_folder("Logs", NOON)
    for n in range(40):
        disk.store(
            f"{('', 'Logs/')[n % 2]}core {n}.bin", random.Random(n).randbytes(dt.date(2031, 1, 1 + n % 28).day * 900)
        )
    for n in range(0, 40, 3):
        disk.delete(f"{('', 'Logs/')[n % 2]}core {n}.bin", "old-linux" if n % 2 else "linux")
    disk.volume()
    own = [part for parts in disk.writer.structures().values() for part in parts] + [
        *disk.writer.extents(disk.find("Logs"))
    ]
    disk.image.close()
    return disk.image.path, own


@settings(max_examples=25)
@given(seed=st.integers(0, 1 << 32))
def test_any_bytes_end_in_less_found(
    small_disk: tuple[Path, list[Extent]], tmp_path_factory: pytest.TempPathFactory, seed: int
) -> None:
    """Wherever bytes are changed: no error, nothing outside of the medium, no end without an end."""
    dice = random.Random(seed)
    path, own = small_disk
    copy = tmp_path_factory.mktemp("hostile") / "v.img"
    shutil.copyfile(path, copy)
    with copy.open("r+b") as file:
        for _ in range(dice.choice([1, 5, 40, 400])):
            part = dice.choice(own)
            file.seek(part.offset + min(dice.randrange(part.length), dice.choice([64, 1 << 30])))
            file.write(dice.choice([b"\xff", b"\0\0\0\0", dice.randbytes(4), b"\xff\xff\xff\x7f", b"\x0a\xf3\x54\0"]))
    with open_medium(copy) as medium:
        volume = open_ext(medium, Extent(0, medium.size))
        if volume is None:
            return
        for entry in (*volume.entries(), *volume.history()):
            assert all(0 <= e.offset < e.end <= volume.where.end for e in entry.map.stored)
            assert "/" not in entry.name and entry.size < 1 << 50
        volume.conflicts((volume.where,))
        volume.used_and_free()
        list(volume.structures())


@pytest.mark.parametrize(("variant", "size", "block", "message"), [
    ("ext4", 40 << 10, 1024, "needs 64 KiB at least"), ("ext2", 8 << 20, 512, "it is 1 KiB, 2 KiB or 4 KiB"),
    ("ext3", 8 << 20, 8192, "cannot be 8 KiB"),
])  # fmt: skip
def test_volumes_that_cannot_be_say_their_limits(variant: str, size: int, block: int, message: str) -> None:
    with pytest.raises(VolumeError, match=message):
        geometry_for(variant, block, size)
