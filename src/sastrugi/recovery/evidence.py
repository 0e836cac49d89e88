"""What speaks for a finding and what speaks against it, as data.

Whatever a pass sees is a piece of evidence: a clue, and the facts that go with it. The engine decides by clues alone;
sentences are made of them where people read (`report.evidence`).
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from enum import Enum, IntEnum, StrEnum

from sastrugi.kinds import Proof

Fact = str | int


class About(Enum):
    """What a clue speaks of: where a file lies, what stands there, what it is called, or the file as a whole."""

    PLACE = "place"
    CONTENT = "content"
    NAME = "name"
    FILE = "file"


class Source(IntEnum):
    """Where a clue was read, what can least be otherwise first."""

    MEDIUM = 0
    """The medium itself: what cannot be read, or is not there."""
    RECORD = 1
    """A record of the file: of today, of an earlier life, or of a volume's history."""
    BITMAP = 2
    """What the volume lists as free or in use."""
    LIST = 3
    """A chain of clusters or a list of blocks."""
    CHECKSUM = 4
    DECODING = 5
    STRUCTURE = 6
    SIGNATURE = 7
    STATISTICS = 8
    """How bytes are distributed; whether they are text."""
    OTHERS = 9
    """What other findings prove to be theirs."""
    HABIT = 10
    """How files beside it lie."""
    ORDER = 11
    """The order in which files were made."""
    NAME = 12
    """What a name of this kind calls for."""


