"""The catalog while it is written: records of files and folders, the threads that lead back to their names, the numbers
that are given out, and the folder in which files are kept that have several names."""

from __future__ import annotations

import datetime as dt

from sastrugi.errors import VolumeError
from sastrugi.volumes.hfsplus.layout import (
    FIRST_NUMBER,
    INDIRECT_NAME,
    IS_FILE,
    IS_FOLDER,
    PRIVATE_FOLDER,
    ROOT,
)
from sastrugi.volumes.hfsplus.names import folded
from sastrugi.volumes.hfsplus.records import FileState, ForkState, catalog_key, packed_file, packed_link, packed_thread
from sastrugi.volumes.hfsplus.volume_files import VolumeFiles
from sastrugi.volumes.writer import ATTRIBUTES

_PRIVATE_MODE, _OWN_MODE = 0o555, 0o400
CatalogKey = tuple[int, bytes]
"""The number of the folder, and what the name is sorted by."""


class CatalogWriter:
    """`files` and `folders` count what the volume holds, `next_number` is the number that is given out next."""

    def __init__(self, own: VolumeFiles, by_case: bool, created: dt.datetime) -> None:
        self._own, self._by_case, self._created = own, by_case, created
        self.files = self.folders = 0
        self.next_number = FIRST_NUMBER
        self._private: FileState | None = None
        self._private_key: CatalogKey = (0, b"")

    def take_number(self) -> int:
        if self.next_number >= 1 << 32:
            raise VolumeError("the volume has given out all of its numbers")
        self.next_number += 1
        return self.next_number - 1

    def key(self, parent: int, units: bytes) -> CatalogKey:
        """What the record of a name is in the order of."""
        return parent, units if self._by_case else folded(units)

    def insert(self, parent: int, units: bytes, data: bytes, number: int, folder: bool) -> CatalogKey:
        """A name: its record, and the thread that leads back to it. Answers the record's key."""
        key = self.key(parent, units)
        self._own.catalog.tree.insert(key, catalog_key(parent, units) + data)
        thread = catalog_key(number, b"") + packed_thread(folder, parent, units)
        self._own.catalog.tree.insert((number, b""), thread)
        return key

    def remove(self, key: CatalogKey, number: int) -> None:
        """Take a record out, and the thread of its number."""
        for one in (key, (number, b"")):
            self._own.remove(self._own.catalog, one)

    def replace(self, key: CatalogKey, state: FileState) -> None:
        """Write the record of a file or folder anew."""
        self._own.catalog.tree.replace(key, packed_file(state))

    def make_own(self, name: str, fork: ForkState, when: dt.datetime) -> None:
        """One of the volume's own files, hidden in the root."""
        bits = ATTRIBUTES["hidden"]
        state = FileState(self.take_number(), False, when, when, when, fork, bits=bits, mode=IS_FILE | _OWN_MODE)
        self.insert(ROOT, name.encode("utf-16-be"), packed_file(state), state.number, folder=False)
        self.files += 1

    # -- files that have several names ------------------------------------------------------

    def private_folder(self, when: dt.datetime) -> bool:
        """Make the folder in which they are kept; whether it was not there."""
        if self._private is not None:
            return False
        bits, mode = ATTRIBUTES["hidden"], IS_FOLDER | _PRIVATE_MODE
        state = FileState(self.take_number(), True, self._created, when, when, bits=bits, mode=mode)
        self._private = state
        self._private_key = self.insert(
            ROOT, PRIVATE_FOLDER.encode("utf-16-be"), packed_file(state), state.number, True
        )
        self.folders += 1
        return True

    def keep_apart(self, state: FileState, when: dt.datetime) -> None:
        """Put the record of a file, which has none, into that folder."""
        assert self._private is not None
        units = INDIRECT_NAME.format(state.number).encode("utf-16-be")
        state.home = self.insert(self._private.number, units, packed_file(state), state.number, folder=False)
        self._count_private(1, when)

    def drop_apart(self, state: FileState, when: dt.datetime) -> None:
        """Take the record of a file out of it, whose last name is gone."""
        assert state.home is not None
        self.remove(state.home, state.number)
        self._count_private(-1, when)

    def _count_private(self, more: int, when: dt.datetime) -> None:
        state = self._private
        assert state is not None
        state.valence += more
        state.modified = state.changed = when
        self.files += more
        self.replace(self._private_key, state)

    def link_data(self, link: int, number: int, when: dt.datetime) -> bytes:
        """The data of the record of one of several names of a file."""
        return packed_link(link, number, self._created, when)
