"""Folders that no volume reaches, read from their loose pieces: records, and what they say of their own place."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from itertools import pairwise

import numpy as np

from sastrugi.media.extents import Extent
from sastrugi.volumes.exfat import directory as exfat
from sastrugi.volumes.exfat.layout import IN_USE, TYPE_NAME
from sastrugi.volumes.fat import directory as fat
from sastrugi.volumes.fat.layout import ATTR_LONG_NAME, ATTR_LONG_NAME_MASK, DIR_ENTRY, ENTRY_SIZE
from sastrugi.volumes.metadata_scan import LooseTable
from sastrugi.volumes.reader import Times

_SECTOR = 512
_MOST_COMPARED = 20_000
"""Pairs of pieces of which it is asked whether one goes on in the other."""
_DOT = b".".ljust(11)
_LONG_NAME_BYTES = [*range(1, 11), *range(14, 26), *range(28, 32)]
"""Where a long-name entry has its thirteen characters (FAT specification, "Long File Name Implementation")."""
_FAT_PIECE, _EXFAT_PIECE = 26, 30


@dataclass(slots=True)
class LooseRecord:
    """One file or folder that a loose piece tells of. `straight`: the record says that it lies in one piece."""

    name: str
    folder: bool
    deleted: bool
    cluster: int
    size: int
    times: Times
    record: Extent
    name_sure: float
    name_note: str
    straight: bool = False


@dataclass(slots=True, eq=False)
class LooseFolder:
    """A piece of a folder's table. `own` and `parent` are cluster numbers where its dot entries tell them (FAT)."""

    family: str
    offset: int
    data: bytes
    own: int | None = None
    parent: int | None = None
    records: list[LooseRecord] = field(default_factory=list)
    aliases: frozenset[bytes] = frozenset()
    """Short names of live files (FAT)."""
    follows: LooseFolder | None = None
    """The piece before this one, where an entry set that reaches from one into the other proves it."""

    @property
    def end(self) -> int:
        return self.offset + len(self.data)

    @property
    def full(self) -> bool:
        """Whether it goes on to its last entry, so that a further piece may follow."""
        return 0 not in self.data[::ENTRY_SIZE]


def loose_folders(tables: Iterable[LooseTable]) -> list[LooseFolder]:
    """Loose tables cut where folders end or begin by themselves, and read. Lost first characters are worked out from
    all of them together."""
    out: list[LooseFolder] = []
    texts: list[list[fat.Record]] = []
    for table in tables:
        for offset, data in _cut(table):
            folder = LooseFolder(table.family, offset, data)
            if table.family == "fat":
                records = _read_fat(folder)
                texts.append(records)
                folder.records = [_of_fat(offset, record) for record in records]
            else:
                folder.records = [_of_exfat(offset, record) for record in exfat.parse_table(data) if record.proven]
            if folder.records or folder.own is not None or table.family == "exfat":
                out.append(folder)
    fat.settle_lost_characters(texts)
    settled = iter(texts)
    for folder in out:
        if folder.family == "fat" and folder.records:
            records = next(one for one in settled if one)
            folder.records = [_of_fat(folder.offset, record) for record in records]
    return out


def join_pieces(folders: Sequence[LooseFolder]) -> None:
    """Say of each piece which one it follows, where an entry set tells that reaches from one into the other."""
    _join_exfat([folder for folder in folders if folder.family == "exfat"])
    _join_fat([folder for folder in folders if folder.family == "fat"])


def told_anywhere(tables: Sequence[LooseTable]) -> Iterator[tuple[str, bool, int, Times]]:
    """What any record in loose tables tells (name, whether a folder, size, times), also those that nothing proves."""
    folders = loose_folders(tables)
    join_pieces(folders)
    for folder in folders:
        yield from ((r.name, r.folder, r.size, r.times) for r in folder.records)
    for table in tables:
        if table.family == "exfat":
            yield from ((r.name, r.folder, r.size, r.times) for r in exfat.parse_table(table.data))


