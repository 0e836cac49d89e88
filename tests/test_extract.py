"""Findings brought back as files: whatever their names, whatever stands in the destination, however often stopped."""

from __future__ import annotations

import csv
import hashlib
import os
import random
import resource
import shutil
import signal
import subprocess
import time
from pathlib import Path

import pytest
from blake3 import blake3
from hypothesis import given
from hypothesis import strategies as st

from sastrugi.media import Extent, FileMap, open_medium
from sastrugi.progress import Progress
from sastrugi.recovery.extract import ExtractOptions, extract
from sastrugi.recovery.findings import Finding
from sastrugi.recovery.names import MAX_BYTES, safe_name
from sastrugi.recovery.scan_file import ScanFile
from sastrugi.volumes.reader import Times
from tests import judges
from tests.conftest import Program, program_path
from tests.test_recovery import findings


def finding(number: int, folder: str, name: str, extents: tuple[Extent, ...] = (Extent(0, 600),)) -> Finding:
    return Finding(
        "deleted",
        folder,
        name,
        "other",
        "data",
        600,
        FileMap.of(extents),
        Times(),
        ("tables",),
        0.5,
        1.0,
        [],
        number=number,
    )


any_text = st.text(st.characters(codec=None), min_size=0, max_size=300)
evil = st.sampled_from(["..", ".", "", "/etc/passwd", "../../x", "CON", "nul.txt", "a\0b", "x" * 300, "\udcff.jpg", "b\\c", "~", "manifest.csv", "é" * 200 + ".jpeg"])  # fmt: skip


@given(st.lists(st.tuples(any_text | evil, any_text | evil), min_size=1, max_size=12))
def test_no_name_leaves_the_destination_or_overwrites(
    tmp_path_factory: pytest.TempPathFactory, names: list[tuple[str, str]]
) -> None:
    root = tmp_path_factory.mktemp("names")
    (root / "m.img").write_bytes(os.urandom(2048))
    (root / "outside").mkdir()
    (root / "out").mkdir()
    for link in ("x" * 250, "_", "CON", "unnamed"):
        (root / "out" / link).symlink_to(root / "outside")
    with open_medium(root / "m.img") as medium:
        items = [finding(n, folder, name, (Extent(n * 50, 600),)) for n, (folder, name) in enumerate(names)]
        done = extract(medium, items, root / "out", Progress())
        content = {n: medium.read(n * 50, 600) for n in range(len(names))}
    assert done.files == len(names) and not any((root / "outside").iterdir())
    with (root / "out" / "manifest.csv").open(encoding="utf-8", newline="") as file:
        listed = {int(row["finding"]): row["file"] for row in csv.DictReader(file)}
    assert len(set(listed.values())) == len(names)
    for number, path in listed.items():
        assert (root / "out" / path).read_bytes() == content[number]
        assert (root / "out" / path).resolve().is_relative_to(root / "out")


def test_holes_larger_than_the_medium_are_told_and_brought_only_if_asked_for(sastrugi: Program, tmp_path: Path) -> None:
    """A volume of 8 MiB whose driver keeps files of 6 MiB and of 40 MiB, both of holes but for a few bytes."""
    image = judges.make_volume(tmp_path / "loggers.img", 8 << 20, "ext4", 4096)
    (tmp_path / "few.wav").write_bytes(b"Firnline, wind at the mast\n" * 40)
    for name, size in (("long.wav", 40 << 20), ("short.wav", 6 << 20)):
        os.truncate(tmp_path / "few.wav", size)
        judges.debugfs(image, f"write {tmp_path / 'few.wav'} {name}", "-w")
    sastrugi("scan", image, "--out", tmp_path / "loggers.scan")
    words = ("extract", tmp_path / "loggers.scan", "--with-live", "--into")
    ran = sastrugi(*words, tmp_path / "out")
    told = " ".join(ran.out.split())  # lines break where they will
    assert "holes larger than the whole medium" in told and "--holes" in told
    short = tmp_path / "out" / "short.wav"
    assert short.stat().st_size == 6 << 20 and short.stat().st_blocks * 512 < 1 << 20, "its holes are holes again"
    assert short.read_bytes().rstrip(b"\0") == b"Firnline, wind at the mast\n" * 40
    assert not (tmp_path / "out" / "long.wav").exists()
    assert sastrugi(*words, tmp_path / "out", "--go-on", "--holes", "--json").json["files"] == 1
    assert (tmp_path / "out" / "long.wav").stat().st_size == 40 << 20


@given(any_text | evil)
def test_safe_names_are_safe_and_stay_so(name: str) -> None:
    safe = safe_name(name)
    assert safe and safe not in (".", "..") and len(safe.encode()) <= MAX_BYTES
    assert not set(safe) & set('/\\\0:*?"<>|') and safe_name(safe) == safe


@pytest.mark.parametrize(
    "name", ["FRN00001.JPG", "Ålbreen — dzień żółty 2.gif", ".hidden", "two.dots.tar.gz", "雪原の記録 5.png"]
)
def test_harmless_names_stay_as_they_are(name: str) -> None:
    assert safe_name(name) == name


