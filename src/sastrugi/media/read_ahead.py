"""Reading in a thread beside, so that what is read next is there when it is asked for."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import suppress
from queue import Empty, Queue
from threading import Event, Thread
from typing import TypeVar

T = TypeVar("T")


def ahead(chunks: Iterator[T], depth: int = 3) -> Iterator[T]:
    """The same chunks, made in a thread beside, up to `depth` of them before they are asked for."""
    made: Queue[T | BaseException | None] = Queue(depth)
    stop = Event()

    def run() -> None:
        try:
            for chunk in chunks:
                made.put(chunk)
                if stop.is_set():
                    return
            made.put(None)
        except BaseException as error:
            made.put(error)

    thread = Thread(target=run, daemon=True)
    thread.start()
    try:
        while (got := made.get()) is not None:
            if isinstance(got, BaseException):
                raise got
            yield got
    finally:
        stop.set()
        while thread.is_alive():  # it may wait for room
            with suppress(Empty):
                made.get(timeout=0.01)
