"""Hostile input of trials, comparisons, campaigns and ledgers: one clear error, or a whole result."""

from __future__ import annotations

import copy
import csv
import io
import json
import os
import random
import re
import shutil
import sqlite3
import subprocess
import time
import tomllib
import tracemalloc
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest
import tomli_w
from hypothesis import given, settings
from hypothesis import strategies as st

from sastrugi.campaign.engines import parse_engines, read_toml
from sastrugi.campaign.ledger import open_ledger
from sastrugi.campaign.matrix import make_campaign
from sastrugi.campaign.record import parse_trial, read_trial
from sastrugi.campaign.run import read_campaign
from sastrugi.errors import SastrugiError
from sastrugi.progress import Progress
from sastrugi.report.campaign_page import campaign_page
from sastrugi.report.comparison_page import comparison_page
from sastrugi.report.exports import as_csv, as_junit, as_markdown
from sastrugi.report.page import render
from sastrugi.scoring.claims import read_claims
from sastrugi.scoring.paired import compare
from sastrugi.scoring.reading import parse_scorecard
from sastrugi.specimen.truth import Specimen
from tests.conftest import Program, program_path
from tests.test_hostile import mutated

ENGINES = """
engines = 1
[[engine]]
name = "mine"
version = "2"
run = ["program", "{medium}", "{results}"]
environment = { LANG = "C" }
time-limit = "5 min"
memory-limit = "1 GiB"
exit = { done = [0], partly = [3] }
claims = "claims.csv"
leave-out = ["*.log"]
[[engine]]
name = "own"
built-in = true
passes = ["tables"]
"""
CAMPAIGN = """
campaign = 1
name = "season"
title = "A season"
engines = ["fast-look", "all-passes"]
repeats = 2
[limits]
jobs = 2
memory = "1 GiB"
[gate]
floor = ["intact=0.5"]
max-noise = "2%"
[[specimens]]
recipe = "camera-card"
vary = { seed = [1, 2], loss = ["delete"], churn = ["0 B", "1 MiB"] }
"""


