"""Campaigns: what a text says, cells that are carried out once, kills, limits, gates, and a cluster."""

from __future__ import annotations

import json
import os
import signal
import sqlite3
import subprocess
import sys
import time
import tomllib
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

import pytest
from hypothesis import given
from hypothesis import strategies as st

from sastrugi.campaign.engines import shipped_engines
from sastrugi.campaign.local import Limits, _has_room
from sastrugi.campaign.matrix import make_campaign
from sastrugi.campaign.parameters import PARAMETERS, with_parameters
from sastrugi.campaign.sides import side_of
from sastrugi.campaign.work import Task
from sastrugi.errors import EngineError, SastrugiError
from sastrugi.progress import Progress
from sastrugi.scoring.paired import compare
from sastrugi.specimen.recipe import load_recipe, shipped_recipes
from tests.conftest import Program, program_path

# Two small media, one of them twice, and a negative control.
TEXT = """
campaign = 1
name = "small"
engines = {engines}
{more}
[[specimens]]
recipe = "one-notebook"
vary = {{ seed = {seeds} }}
[[specimens]]
recipe = "tiny.toml"
vary = {{ loss = ["delete", "quick-format", "wipe"] }}
"""
TINY = """
recipe = 1
name = "tiny"
title = "A tiny card"
seed = 3
medium.size = "4 MiB"
[[steps]]
do = "format"
file_system = "fat12"
[[steps]]
do = "store"
into = "/DCIM"
corpus = {{ files = {files}, kinds = ["jpeg", "txt"], size = "4 KiB..20 KiB" }}
[[steps]]
do = "delete"
what = ["/DCIM/*"]
"""


def write(folder: Path, engines: tuple[str, ...] = ("fast-look", "plain-reader"), more: str = "", files: int = 6,
          seeds: tuple[int, ...] = (1, 2)) -> Path:  # fmt: skip
    (folder / "tiny.toml").write_text(TINY.format(files=files))
    path = folder / "small.toml"
    path.write_text(TEXT.format(engines=json.dumps(engines), more=more, seeds=list(seeds)))
    return path


def scores(folder: Path) -> dict[str, dict[str, Any]]:
    """What every cell's scorecard says, by the cell's key; the name of the folder of results apart."""
    found = {}
    for path in sorted((folder / "cells").glob("[!.]*/scorecard.json")):
        found[path.parent.name] = json.loads(path.read_text())
    return found


def stamps(folder: Path) -> dict[str, int]:
    """When every cell that stands was written; what is under its temporary name does not stand yet."""
    standing = (folder / "cells").glob("[!.]*/trial.json")
    return {path.parent.name: path.stat().st_mtime_ns for path in standing}


def test_a_campaign_is_carried_out_once(sastrugi: Program, tmp_path: Path) -> None:
    path = write(tmp_path)
    first = sastrugi("campaign", "run", path, "--json", cwd=tmp_path).json
    folder = tmp_path / "small.campaign"
    assert (first["cells"], first["ended"]) == (10, 10) and len(scores(folder)) == 10
    assert len(list((folder / "specimens").glob("*/truth.json"))) == 5, "each specimen is built once"
    before = stamps(folder)
    sastrugi("campaign", "run", path, cwd=tmp_path)
    assert stamps(folder) == before, "what stands is not done again"
    # One recipe changes, one engine goes, one comes: only their cells are done, the others stand.
    write(tmp_path, ("fast-look", "content-only"), files=5)
    second = sastrugi("campaign", "run", path, "--json", cwd=tmp_path).json
    after = stamps(folder)
    assert second["ended"] == 10 and len(after) == 18, "what the campaign has no more stays where it is"
    kept = {
        row["key"] for row in second["matrix"] if row["engine"] == "fast-look" and "one-notebook" in row["specimen"]
    }
    assert len(kept) == 2 and all(after[key] == before[key] for key in kept)
    assert {key for key in after if after[key] == before.get(key)} == set(before)
    # All of it is in the ledger, that of the first run too.
    assert len(sastrugi("ledger", "list", "--json", cwd=tmp_path).json) == 18
    shown = sastrugi("campaign", "show", folder, "--out", "page.html", cwd=tmp_path)
    assert "tiny quick-format" in shown.out and max(map(len, shown.out.splitlines())) <= 100
    page = (tmp_path / "page.html").read_text()
    assert "content-only" in page and "Ranking" in page and page.count("<svg") >= 4
    csv = sastrugi("campaign", "show", folder, "--out", "cells.csv", cwd=tmp_path)
    assert "written" in csv.err and len((tmp_path / "cells.csv").read_text().splitlines()) == 11
    sastrugi("report", folder, "--out", "again.html", cwd=tmp_path)
    assert (tmp_path / "again.html").read_text() == page
    told = sastrugi("compare", f"{folder}:fast-look", f"{folder}:content-only", "--by", "loss", cwd=tmp_path).out
    assert "no difference shown between fast-look and content-only" in told
    assert "over 5 specimens" in told and "too few ever to show a difference" in told


