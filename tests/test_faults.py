"""Faults of the system at every step: no room for any change that a command makes, and a kill at any of them.

A command that is refused says so in a line and leaves nothing under the name of its output; one that was killed leaves
nothing that its next run stumbles over, and what comes out in the end is what comes out of a run that nobody disturbed.
"""

from __future__ import annotations

import errno
import importlib
import logging
import os
import shutil
import signal
import sys
import traceback
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import pytest

from sastrugi import cli
from sastrugi.recovery.scan_file import ScanFile
from tests.conftest import Program

CHANGES = {
    "os.rename", "os.remove", "os.mkdir", "os.rmdir", "os.link", "os.symlink", "os.truncate", "os.chmod", "sqlite3.connect",
}  # fmt: skip
LIBRARIES = ("matplotlib.pyplot", "pandas", "scipy.stats", "PIL.Image", "av", "sqlalchemy", "sastrugi.report.page")
PLACES = 4
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
}
GOES_ON = {"scan", "extract", "capture", "campaign"}
"""What keeps what it has done so far."""


@pytest.fixture(scope="module")
def given(sastrugi: Program, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """What the commands work on; and every module, ready for the forks."""
    for module in (*(f"sastrugi.cli.{name}" for name in cli.COMMANDS), *LIBRARIES):
        importlib.import_module(module)
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
    """A command, in a copy of what is given; the fault comes at its `at`-th change. It runs in a fork of this process,
    which has all modules ready."""
    beside = folder.parent / f"{folder.name}.told"
    beside.mkdir(exist_ok=True)
    child = os.fork()
    if not child:
        code = 70
        try:
            os.chdir(folder)
            for number, name in ((1, "out"), (2, "err")):
                os.dup2(os.open(beside / name, os.O_WRONLY | os.O_CREAT | os.O_TRUNC), number)
            sys.stdout, sys.stderr = os.fdopen(1, "w", closefd=False), os.fdopen(2, "w", closefd=False)
            logging.getLogger().handlers.clear()
            sys.argv = ["sastrugi", *words.split()]
            _watch(str(folder), at, how, os.open(beside / "changes", os.O_WRONLY | os.O_CREAT | os.O_TRUNC))
            cli.main()
            code = 0
        except SystemExit as left:
            code = left.code if isinstance(left.code, int) else 0
        except BaseException:
            traceback.print_exc()
        finally:
            sys.stderr.flush()
            os._exit(code)
    status = os.waitpid(child, 0)[1]
    return Ended(
        os.waitstatus_to_exitcode(status), (beside / "err").read_text(), (beside / "changes").read_text().split()
    )


def once_more(command: str, folder: Path) -> Ended:
    """The command again, without a fault; where it asks for that, to go on."""
    ended = run(command, folder)
    return run(f"{command} --go-on", folder) if ended.code == 2 and "--go-on" in ended.err else ended


def _watch(below: str, at: int, how: str, log: int) -> None:
    """From here on, each change of a file below a folder is written down, and the `at`-th is refused, or the process
    ended there."""
    seen = 0

    def hook(event: str, args: tuple[Any, ...]) -> None:
        nonlocal seen
        opened = event == "open" and isinstance(args[2], int) and args[2] & (os.O_WRONLY | os.O_RDWR)
        if not (opened or event in CHANGES) or not isinstance(args[0], str | bytes | os.PathLike):
            return
        if not str(Path.cwd() / os.fsdecode(args[0])).startswith(below):
            return
        os.write(log, f"{event}\n".encode())
        seen += 1
        if seen == at and how == "kill":
            os.kill(os.getpid(), signal.SIGKILL)
        if seen == at and event != "sqlite3.connect":  # that has errors of its own
            raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC), args[0])

    sys.addaudithook(hook)


def content(path: Path) -> object:
    """What counts of an output: of findings and trials not when they were made, nor how long that took."""
    if path.suffix == ".scan":
        with ScanFile.open(path) as scan:
            return [replace(finding, number=0) for finding in scan.findings()], scan.selections()
    return None if path.name in ("trial.json", "trials.ledger") else path.read_bytes()


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
        whole = "is there already" in again.err and at == undisturbed.changes  # it was only just done
        assert again.code == 0 or whole, (at, again.err)
        assert there(folder) == undisturbed.after, at
