"""Files made in processes beside, ahead of whoever takes them: the same bytes, in the same order, sooner."""

from __future__ import annotations

import os
import signal
from collections import deque
from collections.abc import Callable, Generator, Iterator, Sequence
from concurrent.futures import Future, ProcessPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from contextlib import contextmanager, suppress
from multiprocessing import active_children, get_context
from typing import Protocol, TypeVar

from sastrugi.errors import SastrugiError
from sastrugi.subprocess_pool import end_with

_A_FILE, _A_BYTE = 1e-3, 5e-7
"""Seconds that making a file takes, and more for each of its bytes: about the mean of all kinds."""
_WORTH = 4.0
"""Seconds of making that pay for processes, which take half a second to start."""
_BATCH_FILES, _BATCH_BYTES = 64, 256 << 10
"""Files that a process makes at once, and bytes of them."""
_AHEAD = 64 << 20
"""Bytes that are made ahead at most."""


class ToMake(Protocol):
    """A file that can be made anywhere."""

    @property
    def size(self) -> int:
        """Bytes it will have, about."""

    def content(self) -> bytes:
        """Its bytes."""


T = TypeVar("T", bound=ToMake)


@contextmanager
def making(workers: int) -> Iterator[ProcessPoolExecutor]:
    """Processes that make files. They end with this one, however it ends. What they still make when the block fails, or
    is left early, is for nobody: they are killed. Raises SastrugiError where one of them was ended."""
    before = set(active_children())
    pool = ProcessPoolExecutor(workers, get_context("spawn"), _begin, (os.getpid(),))
    try:
        yield pool
    except BaseException as error:
        # What waits is not cancelled: the pool trips over that once its processes are gone (CPython 3.11).
        for child in set(active_children()) - before:
            child.kill()
        _close_results(pool)
        if isinstance(error, BrokenProcessPool):
            raise SastrugiError("a process that made files was ended: is there enough memory?") from error
        raise
    finally:
        pool.shutdown()


def _close_results(pool: ProcessPoolExecutor) -> None:
    """Tell a pool that no more of its results come. Its thread may have read half of one whose process is gone. It
    would wait for the rest for ever: this process holds the writing end of that pipe open, too (CPython 3.11 to 3.13).
    """
    with suppress(AttributeError, OSError):  # no public name leads there
        pool._result_queue._writer.close()  # type: ignore[attr-defined]


def _begin(parent: int) -> None:
    end_with(parent)
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # what Ctrl-C means, the other process decides


def contents(files: Sequence[T], workers: int, kept: Callable[[T], bool]) -> Generator[bytes]:
    """The bytes of each, in order. `kept` tells which need not be made. Without processes where `workers` is 1, or
    where making takes too little time for them to pay."""
    if workers < 2 or not _pays(files, kept):
        yield from (one.content() for one in files)
        return
    waiting: deque[tuple[int, Future[list[bytes]]]] = deque()
    ahead = 0
    with making(workers) as pool:
        for batch in _batches(files):
            size = sum(one.size for one in batch)
            while waiting and ahead + size > _AHEAD:
                first, made = waiting.popleft()
                ahead -= first
                yield from made.result()
            waiting.append((size, pool.submit(_made, batch)))
            ahead += size
        while waiting:
            yield from waiting.popleft()[1].result()


def _pays(files: Sequence[T], kept: Callable[[T], bool]) -> bool:
    left = _WORTH
    for one in files:
        left -= 0 if kept(one) else _A_FILE + _A_BYTE * one.size
        if left < 0:
            return True
    return False


def _batches(files: Sequence[T]) -> Iterator[list[T]]:
    batch: list[T] = []
    size = 0
    for one in files:
        batch.append(one)
        size += one.size
        if len(batch) == _BATCH_FILES or size > _BATCH_BYTES:
            yield batch
            batch, size = [], 0
    if batch:
        yield batch


def _made(batch: Sequence[ToMake]) -> list[bytes]:
    return [one.content() for one in batch]