def test_killed_at_any_moment_nothing_is_lost(tmp_path: Path, sastrugi: Program) -> None:
    path = write(tmp_path)
    folder = tmp_path / "small.campaign"
    words = [program_path(), "campaign", "run", str(path), "--jobs", "2"]
    standing: dict[str, int] = {}
    for n in range(4):
        process = subprocess.Popen(words, cwd=tmp_path, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE)
        until = time.monotonic() + 60
        while len(stamps(folder)) <= len(standing) and process.poll() is None and time.monotonic() < until:
            time.sleep(0.02)
        time.sleep(0.05 * n)
        process.send_signal(signal.SIGKILL if n % 2 else signal.SIGINT)
        code = process.wait(40)
        assert code in (0, 130, -signal.SIGKILL, -signal.SIGINT), "by a SIGINT only before the program began"
        now = stamps(folder)
        assert all(now[key] == stamp for key, stamp in standing.items()), "what had ended stands"
        standing = now
    done = sastrugi("campaign", "run", path, "--json", cwd=tmp_path).json
    assert done["ended"] == 10 and not [row for row in done["matrix"] if row["problem"]]
    rows = sastrugi("ledger", "list", "--json", "--limit", "0", cwd=tmp_path).json
    assert {row["id"] for row in rows} >= {row["trial"] for row in done["matrix"]}, "the ledger has all of them"
    # What came of it is what comes of it at one go.
    (tmp_path / "other").mkdir()
    again = write(tmp_path / "other")
    sastrugi("campaign", "run", again, "--ledger", "none", "--jobs", "1", cwd=tmp_path / "other")
    assert scores(tmp_path / "other" / "small.campaign") == scores(folder)
    assert not [*(folder / "cells").glob(".*"), *(folder / "specimens").glob(".*")], "nothing half done is left"


def test_specimens_are_thrown_away_and_made_again(sastrugi: Program, tmp_path: Path) -> None:
    path = write(tmp_path, more="keep-specimens = false")
    sastrugi("campaign", "run", path, cwd=tmp_path)
    folder = tmp_path / "small.campaign"
    assert not list((folder / "specimens").iterdir())
    before = scores(folder)
    write(tmp_path, ("fast-look", "content-only"), more="keep-specimens = false")
    sastrugi("campaign", "run", path, cwd=tmp_path)
    assert set(scores(folder)) > set(before) and len(scores(folder)) == 15


def test_one_gate_holds_for_losses_and_negative_controls(sastrugi: Program, tmp_path: Path) -> None:
    gate = '[gate]\nfloor = ["precision=50%"]\nceiling-floor = ["intact=90%"]\nmax-noise = "10%"'
    path = write(tmp_path, ("all-passes",), more=gate)
    sastrugi("campaign", "run", path, cwd=tmp_path)
    # The fast look finds nothing after a format: below the ceiling, and said so; nothing after a wipe is right.
    write(tmp_path, ("fast-look",), more=gate)
    ran = sastrugi("campaign", "run", path, cwd=tmp_path, code=1)
    assert "below the gate: tiny quick-format × fast-look" in ran.err and "wipe ×" not in ran.err
    # An engine that makes noise where nothing can come back is caught by the same gate.
    noisy = '\n[[engine]]\nname = "noisy"\nrun = ["sastrugi-unruly-reader", "{medium}", "{results}", "--noise", "3"]\n'
    write(tmp_path, ("noisy",), more=gate + noisy)
    ran = sastrugi("campaign", "run", path, cwd=tmp_path, code=1)
    assert "below the gate: tiny wipe × noisy: " in ran.err


