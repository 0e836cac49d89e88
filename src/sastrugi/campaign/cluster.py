"""Cells carried out on a Dask cluster: specimens are built there from recipe and seed, what is kept comes back."""

from __future__ import annotations

import logging
from collections.abc import Callable
from pathlib import Path
from typing import Any

from sastrugi.campaign.work import Done, Task, carry_out_there, keep
from sastrugi.errors import EngineError
from sastrugi.progress import Progress

_LOOK, _PATIENCE = 0.5, 20
_TRIES = 5
"""A cell is tried again elsewhere that often when its worker is lost."""


def there(task: Task) -> Done:
    """On a worker of the cluster: in a folder of that worker."""
    from distributed import get_worker

    place = Path(get_worker().local_directory, "sastrugi")
    place.mkdir(parents=True, exist_ok=True)
    return carry_out_there(task, str(place))


def run_on_cluster(
    address: str, tasks: list[Task], cells: Path, progress: Progress, tell: Callable[[Done], None]
) -> None:
    """Carry out the cells on the cluster whose scheduler is at `address` (`tcp://host:8786`). Raises EngineError where
    it cannot be reached or has no workers, Interrupted when the user asks to stop."""
    try:
        from distributed import Client, wait
    except ImportError as error:
        raise EngineError("--cluster needs Dask: pip install 'sastrugi[cluster]'") from error
    for name in ("distributed", "distributed.client", "distributed.comm"):
        logging.getLogger(name).setLevel(logging.CRITICAL)
    for task in tasks:
        if task.cell.wanted.folder is not None:
            raise EngineError(
                f"{task.cell.wanted.label}: is a specimen in a folder of this machine, and no recipe: "
                "leave --cluster out"
            )
    try:
        client: Any = Client(address, timeout=_PATIENCE)  # type: ignore[no-untyped-call]
    except (OSError, TimeoutError, ValueError) as error:
        raise EngineError(f"{address}: no scheduler answers there: start one with 'dask scheduler'") from error
    with client:
        if not client.scheduler_info(n_workers=-1)["workers"]:
            raise EngineError(f"{address}: the scheduler has no workers: start some with 'dask worker {address}'")
        futures: dict[Any, Task] = {
            client.submit(there, task, key=f"sastrugi-{task.cell.key}-{n}", retries=_TRIES, pure=False): task
            for n, task in enumerate(tasks)
        }  # fmt: skip
        done, waiting = 0, set(futures)
        progress.start("cells", len(tasks), "cells")
        while waiting:
            progress.check()
            try:
                ended = wait(waiting, timeout=_LOOK, return_when="FIRST_COMPLETED").done  # type: ignore[no-untyped-call]
            except TimeoutError:
                progress.at(done)
                continue
            for future in ended:
                waiting.discard(future)
                done += 1
                came = _result(future, futures[future])
                if not came.problem:
                    keep(came, cells)
                tell(Done(came.key, came.problem))
                progress.at(done, futures[future].cell.label)
        progress.finish()


def _result(future: Any, task: Task) -> Done:
    try:
        came: Done = future.result()
    except Exception as error:
        return Done(task.cell.key, f"the cluster could not carry it out: {type(error).__name__}: {str(error)[:160]}")
    return came
