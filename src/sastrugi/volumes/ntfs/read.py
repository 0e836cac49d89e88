"""Reading NTFS volumes as they are: every record of their table, in use or not."""

from __future__ import annotations

from collections.abc import Iterator
from functools import cached_property

import numpy as np

from sastrugi.media.base import Medium
from sastrugi.media.extents import Extent, RangeSet, within
from sastrugi.media.filemap import FileMap
from sastrugi.volumes.ntfs.change_journal import RECORDS as JOURNAL_RECORDS
from sastrugi.volumes.ntfs.change_journal import told_names
from sastrugi.volumes.ntfs.index_slack import names_in_blocks
from sastrugi.volumes.ntfs.layout import (
    ATTRIBUTE_LIST,
    BAD,
    DATA,
    EXTEND,
    FIRST_FREE,
    FIRST_RECORD,
    INDEX_ALLOCATION,
    LOG,
    REFERENCE,
    SPACE,
    VOLUME,
    VOLUME_NAME,
    Geometry,
    fixups_fit,
    with_fixups,
)
from sastrugi.volumes.ntfs.log_read import logged_records
from sastrugi.volumes.ntfs.recorded_files import RecordedFiles
from sastrugi.volumes.ntfs.records import Record, Records, dissected, is_of, map_of, text_of
from sastrugi.volumes.reader import OWN_TABLES, Conflict, Entry, Volume
from sastrugi.volumes.space import OwnedSpace

_CHUNK = 4 << 20
_MOST_LISTED = 1 << 20
_BITS_AT_ONCE = 64 << 10