def test_cells_that_cannot_be_carried_out_do_not_stop_the_others(sastrugi: Program, tmp_path: Path) -> None:
    path = write(tmp_path, ("fast-look",))
    path.write_text(
        path.read_text() + '[[specimens]]\nrecipe = "tiny.toml"\nvary = { size = ["64 KiB"], cluster = ["32 KiB"] }\n'
    )
    ran = sastrugi("campaign", "run", path, cwd=tmp_path, code=2)
    assert "1 of 6 cells could not be carried out" in ran.err and "not built" in ran.out
    hang = '\n[[engine]]\nname = "hang"\nrun = ["sastrugi-unruly-reader", "{medium}", "{results}", "--hang"]\ntime-limit = "1 s"\n'
    other = tmp_path / "other"
    other.mkdir()
    ran = sastrugi("campaign", "run", write(other, ("hang",), more=hang), cwd=other)
    assert ran.out.count("time limit") == 5


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ('engines = ["fast-look"]', "'specimens' is missing"),
        ('engines = ["fast-lok"]\n[[specimens]]\nrecipe = "tiny.toml"', "did you mean 'fast-look'"),
        ('engines = []\n[[specimens]]\nrecipe = "tiny.toml"', "engines"),
        ('engines = ["fast-look"]\nspecimens = []', "specimens"),
        ('engines = ["fast-look"]\n[[specimens]]\nrecipe = "tiny.toml"\nvary = { sead = [1] }', "did you mean 'seed'"),
        ('engines = ["fast-look"]\n[[specimens]]\nrecipe = "tiny.toml"\nvary = { seed = [] }', "over nothing"),
        ('engines = ["fast-look"]\n[[specimens]]\nrecipe = "tiny.toml"\nvary = { loss = ["fire"] }', "'fire' is no loss"),
        ('engines = ["fast-look"]\n[[specimens]]\nrecipe = "tiny.toml"\nvary = { "steps.9.share" = [1] }', "has 3 steps"),
        ('engines = ["fast-look"]\n[[specimens]]\nrecipe = "no-such"', "neither a recipe"),
        ('engines = ["fast-look"]\n[[specimens]]\nfolder = "nowhere"', "is no specimen"),
        ('engines = ["fast-look"]\n[[specimens]]\nrecipe = "tiny.toml"\nfolder = "x"', "name one of them"),
        ('engines = ["fast-look"]\n[limits]\njobz = 2\n[[specimens]]\nrecipe = "tiny.toml"', "did you mean 'jobs'"),
        ('engines = ["fast-look"]\n[gate]\nfloor = ["perfect=1"]\n[[specimens]]\nrecipe = "tiny.toml"', "is no floor"),
    ],
)  # fmt: skip
def test_campaigns_that_cannot_be_used_are_refused_in_one_line(
    sastrugi: Program, tmp_path: Path, text: str, told: str
) -> None:
    (tmp_path / "tiny.toml").write_text(TINY.format(files=3))
    (tmp_path / "c.toml").write_text(f'campaign = 1\nname = "c"\n{text}\n')
    ran = sastrugi("campaign", "run", "c.toml", "--ledger", "none", cwd=tmp_path, code=2)
    assert told in ran.err and len([line for line in ran.err.splitlines() if line.startswith("sastrugi:")]) == 1


def test_a_million_cells_are_counted_and_refused_at_once(sastrugi: Program, tmp_path: Path) -> None:
    many = list(range(1000))
    (tmp_path / "tiny.toml").write_text(TINY.format(files=3))
    (tmp_path / "c.toml").write_text(
        'campaign = 1\nname = "c"\nengines = ["fast-look"]\n[[specimens]]\nrecipe = "tiny.toml"\n'
        f"vary = {{ seed = {many}, pieces = {many} }}\n"
    )
    ran = sastrugi("campaign", "run", "c.toml", cwd=tmp_path, code=2)
    assert "1,000,000 cells" in ran.err and "cells = 1000000" in ran.err


VALUES: dict[str, list[Any]] = {
    "seed": [7], "size": ["70 MiB"], "file-system": ["fat16", "fat32", "exfat"], "cluster": ["1 KiB", "4 KiB"],
    "pieces": [1, 3], "churn": ["0 B", "1 MiB"],
    "loss": ["none", "delete", "bin", "quick-format", "full-format", "drop-partition", "wipe"],
}  # fmt: skip


