"""The installed program without its start: a process that has its modules ready, and forks for every call.

Each call runs the installed command's own script in a fork, with a folder, an environment and outputs of its own, so that it
is the program that is tested; only what Python needs to read modules, some thousand times in a run of the tests, is spared.
"""

from __future__ import annotations

import errno
import json
import os
import runpy
import signal
import socket
import subprocess
import sys
from importlib import import_module
from pathlib import Path
from typing import Any, NamedTuple

CHANGES = {
    "os.rename", "os.remove", "os.mkdir", "os.rmdir", "os.link", "os.symlink", "os.truncate", "os.chmod", "sqlite3.connect",
}  # fmt: skip
READY = (
    "numpy",
    "scipy.optimize",
    "matplotlib.figure",
    "PIL.Image",
    "jinja2",
    "sqlalchemy",
    "rich.table",
    "sastrugi.report.page",
)
"""What the program's commands import when they need it. Nothing here starts threads."""
_LONGEST = 300


class Fault(NamedTuple):
    """A fault of the system: the `at`-th change that a call makes below a folder is refused, or the call is killed there
    (`how`: "refuse" or "kill"). All changes are told in the file `changes`."""

    below: str
    at: int
    how: str


class WarmProgram:
    """A server that forks; one call at a time."""

    def __init__(self, script: str) -> None:
        self._script = script
        self._server: subprocess.Popen[bytes] | None = None

    def run(self, words: list[str], cwd: Path, told: Path, fault: Fault | None = None) -> tuple[int, str, str]:
        """(exit status, stdout, stderr) of a call; `told` is a folder for what it prints."""
        request = {"words": words, "cwd": str(cwd), "environ": dict(os.environ), "told": str(told), "fault": fault}
        if self._server is None:
            ours, theirs = socket.socketpair()
            command = [sys.executable, "-m", "tests.warm", str(theirs.fileno()), self._script]
            self._server = subprocess.Popen(command, pass_fds=[theirs.fileno()], cwd=Path(__file__).parent.parent)
            theirs.close()
            self._pipe = ours.makefile("rwb")
            ours.settimeout(_LONGEST)
        self._pipe.write(json.dumps(request).encode() + b"\n")
        self._pipe.flush()
        try:
            code = json.loads(self._pipe.readline())
        except (OSError, ValueError):
            self.close()
            raise
        out, err = ((told / name).read_text("utf-8", "surrogateescape") for name in ("out", "err"))
        return code, out, err

    def close(self) -> None:
        if self._server is not None:
            self._pipe.close()
            self._server.kill()
            self._server.wait()
            self._server = None


def _serve(pipe: Any) -> dict[str, Any] | None:
    """Fork for every request; in the fork, return it."""
    while line := pipe.readline():
        child = os.fork()
        if not child:
            return dict(json.loads(line))
        status = os.waitpid(child, 0)[1]
        pipe.write(json.dumps(os.waitstatus_to_exitcode(status)).encode() + b"\n")
        pipe.flush()
    return None


def _become(request: dict[str, Any], script: str) -> None:
    os.environ.clear()
    os.environ.update(request["environ"])
    os.chdir(request["cwd"])
    told = Path(request["told"])
    for number, name in ((0, os.devnull), (1, told / "out"), (2, told / "err")):
        handle = os.open(name, os.O_RDONLY if number == 0 else os.O_WRONLY | os.O_CREAT | os.O_TRUNC)
        os.dup2(handle, number)
        os.close(handle)
    sys.stdout = os.fdopen(1, "w", encoding="utf-8", closefd=False)
    sys.stderr = os.fdopen(2, "w", encoding="utf-8", errors="backslashreplace", buffering=1, closefd=False)
    sys.__stdout__, sys.__stderr__ = sys.stdout, sys.stderr  # type: ignore[misc]
    sys.argv = [script, *request["words"]]
    if request["fault"]:
        _watch(Fault(*request["fault"]), os.open(told / "changes", os.O_WRONLY | os.O_CREAT | os.O_TRUNC))
    runpy.run_path(script, run_name="__main__")


def _watch(fault: Fault, log: int) -> None:
    """From here on, each change of a file below a folder is written down, and the `at`-th is refused, or the process
    ended there."""
    seen = 0

    def hook(event: str, args: tuple[Any, ...]) -> None:
        nonlocal seen
        opened = event == "open" and isinstance(args[2], int) and args[2] & (os.O_WRONLY | os.O_RDWR)
        if not (opened or event in CHANGES) or not isinstance(args[0], str | bytes | os.PathLike):
            return
        if not str(Path.cwd() / os.fsdecode(args[0])).startswith(fault.below):
            return
        os.write(log, f"{event}\n".encode())
        seen += 1
        if seen == fault.at and fault.how == "kill":
            os.kill(os.getpid(), signal.SIGKILL)
        if seen == fault.at and event != "sqlite3.connect":  # that has errors of its own
            raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC), args[0])

    sys.addaudithook(hook)


if __name__ == "__main__":
    from sastrugi import cli
    from sastrugi.subprocess_pool import end_with

    end_with(os.getppid())
    for ready in (*(f"sastrugi.cli.{name}" for name in cli.COMMANDS), *READY):
        import_module(ready)
    with socket.socket(fileno=int(sys.argv[1])) as connection:
        wanted = _serve(connection.makefile("rwb"))
    if wanted is not None:
        _become(wanted, sys.argv[2])
