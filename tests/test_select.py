"""One selection, the same in every command."""

from __future__ import annotations

import csv
import datetime as dt
import fnmatch
import random
from dataclasses import fields
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from sastrugi.errors import SastrugiError
from sastrugi.media import Extent, FileMap, open_medium
from sastrugi.recovery.evidence import Clue, evidence
from sastrugi.recovery.findings import PASSES, Finding
from sastrugi.recovery.scan_file import ScanFile
from sastrugi.recovery.scan_rows import TALLIES
from sastrugi.recovery.select import GROUPS, ORDERS, STATES, Selection
from sastrugi.volumes.reader import Times
from tests.conftest import Program

FOLDERS = ("/", "/DCIM", "/DCIM/100FIRN", "/DCIM/101FIRN", "/Notebooks/Été", "/DCIMX")
NAMES = ("FRN00001.JPG", "frn00002.jpg", "Ålbreen.pdf", "core[1].txt", "a b.wav", "x", "FRN.JPG.txt")
KINDS = (("jpeg", "picture"), ("pdf", "document"), ("wav", "sound"), ("other", "data"))
DAY = dt.datetime(2031, 2, 14)


@pytest.fixture(scope="module")
def scan_file(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("select")
    (folder / "m.img").write_bytes(bytes(1 << 20))
    dice = random.Random(8)
    with open_medium(folder / "m.img") as medium, ScanFile.create(folder / "m.scan", medium, PASSES) as scan:
        for n in range(300):
            modified = DAY + dt.timedelta(hours=dice.randrange(-200, 200)) if dice.random() < 0.9 else None
            scan.add(
                Finding(
                    dice.choice(STATES[:3]), dice.choice(FOLDERS), dice.choice(NAMES), *dice.choice(KINDS),
                    dice.randrange(0, 9000), FileMap.of((Extent(512 * n, 512),)), Times(None, modified, None),
                    (dice.choice(PASSES[1:]),), round(dice.random(), 2), 1.0, [evidence(Clue.FREE, 3)], dice.choice([None, 1, 2]),
                )
            )  # fmt: skip
        scan.finish()
    return folder / "m.scan"


def some(values: Any) -> st.SearchStrategy[tuple[Any, ...]]:
    return st.lists(st.sampled_from(list(values)), max_size=2).map(tuple)


patterns = ("*", "FRN*", "*.jpg", "FRN0000?.JPG", "core[[]*", "[a-f]*", "*lbre*", "nothing")
selections = st.builds(
    Selection,
    state=st.sampled_from(["", *STATES]),
    kinds=some(kind for kind, _ in KINDS),
    groups=some(GROUPS),
    names=some(patterns),
    folders=some(["/DCIM", "DCIM/", "/DCIM/10?FIRN", "/", "*/été", "/none"]),
    passes=some(PASSES),
    volumes=some([1, 2]),
    numbers=some(range(1, 300)) | st.just(()),
    min_size=st.sampled_from(["", "1 KiB", "4000"]),
    max_size=st.sampled_from(["", "2 KiB", "8 kB"]),
    since=st.sampled_from(["", "2031-02-12", "2031-02-14T06:00"]),
    until=st.sampled_from(["", "2031-02-16", "2031-02-14T18:00"]),
    min_confidence=st.sampled_from([0.0, 0.3, 0.9]),
    max_confidence=st.sampled_from([1.0, 0.95]),
)


def alike(name: str, pattern: str) -> bool:
    return fnmatch.fnmatchcase(name.lower(), pattern.lower())


def below(folder: str, pattern: str) -> bool:
    parts = folder.strip("/").split("/")
    pattern = pattern.strip("/")
    return not pattern or any(alike("/" + "/".join(parts[: n + 1]), "/" + pattern) for n in range(len(parts)))


def takes(chosen: Selection, f: Finding) -> bool:
    """The same, said again without SQL."""
    when, sizes = f.times.modified, {"": None, "1 KiB": 1024, "4000": 4000, "2 KiB": 2048, "8 kB": 8000}
    least, most = sizes[chosen.min_size], sizes[chosen.max_size]
    since = dt.datetime.fromisoformat(chosen.since) if chosen.since else None
    until = dt.datetime.fromisoformat(chosen.until) if chosen.until else None
    if until is not None and len(chosen.until) == 10:
        until = until.replace(hour=23, minute=59, second=59, microsecond=999999)
    return (
        (chosen.state in ("", "any", f.state) or (chosen.state == "lost" and f.state != "live"))
        and (not chosen.kinds or f.kind in chosen.kinds)
        and (not chosen.groups or f.group in chosen.groups)
        and (not chosen.names or any(alike(f.name, one) for one in chosen.names))
        and (not chosen.folders or any(below(f.folder, one) for one in chosen.folders))
        and (not chosen.passes or bool(set(f.passes) & set(chosen.passes)))
        and (not chosen.volumes or f.volume in chosen.volumes)
        and (not chosen.numbers or f.number in chosen.numbers)
        and (least is None or f.size >= least)
        and (most is None or f.size <= most)
        and (since is None or (when is not None and when >= since))
        and (until is None or (when is not None and when <= until))
        and chosen.min_confidence <= f.confidence <= chosen.max_confidence
    )


@given(selections, st.sampled_from(list(ORDERS)), st.booleans())
def test_a_selection_takes_what_it_says(scan_file: Path, chosen: Selection, order: str, descending: bool) -> None:
    with ScanFile.open(scan_file) as scan:
        expected = {f.number for f in scan.findings() if takes(chosen, f)}
        found = list(chosen.iterate(scan, order, descending))
        where, values = chosen.condition(scan)
        assert {f.number for f in found} == expected and len(found) == len(expected) == scan.count(where, values)
        for by in TALLIES:
            tallies = scan.tally(by, where, values)
            assert sum(t.live + t.deleted + t.found for t in tallies) == len(expected)
            assert sum(t.bytes for t in tallies) == sum(f.size for f in found)
    assert Selection.read(chosen.text()) == chosen
    keys = {"size": lambda f: f.size, "confidence": lambda f: f.confidence, "number": lambda f: f.number}
    if order in keys:
        assert [keys[order](f) for f in found] == sorted((keys[order](f) for f in found), reverse=descending)


@given(selections, selections)
def test_what_is_added_to_a_selection_counts(first: Selection, second: Selection) -> None:
    both = first.and_also(second)
    for field in fields(Selection):
        given_second = getattr(second, field.name) != field.default
        assert getattr(both, field.name) == getattr(second if given_second else first, field.name)


@given(st.text(max_size=20))
def test_any_pattern_is_one_or_gets_one_clear_line(scan_file: Path, text: str) -> None:
    with ScanFile.open(scan_file) as scan:
        for chosen in (
            Selection(names=(text,)),
            Selection(folders=(text,)),
            Selection(since=text),
            Selection(state=text),
        ):
            try:
                list(chosen.iterate(scan))
            except SastrugiError as error:
                assert "is no" in str(error)


OPTIONS = [
    ("--kind", "jpeg"),
    ("--group", "picture", "--min-confidence", "0.9"),
    ("--folder", "/Notebooks"),
    ("--name", "frn*", "--max-size", "200 KiB"),
    ("--state", "lost", "--since", "2031-02-03", "--until", "2031-02-03"),
]


@pytest.mark.parametrize("options", OPTIONS)
def test_a_selection_means_the_same_in_every_command(
    sastrugi: Program, demo: Path, tmp_path: Path, options: tuple[str, ...]
) -> None:
    """List, preview, extract, map and score, by options and by a saved name."""
    scan = tmp_path / "card.scan"
    scan.write_bytes((demo / "card.scan").read_bytes())
    state = () if "--state" in options else ("--state", "lost")
    listed = sastrugi("list", scan, *options, *state, "--json", "--save-as", "mine").json
    with_bytes = [f for f in listed if f["map"]]
    for chosen in ((*options, *state), ("--saved", "mine")):
        assert sastrugi("list", scan, *chosen, "--json").json == listed
        rows = list(csv.DictReader(sastrugi("list", scan, *chosen, "--csv").out.splitlines()))
        assert [int(row["number"]) for row in rows] == [f["number"] for f in listed]
        folder = tmp_path / f"out{len(chosen)}{chosen[0]}"
        sastrugi("extract", scan, "--into", folder, *chosen)
        with (folder / "manifest.csv").open(newline="", encoding="utf-8") as file:
            assert {int(row["finding"]) for row in csv.DictReader(file)} == {f["number"] for f in with_bytes}
        picture = tmp_path / "p.png"
        assert sastrugi("preview", scan, *chosen, "--out", picture, "--json", "--replace").json["selected"] == len(
            listed
        )
        layers = {
            one["letter"]: one
            for one in sastrugi("map", scan, *chosen, "--out", picture, "--json", "--replace").json["layers"]
        }
        claimed = sum(layers[letter]["bytes"] for letter in "2LWP" if letter in layers)
        assert claimed == len({b for f in with_bytes for o, n in f["map"] for b in range(o, o + n)})
        assert sum(one["bytes"] for one in layers.values()) == 64 << 20
        out = ("--out", tmp_path / "c.json", "--json", "--replace")
        card = sastrugi("score", demo / "specimen", scan, *chosen, *out).json
        assert sum(card["classes"].values()) == len(with_bytes)


def test_calls_with_selections_that_cannot_be_carried_out(sastrugi: Program, demo: Path, tmp_path: Path) -> None:
    scan, out = demo / "card.scan", tmp_path / "x"
    for words, told in (
        (("extract", scan, "--into", out, "--name", "nothing*"), "the scan holds 17 deleted, 14 live"),
        (("preview", scan, "--name", "[a"), "'[' is never closed"),
        (("list", scan, "--saved", "none"), "no selection 'none'"),
        (("map", demo / "specimen", "--kind", "jpeg"), "findings of a scan file"),
        (("score", demo / "specimen", demo / "results", "--kind", "jpeg"), "findings of a scan file"),
        (("list", scan, "--pass", "tabels"), "did you mean 'tables'"),
        (("list", scan, "--min-size", "x"), "not a size"),
        (("list", scan, "--min-confidence", "0.9", "--max-confidence", "0.1"), "must not be above"),
    ):
        assert told in sastrugi(*words, code=2).err
    assert not out.exists() and "nothing is selected" in sastrugi("list", scan, "--name", "nothing").err
