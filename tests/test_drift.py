"""A file system that the program has never heard of goes through all of it: recipe, build, audit, every kind of loss,
scan, list, preview, extract, score by both routes, explain, map, hex, adopt, report."""

from __future__ import annotations

import io
import os
import random
import shutil
import subprocess
import sys
from pathlib import Path

import pytest
from PIL import Image

from tests.conftest import Program

ROOT = Path(__file__).parent.parent
NOTE = b"drilled at 12 m, core box 7"
DELETED = ("/Cores/core 1.bin", "/Cores/core 1.bin:note", "/Day 1.log", "/FRN00001.PNG")
RECIPE = """recipe = 1
name = "drift"
title = "A drift volume"
seed = 1
medium.size = "16 MiB"
steps = [
    {{do = "partition", table = "{scheme}", volumes = [{{name = "field", size = "8 MiB"}}, {{name = "depot", size = "rest"}}]}},
    {{do = "format", volume = "field", file_system = "drift", label = "FIRN"}},
    {{do = "format", volume = "depot", file_system = "drift"}},
    {{do = "store", volume = "field", folder = "mine"}},
    {{do = "link", volume = "field", what = ["Cores/core 2.bin"], into = "Depot", to = "the same.bin"}},
    {steps}
]
"""
DELETE = (
    '{do = "delete", volume = "field", what = ["Cores/core 1.bin", "Day 1.log", "FRN00001.PNG", "Cores/core 2.bin"]},'
)


