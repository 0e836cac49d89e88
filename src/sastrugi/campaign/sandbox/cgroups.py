"""Limits for all processes of an engine together: a control group of its own, where one can be had.

Version 2 (one tree) and version 1 (a tree for each controller) are taken alike. A group is made below the one that this
process is in, or below the nearest one above it in which the controller is handed on to groups. A group whose maker is
gone, which a kill leaves behind, is taken away by the next run.

Sources: cgroups(7), `Documentation/admin-guide/cgroup-v2.rst` and `cgroup-v1/` of Linux.
"""

from __future__ import annotations

import os
import re
from contextlib import suppress
from pathlib import Path

_NAME = re.compile(r"sastrugi-(\d+)")
_ALLOWANCE = 16 << 20
"""Bytes that the processes which start an engine take in its group themselves."""
_PERIOD = 100_000
"""Microseconds over which processors are shared out."""


class Groups:
    """The groups of one engine, by controller."""

    def __init__(self, memory: int, tasks: int, cores: int) -> None:
        """Make groups for limits in bytes, processes with threads, and processors; 0 is no limit."""
        self._made: dict[str, Path] = {}
        wanted = {"memory": memory and memory + _ALLOWANCE, "pids": tasks, "cpu": cores * _PERIOD}
        for controller, limit in wanted.items():
            if limit:
                with suppress(OSError):
                    self._make(controller, limit)

    @property
    def held(self) -> list[str]:
        """Controllers that limit the engine."""
        return list(self._made)

    def take(self, process: int) -> None:
        """Put a process in, with all that will come of it; a group that does not take it limits nothing."""
        for controller, group in list(self._made.items()):
            try:
                (group / "cgroup.procs").write_text(str(process))
            except OSError:
                del self._made[controller]
                self._remove(group)

    def ran_out(self) -> str:
        """The limit that the kernel held the engine to, if it had to."""
        if self._count("memory", "memory.events", "oom_kill") or self._count(
            "memory", "memory.oom_control", "oom_kill"
        ):
            return "memory limit"
        return "process limit" if self._count("pids", "pids.events", "max") else ""

    def _count(self, controller: str, file: str, word: str) -> int:
        with suppress(OSError, KeyError):
            lines = (self._made[controller] / file).read_text().splitlines()
            return int(dict(line.split() for line in lines)[word])
        return 0

    def close(self) -> None:
        groups, self._made = {*self._made.values()}, {}
        for group in groups:
            self._remove(group)

    def _make(self, controller: str, limit: int) -> None:
        for above in _places(controller):
            group = above / f"sastrugi-{os.getpid()}"
            with suppress(OSError):
                _clear_leftovers(above)
                group.mkdir(exist_ok=True)
                try:
                    self._limit(group, controller, limit)
                except OSError:
                    self._remove(group)
                    continue
                self._made[controller] = group
                return

    @staticmethod
    def _limit(group: Path, controller: str, limit: int) -> None:
        """Raises OSError where the controller is not handed on to this group."""
        one_tree = (group / "cgroup.controllers").exists()
        files = {
            "memory": [("memory.max", limit), ("memory.swap.max", 0), ("memory.oom.group", 0)]
            if one_tree
            else [("memory.limit_in_bytes", limit), ("memory.memsw.limit_in_bytes", limit)],
            "pids": [("pids.max", limit)],
            "cpu": [("cpu.max", f"{limit} {_PERIOD}")]
            if one_tree
            else [("cpu.cfs_period_us", _PERIOD), ("cpu.cfs_quota_us", limit)],
        }[controller]
        (group / files[0][0]).write_text(str(files[0][1]))
        for name, value in files[1:]:
            with suppress(OSError):  # swap is not everywhere accounted for
                (group / name).write_text(str(value))

    def _remove(self, group: Path) -> None:
        if group not in self._made.values():  # version 2 has one for all controllers
            with suppress(OSError):
                group.rmdir()


def _places(controller: str) -> list[Path]:
    """Groups below which one with this controller might be made, the nearest first."""
    own = _memberships()
    for line in Path("/proc/self/mountinfo").read_text().splitlines():
        before, _, behind = line.partition(" - ")
        root, point = before.split(" ")[3:5]
        kind, _, options = behind.split(" ")
        if kind == "cgroup" and controller in options.split(","):
            path = own.get(controller)
        elif kind == "cgroup2" and controller not in own:
            path = own.get("")
        else:
            continue
        if path is not None and (path == root or path.startswith(root.rstrip("/") + "/")):
            inside = Path(point, path[len(root) :].strip("/"))
            return [inside, *(above for above in inside.parents if above.is_relative_to(point))]
    return []


def _memberships() -> dict[str, str]:
    """This process's group by controller; of the one tree of version 2 by ''."""
    own: dict[str, str] = {}
    for line in Path("/proc/self/cgroup").read_text().splitlines():
        _, controllers, path = line.split(":", 2)
        own |= dict.fromkeys(controllers.split(","), path)
    return own


def _clear_leftovers(above: Path) -> None:
    for group in above.glob("sastrugi-*"):
        named = _NAME.fullmatch(group.name)
        if named and not Path("/proc", named[1]).exists():
            with suppress(OSError):
                group.rmdir()
