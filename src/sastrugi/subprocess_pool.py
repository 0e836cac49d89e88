"""Run a function on many files in child processes with limits, so that no file can take the program down.

The function is named as `module:name`, takes a path and returns something that can be pickled. A child that runs too
long, takes too much memory or crashes is ended and replaced; the file it had is reported as a problem. No child
outlives the program, however that ends, and what children leave in their temporary folder goes with them.
"""

from __future__ import annotations

import contextlib
import multiprocessing
import os
import re
import shutil
import sys
import tempfile
import time
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from importlib import import_module
from multiprocessing.connection import Connection, wait
from multiprocessing.context import SpawnProcess
from typing import Any

from sastrugi.progress import Progress

MEMORY = 448 << 20
"""Bytes a child may take: a picture of 100 million pixels can be opened."""
_LEAST_SECONDS, _BYTES_A_SECOND = 10.0, 4 << 20
_MOST_CHILDREN = 4
_LONGEST_PROBLEM = 200
_SECONDS_TO_START = 60.0
"""How long a child may take until it can begin: that is the system's doing, not a file's."""
_PR_SET_PDEATHSIG = 1
"""Of prctl(2)."""


@dataclass(frozen=True, slots=True)
class Outcome:
    """What came of one task: the function's `value`, or the `problem` in words."""

    task: Any
    value: Any
    problem: str = ""


@dataclass(slots=True)
class _Child:
    process: SpawnProcess
    pipe: Connection
    task: int = -1
    deadline: float = 0.0
    ready: bool = False


def seconds_for(size: int) -> float:
    """How long a file of `size` bytes may take to be read and decoded to its end."""
    return _LEAST_SECONDS + size / _BYTES_A_SECOND


def run_in_children(
    function: str,
    paths: Sequence[Any],
    progress: Progress,
    seconds: float | Sequence[float] = _LEAST_SECONDS,
    memory: int = MEMORY,
) -> list[Outcome]:
    """The outcomes in the order of `paths`, or of other tasks that can be pickled. `seconds` (for all, or of each) and
    `memory` (bytes) limit each."""
    if not paths:
        return []
    limits = seconds if isinstance(seconds, Sequence) else [seconds] * len(paths)
    outcomes: list[Outcome | None] = [None] * len(paths)
    children: list[_Child] = []
    waiting = iter(range(len(paths)))
    done = 0
    room = tempfile.mkdtemp(prefix="sastrugi-")
    try:
        children += (
            _start(function, memory, room) for _ in range(min(os.cpu_count() or 1, len(paths), _MOST_CHILDREN))
        )
        for child in children:
            _give(child, waiting, paths, limits)
        while done < len(paths):
            progress.check()
            busy = [child for child in children if child.task >= 0]
            ready = wait([child.pipe for child in busy], timeout=0.2)
            for n, child in enumerate(children):
                outcome = _answer(child, child.pipe in ready, paths, limits)
                if outcome is None:
                    continue
                outcomes[child.task] = outcome[0]
                done += 1
                progress.at(done)
                if outcome[1]:
                    _end(child)
                    child = children[n] = _start(function, memory, room)
                _give(child, waiting, paths, limits)
    finally:
        for child in children:
            _end(child)
        shutil.rmtree(room, ignore_errors=True)
    return [outcome for outcome in outcomes if outcome is not None]


def _answer(child: _Child, ready: bool, paths: Sequence[Any], limits: Sequence[float]) -> tuple[Outcome, bool] | None:
    """The outcome of a child's task, if there is one, and whether the child must be replaced."""
    if child.task < 0:
        return None
    path = paths[child.task]
    if ready:
        try:
            answer = child.pipe.recv()
            if answer is None:
                child.ready, child.deadline = True, time.monotonic() + limits[child.task]
                return None
            value, problem = answer
        except (EOFError, OSError, ValueError, TypeError):
            return Outcome(path, None, "crashed the program that opened it"), True
        return Outcome(path, value, problem), False
    if time.monotonic() > child.deadline:
        return Outcome(path, None, f"took longer than {limits[child.task]:.0f} seconds"), True
    return None


def _give(child: _Child, waiting: Iterator[int], paths: Sequence[Any], limits: Sequence[float]) -> None:
    child.task = next(waiting, -1)
    if child.task >= 0:
        child.deadline = time.monotonic() + limits[child.task] + (0.0 if child.ready else _SECONDS_TO_START)
        with contextlib.suppress(OSError):  # a child that died at once shows when it is asked
            child.pipe.send(paths[child.task])


def _start(function: str, memory: int, room: str) -> _Child:
    context = multiprocessing.get_context("spawn")
    ours, theirs = context.Pipe()
    process = context.Process(target=_serve, args=(theirs, function, memory, room, os.getpid()), daemon=True)
    process.start()
    theirs.close()
    return _Child(process, ours)


def _end(child: _Child) -> None:
    child.pipe.close()
    child.process.kill()
    child.process.join()


_NUMBERED = re.compile(r"^\[Errno -?\d+\] ")
"""A library's own number of an error, which tells nobody anything."""


def problem_of(error: Exception, path: Any = None) -> str:
    """What a library says of a file that it cannot open, in words of ours where it has none that say more."""
    if type(error).__name__ == "UnidentifiedImageError":
        return "not readable as a picture: it does not begin as one"
    text = " ".join(str(error).split())
    text = text.replace(str(path), "the file") if path is not None else text
    text = _NUMBERED.sub("", text).removesuffix(": 'the file'")
    return text[:_LONGEST_PROBLEM] or f"cannot be decoded ({type(error).__name__})"


def end_with(parent: int, signal_number: int = 9) -> None:
    """End this process as soon as its parent ends, killed or not, also in the middle of a decoder."""
    if sys.platform == "linux":
        import ctypes

        ctypes.CDLL(None).prctl(_PR_SET_PDEATHSIG, int(signal_number), 0, 0, 0)
        if os.getppid() != parent:
            os._exit(1)


def _serve(pipe: Connection, function: str, memory: int, room: str, parent: int) -> None:
    """The child: answers (value, problem) for every path that comes through the pipe."""
    import signal
    import warnings

    end_with(parent)
    tempfile.tempdir = room
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # the parent decides when to stop
    quiet = os.open(os.devnull, os.O_WRONLY)
    for stream in (1, 2):
        os.dup2(quiet, stream)
    warnings.simplefilter("ignore")
    with contextlib.suppress(ImportError, ValueError, OSError):
        import resource

        # Where the system counts only what is written to, libraries that are mapped do not count.
        counted = resource.RLIMIT_DATA if sys.platform == "linux" else resource.RLIMIT_AS
        resource.setrlimit(counted, (memory, memory))
        resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    module, name = function.split(":")
    call = getattr(import_module(module), name)
    pipe.send(None)
    while True:
        try:
            path = pipe.recv()
        except (EOFError, OSError):
            return
        try:
            answer = call(path), ""
        except MemoryError:
            answer = None, "takes more memory than allowed"
        except Exception as error:
            answer = None, problem_of(error)
        pipe.send(answer)
