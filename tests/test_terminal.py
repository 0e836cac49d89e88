"""What stands in a user's way: terminals of any width, waiting, and where outputs go."""

from __future__ import annotations

import csv
import json
import re
import shutil
import subprocess
import time
from pathlib import Path

import pytest

from sastrugi.media.extents import Extent, RangeSet
from sastrugi.progress import Progress
from sastrugi.report.exports import as_csv, as_junit, as_markdown
from sastrugi.report.page import render
from sastrugi.scoring.scorer import judge
from sastrugi.specimen.truth import Specimen
from tests.conftest import Program, program_path
from tests.terminal import in_terminal


@pytest.mark.parametrize("columns", [60, 80, 100])
@pytest.mark.parametrize(
    "words",
    [
        ("list", "card.scan"),
        ("list", "card.scan", "--tree"),
        ("list", "card.scan", "--why"),
        ("list", "card.scan", "--by", "kind"),
        ("look", "specimen"),
        ("look", "card.scan"),
        ("audit", "specimen"),
        ("recipe", "list"),
        ("corpus", "kinds"),
        ("score", "specimen", "results"),
        ("map", "specimen"),
        ("explain", "specimen", "results", "FRN00003.JPG"),
    ],
    ids=lambda words: " ".join(words[:3:2]) if isinstance(words, tuple) else str(words),
)
def test_everything_fits_the_terminal(demo: Path, tmp_path: Path, words: tuple[str, ...], columns: int) -> None:
    for name in ("specimen", "results", "card.scan"):
        (tmp_path / name).symlink_to(demo / name)
    seen = in_terminal(*words, columns=columns, cwd=tmp_path)
    assert seen.code == 0
    # Paths that people copy, and sixteen bytes with their characters, are never cut.
    whole = re.compile(r"^ *\d[\d,]*  (was|is|/)")
    assert max(len(line) for line in seen.text.split("\n") if not whole.match(line)) <= columns


@pytest.mark.parametrize("columns", [60, 80])
def test_a_narrow_list_keeps_what_people_need(demo: Path, columns: int) -> None:
    seen = in_terminal("list", "card.scan", "--state", "lost", columns=columns, cwd=demo).text.split("\n")
    head = seen[0].split()
    assert {"No", "Sure", "Kind", "File"} <= set(head)
    assert re.match(r" *\d+ +(deleted +)?0\.\d\d .* jpeg ", seen[2])
    assert seen[2].rstrip().endswith("FRN00002.JPG")


def test_no_table_cuts_what_people_type(sastrugi: Program) -> None:
    names = [recipe["name"] for recipe in sastrugi("recipe", "list", "--json").json]
    text = in_terminal("recipe", "list", columns=60).text
    assert len(names) >= 28 and all(re.search(rf"^ {re.escape(name)} ", text, re.M) for name in names)


def test_pipes_get_no_padding_and_no_styles(sastrugi: Program, demo: Path) -> None:
    for words in (("list", "card.scan"), ("look", "specimen"), ("recipe", "list"), ("audit", "specimen")):
        out = sastrugi(*words, cwd=demo).out
        assert "\x1b" not in out and not any(line != line.rstrip() for line in out.split("\n"))


def slowed(demo: Path, folder: Path, start: int, seconds: float) -> Path:
    """The demo's specimen, one sector of which takes so long."""
    shutil.copytree(demo / "specimen", folder / "s")
    document = {"format": "sastrugi-faults", "version": 1, "slow": [[start, 512, seconds]]}
    (folder / "s" / "medium.img.faults.json").write_text(json.dumps(document))
    return folder / "s"


def test_a_scan_is_never_silent(demo: Path, tmp_path: Path) -> None:
    """Also while one read takes long; it says which step it is at, in binary units only."""
    specimen = slowed(demo, tmp_path, 40 << 20, 4.0)
    # The slow sector has to be one that is read: nothing of a hole is.
    with (specimen / "medium.img").open("r+b") as file:
        file.seek(40 << 20)
        file.write(b"Firnline")
    seen = in_terminal("scan", specimen, "--out", tmp_path / "x.scan", columns=100)
    assert seen.code == 0 and seen.parts[-1][0] > 4
    assert seen.longest_silence < 2
    steps = set(re.findall(r"(\d/6 [a-z]+)", seen.raw))
    assert {"2/6 tables", "3/6 relics"} <= steps
    assert not re.search(r"\d [kMG]B\b", seen.raw)


