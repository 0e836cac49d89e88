"""The installed program without its start: a process that has its modules ready, and forks for every call.

Each call runs the installed command's own script in a fork, with a folder, an environment and outputs of its own, so that it
is the program that is tested; only what Python needs to read modules, some thousand times in a run of the tests, is spared.
"""

from __future__ import annotations

import atexit
import contextlib
import errno
import gc
import json
import os
import pkgutil
import runpy
import signal
import socket
import subprocess
import sys
import threading
import traceback
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
    "fpdf",
    "openpyxl",
    "docx",
    "jinja2",
    "sqlalchemy",
    "rich.table",
)
"""What the program's own modules import when they need it. Nothing here starts threads."""
RUN = ("__main__", "migrations.env")
"""Modules that do their work when they are read."""
FILE_SYSTEMS = "SASTRUGI_FILE_SYSTEMS"
"""Which file systems there are is asked when modules are read: who names others gets another server."""
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
        self._file_systems: str | None = None
        self.memory = 0
        """Bytes that the last call took at most, with the modules that all share."""

    def run(self, words: list[str], cwd: Path, told: Path, fault: Fault | None = None) -> tuple[int, str, str]:
        """(exit status, stdout, stderr) of a call; `told` is a folder for what it prints."""
        request = {"words": words, "cwd": str(cwd), "environ": dict(os.environ), "told": str(told), "fault": fault}
        if self._file_systems != os.environ.get(FILE_SYSTEMS):
            self.close()
        if self._server is None:
            self._file_systems = os.environ.get(FILE_SYSTEMS)
            ours, theirs = socket.socketpair()
            command = [sys.executable, "-m", "tests.warm", str(theirs.fileno()), self._script]
            self._server = subprocess.Popen(command, pass_fds=[theirs.fileno()], cwd=Path(__file__).parent.parent)
            theirs.close()
            self._pipe = ours.makefile("rwb")
            ours.settimeout(_LONGEST)
        self._pipe.write(json.dumps(request).encode() + b"\n")
        self._pipe.flush()
        try:
            code, self.memory = json.loads(self._pipe.readline())
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
        _, status, used = os.wait4(child, 0)
        answer = os.waitstatus_to_exitcode(status), used.ru_maxrss << 10
        pipe.write(json.dumps(answer).encode() + b"\n")
        pipe.flush()
    return None


def _become(request: dict[str, Any], script: str, streams: list[int] | None = None) -> None:
    """Be the program that was asked for; `streams` are its own, else what it prints goes into files."""
    os.environ.clear()
    os.environ.update(request["environ"])
    os.chdir(request["cwd"])
    if streams is None:
        told = Path(request["told"])
        streams = [os.open(os.devnull, os.O_RDONLY)]
        streams += [os.open(told / name, os.O_WRONLY | os.O_CREAT | os.O_TRUNC) for name in ("out", "err")]
    for number, handle in enumerate(streams):
        os.dup2(handle, number)
        os.close(handle)
    sys.stdin = os.fdopen(0, "r", encoding="utf-8", closefd=False)
    sys.stdout = os.fdopen(1, "w", encoding="utf-8", closefd=False)
    sys.stderr = os.fdopen(2, "w", encoding="utf-8", errors="backslashreplace", buffering=1, closefd=False)
    sys.__stdout__, sys.__stderr__ = sys.stdout, sys.stderr  # type: ignore[misc]
    sys.argv = [script, *request["words"]]
    if request.get("fault"):
        changes = Path(request["told"]) / "changes"
        _watch(Fault(*request["fault"]), os.open(changes, os.O_WRONLY | os.O_CREAT | os.O_TRUNC))
    _leave(_ran(script))


def _ran(script: str) -> int:
    """The script's exit status."""
    try:
        runpy.run_path(script, run_name="__main__")
    except SystemExit as done:
        if done.code is None or isinstance(done.code, int):
            return done.code or 0
        print(done.code, file=sys.stderr)
        return 1
    except BaseException:
        traceback.print_exc()
        return 1
    return 0


def _leave(code: int) -> None:
    """End as a program does, but without taking all its modules down, which takes longer than most commands do."""
    threading._shutdown()  # type: ignore[attr-defined]
    atexit._run_exitfuncs()
    sys.stdout.flush()
    sys.stderr.flush()
    os._exit(code)


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


