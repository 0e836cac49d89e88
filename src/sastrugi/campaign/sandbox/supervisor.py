"""The process between the bench and an engine: it starts it, limits it, measures it, and ends all that comes of it.

Run as a program of its own, with the standard library and this package alone, so that it starts in no time. It ends
with the bench, however that ends (PR_SET_PDEATHSIG). A line of JSON a second says how far it is, the last one is the
report.

Three processes stand between the bench and the engine. The supervisor watches from outside. The keeper enters the
engine's namespaces, as far as the kernel gives them, and starts the first process there, the reaper: it is number 1 of
the engine's processes, so all of them end with it, and none of them can reach beyond it. Where there is no such
namespace, PR_SET_CHILD_SUBREAPER makes both reapers of what the engine leaves behind.

Sources: prctl(2), namespaces(7), user_namespaces(7), pid_namespaces(7), proc(5); what a process has read and written is
kept by the kernel with the process that waited for it, so nothing is missed between two looks.
"""

from __future__ import annotations

import contextlib
import json
import os
import resource
import select
import signal
import socket
import stat
import time
from pathlib import Path
from typing import Any

from sastrugi.campaign.sandbox.cgroups import Groups
from sastrugi.campaign.sandbox.kernel import (
    CLONE_NEW,
    PR_SET_CHILD_SUBREAPER,
    PR_SET_DUMPABLE,
    PR_SET_PDEATHSIG,
    prctl,
    unshare,
)
from sastrugi.campaign.sandbox.powers import CAP_DAC, confine_writing, drop_capabilities, filter_calls
from sastrugi.campaign.sandbox.view import DEVICES, SHARED_MEMORY, build_view, loopback_up

_LOOK, _TELL, _GRACE, _DRAIN, _START = 0.02, 1.0, 2.0, 0.2, 30.0
"""Seconds between two looks at processes, between two reports, from asking to killing, for a last word, and for the
namespaces to be made."""
_LOG = 256 << 10
"""Bytes kept of what an engine says, at the start and at the end."""
_ROOM = 64 << 20
"""Bytes that stay free where the engine writes: below them the disk is full."""
_PAGE = os.sysconf("SC_PAGE_SIZE")
_ALL_HELD = (
    *(f"{name} namespace" for name in CLONE_NEW), "read-only view", "no capabilities", "no new privileges", "landlock",
    "seccomp",
)  # fmt: skip
"""What keeps an engine to itself where the kernel gives everything."""


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
    prctl(PR_SET_CHILD_SUBREAPER, 1)
    prctl(PR_SET_PDEATHSIG, int(signal.SIGTERM))
    stop = {"asked": os.getppid() != order["bench"]}

    def ask(_number: int, _frame: object) -> None:
        stop["asked"] = True

    signal.signal(signal.SIGTERM, ask)
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # the bench decides
    groups = Groups(order["memory"], order["processes"], order["cores"])
    try:
        _tell(**_supervise(order, groups, stop))
    finally:
        groups.close()


def _tell(**words: Any) -> None:
    print(json.dumps(words), flush=True)


def _supervise(order: dict[str, Any], groups: Groups, stop: dict[str, bool]) -> dict[str, Any]:
    """Run the engine to its end. `order`: command, environment, folder, writable, log, seconds, memory, disk,
    processes, cores, confined, network, devices, needed, and bench (its process)."""
    reading, writing = os.pipe2(os.O_CLOEXEC)
    moved, began = _moved(), time.monotonic()
    engine = _start(order, groups, writing)
    os.close(writing)
    wanted = [name for name in _ALL_HELD if order["confined"] and not (order["network"] and name.startswith("network"))]
    if order["memory"]:  # the one limit that is looked at too late else
        wanted.append("memory cgroup")
    _tell(held=engine.held, missing=[name for name in wanted if name not in engine.held])
    log, peak, told = Log(), 0, began
    disk = _Disk(order, engine)
    outcome, heard = "", True
    while not engine.ended():
        engine.wait(reading if heard else None)
        heard = _hear(reading, log, 0)
        _reap()
        now = time.monotonic()
        processes = engine.processes()
        memory = _memory(processes)
        peak = max(peak, memory)
        outcome = groups.ran_out() or _broken_limit(order, now - began, memory, processes, disk)
        outcome = outcome or ("stopped" if stop["asked"] else "")
        if outcome:
            _end_politely(engine, reading, log, now)
            break
        if now - told >= _TELL:
            told = now
            _tell(elapsed=now - began, memory=memory)
    seconds = time.monotonic() - began
    outcome = outcome or groups.ran_out()
    left = engine.end() + _end_all(set())
    _hear_the_rest(reading, log)
    Path(order["log"]).write_bytes(log.text())
    used = resource.getrusage(resource.RUSAGE_CHILDREN)
    after = _moved()
    return {
        "limit": outcome, "status": engine.status, "seconds": seconds, "cpu": used.ru_utime + used.ru_stime,
        "memory": max(peak, used.ru_maxrss * 1024), "read": after[0] - moved[0], "written": after[1] - moved[1],
        "left_behind": left, "said": log.total, "confined": engine.held,
    }  # fmt: skip