def test_extract_writes_times_manifest_and_goes_on(sastrugi: Program, demo: Path, tmp_path: Path) -> None:
    out = tmp_path / "out"
    sastrugi("extract", demo / "card.scan", "--into", out)
    before = {p.relative_to(out): p.read_bytes() for p in out.rglob("*") if p.is_file()}
    lost = findings(demo / "card.scan", "state != 'live'")
    assert any(item.placeless for item in lost)
    lost = [item for item in lost if not item.placeless]
    for item in lost:
        assert item.times.modified is not None
        assert (out / item.path.lstrip("/")).stat().st_mtime == item.times.modified.timestamp()
    manifest = (out / "manifest.csv").read_text("utf-8").splitlines(keepends=True)
    assert len(manifest) == len(lost) + 1
    for line in manifest[5:]:  # as after a kill: four files written and listed, one written in part
        (out / next(csv.reader([line]))[1]).unlink()
    (out / "manifest.csv").write_text("".join(manifest[:5]) + manifest[5][:20], "utf-8")
    ran = sastrugi("extract", demo / "card.scan", "--into", out, "--go-on", "--json")
    assert ran.json["skipped"] == 4
    assert {p.relative_to(out): p.read_bytes() for p in out.rglob("*") if p.is_file()} == before


def test_places_that_must_not_be_written_to(sastrugi: Program, demo: Path, tmp_path: Path) -> None:
    (tmp_path / "full").mkdir()
    (tmp_path / "full" / "x").touch()
    (tmp_path / "link").symlink_to(demo / "specimen")
    image = demo / "specimen" / "medium.img"
    before = sorted(demo.rglob("*"))
    for place, message in (
        (tmp_path / "full", "not empty"), (demo / "specimen" / "out", "inside"), (image, "is the medium"),
        (demo / "specimen", "the folder"), (tmp_path / "link" / "out", "inside"), (image / "out", "inside"),
    ):  # fmt: skip
        assert message in sastrugi("extract", demo / "card.scan", "--into", place, code=2).err
    assert sorted(demo.rglob("*")) == before
    copy = tmp_path / "copy.img"
    shutil.copyfile(image, copy)
    with copy.open("r+b") as file:
        file.write(b"changed")
    ran = sastrugi("extract", demo / "card.scan", "--into", tmp_path / "new", "--medium", copy, code=2)
    assert "changed since" in ran.err and not (tmp_path / "new").exists()
    ran = sastrugi(
        "extract", demo / "card.scan", "--into", tmp_path / "new", "--kind", "xlsx", "--min-confidence", "1", code=2
    )
    assert "nothing is selected; the scan holds" in ran.err


def tree(folder: Path) -> dict[str, bytes]:
    return {str(p.relative_to(folder)): p.read_bytes() for p in folder.rglob("*") if p.is_file()}