# -- for those who change the program while it is loaded ----------------------------------------------------------------


class InProcess:
    """The same calls in this very process: what was changed in the modules that are loaded is what runs."""

    def run(self, words: list[str], cwd: Path, told: Path) -> tuple[int, str, str]:
        from sastrugi.cli import main

        before = sys.argv, Path.cwd(), sys.stdout, sys.stderr
        sys.argv = ["sastrugi", *words]
        code: Any = 0
        try:
            os.chdir(cwd)
            for name in ("stdout", "stderr"):
                setattr(sys, name, (told / name[3:]).open("w", encoding="utf-8", errors="surrogateescape"))
            main()
        except SystemExit as done:
            code = done.code
        finally:
            sys.stdout.close()
            sys.stderr.close()
            sys.argv, here, sys.stdout, sys.stderr = before
            os.chdir(here)
        out, err = ((told / name).read_text("utf-8", "surrogateescape") for name in ("out", "err"))
        return (code if isinstance(code, int) else 0), out, err

    def close(self) -> None:
        pass


# -- for shells -------------------------------------------------------------------------------------------------------

_CLIENT = """#!{python} -IS
import json, os, socket, sys
with socket.socket(socket.AF_UNIX) as call:
    call.connect({address!r})
    asked = json.dumps({{"words": sys.argv[1:], "cwd": os.getcwd(), "environ": dict(os.environ)}}).encode()
    socket.send_fds(call, [len(asked).to_bytes(4, "little")], [0, 1, 2])
    call.sendall(asked)
    sys.exit(int.from_bytes(call.recv(4), "little", signed=True))
"""


class WarmCommand:
    """The program as a command that shells find in `folder`, and that starts warm; as many at once as one likes."""

    def __init__(self, folder: Path, script: str) -> None:
        self.folder = folder
        address = str(folder / "calls")
        command = folder / Path(script).name
        command.write_text(_CLIENT.format(python=sys.executable, address=address))
        command.chmod(0o755)
        words = [sys.executable, "-m", "tests.warm", address, script]
        self._server = subprocess.Popen(words, cwd=Path(__file__).parent.parent, stdout=subprocess.PIPE)
        assert self._server.stdout is not None
        self._server.stdout.readline()  # it listens

    def close(self) -> None:
        self._server.kill()
        self._server.wait()


def _listen(address: str, script: str) -> None:
    """Take calls until somebody ends this process. Each has a process that waits for the program and tells its end."""
    with socket.socket(socket.AF_UNIX) as listening:
        listening.bind(address)
        listening.listen(16)
        print("ready", flush=True)
        while True:
            call, _ = listening.accept()
            if not os.fork():
                listening.close()
                _answer(call, script)
            call.close()
            with contextlib.suppress(ChildProcessError):
                while os.waitpid(-1, os.WNOHANG)[0]:
                    pass


def _answer(call: socket.socket, script: str) -> None:
    size, streams, _, _ = socket.recv_fds(call, 4, 3)
    asked = b""
    while len(asked) < int.from_bytes(size, "little"):
        asked += call.recv(1 << 16)
    child = os.fork()
    if not child:
        call.close()
        _become(json.loads(asked), script, streams)
    for handle in streams:
        os.close(handle)
    code = os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])
    with contextlib.suppress(OSError):
        call.sendall((code if code >= 0 else 128 - code).to_bytes(4, "little", signed=True))
    os._exit(0)


if __name__ == "__main__":
    import sastrugi
    from sastrugi.subprocess_pool import end_with

    end_with(os.getppid())
    own = {module.name for module in pkgutil.walk_packages(sastrugi.__path__, "sastrugi.")}
    for ready in (*sorted(name for name in own if not name.endswith(RUN)), *READY):
        import_module(ready)
    gc.collect()
    gc.freeze()  # what is there before the fork is nobody's to look through
    if sys.argv[1].isdigit():
        with socket.socket(fileno=int(sys.argv[1])) as connection:
            wanted = _serve(connection.makefile("rwb"))
        if wanted is not None:
            _become(wanted, sys.argv[2])
    else:
        _listen(sys.argv[1], sys.argv[2])
