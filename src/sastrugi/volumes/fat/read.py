"""Read FAT12/16/32 volumes: live files by their chains, deleted ones by what their entries still say.

Everything read is hostile until checked: sizes and cluster numbers are compared with the volume's own bounds, chains
end at the first repeat, folders are visited once.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace
from functools import partial
from itertools import islice

import numpy as np

from sastrugi.media.base import Medium
from sastrugi.media.extents import Extent, Laid, cut
from sastrugi.media.filemap import FileMap
from sastrugi.units import plural
from sastrugi.volumes._fat_family.reader import MAX_DEPTH, ChainReader, ClusterVolume, Folder
from sastrugi.volumes.allocation import Run
from sastrugi.volumes.fat.directory import (
    LONGEST_RECORD,
    Record,
    folder_blocks,
    goes_on,
    links,
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
from sastrugi.volumes.folder_parts import FolderPart, join_parts
from sastrugi.volumes.reader import Entry, Placement

_BACKUP_BOOT_SECTOR = 6
_MAX_FOLDER_BYTES = 65536 * 32
_MAX_RECORDS = 1_000_000
_MOST_PLACEMENTS = 512
_LOW_WORDS = 1 << 16
_MOST_PARTS, _MOST_PART_RECORDS = 20_000, 500_000
"""Clusters that may be later parts of deleted folders, and records in them."""


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
        volume = FatVolume(medium, geometry, label, serial, health)
        volume.mountable = not sector
        return volume
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
    if not _is_possible(geometry, wide):
        return None
    tail = np.frombuffer(block, BOOT_TAIL, 1, BOOT_SECTOR.itemsize + (BOOT_FAT32.itemsize if wide else 0))[0]
    label = serial = ""
    if tail["boot_signature"] == EXTENDED_BOOT_SIGNATURE:
        label = tail["volume_label"].tobytes().decode("cp437").strip(" \0")
        number = int(tail["volume_id"])
        serial = f"{number >> 16:04X}-{number & 0xFFFF:04X}"
    return geometry, "" if label == "NO NAME" else label, serial


def _is_possible(geometry: Geometry, wide: bool) -> bool:
    """Whether there can be a volume of this geometry; `wide`: of FAT32."""
    if not (geometry.reserved and geometry.fat_sectors and 1 <= geometry.fats <= 4 and geometry.clusters):
        return False
    if not (geometry.holds(geometry.root_cluster) if wide else geometry.root_entries):
        return False
    room = geometry.fat_sectors * geometry.sector * 8 // geometry.bits
    return geometry.clusters <= MAX_CLUSTERS[geometry.bits] and geometry.clusters + FIRST_CLUSTER <= room


class FatVolume(ClusterVolume[Geometry, Record]):
    """One FAT volume, opened for reading."""

    family = "fat"

    def __init__(self, medium: Medium, geometry: Geometry, label: str, serial: str, health: list[str]) -> None:
        self._medium = medium
        self.geometry = geometry
        self.file_system = f"FAT{geometry.bits}"
        self.where, self.data = geometry.where, geometry.data
        self.label, self.serial, self.cluster_size = label, serial, geometry.cluster_size
        self.health = health
        if self.where.end > medium.size:
            health.append(f"the volume ends {self.where.end - medium.size:,} bytes beyond the end of the medium")
        copy, bits = self._choose_fat(), geometry.bits
        others = [geometry.fat(n) for n in range(geometry.fats) if n != copy]
        told = (bits, BAD_CLUSTER[bits], geometry.holds, partial(unpack_fat, bits=bits))
        spare = others[-1] if others else None
        self._fat = ChainReader(medium, geometry.fat(copy), *told, spare, geometry.fat(0))
        self._copy = ChainReader(medium, spare, *told) if spare else None
        self._rejoined = set()
        self._parts: dict[int, tuple[tuple[bytes, bytes], FolderPart]] = {}
        self._records_left = _MOST_PART_RECORDS

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

    def _used_runs(self, start: int, stop: int) -> Iterator[Run]:
        yield from self._fat.used_runs(max(start, FIRST_CLUSTER), min(stop, self.geometry.clusters + FIRST_CLUSTER))

    def used_and_free(self) -> tuple[int, int]:
        clusters = self.geometry.clusters
        used = self._fat.count_used(FIRST_CLUSTER, clusters + FIRST_CLUSTER)
        return used * self.cluster_size, (clusters - used) * self.cluster_size

    # -- the tree ---------------------------------------------------------------------------

    def _walk(self) -> list[Folder[Record]]:
        """Every folder that can be reached, its records read, lost first characters worked out."""
        g = self.geometry
        runs: list[Run] = []
        if g.bits == 32:
            runs = self._folder_chain(g.root_cluster, "the root folder is damaged")
        root: Folder[Record] = Folder(None, None, runs, deleted=False)
        folders = [root]
        visited = {g.root_cluster} if runs else set()
        queue = [root]
        for _ in range(MAX_DEPTH):
            self._descend(queue, folders, visited)
            queue = self._rejoin_deleted_folders(folders)
            if not queue:
                break
        settle_lost_characters([folder.records for folder in folders])
        return folders

    def _descend(self, queue: list[Folder[Record]], folders: list[Folder[Record]], visited: set[int]) -> None:
        """Read the tables of the folders in `queue` and of all below them; new ones are added to `folders`.

        Live ones come first, so that a folder that was moved counts where it is and not where a deleted record still
        names it.
        """
        g = self.geometry
        later: list[tuple[Record, Folder[Record]]] = []
        budget = _MAX_RECORDS - sum(len(folder.records) for folder in folders)
        while queue or later:
            if not queue:
                self._follow(*later.pop(), visited, folders, queue)
                continue
            folder = queue.pop()
            folder.records = parse_table(self._table(folder), g.bits)[: max(budget, 0)]
            budget -= len(folder.records)
            if budget <= 0:
                self.health.append(f"more than {_MAX_RECORDS:,} directory entries: the rest was left out")
                queue.clear()
                return
            for record in folder.records:
                if not record.folder or record.label:
                    continue
                if folder.deleted or record.deleted:
                    later.append((record, folder))
                else:
                    self._follow(record, folder, visited, folders, queue)

    def _folder_runs(self, record: Record, deleted: bool) -> list[Run]:
        """Where a folder's table lies. A deleted one is followed only while what stands there still is its table."""
        g = self.geometry
        head = self._medium.read(g.cluster_offset(record.cluster), g.cluster_size)
        if not looks_like_folder(head, record.cluster if deleted else None):
            if not deleted:
                self.health.append(f"folder {record.name}: its table does not begin with . and ..")
            return []
        return [(record.cluster, 1)] if deleted else self._folder_chain(record.cluster, f"folder {record.name}")

    def _folder_chain(self, first: int, what: str) -> list[Run]:
        """The chain of a live folder; what is wrong with it is said of the volume."""
        most = max(_MAX_FOLDER_BYTES // self.cluster_size, 1)
        runs, problem = self._chain(first, most)
        other, wrong = self._by_copy(first, most) if problem else ([], problem)
        if problem:
            self.health.append(f"{what}: {problem}" + (": the other copy of the FAT was used" if not wrong else ""))
        return runs if wrong else other or runs

    def _file_chain(self, first: int, needed: int) -> tuple[list[Run], str, bool]:
        """The chain of a live file of so many clusters, what is wrong with it, and whether it was taken from a copy
        that drivers do not read: one that ends where the file does is believed sooner than one that does not."""
        runs, problem = self._chain(first, needed + 1)
        have = sum(length for _, length in runs)
        if problem or have != needed:
            other, wrong = self._by_copy(first, needed + 1)
            if not wrong and sum(length for _, length in other) == needed:
                return other, "", True
        if have > needed:
            runs[-1] = (runs[-1][0], runs[-1][1] - 1)
            runs = runs if runs[-1][1] else runs[:-1]
        if have >= needed:
            return runs, "", self._fat.mended(runs)
        return runs, problem or f"its chain ends after {plural(have, 'cluster')} of {needed:,}", False

    def _by_copy(self, first: int, most: int) -> tuple[list[Run], str]:
        """A chain as the copy of the table tells it that is not used, and what is wrong with it."""
        if self._copy is None:
            return [], "there is no other copy"
        return self._chain(first, most, self._copy)

    def _rejoin_deleted_folders(self, folders: list[Folder[Record]]) -> list[Folder[Record]]:
        """Find the later clusters of deleted folders, whose chains are gone (see folder_parts), among free ones that
        read as later parts of a table; answers the folders that grew."""
        unfinished = [f for f in folders if f.deleted and f.records and not table_ends(self._table(f))]
        if not unfinished:
            return []
        blocks = list(islice(self._free_blocks(FIRST_CLUSTER, folder_blocks), _MOST_PARTS))
        clusters = [*(sum(folder.runs[-1]) - 1 for folder in unfinished), *blocks]
        read = [self._part(cluster) for cluster in clusters]
        edges = [one[0] for one in read]
        parts = [replace(part, head=number < len(unfinished)) for number, (_, part) in enumerate(read)]
        linked = links(edges, [part.ended for part in parts])
        before = join_parts(parts, linked, lambda one, other: goes_on(edges[one][1], edges[other][0]))
        behind_it = {one: other for other, one in before.items()}
        grown: list[Folder[Record]] = []
        for number, folder in enumerate(unfinished):
            at = number
            while (at := behind_it.get(at, -1)) >= 0:
                folder.runs.append((clusters[at], 1))
                self._rejoined.add(clusters[at])
            if number in behind_it:
                folder.records = parse_table(self._table(folder), self.geometry.bits)
                grown.append(folder)
        return grown

    def _part(self, cluster: int) -> tuple[tuple[bytes, bytes], FolderPart]:
        """The edges of a cluster of a folder, and what its records tell; of so many records, not more."""
        if cluster not in self._parts:
            data = self._medium.read(self.geometry.cluster_offset(cluster), self.cluster_size)
            records = parse_table(data, self.geometry.bits) if self._records_left > 0 else []
            self._records_left -= len(records)
            names = frozenset(record.short for record in records if not record.first_char_lost and not record.label)
            behind = self._behind_last_file(records, cluster + 1)
            created = [record.times.created for record in records] or [None]
            part = FolderPart(cluster, behind, created[0], created[-1], table_ends(data), head=False, names=names)
            self._parts[cluster] = (data[:LONGEST_RECORD], data[-LONGEST_RECORD:]), part
        return self._parts[cluster]

    def _behind_last_file(self, records: list[Record], least: int) -> int:
        """The cluster behind the last file that a part of a folder lists, but not before `least`."""
        placed = [r for r in records if self.geometry.holds(r.cluster) and not r.label]
        if not placed:
            return least
        clusters = 1 if placed[-1].folder else -(-placed[-1].size // self.cluster_size)
        return max(placed[-1].cluster + clusters, least)

    def _table(self, folder: Folder[Record]) -> bytes:
        extents = self._extents(folder.runs) if folder.runs else (self.geometry.fixed_root,)
        return self._medium.read_extents(cut(extents, _MAX_FOLDER_BYTES))

    def own_extents(self) -> Iterator[tuple[str, Extent]]:
        g = self.geometry
        yield "table", Extent(g.offset, g.fixed_root.offset - g.offset)
        folders = self._settled()
        self._begin_walk()
        for folder in folders:
            if not folder.deleted:
                for extent in self._extents(folder.runs) if folder.runs else (g.fixed_root,):
                    yield "folder", extent

    def folder_extents(self) -> Iterator[Extent]:
        return (extent for folder in self._settled() for extent in self._extents(folder.runs))

    def structures(self) -> Iterator[tuple[str, Extent]]:
        g = self.geometry
        yield "boot sector", Extent(g.offset, g.sector)
        if g.bits == 32:
            yield "file system information sector", Extent(g.offset + g.sector, g.sector)
            yield "backup boot sector", Extent(g.offset + 6 * g.sector, g.sector)
        yield "reserved sectors", Extent(g.offset, g.reserved * g.sector)
        for copy in range(g.fats):
            yield f"FAT {copy + 1}", g.fat(copy)
        folders = self._settled()
        self._begin_walk()
        for folder in folders:
            name = "root folder" if folder.record is None else f"folder /{'/'.join(folder.path)}"
            for extent in self._extents(folder.runs) if folder.runs else (g.fixed_root,):
                yield f"{name} (deleted)" if folder.deleted else name, extent

    def entries(self) -> Iterator[Entry]:
        folders = self._settled()
        self._begin_walk()
        for folder in folders:
            path, sure = folder.path, folder.sure
            table = Laid(self._extents(folder.runs) if folder.runs else (self.geometry.fixed_root,))
            for record in folder.records:
                if record.label:
                    if folder.record is None and not record.deleted:
                        self.label = record.name.replace(".", "").strip() or self.label
                    continue
                deleted = record.deleted or folder.deleted
                places = table.within(record.position, record.length)
                entry = Entry(
                    (*path, record.name), record.folder, deleted, record.size, record.times,
                    places, name_sure=record.name_sure * sure,
                    name_note=record.name_note,
                    notes=list(record.notes),
                )  # fmt: skip
                entry.placements = self._placements(record, deleted, entry.notes)
                entry.damaged = not deleted and bool(entry.notes)
                yield entry

    # -- where files lie --------------------------------------------------------------------

    def _placements(self, record: Record, deleted: bool, notes: list[str]) -> tuple[Placement, ...]:
        g = self.geometry
        if record.folder:
            return ()
        if not record.size:
            return (Placement(FileMap(), "an empty file"),)
        needed = -(-record.size // g.cluster_size)
        if deleted and g.bits == 32 and record.cluster < _LOW_WORDS < g.clusters:
            return self._by_low_word(record)
        if not g.holds(record.cluster):
            notes.append(
                "its entry names no cluster of this volume" if record.cluster else "its entry names no cluster"
            )
            return ()
        if not deleted:
            runs, problem, by_copy = self._file_chain(record.cluster, needed)
            chained = Placement(FileMap.of(self._extents(runs), record.size), "its chain in the FAT")
            if problem:
                notes.append(problem)
                return (*self._guess_placements(record.cluster, record.size), chained)
            if by_copy:
                notes.append("the first FAT is damaged where its chain runs: the other copy was used")
            return (chained,)
        return self._guess_placements(record.cluster, record.size)

    def _by_low_word(self, record: Record) -> tuple[Placement, ...]:
        """A deleted file of which the record tells a small cluster number: it may be only the low half, as Windows
        leaves it. All free clusters that end in it are possible, too."""
        g = self.geometry
        near = self._guess_placements(record.cluster, record.size) if g.holds(record.cluster) else ()
        out = [replace(placement, certain=False) for placement in near]
        for cluster in range(record.cluster + _LOW_WORDS, g.clusters + FIRST_CLUSTER, _LOW_WORDS):
            if not g.holds(cluster) or next(self._used_runs(cluster, cluster + 1), None) is not None:
                continue
            for placement in self._guess_placements(cluster, record.size):
                told = f"{placement.reason}; the high half of its cluster ({cluster >> 16}) was lost"
                out.append(Placement(placement.map, told, far=True))
        return tuple(out[:_MOST_PLACEMENTS])

    def _index_owners(self, tree: list[Folder[Record]]) -> None:
        """Which live file or folder each allocated run belongs to, sorted for lookup."""
        owned: list[tuple[int, int, str]] = []
        for folder in tree:
            if folder.deleted:
                continue
            path = folder.path
            owned += [(start, start + length, "/".join(path) or "the root folder") for start, length in folder.runs]
            for record in folder.records:
                if record.deleted or record.folder or record.label or not record.size:
                    continue
                runs, _, _ = self._file_chain(record.cluster, -(-record.size // self.cluster_size))
                owned += [(start, start + length, "/".join((*path, record.name))) for start, length in runs]
        self._set_owners(owned)
