"""The scorer: results made wrong on purpose move exactly the figures they should; two routes agree."""

from __future__ import annotations

import datetime as dt
import errno
import io
import json
import os
import random
import shutil
import sqlite3
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any
from unittest import mock

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image

from sastrugi.cli.score_options import warn
from sastrugi.media import Extent, FileMap
from sastrugi.progress import Progress
from sastrugi.scoring.block_index import NO_SHIFT, Witnesses
from sastrugi.scoring.calibration import calibrate
from sastrugi.scoring.claimed_extents import compare_places
from sastrugi.scoring.claims import Claim, read_claims
from sastrugi.scoring.contents import Contents
from sastrugi.scoring.scorecard import FileScore, Scorecard
from sastrugi.scoring.scorer import judge
from sastrugi.specimen.truth import Ceiling, Specimen, TruthFile
from tests.conftest import Program


@pytest.fixture
def perfect(demo: Path, tmp_path: Path) -> Path:
    """The originals of all lost files whose bytes are still there, in their folders."""
    with Specimen(demo / "specimen") as specimen:
        for file in specimen.truth.lost:
            if file.ceiling.intact:
                target = tmp_path / "results" / file.path.lstrip("/")
                target.parent.mkdir(parents=True, exist_ok=True)
                target.write_bytes(b"".join(specimen.blocks(file)))
                set_time(target, file.modified)
    return tmp_path / "results"


def set_time(path: Path, moment: dt.datetime) -> None:
    os.utime(path, (moment.timestamp(), moment.timestamp()))


def scored(demo: Path, results: Path) -> Scorecard:
    with Specimen(demo / "specimen") as specimen:
        return judge(specimen, results, Progress()).scorecard()


def test_originals_score_all_and_nothing_scores_nothing(demo: Path, perfect: Path, tmp_path: Path) -> None:
    card = scored(demo, perfect)
    for figure in (card.intact, card.all_three):
        assert figure.value == figure.of_ceiling == len(card.results) and figure.share_of_ceiling == 1
    assert card.precision == 1 and card.classes["reference"] == len(card.results)
    assert card.times == {"same": len(card.results)} and card.named.value == len(card.results)
    (tmp_path / "empty").mkdir()
    card = scored(demo, tmp_path / "empty")
    assert {f.content for f in card.files} == {
        "missing"
    } and card.intact.value == card.named.value == card.complete.value == 0
    assert card.precision is None and not card.beyond_ceiling


PICTURE, SOUND, SHEET, TEXT = "FRN00005.JPG", ".wav", ".xlsx", ".txt"


def find(results: Path, end: str) -> Path:
    return next(p for p in sorted(results.rglob("*")) if p.name.endswith(end))


@dataclass(frozen=True)
class Fault:
    """Something wrong with the results, the file it is about, and all that may change by it."""

    do: Callable[[Path, Path], object]
    about: str
    changes: dict[str, Any]
    classes: dict[str, int] = field(default_factory=dict)
    also: str = ""


def edit(change: Callable[[bytes], bytes]) -> Callable[[Path, Path], object]:
    def run(path: Path, _: Path) -> None:
        times = path.stat()
        path.write_bytes(change(path.read_bytes()))
        os.utime(path, (times.st_mtime, times.st_mtime))

    return run


def later(seconds: float) -> Callable[[Path, Path], object]:
    return lambda path, _: os.utime(path, (path.stat().st_mtime + seconds,) * 2)


def rename(change: Callable[[Path], Path]) -> Callable[[Path, Path], object]:
    def run(path: Path, _: Path) -> None:
        target = change(path)
        target.parent.mkdir(parents=True, exist_ok=True)
        path.rename(target)

    return run


def flipped(data: bytes) -> bytes:
    return data[:1000] + bytes([data[1000] ^ 1]) + data[1001:]


def swap(path: Path, results: Path) -> None:
    other = find(results, "FRN00004.JPG")
    path.rename(path.with_name("x"))
    other.rename(path)
    path.with_name("x").rename(other)


def live_file(_: Path, results: Path) -> None:
    with Specimen(results.parent / "specimen-link") as specimen:
        file = specimen.truth.live[0]
        (results / "live.bin").write_bytes(b"".join(specimen.blocks(file)))


