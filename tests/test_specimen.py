"""Recipes and their mistakes, specimens that repeat bit for bit, truth, and the audit that notices everything."""

from __future__ import annotations

import hashlib
import json
import os
import shutil
import signal
import subprocess
import time
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from sastrugi.corpus.kept import VARIABLE as KEPT
from sastrugi.errors import RecipeError
from sastrugi.specimen.recipe import parse_recipe, shipped_recipes
from sastrugi.specimen.steps import STEPS
from sastrugi.specimen.truth import Specimen
from tests.conftest import Program, program_path
from tests.judges import assert_clean, require_drivers, volume_copy
from tests.perfect import require_reachable

CARD = shipped_recipes()["camera-card"]

MISTAKES = {
    "a step that is none": ('do = "delete"', 'do = "delte"', "did you mean 'delete'"),
    "a key that is none": ('label = "FIRNLINE"', 'lable = "FIRNLINE"', "did you mean 'label'"),
    "a file system that is none": ('"fat32"', '"fat23"', "did you mean 'fat32'"),
    "a kind that is none": ('kinds = ["wav", "zip"]', 'kinds = ["waw", "zip"]', "did you mean 'wav'"),
    "a name style that is none": ('names = "accented"', 'names = "acented"', "did you mean 'accented'"),
    "a size that is none": ('size = "64 MiB"', 'size = "64 MB of card"', "is not a size"),
    "sizes upside down": ('"60 KiB..400 KiB"', '"400 KiB..60 KiB"', "must not be above"),
    "a missing key": ('label = "FIRNLINE"', "", ""),
    "a wrong version": ("recipe = 1", "recipe = 7", "input should be 1"),
    "a time that is none": (
        "starts = 2031-02-03T08:00:00",
        "starts = 9999-12-31T23:59:59",
        "start between 1980 and 2099",
    ),
    "no TOML": ("seed = 20310203", "seed = = 20310203", "is no TOML"),
}


@pytest.mark.parametrize("case", MISTAKES)
def test_a_mistake_in_a_recipe_names_its_line(case: str) -> None:
    right, wrong, message = MISTAKES[case]
    assert right in CARD
    if not message:
        parse_recipe(CARD.replace(right, wrong), "card.toml")  # a label may be left out
        return
    line = CARD[: CARD.index(right)].count("\n") + 1
    with pytest.raises(RecipeError, match=message) as caught:
        parse_recipe(CARD.replace(right, wrong, 1), "card.toml")
    assert f"line {line}" in str(caught.value)
    assert "\n" not in str(caught.value)


def test_a_rename_step_knows_the_parts_of_a_name() -> None:
    step = '[[steps]]\ndo = "rename"\nwhat = ["/Loggers/*"]\nto = "{nom}{n:99999999}"\n'
    with pytest.raises(RecipeError, match=r"'{nom}' is no part of a name: there are {n}, {suffix}, {stem}, {name}"):
        parse_recipe(CARD + step, "card.toml")


@given(st.sampled_from(sorted(shipped_recipes())), st.data())
def test_any_text_is_a_recipe_or_one_clear_line(name: str, data: st.DataObject) -> None:
    lines = shipped_recipes()[name].splitlines()
    at = data.draw(st.integers(0, len(lines) - 1))
    key, equals, _ = lines[at].partition(" = ")
    words = st.sampled_from(
        ["0", "-1", '""', "[]", "{}", "true", '"all"', '"9 PiB"', "1e99", '["*"]', '"\\u0000"', "nan"]
    )
    lines[at] = (
        f"{key}{equals}{data.draw(st.one_of(words, st.text(max_size=20)))}"
        if equals
        else data.draw(st.text(max_size=30))
    )
    try:
        parse_recipe("\n".join(lines), "r.toml")
    except RecipeError as error:
        assert "\n" not in str(error) or "is no TOML" in str(error)


def test_a_medium_that_no_disk_here_holds_is_refused(sastrugi: Program, tmp_path: Path) -> None:
    """16 TiB may be asked for; whether a disk can hold such a file, with holes, is the disk's affair."""
    recipe = tmp_path / "r.toml"
    recipe.write_text(SMALL.replace('"2 MiB"', '"16 TiB"').replace("fat12", "exfat").replace("1 KiB", "1 MiB"), "utf-8")
    ran = sastrugi("recipe", "check", recipe, code=None)
    assert ran.code == 0 or "an image of 16 TiB cannot be made here" in ran.err
    recipe.write_text(SMALL.replace('"2 MiB"', '"17 TiB"'), "utf-8")
    assert "64 KiB to 16 TiB" in sastrugi("recipe", "check", recipe, code=2).err


