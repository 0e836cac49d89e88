"""Faults of the system: no room for a change that a command makes, and a kill there, at changes spread over its run.

A command that is refused says so in a line and leaves nothing under the name of its output; one that was killed leaves
nothing that its next run stumbles over, and what comes out in the end is what comes out of a run that nobody disturbed.
"""

from __future__ import annotations

import hashlib
import shutil
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, replace
from functools import cache
from pathlib import Path

import pytest

from sastrugi.recovery.scan_file import ScanFile
from sastrugi.safety import new_folder, write_text
from tests.conftest import Program, program_path
from tests.warm import Fault, WarmProgram

PLACES = 3
RECIPE = """recipe = 1
name = "faults"
title = "A card that everything goes wrong with"
seed = 4
medium.size = "4 MiB"
steps = [
    {do = "format", file_system = "fat12"},
    {do = "store", into = "/Camp", corpus = {files = 6, kinds = ["jpeg", "txt"], size = "1 KiB..20 KiB"}},
    {do = "delete", what = ["/Camp/*.*"]},
]
"""
CAMPAIGN = """campaign = 1
name = "faults"
specimens = [{recipe = "faults.toml"}]
engines = ["fast-look"]
"""
COMMANDS = {
    "build": "build faults.toml --into made",
    "scan": "scan card.img --out made.scan",
    "list": "list card.scan --save-as sure --min-confidence 0.9",
    "preview": "preview card.scan --out made.png",
    "extract": "extract card.scan --into made",
    "score": "score specimen results --out made.json",
    "report": "report card.json --out made.html",
    "corpus": "corpus make made --files 5 --kind txt",
    "adopt": "adopt card.img --before before.img --originals originals --into made",
    "capture": "capture card.img --out made.img",
    "campaign": "campaign run campaign.toml --into made",
    "trial": "trial specimen --engine plain-reader --into made",
}
GOES_ON = {"scan", "extract", "capture", "campaign", "trial"}
"""What keeps what it has done so far."""


