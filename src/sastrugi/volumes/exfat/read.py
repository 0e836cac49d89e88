"""Read exFAT volumes: live files, and deleted ones by what their entry sets still say.

Everything read is hostile until checked: sizes and cluster numbers are compared with the volume's own bounds, chains
end at the first repeat, folders are visited once.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from sastrugi.media.base import Medium
from sastrugi.media.extents import Extent, Laid, cut, total, within
from sastrugi.media.filemap import FileMap
from sastrugi.units import plural
from sastrugi.volumes._fat_family.reader import ChainReader, ClusterVolume, Folder
from sastrugi.volumes.allocation import Run, runs_of
from sastrugi.volumes.exfat.directory import Record, goes_on, parse_table, table_ends, table_heads, tail_of
from sastrugi.volumes.exfat.layout import (
    BAD_CLUSTER,
    BITMAP_ENTRY,
    BOOT_REGION_SECTORS,
    BOOT_SECTOR,
    BOOT_SIGNATURE,
    BOOT_SIGNATURE_OFFSET,
    CHECKSUM_SECTOR,
    ENTRY_SIZE,
    FILE_SYSTEM_NAME,
    FIRST_CLUSTER,
    LABEL_ENTRY,
    MAX_CLUSTERS,
    MAX_FOLDER_BYTES,
    MAX_LABEL,
    TYPE_BITMAP,
    TYPE_LABEL,
    TYPE_UPCASE,
    UPCASE_ENTRY,
    Geometry,
    boot_checksum,
    table_checksum,
)
from sastrugi.volumes.reader import Entry, Placement

_MAX_RECORDS = 1_000_000
_BITMAP_PIECE, _BITMAP_KEPT = 1 << 16, 1 << 12
_MOST_TRIED = 16
"""So many full folders are tried for a cluster that may go on with one."""

_LARGEST_UPCASE = 128 << 10


def open_exfat(medium: Medium, where: Extent) -> ExfatVolume | None:
    """The exFAT volume at `where.offset`, or None if neither its boot region nor the backup describes one."""
    damaged: tuple[Geometry, str] | None = None
    for sector in (512, 4096, 1024, 2048):
        for copy in range(2):
            at = where.offset + copy * BOOT_REGION_SECTORS * sector
            found = _read_boot(medium.read(at, 512), where.offset, sector)
            if found is None:
                continue
            region = medium.read(at, BOOT_REGION_SECTORS * sector)
            stored = region[CHECKSUM_SECTOR * sector : CHECKSUM_SECTOR * sector + 4]
            if boot_checksum(region, sector).to_bytes(4, "little") != stored:
                damaged = damaged or found
                continue
            health = ["the boot region is damaged; its backup (sector 12) was used"] if copy else []
            volume = ExfatVolume(medium, *found, health)
            volume.mountable &= not copy
            return volume
    if damaged is None:
        return None
    volume = ExfatVolume(medium, *damaged, ["the checksum of the boot region is wrong, and so is its backup's"])
    volume.mountable = False
    return volume


def _read_boot(block: bytes, offset: int, sector: int) -> tuple[Geometry, str] | None:
    """Geometry and serial from a boot sector; None if a field is impossible or the sector size is not `sector`."""
    if len(block) < 512 or block[BOOT_SIGNATURE_OFFSET:512] != BOOT_SIGNATURE:
        return None
    boot = np.frombuffer(block, BOOT_SECTOR, 1)[0]
    shift, cluster_shift = int(boot["sector_shift"]), int(boot["cluster_shift"])
    if boot["name"].tobytes() != FILE_SYSTEM_NAME or 1 << shift != sector or shift + cluster_shift > 25:
        return None
    geometry = Geometry(
        offset, sector, 1 << cluster_shift, int(boot["volume_length"]), int(boot["fat_offset"]),
        int(boot["fat_length"]), int(boot["heap_offset"]), int(boot["clusters"]), int(boot["root_cluster"]),
        int(boot["fats"]),
    )  # fmt: skip
    if not 1 <= geometry.clusters <= MAX_CLUSTERS or not geometry.holds(geometry.root_cluster):
        return None
    if not 2 * BOOT_REGION_SECTORS <= geometry.fat_offset < geometry.heap_offset < geometry.total_sectors < 1 << 54:
        return None
    if geometry.fats not in (1, 2) or geometry.fat_sectors * sector < (geometry.clusters + FIRST_CLUSTER) * 4:
        return None
    number = int(boot["serial"])
    return geometry, f"{number >> 16:04X}-{number & 0xFFFF:04X}"


class ExfatVolume(ClusterVolume[Geometry, Record]):
    """One exFAT volume, opened for reading."""

    family = "exfat"
    file_system = "exFAT"

    def __init__(self, medium: Medium, geometry: Geometry, serial: str, health: list[str]) -> None:
        self._medium = medium
        self.geometry = geometry
        self.where, self.data = geometry.where, geometry.data
        self.label, self.serial, self.cluster_size = "", serial, geometry.cluster_size
        self.health = health
        if self.where.end > medium.size:
            health.append(f"the volume ends {self.where.end - medium.size:,} bytes beyond the end of the medium")
        self._fat = ChainReader(medium, geometry.fat(), 32, BAD_CLUSTER, geometry.holds, _unpack)
        self._bitmap: tuple[Extent, ...] = ()
        self._kept, self._kept_at = b"", -1
        root = self._root()
        self._read_own_entries(root)
        self._rejoined = set()
        self._start = root

    # -- the volume's own structures --------------------------------------------------------

    def _root(self) -> Folder[Record]:
        most = max(MAX_FOLDER_BYTES // self.cluster_size, 1)
        runs, problem = self._fat.chain(self.geometry.root_cluster, most)
        if problem:
            self.health.append(f"the root folder is damaged: {problem}")
            runs = runs or [(self.geometry.root_cluster, 1)]
        return Folder(None, None, runs, deleted=False)

    def _read_own_entries(self, root: Folder[Record]) -> None:
        """Label and bitmap, which the root folder tells."""
        head = self._medium.read_extents(cut(self._extents(root.runs), 1 << 16))
        for at in range(0, len(head) // ENTRY_SIZE * ENTRY_SIZE, ENTRY_SIZE):
            if head[at] == TYPE_LABEL:
                entry = np.frombuffer(head, LABEL_ENTRY, 1, at)[0]
                units = entry["label"][: min(int(entry["count"]), MAX_LABEL)]
                self.label = units.tobytes().decode("utf-16-le", "replace")
            elif head[at] == TYPE_BITMAP and not self._bitmap:
                entry = np.frombuffer(head, BITMAP_ENTRY, 1, at)[0]
                length = (self.geometry.clusters + 7) // 8
                if not self.geometry.holds(int(entry["first_cluster"])) or int(entry["length"]) < length:
                    continue
                runs, _ = self._fat.chain(int(entry["first_cluster"]), -(-length // self.cluster_size))
                have = cut(self._extents(runs), length)
                self._bitmap = have if sum(e.length for e in have) == length else ()
            elif head[at] == TYPE_UPCASE:
                self._check_upcase(np.frombuffer(head, UPCASE_ENTRY, 1, at)[0])
            elif not head[at]:
                break
        if not self._bitmap:
            self.health.append("the allocation bitmap cannot be found: nothing tells which clusters are free")

    def _check_upcase(self, entry: np.void) -> None:
        """A system mounts no volume of which the up-case table is damaged (section 7.2.4)."""
        length = int(entry["length"])
        if not self.geometry.holds(int(entry["first_cluster"])) or not 0 < length <= _LARGEST_UPCASE:
            return
        runs, _ = self._fat.chain(int(entry["first_cluster"]), -(-length // self.cluster_size))
        table = self._medium.read_extents(cut(self._extents(runs), length))
        if table_checksum(table) != int(entry["checksum"]):
            self.health.append("the up-case table is damaged")
            self.mountable = False

    def _bytes(self, first_byte: int, length: int) -> bytes:
        """Bytes of the bitmap. The part that was read last is kept: neighbours are asked for one after the other."""
        at = first_byte // _BITMAP_KEPT * _BITMAP_KEPT
        if first_byte + length > at + _BITMAP_KEPT:
            return self._medium.read_extents(within(self._bitmap, first_byte, length))
        if self._kept_at != at:
            self._kept = self._medium.read_extents(within(self._bitmap, at, _BITMAP_KEPT))
            self._kept_at = at
        return self._kept[first_byte - at : first_byte - at + length]

    def _used_runs(self, start: int, stop: int) -> Iterator[Run]:
        lo = max(start, FIRST_CLUSTER) - FIRST_CLUSTER
        hi = min(stop, self.geometry.clusters + FIRST_CLUSTER) - FIRST_CLUSTER
        while lo < hi and self._bitmap:
            at = lo // 8
            upto = min((at + _BITMAP_PIECE) * 8, hi)
            data = self._bytes(at, (upto + 7) // 8 - at)
            if data.strip(b"\0"):
                yield from runs_of(_bits_of(data)[lo - at * 8 : upto - at * 8], lo + FIRST_CLUSTER)
            lo = upto

    def used_and_free(self) -> tuple[int, int]:
        used, position = 0, 0
        for place in self._bitmap:
            for part in self._medium.data_ranges(place.offset, place.end):
                for at in range(0, part.length, 1 << 20):
                    inside = position + part.offset - place.offset + at
                    bits = _bits_of(self._bytes(inside, min(part.length - at, 1 << 20)))
                    used += int(bits[: max(self.geometry.clusters - inside * 8, 0)].sum())
            position += place.length
        return used * self.cluster_size, (self.geometry.clusters - used) * self.cluster_size

    # -- the tree ---------------------------------------------------------------------------

    def _walk(self) -> list[Folder[Record]]:
        """Every folder that can be reached, its records read: live ones first, so that a folder that was moved
        counts where it is and not where a deleted record still names it."""
        folders = [self._start]
        visited = {self.geometry.root_cluster}
        queue = [self._start]
        later: list[tuple[Record, Folder[Record]]] = []
        budget = _MAX_RECORDS
        while queue or later or (queue := self._rejoin_deleted_folders(folders)):
            if not queue:
                self._follow(*later.pop(), visited, folders, queue)
                continue
            folder = queue.pop()
            records = parse_table(self._table(folder))
            folder.records = [r for r in records if r.proven or not folder.deleted][: max(budget, 0)]
            budget -= len(folder.records)
            if budget <= 0:
                self.health.append(f"more than {_MAX_RECORDS:,} files: the rest was left out")
                break
            for record in folder.records:
                if record.folder and (folder.deleted or record.deleted):
                    later.append((record, folder))
                elif record.folder:
                    self._follow(record, folder, visited, folders, queue)
        return folders

    def _folder_runs(self, record: Record, deleted: bool) -> list[Run]:
        needed = max(-(-min(record.size, MAX_FOLDER_BYTES) // self.cluster_size), 1)
        if record.no_chain:
            room = self.geometry.clusters + FIRST_CLUSTER - record.cluster
            return [(record.cluster, min(needed, room))]
        runs, problem = self._chain(record.cluster, needed)
        if problem and not deleted:
            self.health.append(f"folder {record.name}: {problem}")
        return runs or ([(record.cluster, 1)] if deleted else [])

    def own_extents(self) -> Iterator[tuple[str, Extent]]:
        yield "table", Extent(self.where.offset, self.data.offset - self.where.offset)
        for extent in self._bitmap:
            yield "table", extent
        for folder in self._settled():
            if not folder.deleted:
                for extent in self._extents(folder.runs):
                    yield "folder", extent

    def folder_extents(self) -> Iterator[Extent]:
        return (extent for folder in self._settled() for extent in self._extents(folder.runs))

    def structures(self) -> Iterator[tuple[str, Extent]]:
        g = self.geometry
        yield "boot region", Extent(g.offset, BOOT_REGION_SECTORS * g.sector)
        yield "backup boot region", Extent(g.offset + BOOT_REGION_SECTORS * g.sector, BOOT_REGION_SECTORS * g.sector)
        for copy in range(g.fats):
            yield f"FAT {copy + 1}", g.fat(copy)
        for extent in self._bitmap:
            yield "allocation bitmap", extent
        for folder in self._settled():
            name = "root folder" if folder.record is None else f"folder /{'/'.join(folder.path)}"
            for extent in self._extents(folder.runs):
                yield f"{name} (deleted)" if folder.deleted else name, extent

    def _table(self, folder: Folder[Record]) -> bytes:
        return self._medium.read_extents(cut(self._extents(folder.runs), MAX_FOLDER_BYTES))

    def _rejoin_deleted_folders(self, folders: list[Folder[Record]]) -> list[Folder[Record]]:
        """Find the later clusters of deleted folders whose chains are gone; answers the folders that grew.

        A folder takes a new cluster when it is full, just behind the file it was given last. So a free cluster that
        goes on with a folder's table belongs to the full one whose last file ends nearest before it; where an entry
        set reaches over the edge, its checksum proves it. The size in the folder's own record does not count: drivers
        shrink a folder while they empty it.
        """
        unfinished = [f for f in folders if f.deleted and f.records and not table_ends(self._table(f))]
        if not unfinished:
            return []
        ends = {id(folder): self._end_of_last_file(folder) for folder in unfinished}
        tails = {id(folder): tail_of(self._table(folder)) for folder in unfinished}
        grown: dict[int, Folder[Record]] = {}
        for cluster in self._free_blocks(min(ends.values()), table_heads):
            block = self._medium.read(self.geometry.cluster_offset(cluster), self.cluster_size)
            before = [folder for folder in unfinished if ends[id(folder)] <= cluster]
            for folder in sorted(before, key=lambda folder: -ends[id(folder)])[:_MOST_TRIED]:
                if goes_on(tails[id(folder)], block):
                    grown[id(folder)] = folder
                    folder.runs.append((cluster, 1))
                    self._rejoined.add(cluster)
                    folder.records = [record for record in parse_table(self._table(folder)) if record.proven]
                    ends[id(folder)] = max(self._end_of_last_file(folder), cluster + 1)
                    tails[id(folder)] = tail_of(block)
                    if table_ends(block):
                        unfinished.remove(folder)
                    break
            if not unfinished:
                break
        return list(grown.values())

    def _end_of_last_file(self, folder: Folder[Record]) -> int:
        """The cluster behind the last file a folder lists, or behind the folder's own."""
        own = folder.runs[-1][0] + folder.runs[-1][1]
        placed = [record for record in folder.records if self.geometry.holds(record.cluster)]
        return max(placed[-1].cluster - -placed[-1].size // self.cluster_size, own) if placed else own

    def entries(self) -> Iterator[Entry]:
        folders = self._settled()
        self._begin_walk()
        for folder in folders:
            table = Laid(self._extents(folder.runs))
            path, sure = folder.path, folder.sure
            for record in folder.records:
                deleted = record.deleted or folder.deleted
                places = table.within(record.position, record.length)
                entry = Entry(
                    (*path, record.name), record.folder, deleted, record.size, record.times,
                    places, name_sure=record.name_sure * sure,
                    name_note=record.name_note, notes=list(record.notes),
                )  # fmt: skip
                entry.placements = self._placements(record, deleted, entry.notes)
                yield entry

    # -- where files lie --------------------------------------------------------------------

    def _placements(self, record: Record, deleted: bool, notes: list[str]) -> tuple[Placement, ...]:
        g = self.geometry
        if record.folder:
            return ()
        if not record.size:
            return (Placement(FileMap(), "an empty file"),)
        if not g.holds(record.cluster):
            notes.append("its stream entry names no cluster of this volume")
            return ()
        needed = -(-record.size // self.cluster_size)
        room = g.clusters + FIRST_CLUSTER - record.cluster
        if record.no_chain:
            if needed > room:
                notes.append("it ends beyond the end of the volume")
            straight = self._extents([(record.cluster, min(needed, room))])
            return (Placement(self._map(straight, record), "in one piece, as its no-chain flag says", certain=True),)
        runs, problem = self._chain(record.cluster, needed)
        have = sum(length for _, length in runs)
        if not deleted:
            if have < needed:
                notes.append(problem or f"its chain ends after {plural(have, 'cluster')} of {needed:,}")
            return (Placement(self._map(self._extents(runs), record), "its chain in the FAT"),)
        guesses = tuple(
            replace(guess, map=self._map(guess.extents, record))
            for guess in self._guess_placements(record.cluster, record.size)
        )
        if have < needed:
            return guesses
        chain = Placement(
            self._map(self._extents(runs), record), "its chain, which still stands in the FAT", certain=True
        )
        return (chain, *(guess for guess in guesses if guess.map != chain.map))

    def _map(self, extents: tuple[Extent, ...], record: Record) -> FileMap:
        """A file on these extents. Its end was never written only if the volume gives it room for that (section 7.6.5):
        of a size that nothing holds the end is unknown."""
        room = total(extents) >= record.size
        written = record.valid_size if room and record.valid_size < record.size else None
        return FileMap.of(extents, record.size, written)

    def _index_owners(self, tree: list[Folder[Record]]) -> None:
        """Which live file or folder each allocated run belongs to."""
        owned: list[tuple[int, int, str]] = []
        for folder in tree:
            if folder.deleted:
                continue
            path = folder.path
            owned += [(start, start + length, "/".join(path) or "the root folder") for start, length in folder.runs]
            for record in folder.records:
                if record.deleted or record.folder or not record.size or not self.geometry.holds(record.cluster):
                    continue
                needed = -(-record.size // self.cluster_size)
                runs = [(record.cluster, needed)] if record.no_chain else self._chain(record.cluster, needed)[0]
                owned += [(start, start + length, "/".join((*path, record.name))) for start, length in runs]
        self._set_owners(owned)


def _bits_of(data: bytes) -> NDArray[np.uint8]:
    return np.unpackbits(np.frombuffer(data, "u1"), bitorder="little")


def _unpack(data: bytes) -> NDArray[np.uint32]:
    return np.frombuffer(data, "<u4", len(data) // 4)
