"""The headline figures, of all files and of those that share a property."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Sequence

from sastrugi.kinds import all_kinds
from sastrugi.scoring.scorecard import Figure, FileScore, Group, figure

_SIZES = ((4 << 10, "to 4 KiB"), (64 << 10, "to 64 KiB"), (1 << 20, "to 1 MiB"), (16 << 20, "to 16 MiB"))
_LARGER = "larger"
_MOST_PIECES = 3
BY: dict[str, Callable[[FileScore], str]] = {
    "kind": lambda f: f.kind,
    "group": lambda f: f.group,
    "loss": lambda f: f.loss,
    "life": lambda f: f"{f.volume}, life {f.life}",
    "volume": lambda f: f.volume,
    "pieces": lambda f: f"{f.pieces}" if f.pieces < _MOST_PIECES else f"{_MOST_PIECES} or more",
    "size": lambda f: size_class(f.size),
    "name": lambda f: f.ceiling_name,
    "ceiling": lambda f: "whole" if f.ceiling_bytes == 1 else "part" if f.ceiling_bytes else "gone",
}
"""What files are grouped by, each with the key of a file."""
_ORDER = ("0", *(name for _, name in _SIZES), _LARGER)


def size_class(size: int) -> str:
    if not size:
        return "0"
    return next((name for most, name in _SIZES if size <= most), _LARGER)


def group_of(kind: str) -> str:
    known = all_kinds().get(kind)
    return known.group if known else "data"


def headline_of(scores: Sequence[FileScore]) -> dict[str, Figure]:
    """Intact, complete, named and all three of these files. Empty ones count in names, not in content."""
    filled = [s for s in scores if s.size]
    attainable = [s for s in filled if s.ceiling_bytes == 1.0 or s.intact]
    return {
        "intact": figure(sum(s.intact for s in filled), len(filled), len(attainable)),
        "complete": figure(
            sum(s.completeness for s in filled), len(filled), sum(s.ceiling_bytes for s in filled), False
        ),
        "named": figure(sum(s.named for s in scores), len(scores), sum(s.ceiling_name == "full" for s in scores)),
        "all_three": figure(
            sum(s.intact and s.named for s in filled),
            len(filled),
            sum(s.ceiling_name == "full" for s in attainable),
        ),
    }


def complete_bytes(scores: Sequence[FileScore]) -> Figure:
    """Bytes that came back in place."""
    return figure(
        sum(s.completeness * s.size for s in scores),
        sum(s.size for s in scores),
        sum(s.ceiling_bytes * s.size for s in scores),
        False,
    )


def groups_of(scores: Sequence[FileScore]) -> dict[str, tuple[Group, ...]]:
    """The same by each property of BY, in order of the keys (of sizes: of size)."""
    out: dict[str, tuple[Group, ...]] = {}
    for by, key_of in BY.items():
        members: defaultdict[str, list[FileScore]] = defaultdict(list)
        for score in scores:
            members[key_of(score)].append(score)
        keys = sorted(members, key=lambda key: (_ORDER.index(key) if key in _ORDER else -1, key))
        out[by] = tuple(_group(key, members[key]) for key in keys)
    return out


def _group(key: str, scores: Sequence[FileScore]) -> Group:
    return Group(
        key=key,
        files=len(scores),
        bytes=sum(s.size for s in scores),
        attainable=sum(s.ceiling_bytes == 1.0 for s in scores),
        **headline_of(scores),
    )