class NamePieces:
    """The pieces of long names that stand in loose tables, whichever record they belong to: a name of which all pieces
    stand can still be read, also where the folder lies in pieces itself."""

    def __init__(self, tables: Iterable[LooseTable]) -> None:
        self._pieces: dict[str, set[bytes]] = {"fat": set(), "exfat": set()}
        for table in tables:
            raw = np.frombuffer(table.data, "u1", len(table.data) // ENTRY_SIZE * ENTRY_SIZE).reshape(-1, ENTRY_SIZE)
            if table.family == "exfat":
                found = raw[(raw[:, 0] | IN_USE) == TYPE_NAME][:, 2:]
            else:
                found = raw[raw[:, 11] == ATTR_LONG_NAME][:, _LONG_NAME_BYTES]
            self._pieces[table.family].update(row.tobytes() for row in found)

    def tell(self, name: str) -> bool:
        """Whether all pieces of a name stand."""
        text = name.encode("utf-16-le", "replace")
        short = (text + b"\0\0").ljust(-(-(len(text) + 2) // _FAT_PIECE) * _FAT_PIECE, b"\xff")
        # A name that fills its entries has no end mark.
        fat = (text if not len(text) % _FAT_PIECE else short, _FAT_PIECE)
        exfat = (text.ljust(-(-len(text) // _EXFAT_PIECE) * _EXFAT_PIECE, b"\0"), _EXFAT_PIECE)
        return any(
            all(padded[at : at + size] in self._pieces[family] for at in range(0, len(padded), size))
            for family, (padded, size) in (("fat", fat), ("exfat", exfat))
        )


def _join_exfat(folders: Sequence[LooseFolder]) -> None:
    """Sets that begin in one piece and end in another: their checksum proves which."""
    heads: dict[int, list[LooseFolder]] = {}
    for folder in folders:
        heads.setdefault(exfat.leading_entries(folder.data), []).append(folder)
    left = _MOST_COMPARED
    for folder in folders:
        missing = exfat.missing_entries(folder.data) if folder.full else 0
        tail = exfat.tail_of(folder.data)
        for head in heads.get(missing, ()) if missing else ():
            left -= 1
            if left < 0:
                return
            if head.follows is not None or head is folder or not exfat.goes_on(tail, head.data):
                continue
            across = [r for r in exfat.parse_table(tail + head.data) if r.position < len(tail) < r.position + r.length]
            if across and across[0].proven:
                head.follows = folder
                folder.records.append(_of_exfat(folder.end - len(tail), across[0]))
                break


def _join_fat(folders: Sequence[LooseFolder]) -> None:
    """Long names that begin in one piece and end in another: their checksum tells which, if one alone."""
    edges = [(folder.data[: fat.LONGEST_RECORD], folder.data[-fat.LONGEST_RECORD :]) for folder in folders]
    for before, behind in fat.links(edges, [not folder.full for folder in folders]).items():
        if folders[behind].own is None:
            folders[behind].follows = folders[before]
            mend_edge(folders[behind])


def can_go_on(before: LooseFolder, behind: LooseFolder) -> bool | None:
    """Whether a piece that is full can go on in another, by the entries at their edges; None if these say nothing."""
    if before.family == "fat":
        return fat.goes_on(before.data[-fat.LONGEST_RECORD :], behind.data[: fat.LONGEST_RECORD])
    return None if exfat.goes_on(exfat.tail_of(before.data), behind.data) else False


def mend_edge(piece: LooseFolder) -> None:
    """Give the first record of a FAT folder's later piece the long name that begins in the piece before."""
    before = piece.follows
    if piece.family != "fat" or before is None or not piece.records:
        return
    record = fat.joined_record(before.data, piece.data)
    if record is not None:
        whole = _of_fat(0, record)
        whole.record = piece.records[0].record
        if (whole.cluster, whole.size) == (piece.records[0].cluster, piece.records[0].size):
            piece.records[0] = whole


def split_at(folders: Sequence[LooseFolder], starts: Iterable[int]) -> list[LooseFolder]:
    """Folders cut once more where others begin, by places that records name."""
    wanted = np.array(sorted(starts), np.int64)
    out: list[LooseFolder] = []
    for folder in folders:
        lo, hi = np.searchsorted(wanted, [folder.offset + 1, folder.end])
        cuts = [folder.offset, *wanted[lo:hi].tolist(), folder.end]
        for first, behind in pairwise(cuts):
            own = [record for record in folder.records if first <= record.record.offset < behind]
            data = folder.data[first - folder.offset : behind - folder.offset]
            out.append(replace(folder, offset=first, data=data, records=own))
    return out


def _cut(table: LooseTable) -> Iterator[tuple[int, bytes]]:
    """(offset, bytes) of parts: behind an end mark, at dot entries, and where a long name is cut off, another folder
    begins."""
    data, start = table.data, 0
    for at in range(0, len(data), _SECTOR):
        ended = at > start and 0 in data[at - _SECTOR : at : ENTRY_SIZE]
        begins = table.family == "fat" and (data[at : at + 11] == _DOT or (at > start and _is_cut(data, at)))
        if at > start and (ended or begins):
            yield table.offset + start, data[start:at]
            start = at
    yield table.offset + start, data[start:]


def _is_cut(data: bytes, at: int) -> bool:
    """Whether a long name of a table of FAT does not go on over an edge, or one begins behind it in its middle."""
    last, first = (data[n + 11] & ATTR_LONG_NAME_MASK == ATTR_LONG_NAME for n in (at - ENTRY_SIZE, at))
    if not (last or first):
        return b"~" in data[at : at + 8]  # an alias without the long name that it stands for
    if last and first and data[at - ENTRY_SIZE + fat.CHECKSUM] != data[at + fat.CHECKSUM]:
        return True
    return fat.goes_on(data[max(at - fat.LONGEST_RECORD, 0) : at], data[at : at + fat.LONGEST_RECORD]) is False


def _read_fat(folder: LooseFolder) -> list[fat.Record]:
    if fat.looks_like_folder(folder.data):
        dots = np.frombuffer(folder.data, DIR_ENTRY, 2)
        numbers = [int(dot["cluster_high"]) << 16 | int(dot["cluster_low"]) for dot in dots]
        folder.own, folder.parent = numbers
    records = [record for record in fat.parse_table(folder.data, 32) if not record.label]
    folder.aliases = frozenset(record.short for record in records if not record.deleted)
    return records


def _of_fat(offset: int, record: fat.Record) -> LooseRecord:
    return LooseRecord(
        record.name, record.folder, record.deleted, record.cluster, record.size, record.times,
        Extent(offset + record.position, record.length), record.name_sure, record.name_note,
    )  # fmt: skip


def _of_exfat(offset: int, record: exfat.Record) -> LooseRecord:
    return LooseRecord(
        record.name, record.folder, record.deleted, record.cluster, min(record.size, record.valid_size), record.times,
        Extent(offset + record.position, record.length), record.name_sure, record.name_note, record.no_chain,
    )  # fmt: skip
