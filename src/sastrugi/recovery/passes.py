"""The passes of a scan, in their order. A new one is one more object in PASSES."""

from __future__ import annotations

from array import array
from collections.abc import Iterable, Sequence
from typing import Protocol

from sastrugi.errors import Interrupted
from sastrugi.media import Extent, RangeSet
from sastrugi.recovery.bins import with_bin_names
from sastrugi.recovery.content import SHORTEST_FRAGMENT, ContentPass, Grid, breaks
from sastrugi.recovery.context import ScanContext
from sastrugi.recovery.findings import FoundVolume
from sastrugi.recovery.found_pieces import FoundPieces
from sastrugi.recovery.journals import history_findings
from sastrugi.recovery.layout import Place
from sastrugi.recovery.order_of_writing import join_by_order
from sastrugi.recovery.pairs_by_turns import PairsByTurns
from sastrugi.recovery.reassembly_pass import Assembly
from sastrugi.recovery.relics import loose_outside, previous_volumes_of, relic_findings
from sastrugi.recovery.tables import table_findings
from sastrugi.recovery.told_grids import told_grids
from sastrugi.units import format_size
from sastrugi.volumes.metadata_scan import LooseTable, loose_tables
from sastrugi.volumes.orphan_folders import LooseFolder

_PLACES_TOLD = "places_told"
"""Under this, the scan file keeps the numbers of earlier volumes whose records tell all places of files."""
_BY_RECORDS, _PAIRS = 0.6, 0.3
"""Shares of the effort: that which goes to files that records tell of; and, of the rest, to pairs by turns."""
MOST_LOOSE = 24 << 20
"""Bytes of folders of earlier lives that are read, 32 for an entry: of several hundred thousand files."""


class Pass(Protocol):
    """One way of searching. `needs` is what it asks of the survey of sectors: `folders`, `content`, or nothing."""

    name: str
    needs: frozenset[str]

    def run(self, scan: ScanContext) -> None:
        """Add what it finds to the scan file. It may run again after a stop: then it discards what it found before, or
        goes on from where it was."""


def describe(place: Place) -> FoundVolume:
    """A place on the medium, with what its volume says of itself."""
    volume = place.volume
    note = (place.partition.note,) if place.partition and place.partition.note else ()
    if volume is None:
        return FoundVolume(place.number, place.where, "unknown", "", "", 0, 0, 0, place.origin, note)
    used, free = volume.used_and_free()
    return FoundVolume(
        place.number,
        place.where,
        volume.file_system,
        volume.label,
        volume.serial,
        volume.cluster_size,
        used,
        free,
        place.origin,
        (*note, *volume.health),
    )


class Layout:
    """Partitions and volumes, also those that no table lists."""

    name = "layout"
    needs: frozenset[str] = frozenset()

    def run(self, scan: ScanContext) -> None:
        if "tables" not in scan.file.get("passes").split(","):  # which looks for them after those that are listed
            scan.add_unlisted()
        for place in scan.places:
            scan.file.add_volume(describe(place))


class Tables:
    """What volumes' own live structures say; those that are listed first, so that it can be seen while the rest of
    the medium is swept."""

    name = "tables"
    needs: frozenset[str] = frozenset()

    def run(self, scan: ScanContext) -> None:
        scan.file.discard("tables")
        listed = list(scan.places)
        self._tables_of(scan, listed)
        scan.file.commit()
        self._tables_of(scan, [place for place in scan.places if place not in listed] or scan.add_unlisted())
        Layout().run(scan)  # reading the tables tells more of a volume's label and health

    def _tables_of(self, scan: ScanContext, places: Sequence[Place]) -> None:
        for place in places:
            if place.volume is None or scan.limits.volume not in (0, place.number):
                continue
            found = table_findings(scan.medium, place.number, place.volume, place.not_mounted)
            scan.watched(with_bin_names(scan.medium, found), f"volume {place.number}")