@given(
    st.sampled_from(sorted(shipped_recipes())),
    st.fixed_dictionaries({}, optional={name: st.sampled_from(values) for name, values in VALUES.items()}),
)
def test_parameters_make_recipes(name: str, parameters: dict[str, Any]) -> None:
    """Any parameters on any recipe that ships: a recipe that says what they say, or one clear line."""
    assert set(VALUES) == set(PARAMETERS)
    recipe = load_recipe(name)
    before = recipe.text
    try:
        made = with_parameters(recipe, tomllib.loads(recipe.text), parameters)
    except EngineError as error:
        assert name in str(error)
        return
    assert recipe.text == before
    said = tomllib.loads(made.text)
    steps = said["steps"]
    if "seed" in parameters:
        assert made.seed == 7
    if "churn" in parameters:
        written = [step["write"] for step in steps if step["do"] == "churn"]
        assert (not written) if parameters["churn"] == "0 B" else written[-1] == "1 MiB"
    if parameters.get("loss") == "none":
        assert not {"delete", "bin", "wipe", "drop-partition"} & {step["do"] for step in steps}
    if "file-system" in parameters:
        assert parameters["file-system"] in [step.get("file_system") for step in steps if step["do"] == "format"]


def test_one_memory_is_not_given_out_twice(tmp_path: Path) -> None:
    write(tmp_path)
    campaign = make_campaign(tomllib.loads((tmp_path / "small.toml").read_text()), "it", tmp_path)
    tasks = [Task(cell, "small", "lost", False) for cell in campaign.cells]
    limits = Limits(4, memory=3 << 30)
    assert _has_room(tasks[0], [], Limits(4, memory=1)), "one alone always has room"
    assert _has_room(tasks[0], tasks[1:3], limits) and not _has_room(tasks[0], tasks[1:4], limits)


def test_shipped_engines_are_whole() -> None:
    for name, engine in shipped_engines().items():
        assert engine.name == name
        assert engine.command({"medium": "m", "results": "r", "scratch": "s"})


# -- on a cluster ------------------------------------------------------------------------------


