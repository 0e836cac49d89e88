"""Our volumes under real drivers, and our engine on volumes that real drivers wrote."""

from __future__ import annotations

import datetime as dt
import hashlib
import random
import re
import shutil
from contextlib import suppress
from pathlib import Path

import pytest

from sastrugi.errors import RecipeError
from sastrugi.media import Extent, open_medium
from sastrugi.media.raw import RawImage
from sastrugi.progress import Progress
from sastrugi.specimen.build import build
from sastrugi.specimen.formats import format_volume
from sastrugi.specimen.recipe import parse_recipe
from sastrugi.specimen.truth import Specimen, TruthFile
from sastrugi.volumes.fat.plan import plan
from sastrugi.volumes.fat.write import FatWriter
from tests.conftest import Program
from tests.judges import assert_clean, linux, make_volume, mtools_read, require_drivers, volume_copy
from tests.recipes import random_recipe
from tests.test_writers import read_all

pytestmark = pytest.mark.drivers
START = 1 << 20
_LINE = re.compile(r"([0-9a-f]{64}) [ *]\./(.*)")
_LIST_ALL = "find . -type f -exec sha256sum {} + > %s"


@pytest.fixture(autouse=True)
def _drivers() -> None:
    require_drivers()


def listed(path: Path) -> dict[str, str]:
    """Digest by path, from the output of sha256sum."""
    found = (_LINE.fullmatch(line) for line in path.read_text("utf-8").splitlines())
    return {match[2]: match[1] for match in found if match}


def sha256(specimen: Specimen, file: TruthFile) -> str:
    return hashlib.sha256(b"".join(specimen.blocks(file))).hexdigest()


@pytest.mark.parametrize("recipe", ["before", "after"])
def test_every_driver_reads_every_file_of_a_specimen(sastrugi: Program, tmp_path: Path, recipe: str) -> None:
    """fsck is clean, and mtools and Linux read each live file with its digest, before and after the deletion."""
    from sastrugi.specimen.recipe import shipped_recipes

    text = shipped_recipes()["camera-card"]
    source = tmp_path / "card.toml"
    source.write_text(text if recipe == "after" else text[: text.index("# The clean-up")], "utf-8")
    sastrugi("build", source, "--into", tmp_path / "s")
    image = tmp_path / "s" / "medium.img"
    assert_clean(volume_copy(image, START, tmp_path / "volume.img"))
    with Specimen(tmp_path / "s") as specimen:
        live = {file.path.lstrip("/"): sha256(specimen, file) for file in specimen.truth.live}
        assert len(live) >= (14 if recipe == "after" else 20)
    seen = {path: hashlib.sha256(mtools_read(image, START, path)).hexdigest() for path in live}
    assert seen == live
    linux(image, _LIST_ALL % (tmp_path / "sums.txt"), tmp_path, partition=1)
    assert listed(tmp_path / "sums.txt") == live


def test_a_deletion_leaves_what_linux_leaves(tmp_path: Path) -> None:
    """Our deletion and the Linux driver's, from the same start, compared byte for byte in every structure."""
    ours, clock = tmp_path / "ours.img", dt.datetime(2031, 2, 3, 8)
    size = 40 << 20
    image = RawImage(ours, size)
    writer = FatWriter(image, plan(0, size, 32, 512), "FIRNLINE", 0x12345678, clock)
    writer.make_folder("DCIM/101FIRN", clock)
    writer.make_folder("Notebooks/Ålbreen 2031", clock)
    dice = random.Random(7)
    for n in range(12):
        for path in (f"DCIM/101FIRN/FRN{n:05d}.JPG", f"Notebooks/Ålbreen 2031/Snow pit notes number {n}.txt"):
            content = dice.randbytes(dice.randint(0, 20_000))
            writer.store(path, len(content), [content], clock)
    writer.flush()
    image.sync()
    theirs = tmp_path / "theirs.img"
    shutil.copyfile(ours, theirs)

    later = dt.datetime(2031, 3, 1, 12)
    victims = [f"DCIM/101FIRN/FRN{n:05d}.JPG" for n in (0, 3, 4, 11)]
    victims += [f"Notebooks/Ålbreen 2031/Snow pit notes number {n}.txt" for n in range(12)] + ["Notebooks/Ålbreen 2031"]
    for path in victims:
        writer.delete(writer.find(path), later)  # type: ignore[arg-type]
    writer.flush()
    image.sync()
    script = "\n".join(f"rm -d '{path}'" for path in victims)
    linux(theirs, script, tmp_path, clock="2031-03-01 12:00:00")

    a, b = ours.read_bytes(), theirs.read_bytes()
    g = writer.geometry
    parts = {
        "boot sector": (0, 512), "FSInfo": (512, 512), "backup boot sector": (6 * 512, 512),
        "FAT 1": g.fat(0), "FAT 2": g.fat(1), "data": g.data,
    }  # fmt: skip
    for name, (offset, length) in parts.items():
        one, other = bytearray(a[offset : offset + length]), bytearray(b[offset : offset + length])
        if name == "data":  # the clock of the other kernel runs: times in changed folder entries differ by seconds
            for folder in ("DCIM/101FIRN", "Notebooks"):
                record = writer.record(writer.find(folder))[-1]  # type: ignore[arg-type]
                at = record.end - 32 - offset
                assert one[at + 18 : at + 20] == other[at + 18 : at + 20], "accessed date"
                assert one[at + 24 : at + 26] == other[at + 24 : at + 26], "modified date"
                seconds = [int.from_bytes(side[at + 22 : at + 24], "little") for side in (one, other)]
                assert 0 <= seconds[1] - seconds[0] <= 30
                one[at + 22 : at + 24] = other[at + 22 : at + 24]
        assert one == other, (
            f"{name} differs at byte {next(n for n, (x, y) in enumerate(zip(one, other, strict=True)) if x != y)}"
        )


