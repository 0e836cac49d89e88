"""Reading ext2, ext3 and ext4 volumes: what stands now, and what is left of what stood before."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping
from functools import cached_property
from typing import NamedTuple

import numpy as np

from sastrugi.media.base import Medium
from sastrugi.media.extents import Extent, RangeSet
from sastrugi.media.filemap import FileMap
from sastrugi.volumes.ext.entries import DOT, DOTS, LOST_FOLDER, FolderEntry, entries_of, text_of
from sastrugi.volumes.ext.inodes import Inodes, Tables, alive, times_of
from sastrugi.volumes.ext.layout import (
    BLOCKS_UNUSED,
    CHECKSUMS,
    EXTENT_MAGIC,
    FIRST_INODE,
    HAS_EXTENTS,
    HAS_INLINE_DATA,
    HAS_JOURNAL,
    INODE,
    INSIDE,
    IS_FILE,
    IS_FOLDER,
    IS_LINK,
    JOURNAL,
    KIND_MASK,
    MAGIC,
    MAGIC_AT,
    NEEDS_RECOVERY,
    ROOT,
    SUPERBLOCK,
    SUPERBLOCK_SIZE,
    Geometry,
    Inode,
    inode_sum,
    superblock_sum,
    told_inode_sum,
)
from sastrugi.volumes.ext.mapping import map_of
from sastrugi.volumes.ext.past import Past
from sastrugi.volumes.reader import OWN_TABLES, Conflict, Entry, Placement, Volume
from sastrugi.volumes.space import OwnedSpace

_MOST_DEPTH = 256
_DOT = b"\x0c\0\x01\x02.\0\0\0"
"""What stands behind the inode in a folder's entry for itself."""
_MOST_BLOCKS = 1 << 20
"""Blocks of one folder."""
_GROUPS_KEPT, _GROUPS_ASKED = 64, 10
_ABOVE = 4
"""Bytes of a folder inside of its inode that tell the folder above."""
Path = tuple[str, ...]


class LostName(NamedTuple):
    """A name that stands in no living folder any more: its folder's inode, the entry, the byte at which it stands."""

    folder: int
    entry: FolderEntry
    at: int


