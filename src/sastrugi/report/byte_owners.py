"""Whose each byte of a stretch of a medium is: partition tables, structures of volumes, files that live or lived there,
findings of a scan, files of a truth."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import TYPE_CHECKING, Any

from rich.console import Group, RenderableType
from rich.text import Text

from sastrugi.media.extents import Extent
from sastrugi.media.filemap import FileMap
from sastrugi.report.style import GREY
from sastrugi.units import format_size, plural, printable

if TYPE_CHECKING:
    from sastrugi.media import Medium
    from sastrugi.recovery.findings import Finding
    from sastrugi.specimen.truth import Truth

ROW = 16
_LETTERS = "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ"
_MOST_CLAIMS = 6


@dataclass(frozen=True, slots=True)
class Claim:
    """Something that owns bytes `where`; the first of them is its byte `position` of `size` (0: no file)."""

    what: str
    where: Extent
    position: int = 0
    size: int = 0

    def told(self) -> str:
        if not self.size:
            return self.what
        return f"{self.what}: byte {self.position:,} of {self.size:,}"


@dataclass(frozen=True, slots=True)
class OwnedRange:
    """Bytes with the same owners, the innermost first; none where nothing is known of them."""

    where: Extent
    claims: tuple[Claim, ...]


def claims_of(
    medium: Medium, window: Extent, truth: Truth | None = None, findings: Iterable[Finding] = ()
) -> list[Claim]:
    """Everything that owns bytes of `window`, what tells most of a byte first."""
    out: list[Claim] = []
    if truth is not None:
        for file in sorted(truth.files, key=lambda file: not file.standing):
            end = "standing" if file.standing else file.end
            what = f"/{file.path.lstrip('/')} ({end}, life {file.life} of '{file.volume}' by the truth)"
            out += _parts(what, file.map, window)
    for finding in findings:
        what = f"finding {finding.number}: {finding.path} ({finding.state}, sure {finding.confidence:.2f})"
        out += _parts(what, finding.map, window)
    known = {"/" + file.path.lstrip("/") for file in truth.files} if truth is not None else set()
    out += _by_volumes(medium, window, known)
    return out


def _by_volumes(medium: Medium, window: Extent, known: set[str]) -> Iterator[Claim]:
    """What the volumes themselves say; not of the files that are `known` already."""
    from sastrugi.media.partitions import read_table
    from sastrugi.recovery.layout import find_places

    files: list[Claim] = []
    structures: list[Claim] = []
    lost: list[Claim] = []
    volumes: list[Claim] = []
    for place in find_places(medium):
        volume = place.volume
        if volume is None or not _overlap(place.where, window):
            continue
        for entry in volume.entries():
            path = entry.full_path
            state = "deleted" if entry.deleted else "live"
            for record in entry.record:
                if part := _overlap(record, window):
                    structures.append(Claim(f"directory entry of {path} ({state})", part))
            if entry.placements and not entry.folder and path not in known:
                parts = _parts(f"{path} ({state})", entry.map, window)
                (lost if entry.deleted else files).extend(parts)
        structures += [Claim(what, part) for what, where in volume.structures() if (part := _overlap(where, window))]
        if part := _overlap(place.where, window):
            volumes.append(Claim(f"volume {place.number}, {volume.file_system} '{volume.label}'", part))
    yield from (*files, *structures, *lost, *volumes)
    if read_table(medium) and (part := _overlap(Extent(0, medium.sector), window)):
        yield Claim("partition table", part)


def _parts(what: str, file: FileMap, window: Extent) -> Iterator[Claim]:
    for position, extent, coding in file.owned():
        part = _overlap(extent, window)
        if part and coding:
            yield Claim(f"{what}, a unit of it stored as {coding}", part, position, file.size)
        elif part:
            yield Claim(what, part, position + part.offset - extent.offset, file.size)


def _overlap(extent: Extent, window: Extent) -> Extent | None:
    lo, hi = max(extent.offset, window.offset), min(extent.end, window.end)
    return Extent(lo, hi - lo) if lo < hi else None


def stretches_of(window: Extent, claims: Sequence[Claim]) -> list[OwnedRange]:
    """The window cut where owners change."""
    edges = sorted({window.offset, window.end, *(e for c in claims for e in (c.where.offset, c.where.end))})
    out: list[OwnedRange] = []
    for lo, hi in pairwise(edges):
        own = [c for c in claims if c.where.offset <= lo < c.where.end][:_MOST_CLAIMS]
        shifted = (
            Claim(c.what, Extent(lo, hi - lo), c.position + lo - c.where.offset if c.size else 0, c.size) for c in own
        )
        out.append(OwnedRange(Extent(lo, hi - lo), tuple(shifted)))
    return out


def hex_view(window: Extent, data: bytes, stretches: Sequence[OwnedRange]) -> RenderableType:
    """Rows of 16 bytes with the letter of their owners, and what the letters mean."""
    letters: dict[tuple[str, ...], str] = {}
    lines: list[Text] = []
    owners = bytearray(len(data))
    for stretch in stretches:
        key = tuple(claim.what for claim in stretch.claims)
        letter = letters.setdefault(key, _LETTERS[min(len(letters), len(_LETTERS) - 1)] if key else "·")
        lo = stretch.where.offset - window.offset
        owners[lo : lo + stretch.where.length] = bytes([0 if letter == "·" else ord(letter)]) * stretch.where.length
    before = ""
    for at in range(0, len(data), ROW):
        row = data[at : at + ROW]
        told = "".join(chr(b) if b else "·" for b in owners[at : at + ROW])
        marks = told[0] if len(set(told)) == 1 else told
        line = Text(f"{window.offset + at:012x}  ", style=GREY)
        line.append(f"{row[:8].hex(' '):<23}  {row[8:].hex(' '):<23}  ", style="default")
        line.append("".join(chr(b) if 32 <= b < 127 else "·" for b in row).ljust(ROW), style="default")
        line.append(f"  {marks}", style="bold" if marks != before else GREY)
        before = marks
        lines.append(line)
    return Group(*lines, Text(), *_legend(stretches, letters))


def _legend(stretches: Sequence[OwnedRange], letters: dict[tuple[str, ...], str]) -> Iterator[Text]:
    seen: set[tuple[str, ...]] = set()
    for stretch in stretches:
        key = tuple(claim.what for claim in stretch.claims)
        if key in seen:
            continue
        seen.add(key)
        size = format_size(sum(s.where.length for s in stretches if tuple(c.what for c in s.claims) == key))
        first, *others = [printable(claim.told()) for claim in stretch.claims] or ["nothing that is known of"]
        line = Text(f"{letters[key]}  ", style="bold")
        line.append(f"{first} ({size} from {stretch.where.offset:#x})", style="not bold")
        yield line
        for other in others:
            yield Text(f"   also {other}", style=GREY)


def hex_json(window: Extent, data: bytes, stretches: Sequence[OwnedRange]) -> dict[str, Any]:
    return {
        "offset": window.offset,
        "length": len(data),
        "bytes": data.hex(),
        "owners": [
            {
                "offset": stretch.where.offset,
                "length": stretch.where.length,
                "claims": [
                    {"what": c.what, **({"position": c.position, "size": c.size} if c.size else {})}
                    for c in stretch.claims
                ],
            }
            for stretch in stretches
        ],
    }


def hex_title(name: str, window: Extent) -> str:
    return f"{name}: {plural(window.length, 'byte')} from {window.offset:,} ({window.offset:#x})"
