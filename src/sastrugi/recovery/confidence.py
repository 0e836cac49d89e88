"""How sure a finding is that its extents hold the whole file, and by what evidence.

The numbers are first estimates of the share of like findings that prove intact; the scorer's calibration tests them.
"""

from __future__ import annotations

import re
from dataclasses import dataclass

from sastrugi.errors import KindError
from sastrugi.kinds import Kind, Measure, Proof, all_kinds, kind_for_name, recognise
from sastrugi.kinds.registry import is_textual, kind_named, measuring_kind
from sastrugi.media import Medium
from sastrugi.media.extents import RangeSet, total
from sastrugi.media.filemap import FileMap
from sastrugi.recovery.bins import LARGEST_INDEX, read_index
from sastrugi.recovery.evidence import BY_PROOF as CLUE_BY_PROOF
from sastrugi.recovery.evidence import Clue, Evidence, evidence
from sastrugi.recovery.sector_survey import SECTOR
from sastrugi.recovery.sources import MediumSource
from sastrugi.volumes.reader import OWN_TABLES, UNLISTED_OWNER, Conflict, Entry, Placement, Volume

BY_PROOF = {Proof.CHECKSUM: 0.99, Proof.DECODES: 0.97, Proof.STRUCTURE: 0.95, Proof.STATISTICS: 0.93, Proof.GUESS: 0.8}
_BY_PROOF_WITHOUT_RECORD = {
    Proof.CHECKSUM: 0.97,
    Proof.DECODES: 0.9,
    Proof.STRUCTURE: 0.85,
    Proof.STATISTICS: 0.85,
    Proof.GUESS: 0.35,
}
_RUNS_ON, _ENDS_THERE = 0.3, 0.9
_ZEROS_BEHIND = 8
"""So many zeros behind the end of a file hardly stand there by chance."""
TEXT_BYTES = bytes({*range(0x20, 0x7F), 9, 10, 13})
_MARKUP_BYTES = bytes([9, 10, 12, 13, *range(0x20, 0x7F), *range(0x80, 0x100)])
_MARKUP = ("html", "svg", "xml", "gpx", "rtf")
_NO_KIND_ALL_FREE, _TEXT_THROUGHOUT, _TEXT_BEGINS = 0.75, 0.85, 0.3
_BREAKS, _BREAKS_BY_CHECKSUM, _OTHER_KIND, _ZEROS = 0.3, 0.1, 0.15, 0.05
_SOME_BEHIND, _MORE_BEHIND = 0.97, 0.85
_OVERWRITTEN, _OVERLAP = 0.03, 0.25
_LOOKED, _INSIDE, _CERTAIN = 0.9, 0.97, 0.93
OFF_GRID = 0.6
_INDEX_OF_A_BIN = re.compile(r"[$_]I[A-Z0-9]{6}(\.|$)", re.IGNORECASE)
LOOKED_THROUGH = (Proof.CHECKSUM, Proof.DECODES, Proof.STATISTICS)
"""Proofs that look at all of the content; a structure may be right although what lies between is not."""
_NO_BETTER, _BORNE_OUT = 0.9, 0.8


@dataclass(frozen=True, slots=True)
class Verdict:
    """What was decided about a deleted file: where it lies, what it is, how sure, and by what evidence.

    `sound` counts the bytes from its start that nothing speaks against.
    """

    placement: Placement | None
    measure: Measure | None
    confidence: float
    evidence: tuple[Evidence, ...]
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
            (evidence(Clue.EMPTY),),
        )
    if not entry.placements:
        return Verdict(None, None, 0.0, notes_of(entry) or (evidence(Clue.UNTOLD_PLACE),))
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
        if best.confidence >= _NO_BETTER:
            break
    assert best is not None
    return best