class Relics:
    """Folders of earlier lives, and what they tell of."""

    name = "relics"
    needs: frozenset[str] = frozenset({"folders"})

    def run(self, scan: ScanContext) -> None:
        scan.file.discard("relics")
        scan.add_unlisted()
        live = RangeSet(extent for finding in scan.file.findings("state = 'live'") for extent in finding.extents)
        told = scan.file.starts()
        unclaimed = scan.sound_claims().gaps(scan.range)
        scan.sweep(unclaimed)
        # Folders that are reached are among them: their names tell lost first characters of others.
        others: dict[str, array[int]] = {}
        folders = _loose_folders(scan, unclaimed, live, others)
        scan.file.forget_volumes(len(scan.places))
        ghosts = previous_volumes_of(scan.medium, folders, others, scan.volumes, len(scan.places) + 1)
        for ghost in ghosts:
            scan.file.add_volume(describe(ghost.place()))
            found = relic_findings(scan.medium, ghost, told, scan.progress)
            scan.watched(with_bin_names(scan.medium, found), f"life {ghost.number}")
        scan.file.put(_PLACES_TOLD, ",".join(str(ghost.number) for ghost in ghosts if ghost.tells_all_places))
        scan.kept_by_volumes = _kept_by_volumes(scan, folders)


class Pieces:
    """What records tell of and lies in pieces, by all that records, of today and of before, tell."""

    name = "pieces"
    needs: frozenset[str] = frozenset({"folders"})

    def run(self, scan: ScanContext) -> None:
        places = {p.number: p.volume for p in scan.places}
        told = scan.file.get(_PLACES_TOLD).split(",")
        geometry: dict[int, tuple[int, int]] = {}
        for found in scan.file.volumes():
            volume = places.get(found.number)
            if volume is not None and not volume.tells_all_places:
                geometry[found.number] = volume.cluster_size, volume.data.end
            elif found.number not in places and str(found.number) not in told:
                geometry[found.number] = found.cluster, found.where.end
        own = [extent for _, extent in _kept(scan)]
        # All of it or nothing is kept: it changes findings of other passes.
        scan.file.commit()
        try:
            effort = scan.effort(_BY_RECORDS)
            Assembly(scan.medium, scan.file, geometry, own, effort).run(scan.progress)
            scan.effort_ends(effort)
        except (KeyboardInterrupt, Interrupted):
            scan.file.rollback()
            raise


def _loose_folders(
    scan: ScanContext, ranges: Iterable[Extent], live: RangeSet, others: dict[str, array[int]]
) -> list[LooseFolder]:
    """Folders that no volume reaches, up to as many bytes as can be held: what is left out is said. `others` are
    filled with the sectors of families that keep their records otherwise."""
    tables: list[LooseTable] = []
    left = MOST_LOOSE
    for table in loose_tables(scan.medium, scan.marks(ranges), others):
        if left < len(table.data):
            scan.note(f"of parts of lost folders only the first {format_size(MOST_LOOSE)} were read")
            left = 0
            continue
        left -= len(table.data)
        tables.append(table)
    return loose_outside(tables, scan.volumes, live)


def _kept(scan: ScanContext) -> list[tuple[str, Extent]]:
    """What belongs to no file. What looks for folders may have run before the scan was broken off, or not be asked for:
    then they are looked for here."""
    if scan.kept_by_volumes is None:
        scan.kept_by_volumes = _kept_by_volumes(scan, _loose_folders(scan, [scan.range], RangeSet(), {}))
    return scan.kept_by_volumes


def _kept_by_volumes(scan: ScanContext, folders: Sequence[LooseFolder]) -> list[tuple[str, Extent]]:
    """What belongs to no file: tables and folders of today's volumes, and folders of earlier ones; each with which of
    the two it is."""
    own = [kept for volume in scan.volumes for kept in volume.own_extents()]
    own += [("folder", extent) for volume in scan.volumes for extent in volume.folder_extents()]
    # A sector that only looks like a part of a folder tells nothing, and may be the end of a file.
    return own + [("folder", Extent(f.offset, len(f.data))) for f in folders if f.records or f.own is not None]


class Journals:
    """What volumes tell of their own past: older copies of metadata in journals, logs, checkpoints, snapshots. Asked of
    every volume; one that keeps no history has nothing to say."""

    name = "journals"
    needs: frozenset[str] = frozenset()

    def run(self, scan: ScanContext) -> None:
        scan.file.discard(self.name)
        for place in scan.places:
            if place.volume is None or scan.limits.volume not in (0, place.number):
                continue
            found = history_findings(scan.medium, place.number, place.volume, scan.file.starts())
            scan.watched(with_bin_names(scan.medium, found), f"history of volume {place.number}")


