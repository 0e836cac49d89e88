"""The process between the bench and an engine: it starts it, limits it, measures it, and ends all that comes of it.

Run as a program of its own (`python supervisor.py ORDER.json`), with the standard library alone, so that it starts in
no time. It is the reaper of every process that the engine leaves behind (PR_SET_CHILD_SUBREAPER), and ends with the
bench, however that ends (PR_SET_PDEATHSIG). A line of JSON a second says how far it is, the last one is the report.

Sources: prctl(2), landlock(7), proc(5); what a process has read and written is kept by the kernel with the process that
waited for it, so nothing is missed between two looks.
"""

from __future__ import annotations

import contextlib
import ctypes
import json
import os
import resource
import select
import signal
import sys
import time
from pathlib import Path
from typing import Any

_PR_SET_PDEATHSIG, _PR_SET_NO_NEW_PRIVS, _PR_SET_CHILD_SUBREAPER = 1, 38, 36
_LANDLOCK_CREATE_RULESET, _LANDLOCK_ADD_RULE, _LANDLOCK_RESTRICT_SELF, _LANDLOCK_VERSION = 444, 445, 446, 1
_LANDLOCK_PATH_BENEATH = 1
_WRITING = 0x1FF2
"""LANDLOCK_ACCESS_FS_* of all that changes something: WRITE_FILE, REMOVE_DIR … MAKE_SYM."""
_MAKE_DEVICE = 1 << 6 | 1 << 11
"""MAKE_CHAR and MAKE_BLOCK: nobody who looks for files needs to make devices, and one gives a disk away."""
_IOCTL_DEVICE = 1 << 15
"""IOCTL_DEV, from version 5 on: among them is to type into a terminal."""
_SCOPE_SIGNAL = 1 << 1
"""LANDLOCK_SCOPE_SIGNAL: no signals to those who watch."""
_REFER, _TRUNCATE = 1 << 13, 1 << 14
_ON_FILES = 1 << 1 | _TRUNCATE
_ALWAYS_WRITABLE = ("/dev/null", "/dev/zero", "/dev/full", "/dev/shm")
_LOOK, _TELL, _GRACE, _DRAIN = 0.02, 1.0, 2.0, 0.2
"""Seconds between two looks at processes, between two reports, from asking to killing, and for a last word."""
_LOG = 256 << 10
"""Bytes kept of what an engine says, at the start and at the end."""
_ROOM = 64 << 20
"""Bytes that stay free where the engine writes: below them the disk is full."""
_PAGE = os.sysconf("SC_PAGE_SIZE")


class Log:
    """What the engine says: its first and its last bytes, and how many there were."""

    def __init__(self) -> None:
        self.total = 0
        self._first, self._last = bytearray(), bytearray()

    def add(self, data: bytes) -> None:
        self.total += len(data)
        room = max(_LOG - len(self._first), 0)
        self._first += data[:room]
        self._last += data[room:]
        if len(self._last) > 2 * _LOG:
            del self._last[:-_LOG]

    def text(self) -> bytes:
        last = bytes(self._last[-_LOG:])
        left = self.total - len(self._first) - len(last)
        between = f"\n… {left:,} bytes left out …\n".encode() if left else b""
        return bytes(self._first) + between + last


def main(order_path: str) -> None:
    order = json.loads(Path(order_path).read_text(encoding="utf-8"))
    libc = ctypes.CDLL(None, use_errno=True)
    libc.prctl(_PR_SET_CHILD_SUBREAPER, 1, 0, 0, 0)
    libc.prctl(_PR_SET_PDEATHSIG, int(signal.SIGTERM), 0, 0, 0)
    stop = {"asked": os.getppid() != order["bench"]}

    def ask(_number: int, _frame: object) -> None:
        stop["asked"] = True

    signal.signal(signal.SIGTERM, ask)
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # the bench decides
    print(json.dumps(_supervise(order, libc, stop)), flush=True)