def test_findings_of_tables_can_be_listed_while_the_rest_is_swept(
    sastrugi: Program, demo: Path, tmp_path: Path
) -> None:
    """The end of the medium, behind its only partition, takes long: what the table tells is there at once."""
    specimen = slowed(demo, tmp_path, 66 << 20, 20.0)
    with (specimen / "medium.img").open("r+b") as file:
        file.truncate(68 << 20)
        file.seek(66 << 20)
        file.write(b"Firnline" * 64)
    words = [program_path(), "scan", str(specimen), "--out", str(tmp_path / "x.scan")]
    running = subprocess.Popen(words, stderr=subprocess.DEVNULL, stdout=subprocess.DEVNULL)
    try:
        deadline = time.monotonic() + 10
        found = 0
        while found < 17:
            assert time.monotonic() < deadline and running.poll() is None
            ran = sastrugi("list", tmp_path / "x.scan", "--state", "deleted", "--json", code=None)
            found = len(ran.json) if ran.code == 0 else 0
        assert running.poll() is None
    finally:
        running.kill()
        running.wait()


# -- where outputs go ---------------------------------------------------------------------


def test_outputs_go_into_the_current_folder_and_replace_nothing(sastrugi: Program, demo: Path, tmp_path: Path) -> None:
    specimen, results, scan = (demo / name for name in ("specimen", "results", "card.scan"))
    for words, made in (
        (("score", specimen, results), "results.scorecard.json"),
        (("score", specimen, scan), "card.scan.scorecard.json"),
        (("report", specimen, results), "results.html"),
        (("scan", specimen), "specimen.scan"),
        (("map", specimen), "specimen.map.png"),
        (("map", scan), "card.map.png"),
        (("preview", scan), "card.preview.png"),
        (("extract", scan), "card.results"),
        (("build", "one-notebook"), "one-notebook"),
    ):
        before = {path.name for path in tmp_path.iterdir()}
        sastrugi(*words, cwd=tmp_path)
        assert {path.name for path in tmp_path.iterdir()} - before == {made}
        refused = sastrugi(*words, cwd=tmp_path, code=2)
        assert "--replace" in refused.err and refused.err.count("\n") == 1
        sastrugi(*words, "--replace", cwd=tmp_path)
    assert not list(demo.glob("*.json.*")) and {path.name for path in demo.iterdir()} == {
        "specimen", "results", "card.scan", "scorecard.json",
    }  # fmt: skip


def test_replace_takes_only_what_the_same_command_made(sastrugi: Program, demo: Path, tmp_path: Path) -> None:
    mine = tmp_path / "mine"
    mine.mkdir()
    (mine / "thesis.txt").write_text("years of work")
    for words in (
        ("extract", demo / "card.scan", "--into", mine), ("build", "one-notebook", "--into", mine), ("demo", "--into", mine),
        ("scan", demo / "specimen", "--out", mine / "thesis.txt"),
    ):  # fmt: skip
        ran = sastrugi(*words, "--replace", code=2)
        assert "replaces nothing else" in ran.err
    assert (mine / "thesis.txt").read_text() == "years of work"


@pytest.mark.parametrize("beside", ["thesis.txt", "DCIM/thesis.txt", "copies/medium.img"])
def test_replace_takes_nothing_that_stands_beside_what_was_made(
    sastrugi: Program, demo: Path, tmp_path: Path, beside: str
) -> None:
    """Also where the rest of the folder is ours, and where a list of somebody else has the name of our own."""
    made = {"extract": ("extract", demo / "card.scan"), "build": ("build", "one-notebook"), "demo": ("demo",)}
    for name, words in made.items():
        sastrugi(*words, "--into", tmp_path / name)
        sastrugi(*words, "--into", tmp_path / name, "--replace")
        mine = tmp_path / name / beside
        mine.parent.mkdir(exist_ok=True)
        mine.write_text("years of work")
        ran = sastrugi(*words, "--into", tmp_path / name, "--replace", code=2)
        assert beside in ran.err and mine.read_text() == "years of work"
    lists = tmp_path / "lists"
    lists.mkdir()
    (lists / "manifest.csv").write_text("what,where\nice,north\nfirn,sou")
    for option in ("--replace", "--go-on"):
        sastrugi(*made["extract"], "--into", lists, option, code=2)
        assert (lists / "manifest.csv").read_text() == "what,where\nice,north\nfirn,sou"


