"""NTFS volumes of every shape: geometries, tables in pieces, what is used, and recipes that lay them down."""

from __future__ import annotations

import hashlib
import itertools
import random
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from sastrugi.errors import VolumeError
from sastrugi.media import Extent, RangeSet
from sastrugi.media.raw import RawImage
from sastrugi.volumes.ntfs.layout import BOOT_FILE, MFT, geometry_of
from sastrugi.volumes.ntfs.opening import open_ntfs, starts
from sastrugi.volumes.ntfs.plan import plan
from sastrugi.volumes.ntfs.write import NtfsWriter
from sastrugi.volumes.probing import probe
from tests.conftest import Program
from tests.judges import assert_clean, linux, require_drivers
from tests.test_drivers import listed
from tests.test_ntfs import NOON, Disk


@settings(max_examples=40)
@given(
    size=st.integers(1 << 20, 48 << 20), power=st.integers(9, 17), sector=st.sampled_from([512, 4096]),
    habits=st.sampled_from(["linux", "windows"]), offset=st.integers(0, 2000),
)  # fmt: skip
def test_a_boot_sector_tells_what_was_planned(
    tmp_path_factory: pytest.TempPathFactory, size: int, power: int, sector: int, habits: str, offset: int
) -> None:
    """Any size and cluster: a volume that holds a file, both boot sectors of which tell it; or a reason."""
    offset, size = offset * sector, size // sector * sector
    try:
        geometry = plan(offset, size, 1 << power, sector, habits)  # type: ignore[arg-type]
    except VolumeError as error:
        assert "cannot be" in str(error) or "at least" in str(error)
        return
    image = RawImage(tmp_path_factory.mktemp("any") / "v.img", offset + size + (1 << 20) // sector * sector, sector)
    try:
        disk = Disk(image, NtfsWriter(image, geometry, "ANY", 9, NOON, habits))  # type: ignore[arg-type]
        disk.store("core.bin", b"firn" * 700)
    except VolumeError as error:
        assert "full" in str(error)
        return
    disk.writer.flush()
    last = offset + geometry.sectors * sector
    for at in (offset, last):
        told = geometry_of(image.read(at, 512), offset)
        assert told is not None and (told.cluster, told.sectors, told.mft, told.mirror, told.record) == (
            geometry.cluster, geometry.sectors, geometry.mft, geometry.mirror, geometry.record
        )  # fmt: skip
        assert offset in [start for start, _ in starts(image, at)]
    volume = probe(image, Extent(offset, size))
    assert volume is not None and volume.mountable and volume.where == disk.writer.where
    image.zero(offset, 512)
    backup = open_ntfs(image, Extent(offset, size))
    assert backup is not None and not backup.mountable and "its copy" in backup.health[0]
    (entry,) = (e for e in backup.entries() if not e.folder)
    assert b"".join(entry.map.chunks(image)) == disk.content["core.bin"]
    image.close()


def crowded(path: Path, cluster: int, files: int) -> Disk:
    """A volume whose table of records has no room to grow in one piece: what lies behind it is taken each time."""
    image = RawImage(path, 24 << 20)
    disk = Disk(image, NtfsWriter(image, plan(0, image.size, cluster, 512, "linux"), "", 7, NOON, "linux"))
    dice = random.Random(cluster)
    disk.writer.make_folder("many", NOON)
    for n in range(files):
        start, count = disk.writer._table.runs[-1]
        if n % 5 == 0 and not any(disk.writer.clusters.piece(0)[start + count : start + count + 2]):
            disk.writer.clusters.mark([(start + count, 2)], True)
        disk.store(f"many/reading {n}.txt", dice.randbytes(dice.choice([3, 300, 5000])))
    disk.writer.flush()
    image.sync()
    return disk


@pytest.mark.parametrize("cluster", [512, 2048, 4096])
def test_a_table_in_pieces_is_read_whole(tmp_path: Path, cluster: int) -> None:
    """Also where a record is cut in two by the end of a run."""
    disk = crowded(tmp_path / "v.img", cluster, 400)
    assert len(disk.writer._table.runs) > 5
    volume = open_ntfs(disk.image, Extent(0, disk.image.size))
    assert volume is not None and not volume.health
    live = {e.full_path[1:]: e for e in volume.entries() if not e.folder}
    assert {path: b"".join(entry.map.chunks(disk.image)) for path, entry in live.items()} == disk.content
    own = RangeSet(extent for _, extent in volume.own_extents())
    assert all(not own.gaps(extent) for extent in volume.table.stored)
    names = {what for what, _ in volume.structures()}
    assert {"$MFT", "$MFTMirr", "$LogFile", "$Bitmap", "$UpCase", "$Secure", "$Boot", "backup of $Boot"} <= names
    assert MFT == 0 and BOOT_FILE == 7


@pytest.mark.drivers
@pytest.mark.parametrize("cluster", [512, 4096])
def test_the_driver_reads_a_table_in_pieces(tmp_path: Path, cluster: int) -> None:
    require_drivers()
    disk = crowded(tmp_path / "v.img", cluster, 200)
    linux(
        disk.image.path,
        f"find . -type f -exec sha256sum {{}} + > {tmp_path / 'sums.txt'}",
        tmp_path,
        file_system="ntfs",
    )
    assert listed(tmp_path / "sums.txt") == {
        path: hashlib.sha256(data).hexdigest() for path, data in disk.content.items()
    }
    assert_clean(disk.image.path, "ntfs")


@settings(max_examples=25)
@given(
    seed=st.integers(0, 1 << 32), share=st.sampled_from([0.0, 0.01, 0.5, 0.99, 1.0]),
    asked=st.lists(st.tuples(st.integers(0, 30 << 20), st.integers(1, 1 << 20)), min_size=1, max_size=6),
)  # fmt: skip
def test_what_the_bitmap_calls_used(
    tmp_path_factory: pytest.TempPathFactory, seed: int, share: float, asked: list[tuple[int, int]]
) -> None:
    """Any bits, any stretch: as one looks at them one by one."""
    image = RawImage(tmp_path_factory.mktemp("bits") / "v.img", 24 << 20)
    writer = NtfsWriter(image, plan(0, image.size, 512, 512, "linux"), "", 7, NOON, "linux")
    count = writer.geometry.clusters
    bits = np.random.default_rng(seed).random(count) < share
    data = np.packbits(bits, bitorder="little").tobytes()
    for part in writer.structures()["bitmap"]:
        image.write(part.offset, data[: part.length])
        data = data[part.length :]
    volume = open_ntfs(image, Extent(0, image.size))
    assert volume is not None
    assert volume.used_and_free()[0] == int(bits.sum()) * 512
    for offset, length in asked:
        found = list(volume._used(Extent(offset, length)))
        used = np.zeros(length, bool)
        for part in found:
            assert offset <= part.offset < part.end <= offset + length
            used[part.offset - offset : part.end - offset] = True
        clusters = np.arange(offset, offset + length) // 512
        inside = clusters < count
        expected = np.zeros(length, bool)
        expected[inside] = bits[clusters[inside]]
        assert (used == expected).all()
        assert all(one.end < other.offset for one, other in itertools.pairwise(found)), "neighbours are one"
    image.close()


RECIPE = """recipe = 1
name = "camp"
title = "The base-camp disk"
seed = {seed}
medium.size = "48 MiB"
steps = [
    {{do = "partition", table = "{table}", volumes = [{{name = "camp", size = "30 MiB"}}, {{name = "spare"}}]}},
    {{do = "format", volume = "camp", file_system = "ntfs", acts_as = "{habits}", label = "CAMP"}},
    {{do = "format", volume = "spare", file_system = "exfat"}},
    {{do = "store", volume = "camp", into = "/Notes", corpus = {{files = 8, kinds = ["txt", "csv"], size = "30 B..5 KiB"}}}},
    {{do = "store", volume = "camp", into = "/Logs", corpus = {{files = 3, kinds = ["log"], size = "90 KiB..200 KiB"}}, attributes = ["compressed"]}},
    {{do = "store", volume = "camp", into = "/Cores", corpus = {{files = 5, kinds = ["jpeg"], size = "20 KiB..90 KiB"}}, pieces = 3}},
    {{do = "link", volume = "camp", what = ["/Notes/*1*"], into = "/Linked", to = "the same {{n}}{{suffix}}"}},
    {loss}
]
"""
LOSSES = {
    "delete": '{do = "delete", volume = "camp", what = ["/Notes/*", "/Logs", "/Cores"], acts_as = "windows"}',
    "format": '{do = "format", volume = "camp", file_system = "ntfs", acts_as = "linux"}',
    "to exfat": '{do = "format", volume = "camp", file_system = "exfat"}',
    "partition": '{do = "drop-partition", volume = "camp"}',
    "boot": '{do = "damage", volume = "camp", what = "boot"}',
    "records": '{do = "damage", volume = "camp", what = "mft"}',
    "bin": '{do = "bin", volume = "camp", what = ["/Notes/*.csv", "/Logs"]}, {do = "empty-bin", volume = "camp"}',
}


@pytest.mark.parametrize(("loss", "habits"), [(loss, ("windows", "linux")[n % 2]) for n, loss in enumerate(LOSSES)])
def test_every_loss_is_laid_down_searched_and_scored(sastrugi: Program, tmp_path: Path, loss: str, habits: str) -> None:
    """Books and bytes agree, and what can come back does, under its name where that stands."""
    table = "gpt" if habits == "windows" else "mbr"
    (tmp_path / "r.toml").write_text(RECIPE.format(seed=len(loss), table=table, habits=habits, loss=LOSSES[loss]))
    sastrugi("build", "r.toml", "--into", "s", cwd=tmp_path)
    sastrugi("audit", "s", cwd=tmp_path)
    sastrugi("scan", "s", "--out", "s.scan", cwd=tmp_path)
    card = sastrugi("score", "s", "s.scan", "--json", "--out", "c.json", cwd=tmp_path).json
    lost = [file for file in card["files"] if file["ceiling_bytes"] == 1.0]
    assert len(lost) >= 4 and not any(file["beyond_ceiling"] or file["name_beyond_ceiling"] for file in card["files"])
    intact = [file for file in lost if file["content"] == "intact"]
    assert len(intact) == len(lost), [file["path"] for file in lost if file not in intact]
    named = [file for file in lost if file["ceiling_name"] == "full" and file["name"] != "full"]
    assert not named, [(file["path"], file["name"], file["result"]) for file in named]
