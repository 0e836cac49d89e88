"""Sentences for what speaks for a finding and against it (`recovery.evidence`)."""

from __future__ import annotations

from collections.abc import Callable, Iterable

from sastrugi.errors import ScanFileError
from sastrugi.recovery.evidence import Clue, Evidence
from sastrugi.recovery.habits import Manner
from sastrugi.recovery.scan_rows import evidence_of
from sastrugi.units import plural

Sentence = Callable[..., str]


def _free(clusters: int) -> str:
    return f"all {plural(clusters, 'cluster')} free" if clusters > 1 else "its cluster is free"


def _owned(taken: int, clusters: int, owner: str, more: int) -> str:
    others = f" and {more} more" if more else ""
    return f"{taken:,} of {plural(clusters, 'cluster')} now belong to {owner}{others}"


def _breaks(kind: str, at: int, size: int, rule: str) -> str:
    return f"the {kind} breaks at byte {at:,} of {size:,}: {rule}" if size else f"breaks at byte {at:,}: {rule}"


def _behind(count: int, kind: str) -> str:
    return f"{plural(count, 'byte')} follow behind the end of the {kind}"


def _pieces(how: str) -> Sentence:
    return lambda count: f"{how}, in {plural(count, 'piece')}"


def _tried(how: str) -> Sentence:
    return lambda count, tries: f"{how}, in {plural(count, 'piece')} ({plural(tries, 'try', 'tries')})"


def _alike(negated: str) -> Sentence:
    return lambda count: f"its bytes are {negated}distributed like those of {plural(count, 'file')} beside it"


def _turns(others: str, manner: str, turns: int, count: int) -> str:
    with_whom = f"with {others}" if others else "with the file beside it"
    how = f" ({_MANNERS[manner].format(turns)})" if manner in _MANNERS else ""
    return f"written by turns {with_whom}{how}, in {plural(count, 'piece')}"


def _text_goes_on(foreign: int, count: int, closed: str = "") -> str:
    return f"its text goes on behind {plural(foreign, 'cluster')} of others{closed}, in {plural(count, 'piece')}"


def _told_so(state: str, places: str) -> str:
    if state == "found":
        return "only its bytes tell of it"
    told = {"told": "its record tells all of its places", "guessed": "its record tells where it begins, or less"}
    return told[places]


def _reads_on(percent: int, count: int) -> str:
    return f"in {plural(count, 'piece')}, on the chain of clusters that goes together best: {percent:,} % of all chains"