def test_nothing_is_written_into_results(sastrugi: Program, demo: Path, tmp_path: Path) -> None:
    shutil.copytree(demo / "results", tmp_path / "results")
    shutil.copytree(demo / "specimen", tmp_path / "specimen")
    first = sastrugi("score", "../specimen", ".", "--json", cwd=tmp_path / "results").json
    sastrugi("report", "../specimen", ".", cwd=tmp_path / "results")
    assert (tmp_path / "results.scorecard.json").is_file() and (tmp_path / "results.html").is_file()
    ran = sastrugi("score", "specimen", "results", "--out", "results/score.json", cwd=tmp_path, code=2)
    assert "which is read as it stands" in ran.err
    truth = (tmp_path / "specimen" / "truth.json").read_bytes()
    sastrugi("score", "specimen", "results", "--out", "specimen/truth.json", "--replace", cwd=tmp_path, code=2)
    assert (tmp_path / "specimen" / "truth.json").read_bytes() == truth
    again = sastrugi("score", "../specimen", ".", "--json", "--replace", cwd=tmp_path / "results").json
    assert first["results"] == again["results"]


def test_a_specimen_leads_on_to_the_score(sastrugi: Program, demo: Path, tmp_path: Path) -> None:
    """The lines that it prints work, once the folder of results stands in the place of RESULTS."""
    for name in ("specimen", "results"):
        (tmp_path / name).symlink_to(demo / name)
    said = sastrugi("look", "specimen", cwd=tmp_path).err.splitlines()
    assert "specimen/medium.img" in said[0]
    lines = [line.replace("RESULTS", "results").replace("NAME", "FRN00003.JPG").split() for line in said[1:]]
    assert [words[:2] for words in lines] == [["sastrugi", name] for name in ("score", "explain", "report")]
    for words in lines:
        sastrugi(*words[1:], cwd=tmp_path)
    assert (tmp_path / "results.html").is_file()


def test_files_beside_results_are_left_out(sastrugi: Program, demo: Path, tmp_path: Path) -> None:
    shutil.copytree(demo / "results", tmp_path / "r")
    for name in ("run.log", "DCIM/inner.log", "old/results.scorecard.json"):
        (tmp_path / "r" / name).parent.mkdir(exist_ok=True)
        (tmp_path / "r" / name).write_text("what a program says of its work " * 20)
    with_them = sastrugi("score", demo / "specimen", "r", "--json", cwd=tmp_path).json
    left = ("--leave-out", "*.log", "--leave-out", "old/*")
    without = sastrugi("score", demo / "specimen", "r", "--json", "--replace", *left, cwd=tmp_path).json
    assert with_them["classes"]["noise"] == 3 and without["classes"]["noise"] == 0
    assert (with_them["left_out"], without["left_out"]) == (0, 3)
    assert "3 files left out" in sastrugi("score", demo / "specimen", "r", "--replace", *left, cwd=tmp_path).out


def test_old_spellings_go_on_for_one_version(sastrugi: Program, demo: Path, tmp_path: Path) -> None:
    ran = sastrugi("extract", demo / "card.scan", "--to", tmp_path / "r")
    assert "--to is called --into now" in ran.err and (tmp_path / "r" / "manifest.csv").is_file()
    ran = sastrugi("corpus", "check", demo / "results" / "DCIM", "--sheet", tmp_path / "s.png", code=None)
    assert "--sheet is called --out now" in ran.err and (tmp_path / "s.png").is_file()


