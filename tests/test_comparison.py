"""Comparisons: pairs, what they show, and scorecards as a source as good as results."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from sastrugi.errors import SastrugiError
from sastrugi.scoring.paired import compare, difference
from sastrugi.scoring.reading import parse_scorecard, read_scorecard
from sastrugi.scoring.scorecard import FileScore, Scorecard
from tests.conftest import Program


@pytest.fixture(scope="module")
def card(demo: Path) -> Scorecard:
    return read_scorecard(demo / "scorecard.json")


def with_files(card: Scorecard, files: list[FileScore], identity: str = "") -> Scorecard:
    return card.model_copy(update={"files": tuple(files), "identity": identity or card.identity})


def lost(file: FileScore) -> FileScore:
    return replace(file, content="missing", completeness=0.0, result=None, has_content=False)


@given(st.lists(st.tuples(st.booleans(), st.booleans(), st.integers(0, 8)), max_size=60))
def test_differences_by_counting(rows: list[tuple[bool, bool, int]]) -> None:
    first, second, specimens = ([row[n] for row in rows] for n in range(3))
    names = [str(one) for one in specimens]
    found, back = difference(first, second, names), difference(second, first, names)
    won = sum(b and not a for a, b, _ in rows)
    lost_ = sum(a and not b for a, b, _ in rows)
    assert (found.count, found.won, found.lost) == (len(rows), won, lost_) == (back.count, back.lost, back.won)
    assert back.p == found.p and found.specimens == max(len(set(names)), 1)
    assert (found.basis == "specimens") == (len(set(names)) > 1) == (found.over is not None)
    if found.interval is None:
        assert not rows and found.needed() is None and not found.shown
        return
    low, high = found.interval
    assert -1 <= low <= high <= 1 and back.interval == pytest.approx((-high, -low))
    assert found.shown == (found.p < 0.05) == (low > 0 or high < 0), "one method, one answer"
    if found.over is not None and found.files_interval is not None:
        assert low <= found.files_interval[0] and found.p >= found.files_p
        assert found.too_few == (found.over.differing < 6) and not (found.too_few and found.shown)
        needed = found.needed(0.05)
        assert needed is not None and needed.specimens is not None and needed.specimens >= 6


def test_intervals_hold_what_they_promise() -> None:
    """Of intervals of many draws some 95 in a hundred hold the true difference."""
    dice = np.random.default_rng(7)
    held = 0
    for _ in range(400):
        both = dice.choice(4, 150, p=[0.5, 0.18, 0.08, 0.24])  # both, second only, first only, none
        found = difference(((both % 2 == 0) & (both < 3)).tolist(), (both < 2).tolist(), ["one"] * 150)
        assert found.interval is not None
        held += found.interval[0] <= 0.10 <= found.interval[1]
    assert 0.92 <= held / 400 <= 0.99


def test_the_same_against_itself_shows_nothing(card: Scorecard) -> None:
    one = compare([card], [card])
    assert (one.intact.won, one.intact.lost, one.intact.p, one.intact.shown) == (0, 0, 1.0, False)
    assert one.only_first == one.only_second == 0 and len(one.pairs) == len(card.files)
    assert all(pair.change == "same" for pair in one.pairs)


def test_pairs_of_one_specimen_and_of_two(card: Scorecard) -> None:
    worse = with_files(card, [lost(file) if n % 2 else file for n, file in enumerate(card.files)])
    one = compare([card], [worse])
    assert one.intact.lost == sum(file.intact for n, file in enumerate(card.files) if n % 2) > 0
    assert one.intact.won == 0 and {pair.change for pair in one.pairs} <= {"lost", "worse", "same"}
    # Another specimen of the same files, with other numbers: paired by path and size; what has no partner is counted.
    moved = [replace(file, id=file.id + 100) for file in card.files[1:]]
    other = with_files(card, moved, "another")
    two = compare([card], [other])
    assert (len(two.pairs), two.only_first, two.only_second) == (len(card.files) - 1, 1, 0)
    # Repeats count once, as the worst of them.
    assert compare([card, worse], [card]).intact.won == one.intact.lost


def downgraded(card: Scorecard, version: int) -> dict[str, Any]:
    """A scorecard as an earlier version wrote it."""
    document = json.loads(card.model_dump_json(by_alias=True))
    document["version"] = version
    later = {5: ["method", "names_beyond"], 4: ["identity", "title", "assumed"], 3: ["live_copies", "names", "table_rows", "table_matched", "left_out",
                                                     "below_the_floor"]}  # fmt: skip
    of_files = {
        5: ["ceiling_tells"],
        4: ["file_system"],
        3: ["ceiling_live", "copies", "has_content", "name_beyond_ceiling"],
    }
    for number in range(version + 1, 6):
        for key in later[number]:
            document.pop(key, None)
        for file in document["files"]:
            for key in of_files[number]:
                file.pop(key)
    if version < 4:
        document["groups"].pop("file-system")
    return document


@pytest.mark.parametrize("version", [2, 3, 4, 5])
def test_scorecards_of_earlier_versions_are_read(
    card: Scorecard, sastrugi: Program, tmp_path: Path, version: int
) -> None:
    (tmp_path / "old.json").write_text(json.dumps(downgraded(card, version)))
    old = read_scorecard(tmp_path / "old.json")
    assert old.intact == card.intact and [f.named for f in old.files] == [f.named for f in card.files]
    assert old.names == card.names and old.method == (card.method if version == 5 else "before Method 1")
    sastrugi(
        "report",
        "old.json",
        "--out",
        "old.html",
        "--out",
        "old.csv",
        "--out",
        "old.xml",
        "--out",
        "old.md",
        cwd=tmp_path,
    )
    assert "88.2 %" in (tmp_path / "old.html").read_text()
    assert not compare([old], [card]).intact.shown


@pytest.mark.parametrize(
    ("change", "told"),
    [
        (lambda d: d | {"version": 1}, "version 1"),
        (lambda d: d | {"version": 99}, "version 99"),
        (lambda d: d | {"files": 7}, "damaged"),
        (lambda d: {"format": "sastrugi-scorecard", "version": 2}, "damaged"),
        (lambda d: [], "no scorecard"),
        (lambda d: d | {"intact": None}, "damaged at intact"),
    ],
)
def test_what_is_no_scorecard_is_refused(card: Scorecard, change: Any, told: str) -> None:
    document = change(json.loads(card.model_dump_json(by_alias=True)))
    try:
        parse_scorecard(json.dumps(document), "it")
    except KeyError:
        pytest.fail("a missing key must be told in words")
    except SastrugiError as error:
        assert told in str(error)
    else:
        pytest.fail("it was read")


def test_compare_from_the_command(sastrugi: Program, demo: Path, card: Scorecard, tmp_path: Path) -> None:
    worse = with_files(card, [lost(file) for file in card.files])
    (tmp_path / "before.json").write_text(card.model_dump_json(by_alias=True))
    (tmp_path / "after.json").write_text(worse.model_dump_json(by_alias=True))
    both = ("compare", "before.json", "after.json")
    outs = [word for suffix in ("html", "md", "xml", "json") for word in ("--out", f"all.{suffix}")]
    ran = sastrugi(*both, "--by", "kind", "--detect", "5%", *outs, cwd=tmp_path)
    fewer = "after against before: 88.2 percentage points fewer files are intact (0 against 15 of 17; 0 won, 15 lost)"
    told = " ".join(ran.out.split())
    assert fewer in told and "Lost (15)" in told and "over the files of this specimen alone" in told
    assert "a difference of 5.0 percentage points is shown by" in told, "whatever was shown"
    assert "15 lost" in (tmp_path / "all.html").read_text() and fewer in (tmp_path / "all.md").read_text()
    suite = ElementTree.parse(tmp_path / "all.xml").getroot()[0]
    assert (suite.get("name"), suite.get("tests"), suite.get("failures")) == ("after", "17", "16")
    assert {one.get("type") for one in suite.iter("failure")} == {"lost", "worse"}
    whole = json.loads((tmp_path / "all.json").read_text())["against_the_first"][0]["intact"]
    assert (whole["over"], whole["shown"], whole["needed"]["difference"]) == ("files", True, 0.05)
    assert "'0' is no difference" in sastrugi(*both, "--detect", "0", cwd=tmp_path, code=2).err
    failed = sastrugi(*both, "--fail-on-loss", cwd=tmp_path, code=1)
    assert "a loss against before is shown" in failed.err
    sastrugi("compare", "after.json", "before.json", "--fail-on-loss", "--fail-on-any-loss", cwd=tmp_path)
    # One file of many proves nothing, and is missed all the same.
    whole_files = [file for file in card.files if file.intact]
    one_less = with_files(card, [lost(file) if file is whole_files[0] else file for file in card.files])
    (tmp_path / "less.json").write_text(one_less.model_dump_json(by_alias=True))
    sastrugi("compare", "before.json", "less.json", "--fail-on-loss", cwd=tmp_path)
    failed = sastrugi("compare", "before.json", "less.json", "--fail-on-any-loss", cwd=tmp_path, code=1)
    assert f"less lost {whole_files[0].path} of {card.specimen}" in failed.err
    # Results and a scan file, with the specimen they are of, against a scorecard: the same files came back.
    found = sastrugi(
        "compare",
        "before.json",
        demo / "results",
        demo / "card.scan",
        "--specimen",
        demo / "specimen",
        "--json",
        cwd=tmp_path,
    ).json
    assert [one["intact"]["won"] + one["intact"]["lost"] for one in found["against_the_first"]] == [0, 0]
    assert [side["name"] for side in found["sides"]] == ["before", "results", "card.scan"]
    none = sastrugi("compare", "before.json", "before.json", cwd=tmp_path)
    assert "no difference shown" in none.out and "with a power of 80 %" in none.out


@pytest.mark.parametrize(
    ("sides", "told"),
    [
        (["before.json"], "two sides"),
        (["before.json", "nothing-here"], "there is no such file or folder"),
        (["before.json", "results"], "--specimen"),
        (["before.json", "results:fast"], "no campaign's folder"),
        (["before.json", "junk.json"], "no scorecard"),
        (["before.json", "abcd1234"], "no ledger"),
    ],
)
def test_sides_that_are_none(sastrugi: Program, card: Scorecard, tmp_path: Path, sides: list[str], told: str) -> None:
    (tmp_path / "before.json").write_text(card.model_dump_json(by_alias=True))
    (tmp_path / "junk.json").write_text("{}")
    (tmp_path / "results").mkdir()
    ran = sastrugi("compare", *sides, cwd=tmp_path, code=2)
    assert told in ran.err and len(ran.err.strip().splitlines()) == 1


def test_reports_of_scores_and_results_by_class(sastrugi: Program, demo: Path, tmp_path: Path) -> None:
    (tmp_path / "results").mkdir()
    for n in range(3):
        (tmp_path / "results" / f"junk-{n}.bin").write_bytes(bytes([n + 1]) * 3000)
    live = (demo / "specimen" / "truth.json").read_text()
    assert "FRN00001" in live
    told = sastrugi("score", demo / "specimen", "results", "--results", "noise", "--limit", "0", cwd=tmp_path).out
    assert "Noise (3)" in told and all(f"junk-{n}.bin" in told for n in range(3))
    none = sastrugi("score", demo / "specimen", "results", "--results", "stale", "--replace", cwd=tmp_path).out
    assert "junk-0.bin" not in none
    wrong = sastrugi("score", demo / "specimen", "results", "--results", "junk", cwd=tmp_path, code=2)
    assert "there are reference, live" in wrong.err
    sastrugi("report", "results.scorecard.json", "--results", "noise", "--out", "r.csv", "--out", "r.xml", "--out", "r.html",
             cwd=tmp_path)  # fmt: skip
    for name in ("r.csv", "r.xml", "r.html"):
        text = (tmp_path / name).read_text()
        assert text.count("junk-") >= 3 and "camera-card" in text
    identity = json.loads((demo / "scorecard.json").read_text())["identity"]
    assert len(identity) == 64 and identity in (tmp_path / "r.csv").read_text()
    assert identity in (tmp_path / "r.xml").read_text()
    refused = sastrugi("report", "results.scorecard.json", "--set", "all", cwd=tmp_path, code=2)
    assert "judged already" in refused.err
    again = sastrugi("report", "results.scorecard.json", "--floor", "intact=0.5", "--out", "x.md", cwd=tmp_path, code=1)
    assert "below the floor" in again.err


def test_a_report_and_a_story_of_chosen_findings(sastrugi: Program, demo: Path, tmp_path: Path) -> None:
    chosen = ("--kind", "jpeg")
    report = sastrugi("report", demo / "specimen", demo / "card.scan", *chosen, "--out", "r.json", cwd=tmp_path)
    assert "written" in report.err
    some = json.loads((tmp_path / "r.json").read_text())
    assert {file["kind"] for file in some["files"] if file["result"]} == {"jpeg"}
    story = sastrugi("explain", demo / "specimen", demo / "card.scan", "FRN00010.MP4", *chosen, "--json").json
    assert story["score"]["content"] == "missing"
    folder = sastrugi("explain", demo / "specimen", demo / "results", "FRN00010.MP4", *chosen, code=2)
    assert "a selection picks findings" in folder.err


def test_adopted_specimens_have_a_name(sastrugi: Program, demo: Path, tmp_path: Path) -> None:
    image = tmp_path / "Camp Card 3.img"
    image.write_bytes((demo / "specimen" / "medium.img").read_bytes())
    sastrugi("adopt", image, "--originals", demo / "results", "--into", "a", cwd=tmp_path)
    sastrugi("adopt", image, "--originals", demo / "results", "--into", "b", "--name", "hut-card", cwd=tmp_path)
    names = []
    for folder in ("a", "b"):
        found = sastrugi("score", folder, demo / "results", "--replace", "--json", cwd=tmp_path).json
        names.append((found["specimen"], len(found["identity"])))
    assert names == [("camp-card-3", 64), ("hut-card", 64)]