@pytest.fixture(scope="module")
def given(sastrugi: Program, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """What the commands work on."""
    here = tmp_path_factory.mktemp("given")
    (here / "faults.toml").write_text(RECIPE)
    (here / "before.toml").write_text("".join(line for line in RECIPE.splitlines(True) if "delete" not in line))
    (here / "campaign.toml").write_text(CAMPAIGN)
    sastrugi("build", "faults.toml", "--into", "specimen", cwd=here)
    sastrugi("build", "before.toml", "--into", "before", cwd=here)
    shutil.copy(here / "specimen" / "medium.img", here / "card.img")
    shutil.move(here / "before" / "medium.img", here / "before.img")
    sastrugi("scan", "before.img", cwd=here)
    sastrugi("extract", "before.scan", "--state", "live", "--into", "originals", cwd=here)
    sastrugi("scan", "card.img", "--out", "card.scan", cwd=here)
    sastrugi("extract", "card.scan", "--into", "results", cwd=here)
    sastrugi("score", "specimen", "results", "--out", "card.json", cwd=here)
    return here


@dataclass(frozen=True)
class Ended:
    """How a command ended, what it said on stderr, and the changes it asked the system for."""

    code: int
    err: str
    changes: list[str]


def run(words: str, folder: Path, at: int = 0, how: str = "") -> Ended:
    """A command, in a copy of what is given; the fault comes at its `at`-th change."""
    told = folder.parent / f"{folder.name}.told"
    told.mkdir(exist_ok=True)
    code, _, err = _program().run(words.split(), folder, told, Fault(str(folder), at, how))
    return Ended(code, err, (told / "changes").read_text().split())


@cache
def _program() -> WarmProgram:
    return WarmProgram(program_path())


def once_more(command: str, folder: Path) -> Ended:
    """The command again, without a fault; where it asks for that, to go on."""
    ended = run(command, folder)
    return run(f"{command} --go-on", folder) if ended.code == 2 and "--go-on" in ended.err else ended


def content(path: Path) -> object:
    """What counts of an output: of findings and trials not when they were made, nor how long that took."""
    if path.suffix == ".scan":
        with ScanFile.open(path) as scan:
            return [replace(finding, number=0) for finding in scan.findings()], scan.selections()
    return (
        None
        if path.name in ("trial.json", "trials.ledger", "output.log")
        else hashlib.sha256(path.read_bytes()).hexdigest()
    )


def there(folder: Path) -> dict[str, object]:
    """Every file below a folder, by its path."""
    return {str(path.relative_to(folder)): content(path) for path in sorted(folder.rglob("*")) if path.is_file()}


@dataclass(frozen=True)
class Undisturbed:
    """A command, how many changes it makes, and what is there before it and after it."""

    command: str
    changes: int
    before: dict[str, object]
    after: dict[str, object]

    @property
    def places(self) -> list[int]:
        """Changes at which a fault is tried, evenly spread; the first and the last are among them."""
        return sorted({1 + round(n * (self.changes - 1) / (PLACES - 1)) for n in range(PLACES)})


@pytest.fixture(scope="module", params=COMMANDS)
def undisturbed(request: pytest.FixtureRequest, given: Path, tmp_path_factory: pytest.TempPathFactory) -> Undisturbed:
    tmp_path = tmp_path_factory.mktemp("undisturbed")
    shutil.copytree(given, tmp_path / "work")
    before = there(tmp_path / "work")
    done = run(COMMANDS[request.param], tmp_path / "work")
    assert done.code == 0 and done.changes, done.err
    return Undisturbed(request.param, len(done.changes), before, there(tmp_path / "work"))


def test_no_room_for_any_change(undisturbed: Undisturbed, given: Path, tmp_path: Path) -> None:
    command = COMMANDS[undisturbed.command]
    for at in undisturbed.places:
        folder = tmp_path / f"{at}"
        shutil.copytree(given, folder)
        done = run(command, folder, at, "refuse")
        assert "Traceback" not in done.err and "fault of Sastrugi" not in done.err, (at, done.err)
        if done.code == 0:  # what could not be done was not needed: a lock, something to be cleared away
            left = there(folder)
            assert {name: left.get(name) for name in undisturbed.after} == undisturbed.after, at
            continue
        assert done.code == 2 and done.err.strip(), (at, done.err)
        left = there(folder)
        if undisturbed.command not in GOES_ON:
            assert left == undisturbed.before, at
        again = once_more(command, folder)
        assert again.code == 0, (at, again.err)
        assert there(folder) == undisturbed.after, at


def test_killed_at_any_change(undisturbed: Undisturbed, given: Path, tmp_path: Path) -> None:
    command = COMMANDS[undisturbed.command]
    for at in undisturbed.places:
        folder = tmp_path / f"{at}"
        shutil.copytree(given, folder)
        assert run(command, folder, at, "kill").code == -9, at
        again = once_more(command, folder)
        # It was only just done; of a trial the ledger's own last changes come behind that.
        whole = "is there already" in again.err and at == undisturbed.changes
        whole |= undisturbed.command == "trial" and "not empty" in again.err
        assert again.code == 0 or whole, (at, again.err)
        assert there(folder) == undisturbed.after, at


def test_what_a_run_left_goes_however_lately_it_was_killed(tmp_path: Path) -> None:
    left, others = tmp_path / ".made.abcd_123.partial", tmp_path / ".made.of-others.partial"
    for folder in (left, others):
        folder.mkdir()
        (folder / "medium.img").write_bytes(b"half of it")
    with new_folder(tmp_path / "made", "specimen") as temporary:
        (temporary / "whole").touch()
    assert sorted(path.name for path in tmp_path.iterdir()) == [others.name, "made"]


def test_nobody_waits_inside_of_a_folder_of_its_own(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Which is locked for others: what is written in it is not kept waiting by that."""
    monkeypatch.setattr("sastrugi.safety.time.sleep", lambda seconds: pytest.fail("it waits"))
    with new_folder(tmp_path / "made", "specimen") as temporary:
        write_text(temporary / "truth.json", "{}")
    assert (tmp_path / "made" / "truth.json").read_text() == "{}"


def test_runs_at_once_take_nothing_from_each_other(tmp_path: Path) -> None:
    """Each makes its temporary file while others look for what killed runs left."""
    with ProcessPoolExecutor(4) as pool:
        runs = [pool.submit(_written_often, tmp_path / "made.json", str(n) * 50) for n in range(4)]
    assert [run.exception() for run in runs] == [None] * 4
    assert len(set((tmp_path / "made.json").read_text())) == 1 and len(list(tmp_path.iterdir())) == 1


def _written_often(path: Path, text: str) -> None:
    for _ in range(300):
        write_text(path, text)