def _supervise(order: dict[str, Any], libc: ctypes.CDLL, stop: dict[str, bool]) -> dict[str, Any]:
    """Run the engine to its end. `order`: command, environment, folder, writable, log, seconds, memory, disk, confined,
    devices, and bench (its process)."""
    reading, writing = os.pipe2(os.O_CLOEXEC)
    moved, began = _moved(), time.monotonic()
    child = os.fork()
    if child == 0:
        _become(order, libc, writing)
    os.close(writing)
    log, peak, told, disk = Log(), 0, began, _Disk(order)
    outcome, status = "", None
    while True:
        heard = _hear(reading, log, _LOOK)
        status = _reap(child, status)
        if status is not None:
            break
        now = time.monotonic()
        memory = _memory(_descendants())
        peak = max(peak, memory)
        outcome = _broken_limit(order, now - began, memory, disk) or ("stopped" if stop["asked"] else "")
        if outcome:
            status = _end_politely(child, reading, log, now)
            break
        if now - told >= _TELL:
            told = now
            print(json.dumps({"elapsed": now - began, "memory": memory}), flush=True)
        if not heard:
            time.sleep(_LOOK)
    seconds = time.monotonic() - began
    left = _end_all()
    _hear_the_rest(reading, log)
    Path(order["log"]).write_bytes(log.text())
    used = resource.getrusage(resource.RUSAGE_CHILDREN)
    after = _moved()
    code = os.waitstatus_to_exitcode(status) if status is not None else None
    return {
        "limit": outcome, "status": code, "seconds": seconds, "cpu": used.ru_utime + used.ru_stime,
        "memory": max(peak, used.ru_maxrss * 1024), "read": after[0] - moved[0], "written": after[1] - moved[1],
        "left_behind": left, "said": log.total, "confined": order["confined"] and _landlock_version(libc) > 0,
    }  # fmt: skip


# -- starting ----------------------------------------------------------------------------------


def _become(order: dict[str, Any], libc: ctypes.CDLL, writing: int) -> None:
    """The child: become the engine, in a session of its own, within its limits."""
    try:
        os.setsid()
        libc.prctl(_PR_SET_PDEATHSIG, int(signal.SIGKILL), 0, 0, 0)
        signal.signal(signal.SIGTERM, signal.SIG_DFL)
        signal.signal(signal.SIGINT, signal.SIG_DFL)
        nothing = os.open(os.devnull, os.O_RDONLY)
        for number, source in ((0, nothing), (1, writing), (2, writing)):
            os.dup2(source, number)
        resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
        if order["disk"]:
            resource.setrlimit(resource.RLIMIT_FSIZE, (order["disk"], order["disk"]))
        if order["memory"]:  # a backstop: the supervisor looks often, but not always
            most = 2 * order["memory"] + (256 << 20)
            resource.setrlimit(resource.RLIMIT_DATA, (most, most))
        os.chdir(order["folder"])
        if order["confined"]:
            _confine(libc, order["writable"], order["devices"])
        os.execve(order["command"][0], order["command"], order["environment"])
    except OSError as error:
        os.write(2, f"cannot be started: {error}\n".encode())
    finally:
        os._exit(127)


def _landlock_version(libc: ctypes.CDLL) -> int:
    version: int = libc.syscall(_LANDLOCK_CREATE_RULESET, None, 0, _LANDLOCK_VERSION)
    return version


def _confine(libc: ctypes.CDLL, writable: list[str], devices: list[str]) -> None:
    """Let this process, and all that come of it, write nowhere but below `writable`, make no devices anywhere, and ask
    none for more than to be read but `devices`, as far as the kernel can do that."""
    version = _landlock_version(libc)
    if version <= 0:
        return
    rights = _WRITING | (_REFER if version >= 2 else 0) | (_TRUNCATE if version >= 3 else 0)
    handled = rights | (_IOCTL_DEVICE if version >= 5 else 0)
    attributes = handled.to_bytes(8, "little")
    if version >= 6:
        attributes += bytes(8) + _SCOPE_SIGNAL.to_bytes(8, "little")
    ruleset = libc.syscall(_LANDLOCK_CREATE_RULESET, ctypes.create_string_buffer(attributes), len(attributes), 0)
    if ruleset < 0:
        return
    granted = [(path, rights & ~_MAKE_DEVICE) for path in (*writable, *_ALWAYS_WRITABLE)]
    granted += [(path, _IOCTL_DEVICE) for path in (devices if version >= 5 else ())]
    for path, own in granted:
        if not Path(path).exists():
            continue
        handle = os.open(path, os.O_PATH | os.O_CLOEXEC)
        own = own if Path(path).is_dir() else own & (_ON_FILES | _IOCTL_DEVICE)
        rule = ctypes.create_string_buffer(own.to_bytes(8, "little") + handle.to_bytes(4, "little"), 12)
        libc.syscall(_LANDLOCK_ADD_RULE, ruleset, _LANDLOCK_PATH_BENEATH, rule, 0)
        os.close(handle)
    libc.prctl(_PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0)
    libc.syscall(_LANDLOCK_RESTRICT_SELF, ruleset, 0)


