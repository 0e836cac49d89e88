"""How much of each file could still come back, worked out in two ways that must agree.

From the books: what was never written over. From a look: which 512-byte blocks of the original still stand at their
place. A look may find more (a block written over and later written back); the books may never.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Sequence

import numpy as np
from numpy.typing import NDArray

from sastrugi.media.extents import Extent, RangeSet, cut, total
from sastrugi.specimen.blocks import BLOCK
from sastrugi.specimen.truth import NameCeiling, Specimen, TruthFile

_WORTH: tuple[NameCeiling, ...] = ("none", "type", "near", "name", "full")


def share_by_books(extents: Sequence[Extent], size: int, gone: RangeSet) -> float:
    """The share of a file's bytes with a known place that was never written over (1 for an empty file)."""
    if not size:
        return 1.0
    return total(part for extent in cut(extents, size) for part in gone.gaps(extent)) / size


def standing_blocks(specimen: Specimen, file: TruthFile) -> NDArray[np.bool_]:
    """Which 512-byte blocks of the original stand on the medium where the file lay, by looking. Shape: (blocks,)."""
    out = np.zeros(-(-file.size // BLOCK), bool)
    for place, extent in file.places():
        position = place
        for at in range(0, extent.length, 1 << 22):
            length = min(1 << 22, extent.length - at)
            now = specimen.medium.read(extent.offset + at, length).ljust(length, b"\0")
            then = specimen.original(file, position, length)
            first = position // BLOCK
            same = equal_blocks(now, then)
            out[first : first + len(same)] = same
            position += length
    return out


def equal_blocks(one: bytes, other: bytes) -> NDArray[np.bool_]:
    """For two byte strings of one length: which 512-byte blocks (the last may be shorter) are the same."""
    equal = np.frombuffer(one, "u1") == np.frombuffer(other, "u1")
    whole = len(equal) // BLOCK * BLOCK
    out = equal[:whole].reshape(-1, BLOCK).all(axis=1)
    return np.append(out, equal[whole:].all()) if whole < len(equal) else out


def share_by_look(specimen: Specimen, file: TruthFile) -> float:
    """The share of a file's bytes in blocks that stand, by looking at the medium."""
    if not file.size:
        return 1.0
    blocks = standing_blocks(specimen, file)
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
            file = file.model_copy(update={"ceiling": file.ceiling.model_copy(update={"name": best})})
        out.append(file)
    return tuple(out)


def _from_twin(file: TruthFile, twin: TruthFile) -> NameCeiling:
    """What is told of a file's name by that of a file of the same name elsewhere; folders above do not count against a
    path."""
    if twin.ceiling.name not in ("full", "name"):
        return twin.ceiling.name
    in_root = file.path.count("/") == 1
    return "full" if in_root or (twin.ceiling.name == "full" and twin.path.endswith(file.path)) else "name"
