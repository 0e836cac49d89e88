"""What tells of a file that is gone: bytes that nobody put anything on.

They are not worked out but looked for: behind the ends of the nodes in which a record ever stood, and in the copies
that a journal keeps of these.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from sastrugi.media.extents import Extent
from sastrugi.media.raw import RawImage
from sastrugi.volumes.hfsplus.btree import Key
from sastrugi.volumes.hfsplus.layout import FOLDER, FORK
from sastrugi.volumes.hfsplus.names import to_units
from sastrugi.volumes.hfsplus.records import FileState
from sastrugi.volumes.hfsplus.volume_files import TreeOnVolume, VolumeFiles
from sastrugi.volumes.writer import RECORD, Evidence, Node, PlaceWorth, Trace

_MOST_TOLD = 4
"""Places of one record that are told; in a journal the oldest go first when it is written on."""
_JOURNAL = "journal"
_PLACE_END = FOLDER.itemsize + FORK.itemsize
"""Bytes of a file's record up to the end of its data fork."""
_NAME_END = 12
"""Bytes of a file's record that tell whose it is: type, flags, number."""
_FOLDER_NAME_END = 4
"""The same of a folder's, in front of how many things it holds, which changes."""
_Standing = list[tuple[str, tuple[Extent, ...]]]
"""By what source, and where."""


@dataclass(slots=True, eq=False)
class HfsNode(Node):
    """A name. `link` is the number of the record that gives it: the file's own, unless the file has several names."""

    file: FileState
    link: int = 0
    key: tuple[int, bytes] = (0, b"")

    @property
    def units(self) -> bytes:
        """The name as it is stored."""
        return to_units(self.name)


@dataclass(frozen=True, slots=True)
class Sought:
    """Bytes that tell something of a file, and the nodes in which they may stand."""

    file: TreeOnVolume
    needle: bytes
    nodes: tuple[int, ...]


@dataclass(frozen=True, slots=True)
class Telling:
    """What tells of a file: any of `names` its name; the first of `places` its place, with all the others."""

    names: tuple[Sought, ...]
    places: tuple[Sought, ...] = ()


def sought(
    files: VolumeFiles, file: TreeOnVolume, key: Key, length: int | None = None, keyless: bool = False
) -> Sought:
    """The record of a key as it is now, up to so many bytes of its data; without its key or with it."""
    found = file.tree.find(key)
    assert found is not None
    node, n = found
    record, head = node.record(n), len(node.key_bytes(n))
    needle = record[head if keyless else 0 : len(record) if length is None else head + length]
    return Sought(file, needle, (node.number, *files.been.get((file.number, key), ())))


def telling_of(files: VolumeFiles, node: HfsNode, overflow: Sequence[Key]) -> Telling:
    """The bytes that tell of a name as it is now; `overflow` are the keys of the further extents of its fork."""
    own, home, catalog = (node.of or node), node.file.home, files.catalog
    end = FOLDER.itemsize if home else _FOLDER_NAME_END if node.folder else _NAME_END
    name, thread = sought(files, catalog, own.key, end), sought(files, catalog, (own.link, b""))
    if node.folder:
        return Telling((name, thread))
    end = _PLACE_END + FORK.itemsize if node.of is not None else _PLACE_END
    places = [sought(files, catalog, home or own.key, end, keyless=True)]
    places += [sought(files, files.extents, key) for key in overflow]
    return Telling((name,) if home else (name, thread), tuple(places))


def record_at(files: VolumeFiles, file: TreeOnVolume, key: Key) -> Extent:
    """Where on the medium a record stands."""
    found = file.tree.find(key)
    assert found is not None
    node, n = found
    return Extent(files.node_at(file, node.number).offset + node.ends[n], node.ends[n + 1] - node.ends[n])


def evidence_of(
    image: RawImage, files: VolumeFiles, telling: Telling, was: Sequence[Extent], but: Iterable[Extent] = ()
) -> Evidence:
    """What stands of the bytes that tell of a file whose record was somewhere; not what lies in `but`."""
    but = tuple(but)

    def standing(one: Sought) -> _Standing:
        return [
            (source, where)
            for source, where in _standing(image, files, one)
            if not any(part.offset <= where[0].offset and where[0].end <= part.end for part in but)
        ]

    names = [Trace("name", "full", where, source) for one in telling.names for source, where in standing(one)]
    places: list[Trace] = []
    if telling.places:
        rest = [standing(one) for one in telling.places[1:]]
        more = tuple(part for found in rest if found for part in found[0][1])
        worth: PlaceWorth = "whole" if all(rest) else "start"
        places = [Trace("place", worth, (*where, *more), source) for source, where in standing(telling.places[0])]
    traces = (*places, *names)
    return Evidence(traces[0].where[:1] if traces else tuple(was[:1]), traces)


def _standing(image: RawImage, files: VolumeFiles, one: Sought) -> _Standing:
    out: _Standing = []
    for number in dict.fromkeys(one.nodes):
        node = files.node_at(one.file, number)
        for at in _places(image.read(*node), one.needle):
            out.append((RECORD, (Extent(node.offset + at, len(one.needle)),)))
        for copy in reversed(files.copies.get(node.offset, ())):
            if len(out) > _MOST_TOLD:
                break
            data = b"".join(image.read(*part) for part in files.in_journal(copy.at, node.length))
            for at in _places(data, one.needle):
                out.append((_JOURNAL, files.in_journal(copy.at + at, len(one.needle))))
    return out


def _places(data: bytes, needle: bytes) -> list[int]:
    """Every place of some bytes in others."""
    out: list[int] = []
    at = data.find(needle)
    while at >= 0:
        out.append(at)
        at = data.find(needle, at + 1)
    return out
