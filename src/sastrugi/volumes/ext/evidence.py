"""What tells of a file of a volume that is written: its inode and its name, and copies of both in the journal."""

from __future__ import annotations

from sastrugi.media.extents import Extent, within
from sastrugi.media.filemap import FileMap
from sastrugi.volumes.ext.format_write import FormattedVolume
from sastrugi.volumes.ext.inode import FileState
from sastrugi.volumes.ext.journal_layout import DESCRIPTOR_BLOCK, HEAD, JOURNAL_MAGIC
from sastrugi.volumes.ext.journal_write import Copy
from sastrugi.volumes.ext.layout import entry_size
from sastrugi.volumes.ext.space_write import ExtNode
from sastrugi.volumes.writer import Evidence, Habits, Trace

_LENGTH_AT = 4
"""Where in a folder's entry its length stands, in two bytes."""
_MOST_TOLD = 24
"""Copies in the journal by which one name or place is told; older ones go first when it is written on."""


class TellingVolume(FormattedVolume):
    """A volume that tells where everything of it stands."""

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
        """What name and inode themselves tell, each on its own; `gone`: what a deletion by these habits leaves."""
        state = node.file
        entry, inode, tree = self._entry_at(node), self._inode_at(state), self._tree_at(state)
        if gone is None:
            whole = (inode, *tree)
            return [Trace("place", "whole", whole), Trace("name", "full", _told_by(entry))]
        if gone != "old-linux":
            return []
        keeps = self.file_system == "ext2" and (node.folder or state.links == 1)
        places = [Trace("place", "whole", (inode, *tree))] if keeps else []
        return [*places, Trace("name", "full", _told_by(entry))]

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


def _told_by(entry: Extent) -> tuple[Extent, Extent]:
    """The parts of an entry that tell a name: its length changes with what comes behind it."""
    return Extent(entry.offset, _LENGTH_AT), Extent(entry.offset + _LENGTH_AT + 2, entry.length - _LENGTH_AT - 2)