@pytest.fixture(autouse=True)
def with_drift(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("SASTRUGI_FILE_SYSTEMS", "tests.driftfs")
    monkeypatch.setenv("PYTHONPATH", os.pathsep.join([str(ROOT), os.environ.get("PYTHONPATH", "")]))


def own_files(folder: Path) -> Path:
    """What is stored: with holes, with a second stream, packed, and pictures."""
    dice = random.Random(5)
    picture = io.BytesIO()
    Image.effect_noise((160, 120), 40).save(picture, "png")
    lines = b"".join(b"2031-02-03 %06d wind from the east, drifting snow\n" % n for n in range(900))
    files = {
        "Cores/core 1.bin": dice.randbytes(9000) + bytes(24_000) + dice.randbytes(3000), "Cores/core 1.bin:note": NOTE,
        "Cores/core 2.bin": dice.randbytes(20_000), "Day 1.log": lines, "Day 2.log": lines[::-1],
        "FRN00001.PNG": picture.getvalue(), "FRN00002.PNG": picture.getvalue() + b"later", "empty.txt": b"",
    }  # fmt: skip
    for name, content in files.items():
        path = folder / "mine" / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(content)
    (folder / "later").mkdir(exist_ok=True)
    (folder / "later" / "next season.bin").write_bytes(dice.randbytes(50_000))
    return folder / "mine"


def build(sastrugi: Program, folder: Path, steps: str, scheme: str = "mbr") -> Path:
    own_files(folder)
    (folder / "r.toml").write_text(RECIPE.format(steps=steps, scheme=scheme))
    sastrugi("build", folder / "r.toml", "--into", folder / "s")
    sastrugi("audit", folder / "s")
    return folder / "s"


def both_routes(sastrugi: Program, folder: Path) -> dict[str, dict[str, object]]:
    """Scan, extract, and score the findings and the extracted files: the same. The files' verdicts by path."""
    scan = folder / "s.scan"
    if not scan.exists():
        sastrugi("scan", folder / "s", "--out", scan, code=None)  # 3 where sectors cannot be read
    by_extents = sastrugi("score", folder / "s", scan, "--out", folder / "a.json", "--replace", "--json").json
    sastrugi("extract", scan, "--into", folder / "results", "--replace", code=None)
    by_bytes = sastrugi(
        "score", folder / "s", folder / "results", "--out", folder / "b.json", "--replace", "--json"
    ).json
    for key in ("intact", "complete", "named", "all_three", "classes"):
        assert by_extents[key] == by_bytes[key], key
    for card in (by_extents, by_bytes):
        assert not [one["path"] for one in card["files"] if one["beyond_ceiling"] or one["name_beyond_ceiling"]]
    return {one["path"]: one for one in by_bytes["files"]}


def test_what_was_deleted_comes_back_from_the_journal(sastrugi: Program, tmp_path: Path) -> None:
    specimen = build(sastrugi, tmp_path, DELETE)
    truth = sastrugi("look", specimen).out
    assert "Drift" in truth and "FIRN" in truth
    scored = both_routes(sastrugi, tmp_path)
    assert scored.keys() == set(DELETED)  # of core 2 another name stands: nothing is lost
    assert {(one["content"], one["name"], one["times"], one["place"]) for one in scored.values()} == {
        ("intact", "full", "same", "same")
    }
    listed = {one["folder"].rstrip("/") + "/" + one["name"]: one for one in
              sastrugi("list", tmp_path / "s.scan", "--state", "any", "--json").json}  # fmt: skip
    assert set(DELETED) <= listed.keys() and listed["/Depot/the same.bin"]["state"] == "live"
    assert all(listed[path]["passes"] == ["journals"] for path in DELETED)
    assert "told by transaction" in listed["/Day 1.log"]["reasons"][0]
    assert {"zeros"} == {part[0] for part in listed["/Cores/core 1.bin"]["map"] if isinstance(part[0], str)}
    assert "zlib" in {part[0] for part in listed["/Day 1.log"]["map"]}
    assert (tmp_path / "results" / "Cores" / "core 1.bin_note").read_bytes() == NOTE
    for words in ((), ("--tree",), ("--by", "pass"), ("--csv",)):
        out = sastrugi("list", tmp_path / "s.scan", *words).out
        assert ("journals" if words == ("--by", "pass") else "Day 1.log") in out


def test_it_is_explained_and_drawn(sastrugi: Program, tmp_path: Path) -> None:
    specimen = build(sastrugi, tmp_path, DELETE)
    both_routes(sastrugi, tmp_path)
    told = sastrugi("explain", specimen, tmp_path / "results", "/Cores/core 1.bin").out
    assert "reads as zeros" in told and "still there" in told
    packed = sastrugi("explain", specimen, tmp_path / "results", "Day 1.log", "--json").json
    assert {piece["coding"] for piece in packed["pieces"]} >= {"zlib"}
    for words in (("map", specimen), ("map", tmp_path / "s.scan"), ("preview", tmp_path / "s.scan")):
        out = tmp_path / f"{words[0]}-{Path(words[1]).name}.png"
        sastrugi(*words, "--out", out)
        with Image.open(out) as picture:
            assert picture.size[0] > 300
    found = next(one for one in sastrugi("list", tmp_path / "s.scan", "--json").json if one["name"] == "Day 1.log")
    owners = sastrugi("hex", specimen, str(found["start"]), "--scan", tmp_path / "s.scan", "--json").json["owners"]
    assert any("stored as zlib" in claim["what"] for one in owners for claim in one["claims"])
    note = next(one for one in sastrugi("list", tmp_path / "s.scan", "--json").json if one["name"].endswith(":note"))
    shown = sastrugi("hex", specimen, str(note["start"]), "--length", "64", "--json").json["bytes"]
    assert shown.startswith(NOTE.hex())
    sastrugi("report", specimen, tmp_path / "results", "--out", tmp_path / "report.html")
    page = (tmp_path / "report.html").read_text()
    assert "core 1.bin:note" in page


@pytest.mark.parametrize("steps", [
    '{do = "format", volume = "field", file_system = "drift"},',
    '{do = "format", volume = "field", file_system = "fat12"}, {do = "store", volume = "field", folder = "later"},',
    DELETE + '{do = "churn", volume = "field", write = "900 KiB", delete = "300 KiB", size = "4 KiB..60 KiB"},',
    '{do = "bin", volume = "field", what = ["Cores", "Day 1.log"]}, {do = "empty-bin", volume = "field"},',
    '{do = "grow", volume = "field", what = ["*.log"], by = "9 KiB"}, {do = "rename", volume = "field", what = ["Cores"], into = "Old"},' + DELETE.replace("Cores", "Old/Cores"),
    '{do = "damage", volume = "field", what = "superblock"},',
    '{do = "damage", volume = "field", what = "journal", share = 0.5},' + DELETE,
    '{do = "damage", volume = "field", what = "folder", path = "Cores"},',
    '{do = "fade", volume = "field", what = ["Cores/*", "Day 1.log"], sectors = 2},',
    '{do = "drop-partition", volume = "field"},',
])  # fmt: skip
def test_every_kind_of_loss(sastrugi: Program, tmp_path: Path, steps: str) -> None:
    build(sastrugi, tmp_path, steps)
    scored = both_routes(sastrugi, tmp_path)
    for path, one in scored.items():
        assert float(str(one["completeness"])) <= float(str(one["ceiling_bytes"])) + 1e-9, path
    if "drop-partition" in steps or '"superblock"' in steps:  # it is found again, by its superblock or the copy
        assert all(one["content"] == "intact" for one in scored.values() if one["size"])


def test_what_cannot_be_done_is_said(sastrugi: Program, tmp_path: Path) -> None:
    own_files(tmp_path)
    for steps, told in (
        ('{do = "grow", volume = "field", what = ["Depot/the same.bin"], by = "1 KiB"},', "has 2 names"),
        ('{do = "damage", volume = "field", what = "fat1"},', "has no 'fat1'"),
        ('{do = "link", volume = "field", what = ["Day 2.log"]},', "'to'"),
    ):
        (tmp_path / "r.toml").write_text(RECIPE.format(steps=steps, scheme="gpt"))
        assert told in sastrugi("build", tmp_path / "r.toml", "--into", tmp_path / "s", code=2).err
    text = RECIPE.format(steps="", scheme="mbr").replace('"drift"', '"exfat"').replace('name = "exfat"', 'name = "x"')
    shutil.rmtree(tmp_path / "mine")
    (tmp_path / "mine" / "Cores").mkdir(parents=True)
    (tmp_path / "mine" / "Cores" / "core 2.bin").write_bytes(b"ice")
    (tmp_path / "r.toml").write_text(text)
    assert "exFAT has no hard links" in sastrugi("build", tmp_path / "r.toml", "--into", tmp_path / "s", code=2).err


def test_an_image_of_it_is_adopted(sastrugi: Program, tmp_path: Path) -> None:
    specimen = build(sastrugi, tmp_path, DELETE)
    shutil.copy(specimen / "medium.img", tmp_path / "stick.img")
    lost = [word for path in DELETED for word in ("--lost", path.rpartition("/")[2])]
    shutil.rmtree(specimen)
    sastrugi("adopt", tmp_path / "stick.img", "--originals", tmp_path / "mine", *lost, "--into", specimen)
    sastrugi("audit", specimen)
    scored = both_routes(sastrugi, tmp_path)
    assert {path: one["content"] for path, one in scored.items()} == dict.fromkeys(DELETED, "intact")


def test_random_recipes_hold_what_holds_of_every_score() -> None:
    """The tests of whole random recipes, with this file system among those that there are."""
    words = [
        "tests/test_end_to_end.py",
        "-q",
        "-n",
        "0",
        "-p",
        "no:cacheprovider",
        "--hypothesis-seed=1",
        "-k",
        "holds_of_every_score and drift",
    ]
    ran = subprocess.run(
        [sys.executable, "-m", "pytest", *words], cwd=ROOT, capture_output=True, text=True, timeout=280
    )
    assert ran.returncode == 0 and "[100%]" in ran.stdout, ran.stdout[-3000:]
