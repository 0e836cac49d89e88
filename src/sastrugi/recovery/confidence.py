"""How sure a finding is that its extents hold the whole file, and why, in words.

The numbers are first estimates of the share of like findings that prove intact; the scorer's calibration tests them.
"""

from __future__ import annotations

from dataclasses import dataclass

from sastrugi.errors import KindError
from sastrugi.kinds import Kind, Measure, Proof, all_kinds, kind_for_name, recognise
from sastrugi.kinds.registry import is_textual, kind_named, measuring_kind
from sastrugi.media import Medium
from sastrugi.media.extents import RangeSet, total
from sastrugi.media.filemap import FileMap
from sastrugi.recovery.sources import MediumSource
from sastrugi.units import plural
from sastrugi.volumes.reader import OWN_TABLES, UNLISTED_OWNER, Conflict, Entry, Placement, Volume

BY_PROOF = {Proof.CHECKSUM: 0.99, Proof.DECODES: 0.97, Proof.STRUCTURE: 0.95, Proof.STATISTICS: 0.93, Proof.GUESS: 0.8}
_BY_PROOF_WITHOUT_RECORD = {
    Proof.CHECKSUM: 0.97,
    Proof.DECODES: 0.9,
    Proof.STRUCTURE: 0.85,
    Proof.STATISTICS: 0.85,
    Proof.GUESS: 0.35,
}
TEXT_BYTES = bytes({*range(0x20, 0x7F), 9, 10, 13})
_MARKUP_BYTES = bytes([9, 10, 12, 13, *range(0x20, 0x7F), *range(0x80, 0x100)])
_MARKUP = ("html", "svg", "xml", "gpx", "rtf")
_NO_KIND_ALL_FREE, _TEXT_THROUGHOUT, _TEXT_BEGINS = 0.75, 0.85, 0.3
_BREAKS, _BREAKS_BY_CHECKSUM, _OTHER_KIND, _ZEROS = 0.3, 0.1, 0.15, 0.05
_SOME_BEHIND, _MORE_BEHIND = 0.97, 0.85
_OVERWRITTEN, _OVERLAP = 0.03, 0.25
_LOOKED, _INSIDE, _CERTAIN = 0.9, 0.97, 0.93
OFF_GRID, OFF_GRID_REASON = 0.6, "begins on a sector, but not on a cluster of the volume"
NO_CHOICE = "what tells of it leaves no other place"
"""The reason of findings that lie where they are said to lie, or nowhere."""
LOOKED_THROUGH = (Proof.CHECKSUM, Proof.DECODES, Proof.STATISTICS)
"""Proofs that look at all of the content; a structure may be right although what lies between is not."""
_TEXT_REASON = "its bytes are text from end to end"
NOTHING_LEFT = "nothing of it is left but its record"
_SURE_ENOUGH, _BORNE_OUT = 0.9, 0.8


@dataclass(frozen=True, slots=True)
class Verdict:
    """What was decided about a deleted file: where it lies, what it is, how sure, and the reasons.

    `sound` counts the bytes from its start that nothing speaks against.
    """

    placement: Placement | None
    measure: Measure | None
    confidence: float
    reasons: tuple[str, ...]
    sound: int = 0


def kind_of(name: str, measure: Measure | None) -> tuple[str, str]:
    """Kind and group: what the bytes show where they show it, otherwise what the name's extension says."""
    kind: Kind | None = kind_for_name(name)
    if measure is not None:
        try:
            kind = kind_named(measure.kind)
        except KindError:
            kind = kind_for_name(f"x.{measure.kind}") or kind
    return (measure.kind if measure else kind.name, kind.group) if kind else ("other", "data")


def judge_deleted(medium: Medium, volume: Volume, entry: Entry, overlapped_by: str) -> Verdict:
    """Choose among the placements of a deleted file. `overlapped_by` names a later deleted file on the same bytes."""
    if not entry.size:
        return Verdict(
            entry.placements[0] if entry.placements else None,
            None,
            0.9,
            ("an empty file: only its name can come back",),
        )
    if not entry.placements:
        return Verdict(None, None, 0.0, tuple(entry.notes) or ("nothing tells where it lay",))
    best: Verdict | None = None
    for placement in entry.placements:
        # There may be hundreds of far placements: their first bytes are all that is asked of most.
        if placement.far and not begins_as_named(medium, entry.name, placement.map):
            continue
        verdict = _judge_placement(medium, volume, entry, placement, overlapped_by)
        if placement.far and best is not None and verdict.confidence < _BORNE_OUT:
            continue
        if best is None or verdict.confidence > best.confidence:
            best = verdict
        if best.confidence >= _SURE_ENOUGH:
            break
    assert best is not None
    return best


