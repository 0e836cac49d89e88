"""Fixtures that many tests share: the installed program, and one specimen with its scan and results."""

from __future__ import annotations

import json
import os
import shutil
import sys
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, settings

from sastrugi.corpus.kept import VARIABLE as KEPT
from tests.warm import InProcess, WarmProgram

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


@pytest.hookimpl(optionalhook=True)
def pytest_xdist_auto_num_workers() -> int:
    """One more than there are cores: some tests wait, for a kernel that boots or a program that is killed."""
    return len(os.sched_getaffinity(0)) + 1 if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1


@pytest.hookimpl(optionalhook=True)
def pytest_xdist_make_scheduler(config: pytest.Config, log: Any) -> Any:
    """Workers that have nothing left take from those that have: some tests take a minute, most a tenth of a second."""
    from xdist.scheduler import WorkStealingScheduling

    return WorkStealingScheduling(config, log)


def program_path() -> str:
    """The installed command, beside the interpreter that runs the tests."""
    found = shutil.which("sastrugi", path=str(Path(sys.executable).parent)) or shutil.which("sastrugi")
    assert found, "sastrugi is not installed: pip install '.[test]'"
    return found


@pytest.fixture(scope="session", autouse=True)
def _made_files_are_kept(tmp_path_factory: pytest.TempPathFactory) -> None:
    """For all workers of this run, and for no other."""
    shared = tmp_path_factory.getbasetemp()
    shared = shared.parent if os.environ.get("PYTEST_XDIST_WORKER") else shared
    os.environ[KEPT] = str(shared / "kept")


@pytest.fixture(scope="session")
def sastrugi(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Program]:
    """Runs the program, in a folder of its own unless `cwd` names one: outputs go into the current folder."""
    program = InProcess() if os.environ.get("SASTRUGI_TESTS_IN_PROCESS") else WarmProgram(program_path())
    told = tmp_path_factory.mktemp("told")

    def run(*words: str | Path, cwd: Path | None = None, code: int | None = 0) -> Ran:
        status, out, err = program.run([str(word) for word in words], cwd or tmp_path_factory.mktemp("here"), told)
        assert code is None or status == code, f"status {status}: {out}{err}"
        assert "Traceback" not in err
        return Ran(status, out, err)

    yield run
    program.close()


@pytest.fixture(scope="session")
def demo(sastrugi: Program, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """What `sastrugi demo` leaves: specimen, card.scan, results, scorecard.json. Tests only read it."""
    folder = tmp_path_factory.mktemp("demo") / "demo"
    sastrugi("demo", "--into", folder, "--json")
    return folder
