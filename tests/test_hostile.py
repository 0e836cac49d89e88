"""Whatever is read from outside, mutated: one clear error or less found, never a traceback, in bounded time."""

from __future__ import annotations

import json
import os
import random
import re
import shutil
import signal
import sqlite3
import subprocess
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import tomli_w
from hypothesis import example, given, settings
from hypothesis import strategies as st

from sastrugi.errors import SastrugiError
from sastrugi.media.faults import read_faults
from sastrugi.progress import Progress
from sastrugi.recovery.scan_file import ScanFile
from sastrugi.report.findings import csv_lines, json_lines
from sastrugi.report.listing import columns_for, reason_lines, table_lines, tree_lines
from sastrugi.report.scan_view import scan_json, scan_view
from sastrugi.report.style import Ink
from sastrugi.report.tables import scan_summary
from sastrugi.scoring.claims import read_claims
from sastrugi.scoring.scorer import judge
from sastrugi.specimen.build import build
from sastrugi.specimen.recipe import parse_recipe, shipped_recipes
from sastrugi.specimen.truth import Specimen
from tests.conftest import Program, program_path
from tests.forged import FOLDER, ForgedVolume, dots, record
from tests.harm import changed_recipe

ODD: list[Any] = [
    None, True, -1, 0, 1 << 62, 1 << 70, -(1 << 63), 1.5, float("inf"), "", "x", "../../etc/passwd", "\x00", "\udc80", [], {}, [[1]],
]  # fmt: skip


def mutated(document: Any, dice: random.Random) -> Any:
    """The document with one value, anywhere in it, replaced or left out."""
    places: list[tuple[Any, Any]] = []
    waiting = [document]
    while waiting:
        one = waiting.pop()
        for key in list(one) if isinstance(one, dict) else range(len(one)):
            places.append((one, key))
            if isinstance(one[key], (dict, list)):
                waiting.append(one[key])
    holder, key = dice.choice(places)
    if dice.random() < 0.2:
        del holder[key]
    else:
        holder[key] = dice.choice(ODD)
    return document


def bytes_mutated(data: bytes, dice: random.Random) -> bytes:
    out = bytearray(data)
    for _ in range(dice.randrange(1, 12)):
        at = dice.randrange(len(out) + 1)
        out[at : at + dice.choice([1, 1, 4])] = dice.randbytes(dice.choice([0, 1, 1, 4, 9]))
    return bytes(out)


def ends_well(run: Callable[[], object]) -> None:
    """It ends, or raises an error of ours with one line."""
    try:
        run()
    except SastrugiError as error:
        assert str(error).strip()


@settings(max_examples=60)
@given(seed=st.integers(0, 1 << 30))
@example(seed=15111003)  # a place whose length is a list
def test_truths(demo: Path, tmp_path: Path, seed: int) -> None:
    folder = tmp_path / "s"
    if not folder.exists():
        shutil.copytree(demo / "specimen", folder)
        os.utime(folder / "truth.json", (2e9, 2e9))
    truth = json.loads((demo / "specimen" / "truth.json").read_text())
    text = json.dumps(mutated(truth, random.Random(seed)))
    (folder / "truth.json").write_text(text, errors="surrogatepass")
    os.utime(folder / "medium.img", (1e9, 1e9))

    def score() -> None:
        with Specimen(folder) as specimen:
            judge(specimen, demo / "results", Progress()).scorecard().model_dump_json()

    ends_well(score)


@settings(max_examples=120)
@given(seed=st.integers(0, 1 << 30))
@example(seed=133)
def test_scan_files(demo: Path, tmp_path: Path, seed: int) -> None:
    """Bytes of the file, or values in its tables; what is printed as JSON is JSON."""
    dice = random.Random(seed)
    path = tmp_path / "x.scan"
    path.write_bytes((demo / "card.scan").read_bytes())
    if dice.random() < 0.4:
        path.write_bytes(bytes_mutated(path.read_bytes(), dice))
    else:
        with sqlite3.connect(path) as db:
            table = dice.choice(["findings", "findings", "volumes", "scan"])
            column = dice.choice([row[1] for row in db.execute(f"PRAGMA table_info({table})")])
            value = dice.choice(
                [None, "x", "[", "[" * 5000, b"\xff\xfe", 1 << 62, -5, 2.5, "9" * 5000, '[[1, "a"]]', "{}"]
            )
            try:
                db.execute(f"UPDATE {table} SET {column} = ? WHERE rowid % 3 = 0", (value,))
            except sqlite3.Error:
                return

    def look() -> None:
        with ScanFile.open(path) as scan:
            json.dumps(scan_json(scan))
            json.loads("\n".join(json_lines(scan.rows("1"))))
            list(csv_lines(scan.rows("1")))
            list(scan.findings())
            list(scan.sound_extents())
            columns = columns_for(80, scan.last_number(), scan.kinds())
            for lines in (
                table_lines(scan.rows("1"), columns, 80, Ink(True)),
                tree_lines(scan.rows("1"), "x", 80, Ink(True)),
                reason_lines(scan.rows("1"), 80, Ink(True)),
            ):
                assert all(line.isprintable() for line in re.sub("\x1b\\[[0-9]*m", "", "\n".join(lines)).split("\n"))
            scan_view("x", scan)
            scan_summary(scan, 1.0)

    ends_well(look)