class ExtVolume(Volume):
    """One volume, opened for reading."""

    family = "ext"
    tells_all_places = True

    def __init__(self, medium: Medium, geometry: Geometry, superblock: bytes, by_copy: bool) -> None:
        self._medium, self.geometry = medium, geometry
        room = max(medium.size - geometry.offset, 0)
        self.where = Extent(geometry.offset, min(geometry.where.length, room))
        first = geometry.at(geometry.first)
        self.data = Extent(first, max(self.where.end - first, 0))
        self.cluster_size = geometry.block
        row = np.frombuffer(superblock, SUPERBLOCK, 1)[0]
        self._row = row
        self.label = bytes(row["label"]).split(b"\0")[0].decode("utf-8", "replace")
        self.serial = geometry.uuid.hex()
        self.file_system = _title(geometry)
        self.health = []
        self.mountable = not by_copy
        if by_copy:
            self.health.append("the superblock is damaged: a copy of it was used")
        elif geometry.checksums and int(row["checksum"]) != superblock_sum(superblock):
            self.health.append("the checksum of the superblock is wrong")
        if geometry.incompatible & NEEDS_RECOVERY:
            self.health.append("it was not unmounted: it is read as it is once its journal is written back")
        self._bits: dict[int, np.ndarray] = {}
        self.tables = self._tables()
        root = self.raw_inode(ROOT)
        if int.from_bytes(root[:2], "little") & KIND_MASK != IS_FOLDER:
            self.health.append("the inode of the root is damaged")
            self.mountable = False

    # -- inodes -----------------------------------------------------------------------------

    def _tables(self) -> Tables:
        """Where tables and bitmaps are, by the descriptors or by their copy."""
        own = Tables(self._medium, self.geometry)
        if own.good.all():
            return own
        self.mountable = False
        if self.geometry.groups < 2:
            self.health.append("descriptors of groups are damaged")
            return own
        copy = Tables(self._medium, self.geometry, from_copy=True)
        if copy.good.sum() > own.good.sum():
            self.health.append("descriptors of groups are damaged: their copy was used")
            copy.used[:] = self.geometry.group_inodes  # a copy is as old as the volume
            return copy
        self.health.append("descriptors of groups are damaged")
        return own

    def fits(self) -> bool:
        """Whether what the superblock says is there: the root, a copy of the superblock, or a bitmap that knows its own
        group's tables. A journal holds copies of superblocks, which begin no volume."""
        g = self.geometry
        if int.from_bytes(self.raw_inode(ROOT)[:2], "little") & KIND_MASK == IS_FOLDER:
            return True
        for group in range(1, min(g.groups, _GROUPS_ASKED)):
            copy = self._medium.read(g.at(g.group_start(group)), SUPERBLOCK_SIZE) if g.has_copy(group) else b""
            if copy[MAGIC_AT : MAGIC_AT + 2] == MAGIC.to_bytes(2, "little") and copy[104:120] == g.uuid:
                return True
        table = int(self.tables.tables[0]) - g.first
        bits = self._group_bits(0) if self.tables.good[0] else np.zeros(0, bool)
        own = bits[table : table + g.table_blocks]
        return bool(len(own) and own.all() and not bits.all())

    @cached_property
    def inodes(self) -> Inodes:
        return Inodes(self._medium, self.tables)

    def block(self, number: int) -> bytes:
        return self._medium.read(self.geometry.at(number), self.geometry.block)

    def raw_inode(self, number: int) -> bytes:
        place = self.tables.place(number)
        return self._medium.read(place, self.geometry.inode) if place is not None else b""

    def map_of(self, number: int, row: Inode) -> tuple[FileMap, list[str], list[int]]:
        """Where an inode's content lies, what is wrong with that, and the blocks of its tree."""
        place = self.tables.place(number) or 0
        raw = self.inodes.raw(number)
        found, wrong, tree = map_of(row, self.geometry, self.block, place, raw)
        if self.geometry.checksums and told_inode_sum(raw) != inode_sum(self.geometry, number, raw):
            wrong = [*wrong, "the checksum of its inode is wrong"]
        return found, wrong, tree

    # -- folders ----------------------------------------------------------------------------

    def folder_blocks(self, number: int, row: Inode) -> Iterator[tuple[int, Extent]]:
        """The blocks of a folder that have a place: number in the volume, and where."""
        found = self.map_of(number, row)[0]
        for n, extent in enumerate(e for part in found.stored for e in _blocks(part, self.geometry.block)):
            if n >= _MOST_BLOCKS:
                return
            yield (extent.offset - self.geometry.offset) // self.geometry.block, extent

    def _folder_parts(self, number: int, row: Inode) -> Iterator[tuple[bytes, int]]:
        """The chains of entries of a folder, and where each stands: its blocks; or, of a small one, parts of its inode,
        of which the first begins with the inode of the folder above."""
        if not row.flags & HAS_INLINE_DATA:
            for _, extent in self.folder_blocks(number, row):
                yield self._medium.read(*extent), extent.offset
            return
        for n, extent in enumerate(self.map_of(number, row)[0].stored):
            skip = _ABOVE if not n else 0
            yield self._medium.read(extent.offset + skip, extent.length - skip), extent.offset + skip

    def _walk(self) -> Iterator[tuple[Path, FolderEntry, int, int]]:
        """Every entry of every folder that can be reached: the folder's path, the entry, the byte at which it stands,
        the folder's inode."""
        folders = self.inodes.folders
        waiting: list[tuple[Path, int]] = [((), ROOT)]
        seen = {ROOT}
        left = 2 * self._medium.size
        while waiting and left > 0:
            path, number = waiting.pop()
            row = self.inodes.of(number) if number in folders else None
            if row is None or len(path) > _MOST_DEPTH:
                continue
            for data, place in self._folder_parts(number, row):
                left -= len(data)
                if left < 0:  # folders that have each other's blocks
                    break
                for entry in entries_of(data, self.geometry.inodes)[0]:
                    if entry.name in (DOT, DOTS):
                        continue
                    yield path, entry, place + entry.at, number
                    if entry.gone or entry.inode in seen:
                        continue
                    if entry.inode in folders:
                        seen.add(entry.inode)
                        waiting.append(((*path, text_of(entry.name)), entry.inode))

    @cached_property
    def paths(self) -> dict[int, Path]:
        """The paths of the folders that stand now, by their inodes."""
        out: dict[int, Path] = {ROOT: ()}
        for path, entry, _, _ in self._walk():
            if not entry.gone and entry.inode in self.inodes.folders:
                out.setdefault(entry.inode, (*path, text_of(entry.name)))
        return out

    def entries(self) -> Iterator[Entry]:
        """Live files and folders; deleted ones whose inodes still tell where they lie."""
        is_alive = alive(self.inodes.rows)
        living = set(self.inodes.numbers[is_alive].tolist())
        names: defaultdict[int, list[LostName]] = defaultdict(list)
        for path, entry, at, folder in self._walk():
            if entry.gone:
                names[entry.inode].append(LostName(folder, entry, at))
                continue
            row = self.inodes.of(entry.inode) if entry.inode in living else None
            own = (*path, text_of(entry.name))
            if row is None:
                continue
            if entry.inode < FIRST_INODE or own == ("lost+found",) or row.mode & KIND_MASK == IS_LINK:
                continue
            yield self._entry(own, entry.inode, row, Extent(at, entry.length), False, "its entry")
        rows = self.inodes.rows
        gone = self.inodes.numbers[~is_alive & (rows["links"] == 0) & (self.inodes.numbers >= FIRST_INODE)].tolist()
        dead = {number: row for number in gone if (row := self.inodes.of(number)) is not None and any(row.blocks)}
        for number, row in dead.items():
            if row.mode & KIND_MASK == IS_FOLDER:
                self._names_of_lost_folder(number, row, names)
        for number, row in dead.items():
            if row.mode & KIND_MASK == IS_FILE:
                yield from self._deleted(number, row, names)

    def _names_of_lost_folder(self, number: int, row: Inode, names: defaultdict[int, list[LostName]]) -> None:
        """The names in the blocks of a deleted folder whose inode kept its places, if they are its own still."""
        blocks = [extent for _, extent in self.folder_blocks(number, row)]
        if not blocks or self._medium.read(blocks[0].offset, 12) != number.to_bytes(4, "little") + _DOT:
            return
        for extent in blocks:
            for entry in entries_of(self._medium.read(*extent), self.geometry.inodes)[0]:
                if entry.name not in (DOT, DOTS):
                    names[entry.inode].append(LostName(number, entry, extent.offset + entry.at))

    def _lost_path(self, number: int, names: Mapping[int, list[LostName]]) -> tuple[Path, float]:
        """The path of a folder, deleted or not, and how sure it is."""
        below: list[str] = []
        seen: set[int] = set()
        while number not in self.paths and number not in seen:
            seen.add(number)
            if number not in names:
                return (LOST_FOLDER.format(number), *reversed(below)), 0.5
            below.append(text_of(names[number][0].entry.name))
            number = names[number][0].folder
        return (*self.paths.get(number, ()), *reversed(below)), 1.0

    def _entry(
        self, path: Path, number: int, row: Inode, where: Extent | None, deleted: bool, note: str, sure: float = 1.0
    ) -> Entry:
        folder = row.mode & KIND_MASK == IS_FOLDER
        place, wrong, _ = self.map_of(number, row)
        inode_at = self.tables.place(number) or 0
        inside = bool(place.stored) and inode_at <= place.stored[0].offset < inode_at + self.geometry.inode
        how = "inside of its inode" if inside else "by its inode"
        record = (*((where,) if where else ()), Extent(inode_at, self.geometry.inode))
        placements = (Placement(place, how, inside=inside),) if place.segments and not folder else ()
        damaged = not deleted and bool(wrong) and not place.stored
        return Entry(
            path, folder, deleted, 0 if folder else place.size, times_of(row), record, placements, sure, note,
            list(wrong), identity=number, damaged=damaged,
        )  # fmt: skip

    def _deleted(self, number: int, row: Inode, names: Mapping[int, list[LostName]]) -> Iterator[Entry]:
        """A deleted file whose inode kept its places (as the old driver of ext2 leaves it)."""
        place, wrong, _ = self.map_of(number, row)
        if not place.stored or wrong:
            return
        for name in names.get(number, ()):
            above, sure = self._lost_path(name.folder, names)
            path, where = (*above, text_of(name.entry.name)), Extent(name.at, name.entry.length)
            yield self._entry(path, number, row, where, True, "a gap of its folder", sure)
        if number not in names:
            yield self._entry((f"inode-{number}",), number, row, None, True, "no name of it is left", 0.1)

    # -- the past ---------------------------------------------------------------------------

    @cached_property
    def journal(self) -> FileMap:
        """Where the journal lies, by its inode or by what the superblock keeps of that."""
        if not self.geometry.compatible & HAS_JOURNAL:
            return FileMap()
        row = self.inodes.of(JOURNAL)
        if row is not None and row.links:
            found, wrong, _ = map_of(row, self.geometry, self.block, 0)
            if found.size and not wrong:
                return found
        fields = bytes(self._row["journal_blocks"])
        backup = Inode.of(np.zeros(1, INODE)[0])._replace(
            mode=IS_FILE, links=1, blocks=fields[:INSIDE], size=int.from_bytes(fields[64:68], "little"),
            flags=HAS_EXTENTS if fields[:2] == EXTENT_MAGIC.to_bytes(2, "little") else 0,
        )  # fmt: skip
        return map_of(backup, self.geometry, self.block, 0)[0]

    def history(self) -> Iterator[Entry]:
        """Files that copies of inodes in the journal tell of and that are no more."""
        if self.journal.size:
            yield from Past(self, self._medium).entries()

    # -- what there is ----------------------------------------------------------------------

    def own_extents(self) -> Iterator[tuple[str, Extent]]:
        told = RangeSet()
        for what, extent in self._own_parts():
            for gap in told.gaps(extent):
                yield what, gap
            told.add(extent)

    def _own_parts(self) -> Iterator[tuple[str, Extent]]:
        for _, extent in self._fixed():
            yield "table", extent
        for extent in self.journal.stored:
            yield "table", extent
        for number in self.paths:
            row = self.inodes.of(number)
            if row is not None:
                yield from (("folder", extent) for _, extent in self.folder_blocks(number, row))

    def _fixed(self) -> Iterator[tuple[str, Extent]]:
        """What lies in groups at places of its own."""
        g, end = self.geometry, self._medium.size
        yield "superblock", Extent(g.offset, min(2048 if g.block == 1024 else g.block, self.where.length))
        for place, _ in g.descriptor_places():
            yield "group descriptors", Extent(g.at(place), g.block)
        for group in range(1, g.groups):
            if g.has_copy(group):
                blocks = 1 + (0 if g.first_meta else g.descriptor_blocks + g.reserved_descriptors)
                yield "copy of the superblock", Extent(g.at(g.group_start(group)), blocks * g.block)
        if g.reserved_descriptors:
            yield (
                "room for descriptors",
                Extent(g.at(g.first + 1 + g.descriptor_blocks), g.reserved_descriptors * g.block),
            )
        for name, places, blocks in (
            ("block bitmap", self.tables.block_bits, 1), ("inode bitmap", self.tables.inode_bits, 1),
            ("inode table", self.tables.tables, g.table_blocks),
        ):  # fmt: skip
            for place in places.tolist():
                if g.first <= place and place + blocks <= g.blocks and g.at(place + blocks) <= end:
                    yield name, Extent(g.at(place), blocks * g.block)

    @cached_property
    def _fixed_space(self) -> RangeSet:
        return RangeSet(extent for _, extent in self._fixed())

    def structures(self) -> Iterator[tuple[str, Extent]]:
        yield from self._fixed()
        for extent in self.journal.stored:
            yield "journal", extent
        for what, extent in self._own_parts():
            if what == "folder":
                yield "a folder", extent

    # -- space ------------------------------------------------------------------------------

    def used_and_free(self) -> tuple[int, int]:
        g = self.geometry
        low, high = (
            self.tables.rows["free_blocks"].astype(np.int64),
            self.tables.rows["free_blocks_high"].astype(np.int64),
        )
        free = int(np.minimum((low | high << 16) * g.ratio, g.group_blocks).sum())
        total = g.blocks - g.first
        free = min(free, total)
        return (total - free) * g.block, free * g.block

    def _group_bits(self, group: int) -> np.ndarray:
        """Which blocks of a group are in use."""
        known = self._bits.get(group)
        if known is not None:
            return known
        g, count = self.geometry, self.geometry.blocks_of(group)
        place = int(self.tables.block_bits[group])
        flags = int(self.tables.rows["flags"][group])
        uninitialised = flags & BLOCKS_UNUSED and g.read_only & (CHECKSUMS | 0x10)
        if uninitialised or not g.first <= place < g.blocks:
            bits = np.zeros(count, bool)
            start = g.at(g.group_start(group))
            for extent in self._fixed_space.overlap(Extent(start, count * g.block)):
                bits[(extent.offset - start) // g.block : -(-(extent.end - start) // g.block)] = True
        else:
            data = self.block(place).ljust(g.block, b"\0")
            bits = np.unpackbits(np.frombuffer(data, "u1"), bitorder="little").astype(bool)
            bits = (np.repeat(bits, g.ratio) if g.ratio > 1 else bits)[:count]
        if len(self._bits) > _GROUPS_KEPT:
            self._bits.clear()
        self._bits[group] = bits
        return bits

    def _used(self, part: Extent) -> Iterator[Extent]:
        """The parts of a stretch that the bitmaps call used."""
        g = self.geometry
        first = max((part.offset - g.offset) // g.block, g.first)
        behind = min(-(-(part.end - g.offset) // g.block), g.blocks)
        while first < behind:
            group = (first - g.first) // g.group_blocks
            start = g.group_start(group)
            stop = min(behind, start + g.blocks_of(group))
            own = self._group_bits(group)[first - start : stop - start]
            edges = np.flatnonzero(np.diff(np.concatenate(([0], own, [0])).astype(np.int8))).reshape(-1, 2)
            for lo, hi in edges.tolist():
                begin, end = max(g.at(first + lo), part.offset), min(g.at(first + hi), part.end)
                if begin < end:
                    yield Extent(begin, end - begin)
            first = stop

    @cached_property
    def _space(self) -> OwnedSpace:
        owned: list[tuple[Extent, str, int]] = []
        for path, entry, _, _ in self._walk():
            row = self.inodes.of(entry.inode)
            if entry.gone or row is None or row.mode & KIND_MASK == IS_FOLDER or not row.links:
                continue
            place, _, tree = self.map_of(entry.inode, row)
            name = "/".join((*path, text_of(entry.name)))
            owned += [(extent, name, entry.inode) for extent in place.stored]
            owned += [(Extent(self.geometry.at(block), self.geometry.block), name, entry.inode) for block in tree]
        names = {"table": OWN_TABLES, "folder": "a folder"}
        return OwnedSpace(self._used, [*owned, *((e, names[what], 0) for what, e in self.own_extents())])

    def conflicts(self, extents: tuple[Extent, ...]) -> list[Conflict]:
        return self._space.conflicts(extents)


def _blocks(extent: Extent, size: int) -> Iterable[Extent]:
    return (Extent(at, min(size, extent.end - at)) for at in range(extent.offset, extent.end, size))


def _title(geometry: Geometry) -> str:
    if geometry.extents or geometry.read_only & ~0x7 or geometry.incompatible & ~0x17:
        return "ext4"
    return "ext3" if geometry.compatible & HAS_JOURNAL else "ext2"
