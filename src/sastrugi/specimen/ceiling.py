"""How much of each file could still come back, worked out in two ways that must agree.

From the books: what was never written over. From a look: which 512-byte blocks of the original still stand at their
place. A look may find more (a block written over and later written back); the books may never.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from sastrugi.media import Medium
from sastrugi.media.extents import Extent, RangeSet, total
from sastrugi.media.filemap import FileMap
from sastrugi.specimen.blocks import BLOCK, runs_where
from sastrugi.specimen.truth import NameCeiling, Specimen, TruthFile

_WORD = 8
_READ = 4 << 20
_WORTH: tuple[NameCeiling, ...] = ("none", "type", "near", "name", "full")


def share_by_books(file: FileMap, gone: RangeSet) -> float:
    """The share of a file's bytes with a known place that was never written over (1 for an empty file)."""
    return file.right(gone).count(Extent(0, file.size)) / file.size if file.size else 1.0


def add_parts_of_units(
    medium: Medium, file: FileMap, gone: RangeSet, original: Callable[[int, int], bytes], standing: RangeSet
) -> None:
    """Add to the ranges of a file that stand what is still right in coded units of which something is gone: a decoder
    may get on for a while, and what was written over may be the rest of a block that the unit does not need. By a look;
    `original` gives the file's bytes by position and length."""
    for position, unit in file.units():
        if any(gone.overlap(extent) for extent in unit.stored):
            then = original(position, unit.length)
            now = file.read(medium, position, unit.length)
            for first, behind in runs_where(equal_blocks(now, then)):
                end = min(behind * BLOCK, unit.length)
                standing.add(Extent(position + first * BLOCK, end - first * BLOCK))


@dataclass(frozen=True, slots=True)
class Copy:
    """One version of a file with some content: which ranges of it (of the file, not of the medium) stand, and its path
    if it is a live file."""

    standing: RangeSet
    live: str = ""


@dataclass(frozen=True, slots=True)
class Share:
    """The share of a content that stands in any of its copies; that which stands only in live ones; and these."""

    bytes: float
    live: float = 0.0
    copies: tuple[str, ...] = ()


def share_of(size: int, copies: Sequence[Copy]) -> Share:
    """What stands of a content of `size` bytes in all its copies together."""
    if not size:
        return Share(1.0)
    whole = Extent(0, size)
    lost = RangeSet(part for copy in copies if not copy.live for part in copy.standing)
    standing = lost.count(whole)
    by_live, holders = 0, []
    for copy in copies:
        more = [gap for part in copy.standing.overlap(whole) for gap in lost.gaps(part)] if copy.live else []
        if more:
            by_live += total(more)
            holders.append(copy.live)
            for part in more:
                lost.add(part)
    return Share((standing + by_live) / size, by_live / size, tuple(holders))


def tells_nothing(block: bytes) -> bool:
    """Whether a block (or a shorter end of a file) could be found anywhere, or is too short to be found at all."""
    return len(block) < _WORD or block == (block[:_WORD] * (BLOCK // _WORD))[: len(block)]


def standing_blocks(specimen: Specimen, file: TruthFile) -> NDArray[np.bool_]:
    """Which 512-byte blocks of the original stand on the medium where the file lay, by looking. Shape: (blocks,)."""
    out = np.zeros(-(-file.size // BLOCK), bool)
    for position in range(0, file.size, _READ):
        then = specimen.original(file, position, _READ)
        now = file.map.read(specimen.medium, position, len(then)).ljust(len(then), b"\0")
        same = equal_blocks(now, then)
        out[position // BLOCK : position // BLOCK + len(same)] = same
    for part in (*file.unplaced, *_unreadable_in(file.map, specimen.medium)):
        out[part.offset // BLOCK : -(-part.end // BLOCK)] = False
    missing = np.flatnonzero(~out)
    known = RangeSet(file.unplaced)
    if len(missing) and all(n * BLOCK in known for n in missing.tolist()):
        # All that has a known place stands: then what tells nothing is no loss.
        out[missing] = [tells_nothing(specimen.original(file, n * BLOCK, BLOCK)) for n in missing.tolist()]
    return out


def _unreadable_in(file: FileMap, medium: Medium) -> list[Extent]:
    """The ranges of a file (not of the medium) that stand as they are on what cannot be read."""
    return [
        Extent(position + part.offset - extent.offset, part.length)
        for position, extent in (file.pieces() if medium.unreadable else ())
        for part in medium.unreadable.overlap(extent)
    ]


def equal_blocks(one: bytes, other: bytes) -> NDArray[np.bool_]:
    """For two byte strings of one length: which 512-byte blocks (the last may be shorter) are the same."""
    equal = np.frombuffer(one, "u1") == np.frombuffer(other, "u1")
    whole = len(equal) // BLOCK * BLOCK
    out = equal[:whole].reshape(-1, BLOCK).all(axis=1)
    return np.append(out, equal[whole:].all()) if whole < len(equal) else out


def share_by_look(file: TruthFile, blocks: NDArray[np.bool_]) -> float:
    """The share of a file's bytes in those of its blocks that stand (see `standing_blocks`)."""
    if not file.size:
        return 1.0
    missing = int(np.count_nonzero(~blocks)) * BLOCK
    if len(blocks) and not blocks[-1]:
        missing -= len(blocks) * BLOCK - file.size
    return 1 - missing / file.size


def with_shared_names(files: Iterable[TruthFile]) -> tuple[TruthFile, ...]:
    """The same files, whose ceilings of names also count what others tell: a file of the same content and name in
    another folder tells the name, and content that still stands the type."""
    files = list(files)
    twins: defaultdict[tuple[str, str], list[TruthFile]] = defaultdict(list)
    for file in files:
        twins[file.blake3, file.name].append(file)
    out: list[TruthFile] = []
    for file in files:
        told: list[NameCeiling] = [file.ceiling.name]
        if file.size:
            told += [_from_twin(file, twin) for twin in twins[file.blake3, file.name] if twin is not file]
            told += ["type"] if file.ceiling.bytes and "." in file.name else []
        best = max(told, key=_WORTH.index)
        if best != file.ceiling.name:
            file = replace(file, ceiling=replace(file.ceiling, name=best))
        out.append(file)
    return tuple(out)


def _from_twin(file: TruthFile, twin: TruthFile) -> NameCeiling:
    """What is told of a file's name by that of a file of the same name elsewhere; folders above do not count against a
    path."""
    if twin.ceiling.name not in ("full", "name"):
        return twin.ceiling.name
    in_root = file.path.count("/") == 1
    return "full" if in_root or (twin.ceiling.name == "full" and twin.path.endswith(file.path)) else "name"
