"""Lay ext2, ext3 and ext4 volumes down: format, store, make folders, link, grow, rename, delete.

A deletion empties the inode (size, places), and since Linux 5.13 wipes the name; what still tells of a file then are
the copies of its inode and of its folder's block in the journal. `old-linux` leaves names, and on ext2 the places.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager

from sastrugi.errors import VolumeError
from sastrugi.media.extents import Extent
from sastrugi.volumes.ext.evidence import TellingVolume
from sastrugi.volumes.ext.format_write import FOLDER_MODE, LOST_FOLDER
from sastrugi.volumes.ext.inode import FileState
from sastrugi.volumes.ext.layout import (
    HAS_EXTENTS,
    INSIDE,
    IS_FILE,
    IS_FOLDER,
    IS_LINK,
    KIND_MASK,
    MOST_NAME,
)
from sastrugi.volumes.ext.space_write import ExtNode
from sastrugi.volumes.writer import Evidence, Habits, parts_of

_MOST_LINKS = 65_000
_FILE_MODE, _LINK_MODE = 0o644, 0o777


class ExtWriter(TellingVolume):
    """A mounted volume that can be written. Call `flush` to bring everything to disk, as at an unmount."""

    fatal_structures = frozenset({"superblock", "descriptors", "inodes"})
    spare_structures = frozenset({"backup-superblock", "block-bitmap", "inode-bitmap", "journal"})

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
        if parent is self.root and name == LOST_FOLDER:
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
                state = self._new_state(node, IS_FOLDER | FOLDER_MODE, when, when)
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