# -- starting ----------------------------------------------------------------------------------


class _Running:
    """An engine that was started: what holds it, and how it ends."""

    def __init__(self, keeper: int, words: socket.socket, held: list[str], space: int | None) -> None:
        self.held = held
        self.status: int = -signal.SIGKILL
        """Its exit status, or the signal that ended it with a minus."""
        self.space = space
        """A handle of its temporary folders' file system."""
        self._keeper, self._words = keeper, words
        self._left: int | None = None
        self._watchers = {keeper, *_children(keeper)}

    def ended(self) -> bool:
        """Whether the engine itself has ended, or nobody is left who could tell."""
        if not select.select([self._words], [], [], 0)[0]:
            return False
        told = _word(self._words)
        self.status, self._left = told.get("status", self.status), told.get("left")
        return True

    def wait(self, reading: int | None) -> None:
        """Until the engine says something or ends, but not for long."""
        talking = [self._words.fileno(), *([] if reading is None else [reading])]
        select.select(talking, [], [], _LOOK)

    def processes(self) -> list[int]:
        """The engine's processes."""
        return [process for process in _descendants() if process not in self._watchers]

    def end(self) -> int:
        """End the reaper, and with it all that it has; how many processes the engine left behind."""
        self._words.close()
        left = _end_all(self._watchers)
        with contextlib.suppress(ChildProcessError):
            os.waitpid(self._keeper, 0)
        return left if self._left is None else self._left


def _start(order: dict[str, Any], groups: Groups, writing: int) -> _Running:
    """The engine, in all the namespaces that the kernel gives."""
    for namespaces in _plans(order):
        ours, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        keeper = os.fork()
        if keeper == 0:
            ours.close()
            _keep(order, namespaces, writing, theirs, groups.held)
        theirs.close()
        groups.take(keeper)
        with contextlib.suppress(OSError):  # it may have ended: then its last word says so
            ours.sendall(b"begin")
            if "user" in namespaces and "failed" not in _word(ours):
                _map_owners(keeper)
                ours.sendall(b"go on")
        handles: list[int] = []
        told = _word(ours, handles)
        if "held" in told or not namespaces:
            return _Running(keeper, ours, told.get("held", []) + [f"{name} cgroup" for name in groups.held],
                            handles[0] if handles else None)  # fmt: skip
        ours.close()
        os.waitpid(keeper, 0)
        _end_all(set())
    raise AssertionError("the last plan asks for nothing")


def _plans(order: dict[str, Any]) -> list[tuple[str, ...]]:
    """Namespaces to try, the most first. Only root can do without one of users, and some systems keep `/proc` from
    being mounted."""
    if not order["confined"]:
        return [()]
    all_of_them = tuple(name for name in CLONE_NEW if name != "network" or not order["network"])
    plans = [all_of_them]
    if os.geteuid() == 0:
        plans.append(tuple(name for name in all_of_them if name != "user"))
    plans += [tuple(name for name in plan if name != "pid") for plan in plans]
    return [*plans, ()]


def _word(words: socket.socket, handles: list[int] | None = None) -> dict[str, Any]:
    """What the other side says, with handles that it hands over; nothing where it is gone."""
    words.settimeout(_START)
    try:
        text, got, _, _ = socket.recv_fds(words, 1 << 16, 4)
    except OSError:
        return {}
    if handles is not None:
        handles += got
    return dict(json.loads(text)) if text else {}


def _say(words: socket.socket, handles: tuple[int, ...] = (), **what: Any) -> None:
    socket.send_fds(words, [json.dumps(what).encode()], handles)


def _map_owners(process: int) -> None:
    """Let owners of files in a process's new user namespace be who they are here; somebody who is not root may be only
    himself there."""
    about = Path("/proc", str(process))
    if os.geteuid() == 0:
        for name in ("uid_map", "gid_map"):
            rows = [line.split() for line in Path("/proc/self", name).read_text().splitlines()]
            (about / name).write_text("".join(f"{inside} {inside} {count}\n" for inside, _, count in rows))
        return
    (about / "uid_map").write_text(f"{os.geteuid()} {os.geteuid()} 1\n")
    (about / "setgroups").write_text("deny")
    (about / "gid_map").write_text(f"{os.getegid()} {os.getegid()} 1\n")


