"""Lay ext2, ext3 and ext4 volumes down: format, store, make folders, link, grow, rename, delete.

A deletion empties the inode (size, places), and since Linux 5.13 wipes the name; what still tells of a file then are
the copies of its inode and of its folder's block in the journal. `old-linux` leaves names, and on ext2 the places.
"""

from __future__ import annotations

import datetime as dt
import random
from collections import deque
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field

from sastrugi.errors import VolumeError
from sastrugi.media.extents import Extent, within
from sastrugi.media.filemap import FileMap
from sastrugi.media.raw import RawImage
from sastrugi.volumes.allocation import ClusterMap, Run, join_runs
from sastrugi.volumes.ext.folders import FolderBlocks, FolderFull
from sastrugi.volumes.ext.groups import Groups, packed_journal_fields
from sastrugi.volumes.ext.inode import FileState, InodePacker, lists_for, split_runs, tokens, tree_for
from sastrugi.volumes.ext.journal_layout import DESCRIPTOR_BLOCK, HEAD, JOURNAL_MAGIC, SUMS_3, WIDE_NUMBERS
from sastrugi.volumes.ext.journal_write import Copy, JournalWriter
from sastrugi.volumes.ext.layout import (
    BLOCKS_AT,
    DIR_INDEX,
    ENTRY_KINDS,
    FIRST_INODE,
    HAS_EXTENTS,
    HAS_JOURNAL,
    INDEXED,
    INSIDE,
    IS_FILE,
    IS_FOLDER,
    IS_LINK,
    JOURNAL,
    KIND_MASK,
    MOST_NAME,
    ROOT,
    WIDE,
    Geometry,
    entry_size,
)
from sastrugi.volumes.ext.meta_blocks import MetaBlocks
from sastrugi.volumes.ext.plan import journal_blocks
from sastrugi.volumes.writer import Evidence, Habits, Node, Reuse, Trace, VolumeWriter, parts_of

_COMMIT_AFTER = dt.timedelta(seconds=5)
"""What comes within this is one transaction, as drivers have it."""
_LOST_FOLDER, _LOST_SIZE = "lost+found", 16 << 10
_MOST_LABEL = 16
_MOST_LINKS = 65_000
_FEW_RUNS = 256
"""Free runs that are looked at for one that is long enough."""
_FILE_MODE, _FOLDER_MODE, _LINK_MODE, _LOST_MODE, _OWN_MODE = 0o644, 0o755, 0o777, 0o700, 0o600
_LENGTH_AT = 4
"""Where in a folder's entry its length stands, in two bytes."""
_MOST_TOLD = 24
"""Copies in the journal by which one name or place is told; older ones go first when it is written on."""


@dataclass(slots=True, eq=False)
class ExtNode(Node):
    """A name; `file` is shared by all names of a file. `slot` is the block of its folder and the byte of it at which
    its entry stands, `named` the transaction since which it does."""

    file: FileState
    slot: tuple[int, int] = (0, 0)
    named: int = 0
    blocks: FolderBlocks | None = field(default=None, repr=False)


