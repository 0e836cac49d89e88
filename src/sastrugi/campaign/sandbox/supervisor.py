"""The process between the bench and an engine: it starts it, limits it, measures it, and ends all that comes of it.

Run as a program of its own, with the standard library and this package alone, so that it starts in no time. It ends
with the bench, however that ends (PR_SET_PDEATHSIG). A line of JSON a second says how far it is, the last one is the
report.

What starts the engine, and keeps it to itself, is in `starting`. What a process has read and written is kept by the
kernel with the process that waited for it, so nothing is missed between two looks.

Sources: prctl(2), proc(5).
"""

from __future__ import annotations

import contextlib
import json
import os
import resource
import select
import signal
import time
from pathlib import Path
from typing import Any

from sastrugi.campaign.sandbox.cgroups import Groups
from sastrugi.campaign.sandbox.disk_use import DiskUse
from sastrugi.campaign.sandbox.kernel import CLONE_NEW, PR_SET_CHILD_SUBREAPER, PR_SET_PDEATHSIG, prctl
from sastrugi.campaign.sandbox.processes import bytes_moved, end_all, memory_of, reap_ended, tasks_of
from sastrugi.campaign.sandbox.starting import VIEW, RunningEngine, start_engine

_TELL, _GRACE, _DRAIN = 1.0, 2.0, 0.2
"""Seconds between two reports, from asking to killing, and for a last word."""
_LOG = 256 << 10
"""Bytes kept of what an engine says, at the start and at the end."""
_ALL_HELD = (
    *(f"{name} namespace" for name in CLONE_NEW), VIEW, "no capabilities", "no new privileges", "landlock", "seccomp",
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
    moved, began = bytes_moved(), time.monotonic()
    engine = start_engine(order, groups, writing)
    os.close(writing)
    wanted = [name for name in _ALL_HELD if order["confined"] and not (order["network"] and name.startswith("network"))]
    if order["memory"]:  # the one limit that is looked at too late else
        wanted.append("memory cgroup")
    _tell(held=engine.held, missing=[name for name in wanted if name not in engine.held])
    log, peak, told = Log(), 0, began
    disk = DiskUse(order["disk"], order["writable"], order["handed"], engine.space)
    outcome, heard = "", True
    while not engine.ended():
        engine.wait(reading if heard else None)
        heard = _hear(reading, log)
        reap_ended()
        now = time.monotonic()
        processes = engine.processes()
        memory = memory_of(processes)
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
    left = engine.end() + end_all(set())
    _hear_the_rest(reading, log)
    Path(order["log"]).write_bytes(log.text())
    used = resource.getrusage(resource.RUSAGE_CHILDREN)
    after = bytes_moved()
    return {
        "limit": outcome, "status": engine.status, "seconds": seconds, "cpu": used.ru_utime + used.ru_stime,
        "memory": max(peak, used.ru_maxrss * 1024), "read": after[0] - moved[0], "written": after[1] - moved[1],
        "left_behind": left, "said": log.total, "confined": engine.held,
    }  # fmt: skip


def _broken_limit(order: dict[str, Any], seconds: float, memory: int, processes: list[int], disk: DiskUse) -> str:
    if seconds > order["seconds"]:
        return "time limit"
    if order["memory"] and memory > order["memory"]:
        return "memory limit"
    if tasks_of(processes) >= order["processes"]:
        return "process limit"
    return disk.problem(processes)


def _hear(reading: int, log: Log) -> bool:
    """Take what the engine has said by now; False once all of its outputs are closed."""
    if not select.select([reading], [], [], 0)[0]:
        return True
    data = os.read(reading, 1 << 16)
    log.add(data)
    return bool(data)


def _hear_the_rest(reading: int, log: Log) -> None:
    until = time.monotonic() + _DRAIN
    while time.monotonic() < until and select.select([reading], [], [], 0)[0] and _hear(reading, log):
        pass


def _end_politely(engine: RunningEngine, reading: int, log: Log, began: float) -> None:
    """Ask the engine to end, and wait a little."""
    for process in engine.processes():
        with contextlib.suppress(OSError):
            os.kill(process, signal.SIGTERM)
    while time.monotonic() - began < _GRACE and not engine.ended():
        engine.wait(reading)
        _hear(reading, log)