FAULTS: dict[str, Fault] = {
    "one flipped byte": Fault(edit(flipped), PICTURE, {"content": "mixed", "lost_bytes": 1, "first_wrong": 1000}),
    "cut tail": Fault(edit(lambda d: d[:-700]), PICTURE, {"content": "cut", "lost_bytes": 700}),
    "cut to half": Fault(edit(lambda d: d[: len(d) // 2]), SOUND, {"content": "cut"}),
    "a tail too many": Fault(edit(lambda d: d + b"tail"), PICTURE, {"content": "padded", "lost_bytes": 0}),
    "zeros too many": Fault(edit(lambda d: d + bytes(5000)), SHEET, {"content": "padded", "lost_bytes": 0}),
    "another file in the middle": Fault(
        edit(lambda d: d[:2048] + os.urandom(1024) + d[3072:]), SOUND, {"content": "mixed", "lost_bytes": 1024}
    ),
    "shifted by a block": Fault(edit(lambda d: bytes(512) + d), SHEET, {"content": "foreign", "lost_bytes": "all", "shift": 512}, {"fragment": 1, "reference": -1}),
    "shifted by a byte": Fault(edit(lambda d: b"x" + d), SHEET, {"content": "foreign", "lost_bytes": "all", "shift": 1}, {"fragment": 1, "reference": -1}),
    "shifted by a lot": Fault(edit(lambda d: os.urandom(7003) + d), SOUND, {"content": "foreign", "lost_bytes": "all", "shift": 7003}, {"fragment": 1, "reference": -1}),
    "head cut off": Fault(edit(lambda d: d[1001:]), SOUND, {"content": "foreign", "lost_bytes": "all", "shift": -1001}, {"fragment": 1, "reference": -1}),
    "merged with another": Fault(edit(lambda d: d + d[::-1]), SOUND, {"content": "padded", "lost_bytes": 0}),
    "deleted result": Fault(lambda p, _: p.unlink(), PICTURE, {"content": "missing", "lost_bytes": "all", "name": "none"}, {"reference": -1}),
    "emptied result": Fault(edit(lambda d: b""), PICTURE, {"content": "foreign", "lost_bytes": "all", "named": False}, {"reference": -1, "noise": 1}),
    "noise in its place": Fault(edit(lambda d: os.urandom(len(d))), TEXT, {"content": "foreign", "lost_bytes": "all", "named": False}, {"reference": -1, "noise": 1}),
    "other folder": Fault(rename(lambda p: p.parent.parent / "elsewhere" / p.name), PICTURE, {"name": "name"}),
    "other case": Fault(rename(lambda p: p.with_name(p.name.lower())), PICTURE, {"name": "near"}),
    "first character lost": Fault(rename(lambda p: p.with_name("_" + p.name[1:])), PICTURE, {"name": "near"}),
    "shortened": Fault(rename(lambda p: p.with_name(p.name.replace(" ", "")[:6] + "~1.XLS")), SHEET, {"name": "near"}),
    "only the type": Fault(rename(lambda p: p.with_name("f0001.wav")), SOUND, {"name": "type"}),
    "no name at all": Fault(rename(lambda p: p.with_name("f0001")), SOUND, {"name": "none"}),
    "a folder above": Fault(rename(lambda p: p.parent.parent.parent / "vol1" / p.relative_to(p.parent.parent.parent)), PICTURE, {}),
    "names swapped": Fault(swap, PICTURE, {"name": "type"}, also="FRN00004.JPG"),
    "a copy": Fault(lambda p, r: shutil.copy(p, r / "copy.jpg"), PICTURE, {}, {"copy": 1}),
    "two copies": Fault(lambda p, r: [shutil.copy(p, r / f"{n}.jpg") for n in range(2)], PICTURE, {}, {"copy": 2}),
    "a fragment": Fault(lambda p, r: (r / "part").write_bytes(p.read_bytes()[4096:9000]), SOUND, {}, {"fragment": 1}),
    "junk": Fault(lambda p, r: (r / "junk.jpg").write_bytes(os.urandom(5000)), PICTURE, {}, {"noise": 1}),
    "a live file": Fault(live_file, PICTURE, {}, {"live": 1}),
    "a link to a file": Fault(lambda p, r: (r / "link.jpg").symlink_to(p), PICTURE, {}),
    "a time two seconds off": Fault(later(2), PICTURE, {"times": "differs"}),
    "a time within the grain": Fault(later(1.5), PICTURE, {}),
    "a clock of another zone": Fault(later(-3 * 3600), SOUND, {"times": "zone"}),
    "a time of another day": Fault(later(86400 * 3), TEXT, {"times": "differs"}),
    "our own manifest": Fault(lambda p, r: (r / "manifest.csv").write_text("finding,file,size,sha256\n"), PICTURE, {}),
    "a stranger's manifest": Fault(lambda p, r: (r / "manifest.csv").write_text("a,b\n1,2\n"), PICTURE, {}, {"noise": 1}),
}  # fmt: skip


def test_there_are_enough_faults() -> None:
    assert len(FAULTS) >= 25


@pytest.mark.parametrize("case", FAULTS)
def test_a_fault_moves_exactly_what_it_should(demo: Path, perfect: Path, case: str) -> None:
    fault = FAULTS[case]
    (perfect.parent / "specimen-link").symlink_to(demo / "specimen")
    before = scored(demo, perfect)
    path = find(perfect, fault.about)
    fault.do(path, perfect)
    after = scored(demo, perfect)
    touched = {path.name, fault.also}
    for old, new in zip(before.files, after.files, strict=True):
        if Path(old.path).name not in touched:
            assert new == old, "a file that nothing happened to"
        else:
            assert_moved(old, new, fault.changes)
    wanted = {name: count + fault.classes.get(name, 0) for name, count in before.classes.items()}
    assert after.classes == wanted and not after.beyond_ceiling
    changed = "content" in fault.changes
    assert before.intact.value - after.intact.value == int(changed)
    unnamed = bool({"name", "named"} & set(fault.changes))
    assert before.named.value - after.named.value == unnamed * (2 if fault.also else 1)


def assert_moved(old: FileScore, new: FileScore, changes: dict[str, Any]) -> None:
    lost = changes.get("lost_bytes")
    if lost is not None:
        assert new.completeness * new.size == pytest.approx(0 if lost == "all" else new.size - lost)
    elif "content" not in changes:
        assert new.completeness == old.completeness
    assert new.shift == changes.get("shift") and (new.shifted > 0.9) == ("shift" in changes)
    if "content" not in changes and "name" not in changes:
        assert new.times == changes.get("times", "same")
    for key in ("content", "name", "first_wrong"):
        if key in changes:
            assert getattr(new, key) == changes[key]
        elif key != "first_wrong":
            assert getattr(new, key) == getattr(old, key)


def same_figures(one: Scorecard, other: Scorecard) -> None:
    for key in ("intact", "complete", "complete_bytes", "named", "all_three", "precision", "inflation", "classes"):
        assert getattr(one, key) == getattr(other, key), key
    parts = [
        [(f.path, f.content, f.completeness, f.name, f.result, f.damage) for f in card.files] for card in (one, other)
    ]
    assert parts[0] == parts[1]


def test_two_routes_to_the_same_figures(sastrugi: Program, demo: Path, tmp_path: Path) -> None:
    """By bytes of what was extracted, and by extents of the findings without reading anything: no difference."""
    same_figures(scored(demo, demo / "results"), scored(demo, demo / "card.scan"))
    sastrugi("scan", demo / "specimen", "--out", tmp_path / "c.scan", "--passes", "content")
    sastrugi("extract", tmp_path / "c.scan", "--into", tmp_path / "results")
    one, other = scored(demo, tmp_path / "results"), scored(demo, tmp_path / "c.scan")
    same_figures(one, other)
    assert one.named.value == 0 and one.intact.value > 10 and one.classes["live"] > 5


def test_the_order_of_results_does_not_count(demo: Path, perfect: Path) -> None:
    before = scored(demo, perfect)
    files = [p for p in sorted(perfect.rglob("*")) if p.is_file()]
    order = list(range(len(files)))
    random.Random(1).shuffle(order)
    for n, path in zip(order, files, strict=True):  # another first folder each, so that the order of reading changes
        target = perfect / f"{n:03d}" / path.relative_to(perfect)
        target.parent.mkdir(parents=True)
        path.rename(target)
    after = scored(demo, perfect)
    assert [(f.path, f.content, f.completeness, f.name) for f in after.files] == [
        (f.path, f.content, f.completeness, f.name) for f in before.files
    ]


def test_content_that_no_longer_exists_is_above_the_ceiling(sastrugi: Program, demo: Path, tmp_path: Path) -> None:
    (tmp_path / "r").mkdir()
    with Specimen(demo / "specimen") as specimen:
        gone = next(f for f in specimen.truth.lost if f.gone)
        (tmp_path / "r" / "x.jpg").write_bytes(b"".join(specimen.blocks(gone)))
    ran = sastrugi("score", demo / "specimen", tmp_path / "r", "--out", tmp_path / "c.json", code=1)
    assert "above its ceiling" in ran.err and gone.path in ran.err


def test_identical_files_are_matched_by_name(tmp_path: Path, sastrugi: Program) -> None:
    (tmp_path / "mine" / "a").mkdir(parents=True)
    for name in ("a/one.bin", "two.bin"):
        (tmp_path / "mine" / name).write_bytes(b"the same core section" * 100)
    recipe = """recipe = 1
name = "twins"
title = "Twins"
seed = 1
medium.size = "2 MiB"
steps = [ {do = "format", file_system = "fat12", cluster = "512 B"}, {do = "store", folder = "mine"}, {do = "delete", what = ["*"]} ]
"""
    (tmp_path / "r.toml").write_text(recipe)
    sastrugi("build", tmp_path / "r.toml", "--into", tmp_path / "s")
    (tmp_path / "res" / "a").mkdir(parents=True)
    shutil.copy(tmp_path / "mine/two.bin", tmp_path / "res/a/one.bin")
    ran = sastrugi("score", tmp_path / "s", tmp_path / "res", "--json", "--out", tmp_path / "c.json")
    assert {f["path"]: (f["content"], f["name"]) for f in ran.json["files"]} == {
        "/a/one.bin": ("intact", "full"), "/two.bin": ("missing", "none")
    }  # fmt: skip
    assert json.loads((tmp_path / "c.json").read_text()) == ran.json


def test_block_hashes_tell_blocks_apart() -> None:
    from sastrugi.specimen.blocks import block_hashes

    data = np.random.RandomState(1).bytes(512 * 4000)
    hashes = block_hashes(data + bytes(512) + b"\xff" * 512 + data[:512])
    assert len(set(hashes[:4000].tolist())) == 4000 and hashes[4000] == hashes[4001] == 0 and hashes[4002] == hashes[0]


def test_truth_file_paths_are_what_is_scored(demo: Path) -> None:
    with Specimen(demo / "specimen") as specimen:
        lost: list[TruthFile] = specimen.truth.lost
    card = json.loads((demo / "scorecard.json").read_text("utf-8"))
    assert [f["path"] for f in card["files"]] == [f.path for f in lost] and card["set"] == "lost"


# -- what the figures are of, and what is asked of them ---------------------------------------------------------------

damages = st.lists(
    st.tuples(st.sampled_from(["cut", "flip", "shift", "tail", "hole", "drop"]), st.integers(0, 1 << 17)), max_size=6
)


@settings(max_examples=12)
@given(damages, st.integers(0, 1 << 30))
def test_no_damage_lifts_a_score(
    demo: Path, tmp_path_factory: pytest.TempPathFactory, damage: list[tuple[str, int]], seed: int
) -> None:
    """Completeness is never above 1 nor above the ceiling, figures agree with their groups, whatever came back."""
    results = tmp_path_factory.mktemp("damaged") / "r"
    shutil.copytree(demo / "results", results)
    files = [p for p in sorted(results.rglob("*")) if p.is_file() and p.name != "manifest.csv"]
    dice = random.Random(seed)
    for what, at in damage:
        path = dice.choice(files)
        data = path.read_bytes()
        at = min(at, len(data))
        path.write_bytes(
            {
                "cut": data[:at], "flip": data[:at] + bytes(b ^ 255 for b in data[at : at + 3]) + data[at + 3 :],
                "shift": bytes(at % 2000) + data, "tail": data + dice.randbytes(at % 5000),
                "hole": data[:at] + bytes(len(data[at : at + 4096])) + data[at + 4096 :], "drop": b"",
            }[what]
        )  # fmt: skip
    card = scored(demo, results)
    assert not card.beyond_ceiling
    for f in card.files:
        assert 0 <= f.completeness <= min(1, f.ceiling_bytes) + 1e-12 and f.longest_right <= f.size
        assert (f.completeness == 1 and f.ceiling_bytes == 1) or f.content != "intact"
    for groups in card.groups.values():
        assert sum(g.files for g in groups) == len(card.files)
        assert sum(g.intact.value for g in groups) == card.intact.value
        assert sum(g.named.value for g in groups) == card.named.value


def test_sets_and_floors(sastrugi: Program, demo: Path, tmp_path: Path) -> None:
    with Specimen(demo / "specimen") as specimen:
        files = specimen.truth.files
    out = ("--out", tmp_path / "c.json", "--json", "--replace")
    for name, wanted in (
        ("all", {f.path for f in files}), ("deleted", {f.path for f in files if f.end == "deleted"}),
        ("life 1", {f.path for f in files}), ("*.jpg", {f.path for f in files if f.lost and f.path.endswith(".JPG")}),
        ("DCIM/102FIRN/*", {f.path for f in files if f.lost and "102FIRN" in f.path}),
    ):  # fmt: skip
        card = sastrugi("score", demo / "specimen", demo / "card.scan", "--set", name, *out).json
        assert {f["path"] for f in card["files"]} == wanted and card["set"] == name
        assert card["intact"]["share_of_ceiling"] == 1
    assert "patterns such as" in sastrugi("score", demo / "specimen", demo / "results", "--set", "life 9", code=2).err
    for words, told in (
        (("--floor", "intact=0.95"), "intact: 88.2 % of the set, the floor is 95 %"),
        (("--floor", "intact=80%", "--floor", "named=95%"), "named: 94.1 % of the set, the floor is 95 %"),
        (("--max-noise", "0", "--floor", "complete=0.99"), "complete: 91.7 %"),
    ):
        assert told in sastrugi("score", demo / "specimen", demo / "results", *words, *out, code=1).err
    fine = (
        "--floor",
        "intact=0.88",
        "--ceiling-floor",
        "all_three=1",
        "--ceiling-floor",
        "named=97%",
        "--max-noise",
        "0",
        "--floor",
        "precision=1",
    )
    sastrugi("score", demo / "specimen", demo / "results", *fine, *out)
    assert "is no floor" in sastrugi("score", demo / "specimen", demo / "results", "--floor", "sharp=1", code=2).err


@given(
    st.permutations(["Confidence", "FILE", "note", "Original Path", "extents"]), st.sampled_from(",;\t"), st.booleans()
)
def test_a_table_of_claims_in_any_order(
    tmp_path_factory: pytest.TempPathFactory, columns: list[str], separator: str, percent: bool
) -> None:
    folder = tmp_path_factory.mktemp("claims")
    rows = [
        ("a/one.jpg", 0.5, "/DCIM/one.jpg", "4096+512 8192+7"),
        (str(folder.resolve() / "r" / "two.jpg"), 0.25, "\\\\Notes\\\\two.jpg", ""),
        ("three", None, "", "[0+1]"),
    ]
    lines = [separator.join(columns)]
    for name, sure, original, extents in rows:
        told = "" if sure is None else f"{sure:.0%}" if percent else str(sure)
        cells = {"Confidence": told, "FILE": name, "note": "n", "Original Path": original, "extents": extents}
        lines.append(separator.join(cells[column] for column in columns))
    (folder / "t.csv").write_text("\n".join(lines))
    for name in ("a/one.jpg", "two.jpg", "three"):
        (folder / "r" / name).parent.mkdir(parents=True, exist_ok=True)
        (folder / "r" / name).touch()
    claims = read_claims(folder / "t.csv", folder / "r")
    assert claims.rows == 3 and claims.by_path == {
        "a/one.jpg": Claim(0.5, "/DCIM/one.jpg", FileMap.of((Extent(4096, 512), Extent(8192, 7)))),
        "two.jpg": Claim(0.25, "//Notes//two.jpg", FileMap()),
        "three": Claim(None, "", FileMap.of((Extent(0, 1),))),
    }


def test_what_a_program_claims_of_names_and_places_is_scored(demo: Path, perfect: Path, tmp_path: Path) -> None:
    """A flat folder of numbered files with a table scores as the folders would; a wrong place is told, and no more."""
    before = scored(demo, perfect)
    with Specimen(demo / "specimen") as specimen:
        files = {file.path.lstrip("/"): file for file in specimen.truth.lost}
    rows = []
    for n, path in enumerate(sorted(p for p in perfect.rglob("*") if p.is_file())):
        name = str(path.relative_to(perfect))
        path.rename(perfect / f"{n:05d}.bin")
        lay = [f"{extent.offset}+{extent.length}" for extent in files[name].extents]
        rows.append({"result": f"{n:05d}.bin", "original": "/" + name, "ranges": " ".join(lay)})
    rows[0]["ranges"] = "512+1000"
    rows[1]["ranges"] = rows[1]["ranges"].partition("+")[0] + "+1024"
    rows[2]["ranges"] = ""
    (tmp_path / "t.json").write_text(json.dumps(rows))
    with Specimen(demo / "specimen") as specimen:
        bare = judge(specimen, perfect, Progress()).scorecard()
        told = judge(specimen, perfect, Progress(), table=tmp_path / "t.json").scorecard()
    assert bare.named.value == 0 and bare.intact == before.intact and bare.places == {"untold": len(rows)}
    assert told.named == before.named and told.intact == before.intact and told.times == bare.times
    assert told.places == {"other": 1, "part": 1, "untold": 1, "same": len(rows) - 3}


def test_results_that_cannot_be_read_are_counted_and_told(
    demo: Path, perfect: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    """As on a bad disk: one result of the size of a reference, one of another, and a folder."""
    before = scored(demo, perfect)
    whole, other, hidden = find(perfect, PICTURE), perfect / "other.bin", perfect / "hidden"
    other.write_bytes(b"some other result" * 1000)
    hidden.mkdir()
    bad = {str(path) for path in (whole, other, hidden)}

    def failing(real: Callable[..., Any]) -> Callable[..., Any]:
        def run(path: Any, *words: Any, **named: Any) -> Any:
            if str(path) in bad:
                raise OSError(errno.EIO, os.strerror(errno.EIO), str(path))
            return real(path, *words, **named)

        return run

    monkeypatch.setattr(os, "open", failing(os.open))
    monkeypatch.setattr(io, "open", failing(io.open))
    monkeypatch.setattr(os, "scandir", failing(os.scandir))
    after = scored(demo, perfect)
    assert before.intact.value - after.intact.value == 1 and after.classes["noise"] == 2
    problems = {item.path: item.problem for item in after.results if item.problem}
    assert problems == dict.fromkeys((str(whole.relative_to(perfect)), "other.bin"), "the device reports a fault")
    assert after.unreadable == ("hidden: the device reports a fault",)
    warn(after)
    assert "3 of the results could not be read, such as hidden" in capsys.readouterr().err


@given(st.integers(0, 1 << 30), st.integers(1, 12))
def test_witnesses_are_blocks_that_few_contents_hold(demo: Path, seed: int, every: int) -> None:
    """Whichever files share blocks, and however many blocks are left out: what is found is there, at its shift."""
    dice = random.Random(seed)
    with Specimen(demo / "specimen") as specimen:
        contents = Contents(specimen, [file for file in specimen.truth.files if file.kept])
        files = contents.files
        with mock.patch("sastrugi.scoring.block_index._MOST_BLOCKS", 1 << 20 if every == 1 else 5000 // every):
            witnesses = Witnesses.of(contents, Progress())
        n = dice.choice([n for n, file in enumerate(files) if file.size >= 4096])
        original = specimen.original(files[n])
        data = dice.randbytes(dice.choice([0, 512, 700, 1])) + original
        before = len(data) - len(original)
        found = witnesses.standing_in(data, 0) + witnesses.anywhere_in(data[: 32 << 10])
        for owner, shift in found:
            then = specimen.original(files[owner])
            blocks = range(0, len(then) - 511, 512)
            if shift == NO_SHIFT:
                assert any(then[at : at + 512] in data for at in blocks)
            else:
                assert any(data[max(at + shift, 0) : at + shift + 512] == then[at : at + 512] for at in blocks)
        (best, shift), _ = found.most_common(1)[0]  # the first blocks of a file are never left out
        assert (files[best].blake3, shift) == (files[n].blake3, before)
        assert not witnesses.standing_in(dice.randbytes(1 << 16), 0)


@given(st.lists(st.tuples(st.floats(0, 1), st.booleans()), max_size=60))
def test_calibration_adds_up(stated: list[tuple[float, bool]]) -> None:
    found = calibrate(stated)
    if found is None:
        assert not stated
        return
    assert found.count == len(stated) == sum(one.count for one in found.bins) and 0 <= found.brier <= 1
    assert found.brier == pytest.approx(np.mean([(p - hit) ** 2 for p, hit in stated]))
    assert sum(one.count * one.intact for one in found.bins) == pytest.approx(sum(hit for _, hit in stated))
    assert all(one.low <= one.stated <= one.high for one in found.bins)


def test_stated_confidence_is_scored_by_both_routes(demo: Path) -> None:
    one, other = scored(demo, demo / "results").calibration, scored(demo, demo / "card.scan").calibration
    assert one is not None and one == other and one.count == 16 and one.brier < 0.01


def test_results_are_opened_by_other_libraries(sastrugi: Program, demo: Path, perfect: Path, tmp_path: Path) -> None:
    victim = find(perfect, PICTURE)
    victim.write_bytes(victim.read_bytes()[:30_000])
    card = sastrugi(
        "score", demo / "specimen", perfect, "--open", "--replace", "--out", tmp_path / "c.json", "--json"
    ).json
    answers = {f["path"].rpartition("/")[2]: f["opens"] for f in card["files"]}
    assert answers[PICTURE] == "no" and list(answers.values()).count("yes") == 14
    by_place = sastrugi(
        "score", demo / "specimen", demo / "card.scan", "--open", "--replace", "--out", tmp_path / "c.json", "--json"
    ).json
    assert by_place["opens"] == {"yes": 15, "no": 1}
    sound = find(perfect, SOUND)
    data = bytearray(sound.read_bytes())
    data[20_001] ^= 1
    sound.write_bytes(data)
    card = sastrugi(
        "score", demo / "specimen", perfect, "--open", "--replace", "--out", tmp_path / "c.json", "--json"
    ).json
    near = {f["path"].rpartition("/")[2]: f["nearness"] for f in card["files"] if f["nearness"] is not None}
    assert set(near) == {PICTURE, sound.name} and near[PICTURE] < 20 < 30 < near[sound.name] < 99


def test_a_story_tells_pieces_and_the_first_difference(
    sastrugi: Program, demo: Path, perfect: Path, tmp_path: Path
) -> None:
    victim = find(perfect, SOUND)
    data = bytearray(victim.read_bytes())
    data[70_001] ^= 255
    victim.write_bytes(data)
    told = sastrugi("explain", demo / "specimen", perfect, victim.name, "--out", tmp_path / "s.png")
    assert "First difference at byte 70,001" in told.out and "still there" in told.out and "mixed" in told.out
    assert "as it was" in told.out and "as it came back" in told.out and max(map(len, told.out.splitlines())) <= 100
    with Image.open(tmp_path / "s.png") as sheet:
        assert sheet.getpixel((110, 106)) != sheet.getpixel((5, 5)) and sheet.width > 400
    story = sastrugi("explain", demo / "specimen", perfect, victim.name, "--json").json
    assert story["differs_at"] == 70_001 and story["score"]["content"] == "mixed"
    for route in (demo / "results", demo / "card.scan"):
        story = sastrugi("explain", demo / "specimen", route, "FRN00003.JPG", "--json").json
        pieces = story["pieces"]
        assert sum(p["length"] for p in pieces) == story["file"]["size"] and story["differs_at"] == 0
        assert sum(p["length"] for p in pieces if p["gone"]) == pytest.approx(
            story["file"]["size"] * (1 - story["file"]["ceiling"]["bytes"])
        )
    missing = sastrugi("explain", demo / "specimen", demo / "results", "FRN00002.JPG").out
    assert "Nothing came back" in missing and "overwritten by" in missing
    assert "fits" in sastrugi("explain", demo / "specimen", demo / "results", "*.jpg", code=2).err
    assert "did you mean" in sastrugi("explain", demo / "specimen", demo / "results", "FRN0003.JPG", code=2).err


def test_what_cannot_be_scored_is_refused_in_one_line(
    sastrugi: Program, demo: Path, perfect: Path, tmp_path: Path
) -> None:
    copy = tmp_path / "specimen"
    shutil.copytree(demo / "specimen", copy)
    with Specimen(copy) as specimen:
        victim = next(f for f in specimen.truth.lost if f.ceiling.intact and f.size > 20_000)
    find(perfect, victim.name).write_bytes(b"not exact, so that originals are asked")
    with (copy / "medium.img").open("r+b") as file:
        file.seek(victim.extents[0].offset + 5000)
        file.write(b"changed")
    told = sastrugi("score", copy, perfect, code=2).err
    assert "does not match its truth" in told and victim.path in told and f"{victim.extents[0].offset:,}" in told
    assert "does not match its truth" in sastrugi("score", copy, demo / "card.scan", code=2).err
    with (copy / "medium.img").open("r+b") as file:
        file.truncate(32 << 20)
    assert "33,554,432 bytes, and should have" in sastrugi("score", copy, perfect, code=2).err
    shutil.copy(demo / "specimen" / "medium.img", copy / "medium.img")  # newer than its truth, but with the right bytes
    assert sastrugi("score", copy, demo / "card.scan", "--json", "--out", tmp_path / "c.json").json["set"] == "lost"
    shutil.copy(demo / "card.scan", tmp_path / "other.scan")
    with sqlite3.connect(tmp_path / "other.scan") as scan:
        scan.execute("UPDATE scan SET value = '\"x\"' WHERE key = 'medium_identity'")
    assert "another medium" in sastrugi("score", copy, tmp_path / "other.scan", code=2).err
    assert "would be scored with it" in sastrugi("score", copy, tmp_path, code=2).err
    assert "the specimen itself" in sastrugi("score", demo / "specimen", demo / "specimen", code=2).err
    assert "neither a folder" in sastrugi("score", demo / "specimen", tmp_path / "none", code=2).err
    table = tmp_path / "t.json"
    for text, said in (("[1]", "no list of objects"), ('[{"x": 1}]', "no column 'file'"), ("{", "cannot be read"),
                       ('[{"file": "a", "sure": "very"}]', "is no confidence"),
                       ('[{"file": "a", "extents": "here"}]', "are no extents")):  # fmt: skip
        table.write_text(text)
        assert said in sastrugi("score", demo / "specimen", demo / "results", "--table", table, code=2).err


def test_hostile_results_are_scored_for_what_they_are(
    sastrugi: Program, demo: Path, perfect: Path, tmp_path: Path
) -> None:
    before = scored(demo, perfect)
    os.mkfifo(perfect / "pipe")
    (perfect / "loop").symlink_to(perfect)
    (perfect / "gone.jpg").symlink_to(perfect / "nothing")
    (perfect / os.fsdecode(b"\xff\xfe.jpg")).write_bytes(b"\0" * 700)
    with (perfect / "vast.bin").open("wb") as file:
        file.truncate(1 << 40)
    for n in range(3000):
        (perfect / f"{n}.tmp").touch()
    began = time.monotonic()
    after = scored(demo, perfect)
    assert time.monotonic() - began < 60
    assert after.files == before.files and after.classes["noise"] == before.classes["noise"] + 3002


# -- places, names and figures, each against the plainest way to work it out ------------------------------------------

pieces = st.lists(st.tuples(st.integers(0, 12), st.integers(1, 4)), max_size=5).map(
    lambda found: tuple(Extent(4 * at, length) for at, length in found)
)


@given(pieces, pieces, st.booleans())
def test_places_are_compared_byte_by_byte(lay: tuple[Extent, ...], claimed: tuple[Extent, ...], same: bool) -> None:
    size = sum(extent.length for extent in lay)
    ceiling = Ceiling(bytes=1.0, placed="whole", name="full")
    file = TruthFile(
        id=1, volume="card", life=1, path="/a", kind="other", size=size, blake3="0" * 64, created=None, modified=None,
        map=FileMap.of(lay), record=(), end="live", ceiling=ceiling,
    )  # fmt: skip
    said = lay if same else claimed
    was, told = ([at for extent in one for at in range(extent.offset, extent.end)] for one in (lay, said))
    right = sum(a == b for a, b in zip(was, told, strict=False))
    word = "untold" if not said or not size else "same" if right == size else "part" if right else "other"
    assert compare_places(FileMap.of(said), file) == word


def test_figures_are_those_that_counting_gives(demo: Path) -> None:
    card = scored(demo, demo / "results")
    filled = [f for f in card.files if f.size]
    assert card.intact.value == len([f for f in filled if f.content == "intact"])
    assert card.intact.of_ceiling == len([f for f in filled if f.ceiling_bytes == 1])
    assert card.complete.value == pytest.approx(sum(f.completeness for f in filled))
    assert card.all_three.value == len([f for f in filled if f.content == "intact" and f.name == "full"])
    assert card.intact_bytes.value == sum(f.size for f in filled if f.content == "intact")
    assert card.complete_bytes.of_ceiling == pytest.approx(sum(f.size * f.ceiling_bytes for f in filled))
    for by, key in (("kind", lambda f: f.kind), ("loss", lambda f: f.loss), ("pieces", lambda f: str(f.pieces))):
        for group in card.groups[by]:
            own = [f for f in card.files if key(f) == group.key]
            assert (group.files, group.bytes) == (len(own), sum(f.size for f in own))
            assert group.named.value == sum(f.name == "full" for f in own)
            assert group.complete.value == pytest.approx(sum(f.completeness for f in own if f.size))


def test_a_medium_that_nobody_wrote_to_is_believed(demo: Path, tmp_path: Path) -> None:
    """Its digest is worked out only where its file is newer than its truth."""

    class Watched(Progress):
        def __init__(self) -> None:
            super().__init__()
            self.tasks: list[str] = []

        def start(self, task: str, total: int, unit: str = "B") -> None:
            self.tasks.append(task)

    shutil.copytree(demo / "specimen", tmp_path / "s")
    truth = (tmp_path / "s" / "truth.json").stat().st_mtime_ns
    for later, digested in ((-1, False), (0, False), (1, True)):
        os.utime(tmp_path / "s" / "medium.img", ns=(truth + later, truth + later))
        with Specimen(tmp_path / "s") as specimen:
            watched = Watched()
            judge(specimen, demo / "results", watched)
        assert ("medium" in watched.tasks) == digested
