"""One run of an engine: within its limits, measured, with everything that it started ended."""

from __future__ import annotations

import json
import logging
import os
import select
import subprocess
import sys
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import Any

from sastrugi.campaign.engines import Engine
from sastrugi.errors import EngineError
from sastrugi.progress import Progress

_log = logging.getLogger(__name__)
_SUPERVISOR = (
    "import sys; sys.path.append(sys.argv[1]); from sastrugi.campaign.sandbox.supervisor import main; main(sys.argv[2])"
)
_PACKAGES = Path(__file__).parents[2]
"""Where the supervisor finds its own package."""
_LOOK = 0.05
_PATIENCE = 10.0
"""Seconds for the supervisor to end after it was asked to."""


@dataclass(frozen=True, slots=True)
class Run:
    """How a run ended (`outcome`: done, partly, nothing, failed, crashed, disk full, or the limit that it broke), with
    the exit status or the signal that ended it, and what it took: seconds, seconds of processors, bytes of memory at
    most, bytes read and written; how many processes it left behind, how many bytes it said, and what kept it to itself
    (see `record.Trial`)."""

    outcome: str
    status: int | None
    signal: int | None
    seconds: float
    cpu: float
    memory: int
    read: int
    written: int
    left_behind: int
    said: int
    confined: tuple[str, ...]


def run_engine(
    engine: Engine, places: dict[str, str], writable: list[Path], log: Path, progress: Progress, disk_limit: int
) -> Run:
    """Run an engine that finds its `places` (medium, results, scratch). It may write below `writable`; what it says
    goes to `log`. Raises EngineError where it cannot be started, Interrupted where the user asks to stop; then all is
    ended.
    """
    folder = engine.working_folder(places)
    if not Path(folder).is_dir():
        raise EngineError(f"engine '{engine.name}': its folder {folder} is not there")
    command = engine.command(places)
    needed = [str(Path(path).resolve()) for path in (command[0], folder, sys.prefix, _PACKAGES)]
    order = {
        "bench": os.getpid(),
        "command": command,
        "environment": engine.surroundings(places),
        "folder": folder,
        "writable": [str(path.resolve()) for path in writable],
        "devices": [places["medium"]] if engine.medium == "device" else [],
        "needed": needed,
        "handed": sum(path.stat().st_blocks * 512 for folder in writable for path in folder.rglob("*")),
        "log": str(log),
        "seconds": engine.time_limit,
        "memory": engine.memory_limit or 0,
        "disk": engine.disk_limit or disk_limit,
        "processes": engine.process_limit,
        "cores": engine.cores or 0,
        "confined": engine.confined,
        "network": engine.network,
    }
    told = log.with_name(log.name + ".order")
    told.write_text(json.dumps(order), encoding="utf-8")
    try:
        report = _supervised(told, progress, engine)
    finally:
        told.unlink(missing_ok=True)
    status = report["status"]
    crashed = status is not None and status < 0
    outcome = report["limit"] or ("crashed" if crashed else engine.meaning(status))
    return Run(
        outcome, None if crashed else status, -status if crashed else None, report["seconds"], report["cpu"],
        report["memory"], report["read"], report["written"], report["left_behind"], report["said"],
        tuple(report["confined"]),
    )  # fmt: skip


def _supervised(order: Path, progress: Progress, engine: Engine) -> dict[str, Any]:
    """The report of the process that runs the engine."""
    program = [sys.executable, "-I", "-S", "-c", _SUPERVISOR, str(_PACKAGES), str(order)]
    last: dict[str, Any] = {}

    def take(line: str) -> None:
        last.clear()
        last.update(json.loads(line))
        if last.get("missing"):
            _tell_missing(engine.name, tuple(last["missing"]))

    with subprocess.Popen(program, stdout=subprocess.PIPE, start_new_session=True) as process:
        progress.start(f"engine {engine.name}", 0, "s")
        try:
            _wait(process, take, lambda: progress.at(int(last.get("elapsed", 0))), progress)
        except BaseException:
            process.terminate()
            with suppress(subprocess.TimeoutExpired):
                process.wait(_PATIENCE)
            process.kill()
            raise
        finally:
            progress.finish()
    if process.returncode or "status" not in last:
        raise EngineError(f"engine '{engine.name}': the process that watches it was ended from outside: run it again")
    return last


@cache
def _tell_missing(engine: str, missing: tuple[str, ...]) -> None:
    """What the system does not give to keep an engine to itself; said once."""
    _log.warning("engine '%s' is less confined than it could be; missing: %s", engine, ", ".join(missing))


def _wait(
    process: subprocess.Popen[bytes], take: Callable[[str], None], advance: Callable[[], None], progress: Progress
) -> None:
    assert process.stdout is not None
    os.set_blocking(process.stdout.fileno(), False)
    rest = b""
    while True:
        data = process.stdout.read(1 << 16)
        if data:
            *lines, rest = (rest + data).split(b"\n")
            for line in lines:
                take(line.decode())
            advance()
        elif data == b"":
            process.wait()
            return
        else:
            select.select([process.stdout], [], [], _LOOK if progress.stop_asked is False else 0)
        progress.check()