@contextmanager
def cluster(tmp_path: Path, workers: int = 2) -> Iterator[tuple[str, list[subprocess.Popen[bytes]]]]:
    """A real scheduler and workers on loopback."""
    beside = Path(sys.executable).parent
    at = tmp_path / "scheduler.json"
    quiet = {"stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL, "cwd": tmp_path}
    words = [
        beside / "dask",
        "scheduler",
        "--host",
        "127.0.0.1",
        "--port",
        "0",
        "--no-dashboard",
        "--scheduler-file",
        at,
    ]
    running = [subprocess.Popen([*map(str, words), "--no-show"], **quiet)]  # type: ignore[call-overload]
    try:
        until = time.monotonic() + 60
        while not at.exists() and time.monotonic() < until:
            time.sleep(0.1)
        address = json.loads(at.read_text())["address"]
        for n in range(workers):
            words = [beside / "dask", "worker", address, "--nthreads", "1", "--no-dashboard", "--no-nanny",
                     "--local-directory", tmp_path / f"worker{n}", "--host", "127.0.0.1"]  # fmt: skip
            running.append(subprocess.Popen(list(map(str, words)), **quiet))  # type: ignore[call-overload]
        from distributed import Client

        with Client(address, timeout=60) as client:  # type: ignore[no-untyped-call]
            client.wait_for_workers(workers, timeout=60)  # type: ignore[no-untyped-call]
        yield address, running[1:]
    finally:
        for process in reversed(running):
            process.kill()
            process.wait()


def test_a_cluster_gives_the_same_bit_for_bit_also_when_a_worker_is_lost(sastrugi: Program, tmp_path: Path) -> None:
    here, there = tmp_path / "here", tmp_path / "there"
    for folder in (here, there):
        folder.mkdir()
        write(folder)
    sastrugi("campaign", "run", here / "small.toml", cwd=here)
    with cluster(tmp_path) as (address, workers):
        words = [program_path(), "campaign", "run", str(there / "small.toml"), "--cluster", address]
        process = subprocess.Popen(words, cwd=there, stdout=subprocess.PIPE, stderr=subprocess.PIPE)
        until = time.monotonic() + 120
        while len(stamps(there / "small.campaign")) < 2 and process.poll() is None and time.monotonic() < until:
            time.sleep(0.05)
        workers[0].kill()
        _, told = process.communicate(timeout=200)
        assert process.returncode == 0, told.decode()
    assert scores(there / "small.campaign") == scores(here / "small.campaign")
    assert not list((there / "small.campaign").glob("specimens/*")), "specimens were built by the workers"


def test_no_cluster_there(sastrugi: Program, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("sastrugi.campaign.cluster._PATIENCE", 1)
    path = write(tmp_path)
    campaign = make_campaign(tomllib.loads(path.read_text()), "it", tmp_path)
    from sastrugi.campaign.cluster import run_on_cluster

    tasks = [Task(cell, "small", "lost", False) for cell in campaign.cells]
    with pytest.raises(SastrugiError, match="no scheduler answers"):
        run_on_cluster("tcp://127.0.0.1:9", tasks, tmp_path, Progress(), lambda done: None)
    with pytest.raises(SastrugiError, match="no scheduler answers"):
        run_on_cluster("nonsense", tasks, tmp_path, Progress(), lambda done: None)


def test_a_campaign_compares_its_engines_over_specimens(sastrugi: Program, tmp_path: Path) -> None:
    path = write(tmp_path, ("fast-look", "all-passes"), seeds=(1, 2, 3))
    sastrugi("campaign", "run", path, "--ledger", "none", cwd=tmp_path)
    folder = tmp_path / "small.campaign"
    first, second = (side_of(f"{folder}:{name}", Progress()) for name in ("fast-look", "all-passes"))
    one = compare(first.cards, second.cards)
    found = one.intact
    assert found.specimens == 6 and found.won > 0 and found.lost == 0 and found.files_p < 0.05
    assert found.over is not None and found.over.differing == 1 and found.too_few and not found.shown


def test_gates_of_engines_and_summaries_for_a_job(sastrugi: Program, tmp_path: Path) -> None:
    """A stand-in that fails is no reason for a build to fail; what a job shows is Markdown and JUnit."""
    gate = '[[gate]]\nengines = ["all-passes"]\nceiling-floor = ["intact=90%"]\n[[gate]]\nmax-noise = "50%"'
    path = write(tmp_path, ("fast-look", "all-passes"), more=gate, seeds=(1,))
    sastrugi("campaign", "run", path, cwd=tmp_path)
    reports = ("report", "small.campaign", "--out", "season.md", "--out", "season.xml", "--replace")
    sastrugi(*reports, cwd=tmp_path)
    suites = ElementTree.parse(tmp_path / "season.xml").getroot()
    assert [(one.get("name"), one.get("tests"), one.get("failures")) for one in suites] == [
        ("fast-look", "4", "0"), ("all-passes", "4", "0")
    ]  # fmt: skip
    told = (tmp_path / "season.md").read_text()
    assert "| all-passes | " in told and "Below the gate" not in told and "Method 1" in told
    path.write_text(path.read_text().replace('"all-passes"]\nceiling', '"fast-look"]\nceiling'))
    assert "below the gate: tiny quick-format" in sastrugi("campaign", "run", path, cwd=tmp_path, code=1).err
    sastrugi(*reports, cwd=tmp_path)
    suites = ElementTree.parse(tmp_path / "season.xml").getroot()
    assert [one.get("failures") for one in suites] == ["1", "0"]
    assert "intact" in next(suites.iter("failure")).attrib["message"]
    assert "**Below the gate:** tiny quick-format" in (tmp_path / "season.md").read_text()
    assert (
        "which this campaign does not run"
        in sastrugi("campaign", "run", write(tmp_path, ("fast-look",), more=gate), cwd=tmp_path, code=2).err
    )
    # The ledger says of each trial by which seed and with which parameters its specimen was made.
    listed = sastrugi("ledger", "list", cwd=tmp_path).out
    assert "loss=quick-format" in listed and "named: of all lost files" in listed


def test_a_ledger_that_is_locked_stops_no_cell(sastrugi: Program, tmp_path: Path) -> None:
    """The campaign is carried out, and what the ledger misses is added by the next run."""
    path = write(tmp_path, ("plain-reader",))
    (tmp_path / "trials.ledger").touch()
    sastrugi("ledger", "list", cwd=tmp_path)  # makes its tables
    (tmp_path / "trials.ledger").chmod(0o444)
    if os.geteuid() == 0:
        (tmp_path / "trials.ledger").chmod(0o644)
        with sqlite3.connect(tmp_path / "trials.ledger") as connection:
            connection.execute("CREATE TRIGGER full BEFORE INSERT ON trials BEGIN SELECT RAISE(ABORT, 'no room'); END")
    ran = sastrugi("campaign", "run", path, cwd=tmp_path, code=2)
    assert "run it again" in ran.err and len(scores(tmp_path / "small.campaign")) == 5
    (tmp_path / "trials.ledger").chmod(0o644)
    if os.geteuid() == 0:
        with sqlite3.connect(tmp_path / "trials.ledger") as connection:
            connection.execute("DROP TRIGGER full")
    sastrugi("campaign", "run", path, cwd=tmp_path)
    assert len(sastrugi("ledger", "list", "--json", cwd=tmp_path).json) == 5
