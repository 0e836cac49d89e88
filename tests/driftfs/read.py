"""Reading drift volumes, as they are and as their journal says they were."""

from __future__ import annotations

import zlib
from collections.abc import Iterable, Iterator, Sequence
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from sastrugi.media import Extent, FileMap, Medium
from sastrugi.media.filemap import UNKNOWN, ZEROS, Segment
from sastrugi.media.overlay import OverlayMedium
from sastrugi.volumes.reader import Conflict, Entry, Placement, Times, Volume
from sastrugi.volumes.registry import SeenRecord
from sastrugi.volumes.space import OwnedSpace
from tests.driftfs.layout import (
    BLOCK,
    DIRENT,
    DIRENT_SIZE,
    FILE,
    FOLDER,
    INODE,
    INODE_MAGIC,
    INODE_SIZE,
    JOURNAL_BLOCKS,
    JOURNAL_HEAD,
    JOURNAL_MAGIC,
    MAGIC,
    MAGIC_AT,
    MOST_NOTE,
    NOTE_AT,
    PACKED,
    ROOT,
    SUPERBLOCK,
    UNIT,
    Geometry,
    of_nanoseconds,
)

_MOST_DEPTH = 40


def superblocks_in(sectors: NDArray[np.uint8], _heads: NDArray[np.uint8]) -> NDArray[np.bool_]:
    found: NDArray[np.bool_] = (sectors[:, MAGIC_AT : MAGIC_AT + 8] == np.frombuffer(MAGIC, "u1")).all(axis=1)
    return found


def starts(medium: Medium, at: int) -> list[tuple[int, bool]]:
    """A superblock tells of which group it is the copy."""
    block = np.frombuffer(medium.read(at, SUPERBLOCK.itemsize).ljust(SUPERBLOCK.itemsize, b"\0"), SUPERBLOCK)[0]
    return [(at - BLOCK * (1 + int(block["group"]) * int(block["group_blocks"])), bool(block["group"]))]