def _judge_placement(medium: Medium, volume: Volume, entry: Entry, placement: Placement, overlapped_by: str) -> Verdict:
    if placement.inside:
        measure = recognise(MediumSource(medium, placement.map), deep=False)
        return Verdict(placement, measure, _INSIDE, (placement.reason, "its record is whole"), entry.size)
    conflicts = _conflicts_of(volume, entry, placement)
    clusters = -(-(entry.size - placement.map.zeros) // volume.cluster_size)
    reasons = [placement.reason, _free_reason(conflicts, clusters, volume.cluster_size)]
    if entry.damaged and not conflicts:
        reasons[1] = "no other file owns its clusters"
    certain = placement.certain or volume.tells_all_places
    confidence, sound, measure = _as_it_lies(medium, entry, placement, bool(conflicts or overlapped_by), reasons)
    if certain and not conflicts and sound >= entry.size and confidence > _OTHER_KIND:
        confidence = max(confidence, _CERTAIN)
        reasons.append(NO_CHOICE)
    proved = measure is not None and measure.whole and measure.proof == Proof.CHECKSUM
    if conflicts and all(one.owner == OWN_TABLES for one in conflicts):  # which may never have been written
        proved |= measure is not None and measure.whole and measure.length == entry.size
    if conflicts:
        confidence, sound = (min(confidence, 0.9), sound) if proved else (min(confidence, _OVERWRITTEN), 0)
    elif overlapped_by and not proved:
        # Content that is looked at from end to end would show what was written over it.
        looked_through = sound >= entry.size and (_TEXT_REASON in reasons or (measure is not None and _looks(measure)))
        confidence, sound = (confidence * _LOOKED, sound) if looked_through else (confidence * _OVERLAP, 0)
        reasons.append(f"{overlapped_by}, deleted as well and written later, claims some of the same clusters")
    reasons += _stored_as(placement.map)
    owned = total(conflict.extent for conflict in conflicts if conflict.owner != UNLISTED_OWNER)
    if not sound and not proved and owned >= total(placement.extents) > 0:
        return Verdict(None, None, 0.0, (*reasons, NOTHING_LEFT))
    return Verdict(placement, measure, confidence, tuple(reasons), sound)


def _conflicts_of(volume: Volume, entry: Entry, placement: Placement) -> list[Conflict]:
    """What of a placement is in use by others than the file itself."""
    conflicts = volume.conflicts(placement.extents)
    if not conflicts:
        return conflicts
    inside = RangeSet(entry.record)  # a file that stands inside of its record has that to itself
    conflicts = [one for one in conflicts if inside.gaps(one.extent)]
    if not entry.damaged:
        return conflicts
    own = ("/".join(entry.path), UNLISTED_OWNER)  # what is in use may be in use by this very file
    return [one for one in conflicts if one.owner not in own and (not entry.identity or one.identity != entry.identity)]


def _as_it_lies(
    medium: Medium, entry: Entry, placement: Placement, deep: bool, reasons: list[str]
) -> tuple[float, int, Measure | None]:
    """Confidence from what stands at a placement, how many bytes are sound, and their measure; adds the reasons."""
    if placement.map.zeros == entry.size:
        reasons[1] = "none of its bytes were ever written: all of it reads as zeros"
        return _LOOKED, entry.size, None
    if placement.map.unknown():
        reasons.append("its size reaches beyond the end of the volume")
        return 0.0, 0, None
    if any(extent.end > medium.size for extent in placement.extents):
        reasons.append("part of it lies beyond the end of the medium")
        return 0.0, 0, None
    source = MediumSource(medium, placement.map)
    measure = recognise(source, deep=deep)
    return *_by_content(entry, source, measure, reasons), measure


def _stored_as(file: FileMap) -> list[str]:
    """What is to be said of a file of which not every byte stands as it is."""
    out: list[str] = []
    if 0 < file.zeros < file.size:
        out.append(f"{plural(file.zeros, 'byte')} of it were never written, and read as zeros")
    if file.coded:
        out.append(f"stored in units of {' and '.join(sorted(file.coded))}")
    return out


def begins_as_named(medium: Medium, name: str, file: FileMap) -> bool | None:
    """Whether a file begins with the bytes that one of this name begins with; None where the name calls for none."""
    kind = kind_for_name(name)
    kind = measuring_kind(kind) if kind is not None else None
    if kind is None or kind.bare or not kind.signatures:
        return None
    head = file.read(medium, 0, max(signature.offset + len(signature.data) for signature in kind.signatures))
    if any(head[s.offset : s.offset + len(s.data)] == s.data for s in kind.signatures):
        return True
    # Markup may begin with a comment, or with another declaration: then it is text all the same.
    markup = all(s.data[:1] == b"<" for s in kind.signatures)
    return None if markup and head and not head.translate(None, _MARKUP_BYTES) else False


def _looks(measure: Measure) -> bool:
    """Whether a whole file of this measure was looked at from end to end, not only along its headers."""
    return measure.whole and measure.proof in LOOKED_THROUGH


def _free_reason(conflicts: list[Conflict], clusters: int, cluster_size: int) -> str:
    if not conflicts:
        return f"all {plural(clusters, 'cluster')} free" if clusters > 1 else "its cluster is free"
    taken = -(-sum(conflict.extent.length for conflict in conflicts) // cluster_size)
    owners = list(dict.fromkeys(conflict.owner for conflict in conflicts))
    more = f" and {len(owners) - 1} more" if len(owners) > 1 else ""
    return f"{taken:,} of {plural(clusters, 'cluster')} now belong to {owners[0]}{more}"


def _by_content(entry: Entry, source: MediumSource, measure: Measure | None, reasons: list[str]) -> tuple[float, int]:
    """Confidence from what the bytes of a placement show, and how many from the start are sound; adds the reason."""
    expected = kind_for_name(entry.name)
    if measure is not None and measure.whole:
        reasons.append(measure.rule)
        return _by_length(entry, expected, measure, reasons)
    if measure is not None:
        reasons.append(f"the {measure.kind} breaks at byte {measure.breaks_at:,} of {entry.size:,}: {measure.rule}")
        if not _is_text(measure.kind):
            known = all_kinds().get(measure.kind)
            checked = known is not None and known.proof == Proof.CHECKSUM
            return (_BREAKS_BY_CHECKSUM if checked else _BREAKS), measure.breaks_at or 0
    head = source.read(0, 512)
    if not head.strip(b"\0"):
        reasons.append("its first sector holds only zeros")
        return _ZEROS, 0
    if measure is None and expected is None and not _begins_as_text(head):
        reasons.append("no kind is known to compare its content with")
        return _NO_KIND_ALL_FREE, entry.size
    if measure is None and expected is not None and not _is_text(expected.name):
        reasons.append(f"its first bytes are not those of a {expected.name}")
        return _OTHER_KIND, 0
    text = kind_named("txt")
    found = text.measure(source, False) if text.measure else None
    length = found.length if found is not None else 0
    if length >= entry.size:
        reasons.append(_TEXT_REASON)
        return _TEXT_THROUGHOUT, entry.size
    reasons.append(f"its bytes stop being text at {length:,}")
    return (_TEXT_BEGINS if length > 512 else _OTHER_KIND), length


def _by_length(entry: Entry, expected: Kind | None, measure: Measure, reasons: list[str]) -> tuple[float, int]:
    """A whole file stands at the start of the placement: is it this one?"""
    behind = entry.size - measure.length
    if not behind:
        return BY_PROOF[measure.proof], entry.size
    reasons.append(f"{plural(behind, 'byte')} follow behind the end of the {measure.kind}")
    if expected is not None and not _same_family(expected, measure.kind):
        reasons.append(f"a {measure.kind} stands where a {expected.name} should")
        return _OTHER_KIND, 0
    return BY_PROOF[measure.proof] * (_SOME_BEHIND if behind < 512 else _MORE_BEHIND), entry.size


def _same_family(expected: Kind, found: str) -> bool:
    """Whether a file of kind `found` may carry the name of `expected`: measured alike, or both of them text."""
    known = all_kinds().get(found)
    if known is None or (_is_text(expected.name) and _is_text(found)):
        return True
    return measuring_kind(known).name == measuring_kind(expected).name


def can_prove_itself(kind: str) -> bool:
    """Whether content of a kind, where it is whole, can stand nowhere else: all is looked at, and it is no text."""
    known = all_kinds().get(kind)
    return known is not None and measuring_kind(known).proof in LOOKED_THROUGH and not is_textual(known)


def _is_text(kind: str) -> bool:
    known = all_kinds().get(kind)
    return kind in _MARKUP or (known is not None and measuring_kind(known).bare)


def judge_found(measure: Measure, on_grid: bool) -> tuple[float, list[str]]:
    """Confidence and reasons for a file known by its bytes alone; `on_grid`: it begins where a cluster does."""
    reasons = [measure.rule]
    confidence = _BY_PROOF_WITHOUT_RECORD[measure.proof] if measure.whole else 0.1
    if not measure.whole:
        reasons[0] = f"breaks at byte {measure.breaks_at:,}: {measure.rule}"
    if not on_grid:
        confidence *= OFF_GRID
        reasons.append(OFF_GRID_REASON)
    return confidence, reasons


def _begins_as_text(head: bytes) -> bool:
    return not head.translate(None, TEXT_BYTES) and bool(head)
