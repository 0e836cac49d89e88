"""The headline figures, of all files and of those that share a property."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from sastrugi.kinds import all_kinds
from sastrugi.scoring.scorecard import Figure, FileScore, Group, figure

_SIZES = ((4 << 10, "to 4 KiB"), (64 << 10, "to 64 KiB"), (1 << 20, "to 1 MiB"), (16 << 20, "to 16 MiB"))
_LARGER = "larger"
_MOST_PIECES = 3
BY: dict[str, Callable[[FileScore], str]] = {
    "kind": lambda f: f.kind,
    "group": lambda f: f.group,
    "loss": lambda f: f.loss,
    "file-system": lambda f: f.file_system or "–",
    "life": lambda f: f"{f.volume}, life {f.life}",
    "volume": lambda f: f.volume,
    "pieces": lambda f: f"{f.pieces}" if f.pieces < _MOST_PIECES else f"{_MOST_PIECES} or more",
    "size": lambda f: size_class(f.size),
    "name": lambda f: f.ceiling_name,
    "ceiling": lambda f: _ceiling_class(f),
}
"""What files are grouped by, each with the key of a file."""
_ORDER = ("0", *(name for _, name in _SIZES), _LARGER)


def _ceiling_class(file: FileScore) -> str:
    if file.ceiling_live:
        return "live copy"
    return "whole" if file.ceiling_bytes == 1 else "part" if file.ceiling_bytes else "gone"


def size_class(size: int) -> str:
    if not size:
        return "0"
    return next((name for most, name in _SIZES if size <= most), _LARGER)


def group_of(kind: str) -> str:
    known = all_kinds().get(kind)
    return known.group if known else "data"


class Columns:
    """What the headline is made of, as arrays: one item a file."""

    def __init__(self, scores: Sequence[FileScore]) -> None:
        self.size = np.array([s.size for s in scores], np.float64)
        self.intact = np.array([s.intact for s in scores], bool)
        self.completeness = np.array([s.completeness for s in scores], np.float64)
        # A file of which nothing stands that tells whose it is can come back in no part, and its name with nothing.
        self.ceiling = np.array([s.ceiling_bytes * s.ceiling_tells for s in scores], np.float64)
        something = (self.ceiling > 0) | self.intact | (self.size == 0)
        self.named = something & np.array([s.named for s in scores], bool)
        self.ceiling_named = (self.ceiling > 0) & np.array([s.ceiling_name == "full" for s in scores], bool)

    def attainable(self, of: NDArray[np.int64]) -> NDArray[np.int64]:
        """Those of these files of which every byte still stands. Empty ones have none."""
        chosen: NDArray[np.int64] = of[(self.size[of] > 0) & (self.ceiling[of] == 1)]
        return chosen

    def headline(self, of: NDArray[np.int64]) -> dict[str, Figure]:
        """Intact, complete, named and all three of these files. Empty ones count in names, not in content."""
        filled = of[self.size[of] > 0]
        attainable = self.attainable(of)
        intact = filled[self.intact[filled]]
        return {
            "intact": figure(len(intact), len(filled), len(attainable)),
            "complete": figure(
                float(self.completeness[filled].sum()), len(filled), float(self.ceiling[filled].sum()), False
            ),
            "named": figure(int(self.named[of].sum()), len(of), int(self.ceiling_named[of].sum())),
            "all_three": figure(int(self.named[intact].sum()), len(filled), int(self.ceiling_named[attainable].sum())),
        }

    def by_bytes(self) -> dict[str, Figure]:
        """Bytes of files that came back intact, and bytes that came back in place."""
        total, whole = float(self.size.sum()), self.ceiling == 1
        return {
            "intact_bytes": figure(
                float(self.size[self.intact].sum()), int(total), float(self.size[whole].sum()), False
            ),
            "complete_bytes": figure(
                float((self.completeness * self.size).sum()), int(total), float((self.ceiling * self.size).sum()), False
            ),
        }

    def group(self, key: str, of: NDArray[np.int64]) -> Group:
        return Group(
            key=key,
            files=len(of),
            bytes=int(self.size[of].sum()),
            attainable=len(self.attainable(of)),
            **self.headline(of),
        )


def figures_of(scores: Sequence[FileScore]) -> dict[str, Any]:
    """The headline, the same weighted by bytes, and `groups`: the headline by each property of BY, in order of the
    keys (of sizes: of size)."""
    columns = Columns(scores)
    groups: dict[str, tuple[Group, ...]] = {}
    for by, key_of in BY.items():
        members: defaultdict[str, list[int]] = defaultdict(list)
        for n, score in enumerate(scores):
            members[key_of(score)].append(n)
        keys = sorted(members, key=lambda key: (_ORDER.index(key) if key in _ORDER else -1, key))
        groups[by] = tuple(columns.group(key, np.array(members[key])) for key in keys)
    return {**columns.headline(np.arange(len(scores))), **columns.by_bytes(), "groups": groups}
