"""What a program under test may try against the system that runs it, one attempt after the other.

`python escapes.py TARGETS.json` needs the standard library alone. TARGETS.json names what stands outside and must
stay as it is: `file`, `socket` (of a server), `port` (of another one), `terminal`, `processes`; a `folder` for its
own files, and a name for files that it leaves where everybody may (`left`). Each attempt prints a line: `done` where it
got through, or why not. None does harm where it does: limits are set to what they are, and signals are no signals.
"""

from __future__ import annotations

import ctypes
import fcntl
import json
import os
import platform
import resource
import socket
import stat
import sys
import tempfile
import termios
from collections.abc import Callable, Iterator
from functools import partial
from pathlib import Path
from typing import Any

_CLONE_NEWUSER, _MS_BIND, _PTRACE_ATTACH = 0x10000000, 0x1000, 16
_ADD_KEY, _IO_URING_SETUP = {"x86_64": 248, "aarch64": 217}.get(platform.machine(), -1), 425
_libc = ctypes.CDLL(None, use_errno=True)

Attempt = tuple[str, Callable[[], object]]


def attempts(targets: dict[str, Any]) -> Iterator[Attempt]:
    """Every attempt with its name."""
    file, folder = Path(targets["file"]), Path(targets["folder"])
    terminal = targets["terminal"]
    yield "write to a file", lambda: file.open("ab").write(b"?")
    yield "cut a file", lambda: os.truncate(file, 0)
    yield "change permissions", lambda: file.chmod(0o777)
    yield "change the owner", lambda: os.chown(file, 12345, 12345)
    yield "change times", lambda: os.utime(file, (1, 1))
    yield "set an attribute", lambda: os.setxattr(file, "user.sastrugi", b"?")
    yield "rename a file", lambda: file.rename(file.with_name("renamed"))
    yield "take a file away", file.unlink
    yield "link to a file", lambda: os.link(file, folder / "linked")
    yield "make a file beside", lambda: file.with_name("new").write_bytes(b"?")
    yield "make a disk", partial(os.mknod, folder / "disk", stat.S_IFBLK | 0o600, os.makedev(7, 0))
    yield "make a device", partial(os.mknod, folder / "device", stat.S_IFCHR | 0o600, os.makedev(1, 1))
    disks = [*Path("/dev").glob("[svx]d[a-z]"), *Path("/dev").glob("loop*"), Path("/dev/mem")]
    for path in disks:
        yield f"open {path}", partial(os.open, path, os.O_RDONLY)
    yield "open the terminal", partial(os.open, "/dev/tty", os.O_RDWR)
    yield "write to a terminal", lambda: os.write(os.open(terminal, os.O_WRONLY | os.O_NOCTTY), b"?")
    yield "type into a terminal", lambda: fcntl.ioctl(os.open(terminal, os.O_NOCTTY), termios.TIOCSTI, b"?")
    for process in targets["processes"]:
        yield f"signal process {process}", partial(os.kill, process, 0)
    for process in [*targets["processes"], os.getppid()]:
        yield f"limit process {process}", partial(_limit, process)
        yield f"look into process {process}", Path(f"/proc/{process}/environ").read_bytes
        yield f"trace process {process}", partial(_call, "ptrace", _PTRACE_ATTACH, process, 0, 0)
    yield "make a namespace", lambda: _call("unshare", _CLONE_NEWUSER)
    yield "mount something", lambda: _call("mount", b"/etc", bytes(folder), b"", _MS_BIND, None)
    yield "leave a key", lambda: _call("syscall", _ADD_KEY, b"user", b"sastrugi", b"?", 1, -4)
    yield "queue calls", lambda: _call("syscall", _IO_URING_SETUP, 1, ctypes.create_string_buffer(120))
    yield "set the host's name", lambda: Path("/proc/sys/kernel/hostname").write_text("elsewhere")
    yield "set a limit of the system", lambda: Path("/proc/sys/vm/swappiness").write_text("61")
    yield "call a server by port", lambda: socket.create_connection(("127.0.0.1", targets["port"]), 5)
    yield "call a server by socket", lambda: _connect(targets["socket"])
    yield "be powerful", _powerful


def _limit(process: int) -> None:
    now = resource.prlimit(process, resource.RLIMIT_CORE)
    resource.prlimit(process, resource.RLIMIT_CORE, now)


def _call(name: str, *arguments: object) -> None:
    if getattr(_libc, name)(*arguments) < 0:
        raise OSError(ctypes.get_errno(), os.strerror(ctypes.get_errno()))


def _connect(path: str) -> None:
    with socket.socket(socket.AF_UNIX) as mine:
        mine.connect(path)


def _powerful() -> None:
    lines = Path("/proc/self/status").read_text().splitlines()
    sets = dict(line.split(":", 1) for line in lines)
    if not int(sets["CapEff"], 16) and not int(sets["CapPrm"], 16) and sets["NoNewPrivs"].strip() == "1":
        raise PermissionError("no capabilities, and no way to get some")


def _leave_files(name: str) -> None:
    """Files where everybody may put some, which must not be there afterwards."""
    for folder in ("/dev/shm", tempfile.gettempdir(), "/tmp", "/var/tmp"):
        try:
            Path(folder, name).write_bytes(b"?")
        except OSError as error:
            print(f"leave a file in {folder}: {error}")


def main(targets: Path) -> None:
    wanted = json.loads(targets.read_text())
    for name, attempt in attempts(wanted):
        try:
            attempt()
            print(f"{name}: done")
        except (OSError, KeyError, ValueError) as error:
            print(f"{name}: {error}")
    _leave_files(wanted["left"])


if __name__ == "__main__":
    main(Path(sys.argv[1]))
