"""The files that a set of records tells of, with their paths."""

from __future__ import annotations

from collections.abc import Callable, Iterator

from sastrugi.media.filemap import FileMap
from sastrugi.volumes.ntfs.layout import DATA, EXTEND, FIRST_FREE, REFERENCE, ROOT, of_ticks
from sastrugi.volumes.ntfs.records import Name, Record, Records, is_of, map_of
from sastrugi.volumes.reader import Entry, Placement, Times

_MOST_DEPTH = 256
_LOST_FOLDER = "folder-of-record-{}-{}"
_Folder = tuple[tuple[str, ...], float]
_AT_ROOT: _Folder = ((), 1.0)
_ABOVE_ALL: tuple[str, ...] = ("\0",)


class RecordedFiles:
    """What a set of file records tells: every name of every stream, in the folders that the records name.

    `all_deleted`: the records are of a volume that is no more, and none of its files is live.
    """

    def __init__(
        self, records: Records, all_deleted: bool = False, older: Callable[[int], tuple[str, int] | None] | None = None
    ) -> None:
        """`older` tells name and parent of a folder whose record is another's now, by the reference to it."""
        self.records, self._all_deleted, self._older = records, all_deleted, older
        self._paths: dict[int, _Folder] = {}

    def entries(self) -> Iterator[Entry]:
        for record in self.records.by_number.values():
            if record.number >= FIRST_FREE or (self._all_deleted and record.number > EXTEND):
                yield from self._of_record(record)

    def _of_record(self, record: Record) -> Iterator[Entry]:
        deleted = self._all_deleted or not record.in_use
        times = _times(record.times)
        if not record.names and not any(part.kind == DATA for part in record.parts):
            return  # it was never used
        streams = [(name, *map_of(pieces, self.records.geometry), pieces) for name, pieces in record.streams()]
        if record.folder or not any(name == "" for name, *_ in streams):
            streams.insert(0, ("", FileMap(), [], []))
        names = record.own_names()
        if not names:
            if not any(place.stored for _, place, *_ in streams):
                return
            names = [Name(f"record-{record.number}", 0, 0)]
        for name in names:
            path, sure, note = self._path(name, record)
            if path is None:
                continue
            for stream, place, wrong, pieces in streams:
                inside = bool(pieces) and pieces[0].runs is None
                how = "inside of its record" if inside else "by its list of clusters"
                yield Entry(
                    path, record.folder and not stream, deleted, place.size, times, record.where,
                    (Placement(place, how, inside=inside),) if place.segments else (), sure, note, list(wrong), stream,
                    record.number | record.sequence << 48, damaged=bool(wrong) and not deleted,
                )  # fmt: skip

    # -- paths ------------------------------------------------------------------------------

    def path_of(self, record: Record, stream: str) -> str:
        """The path of a stream by the first of its file's names."""
        names = record.own_names()
        path = self._path(names[0], record)[0] if names else None
        whole = "/".join(path or (f"record-{record.number}",))
        return f"{whole}:{stream}" if stream else whole

    def _path(self, name: Name, record: Record) -> tuple[tuple[str, ...] | None, float, str]:
        """The path of a file by one of its names, how sure that is, and why; none for what is the volume's own."""
        if not name.parent:
            return (name.text,), 0.1, "no name is left in its record"
        above, sure = self._folder(name.parent)
        if above == _ABOVE_ALL:
            return None, 0.0, ""
        whole = sure == 1.0
        note = "its record" if whole else "its record; the record of a folder above it is another's now"
        return (*above, name.text), sure, note

    def _folder(self, reference: int) -> _Folder:
        """The path of a folder, and how sure it is. What the volume keeps for itself is below a folder of its own."""
        known = self._paths.get(reference)
        if known is not None:
            return known
        chain: list[tuple[int, str]] = []
        at, base = reference, _AT_ROOT
        seen: set[int] = set()
        while True:
            if at in self._paths:
                base = self._paths[at]
                break
            number, sequence = at & REFERENCE, at >> 48
            if number == ROOT:
                base = _AT_ROOT
                break
            if number == EXTEND:
                base = (_ABOVE_ALL, 1.0)
                break
            above = self._above(number, sequence)
            if above is None or at in seen or len(chain) > _MOST_DEPTH:
                base = ((_LOST_FOLDER.format(number, sequence),), 0.4)
                if chain and at in seen:
                    chain.clear()
                break
            seen.add(at)
            chain.append((at, above[0]))
            at = above[1]
        path, sure = base
        for own, text in reversed(chain):
            path = path if path == _ABOVE_ALL else (*path, text)
            self._paths[own] = (path, sure)
        if reference not in self._paths:
            self._paths[reference] = (path, sure)
        return self._paths[reference]

    def above(self, reference: int) -> tuple[str, int] | None:
        """Name and parent of a folder, by the reference to it."""
        return self._above(reference & REFERENCE, reference >> 48)

    def _above(self, number: int, sequence: int) -> tuple[str, int] | None:
        """Name and parent of a folder; None if its record is another's now."""
        record = self.records.by_number.get(number)
        if record is not None and record.folder and is_of(sequence, record):
            names = record.own_names()
            if names:
                return names[0].text, names[0].parent
        return self._older(number | sequence << 48) if self._older is not None else None


def _times(ticks: tuple[int, int, int]) -> Times:
    created, modified, accessed = (of_ticks(value) for value in ticks)
    return Times(created, modified, accessed.date() if accessed else None)