# -- looking -----------------------------------------------------------------------------------


def _descendants() -> list[int]:
    """The processes that came of this one, and live."""
    found: list[int] = []
    waiting = [os.getpid()]
    while waiting:
        process = waiting.pop()
        with contextlib.suppress(OSError):
            for task in Path(f"/proc/{process}/task").iterdir():
                children = (task / "children").read_bytes().split()
                found += map(int, children)
                waiting += map(int, children)
    return found


def _memory(processes: list[int]) -> int:
    """Bytes of memory that processes hold together."""
    total = 0
    for process in processes:
        with contextlib.suppress(OSError, IndexError):
            total += int(Path(f"/proc/{process}/statm").read_bytes().split()[1]) * _PAGE
    return total


def _moved() -> tuple[int, int]:
    """Bytes that this process, and all it waited for, have read and written."""
    fields = dict(line.split(b": ") for line in Path("/proc/self/io").read_bytes().splitlines())
    return int(fields[b"rchar"]), int(fields[b"wchar"])


class _Disk:
    """How much an engine has put where it may write; looked at as seldom as that takes long."""

    def __init__(self, order: dict[str, Any]) -> None:
        self._most, self._folders, self._next = order["disk"], order["measured"], 0.0

    def problem(self) -> str:
        now = time.monotonic()
        if now < self._next:
            return ""
        space = os.statvfs(self._folders[0])
        if space.f_bavail * space.f_frsize < _ROOM:
            return "disk full"
        full = self._most and sum(map(_taken, self._folders)) > self._most
        self._next = time.monotonic() + max(0.25, 10 * (time.monotonic() - now))
        return "disk limit" if full else ""


def _taken(folder: str) -> int:
    total, waiting = 0, [folder]
    while waiting:
        with contextlib.suppress(OSError), os.scandir(waiting.pop()) as entries:
            for entry in entries:
                if entry.is_dir(follow_symlinks=False):
                    waiting.append(entry.path)
                else:
                    with contextlib.suppress(OSError):
                        total += entry.stat(follow_symlinks=False).st_blocks * 512
    return total


def _broken_limit(order: dict[str, Any], seconds: float, memory: int, disk: _Disk) -> str:
    if seconds > order["seconds"]:
        return "time limit"
    if order["memory"] and memory > order["memory"]:
        return "memory limit"
    return disk.problem()


def _hear(reading: int, log: Log, seconds: float) -> bool:
    """Take what the engine says, for at most so long; False once all of its outputs are closed."""
    ready, _, _ = select.select([reading], [], [], seconds)
    if not ready:
        return True
    data = os.read(reading, 1 << 16)
    log.add(data)
    return bool(data)


def _hear_the_rest(reading: int, log: Log) -> None:
    until = time.monotonic() + _DRAIN
    while time.monotonic() < until and select.select([reading], [], [], 0)[0] and _hear(reading, log, 0):
        pass


# -- ending ------------------------------------------------------------------------------------


def _reap(child: int, status: int | None) -> int | None:
    """Wait for all that have ended; the status of `child` once it has."""
    with contextlib.suppress(ChildProcessError):
        while True:
            process, ended = os.waitpid(-1, os.WNOHANG)
            if process == 0:
                break
            if process == child:
                status = ended
    return status


def _end_politely(child: int, reading: int, log: Log, began: float) -> int | None:
    """Ask the engine to end, and wait a little."""
    status: int | None = None
    for process in _descendants():
        with contextlib.suppress(OSError):
            os.kill(process, signal.SIGTERM)
    while status is None and time.monotonic() - began < _GRACE:
        if not _hear(reading, log, _LOOK):
            time.sleep(_LOOK)
        status = _reap(child, status)
    if status is None:
        with contextlib.suppress(OSError):
            os.kill(child, signal.SIGKILL)
        status = os.waitpid(child, 0)[1]
    return status


def _end_all() -> int:
    """End whatever the engine left behind; how many processes that were."""
    seen: set[int] = set()
    while True:
        _reap(0, None)
        living = _descendants()
        if not living:
            return len(seen)
        for process in living:
            seen.add(process)
            with contextlib.suppress(OSError):
                os.kill(process, signal.SIGKILL)
        time.sleep(_LOOK / 4)


if __name__ == "__main__":
    main(sys.argv[1])
