"""Reading HFS Plus and HFSX volumes: what stands now, and what is left of what stood before."""

from __future__ import annotations

from collections.abc import Iterator
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from sastrugi.media.base import Medium
from sastrugi.media.extents import Extent, RangeSet
from sastrugi.volumes.hfsplus.catalog_read import CatalogRecord, Fork, Known, Overflow, overflow_at, records_at, runs_of
from sastrugi.volumes.hfsplus.journal_read import Journal, find_journal
from sastrugi.volumes.hfsplus.layout import (
    ALLOCATION_FILE,
    ATTRIBUTES_FILE,
    BACKUP_FROM_END,
    CATALOG_FILE,
    DATA_FORK,
    EXTENTS_FILE,
    FILE_RECORD,
    FOLDER_RECORD,
    FOLDER_THREAD,
    HEADER_AT,
    HEADER_SIZE,
    HFSX,
    IS_FILE,
    JOURNAL_INFO_NAME,
    JOURNAL_NAME,
    JOURNALED,
    KIND_MASK,
    MOUNTED_BY_LINUX,
    PRIVATE_FOLDER,
    RESOURCE_FORK,
    RESOURCE_STREAM,
    ROOT,
    STARTUP_FILE,
    UNMOUNTED,
    Geometry,
)
from sastrugi.volumes.hfsplus.mapping import ForkKey, all_runs, grouped, map_of
from sastrugi.volumes.hfsplus.past import Past
from sastrugi.volumes.hfsplus.pool import LOST_FOLDER, Path, times_of
from sastrugi.volumes.hfsplus.tree_read import TreeFile
from sastrugi.volumes.reader import OWN_TABLES, Conflict, Entry, Numbered, Placement, Volume
from sastrugi.volumes.space import OwnedSpace

_MOST_DEPTH = 256
_PRIVATE_FOLDERS = (PRIVATE_FOLDER, ".HFS+ Private Directory Data\r")
"""Where files and folders are kept that have several names."""
_BITS_AT_ONCE = 1 << 20
_MOST_NUMBERS = 1 << 31
_WANTED = frozenset((FILE_RECORD, FOLDER_RECORD, FOLDER_THREAD))
_FORKS = (
    ("allocation file", "allocation_file", ALLOCATION_FILE),
    ("extents overflow file", "extents_file", EXTENTS_FILE),
    ("catalog file", "catalog_file", CATALOG_FILE),
    ("attributes file", "attributes_file", ATTRIBUTES_FILE),
    ("startup file", "startup_file", STARTUP_FILE),
)