def real_files(into: Path, dice: random.Random) -> int:
    """Real files of this machine: what the installed packages brought. Returns how many."""
    import sysconfig

    roots = [Path(sysconfig.get_paths()[key]) for key in ("purelib", "stdlib")] + [Path("/usr/share")]
    wanted = {
        ".png",
        ".gif",
        ".jpg",
        ".pdf",
        ".wav",
        ".zip",
        ".whl",
        ".gz",
        ".html",
        ".py",
        ".so",
        ".json",
        ".csv",
        ".xml",
        ".ttf",
    }
    pool: dict[str, list[Path]] = {}
    for root in roots:
        for n, path in enumerate(root.rglob("*")):
            if path.suffix in wanted and not path.is_symlink() and path.is_file() and 0 < path.stat().st_size < 400_000:
                pool.setdefault(path.suffix, []).append(path)
            if n > 30_000:
                break
    folders = ["DCIM/100FIRN", "Docs/Weekly report, upper accumulation basin", "Docs/Été/Ålbreen", "loggers"]
    count = 0
    for suffix, paths in sorted(pool.items()):
        for path in dice.sample(sorted(paths), min(14, len(paths))):
            folder = into / dice.choice(folders)
            folder.mkdir(parents=True, exist_ok=True)
            name = f"FRN{count:05d}{suffix.upper()[:4]}" if folder.name == "100FIRN" else f"{count} {path.name}"
            shutil.copyfile(path, folder / name)
            count += 1
    return count


@pytest.mark.parametrize(
    ("file_system", "size", "cluster"),
    [
        ("fat32", 64, 512),
        ("fat16", 120, 2048),
        ("exfat", 100, 4096),
        ("ntfs", 100, 1024),
        ("ntfs", 300, 4096),
    ],
)
def test_real_files_deleted_by_the_driver_come_back(
    sastrugi: Program, tmp_path: Path, file_system: str, size: int, cluster: int
) -> None:
    """The system's mkfs, real files, deletions by the driver: every lost file comes back intact under its name."""
    dice = random.Random(cluster)
    source = tmp_path / "source"
    assert real_files(source, dice) > 80
    image = make_volume(tmp_path / "card.img", size << 20, file_system, cluster)
    linux(image, f"cp -r {source}/. .", tmp_path, file_system=file_system)
    paths = sorted(p.relative_to(source).as_posix() for p in source.rglob("*") if p.is_file())
    whole_folder = "Docs/Été"
    lost = {p for n, p in enumerate(paths) if p.startswith(whole_folder) or n % 2}
    singly = "\n".join(f"rm '{p}'" for p in sorted(lost) if not p.startswith(whole_folder))
    linux(image, f"{singly}\nrm -r '{whole_folder}'", tmp_path, file_system=file_system)
    before = hashlib.sha256(image.read_bytes()).hexdigest()
    sastrugi("scan", image, "--out", tmp_path / "card.scan")
    sastrugi("extract", tmp_path / "card.scan", "--into", tmp_path / "out")
    came = {
        p.relative_to(tmp_path / "out").as_posix(): p.read_bytes() for p in (tmp_path / "out").rglob("*") if p.is_file()
    }
    del came["manifest.csv"]
    assert {p: came.get(p) == (source / p).read_bytes() for p in lost} == dict.fromkeys(lost, True)
    assert set(came) == lost, "nothing else is reported"
    assert hashlib.sha256(image.read_bytes()).hexdigest() == before, "the medium is only read"