def open_drift(medium: Medium, where: Extent) -> DriftVolume | None:
    """By the superblock, or by its copy in the middle."""
    for at in (BLOCK, where.length // 2 // BLOCK * BLOCK + BLOCK):
        data = medium.read(where.offset + at, SUPERBLOCK.itemsize)
        if len(data) < SUPERBLOCK.itemsize or data[MAGIC_AT : MAGIC_AT + 8] != MAGIC:
            continue
        block = np.frombuffer(data, SUPERBLOCK)[0]
        geometry = Geometry(
            where.offset, *(int(block[n]) for n in ("blocks", "group_blocks", "inode_blocks", "journal"))
        )
        if (
            geometry.blocks == 2 * geometry.group_blocks
            and 0 < geometry.inode_blocks < geometry.group_blocks <= medium.size // BLOCK
            and geometry.journal + JOURNAL_BLOCKS <= geometry.group_blocks
            and where.offset + geometry.blocks * BLOCK <= medium.size
        ):
            return DriftVolume(medium, geometry, block, at != BLOCK)
    return None


class DriftVolume(Volume):
    family, file_system = "drift", "Drift"

    def __init__(self, medium: Medium, geometry: Geometry, block: np.void, by_copy: bool) -> None:
        self._medium, self.geometry, self._block = medium, geometry, block
        self.where = Extent(geometry.offset, geometry.blocks * BLOCK)
        self.label, self.serial = block["label"].decode("utf-8", "replace"), f"{int(block['serial']):08X}"
        self.cluster_size, self.data = BLOCK, self.where
        self.health = ["the superblock is damaged: its copy was used"] if by_copy else []
        self.mountable = not by_copy

    # -- inodes and names -------------------------------------------------------------------

    @cached_property
    def _inodes(self) -> NDArray[np.void]:
        g = self.geometry
        parts = [
            self._medium.read(g.at(group * g.group_blocks + 2 + g.bitmap_blocks), g.inode_blocks * BLOCK)
            for group in range(2)
        ]
        rows = np.frombuffer(b"".join(part.ljust(g.inode_blocks * BLOCK, b"\0") for part in parts), "u1")
        return np.ascontiguousarray(rows.reshape(-1, INODE_SIZE)[:, : INODE.itemsize]).view(INODE)[:, 0]

    def _inode(self, number: int, kind: int) -> np.void | None:
        if not 0 < number <= len(self._inodes):
            return None
        inode: np.void = self._inodes[number - 1]
        return inode if inode["magic"] == INODE_MAGIC and inode["kind"] == kind and inode["links"] else None

    def _map(self, inode: np.void) -> FileMap:
        return _map_of(inode, self.geometry.offset, self.where)

    def _walk(self) -> Iterator[tuple[tuple[str, ...], int, int, Extent]]:
        """Every entry of every live folder: path, inode (0: deleted), kind, where the entry stands."""
        waiting: list[tuple[tuple[str, ...], int]] = [((), ROOT)]
        seen = {ROOT}
        while waiting:
            path, number = waiting.pop()
            inode = self._inode(number, FOLDER)
            for extent in self._map(inode).stored if inode is not None and len(path) < _MOST_DEPTH else ():
                data = self._medium.read(*extent)
                for n, entry in enumerate(np.frombuffer(data, DIRENT, len(data) // DIRENT_SIZE)):
                    name = bytes(entry["name"])[: int(entry["length"])].decode("utf-8", "replace")
                    if not name or "/" in name:
                        continue
                    child, kind = int(entry["inode"]), int(entry["kind"])
                    yield (*path, name), child, kind, Extent(extent.offset + n * DIRENT_SIZE, DIRENT_SIZE)
                    if kind == FOLDER and child not in seen:
                        seen.add(child)
                        waiting.append(((*path, name), child))

    def entries(self) -> Iterator[Entry]:
        for path, number, kind, where in self._walk():
            inode = self._inode(number, kind)
            if inode is None:
                continue  # of a deleted one only the name stands: nobody can say whose it was
            block, at = self.geometry.inode_block(number)
            record = (where, Extent(self.geometry.at(block) + at, INODE_SIZE))
            times = Times(*(of_nanoseconds(int(inode[name])) for name in ("created", "modified")))
            place = () if kind == FOLDER else (Placement(self._map(inode), "the runs of its inode"),)
            size = int(inode["size"]) if kind == FILE else 0
            yield Entry(path, kind == FOLDER, False, size, times, record, place, name_note="its entry", identity=number)
            note = int(inode["note_size"])
            if kind == FILE and inode["note_name"] and note <= MOST_NOTE:
                inside = FileMap.of((Extent(record[1].offset + NOTE_AT, note),))
                yield Entry(
                    path, False, False, note, times, record, (Placement(inside, "inside of its inode"),),
                    name_note="its entry", identity=number, stream=inode["note_name"].decode("utf-8", "replace"),
                )  # fmt: skip

    # -- the past ---------------------------------------------------------------------------

    def history(self) -> Iterator[Entry]:
        """Files that were there after some transaction of the journal and are not any more, the newest state first."""
        now = {(entry.full_path, entry.map) for entry in self.entries()}
        every = sorted(self._transactions(), reverse=True)
        for n, (sequence, _) in enumerate(every):
            blocks: dict[int, int] = {}
            for _, copies in reversed(every[n:]):
                blocks |= copies
            then = DriftVolume(OverlayMedium(self._medium, blocks, BLOCK), self.geometry, self._block, False)
            told = {place for _, place in now if place.size}
            for entry in then.entries():
                key = entry.full_path, entry.map
                if entry.folder or key in now or entry.map in told:
                    continue
                now.add(key)
                entry.deleted, entry.source = True, f"transaction {sequence} of the journal"
                entry.record = tuple(Extent(_copied(one.offset, blocks), one.length) for one in entry.record)
                if entry.stream:
                    moved = [Extent(_copied(one.offset, blocks), one.length) for one in entry.map.stored]
                    entry.placements = (Placement(FileMap.of(moved), "inside of a copy of its inode"),)
                yield entry

    def _transactions(self) -> Iterator[tuple[int, dict[int, int]]]:
        """Sequence number of each whole transaction, and for the byte of each block where its copy stands."""
        g = self.geometry
        for n in range(JOURNAL_BLOCKS):
            data = self._medium.read(g.at(g.journal + n), BLOCK)
            if data[:4] != JOURNAL_MAGIC or len(data) < BLOCK:
                continue
            head = np.frombuffer(data, JOURNAL_HEAD, 1).copy()
            count, check = int(head["count"][0]), int(head["check"][0])
            if head["serial"][0] != self._block["serial"] or count > min(JOURNAL_BLOCKS - n - 1, 200):
                continue
            head["check"] = 0
            numbers = np.frombuffer(data, "<u4", count, JOURNAL_HEAD.itemsize)
            copies = self._medium.read(g.at(g.journal + n + 1), count * BLOCK)
            if zlib.crc32(head.tobytes() + numbers.tobytes() + copies) == check and (numbers < g.blocks).all():
                places = {g.at(int(block)): g.at(g.journal + n + 1 + k) for k, block in enumerate(numbers)}
                yield int(head["sequence"][0]), places

    # -- space ------------------------------------------------------------------------------

    def _used(self, part: Extent) -> Iterator[Extent]:
        g = self.geometry
        for group in range(2):
            base = g.at(group * g.group_blocks)
            lo, hi = max(part.offset, base), min(part.end, base + g.group_blocks * BLOCK)
            if lo >= hi:
                continue
            bits = np.frombuffer(self._medium.read(g.at(group * g.group_blocks + 2), g.bitmap_blocks * BLOCK), "u1")
            used = np.unpackbits(bits, bitorder="little")[: g.group_blocks].astype(bool)
            first, behind = (lo - base) // BLOCK, -(-(hi - base) // BLOCK)
            for n in np.flatnonzero(used[first:behind]).tolist():
                at = base + (first + n) * BLOCK
                yield Extent(max(at, lo), min(at + BLOCK, hi) - max(at, lo))

    @cached_property
    def _space(self) -> OwnedSpace:
        own = ((part, name, 0) for name, part in self.structures())
        entries = [entry for entry in self.entries() if not entry.stream]
        files = ((part, "/".join(e.path), e.identity) for e in entries for part in e.map.stored)
        journal = dict(self.structures())["journal"]
        return OwnedSpace(lambda part: (one for one in self._used(part) if not _inside(one, journal)), [*own, *files])

    def conflicts(self, extents: Iterable[Extent]) -> list[Conflict]:
        return self._space.conflicts(extents)

    def used_and_free(self) -> tuple[int, int]:
        used = sum(part.length for part in self._used(self.where))
        return used, self.where.length - used

    def own_extents(self) -> Iterator[tuple[str, Extent]]:
        yield from (("table", part) for _, part in self.structures())
        for _, number, kind, _ in [((), ROOT, FOLDER, None), *self._walk()]:
            inode = self._inode(number, FOLDER) if kind == FOLDER else None
            yield from (("folder", part) for part in (self._map(inode).stored if inode is not None else ()))

    def structures(self) -> Iterator[tuple[str, Extent]]:
        g = self.geometry
        for group in range(2):
            first = group * g.group_blocks
            yield f"superblock {group}", Extent(g.at(first), 2 * BLOCK)
            yield f"bitmap {group}", Extent(g.at(first + 2), g.bitmap_blocks * BLOCK)
            yield f"inodes {group}", Extent(g.at(first + 2 + g.bitmap_blocks), g.inode_blocks * BLOCK)
        yield "journal", Extent(g.at(g.journal), JOURNAL_BLOCKS * BLOCK)


def _map_of(inode: np.void, offset: int, where: Extent) -> FileMap:
    left = int(inode["size"])
    segments: list[Segment] = []
    for start, count, coding, _ in inode["runs"].tolist():
        if not count or left <= 0:
            break
        length = min(left, UNIT if coding == PACKED else count * BLOCK)
        stored = Extent(offset + start * BLOCK, count * BLOCK)
        if not start:
            segments.append(Segment(length, (), ZEROS))
        elif stored.end > where.end:
            segments.append(Segment(length, (), UNKNOWN))
        elif coding == PACKED:
            segments.append(Segment(length, (stored,), "zlib"))
        else:
            segments.append(Segment(length, (Extent(stored.offset, length),)))
        left -= length
    return FileMap.made([*segments, Segment(max(left, 0), (), UNKNOWN)])


def _copied(at: int, blocks: dict[int, int]) -> int:
    """Where a byte of a block is read from."""
    return next((place + at - block for block, place in blocks.items() if block <= at < block + BLOCK), at)


def _inside(part: Extent, whole: Extent) -> bool:
    return whole.offset <= part.offset and part.end <= whole.end


def peek(_variant: str, data: bytes, _where: Sequence[Extent], first: int, _unit: int) -> SeenRecord | None:
    """An entry and the inode behind it."""
    if len(data) != DIRENT_SIZE + INODE_SIZE:
        return None
    entry, inode = np.frombuffer(data, DIRENT, 1)[0], np.frombuffer(data, INODE, 1, DIRENT_SIZE)[0]
    if inode["magic"] != INODE_MAGIC or not inode["links"]:
        return None
    name = bytes(entry["name"])[: int(entry["length"])].decode("utf-8", "replace") if entry["inode"] else ""
    start = _map_of(inode, first, Extent(first, 1 << 40)).start
    return SeenRecord(name, int(inode["size"]), -1 if start is None else start)