class HfsVolume(Volume):
    """One volume, opened for reading."""

    family = "hfsplus"
    tells_all_places = True

    def __init__(self, medium: Medium, geometry: Geometry, row: np.void, by_copy: bool) -> None:
        self._medium, self.geometry, self._row = medium, geometry, row
        room = max(medium.size - geometry.offset, 0)
        self.where = Extent(geometry.offset, min(geometry.size, room))
        self.data = Extent(geometry.offset, min(geometry.blocks * geometry.block, room))
        self.cluster_size = geometry.block
        self.file_system = "HFSX" if int(row["signature"]) == HFSX else "HFS+"
        self.serial = f"{int(row['serial']):016X}"
        self.next_number = int(row["next_number"])
        self.makes_empty = bytes(row["mounted_by"]) == MOUNTED_BY_LINUX
        """Whether the driver that wrote it last makes files empty, and tells their sizes later."""
        self.health = []
        self.mountable = not by_copy
        if by_copy:
            self.health.append("the volume header is damaged: its copy was used")
        elif not int(row["attributes"]) & UNMOUNTED:
            self.health.append("it was not unmounted")
        self.extents_tree = self._tree("extents_file", {})
        self._further = self._read_further()
        self.catalog = self._tree("catalog_file", self._further)
        for tree, name in ((self.extents_tree, "extents overflow file"), (self.catalog, "catalog")):
            self._check(tree, name)
        if int(row["attributes_file"]["size"]):
            tree = self._tree("attributes_file", self._further)
            if not tree.good:
                self._check(tree, "attributes file")
        self.created: dict[int, int] = {}
        """When each file and folder that stands was made, by its number."""
        self.starts: dict[int, int] = {}
        """The block at which each file that stands begins."""
        self.made, self.label = 0, ""
        self._files: list[tuple[CatalogRecord, tuple[Extent, ...]]] = []
        self._folders: dict[int, tuple[CatalogRecord, tuple[Extent, ...]]] = {}
        self._read_catalog()

    # -- trees ------------------------------------------------------------------------------

    def _check(self, tree: TreeFile, name: str) -> None:
        if not tree.good:
            self.health.append(f"the header of the {name} is damaged")
            self.mountable = False
        elif not tree.leaves[1]:
            self.health.append(f"the row of nodes of the {name} is broken")

    def _fork(self, name: str) -> Fork:
        row = self._row[name]
        runs = runs_of(row["extents"]["start"].tolist(), row["extents"]["count"].tolist())
        return Fork(int(row["size"]), int(row["blocks"]), runs)

    def _own_extents(self, name: str, number: int, further: dict[ForkKey, list[Overflow]]) -> tuple[Extent, ...]:
        """Where one of the volume's own files lies; what of it cannot be is left out."""
        g = self.geometry
        runs = all_runs(self._fork(name), further.get((number, DATA_FORK), ()))
        return tuple(
            Extent(g.at(start), count * g.block)
            for start, count in runs
            if start + count <= g.blocks and g.at(start + count) <= self._medium.size
        )

    def _tree(self, name: str, further: dict[ForkKey, list[Overflow]]) -> TreeFile:
        number = next(number for _, fork, number in _FORKS if fork == name)
        extents = self._own_extents(name, number, further)
        return TreeFile(self._medium, extents, self._fork(name).size)

    def _read_further(self) -> dict[ForkKey, list[Overflow]]:
        """The records of the extents overflow file."""
        every: list[Overflow] = []
        tree = self.extents_tree
        for data, _, spans in tree.records(tree.leaves[0]):
            every += overflow_at(data, spans.starts)
        return dict(grouped(every))

    def _read_catalog(self) -> None:
        tree = self.catalog
        threads: dict[int, tuple[CatalogRecord, tuple[Extent, ...]]] = {}
        for data, numbers, spans in tree.records(tree.leaves[0]):
            for record in records_at(data, spans.starts, spans.ends, _WANTED):
                at = int(numbers[record.at // tree.node]) * tree.node + record.at % tree.node
                one = record, tree.places(at, record.length)
                if record.kind == FILE_RECORD:
                    self._files.append(one)
                elif record.kind == FOLDER_RECORD:
                    self._folders.setdefault(record.number, one)
                elif record.kind == FOLDER_THREAD:
                    threads.setdefault(record.number, one)
        for number, thread in threads.items():
            self._folders.setdefault(number, thread)  # its record is in a node that is damaged
        for record, _ in self._files:
            self.created[record.number] = record.created
            if record.data.runs:
                self.starts[record.number] = record.data.runs[0][0]
        for number, (record, _) in self._folders.items():
            self.created[number] = record.created
        root = self._folders.get(ROOT)
        if root is None:
            self.health.append("the record of the root is lost")
            self.mountable = False
        else:
            self.label, self.made = root[0].name or "", root[0].created

    # -- names ------------------------------------------------------------------------------

    @cached_property
    def paths(self) -> dict[int, Path]:
        """The paths of the folders that can be reached from the root, by their numbers."""
        out: dict[int, Path] = {ROOT: ()}
        for number in self._folders:
            way: list[int] = []
            seen: set[int] = set()
            at = number
            while at in self._folders and at not in out and at not in seen and len(way) < _MOST_DEPTH:
                seen.add(at)
                way.append(at)
                at = self._folders[at][0].parent
            if at in out:
                for one in reversed(way):
                    record = self._folders[one][0]
                    out[one] = (*out[record.parent], record.name or "")
        return out

    def is_own(self, name: str) -> bool:
        """Whether a name in the root is of the volume's own files or folders."""
        return name in _PRIVATE_FOLDERS or name in (JOURNAL_NAME, JOURNAL_INFO_NAME)

    @cached_property
    def _apart(self) -> dict[int, tuple[CatalogRecord, tuple[Extent, ...]]]:
        """Files that have several names, by the number that these tell."""
        private = {n for n, (r, _) in self._folders.items() if r.parent == ROOT and r.name in _PRIVATE_FOLDERS}
        out: dict[int, tuple[CatalogRecord, tuple[Extent, ...]]] = {}
        for record, where in self._files:
            if record.parent in private and (record.name or "").startswith("iNode"):
                tail = (record.name or "")[len("iNode") :]
                if tail.isascii() and tail.isdigit():
                    out[int(tail)] = (record, where)
        return out

    # -- what there is ----------------------------------------------------------------------

    def entries(self) -> Iterator[Entry]:
        """Live files and folders; deleted ones that the trees' own unused bytes tell of."""
        for number, (record, where) in self._folders.items():
            path = self.paths.get(number)
            if path and not self.is_own(path[0]):
                yield Entry(path, True, False, 0, times_of(record), where, name_note="its record", identity=number)
        for record, where in self._files:
            yield from self._live(record, where)
        yield from self.past.entries(from_journal=False)

    def _live(self, record: CatalogRecord, where: tuple[Extent, ...]) -> Iterator[Entry]:
        above = self.paths.get(record.parent)
        name = record.name or ""
        if above is not None and self.is_own((*above, name)[0]):
            return
        lost = above is None
        path = (*(above if above is not None else (LOST_FOLDER.format(record.parent),)), name)
        number = record.number
        if record.is_link and record.special in self._apart:
            record, home = self._apart[record.special]
            number, where = record.number, (*where, *home)
        elif record.is_link and record.mode & KIND_MASK == IS_FILE:
            lost = True
        if record.mode & KIND_MASK not in (0, IS_FILE):
            return
        for kind, fork, stream in ((DATA_FORK, record.data, ""), (RESOURCE_FORK, record.resource, RESOURCE_STREAM)):
            if stream and not fork.size:
                continue
            place, wrong = map_of(fork, self._further.get((number, kind), ()), self.geometry)
            yield Entry(
                path, False, False, place.size if wrong else fork.size, times_of(record), where,
                (Placement(place, "by its record"),) if place.stored else (), 0.5 if above is None else 1.0,
                "its record", list(wrong), stream=stream, identity=number, damaged=lost or bool(wrong),
            )  # fmt: skip

    @cached_property
    def known(self) -> Known:
        """What stands, for those who look for more."""
        numbers = np.array(sorted(self.created), np.int64)
        created = np.array([self.created[number] for number in numbers.tolist()], np.int64)
        return Known(numbers, created, np.array([self.starts.get(n, 0) for n in numbers.tolist()], np.int64))

    @cached_property
    def past(self) -> Past:
        """What is left of files that are no more."""
        return Past(self, self._medium)

    def history(self) -> Iterator[Entry]:
        """Files that copies of nodes in the journal tell of and that are no more."""
        yield from self.past.entries(from_journal=True)

    def numbered(self) -> Iterator[Numbered]:
        for number, (record, _) in self._folders.items():
            yield Numbered(number, self.paths.get(number), True, None, times_of(record))
        for record, _ in self._files:
            place = map_of(record.data, self._further.get((record.number, DATA_FORK), ()), self.geometry)[0]
            yield Numbered(record.number, None, False, place.stored, times_of(record))
        past = list(self.past.numbered())
        yield from past
        last = self.next_number - 1  # which was given out, whatever is left of it
        if last not in self.created and not any(one.number >= last for one in past) and last < _MOST_NUMBERS:
            yield Numbered(last, None, False, None)

    @cached_property
    def journal(self) -> Journal | None:
        if not int(self._row["attributes"]) & JOURNALED:
            return None
        return find_journal(self._medium, self.geometry, int(self._row["journal"]))

    def own_extents(self) -> Iterator[tuple[str, Extent]]:
        told = RangeSet()
        for _, extent in self.structures():
            for gap in told.gaps(extent):
                yield "table", gap
            told.add(extent)

    def structures(self) -> Iterator[tuple[str, Extent]]:
        g = self.geometry
        front = -(-(HEADER_AT + HEADER_SIZE) // g.block) * g.block
        yield "volume header", Extent(g.offset, min(front, self.where.length))
        for title, name, number in _FORKS:
            for extent in self._own_extents(name, number, self._further):
                yield title, extent
        if self.journal is not None:
            info = g.at(int(self._row["journal"]))
            yield "journal", Extent(info, g.block)
            yield "journal", self.journal.where
        back = (g.size - BACKUP_FROM_END) // g.block * g.block
        if self.where.length > back:
            yield "copy of the volume header", Extent(g.offset + back, self.where.length - back)

    # -- space ------------------------------------------------------------------------------

    def used_and_free(self) -> tuple[int, int]:
        g = self.geometry
        free = min(int(self._row["free"]), g.blocks)
        return (g.blocks - free) * g.block, free * g.block

    @cached_property
    def _bitmap(self) -> TreeFile:
        extents = self._own_extents("allocation_file", ALLOCATION_FILE, self._further)
        return TreeFile(self._medium, extents, self._fork("allocation_file").size)

    def _bits(self, first: int, behind: int) -> NDArray[np.bool_]:
        """Which blocks are in use; those that no bitmap tells of are free."""
        data = self._bitmap.read(first // 8, -(-behind // 8) - first // 8)
        bits = np.unpackbits(np.frombuffer(data, "u1")).astype(bool)[first % 8 :]
        out = np.zeros(behind - first, bool)
        out[: len(bits)] = bits[: behind - first]
        return out

    def _used(self, part: Extent) -> Iterator[Extent]:
        """The parts of a stretch that the allocation file calls used."""
        g = self.geometry
        first = max((part.offset - g.offset) // g.block, 0)
        behind = min(-(-(part.end - g.offset) // g.block), g.blocks)
        for at in range(first, behind, _BITS_AT_ONCE):
            own = self._bits(at, min(at + _BITS_AT_ONCE, behind))
            edges = np.flatnonzero(np.diff(np.concatenate(([0], own, [0])).astype(np.int8))).reshape(-1, 2)
            for lo, hi in edges.tolist():
                begin, end = max(g.at(at + lo), part.offset), min(g.at(at + hi), part.end)
                if begin < end:
                    yield Extent(begin, end - begin)

    @cached_property
    def _space(self) -> OwnedSpace:
        owned: list[tuple[Extent, str, int]] = []
        for record, where in self._files:
            for entry in self._live(record, where):
                owned += [(extent, entry.full_path[1:], entry.identity) for extent in entry.map.stored]
        return OwnedSpace(self._used, [*owned, *((e, OWN_TABLES, 0) for _, e in self.own_extents())])

    def conflicts(self, extents: tuple[Extent, ...]) -> list[Conflict]:
        return self._space.conflicts(extents)