class ExtWriter(VolumeWriter[ExtNode]):
    """A mounted volume that can be written. Call `flush` to bring everything to disk, as at an unmount."""

    fatal_structures = frozenset({"superblock", "descriptors", "inodes"})
    spare_structures = frozenset({"backup-superblock", "block-bitmap", "inode-bitmap", "journal"})

    def __init__(
        self, image: RawImage, geometry: Geometry, variant: str, label: str, when: dt.datetime, habits: Habits
    ) -> None:
        """Format the range of `geometry` (quick: only what the volume needs itself is written)."""
        self.file_system, self.image, self.geometry, self._habits = variant, image, geometry, habits
        self.cluster_size, self.where = geometry.block, geometry.where
        self.clusters = ClusterMap(geometry.first, geometry.blocks - geometry.first, geometry.block)
        self.data = Extent(geometry.at(geometry.first), (geometry.blocks - geometry.first) * geometry.block)
        self._meta = MetaBlocks(image, geometry)
        self._packer = InodePacker(geometry, self._meta.put)
        self._dice = random.Random(geometry.uuid)
        self._journal: JournalWriter | None = None
        self._copies: dict[int, deque[Copy]] = {}
        self._in_order: deque[tuple[int, Copy]] = deque()
        self._begun = self._last = when
        self._revoked: list[int] = []
        self._unwritten: list[FileState | ExtNode] = []
        self._journal_fields = b""
        self._format(label, when)

    # -- formatting -------------------------------------------------------------------------

    def _format(self, label: str, when: dt.datetime) -> None:
        g = self.geometry
        name = label.encode()
        if len(name) > _MOST_LABEL:
            raise VolumeError(f"'{label}': a label of {self.file_system} has at most {_MOST_LABEL} bytes")
        self.groups = Groups(self.image, g, self._meta, self.clusters)
        self.image.zero(g.offset, max(2 * 1024, g.block))
        self.groups.reserve_inodes(FIRST_INODE)
        self.groups.begin(when, name, zero_tables=False)
        root = FileState(ROOT, 0, IS_FOLDER | _FOLDER_MODE, when, when, when, owner=0)
        self.root = ExtNode("", None, True, 0, file=root)
        self.groups.count_folder(ROOT)
        self._begin_folder(self.root, ROOT)
        lost = FileState(FIRST_INODE, 0, IS_FOLDER | _LOST_MODE, when, when, when, owner=0)
        self._lost = ExtNode(_LOST_FOLDER, self.root, True, 0, file=lost)
        self.groups.count_folder(FIRST_INODE)
        self._begin_folder(self._lost, ROOT)
        assert self._lost.blocks is not None
        while lost.size < _LOST_SIZE:
            self._lost.blocks.empty_block()
        self._put(lost)
        self._enter(self._lost, when)
        del self.root.children[_LOST_FOLDER]  # the volume's own, and nobody's loss
        if g.compatible & HAS_JOURNAL and (blocks := journal_blocks(g.blocks)):
            self._make_journal(blocks, when)
        self.groups.bring()
        self.groups.write_copies(when, self._journal_fields)
        self._commit()
        self.flush()

    def _make_journal(self, blocks: int, when: dt.datetime) -> None:
        g = self.geometry
        state = FileState(JOURNAL, 0, IS_FILE | _OWN_MODE, when, when, when, owner=0)
        state.size = blocks * g.block
        self._lay_out(state, blocks, None, goal=g.group_start(g.groups // 2))
        runs = self.run_extents(state.placed())
        for extent in runs:
            self.image.zero(*extent)
        self._journal_extents = runs
        self._put(state)
        block, at = self.groups.inode_place(JOURNAL)
        inside = bytes(self._meta.read(block)[at + BLOCKS_AT : at + BLOCKS_AT + INSIDE])
        self._journal_fields = packed_journal_fields(inside, state.size)
        features = (SUMS_3 if g.checksums else 0) | (WIDE_NUMBERS if g.incompatible & WIDE else 0)
        self._meta.write()
        self._journal = JournalWriter(blocks, g.block, g.uuid, features, self._put_journal)

    def _put_journal(self, block: int, data: bytes) -> None:
        self.write_over(within(self._journal_extents, block * self.geometry.block, len(data)), data)

    # -- transactions -----------------------------------------------------------------------

    def _at(self, when: dt.datetime) -> None:
        """A change comes at this moment: what is older than some seconds is committed first."""
        if self._meta.pending and abs(when - self._begun) >= _COMMIT_AFTER:
            self._commit()
        if not self._meta.pending:
            self._begun = when
        self._last = when

    def _commit(self) -> None:
        """Write what changed: into the journal, then in its place."""
        self.groups.bring()
        if not self._meta.pending:
            return
        since = 0
        if self._journal is not None:
            since = self._journal.sequence
            changes = list(self._meta.changes().items())
            step = self._journal.most
            for n in range(0, len(changes), step):
                copies = self._journal.write(dict(changes[n : n + step]), self._revoked, self._last)
                self._revoked = []
                for block, copy in copies.items():
                    self._copies.setdefault(block, deque()).append(copy)
                    self._in_order.append((block, copy))
            oldest = self._journal.turn - (self._journal.length - 1)
            while self._in_order and self._in_order[0][1].turn < oldest:
                block, _ = self._in_order.popleft()
                self._copies[block].popleft()
        self._revoked = []
        self._meta.write()
        for one in self._unwritten:
            if isinstance(one, FileState):
                one.mapped = since
            else:
                one.named = since
        self._unwritten.clear()

    def _put(self, state: FileState) -> None:
        """Write an inode and its tree into the blocks of metadata."""
        block, at = self.groups.inode_place(state.number)
        self._meta.edit(block)[at : at + self.geometry.inode] = self._packer.packed(state)

    def _remapped(self, state: FileState) -> None:
        """Size or places of a file changed."""
        self._put(state)
        state.mapped = 0
        self._unwritten.append(state)

    # -- folders ----------------------------------------------------------------------------

    def _begin_folder(self, node: ExtNode, above: int) -> None:
        """The blocks of a new folder."""
        self._attach(node)
        state = node.file
        state.links = 2
        if self.geometry.extents:
            state.flags |= HAS_EXTENTS
        self._add_block(state)
        assert node.blocks is not None
        node.blocks.begin(above)
        self._put(state)

    def _attach(self, node: ExtNode) -> None:
        state = node.file

        def read(logical: int) -> bytearray:
            return self._meta.edit(self._folder_block(state, logical))

        def add() -> int:
            return self._add_block(state)

        def moved(name: bytes, logical: int, at: int) -> None:
            child = node.children.get(name.decode("utf-8", "surrogateescape"))
            if child is not None:
                child.slot, child.named = (logical, at), 0
                self._unwritten.append(child)

        indexed = bool(self.geometry.compatible & DIR_INDEX)
        node.blocks = FolderBlocks(self.geometry, state.number, state.generation, indexed, read, add, moved)

    @staticmethod
    def _folder_block(state: FileState, logical: int) -> int:
        for first, start, count in reversed(state.runs):
            if first <= logical:
                assert logical < first + count
                return start + logical - first
        raise AssertionError(logical)

    def _add_block(self, state: FileState) -> int:
        """A further block of a folder."""
        logical = state.blocks
        self._lay_out(state, 1, None)
        state.size = state.blocks * self.geometry.block
        self._meta.put(self._folder_block(state, logical), bytes(self.geometry.block))
        return logical

    def _enter(self, node: ExtNode, when: dt.datetime) -> None:
        """Give a file its name in its folder."""
        parent = node.parent
        assert parent is not None and parent.blocks is not None
        kind = ENTRY_KINDS[node.file.mode & KIND_MASK]
        parent.children[node.name] = node
        try:
            node.slot = parent.blocks.insert(node.name.encode("utf-8", "surrogateescape"), node.file.number, kind)
        except VolumeError:
            del parent.children[node.name]
            raise
        except FolderFull as full:
            del parent.children[node.name]
            raise VolumeError(f"{parent.path}: the folder's index has no room for more names") from full
        node.named = 0
        self._unwritten.append(node)
        if parent.blocks.indexed:
            parent.file.flags |= INDEXED
        parent.file.modified = parent.file.changed = when
        if node.folder:
            parent.file.links += 1
        self._put(parent.file)

    def _leave(self, node: ExtNode, when: dt.datetime, wipe: bool) -> None:
        parent = node.parent
        assert parent is not None and parent.blocks is not None
        parent.blocks.remove(*node.slot, wipe)
        del parent.children[node.name]
        parent.file.modified = parent.file.changed = when
        if node.folder:
            parent.file.links -= 1
        self._put(parent.file)

    # -- space ------------------------------------------------------------------------------

    def space_for(self, size: int) -> int:
        """With the lists of blocks that lie among a file's own."""
        blocks = self.clusters_for(size)
        if not self.geometry.extents:
            blocks += lists_for(blocks, self.geometry.block // 4)
        return blocks * self.cluster_size

    def _take(self, count: int, goal: int | None) -> list[Run]:
        """Blocks side by side where such are free, from a goal on."""
        clusters = self.clusters
        goal = clusters.last + 1 if goal is None else goal
        found: int | None = None
        if self.geometry.extents and count > 1:
            for n, (start, length) in enumerate(clusters.free_runs(goal, clusters.end)):
                if length >= count or n > _FEW_RUNS:
                    found = start if length >= count else None
                    break
        runs = clusters.take(count, goal if found is None else found)
        self.groups.count(runs, -1)
        return runs

    def _lay_out(self, state: FileState, blocks: int, lie: list[Run] | None, goal: int | None = None) -> None:
        """Give a file `blocks` more blocks of content, and what its tree needs."""
        g, have = self.geometry, state.blocks
        if state.runs:
            goal = state.runs[-1][1] + state.runs[-1][2]
        elif goal is None:
            goal = self._goal(state)
        if g.extents:
            state.flags |= HAS_EXTENTS
            taken = self._take(blocks, goal) if lie is None else lie
            logical = have
            for start, count in taken:
                _append(state.runs, (logical, start, count))
                logical += count
            need = tree_for(len(split_runs(state.runs)), g.block) - len(state.tree)
            if need > 0:
                state.tree += _singles(self._take(need, goal))
            return
        per = g.block // 4
        need = lists_for(have + blocks, per) - len(state.tree)
        free = deque(self._take(blocks + need, goal) if lie is None else lie)
        logical, lists = 0, 0
        for level, count in tokens(have + blocks, per):
            if level:
                lists += 1
                if lists > len(state.tree):
                    state.tree.append(_one(free))
                continue
            left = logical + count - max(logical, have)
            at = max(logical, have)
            while left > 0:
                start, length = free.popleft()
                part = min(left, length)
                _append(state.runs, (at, start, part))
                if length > part:
                    free.appendleft((start + part, length - part))
                at, left = at + part, left - part
            logical += count
        self.clusters.release(free)
        self.groups.count(list(free), 1)

    def _goal(self, state: FileState) -> int:
        """Where a file's first block goes: into the group of its inode, behind what was given out there last."""
        group = (state.number - 1) // self.geometry.group_inodes
        last = self.clusters.last
        start = self.geometry.group_start(group)
        return last + 1 if start <= last < start + self.geometry.group_blocks else start

    def reserve(
        self, space: int, where: Reuse | int = "next", pick: Callable[[int, int], int] = lambda lo, hi: lo
    ) -> tuple[Extent, ...]:
        extents = super().reserve(space, where, pick)
        self.groups.count(self.extent_runs(extents), -1)
        return extents

    def _release(self, state: FileState) -> None:
        """All blocks of a file become free."""
        runs = join_runs(sorted([*state.placed(), *((block, 1) for block in state.tree)]))
        self.clusters.release(runs)
        self.groups.count(runs, 1)
        own = list(state.tree)
        if state.folder:
            own += _singles(state.placed())
        for block in own:
            self._meta.forget(block)
        if self._journal is not None:
            self._revoked += [block for block in own if self._copies.get(block)]
        state.runs, state.tree = [], []

    # -- making and storing -----------------------------------------------------------------

    def fold(self, name: str) -> str:
        return name

    def moment(self, when: dt.datetime) -> dt.datetime:
        return when if when.tzinfo else when.replace(tzinfo=dt.UTC)

    def check_name(self, name: str, parent: ExtNode) -> None:
        data = name.encode("utf-8", "surrogateescape")
        if not name or "/" in name or "\0" in name or name in (".", ".."):
            raise VolumeError(f"'{name}' cannot be a name: it is empty, '.' or '..', or has a slash or a zero in it")
        if len(data) > MOST_NAME:
            raise VolumeError(f"'{name[:40]}…' is too long: a name has at most {MOST_NAME} bytes in UTF-8")
        if parent is self.root and name == _LOST_FOLDER:
            raise VolumeError(f"{name}: there is already a file of this name: the volume's own folder")

    def _new_state(self, parent: ExtNode, mode: int, when: dt.datetime, modified: dt.datetime) -> FileState:
        near = (parent.file.number - 1) // self.geometry.group_inodes
        number = self.groups.take_inode(near, mode & KIND_MASK == IS_FOLDER and parent is self.root)
        if mode & KIND_MASK == IS_FOLDER and parent is not self.root:
            self.groups.count_folder(number)
        generation = self._dice.getrandbits(32)
        return FileState(number, generation, mode, when, modified, when)

    @contextmanager
    def _whole_or_not(self, state: FileState) -> Iterator[None]:
        """What cannot be made whole, as there is no room for it, leaves nothing."""
        try:
            yield
        except VolumeError:
            self._release(state)
            self.groups.free_inode(state.number, state.folder)
            raise

    def make_folder(self, path: str, when: dt.datetime) -> ExtNode:
        node = self.root
        for part in parts_of(path):
            child = node.children.get(part)
            if child is None:
                self.new_place(f"{node.path}/{part}")
                self._at(when)
                state = self._new_state(node, IS_FOLDER | _FOLDER_MODE, when, when)
                child = ExtNode(part, node, True, 0, file=state)
                with self._whole_or_not(state):
                    self._begin_folder(child, node.file.number)
                    self._enter(child, when)
            elif not child.folder:
                raise VolumeError(f"{child.path}: a file is there already")
            node = child
        return node

    def store(
        self, path: str, size: int, chunks: Iterable[bytes], when: dt.datetime, modified: dt.datetime | None = None,
        lie: Sequence[Extent] | None = None, attributes: int = 0,
    ) -> ExtNode:  # fmt: skip
        parent, name = self.new_place(path)
        self._at(when)
        state = self._new_state(parent, IS_FILE | _FILE_MODE, when, modified or when)
        if self.geometry.extents:
            state.flags |= HAS_EXTENTS
        node = ExtNode(name, parent, False, size, attributes=attributes, file=state)
        with self._whole_or_not(state):
            self._lay_out(state, self.clusters_for(size), self.extent_runs(lie) if lie is not None else None)
            state.size = size
            self._fill(path, state, size, chunks)
            self._remapped(state)
            self._enter(node, when)
        return node

    def symlink(self, path: str, target: str, when: dt.datetime) -> None:
        """A symbolic link; a short one stands inside of its inode."""
        parent, name = self.new_place(path)
        self._at(when)
        state = self._new_state(parent, IS_LINK | _LINK_MODE, when, when)
        content = target.encode("utf-8", "surrogateescape")
        state.size = len(content)
        if len(content) < INSIDE:
            state.inside = content
        else:
            self._lay_out(state, 1, None)
            self._fill(path, state, len(content), [content])
        self._put(state)
        self._enter(ExtNode(name, parent, False, len(content), file=state), when)
        del parent.children[name]  # no file of the bench's

    def _fill(self, path: str, state: FileState, size: int, chunks: Iterable[bytes], skip: int = 0) -> None:
        self.fill(path, self.run_extents(state.placed()), size, chunks, skip, self.geometry.block)

    # -- changing ---------------------------------------------------------------------------

    def grow(self, node: ExtNode, size: int, chunks: Iterable[bytes], when: dt.datetime) -> None:
        self._at(when)
        state, before = node.file, node.file.size
        more = self.clusters_for(before + size) - state.blocks
        if more:
            self._lay_out(state, more, None)
        self._fill(node.path, state, size, chunks, before)
        self._changed(node, before + size, when)

    def rewrite(self, node: ExtNode, size: int, chunks: Iterable[bytes], when: dt.datetime, in_place: bool) -> None:
        self._at(when)
        state = node.file
        first = state.runs[0][1] if in_place and state.runs else None
        content = list(chunks)
        self._release(state)
        self._lay_out(state, self.clusters_for(size), None, goal=first)
        self._fill(node.path, state, size, content)
        self._changed(node, size, when)

    def _changed(self, node: ExtNode, size: int, when: dt.datetime) -> None:
        state = node.file
        state.size = size
        state.modified = state.changed = when
        for one in self._names(state):
            one.size = size
        node.size = size
        self._remapped(state)

    def _names(self, state: FileState) -> list[ExtNode]:
        return [node for node in self.walk() if node.file is state] if state.links > 1 else []

    def names_of(self, node: ExtNode) -> int:
        return 1 if node.folder else node.file.links

    def link(self, node: ExtNode, path: str, when: dt.datetime) -> ExtNode:
        parent, name = self.new_place(path)
        if node.folder:
            raise VolumeError(f"{node.path}: a folder has one name")
        if node.file.links >= _MOST_LINKS:
            raise VolumeError(f"{node.path}: a file has at most {_MOST_LINKS:,} names")
        self._at(when)
        node.file.links += 1
        node.file.changed = when
        self._put(node.file)
        new = ExtNode(name, parent, False, node.size, attributes=node.attributes, file=node.file)
        self._enter(new, when)
        return new

    def rename(self, node: ExtNode, path: str, when: dt.datetime) -> None:
        if node.parent is None:
            raise VolumeError("the root cannot be renamed")
        parent, name = self.new_home(node, path)
        self.check_name(name, parent)
        self._at(when)
        old = node.parent
        self._leave(node, when, wipe=self._habits != "old-linux")
        node.name, node.parent = name, parent
        node.file.changed = when
        self._put(node.file)
        self._enter(node, when)
        if node.folder and parent is not old:
            assert node.blocks is not None
            node.blocks.set_above(parent.file.number)

    def delete(self, node: ExtNode, when: dt.datetime, habits: Habits = "linux") -> Evidence:
        parent, state = node.parent, node.file
        if parent is None or node.children:
            raise VolumeError(f"{node.path}: the root and folders that are not empty cannot be deleted")
        self._commit()
        self._at(when)
        old = habits == "old-linux"
        own, copied = self._own_traces(node, habits), self._copied_traces(node)
        self._leave(node, when, wipe=not old)
        if not node.folder and state.links > 1:
            state.links -= 1
            state.changed = when
            self._put(state)
        else:
            kept = old and self.file_system == "ext2"
            state.changed = state.modified = when
            block, at = self.groups.inode_place(state.number)
            self._meta.edit(block)[at : at + self.geometry.inode] = self._packer.packed(state, when, not kept)
            self._release(state)
            self.groups.free_inode(state.number, node.folder)
        self._commit()
        return self._evidence(self._inode_at(state), own, copied)

    # -- what tells of a file ---------------------------------------------------------------

    def map(self, node: ExtNode) -> FileMap:
        whole = FileMap.of(self.run_extents(node.file.placed()))
        return whole if node.folder else whole.head(node.file.size)

    def _inode_at(self, state: FileState) -> Extent:
        block, at = self.groups.inode_place(state.number)
        return Extent(self.geometry.at(block) + at, self.geometry.inode)

    def _entry_at(self, node: ExtNode) -> Extent:
        assert node.parent is not None
        logical, at = node.slot
        size = entry_size(node.name.encode("utf-8", "surrogateescape"))
        return Extent(self.geometry.at(self._folder_block(node.parent.file, logical)) + at, size)

    def record(self, node: ExtNode) -> tuple[Extent, ...]:
        if node.parent is None:
            return (self._inode_at(node.file),)
        return self._entry_at(node), self._inode_at(node.file)

    def _tree_at(self, state: FileState) -> tuple[Extent, ...]:
        return tuple(Extent(self.geometry.at(block), self.geometry.block) for block in state.tree)

    def needs(self, node: ExtNode) -> tuple[Extent, ...]:
        return (*self.record(node), *self._tree_at(node.file))

    def evidence(self, node: ExtNode) -> Evidence:
        return self._told(node, None)

    def evidence_after(self, node: ExtNode, habits: Habits) -> Evidence:
        return self._told(node, habits)

    def _told(self, node: ExtNode, gone: Habits | None) -> Evidence:
        self._commit()
        return self._evidence(self._inode_at(node.file), self._own_traces(node, gone), self._copied_traces(node))

    def _evidence(self, inode: Extent, own: list[Trace], copied: list[tuple[Copy, Trace]]) -> Evidence:
        """All that tells of a file. Its record is its inode, or the newest copy of that: names stand elsewhere, and go
        on their own."""
        traces = [*own, *self._standing(copied)]
        places = [trace for trace in traces if trace.tells == "place"]
        return Evidence(places[0].where[:1] if places else (inode,), tuple(traces))

    def _own_traces(self, node: ExtNode, gone: Habits | None) -> list[Trace]:
        """What name and inode themselves tell: of a file that is `gone` what that leaves."""
        state = node.file
        entry, inode, tree = self._entry_at(node), self._inode_at(state), self._tree_at(state)
        if gone is None:
            whole = (inode, *tree)
            return [
                Trace("place", "whole", whole),
                Trace("name", "full", (*_told_by(entry), inode)),
            ]
        if gone != "old-linux":
            return []
        keeps = self.file_system == "ext2" and (node.folder or state.links == 1)
        places = [Trace("place", "whole", (inode, *tree))] if keeps else []
        return [*places, Trace("name", "full", (*_told_by(entry), inode))]

    def _copied_traces(self, node: ExtNode) -> list[tuple[Copy, Trace]]:
        """What copies in the journal tell, the newest first."""
        assert node.parent is not None
        state, (logical, at) = node.file, node.slot
        size = entry_size(node.name.encode("utf-8", "surrogateescape"))
        block, inside = self.groups.inode_place(state.number)
        out: list[tuple[Copy, Trace]] = []
        for copy in self._copies_since(block, state.mapped):
            where = (self._in_journal(copy.at, inside, self.geometry.inode), self._tags(copy), *self._tree_at(state))
            out.append((copy, Trace("place", "whole", where, "journal")))
        for copy in self._copies_since(self._folder_block(node.parent.file, logical), node.named):
            where = (*_told_by(self._in_journal(copy.at, at, size)), self._tags(copy))
            out.append((copy, Trace("name", "full", where, "journal")))
        return out

    def _copies_since(self, block: int, since: int) -> list[Copy]:
        """The newest copies of a block that are no older than a transaction (0: it is in none)."""
        copies = self._copies.get(block, ())
        return [copy for copy in reversed(copies) if since and copy.transaction >= since][:_MOST_TOLD]

    def _standing(self, copied: list[tuple[Copy, Trace]]) -> list[Trace]:
        """The traces whose descriptor stands: neither the journal nor anything past this writer went over it."""
        if self._journal is None:
            return []
        oldest = self._journal.turn - (self._journal.length - 1)
        good: dict[int, bool] = {}
        for copy, _ in copied:
            if copy.descriptor not in good:
                head = self.image.read(self._tags(copy).offset, HEAD.size)
                good[copy.descriptor] = HEAD.unpack(head) == (JOURNAL_MAGIC, DESCRIPTOR_BLOCK, copy.transaction)
        return [trace for copy, trace in copied if copy.turn >= oldest and good[copy.descriptor]]

    def _tags(self, copy: Copy) -> Extent:
        return self._in_journal(copy.descriptor, 0, self.geometry.block)

    def _in_journal(self, block: int, at: int, length: int) -> Extent:
        (extent,) = within(self._journal_extents, block * self.geometry.block + at, length)
        return extent

    def structures(self) -> dict[str, tuple[Extent, ...]]:
        g, groups = self.geometry, self.groups
        copies = [group for group in range(1, g.groups) if g.has_copy(group)]
        found = {
            "superblock": (Extent(g.offset + 1024, 1024),),
            "backup-superblock": tuple(Extent(g.at(g.group_start(group)), 1024) for group in copies),
            "descriptors": tuple(Extent(g.at(block), g.block) for block in groups.descriptor_blocks),
            "block-bitmap": tuple(Extent(g.at(int(block)), g.block) for block in groups.block_bits),
            "inode-bitmap": tuple(Extent(g.at(int(block)), g.block) for block in groups.inode_bits),
            "inodes": tuple(Extent(g.at(int(block)), g.table_blocks * g.block) for block in groups.tables),
            "root": self.extents(self.root),
        }
        if self._journal is not None:
            found["journal"] = self._journal_extents
        return {name: where for name, where in found.items() if where}

    def flush(self) -> None:
        """Bring everything to the medium, as at an unmount."""
        self._commit()
        if self._journal is not None:
            self._put_journal(0, self._journal.superblock())
        self.groups.write_superblock(self._last, self._journal_fields)


def _append(runs: list[tuple[int, int, int]], run: tuple[int, int, int]) -> None:
    """A run at the end of others; one that goes on where the last ended joins it."""
    logical, start, count = run
    if runs and runs[-1][0] + runs[-1][2] == logical and runs[-1][1] + runs[-1][2] == start:
        runs[-1] = (runs[-1][0], runs[-1][1], runs[-1][2] + count)
    elif count:
        runs.append(run)


def _singles(runs: Iterable[Run]) -> list[int]:
    return [start + n for start, count in runs for n in range(count)]


def _one(free: deque[Run]) -> int:
    """The first of free blocks."""
    start, length = free.popleft()
    if length > 1:
        free.appendleft((start + 1, length - 1))
    return start


def _told_by(entry: Extent) -> tuple[Extent, Extent]:
    """The parts of an entry that tell a name: its length changes with what comes behind it."""
    return Extent(entry.offset, _LENGTH_AT), Extent(entry.offset + _LENGTH_AT + 2, entry.length - _LENGTH_AT - 2)
