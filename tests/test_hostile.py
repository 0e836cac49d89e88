"""Whatever is read from outside, mutated: one clear error or less found, never a traceback, in bounded time."""

from __future__ import annotations

import json
import os
import random
import shutil
import signal
import sqlite3
import subprocess
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from sastrugi.errors import SastrugiError
from sastrugi.media.faults import read_faults
from sastrugi.progress import Progress
from sastrugi.recovery.findings import ScanFile
from sastrugi.report.findings import csv_lines, json_lines
from sastrugi.report.scan_view import scan_json
from sastrugi.scoring.claims import read_claims
from sastrugi.scoring.judgement import judge
from sastrugi.specimen.recipe import parse_recipe, shipped_recipes
from sastrugi.specimen.truth import Specimen
from tests.conftest import Program, program_path

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
        at = dice.randrange(len(out))
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


@settings(max_examples=60)
@given(seed=st.integers(0, 1 << 30))
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
    assert sastrugi("extract", scan, "--to", odd / "out").code == 0
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
    sastrugi("extract", tmp_path / "y.scan", "--to", tmp_path / "r")
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
    document = {"format": "sastrugi-faults", "version": 1, "slow": [[8 << 20, 56 << 20, 30.0]]}
    (tmp_path / "s" / "medium.img.faults.json").write_text(json.dumps(document))
    words = [program_path(), "scan", str(tmp_path / "s"), "--out", str(tmp_path / "x.scan")]
    process = subprocess.Popen(words, stderr=subprocess.PIPE, text=True)
    while not (tmp_path / "x.scan").exists():
        time.sleep(0.05)
    time.sleep(1)
    process.send_signal(signal.SIGTERM)
    began = time.monotonic()
    _, said = process.communicate(timeout=20)
    assert time.monotonic() - began < 10 and process.returncode == 130 and "Traceback" not in said