def _judge_placement(medium: Medium, volume: Volume, entry: Entry, placement: Placement, overlapped_by: str) -> Verdict:
    if placement.inside:
        measure = recognise(MediumSource(medium, placement.map), deep=False)
        told = (evidence(Clue.PLACED, placement.reason), evidence(Clue.IN_RECORD))
        return Verdict(placement, measure, _INSIDE, told, entry.size)
    conflicts = _conflicts_of(volume, entry, placement)
    clusters = -(-(entry.size - placement.map.zeros) // volume.cluster_size)
    if entry.damaged and not conflicts:
        state = evidence(Clue.UNOWNED)
    else:
        state = _ownership(conflicts, clusters, volume.cluster_size)
    seen = [evidence(Clue.PLACED, placement.reason), state]
    certain = placement.certain or volume.tells_all_places
    confidence, sound, measure = _as_it_lies(medium, entry, placement, bool(conflicts or overlapped_by), seen)
    if not certain and not (measure is not None and _looks(measure)):
        confidence, sound = _by_its_end(medium, placement.map, measure, confidence, sound, seen)
    if certain and not conflicts and sound >= entry.size and confidence > _OTHER_KIND:
        confidence = max(confidence, _CERTAIN)
        seen.append(evidence(Clue.ONLY_PLACE))
    proved = measure is not None and measure.whole and measure.proof == Proof.CHECKSUM
    if conflicts and all(one.owner == OWN_TABLES for one in conflicts):  # which may never have been written
        proved |= measure is not None and measure.whole and measure.length == entry.size
    if conflicts:
        confidence, sound = (min(confidence, 0.9), sound) if proved else (min(confidence, _OVERWRITTEN), 0)
    elif overlapped_by and not proved:
        # Content that is looked at from end to end would show what was written over it.
        text = any(one.clue == Clue.TEXT_THROUGHOUT for one in seen)
        looked_through = sound >= entry.size and (text or (measure is not None and _looks(measure)))
        confidence, sound = (confidence * _LOOKED, sound) if looked_through else (confidence * _OVERLAP, 0)
        seen.append(evidence(Clue.CLAIMED_LATER, overlapped_by))
    seen += _stored_as(placement.map)
    owned = total(conflict.extent for conflict in conflicts if conflict.owner != UNLISTED_OWNER)
    if not sound and not proved and owned >= total(placement.extents) > 0:
        return Verdict(None, None, 0.0, (*seen, evidence(Clue.NOTHING_LEFT)))
    return Verdict(placement, measure, confidence, tuple(seen), sound)


def _by_its_end(
    medium: Medium, file: FileMap, measure: Measure | None, confidence: float, sound: int, seen: list[Evidence]
) -> tuple[float, int]:
    """Confidence and sound bytes, once the end of a file in one piece was looked at; adds the evidence. Systems fill
    the last sector with zeros. So zeros right behind the end speak for the place, and other bytes against it."""
    end = file.size % SECTOR
    if not end or not file.plain or len(file.stored) != 1 or sound < file.size:
        return confidence, sound
    last = medium.read(file.stored[0].end - end, SECTOR)
    if last[end:].strip(b"\0"):
        seen.append(evidence(Clue.RUNS_ON))
        return min(confidence, _RUNS_ON), sound if measure is not None else 0  # pieces begin from there
    if last[end - 1] and SECTOR - end >= _ZEROS_BEHIND and measure is None:
        seen.append(evidence(Clue.ENDS_THERE))
        return max(confidence, _ENDS_THERE), sound
    return confidence, sound


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
    medium: Medium, entry: Entry, placement: Placement, deep: bool, seen: list[Evidence]
) -> tuple[float, int, Measure | None]:
    """Confidence from what stands at a placement, how many bytes are sound, and their measure; adds the evidence."""
    if placement.map.zeros == entry.size:
        seen[1] = evidence(Clue.NEVER_WRITTEN)
        return _LOOKED, entry.size, None
    if placement.map.unknown():
        seen.append(evidence(Clue.BEYOND_VOLUME))
        return 0.0, 0, None
    if any(extent.end > medium.size for extent in placement.extents):
        seen.append(evidence(Clue.BEYOND_MEDIUM))
        return 0.0, 0, None
    source = MediumSource(medium, placement.map)
    measure = recognise(source, deep=deep)
    return *_by_content(entry, source, measure, seen), measure


def notes_of(entry: Entry) -> tuple[Evidence, ...]:
    """What its reader noticed of an entry."""
    return tuple(evidence(Clue.NOTE, note) for note in entry.notes)


def _stored_as(file: FileMap) -> list[Evidence]:
    """What is to be said of a file of which not every byte stands as it is."""
    out: list[Evidence] = []
    if 0 < file.zeros < file.size:
        out.append(evidence(Clue.HOLES, file.zeros))
    if file.coded:
        out.append(evidence(Clue.PACKED, " and ".join(sorted(file.coded))))
    return out


def begins_late(kind: Kind | None) -> bool:
    """Whether files of a kind may begin with zeros, as discs do: their signatures stand behind the first sector."""
    return kind is not None and bool(kind.signatures) and min(one.offset for one in kind.signatures) >= SECTOR


