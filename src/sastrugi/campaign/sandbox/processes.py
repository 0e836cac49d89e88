"""The processes that came of this one: what they are, what they take, and their end. Source: proc(5)."""

from __future__ import annotations

import contextlib
import os
import signal
import time
from pathlib import Path

_PAGE = os.sysconf("SC_PAGE_SIZE")
_LOOK = 0.005
"""Seconds between two looks at those that are being ended."""


def descendants() -> list[int]:
    """The processes that came of this one, and live."""
    found: list[int] = []
    waiting = [os.getpid()]
    while waiting:
        children = children_of(waiting.pop())
        found += children
        waiting += children
    return found


def children_of(process: int) -> list[int]:
    found: list[int] = []
    with contextlib.suppress(OSError):
        for task in Path(f"/proc/{process}/task").iterdir():
            found += map(int, (task / "children").read_bytes().split())
    return found


def tasks_of(processes: list[int]) -> int:
    """How many processes and threads these are."""
    total = 0
    for process in processes:
        with contextlib.suppress(OSError):
            total += len(os.listdir(f"/proc/{process}/task"))  # noqa: PTH208
    return total


def memory_of(processes: list[int]) -> int:
    """Bytes of memory that processes hold together."""
    total = 0
    for process in processes:
        with contextlib.suppress(OSError, IndexError):
            total += int(Path(f"/proc/{process}/statm").read_bytes().split()[1]) * _PAGE
    return total


def bytes_moved() -> tuple[int, int]:
    """Bytes that this process, and all it waited for, have read and written."""
    fields = dict(line.split(b": ") for line in Path("/proc/self/io").read_bytes().splitlines())
    return int(fields[b"rchar"]), int(fields[b"wchar"])


def reap_ended() -> None:
    """Wait for all that have ended; the keeper waits for the engine."""
    with contextlib.suppress(ChildProcessError):
        while os.waitpid(-1, os.WNOHANG)[0]:
            pass


def end_all(uncounted: set[int]) -> int:
    """End whatever came of this process; how many processes that were, besides those not to be counted."""
    seen: set[int] = set()
    while True:
        reap_ended()
        living = descendants()
        if not living:
            return len(seen - uncounted)
        for process in living:
            seen.add(process)
            with contextlib.suppress(OSError):
                os.kill(process, signal.SIGKILL)
        time.sleep(_LOOK)