SMALL = """
recipe = 1
name = "small"
title = "Two notebooks"
seed = 5
[medium]
size = "2 MiB"
[[steps]]
do = "format"
file_system = "fat12"
cluster = "1 KiB"
[[steps]]
do = "store"
into = "/Notebooks"
corpus = { files = 4, kinds = ["txt"], size = "2 KiB..9 KiB", names = "long" }
[[steps]]
do = "delete"
what = ["/Notebooks/*"]
share = 0.5
"""


@pytest.mark.parametrize(
    ("change", "message"),
    [
        (('what = ["/Notebooks/*"]', 'what = ["/Notebook/*"]'), "step 3 (delete), line 16: '/Notebook/*' matches nothing"),
        (('size = "2 KiB..9 KiB"', 'size = "4 MiB..5 MiB"'), "step 2 (store), line 12: the volume is full"),
        (('cluster = "1 KiB"', 'cluster = "256 B"'), "step 1 (format), line 8: a FAT cluster cannot be 256 B"),
        (('file_system = "fat12"', 'file_system = "fat32"'), "step 1 (format), line 8: FAT32 with clusters of 1 KiB needs"),
        (("[[steps]]\ndo = \"format\"", '[[steps]]\ndo = "partition"\nvolumes = [{ name = "a", size = "9 MiB" }]\n[[steps]]\ndo = "format"'), "do not fit"),
        (('into = "/Notebooks"', 'into = "/Note:books"'), "cannot hold ':'"),
    ],
)  # fmt: skip
def test_a_step_that_cannot_be_carried_out_leaves_nothing(
    sastrugi: Program, tmp_path: Path, change: tuple[str, str], message: str
) -> None:
    assert change[0] in SMALL
    recipe = tmp_path / "r.toml"
    recipe.write_text(SMALL.replace(*change), "utf-8")
    ran = sastrugi("build", recipe, "--into", tmp_path / "s", code=2)
    assert message in ran.err and ran.err.count("\n") == 1
    assert [p.name for p in tmp_path.iterdir()] == ["r.toml"]


def test_a_specimen_is_the_same_bit_for_bit_on_any_day(sastrugi: Program, tmp_path: Path) -> None:
    """Of files that were kept, and of files that are made again."""
    sastrugi("build", "camera-card", "--into", tmp_path / "a")
    other_day = {KEPT: "", "TZ": "Pacific/Auckland", "LC_ALL": "C", "PYTHONHASHSEED": "7"}
    command = [program_path(), "build", "camera-card", "--into", str(tmp_path / "b")]
    subprocess.run(command, env={**os.environ, **other_day}, check=True, capture_output=True, cwd=tmp_path)
    one, other = (
        {p.relative_to(d): p.read_bytes() for p in d.rglob("*") if p.is_file()}
        for d in (tmp_path / "a", tmp_path / "b")
    )
    assert one == other and len(one) >= 5


def test_own_files_become_a_specimen(sastrugi: Program, tmp_path: Path) -> None:
    (tmp_path / "mine" / "deep").mkdir(parents=True)
    (tmp_path / "mine" / "deep" / "läsbar.dat").write_bytes(os.urandom(5000))
    (tmp_path / "mine" / "empty.txt").write_bytes(b"")
    own = SMALL.replace(
        'corpus = { files = 4, kinds = ["txt"], size = "2 KiB..9 KiB", names = "long" }', 'folder = "mine"'
    )
    (tmp_path / "own.toml").write_text(own.replace("share = 0.5\n", ""), "utf-8")
    sastrugi("build", tmp_path / "own.toml", "--into", tmp_path / "s")
    with Specimen(tmp_path / "s") as specimen:
        assert {f.path: (f.kind, f.end) for f in specimen.truth.files} == {
            "/Notebooks/deep/läsbar.dat": ("other", "deleted"), "/Notebooks/empty.txt": ("txt", "deleted")
        }  # fmt: skip
    sastrugi("audit", tmp_path / "s")