@settings(max_examples=80)
@given(seed=st.integers(0, 1 << 30))
def test_recipes(seed: int) -> None:
    dice = random.Random(seed)
    text = dice.choice(sorted(shipped_recipes().items()))[1]
    lines = text.splitlines()
    at = dice.randrange(len(lines))
    lines[at] = dice.choice(
        [
            lines[at][: len(lines[at]) // 2], "a = " + "[" * 3000, "a." * 200_000 + "b = 1", f"seed = {'9' * 5000}",
            "seed = 1e400", "x = 2031-99-99", f"medium.size = {1 << 80}", "size = '" + "9" * 60 + " GiB'", "[[steps]]", "[" * 9000,
        ]
    )  # fmt: skip
    began = time.monotonic()
    ends_well(lambda: parse_recipe("\n".join(lines), "r.toml"))
    assert time.monotonic() - began < 10


@pytest.mark.parametrize("seed", range(8))
def test_changed_recipes_are_laid_down_or_refused(tmp_path: Path, seed: int) -> None:
    """`benchmarks/fuzz_recipes.py` tries thousands."""
    text = tomli_w.dumps(changed_recipe(random.Random(seed)))
    ends_well(lambda: build(parse_recipe(text, "r.toml"), tmp_path / "made", Progress()))
    assert {path.name for path in tmp_path.iterdir()} <= {"made"}


@given(seed=st.integers(0, 1 << 30))
def test_lists_of_faults(tmp_path: Path, seed: int) -> None:
    dice = random.Random(seed)
    document = {"format": "sastrugi-faults", "version": 1, "unreadable": [[512, 512]], "flaky": [[1024, 512, 2]],
                "slow": [[2048, 512, 0.25]], "drop_out": 4096}  # fmt: skip
    path = tmp_path / "card.img.faults.json"
    text = json.dumps(mutated(document, dice)) if dice.random() < 0.8 else '{"unreadable": ' + "[" * 100_000
    path.write_text(text, errors="surrogatepass")
    ends_well(lambda: read_faults(tmp_path / "card.img"))


@given(seed=st.integers(0, 1 << 30))
def test_tables_of_claims(tmp_path: Path, seed: int) -> None:
    dice = random.Random(seed)
    rows = [{"file": "a", "sure": 0.5, "extents": "1+2", "modified": "2031-02-03"}, {"file": "b"}]
    path = tmp_path / dice.choice(["t.json", "t.csv"])
    text = (
        json.dumps(mutated(rows, dice))
        if dice.random() < 0.7
        else dice.choice(["[" * 99_999, '"\n', "file\n" + "x" * 200_000])
    )
    path.write_bytes(
        bytes_mutated(text.encode("utf-8", "surrogatepass"), dice)
        if dice.random() < 0.5
        else text.encode("utf-8", "surrogatepass")
    )
    ends_well(lambda: read_claims(path, tmp_path))


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (("corpus", "make", "c", "--size", "9" * 60), "is not a size"),
        (("corpus", "make", "."), "not empty"),
        (("build", "camera-card", "--into", "."), "not empty"),
        (("score", "d/specimen", "d/results", "--out", "."), "is a folder"),
        (("score", "d/specimen", "d/results", "--table", "pipe"), "is no file"),
        (("score", "d/specimen", "d/results", "--table", "endless"), "is no file"),
        (("build", "pipe.toml", "--into", "new"), "is no file"),
        (("list", "d/card.scan", "--min-confidence", "lots"), "is no share"),
        (("score", "d/specimen", "d/results", "--floor", "intact=" + "9" * 400), "is no floor"),
    ],
)
def test_calls(sastrugi: Program, demo: Path, tmp_path: Path, words: tuple[str, ...], said: str) -> None:
    (tmp_path / "d").symlink_to(demo)
    for name in ("pipe", "pipe.toml"):
        os.mkfifo(tmp_path / name)
    (tmp_path / "endless").symlink_to("/dev/zero")
    ran = sastrugi(*words, cwd=tmp_path, code=2)
    assert said in ran.err and ran.err.count("\n") == 1 and "fault of Sastrugi" not in ran.err


