"""Cells carried out on this machine, several at once, within its limits.

Each worker is a process of its own that carries out one cell after the other. It ends with the bench, however that
ends.
"""

from __future__ import annotations

import multiprocessing
import os
import signal
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field
from multiprocessing.connection import Connection, wait
from multiprocessing.context import SpawnProcess
from pathlib import Path

from sastrugi.campaign.matrix import CellSpecimen
from sastrugi.campaign.specimens import SpecimenStore
from sastrugi.campaign.work import Done, Task, carry_out
from sastrugi.errors import Interrupted
from sastrugi.progress import Progress
from sastrugi.subprocess_pool import end_with

USUAL_MEMORY = 1 << 30
"""What a trial is taken to need whose engine says nothing: the memory of that many trials is not given out twice."""
_LOOK, _PATIENCE = 0.2, 20.0


@dataclass(slots=True)
class _Worker:
    process: SpawnProcess
    pipe: Connection
    task: Task | None = None


@dataclass(slots=True)
class Limits:
    """At most so many trials at once, of so much memory together, with so many bytes of specimens on the disk."""

    jobs: int
    memory: int | None = None
    disk: int | None = None
    keep_specimens: bool = True


@dataclass(slots=True)
class _Queue:
    """Cells that wait, by specimen. While one is being built, no other worker waits for it if there is other work."""

    tasks: list[Task]
    building: set[str] = field(default_factory=set)
    running: dict[str, int] = field(default_factory=dict)

    def take(self, store: SpecimenStore, room: Callable[[Task], bool]) -> Task | None:
        """The next cell: one whose specimen stands, before one whose specimen must be built."""
        fitting = [task for task in self.tasks if room(task)]
        ready = [task for task in fitting if store.has(task.cell.wanted)]
        new = [task for task in fitting if task.cell.wanted.key not in self.building]
        chosen = next(iter((*ready, *new)), None)
        if chosen is not None:
            self.tasks.remove(chosen)
            key = chosen.cell.wanted.key
            if not store.has(chosen.cell.wanted):
                self.building.add(key)
            self.running[key] = self.running.get(key, 0) + 1
        return chosen

    def ended(self, wanted: CellSpecimen) -> bool:
        """A cell of this specimen has ended; whether nothing else needs the specimen."""
        self.building.discard(wanted.key)
        self.running[wanted.key] -= 1
        return not self.running[wanted.key] and all(task.cell.wanted.key != wanted.key for task in self.tasks)


def run_here(
    tasks: list[Task],
    store: SpecimenStore,
    cells: Path,
    limits: Limits,
    progress: Progress,
    tell: Callable[[Done], None],
) -> None:
    """Carry out the cells; `tell` is called for each that has ended. Raises Interrupted when the user asks to stop:
    what has ended stands, what was under way is gone."""
    queue = _Queue(list(tasks))
    done = 0
    progress.start("cells", len(tasks), "cells")
    with _workers(min(limits.jobs, len(tasks)), store, cells) as workers:
        while at_work := _give_out(queue, workers, store, limits):
            progress.at(done, "; ".join(worker.task.cell.label for worker in at_work if worker.task))
            progress.check()
            ready = wait([worker.pipe for worker in at_work], timeout=_LOOK)
            for number, worker in enumerate(workers):
                if worker.pipe not in ready or worker.task is None:
                    continue
                came = _answer(worker)
                if came is None:
                    came = Done(worker.task.cell.key, "the process that carried it out was ended from outside")
                    workers[number] = _start(store, cells)
                done += 1
                unused = queue.ended(worker.task.cell.wanted)
                if unused and (not limits.keep_specimens or (limits.disk and store.bytes() > limits.disk)):
                    store.throw_away(worker.task.cell.wanted)
                worker.task = None
                tell(came)
    progress.finish()


def _give_out(queue: _Queue, workers: list[_Worker], store: SpecimenStore, limits: Limits) -> list[_Worker]:
    """Give work to those who have none; who is at work then."""
    for worker in workers:
        if worker.task is None:
            busy = [one.task for one in workers if one.task is not None]
            worker.task = queue.take(store, lambda task, busy=busy: _has_room(task, busy, limits))  # type: ignore[misc]
            if worker.task is not None:
                worker.pipe.send(worker.task)
    return [worker for worker in workers if worker.task is not None]


def _answer(worker: _Worker) -> Done | None:
    """What a worker says; None if it is gone."""
    try:
        came: Done = worker.pipe.recv()
    except (EOFError, OSError):
        return None
    return came


def _has_room(task: Task, busy: list[Task], limits: Limits) -> bool:
    """Whether one more fits into the memory; one alone always does."""
    if limits.memory is None or not busy:
        return True
    needed = [one.cell.engine.memory_limit or USUAL_MEMORY for one in (*busy, task)]
    return sum(needed) <= limits.memory


@contextmanager
def _workers(count: int, store: SpecimenStore, cells: Path) -> Iterator[list[_Worker]]:
    workers = [_start(store, cells) for _ in range(count)]
    try:
        yield workers
    finally:
        for worker in workers:
            worker.pipe.close()
            if worker.process.is_alive():
                worker.process.terminate()
        for worker in workers:
            worker.process.join(_PATIENCE)
            if worker.process.is_alive():
                worker.process.kill()
                worker.process.join()


def _start(store: SpecimenStore, cells: Path) -> _Worker:
    context = multiprocessing.get_context("spawn")
    ours, theirs = context.Pipe()
    process = context.Process(target=_serve, args=(theirs, store.folder, cells, os.getpid()))
    # A Ctrl-C reaches all processes of a terminal: until the worker ignores it, it waits.
    before = signal.pthread_sigmask(signal.SIG_BLOCK, {signal.SIGINT})
    try:
        process.start()
    finally:
        signal.pthread_sigmask(signal.SIG_SETMASK, before)
    theirs.close()
    return _Worker(process, ours)


def _serve(pipe: Connection, specimens: Path, cells: Path, parent: int) -> None:
    """A worker: carry out what comes through the pipe, until it closes or the bench says stop."""
    end_with(parent, signal.SIGTERM)
    progress = Progress()

    def stop(_number: int, _frame: object) -> None:
        progress.stop_asked = True

    signal.signal(signal.SIGTERM, stop)
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # the bench decides when to stop
    signal.pthread_sigmask(signal.SIG_UNBLOCK, {signal.SIGINT})
    store = SpecimenStore(specimens)
    with suppress(EOFError, OSError, Interrupted):
        while not progress.stop_asked:
            if pipe.poll(_LOOK):
                pipe.send(carry_out(pipe.recv(), store, cells, progress))
