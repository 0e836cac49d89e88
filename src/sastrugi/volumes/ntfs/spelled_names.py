"""Names that still stand on a volume that is written, wherever something spells them: in blocks of indexes (also those
of folders that are gone, and behind the last entry), in the records of small folders, in the change journal.

They are not worked out but looked for, all at once: a key of an index is the reference to a folder, times, sizes and
the name. The head in front of it, which tells the file, need not stand."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator

import numpy as np
from numpy.typing import NDArray

from sastrugi.media.extents import Extent, within
from sastrugi.media.raw import RawImage
from sastrugi.volumes.ntfs.layout import FILE_MAGIC, FILE_NAME, INDEX_MAGIC, mended_block, stored_at

Place = tuple[Extent, ...]
_LENGTH_AT: int = FILE_NAME.fields["length"][1]  # type: ignore[index]
_NAME_AT = FILE_NAME.itemsize
_PARENT_AT, _CHANGE_NAME_AT, _CHANGE_HEAD = 16, 56, 60
"""Of a record of the change journal: the reference to the folder, the length of the name and where that begins."""
_MOST = 4
"""Places of one name that are told."""
_Spelled = Iterator[tuple[int, int, str]]
"""Where what spells a name begins, the reference to the folder, the name."""


class SpelledNames:
    """Where names stand. `folders` are the references to all folders that there ever were."""

    def __init__(self, image: RawImage, folders: Iterable[int]) -> None:
        self._image = image
        self._folders = np.array(sorted(folders), np.uint64)
        self._found: defaultdict[tuple[int, str], list[Place]] = defaultdict(list)

    def of(self, folder: int, name: str) -> list[Place]:
        """The places where a name in a folder stands, the newest that are known last."""
        return list(dict.fromkeys(self._found.get((folder, name), ())))[-_MOST:]

    def look_at_blocks(self, places: Iterable[Place]) -> None:
        """Blocks of indexes, or records of folders: each with its fix-ups undone, if it is whole."""
        for place in places:
            data = self._image.read_extents(place)
            whole = mended_block(data) if data[:4] in (FILE_MAGIC, INDEX_MAGIC) else None
            usa = int.from_bytes(data[4:6], "little") if whole is not None else 0
            for at, folder, name in self._keys_in(whole or data):
                where: list[Extent] = []
                for start, length in ((at, 8), (at + _LENGTH_AT, _NAME_AT - _LENGTH_AT + _stored(name))):
                    parts = stored_at(0, 0, usa, start, length) if usa else (Extent(start, length),)
                    where += [one for part in parts for one in within(place, part.offset, part.length)]
                self._found[folder, name].append(tuple(where))

    def look_at_changes(self, extents: Iterable[Extent]) -> None:
        """The change journal: each record tells a name."""
        for extent in extents:
            for at, folder, name in self._changes_in(self._image.read(*extent)):
                where = Extent(extent.offset + at, _CHANGE_HEAD + _stored(name))
                self._found[folder, name].append((where,))

    def _references(self, data: bytes) -> NDArray[np.int64]:
        """Where a reference to a folder stands."""
        words = np.frombuffer(data, "<u8", len(data) // 8)
        at = np.minimum(np.searchsorted(self._folders, words), len(self._folders) - 1)
        return 8 * np.flatnonzero(self._folders[at] == words)

    def _keys_in(self, data: bytes) -> _Spelled:
        for at in self._references(data).tolist():
            length = data[at + _LENGTH_AT] if at + _NAME_AT < len(data) else 0
            if length and at + _NAME_AT + 2 * length <= len(data):
                yield at, *_told(data, at, at + _NAME_AT, length)

    def _changes_in(self, data: bytes) -> _Spelled:
        for parent in self._references(data).tolist():
            at = parent - _PARENT_AT
            if at < 0:
                continue
            head = data[at : at + _CHANGE_HEAD]
            length, name_at = (
                int.from_bytes(head[k : k + 2], "little") for k in (_CHANGE_NAME_AT, _CHANGE_NAME_AT + 2)
            )
            if head[4:6] == b"\x02\0" and name_at == _CHANGE_HEAD and at + _CHANGE_HEAD + length <= len(data):
                yield at, *_told(data, parent, at + _CHANGE_HEAD, length // 2)


def _stored(name: str) -> int:
    """How many bytes a name takes."""
    return len(name.encode("utf-16-le", "surrogatepass"))


def _told(data: bytes, parent: int, name: int, length: int) -> tuple[int, str]:
    """The reference to the folder, and a name of so many characters."""
    text = data[name : name + 2 * length].decode("utf-16-le", "surrogatepass")
    return int.from_bytes(data[parent : parent + 8], "little"), text
