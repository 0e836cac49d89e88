"""Fixtures that many tests share: the installed program, and one specimen with its scan and results."""

from __future__ import annotations

import json
import shutil
import subprocess
import sys
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, settings

settings.register_profile(
    "sastrugi", deadline=None, max_examples=25, suppress_health_check=[HealthCheck.function_scoped_fixture]
)
settings.load_profile("sastrugi")


@dataclass(frozen=True)
class Ran:
    """One run of the program."""

    code: int
    out: str
    err: str

    @property
    def json(self) -> Any:
        return json.loads(self.out)


Program = Callable[..., Ran]


def program_path() -> str:
    """The installed command, beside the interpreter that runs the tests."""
    found = shutil.which("sastrugi", path=str(Path(sys.executable).parent)) or shutil.which("sastrugi")
    assert found, "sastrugi is not installed: pip install '.[test]'"
    return found


@pytest.fixture(scope="session")
def sastrugi(tmp_path_factory: pytest.TempPathFactory) -> Program:
    """Runs the program, in a folder of its own unless `cwd` names one: outputs go into the current folder."""
    command = program_path()

    def run(*words: str | Path, cwd: Path | None = None, code: int | None = 0) -> Ran:
        done = subprocess.run(
            [command, *map(str, words)], capture_output=True, text=True, timeout=300, errors="surrogateescape",
            cwd=cwd or tmp_path_factory.mktemp("here"),
        )  # fmt: skip
        assert code is None or done.returncode == code, f"status {done.returncode}: {done.stdout}{done.stderr}"
        assert "Traceback" not in done.stderr
        return Ran(done.returncode, done.stdout, done.stderr)

    return run


@pytest.fixture(scope="session")
def demo(sastrugi: Program, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """What `sastrugi demo` leaves: specimen, card.scan, results, scorecard.json. Tests only read it."""
    folder = tmp_path_factory.mktemp("demo") / "demo"
    sastrugi("demo", "--into", folder, "--json")
    return folder