@pytest.mark.parametrize("file_system", ["fat16", "fat32", "exfat", "ntfs"])
def test_drivers_read_what_any_steps_left(tmp_path: Path, file_system: str) -> None:
    """After a long random sequence of steps, the driver reads every live file with its digest, and nothing else; what
    it then writes and deletes, we read."""
    live: dict[str, str] = {}
    for seed in range(100):
        recipe = random_recipe(seed, file_system, 24)
        folder = tmp_path / str(seed)
        if any(step.do == "fade" for step in recipe.steps):
            continue
        with suppress(RecipeError):
            build(recipe, folder, Progress())
            with Specimen(folder) as specimen:
                live = {file.on_volume.lstrip("/"): sha256(specimen, file) for file in specimen.truth.live}
        if len(live) > 15:
            break
    image = folder / "medium.img"
    assert len(live) > 15
    change = "mkdir -p new/deep; cp -r /usr/share/perl-base new/deep/ 2>/dev/null || true; seq 9000 > new/numbers; rm -r new/deep"
    linux(image, f"{_LIST_ALL % (tmp_path / 'sums.txt')}\n{change}", tmp_path, file_system=file_system)
    assert listed(tmp_path / "sums.txt") == live
    assert_clean(image, file_system)
    digests = {path: hashlib.sha256(content).hexdigest() for path, content in read_all(image).items()}
    numbers = "".join(f"{n}\n" for n in range(1, 9001)).encode()
    assert digests == live | {"new/numbers": hashlib.sha256(numbers).hexdigest()}


def test_linux_mounts_the_volumes_of_our_partition_tables(tmp_path: Path) -> None:
    """A logical partition and one of a GPT, by the numbers the kernel gives them."""
    volumes = '[{ name = "a", size = "8 MiB" }, { name = "b", size = "8 MiB", logical = true }]'
    for table, number in (("mbr", 5), ("gpt", 2)):
        text = f"""recipe = 1
name = "tables"
title = "Tables"
seed = 4
[medium]
size = "32 MiB"
[[steps]]
do = "partition"
table = "{table}"
volumes = {volumes if table == "mbr" else volumes.replace(", logical = true", "")}
[[steps]]
do = "format"
volume = "b"
file_system = "fat16"
cluster = "512 B"
[[steps]]
do = "store"
volume = "b"
corpus = {{ files = 5, kinds = ["txt"] }}
"""
        build(parse_recipe(text, "t.toml"), tmp_path / table, Progress())
        linux(tmp_path / table / "medium.img", _LIST_ALL % (tmp_path / "sums.txt"), tmp_path, partition=number)
        with Specimen(tmp_path / table) as specimen:
            assert listed(tmp_path / "sums.txt") == {
                f.path.lstrip("/"): sha256(specimen, f) for f in specimen.truth.files
            }


def test_an_exfat_deletion_leaves_what_the_driver_leaves(tmp_path: Path) -> None:
    """Files in one piece, deleted by the driver in user space and by us: sets and bitmap are the same bytes."""
    size = 16 << 20
    ours, theirs = tmp_path / "ours.img", tmp_path / "theirs.img"
    image = RawImage(ours, size)
    writer = format_volume(image, Extent(0, size), "exfat", 4096, "FIRN", 7, dt.datetime(2031, 2, 3))
    writer.make_folder("Notebooks", dt.datetime(2031, 2, 3))
    dice = random.Random(5)
    for n in range(12):
        content = dice.randbytes(dice.randint(1, 20_000))
        writer.store(f"Notebooks/Ålbreen core {n}.txt", len(content), [content], dt.datetime(2031, 2, 3))
    writer.flush()
    image.sync()
    shutil.copyfile(ours, theirs)
    victims = [f"Notebooks/Ålbreen core {n}.txt" for n in (0, 4, 5, 11)]
    table = writer.extents(writer.find("Notebooks"))  # type: ignore[arg-type]
    for path in victims:
        writer.delete(writer.find(path), dt.datetime(2031, 3, 1))  # type: ignore[arg-type]
    writer.flush()
    image.sync()
    linux(theirs, "\n".join(f"rm '{path}'" for path in victims), tmp_path, file_system="exfat")
    with open_medium(ours) as a, open_medium(theirs) as b:
        assert a.read_extents(table) == b.read_extents(table)
        places = [part for name in ("bitmap", "fat1") for part in writer.structures()[name]]
        assert a.read_extents(places) == b.read_extents(places)
