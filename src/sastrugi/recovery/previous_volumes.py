"""Earlier lives of a medium: their geometry worked out from loose folders, and the trees that these make.

A folder of FAT says in its first entry which cluster it begins at; where it stands says which byte that is. Two such
folders give a line: its slope is the cluster size. On exFAT the parent's record names the cluster, and the place of
each piece of a folder is a guess that enough others confirm. Signatures of files decide what is left open.
"""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace

from sastrugi.media import Extent, Medium
from sastrugi.media.filemap import FileMap
from sastrugi.recovery.layout import Place
from sastrugi.units import plural
from sastrugi.volumes.folder_parts import FolderPart, join_parts
from sastrugi.volumes.metadata_scan import families
from sastrugi.volumes.orphan_folders import LooseFolder, LooseRecord, can_go_on, mend_edge, split_at
from sastrugi.volumes.reader import OWN_TABLES, UNLISTED_OWNER, Conflict, Entry, Placement, Volume
from sastrugi.volumes.registry import LifeRules, file_systems, title_of

_SECTOR = 512
_ROOT_AREA = 32 << 10
_FIRST = 2
_MOST_LIVES = 8
_MOST_ANCHORS = 400
_MOST_PROBED, _FEWEST_TEXTS = 64, 3
_MOST_DEPTH = 100
_LOW_WORDS = 1 << 16
_MOST_PLACES = 512
_WORTH_OF_A_HIT = 4
"""A signature where a record says is there by chance once in thousands; where one is not, a file may just begin
otherwise (markup behind a comment), or be written over."""
_UNPLACED = "folder-at-cluster-{}"


def _rules(family: str) -> LifeRules:
    rules = file_systems()[family].lives
    assert rules is not None
    return rules


HeadTest = Callable[[str, int], bool | None]
"""Whether a file of this name can begin at this byte; None where its name tells no kind with a signature."""


@dataclass(frozen=True, slots=True)
class LifeGeometry:
    """The geometry of a life: the byte at which cluster 2 lies, and the cluster size. `votes` are folders that fit."""

    family: str
    base: int
    cluster: int
    votes: int = 0

    def offset(self, cluster: int) -> int:
        return self.base + (cluster - _FIRST) * self.cluster


def find_geometries(
    folders: Sequence[LooseFolder],
    known: Sequence[LifeGeometry],
    size: int,
    head: HeadTest,
    text: Callable[[int], bool] = lambda offset: False,
) -> list[tuple[LifeGeometry, list[LooseFolder]]]:
    """Each life that the folders are of, the one with most of them first. `known` are geometries of volumes that can
    be read: a quick format often keeps them. `text` tells whether a text begins at a byte, behind the end of another
    file: it is asked where no name calls for a signature."""
    out: list[tuple[LifeGeometry, list[LooseFolder]]] = []
    for family in families():
        left = [folder for folder in folders if folder.family == family]
        for _ in range(_MOST_LIVES):
            if not left:
                break
            line = _best_line(family, left, [one for one in known if one.family == family], size, head, text)
            if line is None:
                break
            own, rest = _those_of(line, left, size, head)
            if not own:
                break
            out.append((line, own))
            left = rest
    return sorted(out, key=lambda life: -len(life[1]))


def _best_line(
    family: str, folders: Sequence[LooseFolder], known: Sequence[LifeGeometry], size: int, head: HeadTest,
    text: Callable[[int], bool],
) -> LifeGeometry | None:  # fmt: skip
    votes: Counter[tuple[int, int]] = Counter()
    for cluster in _rules(family).units:
        for number, offset in set(_anchors(family, folders)):
            base = offset - (number - _FIRST) * cluster
            if 0 <= base < size and base % _SECTOR == 0:
                votes[base, cluster] += 1
    candidates = [
        LifeGeometry(family, base, cluster, count) for (base, cluster), count in votes.most_common(_MOST_LIVES)
    ]
    # A geometry that is known needs no second folder to be believed.
    known = [LifeGeometry(family, line.base, line.cluster, votes[line.base, line.cluster] + 1) for line in known]
    candidates = known + candidates
    best: tuple[tuple[int, int], LifeGeometry] | None = None
    for line in candidates:
        hits, misses = _probed(line, folders, size, head)
        score = 3 * (line.votes - 1) + hits - misses
        if not (score or hits or misses) and line in known:
            score = _begun_texts(line, folders, size, text) >= _FEWEST_TEXTS
        if score > 0 and (best is None or (score, line.votes) > best[0]):
            best = ((score, line.votes), line)
    return best[1] if best else None