def _keep(
    order: dict[str, Any], namespaces: tuple[str, ...], writing: int, words: socket.socket, limited: list[str]
) -> None:
    """The keeper: enter namespaces, start the reaper in them, and wait for it."""
    try:
        signal.signal(signal.SIGTERM, signal.SIG_DFL)
        signal.signal(signal.SIGINT, signal.SIG_DFL)
        words.recv(64)
        if namespaces:
            unshare(sum(CLONE_NEW[name] for name in namespaces))
        if "user" in namespaces:
            _say(words, entered=True)
            if not words.recv(64):
                raise OSError("the owners of files could not be told")
        prctl(PR_SET_PDEATHSIG, int(signal.SIGKILL))
        reaper = os.fork()
        if reaper == 0:
            prctl(PR_SET_PDEATHSIG, int(signal.SIGKILL))
            _reap_in_place(order, namespaces, writing, words, limited)
        words.close()
        os.close(writing)
        os.waitpid(reaper, 0)
    except OSError as error:
        with contextlib.suppress(OSError):
            _say(words, failed=str(error))
    finally:
        os._exit(0)


def _reap_in_place(
    order: dict[str, Any], namespaces: tuple[str, ...], writing: int, words: socket.socket, limited: list[str]
) -> None:
    """The reaper: build what the engine sees, start it, reap what is left, and say how it ended."""
    try:
        prctl(PR_SET_CHILD_SUBREAPER, 1)
        held = [f"{name} namespace" for name in namespaces]
        writable = [*order["writable"], *DEVICES, SHARED_MEMORY]
        space: tuple[int, ...] = ()
        if "network" in namespaces:
            loopback_up()
        if "mount" in namespaces:
            size = min(number for number in (order["disk"], order["memory"]) if number)
            own = build_view(order["writable"], order["devices"], order["needed"], size, "pid" in namespaces)
            writable = [*order["writable"], *DEVICES, *own]
            space = (os.open(SHARED_MEMORY, os.O_RDONLY | os.O_DIRECTORY),)
            held.append("read-only view")
        prctl(PR_SET_DUMPABLE, 0)  # nobody looks into this process, or takes its handles
        engine = os.fork()
        if engine == 0:
            _become(order, writing, words, held, space, writable, limited)
        os.close(writing)
        drop_capabilities(0)
        code, left = _wait_for(engine), None
        if "pid" in namespaces:  # which end with this process
            left = sum(name.isdigit() for name in os.listdir("/proc")) - 1  # noqa: PTH208
        _say(words, status=code, left=left)
    except OSError as error:
        with contextlib.suppress(OSError):
            _say(words, failed=str(error))
    finally:
        os._exit(0)


def _wait_for(engine: int) -> int:
    """Reap until the engine ends; then also what has ended by itself. The exit status, or a signal with a minus."""
    while True:
        process, status = os.waitpid(-1, 0)
        if process == engine:
            break
    with contextlib.suppress(ChildProcessError):
        while os.waitpid(-1, os.WNOHANG)[0]:
            pass
    return os.waitstatus_to_exitcode(status)


def _become(
    order: dict[str, Any], writing: int, words: socket.socket, held: list[str], space: tuple[int, ...],
    writable: list[str], limited: list[str],
) -> None:  # fmt: skip
    """Become the engine, in a session of its own, within its limits."""
    try:
        os.setsid()
        prctl(PR_SET_PDEATHSIG, int(signal.SIGKILL))
        nothing = os.open(os.devnull, os.O_RDONLY)
        for number, source in ((0, nothing), (1, writing), (2, writing)):
            os.dup2(source, number)
        resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
        if order["disk"]:
            resource.setrlimit(resource.RLIMIT_FSIZE, (order["disk"], order["disk"]))
        if order["memory"]:  # a backstop: the supervisor looks often, but not always
            most = 2 * order["memory"] + (256 << 20)
            resource.setrlimit(resource.RLIMIT_DATA, (most, most))
        if order["cores"]:
            os.sched_setaffinity(0, sorted(os.sched_getaffinity(0))[: order["cores"]])
        os.chdir(order["folder"])
        if order["confined"]:
            held += drop_capabilities(0 if _within_reach(order) else CAP_DAC)
            held += confine_writing(writable, order["devices"])
            held += filter_calls("memory" in limited)
        _say(words, space, held=held)
        os.execve(order["command"][0], order["command"], order["environment"])
    except OSError as error:
        os.write(2, f"cannot be started: {error}\n".encode())
    finally:
        os._exit(127)


