"""Read FAT12/16/32 volumes: live files by their chains, deleted ones by what their entries still say.

Everything read is hostile until checked: sizes and cluster numbers are compared with the volume's own bounds, chains
end at the first repeat, folders are visited once.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterator
from dataclasses import dataclass, field
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from sastrugi.media.base import Medium
from sastrugi.media.extents import Extent, cut, join, within
from sastrugi.units import plural
from sastrugi.volumes.base import Conflict, Entry, Placement, Volume
from sastrugi.volumes.fat.directory import (
    Record,
    folder_blocks,
    looks_like_folder,
    parse_table,
    settle_lost_characters,
    table_ends,
)
from sastrugi.volumes.fat.layout import (
    BAD_CLUSTER,
    BOOT_FAT32,
    BOOT_SECTOR,
    BOOT_SIGNATURE,
    BOOT_SIGNATURE_OFFSET,
    BOOT_TAIL,
    EXTENDED_BOOT_SIGNATURE,
    FIRST_CLUSTER,
    MAX_CLUSTERS,
    Geometry,
    unpack_fat,
)

_BACKUP_BOOT_SECTOR = 6
_PIECE = 3 << 14  # entries; a whole number of 12-bit pairs and of sectors
_MAX_FOLDER_BYTES = 65536 * 32
_MAX_RECORDS = 1_000_000
_MAX_DEPTH = 200
_SWEEP = 4 << 20

Run = tuple[int, int]


def open_fat(medium: Medium, where: Extent) -> FatVolume | None:
    """The FAT volume at `where.offset`, or None if neither its boot sector nor the backup describes one."""
    for sector in (0, _BACKUP_BOOT_SECTOR):
        at = where.offset + sector * medium.sector
        found = _read_boot(medium.read(at, 512), where.offset)
        if found is None:
            continue
        geometry, label, serial = found
        if sector and geometry.bits != 32:
            continue
        health = ["the boot sector is damaged; its backup (sector 6) was used"] if sector else []
        return FatVolume(medium, geometry, label, serial, health)
    return None


def _read_boot(block: bytes, offset: int) -> tuple[Geometry, str, str] | None:
    """Geometry, label and serial from a boot sector; None if a field is impossible."""
    if len(block) < 512 or block[BOOT_SIGNATURE_OFFSET:512] != BOOT_SIGNATURE:
        return None
    boot = np.frombuffer(block, BOOT_SECTOR, 1)[0]
    fat32 = np.frombuffer(block, BOOT_FAT32, 1, BOOT_SECTOR.itemsize)[0]
    sector, per_cluster = int(boot["bytes_per_sector"]), int(boot["sectors_per_cluster"])
    if sector not in (512, 1024, 2048, 4096) or per_cluster not in (1, 2, 4, 8, 16, 32, 64, 128):
        return None
    wide = not boot["fat_sectors_16"]
    geometry = Geometry(
        offset, sector, per_cluster, int(boot["reserved_sectors"]), int(boot["fats"]),
        int(fat32["fat_sectors_32"] if wide else boot["fat_sectors_16"]), int(boot["root_entries"]),
        int(boot["total_sectors_16"] or boot["total_sectors_32"]), int(fat32["root_cluster"]) if wide else 0,
    )  # fmt: skip
    if not (geometry.reserved and geometry.fat_sectors and 1 <= geometry.fats <= 4 and geometry.clusters):
        return None
    if not wide and not geometry.root_entries:
        return None
    if geometry.clusters > MAX_CLUSTERS[geometry.bits] or (wide and not geometry.holds(geometry.root_cluster)):
        return None
    if (geometry.clusters + FIRST_CLUSTER) * geometry.bits > geometry.fat_sectors * sector * 8:
        return None
    tail = np.frombuffer(block, BOOT_TAIL, 1, BOOT_SECTOR.itemsize + (BOOT_FAT32.itemsize if wide else 0))[0]
    label = serial = ""
    if tail["boot_signature"] == EXTENDED_BOOT_SIGNATURE:
        label = tail["volume_label"].tobytes().decode("cp437").strip(" \0")
        number = int(tail["volume_id"])
        serial = f"{number >> 16:04X}-{number & 0xFFFF:04X}"
    return geometry, "" if label == "NO NAME" else label, serial


@dataclass(slots=True)
class _Folder:
    """A folder that was reached: its path is its chain of records up to the root."""

    record: Record | None
    parent: _Folder | None
    runs: list[Run]
    deleted: bool
    records: list[Record] = field(default_factory=list)

    @property
    def depth(self) -> int:
        return 0 if self.parent is None else self.parent.depth + 1


class FatVolume(Volume):
    """One FAT volume, opened for reading."""

    def __init__(self, medium: Medium, geometry: Geometry, label: str, serial: str, health: list[str]) -> None:
        self._medium = medium
        self.geometry = geometry
        self.file_system = f"FAT{geometry.bits}"
        self.where, self.data = geometry.where, geometry.data
        self.label, self.serial, self.cluster_size = label, serial, geometry.cluster_size
        self.health = health
        if self.where.end > medium.size:
            health.append(f"the volume ends {self.where.end - medium.size:,} bytes beyond the end of the medium")
        self._fat_copy = self._choose_fat()
        self._piece = lru_cache(maxsize=32)(self._load_piece)
        self._tree: list[_Folder] | None = None
        self._rejoined: set[int] = set()
        self._owners: tuple[list[int], list[int], list[str]] = ([], [], [])

    # -- the allocation table ---------------------------------------------------------------

    def _choose_fat(self) -> int:
        """The first copy whose first entry holds the media byte, as it must."""
        for copy in range(self.geometry.fats):
            if self._medium.read(self.geometry.fat(copy).offset, 1)[:1] >= b"\xf0":
                if copy:
                    self.health.append(f"FAT 1 does not begin as a FAT must; copy {copy + 1} was used")
                return copy
        self.health.append("no copy of the FAT begins as a FAT must")
        return 0

    def _load_piece(self, index: int) -> tuple[NDArray[np.uint32], NDArray[np.intp]]:
        """Entries [index*_PIECE, …) of the FAT, and the positions in it where a chain does not go on to the next."""
        g = self.geometry
        fat = g.fat(self._fat_copy)
        at, length = index * _PIECE * g.bits // 8, _PIECE * g.bits // 8
        data = self._medium.read(fat.offset + at, min(length, fat.length - at))
        entries = unpack_fat(data.ljust(length, b"\0"), g.bits)
        numbers = np.arange(index * _PIECE + 1, index * _PIECE + _PIECE + 1, dtype=np.uint32)
        return entries, np.flatnonzero(entries != numbers)

    def _chain(self, first: int, most: int) -> tuple[list[Run], str]:
        """The chain from `first`, up to `most` clusters, as runs; and what is wrong with it, if anything."""
        g = self.geometry
        runs: list[Run] = []
        seen: set[int] = set()
        cluster, count = first, 0
        while count < most:
            if not g.holds(cluster):
                return runs, "its chain leaves the volume" if cluster else "its chain runs into free clusters"
            if cluster in seen:
                return runs, "its chain runs in a loop"
            seen.add(cluster)
            start = cluster
            while True:
                index, inside = divmod(cluster, _PIECE)
                entries, breaks = self._piece(index)
                k = int(np.searchsorted(breaks, inside))
                if k < len(breaks):
                    last, following = index * _PIECE + int(breaks[k]), int(entries[breaks[k]])
                    break
                cluster = (index + 1) * _PIECE
                if cluster - start + count >= most or not g.holds(cluster):
                    last, following = cluster - 1, cluster
                    break
            length = min(last + 1 - start, most - count)
            runs.append((start, length))
            count += length
            if following >= BAD_CLUSTER[g.bits]:
                return runs, ""
            cluster = following
        return runs, ""

    def _used_runs(self, start: int, stop: int) -> Iterator[Run]:
        """Runs of clusters in [start, stop) whose FAT entry is not zero."""
        stop = min(stop, self.geometry.clusters + FIRST_CLUSTER)
        at = max(start, FIRST_CLUSTER)
        while at < stop:
            index, inside = divmod(at, _PIECE)
            upto = min((index + 1) * _PIECE, stop)
            used = np.flatnonzero(self._piece(index)[0][inside : inside + upto - at])
            if len(used):
                cuts = np.flatnonzero(np.diff(used) != 1) + 1
                for group in np.split(used, cuts):
                    yield at + int(group[0]), len(group)
            at = upto

    def used_and_free(self) -> tuple[int, int]:
        fat = self.geometry.fat(self._fat_copy)
        used = 0
        step = _PIECE * self.geometry.bits // 8
        indices: set[int] = set()
        for extent in self._medium.data_ranges(fat.offset, fat.end):
            indices.update(range((extent.offset - fat.offset) // step, (extent.end - 1 - fat.offset) // step + 1))
        last = self.geometry.clusters + FIRST_CLUSTER
        for index in indices:
            lo = FIRST_CLUSTER if index == 0 else 0
            used += int(np.count_nonzero(self._piece(index)[0][lo : max(last - index * _PIECE, lo)]))
        return used * self.cluster_size, (self.geometry.clusters - used) * self.cluster_size

    def _extents(self, runs: list[Run]) -> tuple[Extent, ...]:
        g = self.geometry
        return join(Extent(g.cluster_offset(start), length * g.cluster_size) for start, length in runs)

    # -- the tree ---------------------------------------------------------------------------

    def _walk(self) -> list[_Folder]:
        """Every folder that can be reached, its records read, lost first characters worked out."""
        g = self.geometry
        runs: list[Run] = []
        if g.bits == 32:
            runs, problem = self._chain(g.root_cluster, _MAX_FOLDER_BYTES // g.cluster_size)
            if problem:
                self.health.append(f"the root folder is damaged: {problem}")
        root = _Folder(None, None, runs, deleted=False)
        folders = [root]
        visited = {g.root_cluster} if runs else set()
        queue = [root]
        for _ in range(_MAX_DEPTH):
            self._descend(queue, folders, visited)
            queue = self._rejoin_deleted_folders(folders)
            if not queue:
                break
        settle_lost_characters([folder.records for folder in folders])
        return folders

    def _descend(self, queue: list[_Folder], folders: list[_Folder], visited: set[int]) -> None:
        """Read the tables of the folders in `queue` and of all below them; new ones are added to `folders`."""
        g = self.geometry
        budget = _MAX_RECORDS - sum(len(folder.records) for folder in folders)
        while queue:
            folder = queue.pop()
            folder.records = parse_table(self._table(folder), g.bits)[: max(budget, 0)]
            budget -= len(folder.records)
            if budget <= 0:
                self.health.append(f"more than {_MAX_RECORDS:,} directory entries: the rest was left out")
                queue.clear()
                return
            for record in folder.records:
                if not record.folder or record.label or record.cluster in visited or not g.holds(record.cluster):
                    continue
                deleted = folder.deleted or record.deleted
                child = _Folder(record, folder, self._folder_runs(record, deleted), deleted)
                if child.runs and child.depth <= _MAX_DEPTH:
                    visited.add(record.cluster)
                    folders.append(child)
                    queue.append(child)

    def _folder_runs(self, record: Record, deleted: bool) -> list[Run]:
        """Where a folder's table lies. A deleted one is followed only while what stands there still is its table."""
        g = self.geometry
        head = self._medium.read(g.cluster_offset(record.cluster), g.cluster_size)
        if not looks_like_folder(head, record.cluster if deleted else None):
            if not deleted:
                self.health.append(f"folder {record.name}: its table does not begin with . and ..")
            return []
        if not deleted:
            runs, problem = self._chain(record.cluster, max(_MAX_FOLDER_BYTES // g.cluster_size, 1))
            if problem:
                self.health.append(f"folder {record.name}: {problem}")
            return runs
        return [(record.cluster, 1)]

    def _rejoin_deleted_folders(self, folders: list[_Folder]) -> list[_Folder]:
        """Find the later clusters of deleted folders, whose chains are gone; answers the folders that grew.

        A folder takes a new cluster when it is full, just behind the file it was given last. So a free cluster that
        reads as a later part of a table belongs to the full folder whose last file ends nearest before it.
        """
        g = self.geometry
        unfinished = {id(f): f for f in folders if f.deleted and f.records and not table_ends(self._table(f))}
        if not unfinished:
            return []
        ends = {key: self._end_of_last_file(folder) for key, folder in unfinished.items()}
        grown: dict[int, _Folder] = {}
        for cluster in self._free_folder_blocks(min(ends.values())):
            before = [(end, key) for key, end in ends.items() if end <= cluster]
            if not before:
                continue
            _, key = max(before)
            folder = grown[key] = unfinished[key]
            folder.runs.append((cluster, 1))
            self._rejoined.add(cluster)
            folder.records = parse_table(self._table(folder), g.bits)
            if table_ends(self._medium.read(g.cluster_offset(cluster), g.cluster_size)):
                del ends[key]
            else:
                ends[key] = max(self._end_of_last_file(folder), cluster + 1)
            if not ends:
                break
        return list(grown.values())

    def _end_of_last_file(self, folder: _Folder) -> int:
        """The cluster behind the last file a folder lists, or behind the folder's own."""
        own = folder.runs[-1][0] + folder.runs[-1][1]
        placed = [r for r in folder.records if self.geometry.holds(r.cluster) and not r.label]
        if not placed:
            return own
        clusters = 1 if placed[-1].folder else -(-placed[-1].size // self.cluster_size)
        return max(placed[-1].cluster + clusters, own)

    def _free_folder_blocks(self, first: int) -> Iterator[int]:
        """Free clusters from `first` on that can be a later part of a folder's table, in order."""
        g = self.geometry
        size = g.cluster_size
        step = max(_SWEEP // size, 1)
        start = g.cluster_offset(min(max(first, FIRST_CLUSTER), g.clusters + FIRST_CLUSTER))
        for extent in self._medium.data_ranges(start, g.data.end):
            lo = (extent.offset - g.data.offset) // size + FIRST_CLUSTER
            hi = -(-(extent.end - g.data.offset) // size) + FIRST_CLUSTER
            for at in range(lo, hi, step):
                count = min(step, hi - at)
                hits = np.flatnonzero(folder_blocks(self._medium.read(g.cluster_offset(at), count * size), size))
                used = list(self._used_runs(at, at + count)) if len(hits) else []
                for hit in hits:
                    cluster = at + int(hit)
                    if cluster not in self._rejoined and not any(s <= cluster < s + n for s, n in used):
                        yield cluster

    def _table(self, folder: _Folder) -> bytes:
        extents = self._extents(folder.runs) if folder.runs else (self.geometry.fixed_root,)
        return self._medium.read_extents(cut(extents, _MAX_FOLDER_BYTES))

    def _settled(self) -> list[_Folder]:
        if self._tree is None:
            self._tree = self._walk()
            self._index_owners(self._tree)
        return self._tree

    def entries(self) -> Iterator[Entry]:
        for folder in self._settled():
            path, sure = self._path(folder)
            table = self._extents(folder.runs) if folder.runs else (self.geometry.fixed_root,)
            for record in folder.records:
                if record.label:
                    if folder.record is None and not record.deleted:
                        self.label = record.name.replace(".", "").strip() or self.label
                    continue
                deleted = record.deleted or folder.deleted
                places = within(table, record.position, record.length)
                entry = Entry(
                    (*path, record.name), record.folder, deleted, record.size, record.times,
                    places[0] if places else Extent(0, 0), name_sure=record.name_sure * sure,
                    name_note=record.name_note,
                    notes=list(record.notes),
                )  # fmt: skip
                entry.placements = self._placements(record, deleted, entry.notes)
                yield entry

    def _path(self, folder: _Folder) -> tuple[tuple[str, ...], float]:
        parts: list[str] = []
        sure = 1.0
        at: _Folder | None = folder
        while at is not None and at.record is not None:
            parts.append(at.record.name)
            sure *= at.record.name_sure
            at = at.parent
        return tuple(reversed(parts)), sure

    # -- where files lie --------------------------------------------------------------------

    def _placements(self, record: Record, deleted: bool, notes: list[str]) -> tuple[Placement, ...]:
        g = self.geometry
        if record.folder:
            return ()
        if not record.size:
            return (Placement((), "an empty file"),)
        needed = -(-record.size // g.cluster_size)
        if not g.holds(record.cluster):
            notes.append(
                "its entry names no cluster of this volume" if record.cluster else "its entry names no cluster"
            )
            return ()
        if not deleted:
            runs, problem = self._chain(record.cluster, needed)
            have = sum(length for _, length in runs)
            if have < needed:
                problem = problem or f"its chain ends after {plural(have, 'cluster')} of {needed:,}"
            if problem:
                notes.append(problem)
            return (Placement(cut(self._extents(runs), record.size), "its chain in the FAT"),)
        return self._deleted_placements(record, needed)

    def _deleted_placements(self, record: Record, needed: int) -> tuple[Placement, ...]:
        """In one piece from the first cluster; and, where that meets clusters in use, around those."""
        g = self.geometry
        room = g.clusters + FIRST_CLUSTER - record.cluster
        straight = [(record.cluster, min(needed, room))]
        out = [Placement(cut(self._extents(straight), record.size), "in one piece from its first cluster")]
        if next(self._used_runs(record.cluster, record.cluster + min(needed, room)), None) is None:
            return tuple(out)
        around: list[Run] = []
        at, left = record.cluster, needed
        for start, length in self._used_runs(record.cluster, g.clusters + FIRST_CLUSTER):
            if start > at:
                around.append((at, min(start - at, left)))
                left -= around[-1][1]
            at = start + length
            if not left:
                break
        if left and g.holds(at):
            around.append((at, min(left, g.clusters + FIRST_CLUSTER - at)))
            left -= around[-1][1]
        if not left and around[0][0] == record.cluster:
            out.append(
                Placement(
                    cut(self._extents(around), record.size),
                    f"around clusters in use, in {len(around)} pieces",
                )
            )
        return tuple(out)

    def _index_owners(self, tree: list[_Folder]) -> None:
        """Which live file or folder each allocated run belongs to, sorted for lookup."""
        owned: list[tuple[int, int, str]] = []
        for folder in tree:
            if folder.deleted:
                continue
            path, _ = self._path(folder)
            owned += [(start, start + length, "/".join(path) or "the root folder") for start, length in folder.runs]
            for record in folder.records:
                if record.deleted or record.folder or record.label or not record.size:
                    continue
                runs, _ = self._chain(record.cluster, -(-record.size // self.cluster_size))
                owned += [(start, start + length, "/".join((*path, record.name))) for start, length in runs]
        owned.sort()
        self._owners = ([o[0] for o in owned], [o[1] for o in owned], [o[2] for o in owned])

    def conflicts(self, extents: tuple[Extent, ...]) -> list[Conflict]:
        g = self.geometry
        self._settled()
        starts, ends, names = self._owners
        out: list[Conflict] = []
        for extent in extents:
            first = (extent.offset - g.data.offset) // g.cluster_size + FIRST_CLUSTER
            last = -(-(extent.end - g.data.offset) // g.cluster_size) + FIRST_CLUSTER
            for start, length in self._used_runs(first, last):
                at, stop = start, start + length
                while at < stop:
                    k = bisect_right(starts, at) - 1
                    owner, upto = (
                        "allocated to nothing that is listed",
                        starts[k + 1] if k + 1 < len(starts) else stop,
                    )
                    if k >= 0 and at < ends[k]:
                        owner, upto = names[k], ends[k]
                    upto = min(max(upto, at + 1), stop)
                    out.append(Conflict(Extent(g.cluster_offset(at), (upto - at) * g.cluster_size), owner))
                    at = upto
        return out