def test_names_that_are_no_unicode(sastrugi: Program, demo: Path, tmp_path: Path) -> None:
    odd = tmp_path / os.fsdecode(b"karte \xff\xe4")
    odd.mkdir()
    image = odd / os.fsdecode(b"\xe9.img")
    image.symlink_to(demo / "specimen" / "medium.img")
    results = odd / os.fsdecode(b"res\xfc")
    shutil.copytree(demo / "results", results)
    scan = odd / os.fsdecode(b"\xe9.scan")
    sastrugi("scan", image, "--out", scan)
    assert len(sastrugi("list", scan, "--state", "lost", "--json").json) == 17
    assert sastrugi("extract", scan, "--into", odd / "out").code == 0
    card = sastrugi("score", demo / "specimen", results, "--out", tmp_path / "c.json", "--json").json
    assert card["intact"]["value"] == 15
    assert "fault of Sastrugi" not in sastrugi("look", image).err


def test_a_scan_killed_in_the_middle_of_writing_can_be_read(sastrugi: Program, demo: Path, tmp_path: Path) -> None:
    """Its database has a hot journal: also where nothing may be written."""
    path = tmp_path / "x.scan"
    path.write_bytes((demo / "card.scan").read_bytes())
    child = os.fork()
    if not child:
        db = sqlite3.connect(path)
        db.execute("PRAGMA cache_size = 1")
        db.execute("BEGIN")
        for _ in range(200):  # more than the cache holds, so that pages are written before the commit
            db.execute("INSERT INTO scan VALUES (hex(randomblob(8)), hex(randomblob(2000)))")
        os.kill(os.getpid(), signal.SIGKILL)
    os.waitpid(child, 0)
    assert path.with_name("x.scan-journal").stat().st_size > 0
    shutil.copy(path, tmp_path / "y.scan")
    shutil.copy(path.with_name("x.scan-journal"), tmp_path / "y.scan-journal")
    assert len(sastrugi("list", path, "--state", "lost", "--json").json) == 17
    (tmp_path / "y.scan").chmod(0o400)
    sastrugi("extract", tmp_path / "y.scan", "--into", tmp_path / "r")
    assert len(list((tmp_path / "r").rglob("*.JPG"))) == len(list((demo / "results").rglob("*.JPG"))) > 0


def test_many_partitions_over_one_volume_are_read_once(sastrugi: Program, demo: Path, tmp_path: Path) -> None:
    image = bytearray((demo / "specimen" / "medium.img").read_bytes())
    row = image[446:462]
    for n in range(1, 4):
        image[446 + 16 * n : 462 + 16 * n] = row
    (tmp_path / "card.img").write_bytes(image)
    sastrugi("scan", tmp_path / "card.img", "--out", tmp_path / "x.scan")
    assert len(sastrugi("list", tmp_path / "x.scan", "--state", "lost", "--json").json) == 17
    assert len(sastrugi("look", tmp_path / "card.img", "--json").json["volumes"]) == 4


def test_a_stop_that_finds_no_safe_point_ends_soon(demo: Path, tmp_path: Path) -> None:
    """A medium of which each read takes very long: SIGTERM ends the scan within seconds, and what was found is kept."""
    shutil.copytree(demo / "specimen", tmp_path / "s")
    document = {"format": "sastrugi-faults", "version": 1, "slow": [[8 << 20, 56 << 20, 14.0]]}
    (tmp_path / "s" / "medium.img.faults.json").write_text(json.dumps(document))
    words = [program_path(), "scan", str(tmp_path / "s"), "--out", str(tmp_path / "x.scan")]
    process = subprocess.Popen(words, stderr=subprocess.PIPE, text=True)
    while not (tmp_path / "x.scan").exists():
        time.sleep(0.05)
    time.sleep(1)
    process.send_signal(signal.SIGTERM)
    began = time.monotonic()
    _, said = process.communicate(timeout=20)
    assert time.monotonic() - began < 8 and process.returncode == 130 and "Traceback" not in said