class NtfsVolume(Volume):
    """One NTFS volume, opened for reading."""

    family = "ntfs"
    file_system = "NTFS"
    tells_all_places = True

    def __init__(self, medium: Medium, geometry: Geometry, by_copy: bool) -> None:
        self._medium, self.geometry = medium, geometry
        self.where = Extent(geometry.offset, min(geometry.where.length, max(medium.size - geometry.offset, 0)))
        self.data = Extent(geometry.offset, geometry.clusters * geometry.cluster)
        self.cluster_size = geometry.cluster
        self.serial = f"{geometry.serial:016X}"
        self.health = ["the boot sector is damaged; its copy in the last sector was used"] if by_copy else []
        self.mountable = not by_copy
        self._bits: dict[int, bytes] = {}
        self.table = self._find_table()
        self.label = self._label()

    # -- the table of records ---------------------------------------------------------------

    def _find_table(self) -> FileMap:
        """Where the records stand: by record 0, by its copy, or (if neither can be read) from its first cluster on."""
        g = self.geometry
        for cluster, note in ((g.mft, ""), (g.mirror, "the first record of $MFT is damaged; its copy was used")):
            position = g.at(cluster)
            found = self._record_at(position, FIRST_RECORD)
            if found is not None:
                table = self._table_of(found)
                if table.size >= g.record:
                    self.health += [note] if note else []
                    self.mountable &= not note
                    return table
        self.mountable = False
        self.health.append("the first record of $MFT and its copy are damaged: its records were read from its start on")
        return FileMap.of((Extent(g.at(g.mft), self._as_far_as_records_stand(g.at(g.mft))),))

    def _record_at(self, position: int, number: int) -> Record | None:
        one = Records(self.geometry)
        self._read_into(one, FileMap.of((Extent(position, self.geometry.record),)), number)
        one.join()
        return one.by_number.get(number)

    def _table_of(self, first: Record) -> FileMap:
        """The table by record 0 and the records that this goes on in, each of which lies in a part known before."""
        pieces = dict(first.streams()).get("", [])
        table = map_of(pieces, self.geometry)[0] if pieces and pieces[0].runs is not None else FileMap()
        if not any(part.kind == ATTRIBUTE_LIST for part in first.parts):
            return table
        for number in self._listed(first):
            known = within(table.stored, number * self.geometry.record, self.geometry.record)
            if sum(part.length for part in known) < self.geometry.record:
                continue
            one = Records(self.geometry)
            data = self._medium.read_extents(known)
            block = np.frombuffer(data, "u1").reshape(1, -1).copy()
            one.add(block, np.array([known[0].offset]), np.array([FIRST_RECORD]))
            for _, record in one._extensions:
                first.parts += [part for part in record.parts if part.kind == DATA]
            table = map_of(dict(first.streams())[""], self.geometry)[0]
        return FileMap.of(table.stored) if table.unknown() else table

    def _listed(self, record: Record) -> list[int]:
        """The records that an attribute list names for further pieces of a record's content, in their order."""
        out: list[int] = []
        for _, pieces in record.pieces(ATTRIBUTE_LIST):
            data = map_of(pieces, self.geometry)[0].read(self._medium, 0, _BITS_AT_ONCE * 4)
            at = 0
            while at + 26 <= len(data):
                kind, length = (
                    int.from_bytes(data[at : at + 4], "little"),
                    int.from_bytes(data[at + 4 : at + 6], "little"),
                )
                number = int.from_bytes(data[at + 16 : at + 22], "little")
                if kind == DATA and number:
                    out.append(number)
                if length < 26 or length % 8:
                    break
                at += length
        return list(dict.fromkeys(out))

    def _as_far_as_records_stand(self, start: int) -> int:
        size, at = self.geometry.record, start
        step = max(_CHUNK // size, 1) * size
        while at < self.data.end:
            data = self._medium.read(at, min(step, self.data.end - at))
            rows = np.frombuffer(data, "u1", len(data) // size * size).reshape(-1, size)
            good = rows[:, :4].copy().view("<u4")[:, 0] == int.from_bytes(b"FILE", "little")
            if not good.all():
                return at - start + int(np.flatnonzero(~good)[0]) * size
            at += len(rows) * size
            if not len(rows):
                break
        return at - start

    def _read_into(self, records: Records, table: FileMap, first: int = 0) -> None:
        """Add the records of a table, as they stand, from number `first` on; holes of the medium are skipped."""
        size = self.geometry.record
        number = first
        rest = b""
        rest_at = 0
        for extent in table.stored:
            at = extent.offset
            if rest:  # a record that is cut in two by the end of a run
                need = size - len(rest)
                block = rest + self._medium.read(at, need)
                whole = np.frombuffer(block.ljust(size, b"\0"), "u1").reshape(1, -1)
                for record, base in dissected(whole, np.array([rest_at]), np.array([number]), self.geometry):
                    record.stands_at((Extent(rest_at, len(rest)), Extent(at, need)), fixups=True)
                    records.take(record, base)
                number, at, rest = number + 1, at + need, b""
            count_whole = (extent.end - at) // size
            for piece in self._medium.data_ranges(at, at + count_whole * size):
                lo = (piece.offset - at) // size
                hi = -(-(piece.end - at) // size)
                for n in range(lo, hi, max(_CHUNK // size, 1)):
                    count = min(hi - n, max(_CHUNK // size, 1))
                    data = self._medium.read(at + n * size, count * size).ljust(count * size, b"\0")
                    rows = np.frombuffer(data, "u1").reshape(count, size)
                    places = at + (n + np.arange(count, dtype=np.int64)) * size
                    records.add(rows, places, number + n + np.arange(count, dtype=np.int64))
            number += count_whole
            rest_at = at + count_whole * size
            rest = self._medium.read(rest_at, extent.end - rest_at) if extent.end > rest_at else b""

    @cached_property
    def files(self) -> RecordedFiles:
        records = Records(self.geometry)
        self._read_into(records, self.table)
        records.join()
        return RecordedFiles(records, older=self._older)

    # -- the past ---------------------------------------------------------------------------

    @cached_property
    def _logged(self) -> Records:
        """The newest state that the log tells of each file, by its reference."""
        found = Records(self.geometry)
        record = self._system(LOG)
        pieces = dict(record.streams()).get("", []) if record is not None else []
        log = map_of(pieces, self.geometry)[0] if pieces and pieces[0].runs is not None else FileMap()
        size = self.geometry.record
        seen: set[int] = set()
        for logged in logged_records(self._medium, log):
            if len(logged.data) > size or not fixups_fit(logged.data, size):
                continue
            block = np.frombuffer(with_fixups(logged.data.ljust(size, b"\0"), 1), "u1").reshape(1, -1)
            for state, base in dissected(block, np.zeros(1, np.int64), None, self.geometry):
                reference = state.number | state.sequence << 48
                if reference in seen:
                    continue
                seen.add(reference)
                state.stands_at(logged.where, fixups=False)
                if base:
                    found.extend(base, state)
                else:
                    found.by_number[reference] = state
        found.join_references()
        return found

    @cached_property
    def _logged_folders(self) -> dict[int, tuple[str, int]]:
        states = ((reference, state) for reference, state in self._logged.by_number.items() if state.folder)
        return {ref: (name.text, name.parent) for ref, state in states for name in state.own_names()[:1]}

    def _older(self, reference: int) -> tuple[str, int] | None:
        """Name and parent of a folder whose record is another's now, by whatever still tells of it."""
        for told in (self._logged_folders, self._journal_names, self._slack_names):
            if reference in told:
                return told[reference]
        return None

    # One asks for these while paths are worked out: they read from records alone.
    @cached_property
    def _journal_names(self) -> dict[int, tuple[str, int]]:
        for record in self.files.records.by_number.values():
            if record.in_use and self._below_extend(record):
                for name, pieces in record.streams():
                    if name == JOURNAL_RECORDS:
                        return told_names(self._medium, map_of(pieces, self.geometry)[0])
        return {}

    @cached_property
    def _slack_names(self) -> dict[int, tuple[str, int]]:
        records = self.files.records.by_number.values()
        runs = (part.runs for record in records for part in record.parts if part.kind == INDEX_ALLOCATION and part.runs)
        extents = (extent for own in runs for extent in self.geometry.extents(own))
        return names_in_blocks(self._medium, extents, self.geometry.index)

    def history(self) -> Iterator[Entry]:
        """Files of which the log tells and whose record is another's now."""
        gone = Records(self.geometry)
        for reference, state in self._logged.by_number.items():
            now = self.files.records.by_number.get(state.number)
            if now is not None and now.names and is_of(state.sequence, now):
                continue  # its own record tells of it
            gone.by_number[reference] = state
        then = RecordedFiles(gone, all_deleted=True, older=self._folder_then)
        for entry in then.entries():
            entry.source = "the log of the volume"
            yield entry

    def _folder_then(self, reference: int) -> tuple[str, int] | None:
        return self.files.above(reference)

    def _system(self, number: int) -> Record | None:
        """One of the volume's own records, by itself."""
        size = self.geometry.record
        known = within(self.table.stored, number * size, size)
        return self._record_at(known[0].offset, number) if len(known) == 1 and known[0].length == size else None

    def _label(self) -> str:
        record = self._system(VOLUME)
        for _, pieces in record.pieces(VOLUME_NAME) if record is not None else ():
            if pieces[0].runs is None:
                return text_of(pieces[0].stored_inside().read(self._medium, 0, 256))
        return ""

    # -- what there is ----------------------------------------------------------------------

    def entries(self) -> Iterator[Entry]:
        return self.files.entries()

    def own_extents(self) -> Iterator[tuple[str, Extent]]:
        g = self.geometry
        yield "table", Extent(g.offset, min(max(g.cluster, 8192), self.data.length))
        last = Extent(g.offset + g.sectors * g.sector, g.sector)
        if last.end <= self._medium.size:
            yield "table", last
        told = RangeSet()
        for extent in self.table.stored:
            told.add(extent)
            yield "table", extent
        for record in self.files.records.by_number.values():
            if not record.in_use:
                continue
            own = record.number < FIRST_FREE or self._below_extend(record)
            for part in record.parts:
                if part.runs and (own or (part.kind in (INDEX_ALLOCATION, ATTRIBUTE_LIST) and not part.unit)):
                    if own and record.number == BAD:
                        continue  # $Bad is a hole as large as the volume
                    what = "folder" if part.kind == INDEX_ALLOCATION and record.folder else "table"
                    for extent in g.extents(part.runs):
                        for gap in told.gaps(extent):
                            yield what, gap
                        told.add(extent)

    def _below_extend(self, record: Record) -> bool:
        return any(name.parent & REFERENCE == EXTEND for name in record.names)

    def structures(self) -> Iterator[tuple[str, Extent]]:
        g = self.geometry
        yield "$Boot", Extent(g.offset, min(8192, self.data.length))
        names = {0: "$MFT", 1: "$MFTMirr", 2: "$LogFile", 4: "$AttrDef", 6: "$Bitmap", 9: "$Secure", 10: "$UpCase"}
        for record in self.files.records.by_number.values():
            if not record.in_use or record.number == BAD:
                continue
            own = names.get(record.number) if record.number < FIRST_FREE else None
            if own is None and record.number >= FIRST_FREE and self._below_extend(record):
                own = record.own_names()[0].text
            for part in record.parts:
                if part.runs and (own or part.kind == INDEX_ALLOCATION):
                    for extent in g.extents(part.runs):
                        yield own or "a folder", extent
        yield "backup of $Boot", Extent(g.offset + g.sectors * g.sector, g.sector)

    # -- space ------------------------------------------------------------------------------

    @cached_property
    def _space_map(self) -> FileMap:
        record = self._system(SPACE)
        pieces = dict(record.streams()).get("", []) if record is not None else []
        return map_of(pieces, self.geometry)[0] if pieces else FileMap()

    def used_and_free(self) -> tuple[int, int]:
        g, used = self.geometry, 0
        for position, extent in self._space_map.pieces():
            for part in self._medium.data_ranges(extent.offset, extent.end):
                for at in range(part.offset, part.end, _CHUNK):
                    bits = np.frombuffer(self._medium.read(at, min(_CHUNK, part.end - at)), "u1")
                    first = 8 * (position + at - extent.offset)
                    counts = np.unpackbits(bits, bitorder="little")[: max(g.clusters - first, 0)]
                    used += int(np.count_nonzero(counts))
        return used * g.cluster, (g.clusters - used) * g.cluster

    def _used(self, part: Extent) -> Iterator[Extent]:
        """The parts of a stretch that the bitmap calls used."""
        g = self.geometry
        first = max((part.offset - g.offset) // g.cluster, 0)
        behind = min(-(-(part.end - g.offset) // g.cluster), g.clusters)
        per_piece = 8 * _BITS_AT_ONCE
        open_at = joined = -1
        for index in range(first // per_piece, -(-behind // per_piece)):
            bits = self._piece(index)
            lo, hi = max(first - index * per_piece, 0), min(behind - index * per_piece, per_piece)
            some = bits[lo // 8 : -(-hi // 8)]
            if not some.strip(b"\0"):  # all free, as most that is asked for
                continue
            own = np.unpackbits(np.frombuffer(some, "u1"), bitorder="little")[lo % 8 : lo % 8 + hi - lo]
            edges = np.flatnonzero(np.diff(np.concatenate(([0], own, [0])).astype(np.int8)))
            for start, end in edges.reshape(-1, 2).tolist():
                at, to = (g.at(index * per_piece + lo + n) for n in (start, end))
                if open_at >= 0 and at != joined:
                    yield _cut(open_at, joined, part)
                    open_at = -1
                open_at, joined = (open_at if open_at >= 0 else at), to
        if open_at >= 0:
            yield _cut(open_at, joined, part)

    def _piece(self, index: int) -> bytes:
        known = self._bits.get(index)
        if known is None:
            known = self._space_map.read(self._medium, index * _BITS_AT_ONCE, _BITS_AT_ONCE).ljust(_BITS_AT_ONCE, b"\0")
            if len(self._bits) > 64:
                self._bits.clear()
            self._bits[index] = known
        return known

    @cached_property
    def _space(self) -> OwnedSpace:
        owned: list[tuple[Extent, str, int]] = []
        for record in self.files.records.by_number.values():
            if not record.in_use or record.number < FIRST_FREE:
                continue
            for part in record.parts:
                if part.kind == DATA and (part.runs or (part.runs is None and part.size)):
                    path, identity = self.files.path_of(record, part.name), record.number | record.sequence << 48
                    own = self.geometry.extents(part.runs) if part.runs else part.stored_inside().stored
                    owned += [(extent, path, identity) for extent in own]
        names = {"table": OWN_TABLES, "folder": "a folder"}
        elsewhere = [(extent, names[what], 0) for what, extent in self.own_extents()]
        return OwnedSpace(self._used, [*owned, *elsewhere])

    def conflicts(self, extents: tuple[Extent, ...]) -> list[Conflict]:
        return self._space.conflicts(extents)


def _cut(start: int, end: int, part: Extent) -> Extent:
    lo, hi = max(start, part.offset), min(end, part.end)
    return Extent(lo, hi - lo)
