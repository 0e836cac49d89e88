"""The pass `relics`: files that only records of an earlier life tell of, found anywhere on the medium."""

from __future__ import annotations

from array import array
from collections.abc import Iterable, Iterator, Mapping, Sequence
from functools import partial

import numpy as np
from numpy.typing import NDArray

from sastrugi.kinds import kind_for_name
from sastrugi.media import Extent, Medium, RangeSet
from sastrugi.media.extents import total
from sastrugi.media.filemap import FileMap
from sastrugi.progress import Progress
from sastrugi.recovery.confidence import TEXT_BYTES, begins_as_named, begins_late, judge_deleted
from sastrugi.recovery.evidence import Clue, evidence
from sastrugi.recovery.findings import Finding
from sastrugi.recovery.layout import Place
from sastrugi.recovery.previous_volumes import (
    EarlierVolume,
    PreviousVolume,
    ToldByItself,
    find_geometries,
    geometry_of,
)
from sastrugi.recovery.tables import deleted_finding, overlaps
from sastrugi.volumes.metadata_scan import LooseTable, loose_tables, marked
from sastrugi.volumes.orphan_folders import LooseFolder, join_pieces, loose_folders
from sastrugi.volumes.reader import OWN_TABLES, Entry, Volume
from sastrugi.volumes.registry import file_systems

_HEAD_OF_TEXT = 65
_MOST_LOST = 0.5
"""The share of a file that may belong to others now before it is no finding any more."""


def loose_outside(tables: Iterable[LooseTable], volumes: Sequence[Volume], live: RangeSet) -> list[LooseFolder]:
    """The folders among loose tables that no volume of today reaches, nor a live file holds."""
    reached = RangeSet(extent for volume in volumes for extent in volume.folder_extents())
    # What is reached tells nothing new, but for lost first letters of names.
    rules = {name: one.lives for name, one in file_systems().items()}
    unread = (
        table
        for table in tables
        if ((own := rules[table.family]) is not None and own.loses_first_letters)
        or reached.gaps(Extent(table.offset, len(table.data)))
    )
    loose = [
        folder
        for folder in loose_folders(unread)
        if folder.offset not in reached and not live.overlap(Extent(folder.offset, 1))
    ]
    join_pieces(loose)
    return loose


def earlier_lives(medium: Medium, places: Sequence[Place], progress: Progress) -> list[Place]:
    """The lives that folders tell of which nothing of today reaches, looked for over all of the medium, as places."""
    volumes = [place.volume for place in places if place.volume]
    live = RangeSet(
        extent
        for place in places
        if place.volume and not place.not_mounted
        for entry in place.volume.entries()
        if not (entry.deleted or entry.damaged or entry.folder)
        for extent in entry.map.stored
    )
    progress.start("lives", medium.size)

    def watched() -> Iterator[tuple[int, NDArray[np.uint16]]]:
        for offset, marks in marked(medium, live.gaps(Extent(0, medium.size))):
            progress.check()
            yield offset, marks
            progress.at(offset)

    others: dict[str, array[int]] = {}
    folders = loose_outside(loose_tables(medium, watched(), others), volumes, live)
    progress.finish()
    return [ghost.place() for ghost in previous_volumes_of(medium, folders, others, volumes, len(places) + 1)]


def previous_volumes_of(
    medium: Medium, folders: Sequence[LooseFolder], others: Mapping[str, Sequence[int]], volumes: Sequence[Volume],
    first: int,
) -> list[EarlierVolume]:  # fmt: skip
    """The lives that the folders and other marked sectors tell of; `first` is the number of the first one's volume."""
    known = [geometry_of(volume) for volume in volumes]
    begins = partial(_begins_at, medium)
    lives = find_geometries(folders, known, medium.size, begins, partial(_text_begins_at, medium))
    out: list[EarlierVolume] = [
        PreviousVolume(medium, line, own, volumes, first + n) for n, (line, own) in enumerate(lives)
    ]
    for family, sectors in sorted(others.items()):
        earlier = file_systems()[family].earlier
        for told in earlier(medium, sectors, volumes, begins) if earlier else ():
            out.append(ToldByItself(told, volumes, first + len(out)))
    return out


def _begins_at(medium: Medium, name: str, offset: int) -> bool | None:
    return begins_as_named(medium, name, FileMap.of((Extent(offset, max(medium.size - offset, 0)),)))


def _text_begins_at(medium: Medium, offset: int) -> bool:
    """Whether a text begins at a byte, in front of which a file ended before the end of its cluster."""
    data = medium.read(offset - 1, _HEAD_OF_TEXT) if offset else b""
    return len(data) > 1 and not data[0] and not data[1:].translate(None, TEXT_BYTES)


def relic_findings(medium: Medium, ghost: EarlierVolume, told: dict[int, int], progress: Progress) -> Iterator[Finding]:
    """Every file of an earlier life of which something can be left. `told` are the places (first byte) and sizes of
    what was found before: it is not told again."""
    entries = [entry for entry in ghost.entries() if not entry.folder]
    later = overlaps(entries)
    for entry in entries:
        progress.check()
        start = entry.map.start or 0
        if told.get(start) == entry.size:
            continue
        conflicts = min((ghost.conflicts(one.extents) for one in entry.placements), key=len, default=[])
        taken = total(conflict.extent for conflict in conflicts)
        unwritten = all(one.owner == OWN_TABLES for one in conflicts) and begins_as_named(medium, entry.name, entry.map)
        if taken > entry.size * _MOST_LOST and not unwritten:
            continue
        verdict = judge_deleted(medium, ghost, entry, later.get(id(entry), ""))
        finding = deleted_finding(entry, ghost.number, verdict, ("relics",))
        if entry.deleted_earlier:
            finding.evidence.insert(0, evidence(Clue.DELETED_EARLIER))
        overtaken = id(entry) in later or any(conflict.extent.offset <= start for conflict in conflicts)
        doubtful = verdict.sound == 0 and (overtaken or entry.deleted_earlier)
        if not (doubtful and _foreign(medium, entry)):
            yield finding


def _foreign(medium: Medium, entry: Entry) -> bool:
    """Whether what stands at a file's first byte is surely not its beginning."""
    answer = begins_as_named(medium, entry.name, entry.map)
    if answer is None:
        return not begins_late(kind_for_name(entry.name)) and not entry.map.read(medium, 0, 512).strip(b"\0")
    return not answer