@pytest.fixture(scope="module")
def many(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A scan file of 400 findings, four of each name, over a medium of noise."""
    folder = tmp_path_factory.mktemp("many")
    (folder / "m.img").write_bytes(random.Random(5).randbytes(4 << 20))
    with open_medium(folder / "m.img") as medium, ScanFile.create(folder / "m.scan", medium, ["tables"]) as scan:
        for n in range(400):
            item = finding(0, f"/DCIM/{n % 10}FIRN", f"FRN{n % 100:05d}.JPG", (Extent(n * 9000, 8000 + n),))
            item.size = 8000 + n
            scan.add(item)
        scan.finish()
    return folder


def test_an_extraction_that_is_killed_goes_on_to_the_same_tree_and_manifest(
    sastrugi: Program, many: Path, tmp_path: Path
) -> None:
    sastrugi("extract", many / "m.scan", "--into", tmp_path / "whole", "--sha256")
    whole = tree(tmp_path / "whole")
    with (tmp_path / "whole" / "manifest.csv").open(newline="") as file:
        listed = list(csv.DictReader(file))
    image = (many / "m.img").read_bytes()
    for row in listed:
        offset, length = map(int, row["extents"].split("+"))
        content = image[offset : offset + length]
        assert whole[row["file"]] == content and row["blake3"] == blake3(content).hexdigest()
        assert row["sha256"] == hashlib.sha256(content).hexdigest()
    words = [program_path(), "extract", str(many / "m.scan"), "--into", str(tmp_path / "part"), "--sha256"]
    dice = random.Random(11)
    for n in range(30):
        there = (tmp_path / "part" / "manifest.csv").exists()
        process = subprocess.Popen(
            [*words, *(["--go-on"] if there else [])], stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True
        )
        time.sleep(dice.uniform(0.25, 0.8) * (1 + n / 5))  # on a busy machine the start alone takes so long
        process.send_signal(signal.SIGKILL if n % 2 else signal.SIGINT)
        said = process.communicate()[1]
        if process.returncode == 130 and "files are written" in said:
            assert "go on with: sastrugi extract" in said and said.rstrip().endswith("--go-on")
        if process.returncode == 0:
            break
    sastrugi(*words[1:], "--go-on", code=None)
    assert tree(tmp_path / "part") == whole


@pytest.mark.parametrize("after", range(1, 9))
def test_a_run_that_ends_between_a_file_and_its_line_goes_on(many: Path, tmp_path: Path, after: int) -> None:
    """The file stands, the manifest does not list it: it is listed, not written a second time."""
    with open_medium(many / "m.img") as medium:
        items = findings(many / "m.scan")[:20]
        extract(medium, items, tmp_path / "whole", Progress())
        extract(medium, items, tmp_path / "part", Progress())
        lines = (tmp_path / "part" / "manifest.csv").read_text().splitlines(keepends=True)
        for line in lines[after + 1 :]:
            (tmp_path / "part" / next(csv.reader([line]))[1]).unlink()
        (tmp_path / "part" / "manifest.csv").write_text("".join(lines[:after]))
        extract(medium, items, tmp_path / "part", Progress(), go_on=True)
    assert tree(tmp_path / "part") == tree(tmp_path / "whole")


def test_no_room_leaves_whole_files_and_the_line_to_go_on(many: Path, tmp_path: Path, sastrugi: Program) -> None:
    words = ["extract", str(many / "m.scan"), "--into", str(tmp_path / "out"), "--max-size", "8300 B"]
    limit = lambda: resource.setrlimit(resource.RLIMIT_FSIZE, (8100, 8100))  # noqa: E731
    done = subprocess.run([program_path(), *words], capture_output=True, text=True, preexec_fn=limit)
    assert done.returncode == 2 and "make room" in done.stderr and "Traceback" not in done.stderr
    line = done.stderr.splitlines()[-1]
    assert line.startswith("go on with: sastrugi extract") and line.endswith("--go-on")
    written = tree(tmp_path / "out")
    listed = [row["file"] for row in csv.DictReader(written.pop("manifest.csv").decode().splitlines())]
    assert sorted(listed) == sorted(written) and written
    sastrugi(*words, "--go-on")
    sastrugi(*words[:3], tmp_path / "whole", *words[4:])
    assert tree(tmp_path / "out") == tree(tmp_path / "whole")


def test_a_destination_that_is_swapped_for_a_link_is_still_the_first_one(many: Path, tmp_path: Path) -> None:
    (tmp_path / "elsewhere").mkdir()

    class Swap(Progress):
        def at(self, done: int, note: str = "") -> None:
            if not (tmp_path / "moved").exists():
                (tmp_path / "out").rename(tmp_path / "moved")
                (tmp_path / "out").symlink_to(tmp_path / "elsewhere")

    with open_medium(many / "m.img") as medium:
        extract(medium, findings(many / "m.scan")[:50], tmp_path / "out", Swap())
    assert not any((tmp_path / "elsewhere").iterdir()) and len(tree(tmp_path / "moved")) == 51


@pytest.mark.parametrize(
    "manner,files,example",
    [
        (ExtractOptions(), 400, "DCIM/3FIRN/FRN00003 (4).JPG"),
        (ExtractOptions(names="number"), 400, "DCIM/3FIRN/FRN00003 #304.JPG"),
        (ExtractOptions(names="skip"), 100, "DCIM/3FIRN/FRN00003.JPG"),
        (ExtractOptions(arrange="kind"), 400, "data/other/FRN00003 (4).JPG"),
        (ExtractOptions(arrange="flat", names="skip"), 100, "FRN00003.JPG"),
    ],
)
def test_names_that_clash_and_folders(
    many: Path, tmp_path: Path, manner: ExtractOptions, files: int, example: str
) -> None:
    with open_medium(many / "m.img") as medium:
        done = extract(medium, findings(many / "m.scan"), tmp_path / "out", Progress(), manner=manner)
    assert done.files == files and done.files + done.clashed == 400
    assert (tmp_path / "out" / example).is_file() and len(tree(tmp_path / "out")) == files + 1


def test_files_over_unreadable_sectors_are_filled_or_left_out(sastrugi: Program, tmp_path: Path) -> None:
    sastrugi("build", "worn-stick", "--into", tmp_path / "s")
    sastrugi("scan", tmp_path / "s", "--out", tmp_path / "s.scan", code=3)
    filled = sastrugi("extract", tmp_path / "s.scan", "--into", tmp_path / "a", "--state", "any", "--json", code=3).json
    left = sastrugi(
        "extract", tmp_path / "s.scan", "--into", tmp_path / "b", "--state", "any", "--unreadable", "leave", "--json"
    ).json
    assert filled["unreadable"] == left["left_out"] > 0 and filled["files"] == left["files"] + left["left_out"]
    with (tmp_path / "a" / "manifest.csv").open(newline="") as file:
        marked = [row["file"] for row in csv.DictReader(file) if "could not be read" in row["note"]]
    assert len(marked) == filled["unreadable"] and not set(marked) & set(tree(tmp_path / "b"))
