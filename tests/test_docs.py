"""Every command line of the README and the how-tos, run in order as it is printed, with what it shows."""

from __future__ import annotations

import atexit
import fcntl
import os
import re
import shutil
import subprocess
import tempfile
from collections.abc import Iterator
from dataclasses import dataclass, field
from functools import cache
from pathlib import Path

import pytest

from tests.conftest import Program, program_path
from tests.warm import WarmCommand

ROOT = Path(__file__).parent.parent
_NEEDS_A_DEVICE = ("/dev/", "--writer os", "sudo ", "dask ")
_RUN = ("sastrugi ", "mkdir -p brought")
_TEXT = re.compile(r"```toml\n# (\w+\.toml)\n(.*?)```", re.S)
"""A text that a document shows with its name: whoever reads it writes it down."""
_VARIES = re.compile(r"\d+\.\d+ s\b|\d+\.\d+\.\d+")
_CARD = """recipe = 1
name = "card"
title = "A card before and after"
seed = 3
medium.size = "16 MiB"
steps = [
    {do = "format", file_system = "fat16"},
    {do = "store", folder = "copies"},
]
"""


@dataclass
class Shown:
    """One command line of a document, and the lines shown below it (`…` for what was left out)."""

    line: int
    command: str
    output: list[str] = field(default_factory=list)


def commands(text: str) -> Iterator[Shown]:
    """Those of fenced blocks whose first line is one, and of indented lines."""
    fence, found = "", []
    for number, line in enumerate(text.split("\n"), 1):
        if line.startswith("```"):
            fence = "" if fence else line[3:] or "text"
            yield from found
            found = []
        elif fence == "console":
            if line.startswith("$ "):
                found.append(Shown(number, line[2:]))
            elif found:
                found[-1].output.append(line)
        elif (fence == "sh" or not fence) and line.lstrip().startswith(_RUN) and (fence or line[:4] == "    "):
            yield Shown(number, line.strip())


@cache
def _command() -> WarmCommand:
    command = WarmCommand(Path(tempfile.mkdtemp(prefix="warm-")), program_path())
    atexit.register(shutil.rmtree, command.folder, ignore_errors=True)
    return command


def run(command: str, folder: Path) -> str:
    path = f"{_command().folder}:{Path(program_path()).parent}:{os.environ['PATH']}"
    environment = {**os.environ, "PATH": path}
    done = subprocess.run(
        ["bash", "-c", command.replace("pip install . && ", "")], cwd=folder, env=environment,
        stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True, timeout=300,
    )  # fmt: skip
    # 1: a gate or a ceiling; 3: parts that cannot be read. What a call refuses is 2.
    assert done.returncode in (0, 1, 3), f"{command}: {done.stdout}"
    return done.stdout


def plain(lines: list[str]) -> list[str]:
    return [_VARIES.sub("N", re.sub(r"\s+", " ", line)).strip() for line in lines if line.strip()]


@pytest.fixture
def card(sastrugi: Program, tmp_path: Path) -> Path:
    """What somebody has who reads a how-to: a specimen and results, copies of the files of a card, and its images."""
    copies = tmp_path / "copies"
    sastrugi("corpus", "make", copies, "--files", 8, "--kind", "jpeg", "--kind", "pdf", "--kind", "txt")
    for name, more in (("before", ""), ("after", '    {do = "delete", what = ["*.jpg"]},\n')):
        (tmp_path / f"{name}.toml").write_text(_CARD.replace("]\n", f"{more}]\n", 1) if more else _CARD)
        sastrugi("build", tmp_path / f"{name}.toml", "--into", tmp_path / name, cwd=tmp_path)
        shutil.move(tmp_path / name / "medium.img", tmp_path / f"{name}.img")
    return tmp_path


@pytest.fixture(scope="session")
def season(sastrugi: Program, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The demo's campaign, carried out once for all workers; a document that runs it again goes on where it was."""
    shared = tmp_path_factory.getbasetemp()
    shared = shared.parent if os.environ.get("PYTEST_XDIST_WORKER") else shared
    with (shared / "season.lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not (shared / "season" / "season.html").is_file():
            sastrugi("demo", "--full", "--into", shared / "season")
    return shared / "season"


def bring(demo: Path, folder: Path, *names: str) -> None:
    for name in names:
        source = demo / {"card.img": "specimen/medium.img", "my-results": "results"}.get(name, name)
        (shutil.copytree if source.is_dir() else shutil.copy)(source, folder / name)


@pytest.mark.parametrize(
    ("document", "given"),
    [
        ("README.md", ("card.img", "my-results")),
        ("docs/method.md", ()),
        ("docs/howto/adopt.md", ()),
        ("docs/howto/campaign.md", ()),
        ("docs/howto/compare.md", ()),
        ("docs/howto/ledger.md", ()),
        ("docs/howto/trials.md", ()),
        ("docs/howto/build.md", ()),
        ("docs/howto/capture.md", ("card.img",)),
        ("docs/howto/corpus.md", ()),
        ("docs/howto/recover.md", ("card.img",)),
        ("docs/howto/score.md", ("specimen", "results", "card.scan")),
        ("docs/howto/select.md", ("card.img", "specimen", "card.scan")),
    ],
)
def test_command_lines(
    card: Path, demo: Path, request: pytest.FixtureRequest, document: str, given: tuple[str, ...]
) -> None:
    if "card.img" in given:
        shutil.rmtree(card / "copies")
        shutil.copytree(demo / "results", card / "copies")
    bring(demo, card, *given)
    if "card.scan" in given and "card.img" in given:
        (card / "card.scan").unlink()
        run("sastrugi scan card.img --out card.scan", card)
    text = (ROOT / document).read_text()
    if "demo --full" in text:
        shutil.copytree(request.getfixturevalue("season"), card / "season")
    ran, faults = 0, []
    for name, said in _TEXT.findall(text):
        (card / name).write_text(said)
    for shown in commands(text):
        if any(word in shown.command for word in _NEEDS_A_DEVICE) or shown.command.startswith("#"):
            continue
        output = run(shown.command, card)
        ran += 1
        said, there = plain(output.split("\n")), plain(shown.output)
        at = 0
        for line in there:
            if line == "…":
                continue
            if line not in said[at:]:
                faults.append(f"line {shown.line}: {shown.command}: shows {line!r}, but says:\n{output[:3000]}")
                break
            at = said.index(line, at) + 1
    assert not faults, "\n".join(faults)
    assert ran >= (10 if document == "README.md" else 1)


def test_the_commands_of_the_tour_are_all_there_are(sastrugi: Program) -> None:
    """Each command is shown in the README, and its help has an example."""
    listed = re.findall(r"^  ([a-z]+)  +\S", sastrugi("--help").out.split("Commands:")[1], re.M)
    readme = (ROOT / "README.md").read_text()
    assert len(listed) >= 17
    for name in listed:
        assert f"sastrugi {name}" in readme or f"`{name}`" in readme
        if name not in ("corpus", "recipe", "campaign", "ledger"):
            assert "Example: sastrugi" in sastrugi(name, "--help").out