def _begun_texts(line: LifeGeometry, folders: Sequence[LooseFolder], size: int, text: Callable[[int], bool]) -> int:
    """How many files begin as texts do, by a geometry of which nothing else tells."""
    starts = [line.offset(r.cluster) for f in folders for r in f.records if not r.folder and r.cluster >= _FIRST]
    step = max(len(starts) // _MOST_PROBED, 1)
    return sum(map(text, [start for start in starts[::step] if start < size]))


def _anchors(family: str, folders: Sequence[LooseFolder]) -> Iterator[tuple[int, int]]:
    """(cluster, byte) pairs that may belong together."""
    if _rules(family).folders_tell_their_place:
        for folder in folders[: 10 * _MOST_ANCHORS]:
            if folder.own is not None and folder.own >= _FIRST:
                yield folder.own, folder.offset
        return
    numbers = list(dict.fromkeys(r.cluster for f in folders for r in f.records if r.folder and r.cluster >= _FIRST))
    for number in numbers[:_MOST_ANCHORS]:
        for folder in folders[:_MOST_ANCHORS]:
            yield number, folder.offset


def _probed(line: LifeGeometry, folders: Sequence[LooseFolder], size: int, head: HeadTest) -> tuple[int, int]:
    """How many files begin, by this geometry, with the signature that their name calls for; and how many do not."""
    hits = misses = 0
    records = [r for f in folders if _fits(line, f) for r in f.records if not r.folder and r.size >= _SECTOR]
    step = max(len(records) // _MOST_PROBED, 1)
    for record in records[::step]:
        offset = line.offset(record.cluster)
        if record.cluster < _FIRST or offset >= size:
            misses += not record.deleted
            continue
        answer = head(record.name, offset)
        if answer is not None:
            hits, misses = hits + answer, misses + (not answer and not record.deleted)
    return hits, misses


def _fits(line: LifeGeometry, folder: LooseFolder) -> bool:
    """Whether a folder can be of this life: its own number fits its place, or it tells no number."""
    if folder.own is not None:
        return line.offset(folder.own) == folder.offset
    # The root of FAT12 and FAT16 stands right in front of the first cluster.
    root = _ROOT_AREA if _rules(line.family).folders_tell_their_place else 0
    return folder.offset >= line.base - root and folder.offset % _SECTOR == 0


def _those_of(
    line: LifeGeometry, folders: Sequence[LooseFolder], size: int, head: HeadTest
) -> tuple[list[LooseFolder], list[LooseFolder]]:
    """The folders of a life, and the others. One that tells no number is of it when its files begin as they should."""
    starts = {
        line.offset(r.cluster) for f in folders if _fits(line, f) for r in f.records if r.folder and r.cluster >= _FIRST
    }  # fmt: skip
    if not _rules(line.family).folders_tell_their_place:
        folders = split_at(folders, starts)
    own: list[LooseFolder] = []
    rest: list[LooseFolder] = []
    for folder in folders:
        belongs = _fits(line, folder)
        if belongs and folder.own is None and folder.offset not in starts:
            hits, misses = _probed(line, [folder], size, head)
            belongs = _WORTH_OF_A_HIT * hits >= misses
        (own if belongs else rest).append(folder)
    return own, rest


class EarlierVolume(Volume):
    """A volume that is no more. `now` are the volumes that can be read today: what they use is gone for this one; the
    one of them that lies in the same clusters is `same`."""

    number: int
    told_by: str
    """What is left of it, in words."""
    _now: Sequence[Volume]
    _same: Volume | None

    def place(self) -> Place:
        """It among the places of the medium."""
        return Place(self.number, self.where, f"an earlier life, by {self.told_by} of it", None, self, listed=False)

    def used_and_free(self) -> tuple[int, int]:
        return 0, self.data.length

    def conflicts(self, extents: tuple[Extent, ...]) -> list[Conflict]:
        out: list[Conflict] = []
        for volume in self._now:
            whole = volume.where
            for extent in extents:
                lo, hi = max(extent.offset, whole.offset), min(extent.end, whole.end)
                if lo >= hi:
                    continue
                if lo < volume.data.offset:
                    taken = Extent(lo, min(hi, volume.data.offset) - lo)
                    out.append(Conflict(taken, OWN_TABLES))
                if hi > volume.data.offset:
                    start = max(lo, volume.data.offset)
                    found = volume.conflicts((Extent(start, hi - start),))
                    # Clusters in use that nobody lists may be this very file's, if the geometry is the same.
                    same = self._same is volume
                    out += [one for one in found if not (same and one.owner == UNLISTED_OWNER)]
        return out


class ToldByItself(EarlierVolume):
    """A volume that its own file system put together from what is left of its records."""

    def __init__(self, told: Volume, now: Sequence[Volume], number: int) -> None:
        self._told, self._now, self.number = told, now, number
        self.family, self.file_system = told.family, told.file_system
        self.where, self.data, self.cluster_size = told.where, told.data, told.cluster_size
        self.label, self.serial, self.health = told.label, told.serial, told.health
        self.tells_all_places, self.told_by = told.tells_all_places, told.told_by
        own = (told.data.offset, told.cluster_size)
        self._same = next((volume for volume in now if (volume.data.offset, volume.cluster_size) == own), None)

    def entries(self) -> Iterator[Entry]:
        return self._told.entries()

    def own_extents(self) -> Iterator[tuple[str, Extent]]:
        return self._told.own_extents()


class PreviousVolume(EarlierVolume):
    """The volume of an earlier life: no boot sector, no table of clusters, only its folders."""

    def __init__(
        self, medium: Medium, line: LifeGeometry, folders: Sequence[LooseFolder], now: Sequence[Volume], number: int
    ) -> None:
        self.line, self._medium, self._now, self.number = line, medium, now, number
        self.family, self.file_system = line.family, title_of(line.family)
        end = next((v.where.end for v in now if v.where.offset <= line.base < v.where.end), medium.size)
        end = min(end, medium.size)
        self.where = self.data = Extent(line.base, max(end - line.base, 0))
        self.cluster_size = line.cluster
        self.label, self.serial, self.health = "", "", []
        self._folders = _in_order(folders)
        self._same = next((v for v in now if (v.data.offset, v.cluster_size) == (line.base, line.cluster)), None)
        self.told_by = plural(len(self._folders), "folder")

    def own_extents(self) -> Iterator[tuple[str, Extent]]:
        for folder in self._folders:
            yield "folder", Extent(folder.offset, len(folder.data))

    def entries(self) -> Iterator[Entry]:
        """Every file that the folders tell of. One that several records tell of comes once, by the best of them."""
        paths = self._paths()
        best: dict[tuple[int, int], tuple[tuple[bool, bool, float], LooseRecord, LooseFolder]] = {}
        for folder in self._folders:
            for record in folder.records:
                if record.folder or not record.size or not self._start(record):
                    continue
                rank = (not record.deleted, id(folder) in paths, record.name_sure)
                key = (self._start(record), record.size)
                if key not in best or rank > best[key][0]:
                    best[key] = (rank, record, folder)
        for (start, size), (_, record, folder) in best.items():
            yield self._entry(record, folder, start, size, paths.get(id(folder), ()))

    def _start(self, record: LooseRecord) -> int:
        """The byte a record's file begins at; 0 if that is outside the volume."""
        offset = self.line.offset(record.cluster)
        return offset if record.cluster >= _FIRST and offset < self.data.end else 0

    def _may_be_low(self, record: LooseRecord) -> bool:
        """Whether a cluster number may be only the low half of the right one."""
        return (
            _rules(self.line.family).low_halves and record.cluster < _LOW_WORDS < self.data.length // self.line.cluster
        )

    def _by_low_words(self, record: LooseRecord, folder: LooseFolder) -> list[int]:
        """The bytes at which a file may begin, the nearest to its folder first."""
        every = range(record.cluster, self.data.length // self.line.cluster + _FIRST, _LOW_WORDS)
        offsets = [self.line.offset(cluster) for cluster in every if cluster >= _FIRST]
        return sorted(offsets, key=lambda offset: (offset < folder.offset, abs(offset - folder.offset)))[:_MOST_PLACES]

    def _placed(self, start: int, size: int, told: str) -> Placement:
        where = FileMap.of((Extent(start, min(size, self.data.end - start)),), size)
        return Placement(where, f"in one piece {told}, by a record that no folder reaches")

    def _entry(
        self, record: LooseRecord, folder: LooseFolder, start: int, size: int, path: tuple[str, ...]
    ) -> Entry:  # fmt: skip
        told = "as its record says" if record.straight else "from its first cluster"
        sure = record.name_sure * (0.5 if not path or path[0].startswith(_UNPLACED[:9]) else 1.0)
        if record.deleted and self._may_be_low(record):
            offsets = self._by_low_words(record, folder)
            places = [replace(self._placed(at, size, told), far=n > 0) for n, at in enumerate(offsets)]
            return Entry(
                (*path, record.name), False, True, size, record.times, (record.record,), tuple(places), sure,
                record.name_note, deleted_earlier=True,
            )  # fmt: skip
        alone = record.straight or size <= self.line.cluster
        placed = [replace(self._placed(start, size, told), certain=alone)]
        chain = self._same.chain_from(start, size) if self._same else ()
        if chain:
            told = "by its chain, which still stands; its record is one that no folder reaches"
            chained = Placement(FileMap.of(chain, size), told, certain=True)
            placed = [chained, *(one for one in placed if one.map != chained.map)]
        return Entry(
            (*path, record.name), False, True, size, record.times, (record.record,), tuple(placed), sure,
            record.name_note, deleted_earlier=record.deleted,
        )  # fmt: skip

    def _paths(self) -> dict[int, tuple[str, ...]]:
        """The path of each folder, by its id. A folder whose own record is gone is called by its cluster."""
        at = {folder.offset: folder for folder in self._folders}
        parent: dict[int, tuple[LooseFolder, str]] = {}
        for folder in self._folders:
            for record in folder.records:
                child = at.get(self.line.offset(record.cluster)) if record.folder else None
                if child is not None and child is not folder and (id(child) not in parent or not record.deleted):
                    parent[id(child)] = (folder, record.name)
        self._by_low_word(parent)
        head = self._heads()
        out: dict[int, tuple[str, ...]] = {}
        for folder in self._folders:
            names: list[str] = []
            here = head.get(id(folder), folder)
            for _ in range(_MOST_DEPTH):
                above = parent.get(id(here))
                if above is None:
                    break
                names.insert(0, above[1])
                here = head.get(id(above[0]), above[0])
            if not self._is_root(here, at):
                names.insert(0, _UNPLACED.format((here.offset - self.line.base) // self.line.cluster + _FIRST))
            out[id(folder)] = tuple(names)
        return out

    def _by_low_word(self, parent: dict[int, tuple[LooseFolder, str]]) -> None:
        """Folders whose record lost the high half of its cluster (Windows, FAT32): `..` tells the parent."""
        own = {folder.own: folder for folder in self._folders if folder.own is not None}
        for folder in self._folders:
            above = own.get(folder.parent or -1)
            if folder.own is None or folder.own < 1 << 16 or above is None or id(folder) in parent:
                continue
            names = [r.name for r in above.records if r.folder and r.cluster == folder.own & 0xFFFF]
            if len(names) == 1:
                parent[id(folder)] = (above, names[0])

    def _is_root(self, folder: LooseFolder, at: dict[int, LooseFolder]) -> bool:
        """A piece without dot entries that holds folders whose `..` says: the root is above."""
        if not _rules(self.line.family).folders_tell_their_place or folder.own is not None:
            return False
        below = [at.get(self.line.offset(r.cluster)) for r in folder.records if r.folder]
        return any(child is not None and child.parent == 0 for child in below)

    def _heads(self) -> dict[int, LooseFolder]:
        """For later pieces of folders, the first one (see folder_parts)."""
        starts = {self.line.offset(r.cluster) for f in self._folders for r in f.records if r.folder}
        # What only looks like a piece, and tells of no file, takes the place of none.
        heads = {id(f) for f in self._folders if f.own is not None or f.offset in starts}
        folders = [folder for folder in self._folders if folder.records or id(folder) in heads]
        number_at = {folder.offset: number for number, folder in enumerate(folders)}
        linked = {
            number_at[folder.follows.offset]: number
            for number, folder in enumerate(folders)
            if folder.follows is not None and folder.follows.offset in number_at
        }
        parts = [self._part(folder, id(folder) in heads) for folder in folders]
        before = join_parts(parts, linked, lambda one, other: can_go_on(folders[one], folders[other]))
        out: dict[int, LooseFolder] = {}
        for number, piece in enumerate(folders):
            if number not in before:
                continue
            first, seen = number, {number}
            while first in before and before[first] not in seen:
                first = before[first]
                seen.add(first)
            out[id(piece)] = folders[first]
            if piece.follows is None:
                piece.follows = folders[before[number]]
                mend_edge(piece)
        return out

    def _part(self, folder: LooseFolder, head: bool) -> FolderPart:
        created = [moment and moment.replace(tzinfo=None) for moment in (r.times.created for r in folder.records)]
        begun, filled = (created[0], created[-1]) if created else (None, None)
        end, ended = self._last_end(folder), not folder.full
        return FolderPart(folder.offset, end, begun, filled, ended, head, folder.aliases)

    def _last_end(self, folder: LooseFolder) -> int:
        placed = [record for record in folder.records if self._start(record)]
        if not placed:
            return folder.end
        size = self.line.cluster if placed[-1].folder else placed[-1].size
        return max(self._start(placed[-1]) + -(-size // self.line.cluster) * self.line.cluster, folder.end)


def _in_order(folders: Sequence[LooseFolder]) -> list[LooseFolder]:
    """By their place; of pieces at one place the longest."""
    best: defaultdict[int, list[LooseFolder]] = defaultdict(list)
    for folder in folders:
        best[folder.offset].append(folder)
    return [max(best[offset], key=lambda folder: len(folder.data)) for offset in sorted(best)]


def geometry_of(volume: Volume) -> LifeGeometry:
    """The geometry of a volume that can be read."""
    return LifeGeometry(volume.family, volume.data.offset, volume.cluster_size)