def begins_as_named(medium: Medium, name: str, file: FileMap) -> bool | None:
    """Whether a file begins with the bytes that one of this name begins with; None where the name calls for none."""
    kind = _promised_by(name, MediumSource(medium, file))
    kind = measuring_kind(kind) if kind is not None else None
    if kind is None or kind.bare or not kind.signatures:
        return None
    head = file.read(medium, 0, max(signature.offset + len(signature.data) for signature in kind.signatures))
    if any(head[s.offset : s.offset + len(s.data)] == s.data for s in kind.signatures):
        return True
    if begins_late(kind):
        return None  # another piece of it may hold those
    # Markup may begin with a comment, or with another declaration: then it is text all the same.
    markup = all(s.data[:1] == b"<" for s in kind.signatures)
    return None if markup and head and not head.translate(None, _MARKUP_BYTES) else False


def _promised_by(name: str, source: MediumSource) -> Kind | None:
    """The kind that a name calls for; an index file of a bin has the extension of the file that it is about."""
    if _INDEX_OF_A_BIN.match(name) and (name[0] == "$" or read_index(source.read(0, LARGEST_INDEX)) is not None):
        return None
    return kind_for_name(name)


def _looks(measure: Measure) -> bool:
    """Whether a whole file of this measure was looked at from end to end, not only along its headers."""
    return measure.whole and measure.proof in LOOKED_THROUGH


def _ownership(conflicts: list[Conflict], clusters: int, cluster_size: int) -> Evidence:
    if not conflicts:
        return evidence(Clue.FREE, clusters)
    taken = -(-sum(conflict.extent.length for conflict in conflicts) // cluster_size)
    owners = list(dict.fromkeys(conflict.owner for conflict in conflicts))
    return evidence(Clue.OWNED, taken, clusters, owners[0], len(owners) - 1)


def _by_content(entry: Entry, source: MediumSource, measure: Measure | None, seen: list[Evidence]) -> tuple[float, int]:
    """Confidence from what the bytes of a placement show, and how many from the start are sound; adds the evidence."""
    expected = _promised_by(entry.name, source)
    if measure is not None and measure.whole:
        seen.append(of_measure(measure))
        return _by_length(entry, expected, measure, seen)
    if measure is not None:
        seen.append(evidence(Clue.BREAKS, measure.kind, measure.breaks_at or 0, entry.size, measure.rule))
        if not _is_text(measure.kind):
            known = all_kinds().get(measure.kind)
            checked = known is not None and known.proof == Proof.CHECKSUM
            return (_BREAKS_BY_CHECKSUM if checked else _BREAKS), measure.breaks_at or 0
    head = source.read(0, 512)
    if not head.strip(b"\0") and not begins_late(expected):
        seen.append(evidence(Clue.ZERO_START))
        return _ZEROS, 0
    if measure is None and expected is None and not _begins_as_text(head):
        seen.append(evidence(Clue.UNKNOWN_KIND))
        return _NO_KIND_ALL_FREE, entry.size
    if measure is None and expected is not None and not _is_text(expected.name):
        seen.append(evidence(Clue.FOREIGN_START, expected.name))
        return _OTHER_KIND, 0
    text = kind_named("txt")
    found = text.measure(source, False) if text.measure else None
    length = found.length if found is not None else 0
    if length >= entry.size:
        seen.append(evidence(Clue.TEXT_THROUGHOUT))
        return _TEXT_THROUGHOUT, entry.size
    seen.append(evidence(Clue.TEXT_ENDS, length))
    return (_TEXT_BEGINS if length > 512 else _OTHER_KIND), length


def _by_length(entry: Entry, expected: Kind | None, measure: Measure, seen: list[Evidence]) -> tuple[float, int]:
    """A whole file stands at the start of the placement: is it this one?"""
    behind = entry.size - measure.length
    if not behind:
        return BY_PROOF[measure.proof], entry.size
    seen.append(evidence(Clue.BYTES_BEHIND, behind, measure.kind))
    if expected is not None and not _same_family(expected, measure.kind):
        seen.append(evidence(Clue.OTHER_KIND, measure.kind, expected.name))
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


def of_measure(measure: Measure) -> Evidence:
    """What a whole measure says, by what it rests on."""
    return evidence(CLUE_BY_PROOF[measure.proof], measure.rule)


def judge_found(measure: Measure, on_grid: bool) -> tuple[float, list[Evidence]]:
    """Confidence and evidence of a file known by its bytes alone; `on_grid`: it begins where a cluster does."""
    if measure.whole:
        confidence, seen = _BY_PROOF_WITHOUT_RECORD[measure.proof], [of_measure(measure)]
    else:
        confidence, seen = 0.1, [evidence(Clue.BREAKS, measure.kind, measure.breaks_at or 0, 0, measure.rule)]
    if not on_grid:
        confidence *= OFF_GRID
        seen.append(evidence(Clue.OFF_GRID))
    return confidence, seen


def _begins_as_text(head: bytes) -> bool:
    return not head.translate(None, TEXT_BYTES) and bool(head)