def test_own_files_that_do_not_fit_say_by_how_much(sastrugi: Program, tmp_path: Path) -> None:
    (tmp_path / "mine").mkdir()
    for n in range(3):
        (tmp_path / "mine" / f"{n}.bin").write_bytes(bytes(1 << 20))
    corpus = 'corpus = { files = 4, kinds = ["txt"], size = "2 KiB..9 KiB", names = "long" }'
    (tmp_path / "r.toml").write_text(SMALL.replace(corpus, 'folder = "mine"'), "utf-8")
    ran = sastrugi("build", tmp_path / "r.toml", "--into", tmp_path / "s", code=2)
    assert "the 3 files of 'mine' need 1.0 MiB more than is free" in ran.err and not (tmp_path / "s").exists()


@pytest.mark.parametrize("how", [signal.SIGINT, signal.SIGTERM, signal.SIGKILL])
def test_a_build_that_is_stopped_leaves_no_specimen(sastrugi: Program, tmp_path: Path, how: signal.Signals) -> None:
    """Asked to stop it leaves nothing at all; killed, a hidden folder that is not mistaken for a specimen."""
    process = subprocess.Popen(
        [program_path(), "build", "new-table", "--into", tmp_path / "s"], stderr=subprocess.PIPE, text=True
    )
    while not list(tmp_path.glob(".s.*/medium.img")):
        time.sleep(0.01)
    time.sleep(0.5)
    process.send_signal(how)
    _, said = process.communicate(timeout=60)
    left = [path.name for path in tmp_path.iterdir()]
    if how == signal.SIGKILL:
        assert len(left) == 1 and left[0].startswith(".s.") and left[0].endswith(".partial")
        sastrugi("build", "one-notebook", "--into", tmp_path / "s")
    else:
        assert process.returncode == 130 and not left and "Traceback" not in said


def test_sha256_is_there_for_who_asks(sastrugi: Program, tmp_path: Path) -> None:
    (tmp_path / "r.toml").write_text(SMALL, "utf-8")
    sastrugi("build", tmp_path / "r.toml", "--into", tmp_path / "s", "--sha256")
    with Specimen(tmp_path / "s") as specimen:
        for file in specimen.truth.files:
            assert file.sha256 == hashlib.sha256(b"".join(specimen.blocks(file))).hexdigest()
    listed = (tmp_path / "s" / "SHA256SUMS").read_text("ascii")
    assert hashlib.sha256((tmp_path / "s" / "medium.img").read_bytes()).hexdigest() + "  medium.img" in listed
    sastrugi("audit", tmp_path / "s")


def test_truth_and_ceilings_of_the_card(demo: Path) -> None:
    with Specimen(demo / "specimen") as specimen:
        files = {f.path: f for f in specimen.truth.files}
        kinds = {f.kind for f in files.values()}
        assert len(files) >= 20 and len(kinds) >= 8
        over = [f for f in files.values() if f.gone]
        assert over and all(f.lost and f.ceiling.bytes < 1 and f.gone_to for f in over)
        for file in files.values():
            content = b"".join(specimen.blocks(file))
            assert len(content) == file.size and file.ceiling.name == "full"


def flip(path: Path, offset: int) -> None:
    with path.open("r+b") as file:
        file.seek(offset)
        byte = file.read(1)[0]
        file.seek(offset)
        file.write(bytes([byte ^ 1]))


def test_audit_notices_any_flipped_byte(sastrugi: Program, demo: Path, tmp_path: Path) -> None:
    copy = tmp_path / "s"
    shutil.copytree(demo / "specimen", copy)
    assert sastrugi("audit", copy, "--json").json["sound"] is True
    with Specimen(copy) as specimen:
        lost = next(f for f in specimen.truth.lost if not f.gone)
        live = next(f for f in specimen.truth.live if f.size)
        gone = next(f for f in specimen.truth.lost if f.gone)
        places = {
            "originals of lost files": lost.extents[0].offset + 3,
            "live files read back": live.extents[-1].end - 1,
            "medium digest": 60 << 20,
        }
    for check, offset in places.items():
        flip(copy / "medium.img", offset)
        ran = sastrugi("audit", copy, "--json", code=1)
        faulty = {c["check"] for c in ran.json["checks"] if c["faults"]}
        assert {check, "medium digest"} <= faulty
        flip(copy / "medium.img", offset)
    flip(copy / "originals" / gone.blake3, 9)
    ran = sastrugi("audit", copy, code=1)
    assert gone.path.rpartition("/")[2] in ran.out.replace("\n", "")