def _within_reach(order: dict[str, Any]) -> bool:
    """Whether root finds what the engine needs without its right to open everything."""
    if os.geteuid() != 0:
        return True
    for path in (*order["writable"], *order["needed"]):
        for above in Path(path).parents:
            about = above.stat()
            bits = stat.S_IMODE(about.st_mode)
            mine = bits >> 6 if about.st_uid == 0 else bits >> 3 if about.st_gid == 0 else bits
            if not mine & 1:
                return False
    return True


# -- looking -----------------------------------------------------------------------------------


def _descendants() -> list[int]:
    """The processes that came of this one, and live."""
    found: list[int] = []
    waiting = [os.getpid()]
    while waiting:
        children = _children(waiting.pop())
        found += children
        waiting += children
    return found


def _children(process: int) -> list[int]:
    found: list[int] = []
    with contextlib.suppress(OSError):
        for task in Path(f"/proc/{process}/task").iterdir():
            found += map(int, (task / "children").read_bytes().split())
    return found


def _tasks(processes: list[int]) -> int:
    """How many processes and threads these are."""
    total = 0
    for process in processes:
        with contextlib.suppress(OSError):
            total += len(os.listdir(f"/proc/{process}/task"))  # noqa: PTH208
    return total


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
    """How much an engine has put where it may write, also into files that have no name any more; looked at as seldom as
    that takes long."""

    def __init__(self, order: dict[str, Any], engine: _Running) -> None:
        self._most, self._folders, self._next = order["disk"], order["writable"], 0.0
        self._engine, self._before = engine, order["handed"]

    def problem(self, processes: list[int]) -> str:
        now = time.monotonic()
        if now < self._next:
            return ""
        space = os.statvfs(self._folders[0])
        if space.f_bavail * space.f_frsize < _ROOM:
            return "disk full"
        full = self._most and self._taken(processes) > self._most
        self._next = time.monotonic() + max(0.25, 10 * (time.monotonic() - now))
        return "disk limit" if full else ""

    def _taken(self, processes: list[int]) -> int:
        total: int = sum(map(_taken, self._folders)) - self._before + _nameless(processes)
        if self._engine.space is not None:
            space = os.statvfs(self._engine.space)
            total += (space.f_blocks - space.f_bfree) * space.f_frsize
        return total


def _taken(folder: str) -> int:
    """Bytes on the disk of all files below a folder."""
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


def _nameless(processes: list[int]) -> int:
    """Bytes of files that processes hold, and that stand in no folder any more: open ones, and ones in memory."""
    found: dict[tuple[int, int], int] = {}
    for process in processes:
        with contextlib.suppress(OSError), os.scandir(f"/proc/{process}/fd") as entries:
            for entry in entries:
                with contextlib.suppress(OSError):
                    about = entry.stat()
                    if about.st_nlink == 0 and stat.S_ISREG(about.st_mode):
                        found[about.st_dev, about.st_ino] = about.st_blocks * 512
        with contextlib.suppress(OSError, ValueError):
            for line in Path(f"/proc/{process}/maps").read_bytes().splitlines():
                if line.endswith(b" (deleted)"):
                    _note_mapped(line, found)
    return sum(found.values())


def _note_mapped(line: bytes, found: dict[tuple[int, int], int]) -> None:
    span, _, offset, device, inode = line.split()[:5]
    start, end = (int(word, 16) for word in span.split(b"-"))
    major, minor = (int(word, 16) for word in device.split(b":"))
    key = os.makedev(major, minor), int(inode)
    found[key] = max(found.get(key, 0), int(offset, 16) + end - start)


def _broken_limit(order: dict[str, Any], seconds: float, memory: int, processes: list[int], disk: _Disk) -> str:
    if seconds > order["seconds"]:
        return "time limit"
    if order["memory"] and memory > order["memory"]:
        return "memory limit"
    if _tasks(processes) >= order["processes"]:
        return "process limit"
    return disk.problem(processes)


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


def _reap() -> None:
    """Wait for all that have ended; the keeper waits for the engine."""
    with contextlib.suppress(ChildProcessError):
        while os.waitpid(-1, os.WNOHANG)[0]:
            pass


def _end_politely(engine: _Running, reading: int, log: Log, began: float) -> None:
    """Ask the engine to end, and wait a little."""
    for process in engine.processes():
        with contextlib.suppress(OSError):
            os.kill(process, signal.SIGTERM)
    while time.monotonic() - began < _GRACE and not engine.ended():
        engine.wait(reading)
        _hear(reading, log, 0)


def _end_all(uncounted: set[int]) -> int:
    """End whatever came of this process; how many processes that were, besides those not to be counted."""
    seen: set[int] = set()
    while True:
        _reap()
        living = _descendants()
        if not living:
            return len(seen - uncounted)
        for process in living:
            seen.add(process)
            with contextlib.suppress(OSError):
                os.kill(process, signal.SIGKILL)
        time.sleep(_LOOK / 4)