@pytest.fixture(scope="module")
def trial_folder(sastrugi: Program, demo: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("trial") / "trial"
    sastrugi("trial", demo / "specimen", "--engine", "plain-reader", "--into", folder, "--ledger", "none")
    return folder


@given(seed=st.integers(0, 1 << 32))
def test_texts_of_engines_and_campaigns(tmp_path_factory: pytest.TempPathFactory, seed: int) -> None:
    dice = random.Random(seed)
    try:
        engines, campaign = (
            tomllib.loads(tomli_w.dumps(mutated(tomllib.loads(text), dice)).encode().decode())
            for text in (ENGINES, CAMPAIGN)
        )
    except (TypeError, ValueError):
        return  # nothing that TOML can say
    for work in (lambda: parse_engines(engines, "it"), lambda: make_campaign(campaign, "it", Path())):
        try:
            assert work()
        except SastrugiError as error:
            assert "\n" not in str(error) and len(str(error)) < 600
    path = tmp_path_factory.getbasetemp() / "engines.toml"
    raw = bytearray(ENGINES.encode())
    for _ in range(dice.randint(1, 4)):
        raw[dice.randrange(len(raw))] = dice.randrange(256)
    path.write_bytes(raw)
    try:
        parse_engines(read_toml(path), "it")
    except SastrugiError as error:
        assert "\n" not in str(error)
    with_nulls = tomli_w.dumps({"engines": 1, "engine": [{"name": "x", "run": ["{medium}" * 3000]}]})
    assert parse_engines(tomllib.loads(with_nulls), "it")


@settings(max_examples=60)
@given(seed=st.integers(0, 1 << 32))
def test_scorecards_and_records(trial_folder: Path, seed: int) -> None:
    """What can be read can be reported in every format, and compared."""
    dice = random.Random(seed)
    card = mutated(json.loads((trial_folder / "scorecard.json").read_text()), dice)
    record = mutated(json.loads((trial_folder / "trial.json").read_text()), dice)
    try:
        read = parse_scorecard(json.dumps(card), "it")
        pages = (as_csv(read), as_markdown(read, read.title), as_junit(read), render(read, read.title))
        assert all(pages) and compare([read], [read]).intact.p == 1.0
    except SastrugiError as error:
        assert "\n" not in str(error)
    try:
        assert parse_trial(record, "it").spoken is not None
    except SastrugiError as error:
        assert "\n" not in str(error)


@settings(max_examples=30)
@given(seed=st.integers(0, 1 << 32))
def test_lists_of_campaigns(trial_folder: Path, tmp_path_factory: pytest.TempPathFactory, seed: int) -> None:
    dice = random.Random(seed)
    folder = tmp_path_factory.mktemp("campaign")
    row: dict[str, Any] = {
        "key": "ab" * 8, "label": "card × mine", "specimen": "$\\frac{card", "parameters": {"churn": "1 MiB"}, "engine": "mine",
        "repeat": 1, "problem": "", "below_the_gate": [],
        "figures": {"files": 1, "intact": 1.0, "attainable": 1.0, "named_of": 1, "named": 1.0, "noise": 0, "results": 1},
    }  # fmt: skip
    other = copy.deepcopy(row) | {"key": "cd" * 8, "parameters": {"churn": "2 MiB"}}
    whole = {"format": "sastrugi-campaign", "version": 1, "name": "c", "title": "C", "engines": ["mine"], "gate": {}}
    for key in (row["key"], other["key"]):
        (folder / "cells" / key).mkdir(parents=True)
        for name in ("trial.json", "scorecard.json"):
            (folder / "cells" / key / name).write_bytes((trial_folder / name).read_bytes())
    (folder / "campaign.json").write_text(json.dumps(mutated(whole | {"cells": [row, other]}, dice)))
    try:
        assert campaign_page(read_campaign(folder), Progress()).startswith("<!DOCTYPE html>")
    except SastrugiError as error:
        assert "\n" not in str(error)


@settings(max_examples=20)
@given(seed=st.integers(0, 1 << 32))
def test_ledgers(trial_folder: Path, tmp_path_factory: pytest.TempPathFactory, seed: int) -> None:
    """Bytes of a ledger that are wrong, and rows that somebody wrote into it."""
    dice = random.Random(seed)
    path = tmp_path_factory.mktemp("ledger") / "trials.ledger"
    card = parse_scorecard((trial_folder / "scorecard.json").read_text(), "it")
    with open_ledger(str(path)) as ledger:
        ledger.add(read_trial(trial_folder), card)
    if dice.random() < 0.5:
        data = bytearray(path.read_bytes())
        for _ in range(dice.randint(1, 30)):
            data[dice.randrange(len(data))] = dice.randrange(256)
        path.write_bytes(data)
    else:
        column = dice.choice(["began", "intact", "files", "seconds", "record", "engine"])
        with sqlite3.connect(path) as connection:
            value = dice.choice(["", "\x00\x9b", -1, 2**62, 1e308, "[" * 5000])
            connection.execute(f"UPDATE trials SET {column} = ?", (value,))
            connection.execute(
                "UPDATE scorecards SET scorecard = ?", (dice.choice([b"", b"\x28\xb5\x2f\xfd", b"x" * 99]),)
            )
    try:
        with open_ledger(str(path), new=False) as ledger:
            rows = ledger.rows()
            ledger.sums("day")
            for row in rows:
                ledger.read(row.id)
    except SastrugiError as error:
        assert "\n" not in str(error)


def test_comparisons_of_odd_names(trial_folder: Path) -> None:
    """Names with markup and control characters come through as text."""
    card = parse_scorecard((trial_folder / "scorecard.json").read_text(), "it")
    odd = [replace(file, path=f"/<script>{n}\x9b[31m/{file.path}") for n, file in enumerate(card.files)]
    other = card.model_copy(update={"files": tuple(replace(file, content="missing") for file in odd)})
    from sastrugi.campaign.sides import Scored, Side

    sides = [
        Side("<b>one</b>", (Scored(card.model_copy(update={"files": tuple(odd)})),)),
        Side("two", (Scored(other),)),
    ]
    page = comparison_page(sides, [compare(sides[0].cards, sides[1].cards)])
    assert "<script>" not in page and "<b>one" not in page and "\x9b" not in page


# -- calls and texts that nothing could mean ----------------------------------------------------------------------------

DIGITS = "f" * 5000


@pytest.mark.parametrize(
    ("words", "told"),
    [
        (("hex", "specimen", f"0x{DIGITS}"), "no place on any medium"),
        (("hex", "specimen", "0xg"), "no hexadecimal number"),
        (("hex", "specimen", "9" * 5000), "not a size of anything"),
        (("capture", "specimen", "--out", "."), "is a folder"),
        (("capture", "specimen", "--out", ""), "is a folder"),
        (("corpus", "make", "made", "--files", "9" * 30), "range"),
        (("recipe", "check", "number.toml"), "nothing could hold"),
        (("recipe", "check", "parts.toml"), "no key has so many parts"),
        (("campaign", "run", "parts.toml"), "no key has so many parts"),
        (("trial", "specimen", "--engines", "parts.toml", "--engine", "x"), "no key has so many parts"),
        (("trial", "specimen", "--engines", "number.toml", "--engine", "x"), "nothing could hold"),
    ],
)
def test_calls_that_nothing_could_mean(
    sastrugi: Program, demo: Path, tmp_path: Path, words: tuple[str, ...], told: str
) -> None:
    """One plain line, at once, within little memory."""
    (tmp_path / "specimen").symlink_to(demo / "specimen")
    (tmp_path / "parts.toml").write_text("\n".join(f"{'a.' * 900}b{n} = 1" for n in range(200)))
    (tmp_path / "number.toml").write_text(f"recipe = 1\nseed = 0x{DIGITS}\n")
    ran = sastrugi(*words, cwd=tmp_path, code=2)
    assert told in " ".join(ran.err.split()) and "fault of Sastrugi" not in ran.err


def test_the_last_day_there_is(sastrugi: Program, demo: Path) -> None:
    every = sastrugi("list", demo / "card.scan", "--json").json
    assert sastrugi("list", demo / "card.scan", "--json", "--until", "9999-12-31").json == every
    assert sastrugi("list", demo / "card.scan", "--json", "--since", "0001-01-01").json == every


def test_output_that_was_closed_before_it_began(demo: Path) -> None:
    for closed in (">&-", "2>&-", ">&- 2>&-"):
        done = subprocess.run(
            ["bash", "-c", f"{program_path()} list {demo / 'card.scan'} {closed}"], capture_output=True, timeout=60
        )
        assert done.returncode == 0 and b"fault" not in done.stderr, closed


def test_cells_that_spreadsheets_would_run_and_marks_that_terminals_obey(
    sastrugi: Program, demo: Path, tmp_path: Path
) -> None:
    results = tmp_path / "results"
    shutil.copytree(demo / "results", results)
    for name in ("=cmd|' calc'!A0", "+1", "-2+3", "@SUM(A1)", "marks \u009b \u202e \u2028 end"):
        (results / name).write_bytes(b"noise %d" % len(name))
    json_text = sastrugi("score", demo / "specimen", results, "--json", "--out", tmp_path / "c.json").out
    assert not set("\u009b\u202e\u2028") & set(json_text) and "\\u202e" in json_text
    assert "marks \u009b \u202e \u2028 end" in {one["path"] for one in json.loads(json_text)["results"]}
    sastrugi("report", tmp_path / "c.json", "--out", tmp_path / "x.csv")
    rows = list(csv.reader(io.StringIO((tmp_path / "x.csv").read_text())))
    assert {"'=cmd|' calc'!A0", "'+1", "'-2+3", "'@SUM(A1)"} <= {cell for row in rows for cell in row}
    assert not [
        cell
        for row in rows
        for cell in row
        if cell[:1] in ("=", "+", "@") or (cell[:1] == "-" and not cell[1:2].isdigit())
    ]


@pytest.mark.parametrize(
    "words",
    [
        ("look", "pipe"), ("scan", "pipe"), ("capture", "pipe", "--out", "o.img"), ("map", "pipe"), ("hex", "pipe", "0"),
        ("list", "pipe"), ("extract", "pipe", "--into", "r"), ("score", "specimen", "pipe"), ("report", "pipe"),
        ("recipe", "check", "pipe"), ("campaign", "run", "pipe"), ("compare", "pipe", "pipe"), ("preview", "pipe"),
    ],
)  # fmt: skip
def test_a_pipe_is_nothing_to_wait_for(sastrugi: Program, demo: Path, tmp_path: Path, words: tuple[str, ...]) -> None:
    os.mkfifo(tmp_path / "pipe")
    (tmp_path / "specimen").symlink_to(demo / "specimen")
    assert "fault of Sastrugi" not in sastrugi(*words, cwd=tmp_path, code=2).err


@pytest.mark.parametrize("number", ["²", "9" * 5000, "-1", "", "1e3"])
def test_a_manifest_that_somebody_wrote_into(sastrugi: Program, demo: Path, tmp_path: Path, number: str) -> None:
    """Its line is nobody's: the file of it is written again, beside the one that is there."""
    shutil.copytree(demo / "results", tmp_path / "r")
    lines = (tmp_path / "r" / "manifest.csv").read_text().split("\n")
    lines[1] = number + lines[1][lines[1].index(",") :] + "x" * 200_000
    (tmp_path / "r" / "manifest.csv").write_text("\n".join(lines))
    words = ("extract", demo / "card.scan", "--into", tmp_path / "r", "--go-on", "--medium", demo / "specimen")
    assert "fault of Sastrugi" not in sastrugi(*words).err


def test_what_libraries_say_reaches_people_in_words(sastrugi: Program, tmp_path: Path) -> None:
    (tmp_path / "c").mkdir()
    (tmp_path / "c" / "a.mp3").write_bytes(b"no sound at all" * 200)
    (tmp_path / "c" / "b.jpg").write_bytes(b"no picture" * 200)
    ran = sastrugi("corpus", "check", tmp_path / "c", "--json", code=None)
    assert "Errno" not in ran.out + ran.err and "broken" in ran.out


@pytest.mark.parametrize(
    ("name", "hold", "told"),
    [
        ("x.json", lambda file: file.truncate(800 << 20), "is zero"),
        ("x.json", lambda file: file.truncate(3 << 30), "larger than 1 GiB"),
        ("x.json", lambda file: file.write(b'{"files": [' + b"[]," * 2_000_000 + b"[]]}"), "more lists"),
    ],
)
def test_files_that_are_nothing_but_large(
    sastrugi: Program, tmp_path: Path, name: str, hold: Callable[[Any], object], told: str
) -> None:
    """They are refused before they are read, or taken apart."""
    with (tmp_path / name).open("wb") as file:
        hold(file)
    began = time.monotonic()
    assert told in sastrugi("report", name, "--out", "x.html", cwd=tmp_path, code=2).err
    assert time.monotonic() - began < 20


def test_a_truth_that_is_wrong_a_million_times_is_wrong_once(demo: Path, tmp_path: Path) -> None:
    """The first mistake ends the reading; each one is not kept with all that can be said of it."""
    for wrong in ('"x",', "[],", "{},"):
        shutil.copytree(demo / "specimen", tmp_path / "s", dirs_exist_ok=True)
        truth = (tmp_path / "s" / "truth.json").read_text()
        (tmp_path / "s" / "truth.json").write_text(re.sub(r'("files": ?\[)', rf"\1{wrong * 1_500_000}", truth, count=1))
        tracemalloc.start()
        with pytest.raises(SastrugiError, match=r"damaged at files\.0|more lists"):
            Specimen(tmp_path / "s")
        _, most = tracemalloc.get_traced_memory()
        tracemalloc.stop()
        assert most < 100 << 20


def test_rows_of_no_result_are_only_counted(tmp_path: Path) -> None:
    """A table may be much longer than the list of results."""
    (tmp_path / "there.jpg").touch()
    rows = [f"{n},elsewhere/{n}.jpg,0.5,{n}+512 8192+7" for n in range(100_000)] + ['1,here/there.jpg,0.5,"4096+512"']
    (tmp_path / "t.csv").write_text("\n".join(["finding,file,confidence,extents", *rows]))
    tracemalloc.start()
    claims = read_claims(tmp_path / "t.csv", tmp_path)
    _, most = tracemalloc.get_traced_memory()
    tracemalloc.stop()
    assert claims.rows == 100_001 and list(claims.by_path) == ["here/there.jpg"] and most < 8 << 20


def test_a_recipe_has_so_many_steps_and_no_more(sastrugi: Program, tmp_path: Path) -> None:
    head = 'recipe = 1\nname = "long"\ntitle = "Long"\nseed = 1\nmedium.size = "2 MiB"\nsteps = [\n'
    (tmp_path / "long.toml").write_text(head + '{do = "format", file_system = "fat12"},\n' * 2001 + "]\n")
    assert "2,000 at most" in sastrugi("recipe", "check", "long.toml", cwd=tmp_path, code=2).err