def test_ceilings_that_claim_too_much_are_noticed(sastrugi: Program, demo: Path, tmp_path: Path) -> None:
    copy = tmp_path / "s"
    shutil.copytree(demo / "specimen", copy)
    truth = json.loads((copy / "truth.json").read_text("utf-8"))
    file = next(f for f in truth["files"] if f["gone"])
    file["ceiling"]["bytes"] = 1.0
    (copy / "truth.json").write_text(json.dumps(truth), "utf-8")
    ran = sastrugi("audit", copy, "--json", code=1)
    faulty = [c["check"] for c in ran.json["checks"] if c["faults"]]
    assert faulty == ["digests of the papers", "ceilings, by books and by look"]


@pytest.mark.parametrize(
    ("name", "content", "message"),
    [("truth.json", "{", "cannot be read"), ("truth.json", '{"version": 99}', "version 99"), ("truth.json", '{"version": 3}', "damaged at"), ("medium.img", "", "empty")],
)  # fmt: skip
def test_damaged_specimens_are_refused(
    sastrugi: Program, demo: Path, tmp_path: Path, name: str, content: str, message: str
) -> None:
    copy = tmp_path / "s"
    shutil.copytree(demo / "specimen", copy)
    (copy / name).write_text(content, "utf-8")
    ran = sastrugi("score", copy, demo / "results", "--out", tmp_path / "c.json", code=2)
    assert message in ran.err and not (tmp_path / "c.json").exists()


def test_recipes_are_listed_shown_and_checked(sastrugi: Program, tmp_path: Path) -> None:
    listed = sastrugi("recipe", "list").out.splitlines()
    rows = [line.split()[0] for line in listed if line.strip()][2:]
    assert sorted(rows) == sorted(shipped_recipes()) and len(rows) >= 18
    assert max(map(len, listed)) <= 100, "each in one line"
    steps = {step for entry in sastrugi("recipe", "list", "--json").json for step in entry["steps"]}
    assert steps == set(STEPS) - {"link"}  # which no file system that ships has yet (see test_drift)
    shown = sastrugi("recipe", "show", "formatted-refilled").out
    assert shown == shipped_recipes()["formatted-refilled"] and "# " in shown
    mine = tmp_path / "mine.toml"
    mine.write_text(shown, "utf-8")
    assert "sound, 6 steps" in sastrugi("recipe", "check", mine).err
    mine.write_text(shown.replace('size = "128 MiB"', 'size = "16 MiB"'), "utf-8")
    assert "step 2 (format), line 14: FAT32" in sastrugi("recipe", "check", mine, code=2).err
    assert [p.name for p in tmp_path.iterdir()] == ["mine.toml"]
    assert "did you mean 'formatted-refilled'" in sastrugi("recipe", "show", "formated-refilled", code=2).err


@pytest.mark.drivers
@pytest.mark.parametrize("name", shipped_recipes())
def test_every_shipped_recipe_builds_a_sound_specimen(sastrugi: Program, tmp_path: Path, name: str) -> None:
    """Books and bytes agree, the checkers find sound volumes clean, a scan finds no more than was laid down."""
    require_drivers()
    folder = tmp_path / "s"
    sastrugi("build", name, "--into", folder)
    sastrugi("audit", folder)
    with Specimen(folder) as specimen:
        truth = specimen.truth
        for volume in truth.volumes:
            if volume.life and not volume.trouble and not truth.medium.unreadable and truth.medium.size < 1 << 40:
                cut = volume_copy(folder / "medium.img", volume.where.offset, tmp_path / "v.img")
                with cut.open("r+b") as file:
                    file.truncate(volume.where.length) if cut.name == "v.img" else None
                assert_clean(cut, volume.life.file_system)
    ran = sastrugi("scan", folder, "--out", tmp_path / "s.scan", "--json", code=3 if truth.medium.unreadable else 0)
    sastrugi("score", folder, tmp_path / "s.scan", "--out", tmp_path / "card.json")
    if name in ("wiped-card", "full-format"):
        assert ran.json["findings"] == {}, "negative control"
    with Specimen(folder) as specimen:
        require_reachable(specimen, tmp_path / "reach")