def files_of_one_chain(path: Path, deleted: bool) -> int:
    """A thousand records that all name one chain of thousands of pieces."""
    volume, count = ForgedVolume(path, 40), 1000
    names = (b"%s%07dTXT" % (b"\xe5" if deleted else b"F", n) for n in range(count))
    volume.fill_root(b"".join(record(name, 30000, 10_000 * 512) for name in names), 100)
    volume.chain(range(30000, 50000, 2))
    return count


def folders_of_each_other(path: Path) -> int:
    """Folders whose chains run on into all the others, each of which names all the others; and one file."""
    volume, count = ForgedVolume(path, 40), 2000
    own = range(1000, 1000 + count)
    for n, cluster in enumerate(own):
        others = (record(b"D%07d   " % k, own[(7 * n + k) % count], 0, FOLDER) for k in range(14))
        volume.put(cluster, dots(cluster) + b"".join(others))
    volume.chain([*own, own[0]])
    volume.put(60000, b"Firnline\n" * 20)
    volume.chain([60000])
    folders = b"".join(record(b"D%07d   " % n, cluster, 0, FOLDER) for n, cluster in enumerate(own))
    volume.fill_root(record(b"NOTE    TXT", 60000, 180) + folders, 100)
    return 1


def files_of_one_name(path: Path) -> int:
    volume, count = ForgedVolume(path, 40), 6000
    for n in range(count):
        volume.put(20000 + n, b"note %06d\n" % n * 40)
    for fat in volume.fats:
        fat[20000 : 20000 + count] = 0x0FFFFFFF
    volume.fill_root(b"".join(record(b"SAME    TXT", 20000 + n, 480) for n in range(count)), 100)
    return count


@pytest.mark.parametrize(
    "forge",
    [
        lambda path: files_of_one_chain(path, False),
        lambda path: files_of_one_chain(path, True),
        folders_of_each_other,
        files_of_one_name,
    ],
    ids=["one chain", "one chain, deleted", "folders of each other", "one name"],
)
def test_work_is_bounded_by_the_medium(sastrugi: Program, tmp_path: Path, forge: Callable[[Path], int]) -> None:
    """Whatever a volume claims."""
    image = tmp_path / "card.img"
    count = forge(image)
    began = time.monotonic()
    sastrugi("scan", image, "--out", tmp_path / "x.scan")
    assert len(sastrugi("list", tmp_path / "x.scan", "--json").json) == count
    assert sastrugi("list", tmp_path / "x.scan", "--limit", 0).out.count("\n") == count + 2
    if count == 6000:
        sastrugi("extract", tmp_path / "x.scan", "--with-live", "--into", tmp_path / "r")
        assert len({path.read_bytes() for path in (tmp_path / "r").glob("SAME*.TXT")}) == count
    assert time.monotonic() - began < 240, "work without end takes hours, also of a quick machine"


def test_forged_folders_all_over_are_cut_short_and_said(sastrugi: Program, tmp_path: Path) -> None:
    volume = ForgedVolume(tmp_path / "card.img", 34)
    for at in range(volume.data + (1 << 20), len(volume.bytes), 1 << 20):
        names = b"".join(record(b"A%07dTXT" % (at // 32 + n), 3000 + n, 700) for n in range(1 << 15))
        volume.bytes[at : at + (1 << 20)] = np.frombuffer(names, "u1")[: len(volume.bytes) - at]
    ran = sastrugi("scan", tmp_path / "card.img", "--out", tmp_path / "x.scan")
    assert "only the first 24 MiB were read" in ran.err
    assert "only the first 24 MiB" in sastrugi("look", tmp_path / "x.scan").out


def test_what_a_killed_build_left_goes_with_the_next(sastrugi: Program, tmp_path: Path) -> None:
    """And what a living one works on stays."""
    for name, number, cleared in (("killed", signal.SIGKILL, True), ("living", signal.SIGSTOP, False)):
        words = [program_path(), "build", "camera-erase", "--into", str(tmp_path / name)]
        running = subprocess.Popen(words, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        while not (left := list(tmp_path.glob(f".{name}.*.partial"))):
            assert running.poll() is None
            time.sleep(0.01)
        running.send_signal(number)
        if cleared:
            running.wait()
        ran = sastrugi("build", "one-notebook", "--into", tmp_path / name)
        assert ("what a killed run left is cleared away" in ran.err) == cleared
        assert left[0].exists() != cleared
        running.kill()
        running.wait()
