"""Starting an engine in namespaces of its own.

Two processes stand between the supervisor and the engine. The keeper enters the namespaces, as far as the kernel gives
them, and starts the first process there, the reaper: it is number 1 of the engine's processes, so all of them end with
it, and none of them can reach beyond it. Where there is no such namespace, PR_SET_CHILD_SUBREAPER makes it the reaper
of what the engine leaves behind.

Sources: namespaces(7), user_namespaces(7), pid_namespaces(7), prctl(2).
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
from sastrugi.campaign.sandbox.processes import children_of, descendants, end_all
from sastrugi.campaign.sandbox.view import DEVICES, SHARED_MEMORY, build_view, loopback_up, sockets_of_others

_LOOK, _START = 0.02, 30.0
"""Seconds to wait for a word of the engine, and for the namespaces to be made."""
VIEW = "read-only view"


class RunningEngine:
    """An engine that was started: what holds it, and how it ends."""

    def __init__(self, keeper: int, words: socket.socket, held: list[str], space: int | None) -> None:
        self.held = held
        self.status: int = -signal.SIGKILL
        """Its exit status, or the signal that ended it with a minus."""
        self.space = space
        """A handle of its temporary folders' file system."""
        self._keeper, self._words = keeper, words
        self._left: int | None = None
        """Processes that the reaper saw left behind; None where it cannot see them all."""
        self._watchers = {keeper, *children_of(keeper)}

    def ended(self) -> bool:
        """Whether the engine itself has ended, or nobody is left who could tell."""
        if not select.select([self._words], [], [], 0)[0]:
            return False
        told = _word(self._words)
        self.status, self._left = told.get("status", self.status), told.get("left")
        return True

    def wait(self, reading: int | None) -> None:
        """Until the engine says something or ends, but not for long."""
        heard_from = [self._words.fileno()]
        if reading is not None:
            heard_from.append(reading)
        select.select(heard_from, [], [], _LOOK)

    def processes(self) -> list[int]:
        """The engine's processes."""
        return [process for process in descendants() if process not in self._watchers]

    def end(self) -> int:
        """End the reaper, and with it all that it has; how many processes the engine left behind."""
        self._words.close()
        seen = end_all(self._watchers)
        with contextlib.suppress(ChildProcessError):
            os.waitpid(self._keeper, 0)
        return seen if self._left is None else self._left


def start_engine(order: dict[str, Any], groups: Groups, writing: int) -> RunningEngine:
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
            return RunningEngine(keeper, ours, told.get("held", []) + [f"{name} cgroup" for name in groups.held],
                            handles[0] if handles else None)  # fmt: skip
        ours.close()
        os.waitpid(keeper, 0)
        end_all(set())
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
        sockets = sockets_of_others()  # which another network namespace does not tell
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
            _reap_in_place(order, namespaces, sockets, writing, words, limited)
        words.close()
        os.close(writing)
        os.waitpid(reaper, 0)
    except OSError as error:
        with contextlib.suppress(OSError):
            _say(words, failed=str(error))
    finally:
        os._exit(0)


def _reap_in_place(
    order: dict[str, Any], namespaces: tuple[str, ...], sockets: list[str], writing: int, words: socket.socket,
    limited: list[str],
) -> None:  # fmt: skip
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
            given = order["writable"], order["devices"], order["needed"]
            own = build_view(*given, sockets, size, "pid" in namespaces)
            writable = [*order["writable"], *DEVICES, *own]
            space = (os.open(SHARED_MEMORY, os.O_RDONLY | os.O_DIRECTORY),)
            held.append(VIEW)
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
