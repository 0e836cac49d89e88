"""Tasks in threads beside, for work that lets go of the interpreter: reading, digests, arithmetic on arrays."""

from __future__ import annotations

import os
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from typing import TypeVar

T = TypeVar("T")
R = TypeVar("R")

_MOST_THREADS = 8


def in_threads(task: Callable[[T], R], items: Iterable[T]) -> Iterator[tuple[T, R]]:
    """Each item with what `task` made of it, in order. Few are done ahead of what is taken, so that memory stays
    bounded; whoever stops taking stops the tasks."""
    workers = min(os.cpu_count() or 1, _MOST_THREADS)
    waiting: deque[tuple[T, Future[R]]] = deque()
    with ThreadPoolExecutor(workers) as pool:
        try:
            for item in items:
                waiting.append((item, pool.submit(task, item)))
                if len(waiting) > 2 * workers:
                    first, made = waiting.popleft()
                    yield first, made.result()
            while waiting:
                first, made = waiting.popleft()
                yield first, made.result()
        finally:
            pool.shutdown(cancel_futures=True)
