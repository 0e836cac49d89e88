"""What lies where on a medium, as layers of extents: by a specimen's truth, or by what the volumes themselves say."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from sastrugi.media.extents import Extent, RangeSet, total
from sastrugi.report.style import BLUE, GREEN, GREY, INK, ORANGE, PALE, PURPLE, SKY, TAN, VERMILION, YELLOW
from sastrugi.volumes.allocation import runs_of

if TYPE_CHECKING:
    from sastrugi.media import Medium
    from sastrugi.recovery.scan_file import ScanFile
    from sastrugi.recovery.select import Selection
    from sastrugi.specimen.truth import Specimen
    from sastrugi.volumes.reader import Volume

FREE = "·"
_GRAIN, _READ = 4096, 1 << 20
_SURE = 0.8
_TWICE, _NOBODYS = "2", "N"
_OF_A_SCAN = (
    ("U", "cannot be read", INK),
    ("T", "table", PURPLE),
    ("F", "folder", YELLOW),
    (_TWICE, "claimed more than once", VERMILION),
    ("L", "live", SKY),
    ("W", "lost, 0.8 sure or more", GREEN),
    ("P", "lost, less sure", ORANGE),
    (_NOBODYS, "data that no finding claims", GREY),
    (FREE, "free", PALE),
)
"""The layers of a scan: the first that claims a byte has it, and what is claimed twice has a layer of its own."""
_KNOWN = (
    ("U", "cannot be read", INK),
    ("T", "table", PURPLE),
    ("F", "folder", YELLOW),
    ("X", "written over what was lost", VERMILION),
    ("L", "live", SKY),
    ("P", "lost, part gone", ORANGE),
    ("W", "lost, still whole", GREEN),
    ("E", "earlier life", BLUE),
    ("O", "other remains", GREY),
    ("B", "the bench's own files", TAN),
    (FREE, "free", PALE),
)
"""All layers, each with letter, meaning and colour: the first that claims a byte has it."""
COLOURS = {letter: colour for letter, _, colour in (*_OF_A_SCAN, *_KNOWN)}


@dataclass(slots=True)
class Layer:
    letter: str
    meaning: str
    colour: str
    ranges: RangeSet = field(default_factory=RangeSet)

    @property
    def bytes(self) -> int:
        return total(self.ranges)


@dataclass(frozen=True, slots=True)
class MediumLayers:
    """The layers of a medium that are not empty, free space last; `marks` are offsets with what begins there."""

    title: str
    size: int
    layers: tuple[Layer, ...]
    marks: tuple[tuple[int, str], ...]


def _settled(
    title: str,
    size: int,
    claims: dict[str, Iterable[Extent]],
    marks: list[tuple[int, str]],
    known: tuple[tuple[str, str, str], ...] = _KNOWN,
) -> MediumLayers:
    """Layers without overlaps: each takes of its claims what none before it took."""
    taken = RangeSet()
    layers: list[Layer] = []
    for letter, meaning, colour in known[:-1]:
        layer = Layer(letter, meaning, colour)
        for extent in claims.get(letter, ()):
            for part in taken.gaps(Extent(extent.offset, max(min(extent.end, size) - extent.offset, 0))):
                layer.ranges.add(part)
        for part in layer.ranges:
            taken.add(part)
        layers.append(layer)
    layers.append(Layer(*known[-1], RangeSet(taken.gaps(Extent(0, size)))))
    return MediumLayers(title, size, tuple(layer for layer in layers if layer.bytes), tuple(sorted(marks)))


def layers_of_specimen(specimen: Specimen) -> MediumLayers:
    """What the truth knows, and where the present volumes keep their structures."""
    from sastrugi.volumes.probing import probe
    from sastrugi.volumes.registry import title_of

    truth, medium = specimen.truth, specimen.medium
    files = [file for file in truth.files if file.size]
    over = RangeSet(part for file in files if file.lost for part in file.gone)
    claims: dict[str, list[Extent]] = {letter: [] for letter, _, _ in _KNOWN}
    claims["U"] = list(truth.medium.unreadable)
    claims["X"] = list(over)
    for file in files:
        left = [part for extent in file.extents for part in RangeSet(file.gone).gaps(extent)]
        if truth.is_of_the_bench(file):
            claims["B"] += file.extents if file.standing else left
        elif file.standing:
            claims["L"] += file.extents
        elif file.lost:
            claims["P" if file.gone else "W"] += left
        else:
            claims["E" if file.role == "reference" and file.end != "replaced" else "O"] += left
    marks: list[tuple[int, str]] = []
    volumes: list[Volume] = []
    for volume in truth.volumes:
        what = f"{title_of(volume.life.file_system)} '{volume.name}'" if volume.life else f"no volume '{volume.name}'"
        marks.append((volume.where.offset, what))
        reader = probe(medium, volume.where) if volume.life else None
        volumes += [reader] if reader else []
    _claim_structures(claims, medium, volumes)
    return _settled(truth.title, medium.size, dict(claims), marks)


def layers_of_medium(medium: Medium) -> MediumLayers:
    """What the tables of a medium say: structures, live files, and deleted ones by whether their clusters are free."""
    from sastrugi.recovery.layout import find_places

    claims: dict[str, list[Extent]] = {letter: [] for letter, _, _ in _KNOWN}
    claims["U"] = list(medium.unreadable)
    marks: list[tuple[int, str]] = []
    volumes: list[Volume] = []
    for place in find_places(medium):
        marks.append((place.where.offset, place.volume.file_system if place.volume else "no volume that can be read"))
        if place.volume is None:
            continue
        volumes.append(place.volume)
        for entry in place.volume.entries():
            if entry.folder or not entry.placements:
                continue
            extents = entry.map.stored
            if not entry.deleted:
                claims["L"] += extents
                continue
            taken = RangeSet(conflict.extent for conflict in place.volume.conflicts(extents))
            claims["P" if taken else "W"] += extents
            claims["X"] += [part for extent in extents for part in taken.overlap(extent)]
    _claim_structures(claims, medium, volumes)
    return _settled(medium.path.name, medium.size, dict(claims), marks)


def layers_of_scan(title: str, scan: ScanFile, selection: Selection, medium: Medium) -> MediumLayers:
    """What the selected findings claim, what several of them do, and data that none of the scan's findings does."""
    from sastrugi.recovery.layout import find_places

    claims: dict[str, list[Extent]] = {letter: [] for letter, _, _ in _OF_A_SCAN}
    claims["U"] = scan.ranges("unread")
    _claim_structures(claims, medium, [place.volume for place in find_places(medium) if place.volume])
    seen, twice = RangeSet(), RangeSet()
    for finding in selection.iterate(scan, "place"):
        letter = "L" if finding.state == "live" else "W" if finding.confidence >= _SURE else "P"
        claims[letter] += finding.extents
        for extent in finding.extents:
            for part in seen.overlap(extent):
                twice.add(part)
            seen.add(extent)
    claims[_TWICE] = list(twice)
    taken = RangeSet(extent for finding in scan.findings("start IS NOT NULL") for extent in finding.extents)
    for known in claims.values():
        for extent in known:
            taken.add(extent)
    gaps = taken.gaps(Extent(0, medium.size))
    claims[_NOBODYS] = [part for gap in gaps for part in _filled(medium, gap, medium.sector)]
    marks = [(v.where.offset, v.file_system) for v in scan.volumes() if not v.origin.startswith("an earlier")]
    return _settled(title, medium.size, dict(claims), marks, _OF_A_SCAN)


def _claim_structures(claims: dict[str, list[Extent]], medium: Medium, volumes: list[Volume]) -> None:
    from sastrugi.media.partitions import read_table

    if read_table(medium):
        claims["T"].append(Extent(0, medium.sector))
    for volume in volumes:
        for what, extent in volume.own_extents():
            claims["T" if what == "table" else "F"] += _filled(medium, extent)


def _filled(medium: Medium, extent: Extent, grain: int = _GRAIN) -> Iterator[Extent]:
    """The parts of a table that are in use: blocks that are not all zero, whatever the container makes of holes."""
    for part in medium.data_ranges(extent.offset, extent.end):
        first = part.offset // grain * grain
        for at in range(first, part.end, _READ):
            data = np.frombuffer(medium.read(at, min(_READ, -(-(part.end - at) // grain) * grain)), "u1")
            whole = np.zeros(-(-len(data) // grain) * grain, "u1")
            whole[: len(data)] = data
            used: NDArray[np.bool_] = np.any(whole.reshape(-1, grain), axis=1)
            for start, length in runs_of(used, at // grain):
                lo, hi = max(start * grain, extent.offset), min((start + length) * grain, extent.end)
                if lo < hi:
                    yield Extent(lo, hi - lo)
