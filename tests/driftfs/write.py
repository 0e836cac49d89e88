"""Laying drift volumes down."""

from __future__ import annotations

import datetime as dt
import zlib
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field

import numpy as np

from sastrugi.errors import VolumeError
from sastrugi.media import Extent, FileMap
from sastrugi.media.filemap import ZEROS, Segment
from sastrugi.media.raw import RawImage
from sastrugi.volumes.allocation import ClusterMap, Run, join_runs
from sastrugi.volumes.writer import Evidence, Habits, Node, Trace, VolumeWriter, parts_of
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
    MOST_NAME,
    MOST_NOTE,
    MOST_RUNS,
    MOST_STREAM_NAME,
    NOTE_AT,
    PACKED,
    PLAIN,
    ROOT,
    SUPERBLOCK,
    UNIT,
    Geometry,
    to_nanoseconds,
)

PACKED_NAMES = (".txt", ".log", ".csv")
"""Files of such names are stored in packed units where that saves a block."""


@dataclass(slots=True, eq=False)
class Inode:
    """What several names share. `runs` are (start, blocks, coding), holes with start 0."""

    number: int
    links: int
    size: int = 0
    runs: list[tuple[int, int, int]] = field(default_factory=list)
    note_name: str = ""
    note: bytes = b""
    created: dt.datetime = dt.datetime(1970, 1, 1)
    modified: dt.datetime = dt.datetime(1970, 1, 1)


@dataclass(slots=True, eq=False)
class DriftNode(Node):
    """`inode` is the file's, `slot` the number of its entry in the parent's blocks."""

    inode: Inode
    slot: int = -1
    changed: int = 0
    """The transaction that changed it last."""


@dataclass(frozen=True, slots=True)
class Transaction:
    """One transaction of the journal: where it stands, and where in it the copy of each block does."""

    sequence: int
    where: tuple[Extent, ...]
    copies: dict[int, int]
    bytes: bytes


