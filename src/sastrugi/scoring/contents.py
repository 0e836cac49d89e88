"""The distinct contents among reference files: who has them, what of them still stands, and which a name or a size
suggests."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator, Sequence
from functools import cached_property
from pathlib import Path
from threading import Lock

import numpy as np
from numpy.typing import NDArray

from sastrugi.errors import SpecimenError
from sastrugi.media import Extent, RangeSet
from sastrugi.progress import Progress
from sastrugi.scoring.comparison import Comparison, Gone, any_varied
from sastrugi.scoring.names import NameVerdict, compare_names
from sastrugi.specimen.blocks import BLOCK, Hashes, block_hashes, runs_where
from sastrugi.specimen.ceiling import standing_blocks
from sastrugi.specimen.digests import blake3_file
from sastrugi.specimen.truth import Specimen, TruthFile

MOST_SUGGESTED = 8
"""Contents that a name suggests, and files of one content that are offered to one result."""
_MOST_LOOKED_AT = 64
_AT_ONCE = 8192
"""Blocks that are hashed together (4 MiB)."""
_MOST_SIZED = 4
_MOST_ENDS = 256
_PIECE = 4 << 20


class Contents:
    """`files` are the references; a content is named by the index of the first file that has it."""

    def __init__(self, specimen: Specimen, files: Sequence[TruthFile]) -> None:
        self.specimen, self.files = specimen, files
        self.twins: dict[str, list[int]] = {}
        for n, file in enumerate(files):
            self.twins.setdefault(file.blake3, []).append(n)
        self.sizes = {file.size for file in files}
        self._gone: dict[int, Gone | None] = {}
        self._not_elsewhere: dict[int, Gone] = {}
        """The same without what was found elsewhere on the medium, of contents of which that was looked for."""
        self._beyond: dict[int, bool] = {}
        self._trusted: set[int] = set()
        self._lock = Lock()

    def __iter__(self) -> Iterator[int]:
        return (twins[0] for twins in self.twins.values())

    def same_as(self, content: int) -> list[int]:
        """The files that have a content, lost ones first."""
        twins = self.twins[self.files[content].blake3]
        return twins if len(twins) == 1 else sorted(twins, key=lambda n: (not self.files[n].lost, n))

    # -- what stands ------------------------------------------------------------------------

    @cached_property
    def _copies(self) -> dict[str, list[TruthFile]]:
        """Every version of every file with its content, also those that are no references."""
        out: defaultdict[str, list[TruthFile]] = defaultdict(list)
        for file in self.specimen.truth.files:
            out[file.blake3].append(file)
        return out

    def gone(self, content: int) -> Gone | None:
        """What of a content stands nowhere any more, as far as is known; None if all of it stands."""
        return self._not_elsewhere.get(content) or self._gone_from_its_places(content)

    def _gone_from_its_places(self, content: int) -> Gone | None:
        """What of a content stands in none of the places where it was laid."""
        file = self.files[content]
        if file.untouched or file.ceiling.intact:
            return None
        with self._lock:
            if content not in self._gone:
                standing = RangeSet()
                for copy in self._copies[file.blake3]:
                    for part in standing_ranges(self.specimen, copy):
                        standing.add(part)
                gone = Gone.of(file.size, standing)
                self._gone[content] = gone if gone.blocks.any() else None
            return self._gone[content]

    def tells(self, content: int, by_name: bool) -> bool:
        """Whether what stands of a content tells that it is this one: whether a result that holds just that would be
        taken for it. `by_name`: such a result can also bear the file's name."""
        gone = self._gone_from_its_places(content)  # what results it is asked for does not count here
        if gone is None:
            return True
        size = self.files[content].size
        comparison = Comparison(size, size, gone, by_name)
        for position in range(0, size, _PIECE):
            then = np.empty(min(_PIECE, size - position), np.uint8)
            self.original_into(content, position, then)
            now = then ^ np.uint8(0xFF)
            for lo, hi in gone.standing(position, len(then)):
                now[lo - position : hi - position] = then[lo - position : hi - position]
            comparison.add(position, then, now)
            if comparison.telling:
                return True
        return comparison.result(size).telling

    def attainable(self, content: int) -> int:
        """Bytes of a content that stand anywhere on the medium."""
        file = self.files[content]
        return round(file.ceiling.bytes * file.size)

    def beyond(self, content: int) -> bool:
        """Whether nobody can have the whole of it: something is gone that cannot be guessed."""
        if content not in self._beyond:
            gone = self.gone(content)
            varied = False
            if gone is not None:
                for n in np.flatnonzero(gone.blocks).tolist():
                    block = np.frombuffer(self.specimen.original(self.files[content], n * BLOCK, BLOCK), "u1")
                    if any_varied(block, np.ones(1, bool)):
                        varied = True
                        break
            self._beyond[content] = varied
        return self._beyond[content]

    def find_elsewhere(self, suspects: Iterable[int], progress: Progress) -> None:
        """Of the blocks of these contents that are gone from where they lay, take those as standing that are found
        anywhere else on the medium, where a block of a file can begin."""
        wanted: list[Hashes] = []
        places: list[tuple[int, int]] = []
        ends: defaultdict[int, list[tuple[int, bytes]]] = defaultdict(list)
        for content in suspects:
            lost = self.gone(content)
            gone = lost.blocks if lost is not None else None
            size = self.files[content].size
            if gone is not None and gone[-1] and size % BLOCK and size > BLOCK:
                last = self.specimen.original(self.files[content], (len(gone) - 2) * BLOCK, 2 * BLOCK)
                ends[int(block_hashes(last[:BLOCK])[0])].append((content, last[BLOCK:]))
            for lo, hi in runs_where(gone) if gone is not None else ():
                for first in range(lo, hi, _AT_ONCE):
                    behind = min(first + _AT_ONCE, hi)
                    length = min(behind * BLOCK, self.files[content].size) - first * BLOCK
                    hashes = block_hashes(self.specimen.original(self.files[content], first * BLOCK, length))
                    wanted.append(hashes)
                    places += [(content, first + n) for n in range(len(hashes))]
        if not wanted:
            return
        values = np.concatenate(wanted)
        known = np.unique(values[values != 0])
        seen = np.zeros(len(known), bool)
        before_ends = np.array(sorted(ends), values.dtype)
        medium = self.specimen.medium
        progress.start("medium", medium.size)
        for extent in medium.data_ranges():
            start = extent.offset // BLOCK * BLOCK
            for at in range(start, extent.end if len(known) else start, _AT_ONCE * BLOCK):
                hashes = block_hashes(medium.read(at, min(_AT_ONCE * BLOCK, extent.end - at)))
                found = np.minimum(np.searchsorted(known, hashes), len(known) - 1)
                seen[found[known[found] == hashes]] = True
                for n in np.flatnonzero(np.isin(hashes, before_ends))[:_MOST_ENDS].tolist():
                    self._find_ends(ends[int(hashes[n])], at + (n + 1) * BLOCK)
                progress.at(at)
                progress.check()
        progress.finish()
        self._beyond.clear()
        standing = set(known[seen].tolist())
        for (content, n), value in zip(places, values.tolist(), strict=True):
            if value in standing:
                self._known_elsewhere(content).blocks[n] = False

    def _known_elsewhere(self, content: int) -> Gone:
        """What is gone of a content, to be changed by what is found elsewhere."""
        if content not in self._not_elsewhere:
            gone = self._gone[content]
            assert gone is not None
            self._not_elsewhere[content] = Gone(gone.blocks.copy(), gone.parts)
        return self._not_elsewhere[content]

    def _find_ends(self, ends: list[tuple[int, bytes]], at: int) -> None:
        """Where the last whole block of contents stands before `at`: take their ends as standing that follow there."""
        for content, end in ends:
            gone = self.gone(content)
            if gone is not None and gone.blocks[-1] and self.specimen.medium.read(at, len(end)) == end:
                self._known_elsewhere(content).blocks[-1] = False

    def original_into(self, content: int, position: int, buffer: NDArray[np.uint8]) -> None:
        """Bytes of a content. Raises SpecimenError if its original is not what the truth says."""
        file = self.files[content]
        if not file.untouched and content not in self._trusted:
            _require_original(self.specimen, file)
            self._trusted.add(content)
        self.specimen.original_into(file, position, buffer)

    # -- what a name or a size suggests -----------------------------------------------------

    @cached_property
    def _by_name(self) -> dict[str, list[int]]:
        out: defaultdict[str, list[int]] = defaultdict(list)
        for n, file in enumerate(self.files):
            for key in _keys(file.path):
                out[key].append(n)
        return out

    @cached_property
    def _by_size(self) -> dict[int, list[int]]:
        out: defaultdict[int, list[int]] = defaultdict(list)
        for content in self:
            out[self.files[content].size].append(content)
        return out

    def named(self, path: str) -> list[int]:
        """The files whose names are the most like that of a result: at most MOST_SUGGESTED."""
        found: dict[int, NameVerdict] = {}
        for key in _keys(path):
            for n in self._by_name.get(key, ())[:_MOST_LOOKED_AT]:
                if n not in found:
                    found[n] = compare_names(path, self.files[n].path)
        near = sorted((n for n, verdict in found.items() if verdict >= NameVerdict.NEAR), key=lambda n: (-found[n], n))
        return near[:MOST_SUGGESTED]

    def is_named(self, content: int, path: str) -> bool:
        """Whether a result of this path bears the name of a file with this content."""
        own = self.twins[self.files[content].blake3]
        return any(n in own and compare_names(path, self.files[n].path) >= NameVerdict.NAME for n in self.named(path))

    def suggested(self, path: str, size: int) -> set[int]:
        """Contents of files that are named like a result, or have its size."""
        named = {self.twins[self.files[n].blake3][0] for n in self.named(path)}
        sized = self._by_size.get(size, ())
        return named | set(sized[: _MOST_SIZED if size >= BLOCK else _MOST_LOOKED_AT])


def _keys(path: str) -> list[str]:
    """What a path is looked for by, the most telling first: folder and name, name, name without its first character."""
    parts = path.casefold().strip("/").split("/")
    return ["/".join(parts[-2:]), parts[-1], parts[-1][1:]]


def standing_ranges(specimen: Specimen, file: TruthFile) -> RangeSet:
    """The ranges of a file (not of the medium) that still stand where it lay."""
    if file.untouched:
        return RangeSet((Extent(0, file.size),))
    if file.map.coded and file.kept:  # of a damaged unit some may still be right
        runs = runs_where(standing_blocks(specimen, file))
        return RangeSet(Extent(lo * BLOCK, min(hi * BLOCK, file.size) - lo * BLOCK) for lo, hi in runs)
    return file.map.right(RangeSet(file.gone))


def _require_original(specimen: Specimen, file: TruthFile) -> None:
    where = specimen.original_at(file)
    assert isinstance(where, Path)
    try:
        same = blake3_file(where) == file.blake3
    except OSError:
        same = False
    if not same:
        raise SpecimenError(
            f"{specimen.folder}: does not match its truth any more: {file.path}, in originals, is missing or has other "
            "bytes: build it again, or see all with 'sastrugi audit'"
        )