_MANNERS: dict[str, str] = {
    Manner.EVEN: "as even as can be, {:,} turns",
    Manner.ONE_LENGTH: "of one length",
    Manner.NESTED: "one whole in another",
    Manner.CLUSTERS: "as their clusters show",
    Manner.AS_NEARBY: "as those nearby were",
}
_RULE: Sentence = "{}".format
_SENTENCES: dict[Clue, Sentence] = {
    Clue.LIVE: lambda clusters, how: f"live: {plural(clusters, 'cluster')}, {how}",
    Clue.LIVE_BUT: "live, but {}".format,
    Clue.LISTED_BUT: "listed, but {}".format,
    Clue.NOTE: "{}".format,
    Clue.TOLD_BY: "told by {}".format,
    Clue.DELETED_EARLIER: "deleted already in its own life".format,
    Clue.EMPTY: "an empty file: only its name can come back".format,
    Clue.UNTOLD_PLACE: "nothing tells where it lay".format,
    Clue.PLACED: "{}".format,
    Clue.IN_RECORD: "its record is whole".format,
    Clue.FREE: _free,
    Clue.UNOWNED: "no other file owns its clusters".format,
    Clue.OWNED: _owned,
    Clue.ONLY_PLACE: "what tells of it leaves no other place".format,
    Clue.CLAIMED_LATER: "{}, deleted as well and written later, claims some of the same clusters".format,
    Clue.NOTHING_LEFT: "nothing of it is left but its record".format,
    Clue.NEVER_WRITTEN: "none of its bytes were ever written: all of it reads as zeros".format,
    Clue.HOLES: lambda count: f"{plural(count, 'byte')} of it were never written, and read as zeros",
    Clue.PACKED: "stored in units of {}".format,
    Clue.BEYOND_VOLUME: "its size reaches beyond the end of the volume".format,
    Clue.BEYOND_MEDIUM: "part of it lies beyond the end of the medium".format,
    Clue.UNREADABLE: "{:,} of its {:,} bytes could not be read".format,
    Clue.CHECKSUMS_RIGHT: _RULE,
    Clue.DECODES: _RULE,
    Clue.STRUCTURE_RIGHT: _RULE,
    Clue.STATISTICS_RIGHT: _RULE,
    Clue.LOOKS_WHOLE: _RULE,
    Clue.BREAKS: _breaks,
    Clue.BYTES_BEHIND: _behind,
    Clue.OTHER_KIND: "a {} stands where a {} should".format,
    Clue.FOREIGN_START: "its first bytes are not those of a {}".format,
    Clue.ZERO_START: "its first sector holds only zeros".format,
    Clue.UNKNOWN_KIND: "no kind is known to compare its content with".format,
    Clue.TEXT_THROUGHOUT: "its bytes are text from end to end".format,
    Clue.TEXT_ENDS: "its bytes stop being text at {:,}".format,
    Clue.ENDS_THERE: "zeros begin right where its record says that it ends".format,
    Clue.RUNS_ON: "what stands there goes on behind the end that its record tells".format,
    Clue.GUESSED_END: "its end is a guess".format,
    Clue.OFF_GRID: "begins on a sector, but not on a cluster of the volume".format,
    Clue.ON_TOLD_GRID: "begins on a cluster of a life that only its files tell of".format,
    Clue.BEGUN_INSIDE: "a {} begins inside of it, at byte {:,}: it lies in pieces, perhaps".format,
    Clue.GOES_ON: "what stands before it does not end there: it is a piece of another file, perhaps".format,
    Clue.BY_CHAIN: lambda count: f"in {plural(count, 'piece')}, by a chain of clusters that no listed file owns",
    Clue.BY_LIST: lambda count, system: f"in {plural(count, 'piece')}, by a list of {system} blocks that still stands",
    Clue.AROUND_OTHERS: _tried("around what other findings own"),
    Clue.AROUND_UNPROVED: lambda count: (
        f"around what other findings surely own, in {plural(count, 'piece')}; its content proves nothing"
    ),
    Clue.BY_STRUCTURE: _tried("its pieces found by its structure"),
    Clue.BY_TURNS: _turns,
    Clue.AS_BESIDE: lambda even, gap, count: (
        f"as the files beside it lie: {even:,} even pieces with gaps of {plural(gap, 'cluster')}, "
        f"in {plural(count, 'piece')}"
    ),
    Clue.TEXT_BEHIND: _text_goes_on,
    Clue.READS_ON: _reads_on,
    Clue.READS_ON_PERHAPS: _reads_on,
    Clue.MARKUP_BEHIND: lambda foreign, count: _text_goes_on(foreign, count, ", to where it is closed"),
    Clue.OVERWRITTEN: "{:,} of its bytes belong to others, as these prove".format,
    Clue.CONTESTED: "some of its clusters belong to another file, as that proves".format,
    Clue.ALIKE: _alike(""),
    Clue.UNLIKE: _alike("not "),
    Clue.BETWEEN_FILES: "it lies between two files that are known, and ends with zeros".format,
    Clue.UNMEASURED: "no kind is known to measure it by".format,
    Clue.TAKEN_LATER: "{:,} of its bytes were given to {} later".format,
    Clue.CLAIMED_TWICE: "{:,} of its bytes are claimed by {}, too; nothing tells which of them came later".format,
    Clue.INSIDE_OTHER: "inside of another file".format,
    Clue.NAME: "name: {}".format,
    Clue.NAMELESS: "no record tells its name".format,
    Clue.NAME_BY_BIN: "name: its index file in the bin tells it; it stood there as {}".format,
    Clue.NAME_BY_ORDER: "name: of number {:,}, which was made in the order in which this lies among others".format,
    Clue.TOLD_SO: _told_so,
    Clue.CHECKED_BESIDE: lambda right, wrong: (
        f"of {plural(right + wrong, 'finding')} beside it that could be checked, {right:,} proved right"
    ),
    Clue.SAID: "{}".format,
}


def sentence(piece: Evidence) -> str:
    """One piece of evidence in words. Raises ValueError where its facts are not those of its clue."""
    try:
        return _SENTENCES[piece.clue](*piece.facts)
    except (TypeError, LookupError, ValueError) as error:
        raise ValueError(f"'{piece.clue}' does not go with {piece.facts!r:.80}") from error


def reasons(pieces: Iterable[Evidence]) -> list[str]:
    """All of it in words."""
    return [sentence(piece) for piece in pieces]


def reasons_of(packed: str) -> list[str]:
    """The same of a row of a scan file; raises ScanFileError where it is damaged."""
    return [reason for _, reason in weighed_reasons(packed)]


def weighed_reasons(packed: str) -> list[tuple[float, str]]:
    """The same with what each weighs."""
    try:
        return [(piece.weight, sentence(piece)) for piece in evidence_of(packed)]
    except ValueError as error:
        raise ScanFileError(f"the scan file is damaged: {error}: scan again") from error
