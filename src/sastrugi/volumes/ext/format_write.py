"""What a format lays down, and folders: their blocks, and the names in them."""

from __future__ import annotations

import datetime as dt
import random

from sastrugi.errors import VolumeError
from sastrugi.media.raw import RawImage
from sastrugi.volumes.ext.folders import FolderBlocks, FolderFull
from sastrugi.volumes.ext.groups import Groups, packed_journal_fields
from sastrugi.volumes.ext.inode import FileState
from sastrugi.volumes.ext.journal_layout import SUMS_3, WIDE_NUMBERS
from sastrugi.volumes.ext.journal_write import JournalWriter
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
    JOURNAL,
    KIND_MASK,
    ROOT,
    WIDE,
    Geometry,
)
from sastrugi.volumes.ext.plan import journal_blocks
from sastrugi.volumes.ext.space_write import ExtNode, SpaceWriter
from sastrugi.volumes.writer import Habits

LOST_FOLDER, _LOST_SIZE = "lost+found", 16 << 10
_MOST_LABEL = 16
FOLDER_MODE = 0o755
_LOST_MODE, _OWN_MODE = 0o700, 0o600


class FormattedVolume(SpaceWriter):
    """A new volume, with its folders."""

    def __init__(
        self, image: RawImage, geometry: Geometry, variant: str, label: str, when: dt.datetime, habits: Habits
    ) -> None:
        """Format the range of `geometry` (quick: only what the volume needs itself is written)."""
        super().__init__(image, geometry, when)
        self.file_system, self._habits = variant, habits
        self._dice = random.Random(geometry.uuid)
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
        root = FileState(ROOT, 0, IS_FOLDER | FOLDER_MODE, when, when, when, owner=0)
        self.root = ExtNode("", None, True, 0, file=root)
        self.groups.count_folder(ROOT)
        self._begin_folder(self.root, ROOT)
        lost = FileState(FIRST_INODE, 0, IS_FOLDER | _LOST_MODE, when, when, when, owner=0)
        self._lost = ExtNode(LOST_FOLDER, self.root, True, 0, file=lost)
        self.groups.count_folder(FIRST_INODE)
        self._begin_folder(self._lost, ROOT)
        assert self._lost.blocks is not None
        while lost.size < _LOST_SIZE:
            self._lost.blocks.empty_block()
        self._put(lost)
        self._enter(self._lost, when)
        del self.root.children[LOST_FOLDER]  # the volume's own, and nobody's loss
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

    def flush(self) -> None:
        """Bring everything to the medium, as at an unmount."""
        self._commit()
        if self._journal is not None:
            self._put_journal(0, self._journal.superblock())
        self.groups.write_superblock(self._last, self._journal_fields)

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