class DriftWriter(VolumeWriter[DriftNode]):
    fatal_structures = frozenset({"superblock"})
    spare_structures = frozenset({"backup-superblock", "journal", "bitmap"})

    def __init__(self, image: RawImage, where: Extent, label: str, serial: int, when: dt.datetime) -> None:
        if where.length < 512 * BLOCK or where.length > 1 << 30:
            raise VolumeError("a drift volume has 512 KiB to 1 GiB")
        if len(label.encode()) > 32:
            raise VolumeError(f"'{label}': the label of a drift volume has at most 32 bytes")
        self.image, self.file_system, self.cluster_size = image, "drift", BLOCK
        g = self.geometry = Geometry.plan(where.offset, where.length)
        self.where = Extent(where.offset, g.blocks * BLOCK)
        self.data = self.where
        self.clusters = ClusterMap(0, g.blocks, BLOCK)
        self._label, self._serial = label, serial
        self._sequence, self._journal_at = 0, 0
        self._transactions: list[Transaction] = []
        self._blocks: dict[int, bytearray] = {}
        self._changed: dict[int, None] = {}
        self._free_inodes = list(range(g.inodes, ROOT, -1))
        for group in range(2):
            first = group * g.group_blocks
            self.clusters.mark([(first, g.head_blocks(group))], True)
            image.zero(g.at(first + 2), (g.head_blocks(group) - 2 - (JOURNAL_BLOCKS if group == 0 else 0)) * BLOCK)
        self.clusters.last = self.clusters.highest = g.head_blocks(0) - 1
        self.root = DriftNode("", None, True, 0, Inode(ROOT, 1, created=when, modified=when))
        self._write_superblocks()
        self._grow_folder(self.root)
        self._put_inode(self.root.inode, FOLDER)
        self._commit()
        self.flush()

    def _write_superblocks(self) -> None:
        g = self.geometry
        for group in range(2):
            block = np.zeros((), SUPERBLOCK)
            block["blocks"], block["group_blocks"], block["inode_blocks"] = g.blocks, g.group_blocks, g.inode_blocks
            block["bitmap_blocks"], block["journal"], block["group"] = g.bitmap_blocks, g.journal, group
            block["serial"], block["magic"], block["label"] = self._serial, MAGIC, self._label.encode()
            self.image.write(g.at(group * g.group_blocks + 1), block.tobytes().ljust(BLOCK, b"\0"))

    # -- metadata, by way of the journal ----------------------------------------------------

    def _block(self, number: int) -> bytearray:
        if number not in self._blocks:
            self._blocks[number] = bytearray(self.image.read(self.geometry.at(number), BLOCK))
        return self._blocks[number]

    def _put(self, block: int, at: int, data: bytes) -> None:
        self._block(block)[at : at + len(data)] = data
        self._changed[block] = None

    def _commit(self) -> None:
        """Copies of all changed blocks go to the journal, then the blocks to their places."""
        g, blocks = self.geometry, list(self._changed)
        self._changed.clear()
        if self._journal_at + 1 + len(blocks) > JOURNAL_BLOCKS:
            self._journal_at = 0
        first = g.journal + self._journal_at
        self._journal_at += 1 + len(blocks)
        self._sequence += 1
        head = np.zeros((), JOURNAL_HEAD)
        head["magic"], head["serial"], head["sequence"] = JOURNAL_MAGIC, self._serial, self._sequence
        head["count"] = len(blocks)
        numbers = np.array(blocks, "<u4").tobytes()
        copies = b"".join(bytes(self._block(block)) for block in blocks)
        head["check"] = zlib.crc32(head.tobytes() + numbers + copies)
        data = (head.tobytes() + numbers).ljust(BLOCK, b"\0") + copies
        self.image.write(g.at(first), data)
        where = Extent(g.at(first), (1 + len(blocks)) * BLOCK)
        kept = [one for one in self._transactions if not _meet(one.where[0], where)]
        places = {block: g.at(first + 1 + n) for n, block in enumerate(blocks)}
        self._transactions = [*kept, Transaction(self._sequence, (where,), places, data)]
        for block in blocks:
            self.image.write(g.at(block), bytes(self._block(block)))

    def _put_inode(self, inode: Inode, kind: int) -> None:
        record = np.zeros((), INODE)
        record["magic"] = INODE_MAGIC
        if inode.links:
            record["kind"], record["links"], record["size"] = kind, inode.links, inode.size
            record["modified"] = record["changed"] = to_nanoseconds(inode.modified)
            record["created"] = to_nanoseconds(inode.created)
            record["note_size"], record["note_name"] = len(inode.note), inode.note_name.encode()
            record["note"][: len(inode.note)] = list(inode.note)
            record["runs"][: len(inode.runs)] = [(start, count, coding, 0) for start, count, coding in inode.runs]
        block, at = self.geometry.inode_block(inode.number)
        self._put(block, at, record.tobytes().ljust(INODE_SIZE, b"\0"))

    def _put_name(self, node: DriftNode, inode: int) -> None:
        assert node.parent is not None
        entry = np.zeros((), DIRENT)
        raw = node.name.encode()
        entry["inode"], entry["kind"], entry["length"], entry["name"] = inode, 1 + node.folder, len(raw), raw
        block, at = self._entry_place(node)
        self._put(block, at, entry.tobytes())

    def _entry_place(self, node: DriftNode) -> tuple[int, int]:
        assert node.parent is not None
        blocks = [start + n for start, count, _ in node.parent.inode.runs for n in range(count)]
        return blocks[node.slot * DIRENT_SIZE // BLOCK], node.slot * DIRENT_SIZE % BLOCK

    def _take_slot(self, parent: DriftNode) -> int:
        taken = {child.slot for child in parent.children.values()}
        slot = next(n for n in range(len(taken) + 1) if n not in taken)
        while slot * DIRENT_SIZE >= parent.inode.size:
            self._grow_folder(parent)
        return slot

    def _grow_folder(self, folder: DriftNode) -> None:
        inode = folder.inode
        taken = self.clusters.take(1)
        runs = join_runs([*((start, count) for start, count, _ in inode.runs), *taken])
        if len(runs) > MOST_RUNS:
            raise VolumeError(f"{folder.path}: the folder is in too many pieces")
        inode.runs = [(start, count, PLAIN) for start, count in runs]
        inode.size += BLOCK
        self._blocks[taken[0][0]] = bytearray(BLOCK)
        self._changed[taken[0][0]] = None
        self._put_inode(inode, FOLDER)

    # -- names ------------------------------------------------------------------------------

    def fold(self, name: str) -> str:
        return name

    def _new_place(self, path: str) -> tuple[DriftNode, str]:
        above, _, name = path.rstrip("/").rpartition("/")
        parent = self.find(above)
        if parent is None or not parent.folder:
            raise VolumeError(f"{above}: there is no such folder")
        if not name or len(name.encode()) > MOST_NAME or "\0" in name:
            raise VolumeError(f"'{name}': a name here has 1 to {MOST_NAME} bytes")
        if name in parent.children:
            raise VolumeError(f"{path}: there is already a file of this name")
        return parent, name

    def make_folder(self, path: str, when: dt.datetime) -> DriftNode:
        node = self.root
        for part in parts_of(path):
            child = node.children.get(part)
            if child is None:
                self._new_place(f"{node.path}/{part}")
                child = DriftNode(part, node, True, 0, self._new_inode(when))
                self._grow_folder(child)
                self._enter(child, when)
            elif not child.folder:
                raise VolumeError(f"{child.path}: a file is there already")
            node = child
        return node

    def _new_inode(self, when: dt.datetime) -> Inode:
        if not self._free_inodes:
            raise VolumeError("the volume is full: it has no inode left")
        return Inode(self._free_inodes.pop(), 1, created=when, modified=when)

    def _enter(self, node: DriftNode, when: dt.datetime) -> None:
        parent = node.parent
        assert parent is not None
        node.slot = self._take_slot(parent)
        parent.children[node.name] = node
        self._put_name(node, node.inode.number)
        self._put_inode(node.inode, FOLDER if node.folder else FILE)
        self._touch(parent, when)
        self._commit()
        node.changed = self._sequence

    def _touch(self, folder: DriftNode, when: dt.datetime) -> None:
        folder.inode.modified = when
        self._put_inode(folder.inode, FOLDER)

    def names_of(self, node: DriftNode) -> int:
        return node.inode.links

    def link(self, node: DriftNode, path: str, when: dt.datetime) -> DriftNode:
        parent, name = self._new_place(path)
        node.inode.links += 1
        new = DriftNode(name, parent, False, node.size, node.inode)
        self._enter(new, when)
        for one in self.streams_of(node):
            self._enter_stream(new, one.size)
        return new

    def rename(self, node: DriftNode, path: str, when: dt.datetime) -> None:
        old = node.parent
        assert old is not None and node.of is None
        parent, name = self._new_place(path)
        above: DriftNode | None = parent
        while above is not None:
            if above is node:
                raise VolumeError(f"{node.path}: a folder cannot be moved into itself")
            above = above.parent
        streams = self.streams_of(node)
        self._put_name(node, 0)
        for one in (node, *streams):
            del old.children[one.name]
        node.name, node.parent = name, parent
        self._enter(node, when)
        for one in streams:
            one.name, one.parent = f"{name}:{one.inode.note_name}", parent
            parent.children[one.name] = one
        self._touch(old, when)
        self._commit()

    # -- content ----------------------------------------------------------------------------

    def moment(self, when: dt.datetime) -> dt.datetime:
        return when.replace(tzinfo=dt.UTC)

    def store(
        self, path: str, size: int, chunks: Iterable[bytes], when: dt.datetime, modified: dt.datetime | None = None,
        lie: Sequence[Extent] | None = None, attributes: int = 0,
    ) -> DriftNode:  # fmt: skip
        name = path.rpartition("/")[2]
        if ":" in name:
            return self._store_stream(path, b"".join(chunks))
        parent, name = self._new_place(path)
        taken = self.clusters.take(self.clusters_for(size)) if lie is None else self.extent_runs(lie)
        inode = self._new_inode(when)
        inode.modified, inode.size = modified or when, size
        node = DriftNode(name, parent, False, size, inode)
        self._fill(node, chunks, taken)
        self._enter(node, when)
        return node

    def _fill(self, node: DriftNode, chunks: Iterable[bytes], taken: list[Run]) -> None:
        """Write content unit by unit: holes where it is zeros, packed where that saves a block."""
        data, inode = bytearray(b"".join(chunks)), node.inode
        if len(data) != inode.size:
            raise VolumeError(f"{node.path}: {len(data)} bytes came where {inode.size} were announced")
        free = [start + n for start, count in taken for n in range(count)]
        runs: list[tuple[int, int, int]] = []
        for at in range(0, len(data), UNIT):
            unit = bytes(data[at : at + UNIT])
            blocks = -(-len(unit) // BLOCK)
            packed = zlib.compress(unit) if node.name.endswith(PACKED_NAMES) and len(unit) == UNIT else unit
            if not any(unit):
                _add(runs, 0, blocks, PLAIN)
                continue
            coding = PACKED if -(-len(packed) // BLOCK) < blocks else PLAIN
            stored = (packed if coding else unit).ljust(-(-len(packed if coding else unit) // BLOCK) * BLOCK, b"\0")
            count = len(stored) // BLOCK
            own, free = free[:count], free[count:]
            if coding and own != list(range(own[0], own[0] + count)):
                coding, stored = PLAIN, unit.ljust(blocks * BLOCK, b"\0")
                own, free = [*own, *free[: blocks - count]], free[blocks - count :]
            for n, block in enumerate(own):
                self.image.write(self.geometry.at(block), stored[n * BLOCK : (n + 1) * BLOCK])
            for start, length in [(own[0], count)] if coding else join_runs((block, 1) for block in own):
                _add(runs, start, length, coding)
        if len(runs) > MOST_RUNS:
            raise VolumeError(f"{node.path}: lies in more than {MOST_RUNS} runs")
        inode.runs = runs
        self.clusters.release(join_runs((block, 1) for block in free))

    def _store_stream(self, path: str, data: bytes) -> DriftNode:
        file, _, stream = path.rpartition(":")
        node = self.find(file)
        if node is None or node.folder:
            raise VolumeError(f"{path}: there is no file {file} that could have a stream")
        if len(data) > MOST_NOTE or not 0 < len(stream.encode()) <= MOST_STREAM_NAME or node.inode.note_name:
            raise VolumeError(f"{path}: a file here has one stream of at most {MOST_NOTE} bytes")
        node.inode.note, node.inode.note_name = data, stream
        self._put_inode(node.inode, FILE)
        self._put_name(node, node.inode.number)
        self._commit()
        return self._enter_stream(node, len(data))

    def _enter_stream(self, node: DriftNode, size: int) -> DriftNode:
        assert node.parent is not None
        stream = node.inode.note_name
        new = DriftNode(f"{node.name}:{stream}", node.parent, False, size, node.inode, node.slot, of=node)
        node.parent.children[new.name] = new
        new.changed = self._sequence
        return new

    def grow(self, node: DriftNode, size: int, chunks: Iterable[bytes], when: dt.datetime) -> None:
        inode, data = node.inode, b"".join(chunks)
        before = inode.size
        if before % UNIT and not inode.runs[-1][0]:
            raise VolumeError(f"{node.path}: ends in a hole, and does not grow here")
        inode.size = node.size = before + size
        runs = list(inode.runs)
        for start, count in self.clusters.take(self.clusters_for(inode.size) - self.clusters_for(before)):
            _add(runs, start, count, PLAIN)
        if len(runs) > MOST_RUNS:
            raise VolumeError(f"the volume is full: {node.path} lies in more than {MOST_RUNS} runs")
        inode.runs, inode.modified = runs, when
        for part in self.map(node).part(before, size).stored:
            self.image.write(part.offset, data[: part.length])
            data = data[part.length :]
        self._put_inode(inode, FILE)
        self._put_name(node, inode.number)
        self._commit()
        node.changed = self._sequence

    def rewrite(self, node: DriftNode, size: int, chunks: Iterable[bytes], when: dt.datetime, in_place: bool) -> None:
        inode = node.inode
        if node.of is not None:
            raise VolumeError(f"{node.path}: a stream is not changed here")
        old = self._own_runs(inode)
        self.clusters.release(old)
        first = old[0][0] if in_place and old else None
        inode.size = node.size = size
        inode.modified = when
        self._fill(node, chunks, self.clusters.take(self.clusters_for(size), first))
        self._put_inode(inode, FILE)
        self._put_name(node, inode.number)
        self._commit()
        node.changed = self._sequence

    @staticmethod
    def _own_runs(inode: Inode) -> list[Run]:
        return [(start, count) for start, count, _ in inode.runs if start]

    def map(self, node: DriftNode) -> FileMap:
        if node.of is not None:
            return self._note_map(self._inode_at(node.inode), node.size)
        left = node.inode.size
        segments: list[Segment] = []
        for start, count, coding in node.inode.runs:
            stored = (Extent(self.geometry.at(start), count * BLOCK),) if start else ()
            length = min(left, UNIT if coding == PACKED else count * BLOCK)
            if coding == PACKED:
                segments.append(Segment(length, stored, "zlib"))
            elif start:
                segments += FileMap.of(stored, length).segments
            else:
                segments.append(Segment(length, (), ZEROS))
            left -= length
        return FileMap.made(segments)

    @staticmethod
    def _note_map(inode_at: int, size: int) -> FileMap:
        return FileMap.of((Extent(inode_at + NOTE_AT, size),))

    # -- deleting ---------------------------------------------------------------------------

    def streams_of(self, node: DriftNode) -> list[DriftNode]:
        return [one for one in node.parent.children.values() if one.of is node] if node.parent is not None else []

    def delete(self, node: DriftNode, when: dt.datetime, habits: Habits = "linux") -> Evidence:
        parent = node.parent
        if parent is None or node.children:
            raise VolumeError(f"{node.path}: the root and folders that are not empty cannot be deleted")
        evidence = self._told_by_journal(node)
        del parent.children[node.name]
        for one in self.streams_of(node):  # the file has other names
            del parent.children[one.name]
        if node.of is not None:
            node.inode.note, node.inode.note_name = b"", ""
            self._put_inode(node.inode, FILE)
            self._commit()
            return evidence
        self._put_name(node, 0)
        node.inode.links -= 1
        if not node.inode.links:
            self.clusters.release(self._own_runs(node.inode))
            self._free_inodes.insert(0, node.inode.number)  # the last that is given out again
        self._put_inode(node.inode, FOLDER if node.folder else FILE)
        self._touch(parent, when)
        self._commit()
        return evidence

    # -- what tells of a file ---------------------------------------------------------------

    def _inode_at(self, inode: Inode) -> int:
        block, at = self.geometry.inode_block(inode.number)
        return self.geometry.at(block) + at

    def record(self, node: DriftNode) -> tuple[Extent, ...]:
        block, at = self._entry_place(node.of or node)
        name = Extent(self.geometry.at(block) + at, DIRENT_SIZE)
        return name, Extent(self._inode_at(node.inode), INODE_SIZE)

    def needs(self, node: DriftNode) -> tuple[Extent, ...]:
        return self.record(node)

    def evidence(self, node: DriftNode) -> Evidence:
        record, told = self.record(node), self._told_by_journal(node)
        own = (Trace("place", "whole", record[1:]), Trace("place", "start", record[1:]), Trace("name", "full", record))
        return Evidence(record, (*own, *told.traces), told.copies)

    def evidence_after(self, node: DriftNode, habits: Habits) -> Evidence:
        return self._told_by_journal(node)

    def _told_by_journal(self, node: DriftNode) -> Evidence:
        """Every state of the journal since its last change in which copies of both its entry and its inode stand."""
        (names, at), (inodes, inside) = self._entry_place(node.of or node), self.geometry.inode_block(node.inode.number)
        traces: list[Trace] = []
        copies: list[FileMap] = []
        record: tuple[Extent, ...] = ()
        entry: Transaction | None = None
        inode: Transaction | None = None
        for one in self._transactions:
            if one.sequence < node.changed or not {names, inodes} & one.copies.keys():
                continue
            if self.image.read_extents(one.where) != one.bytes:
                continue  # it was written over past this writer
            entry, inode = one if names in one.copies else entry, one if inodes in one.copies else inode
            if entry is None or inode is None:
                continue
            where = (*entry.where, *inode.where) if entry is not inode else one.where
            traces[:0] = [Trace("place", "whole", where, "journal"), Trace("name", "full", where, "journal")]
            record = (
                Extent(entry.copies[names] + at, DIRENT_SIZE), Extent(inode.copies[inodes] + inside, INODE_SIZE),
            )  # fmt: skip
            if node.of is not None:
                copies.insert(0, self._note_map(inode.copies[inodes] + inside, node.size))
        return Evidence(record, tuple(traces), tuple(copies))

    def structures(self) -> dict[str, tuple[Extent, ...]]:
        g = self.geometry
        heads = [group * g.group_blocks for group in range(2)]
        return {
            "superblock": (Extent(g.at(1), BLOCK),),
            "backup-superblock": (Extent(g.at(heads[1] + 1), BLOCK),),
            "bitmap": tuple(Extent(g.at(head + 2), g.bitmap_blocks * BLOCK) for head in heads),
            "inodes": tuple(Extent(g.at(head + 2 + g.bitmap_blocks), g.inode_blocks * BLOCK) for head in heads),
            "journal": (Extent(g.at(g.journal), JOURNAL_BLOCKS * BLOCK),),
            "root": self.extents(self.root),
        }

    def flush(self) -> None:
        """Bring the bitmaps up to date."""
        g = self.geometry
        for group in range(2):
            first = group * g.group_blocks
            used = np.ones(g.bitmap_blocks * BLOCK * 8, bool)
            used[: g.group_blocks] = True
            for start, count in self.clusters.free_runs(first, first + g.group_blocks):
                used[start - first : start - first + count] = False
            bits = np.packbits(used, bitorder="little").tobytes()
            self.image.write(g.at(first + 2), bits)


def _add(runs: list[tuple[int, int, int]], start: int, count: int, coding: int) -> None:
    """A run at the end of others; one that goes on where the last ended joins it."""
    if runs and coding == PLAIN == runs[-1][2] and runs[-1][0] and start == runs[-1][0] + runs[-1][1]:
        runs[-1] = (runs[-1][0], runs[-1][1] + count, PLAIN)
    elif runs and not start and not runs[-1][0]:
        runs[-1] = (0, runs[-1][1] + count, PLAIN)
    else:
        runs.append((start, count, coding))


def _meet(one: Extent, other: Extent) -> bool:
    return one.offset < other.end and other.offset < one.end
