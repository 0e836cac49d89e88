"""Which clusters of a volume being written are in use.

Kept in pieces that exist only where something was allocated, so that memory follows the data on the volume and not
its capacity.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from itertools import chain

import numpy as np
from numpy.typing import NDArray

from sastrugi.errors import VolumeError
from sastrugi.units import format_size

PIECE = 1 << 15
"""Clusters in one piece."""

Run = tuple[int, int]
"""First cluster and number of clusters."""


def runs_of(flags: NDArray[np.generic], start: int) -> Iterator[Run]:
    """Runs of non-zero elements, counted from `start`."""
    used = np.flatnonzero(flags)
    if len(used):
        first = np.flatnonzero(np.diff(used, prepend=-2) != 1)
        lengths = np.diff(first, append=len(used))
        yield from zip((used[first] + start).tolist(), lengths.tolist(), strict=True)


class ClusterMap:
    """Used and free clusters `first … first+count`. `last` is the cluster allocated last, `highest` the highest ever
    allocated: what lies above was never used in this life."""

    def __init__(self, first: int, count: int, cluster_size: int) -> None:
        self.first, self.end = first, first + count
        self.free = count
        self.last = self.highest = first - 1
        self.changed: set[int] = set()
        self._cluster_size = cluster_size
        self._pieces: dict[int, NDArray[np.bool_]] = {}

    def piece(self, index: int) -> NDArray[np.bool_]:
        """The used flags of clusters [first + index*PIECE, …), made if they do not exist."""
        found = self._pieces.get(index)
        if found is None:
            found = self._pieces[index] = np.zeros(PIECE, bool)
        return found

    def mark(self, runs: Iterable[Run], used: bool) -> None:
        for start, length in runs:
            at = start
            while at < start + length:
                index, inside = divmod(at - self.first, PIECE)
                count = min(PIECE - inside, start + length - at)
                self.piece(index)[inside : inside + count] = used
                self.changed.add(index)
                at += count
            self.free += -length if used else length

    def free_runs(self, start: int, stop: int) -> Iterator[Run]:
        """Runs of free clusters in [start, stop), in order."""
        at = max(start, self.first)
        stop = min(stop, self.end)
        while at < stop:
            index, inside = divmod(at - self.first, PIECE)
            upto = min(self.first + (index + 1) * PIECE, stop)
            piece = self._pieces.get(index)
            if piece is None:
                yield at, upto - at
            else:
                flags = np.concatenate(([True], piece[inside : inside + upto - at], [True]))
                edges = np.flatnonzero(flags[1:] != flags[:-1])
                for lo, hi in edges.reshape(-1, 2):
                    yield at + int(lo), int(hi - lo)
            at = upto

    def take(self, count: int, begin: int | None = None) -> list[Run]:
        """Allocate `count` clusters, searching from `begin` on and around; by default behind the last allocation.

        Raises VolumeError, saying how much is missing, if there are not so many.
        """
        if count > self.free:
            missing = (count - self.free) * self._cluster_size
            raise VolumeError(f"the volume is full: {format_size(missing)} more are needed")
        begin = self.last + 1 if begin is None else begin
        if not self.first <= begin < self.end:
            begin = self.first
        index, inside = divmod(begin - self.first, PIECE)
        piece = self._pieces.get(index)
        if 0 < count <= min(PIECE - inside, self.end - begin) and (
            piece is None or not piece[inside : inside + count].any()
        ):
            return self._taken([(begin, count)])
        runs: list[Run] = []
        left = count
        for start, length in chain(self.free_runs(begin, self.end), self.free_runs(self.first, begin)):
            if not left:
                break
            length = min(length, left)
            runs.append((start, length))
            left -= length
        return self._taken(join_runs(runs))

    def _taken(self, runs: list[Run]) -> list[Run]:
        self.mark(runs, True)
        if runs:
            self.last = runs[-1][0] + runs[-1][1] - 1
            self.highest = max(self.highest, *(start + length - 1 for start, length in runs))
        return runs

    def release(self, runs: Iterable[Run]) -> None:
        self.mark(runs, False)


def join_runs(runs: Iterable[Run]) -> list[Run]:
    """Neighbouring runs as one."""
    out: list[Run] = []
    for start, length in runs:
        if out and out[-1][0] + out[-1][1] == start:
            out[-1] = (out[-1][0], out[-1][1] + length)
        else:
            out.append((start, length))
    return out


def runs_without(runs: Iterable[Run], kept: Iterable[Run]) -> list[Run]:
    """What runs have that others, which are their beginning, have not."""
    skip = sum(count for _, count in kept)
    out: list[Run] = []
    for start, count in runs:
        if skip < count:
            out.append((start + skip, count - skip))
        skip = max(skip - count, 0)
    return out