class Clue(StrEnum):
    """One thing that evidence can say. The value is how scan files call it, and stays."""

    source: Source
    about: About

    def __new__(cls, value: str, source: Source, about: About) -> Clue:
        made = str.__new__(cls, value)
        made._value_ = value
        made.source, made.about = source, about
        return made

    LIVE = "live", Source.RECORD, About.FILE
    LIVE_BUT = "live-but", Source.RECORD, About.FILE
    LISTED_BUT = "listed-but", Source.RECORD, About.FILE
    NOTE = "note", Source.RECORD, About.FILE
    TOLD_BY = "told-by", Source.RECORD, About.FILE
    DELETED_EARLIER = "deleted-earlier", Source.RECORD, About.FILE
    EMPTY = "empty", Source.RECORD, About.FILE
    UNTOLD_PLACE = "place-untold", Source.RECORD, About.PLACE
    PLACED = "placed", Source.RECORD, About.PLACE
    IN_RECORD = "in-record", Source.RECORD, About.CONTENT
    FREE = "units-free", Source.BITMAP, About.PLACE
    UNOWNED = "units-unowned", Source.BITMAP, About.PLACE
    OWNED = "units-owned", Source.BITMAP, About.PLACE
    ONLY_PLACE = "only-place", Source.RECORD, About.PLACE
    CLAIMED_LATER = "claimed-later", Source.OTHERS, About.PLACE
    NOTHING_LEFT = "nothing-left", Source.OTHERS, About.PLACE
    NEVER_WRITTEN = "never-written", Source.RECORD, About.CONTENT
    HOLES = "holes", Source.RECORD, About.CONTENT
    PACKED = "packed", Source.RECORD, About.CONTENT
    BEYOND_VOLUME = "beyond-volume", Source.MEDIUM, About.PLACE
    BEYOND_MEDIUM = "beyond-medium", Source.MEDIUM, About.PLACE
    UNREADABLE = "unreadable", Source.MEDIUM, About.CONTENT

    CHECKSUMS_RIGHT = "checksums-right", Source.CHECKSUM, About.CONTENT
    DECODES = "decodes", Source.DECODING, About.CONTENT
    STRUCTURE_RIGHT = "structure-right", Source.STRUCTURE, About.CONTENT
    STATISTICS_RIGHT = "statistics-right", Source.STATISTICS, About.CONTENT
    LOOKS_WHOLE = "looks-whole", Source.STATISTICS, About.CONTENT
    BREAKS = "breaks", Source.STRUCTURE, About.CONTENT
    BYTES_BEHIND = "bytes-behind", Source.STRUCTURE, About.CONTENT
    OTHER_KIND = "other-kind", Source.NAME, About.CONTENT
    FOREIGN_START = "foreign-start", Source.SIGNATURE, About.CONTENT
    ZERO_START = "zero-start", Source.STATISTICS, About.CONTENT
    UNKNOWN_KIND = "unknown-kind", Source.NAME, About.CONTENT
    TEXT_THROUGHOUT = "text-throughout", Source.STATISTICS, About.CONTENT
    TEXT_ENDS = "text-ends", Source.STATISTICS, About.CONTENT
    ENDS_THERE = "ends-there", Source.STATISTICS, About.CONTENT
    RUNS_ON = "runs-on", Source.STATISTICS, About.CONTENT
    GUESSED_END = "guessed-end", Source.STATISTICS, About.CONTENT

    OFF_GRID = "off-grid", Source.HABIT, About.PLACE
    ON_TOLD_GRID = "on-told-grid", Source.HABIT, About.PLACE
    BEGUN_INSIDE = "begun-inside", Source.OTHERS, About.PLACE
    GOES_ON = "goes-on", Source.OTHERS, About.PLACE
    BY_CHAIN = "by-chain", Source.LIST, About.PLACE
    BY_LIST = "by-list", Source.LIST, About.PLACE
    AROUND_OTHERS = "around-others", Source.OTHERS, About.PLACE
    AROUND_UNPROVED = "around-unproved", Source.OTHERS, About.PLACE
    BY_STRUCTURE = "by-structure", Source.STRUCTURE, About.PLACE
    BY_TURNS = "by-turns", Source.HABIT, About.PLACE
    AS_BESIDE = "as-beside", Source.HABIT, About.PLACE
    TEXT_BEHIND = "text-behind", Source.STATISTICS, About.PLACE
    READS_ON = "reads-on", Source.STATISTICS, About.PLACE
    READS_ON_PERHAPS = "reads-on-perhaps", Source.STATISTICS, About.PLACE
    MARKUP_BEHIND = "markup-behind", Source.STRUCTURE, About.PLACE
    OVERWRITTEN = "overwritten", Source.OTHERS, About.PLACE
    CONTESTED = "contested", Source.OTHERS, About.PLACE
    ALIKE = "alike", Source.STATISTICS, About.CONTENT
    UNLIKE = "unlike", Source.STATISTICS, About.CONTENT
    BETWEEN_FILES = "between-files", Source.OTHERS, About.PLACE
    UNMEASURED = "unmeasured", Source.NAME, About.CONTENT
    TAKEN_LATER = "taken-later", Source.OTHERS, About.PLACE
    CLAIMED_TWICE = "claimed-twice", Source.OTHERS, About.PLACE
    INSIDE_OTHER = "inside-other", Source.OTHERS, About.PLACE

    NAME = "name", Source.RECORD, About.NAME
    NAMELESS = "nameless", Source.RECORD, About.NAME
    NAME_BY_BIN = "name-by-bin", Source.RECORD, About.NAME
    NAME_BY_ORDER = "name-by-order", Source.ORDER, About.NAME

    TOLD_SO = "told-so", Source.RECORD, About.FILE
    CHECKED_BESIDE = "checked-beside", Source.OTHERS, About.FILE

    SAID = "said", Source.RECORD, About.FILE
    """Words of a scan file of an earlier format."""


BY_PROOF = {
    Proof.CHECKSUM: Clue.CHECKSUMS_RIGHT,
    Proof.DECODES: Clue.DECODES,
    Proof.STRUCTURE: Clue.STRUCTURE_RIGHT,
    Proof.STATISTICS: Clue.STATISTICS_RIGHT,
    Proof.GUESS: Clue.LOOKS_WHOLE,
}
"""What a whole measure says, by what it rests on."""


@dataclass(frozen=True, slots=True)
class Evidence:
    """A clue, the facts that go with it (numbers and names, in an order that the clue's sentence knows), and what it
    weighs: bits for the file being whole, below 0 against it. The weight is told when a scan ends."""

    clue: Clue
    facts: tuple[Fact, ...] = ()
    weight: float = 0.0

    def weighing(self, bits: float) -> Evidence:
        """The same with its weight."""
        return replace(self, weight=bits)

    @property
    def of_a_name(self) -> bool:
        return self.clue.about == About.NAME


def evidence(clue: Clue, *facts: Fact) -> Evidence:
    return Evidence(clue, facts)


def of_names(pieces: Iterable[Evidence]) -> list[Evidence]:
    """What speaks of the name, which stays whatever the places of a file are."""
    return [one for one in pieces if one.of_a_name]
