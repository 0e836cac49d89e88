"""Results that are files which the bench itself laid down to make a case: buffers that make gaps, later use.

Nobody lost them, and a program that brings them back did nothing wrong: such results count in no figure.
"""

from __future__ import annotations

from collections import defaultdict
from functools import cached_property

import numpy as np

from sastrugi.media.extents import RangeSet
from sastrugi.scoring.names import NameVerdict, compare_names
from sastrugi.scoring.results import Result
from sastrugi.specimen.blocks import BLOCK, Hashes, block_hashes
from sastrugi.specimen.truth import Specimen, TruthFile

_PIECE = 4 << 20
_MOST_BLOCKS = 8 << 20
"""Blocks of the bench's files that are kept in memory (of 4 GiB); of more, the first."""


class BenchFiles:
    """The bench's own files of a specimen."""

    def __init__(self, specimen: Specimen) -> None:
        self._specimen = specimen
        self._files = [file for file in specimen.truth.files if specimen.truth.is_of_the_bench(file)]

    def is_one(self, file: TruthFile) -> bool:
        """Whether a file is the bench's."""
        return self._specimen.truth.is_of_the_bench(file)

    def includes(self, result: Result) -> bool:
        """Whether a result that is no other file is one of them: by its name and size, or by blocks that still stand of
        one that was written over in part, of which no original is kept."""
        return bool(self._files) and (self._is_named(result) or self._holds_blocks(result))

    @cached_property
    def _by_name(self) -> dict[str, list[tuple[str, int]]]:
        """Their paths and sizes, by name without its first character, which a deletion may have taken."""
        out: defaultdict[str, list[tuple[str, int]]] = defaultdict(list)
        for file in self._files:
            for path in {file.path, file.on_volume}:
                out[path.rpartition("/")[2].casefold()[1:]].append((path, file.size))
        return out

    def _is_named(self, result: Result) -> bool:
        name = result.named.rpartition("/")[2].casefold()
        like = [*self._by_name.get(name[1:], ()), *self._by_name.get(name, ())]
        return any(result.size <= size and compare_names(result.named, path) >= NameVerdict.NEAR for path, size in like)

    @cached_property
    def _blocks(self) -> Hashes:
        """Hashes, in order, of the blocks that stand of files of which no original is kept."""
        out: list[Hashes] = []
        room = _MOST_BLOCKS
        for file in self._files:
            if file.kept:
                continue
            for part in file.map.right(RangeSet(file.gone)):
                first = -(-part.offset // BLOCK) * BLOCK
                for at in range(first, part.end - BLOCK + 1, _PIECE):
                    length = min(_PIECE, part.end - at) // BLOCK * BLOCK
                    out.append(block_hashes(file.map.read(self._specimen.medium, at, length)))
                    room -= length // BLOCK
            if room <= 0:
                break
        known = np.unique(np.concatenate([*out, np.zeros(1, np.uint64)]))
        told: Hashes = known[known != 0]
        return told

    def _holds_blocks(self, result: Result) -> bool:
        known = self._blocks
        if not len(known) or result.size < BLOCK:
            return False
        try:
            with result.opened() as read:
                for at in range(0, min(result.size, self._specimen.medium.size), _PIECE):
                    hashes = block_hashes(read(at, _PIECE))
                    place = np.minimum(np.searchsorted(known, hashes), len(known) - 1)
                    if (known[place] == hashes).any():
                        return True
        except OSError:
            return False
        return False