class Content:
    """Files recognised by their bytes, where no sound part of a finding claims them. Findings and position are saved
    together, every second."""

    name = "content"
    needs: frozenset[str] = frozenset({"content"})

    def run(self, scan: ScanContext) -> None:
        scan.add_unlisted()
        claims = scan.sound_claims()
        grids = [Grid(volume.data, volume.cluster_size, volume) for volume in scan.volumes]
        grids += [Grid(v.where, v.cluster) for v in scan.file.volumes() if v.number > len(scan.places)]
        start = max(scan.file.number("content_at"), scan.range.offset)
        unclaimed = [gap for gap in claims.gaps(scan.range) if gap.end > start]
        scan.sweep(unclaimed)
        scan.progress.start("files by their content", scan.range.end - start)
        starts = {0, *(place.where.offset for place in scan.places)}
        content = ContentPass(scan.medium, scan.survey, claims, grids, self._has_strays(scan, grids), starts)
        if scan.file.get("lists_followed") != "yes":
            self._by_lists(scan, content)
        for position, new in content.findings(start, scan.range.end):
            if new is not None:
                scan.add(new)
            scan.progress.at(min(position, scan.range.end) - start, scan.so_far)
            scan.file.put("content_at", str(position))
            scan.progress.check()
            scan.commit_now_and_then()
        scan.progress.finish()
        scan.file.commit()
        self._put_together(scan, grids)
        self._join_names(scan)

    def _by_lists(self, scan: ScanContext, content: ContentPass) -> None:
        """All of it or nothing is kept."""
        try:
            for found in content.by_lists(scan.range, scan.progress.check):
                scan.add(found)
            scan.file.put("lists_followed", "yes")
            scan.file.commit()
        except (KeyboardInterrupt, Interrupted):
            scan.file.rollback()
            raise

    def _put_together(self, scan: ScanContext, grids: Sequence[Grid]) -> None:
        """What was found in pieces: all of it or nothing is kept."""
        try:
            kept = _kept(scan)
            regions = [*(place.where for place in scan.places), Extent(0, scan.medium.size)]
            grids = [*grids, *told_grids(scan.file, grids, regions)]
            effort = scan.effort(1 - _BY_RECORDS)
            with effort.part(_PAIRS) as part:
                pairs = PairsByTurns(scan.medium, scan.file, scan.survey, kept, scan.limits.keeps, part)
                scan.sweep(pairs.unlooked(scan.range))
                pairs.put_together(grids, scan.progress)
            found = FoundPieces(scan.medium, scan.file, effort)
            found.follow(grids, scan.progress)
            found.put_together(grids, scan.progress)
            scan.effort_ends(effort)
            heads = scan.file.findings("state = 'found' AND sound = 0 AND size < ?", (SHORTEST_FRAGMENT,))
            scan.file.drop([one.number for one in heads if breaks(one)])  # nothing was found behind them
        except (KeyboardInterrupt, Interrupted):
            scan.file.rollback()
            raise

    def _join_names(self, scan: ScanContext) -> None:
        """Names without a place go to content without a name: all of it or nothing is kept. Not where limits or passes
        left something out, among which the rest would be seen as neighbours."""
        if scan.limits.any or not set(scan.file.get("passes").split(",")) >= {"tables", "relics", "journals"}:
            return
        scan.file.commit()
        try:
            for place in scan.places:
                if place.volume is not None:
                    join_by_order(scan.medium, scan.file, place.number, place.volume, scan.progress)
        except (KeyboardInterrupt, Interrupted):
            scan.file.rollback()
            raise

    def _has_strays(self, scan: ScanContext, grids: Sequence[Grid]) -> bool:
        """Whether a file was found, before a scan was broken off, that begins on no cluster."""
        for finding in scan.file.findings("state = 'found' AND sound > 0"):
            start = finding.map.start
            holding = [grid for grid in grids if start is not None and grid.holds(start)]
            if start is not None and holding and not any(grid.begins(start) for grid in holding):
                return True
        return False


PASSES: tuple[Pass, ...] = (Layout(), Tables(), Relics(), Journals(), Pieces(), Content())
"""In the order in which they run."""