@pytest.mark.parametrize(
    ("words", "code", "said"),
    [
        (("score", "results", "specimen"), 2, "is the specimen, which comes first"),
        (("explain", "results", "specimen", "x"), 2, "is the specimen, which comes first"),
        (("list", "specimen"), 2, "is a medium, and no scan file"),
        (("scan", "card.scan"), 2, "is a scan file, and no medium"),
        (("map", "specimen", "--out", "{tmp}/m.jpg"), 2, "end its name in .png"),
        (("scan", "specimen", "--out", "{tmp}/x.scan", "--range", "1 GiB..2 GiB"), 2, "begins behind its end"),
        (("scan", "specimen", "--out", "{tmp}/x.scan", "--volume", "7"), 2, "there is no volume 7"),
        (("scan", "specimen", "--out", "/proc/x.scan"), 2, "/proc/x.scan: cannot be written"),
        (("preview", "card.scan", "--name", "FRN00003.JPG", "--out", "{tmp}/p.png"), 3, "not readable as a picture"),
        (("extract", "card.scan", "--into", "results"), 2, "add --go-on to continue it, --replace to write it anew"),
        (("look", "nothing"), 2, "there is no such file or folder"),
        (("score", "specimen", "results", "--out", "/dev/null", "--replace"), 2, "is no file: name one"),
    ],
)
def test_what_is_wrong_is_said_in_words_of_ours(
    sastrugi: Program, demo: Path, tmp_path: Path, words: tuple[str, ...], code: int, said: str
) -> None:
    ran = sastrugi(*(word.replace("{tmp}", str(tmp_path)) for word in words), cwd=demo, code=code)
    assert said in ran.err
    assert "Errno" not in ran.err and "the machine said" not in ran.err
    assert not list(tmp_path.glob("*.scan"))  # a scan that failed leaves none


def test_help_names_what_is_asked_for(sastrugi: Program) -> None:
    for name in ("build", "capture", "scan", "list", "preview", "extract", "score", "report", "map"):
        told = sastrugi(name, "--help").out
        assert not re.search(r"^  --[a-z-]+ <(list\[|str|int|float)", told, re.M)
    assert "--install-completion" in sastrugi("--help").out


# -- what fell short, and what nobody asked for -------------------------------------------


def test_what_fell_short_is_told_apart_and_results_by_name(sastrugi: Program, demo: Path, tmp_path: Path) -> None:
    results = tmp_path / "r"
    shutil.copytree(demo / "results", results)
    picture = results / "DCIM" / "101FIRN" / "FRN00004.JPG"
    (results / "piece of one.jpg").write_bytes(picture.read_bytes()[:20_000])
    (results / "static.bin").write_bytes(b"\x17\x2a" * 3000)
    (results / "DCIM" / "101FIRN" / "FRN00005.JPG").write_bytes(b"")  # left by the program
    renamed = next(path for path in results.rglob("*.zip"))
    renamed.rename(results / "file0001.zip")  # only the name
    with Specimen(demo / "specimen") as specimen:
        card = judge(specimen, results, Progress()).scorecard()
    short = {Path(file.path).name: file.shortfall for file in card.short}
    assert short == {
        "FRN00005.JPG": "left", "FRN00002.JPG": "gone", "FRN00003.JPG": "gone", renamed.name: "name"
    }  # fmt: skip
    assert [file.shortfall for file in card.short] == ["left", "gone", "gone", "name"]
    printed = sastrugi("score", demo / "specimen", results, "--out", tmp_path / "c.json").out
    for told in (printed, as_markdown(card, "x"), render(card, "x")):
        folded = re.sub(r"\s+", " ", told).lower()
        assert all(words in folded for words in ("left by the program", "lost for good", "only the name"))
        assert "static.bin" in told and "piece of one.jpg" in told
        assert folded.index("left by the program") < folded.index("only the name")
    rows = as_csv(card).split("\n")
    others = [row for row in csv.DictReader(rows) if not row["path"]]
    assert any("static.bin" in row and row.endswith("noise") for row in rows)
    assert len(others) == len(card.listed_results) == 2 + (card.classes["noise"] - 1)
    assert "noise: static.bin" in as_junit(card)


def test_ranges_are_counted_as_they_are_listed() -> None:
    ranges = RangeSet([Extent(10, 5), Extent(30, 10), Extent(100, 1)])
    for start in range(0, 110, 3):
        for length in (0, 1, 4, 25, 90):
            where = Extent(start, length)
            assert ranges.count(where) == sum(part.length for part in ranges.overlap(where))
    ranges.remove(Extent(32, 2))
    assert ranges.count(Extent(0, 200)) == 14
