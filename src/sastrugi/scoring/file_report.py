"""One file's whole story: where it lay, what became of each piece, what came back, and where that differs first."""

from __future__ import annotations

import fnmatch
from collections.abc import Sequence
from dataclasses import dataclass
from difflib import get_close_matches
from pathlib import Path

import numpy as np

from sastrugi.errors import SastrugiError
from sastrugi.media import Extent, RangeSet
from sastrugi.media.filemap import UNKNOWN
from sastrugi.progress import Progress
from sastrugi.recovery.evidence import Evidence
from sastrugi.recovery.scan_file import ScanFile, is_scan_file
from sastrugi.recovery.select import Selection
from sastrugi.scoring.results import Result
from sastrugi.scoring.scorecard import FileScore
from sastrugi.scoring.scorer import judge
from sastrugi.specimen.truth import Specimen, TruthFile

_PIECE = 4 << 20


@dataclass(frozen=True, slots=True)
class Piece:
    """A run of a file's bytes: its position in the file, where it lay, and whether its bytes are gone from there. Of a
    coded unit `where` is one of the parts that it stands on; zeros and what is unknown have no `where.offset` (-1)."""

    position: int
    where: Extent
    gone: bool
    coding: str = ""


@dataclass(frozen=True, slots=True)
class Story:
    """Everything about one reference file. `differs_at` is the first byte at which the result is not the original;
    `evidence` is what the scan saw of the finding that came back for it, if a scan was scored."""

    file: TruthFile
    pieces: tuple[Piece, ...]
    score: FileScore
    result: Result | None
    differs_at: int | None
    evidence: tuple[Evidence, ...] = ()


def story_of(
    specimen: Specimen,
    results: Path,
    name: str,
    progress: Progress,
    files_of: str = "lost",
    table: Path | None = None,
    leave_out: tuple[str, ...] = (),
    selection: Selection | None = None,
) -> Story:
    """The story of the file called `name` (a path, a name or a pattern that only one file of the set fits).

    Raises SastrugiError, which names the files there are, if none or several fit.
    """
    judged = judge(specimen, results, progress, selection, files_of, table, leave_out)
    file = _the_one(judged.files, name)
    _, score, result = judged.of(file.id)
    return Story(
        file, _pieces(file), score, result, _first_difference(specimen, file, result), _evidence_of(results, result)
    )


def _evidence_of(results: Path, result: Result | None) -> tuple[Evidence, ...]:
    if result is None or not result.finding or not is_scan_file(results):
        return ()
    with ScanFile.open(results) as scan:
        return tuple(piece for one in scan.findings("number = ?", (result.finding,)) for piece in one.evidence)


def _the_one(files: Sequence[TruthFile], name: str) -> TruthFile:
    wanted = name.strip("/").casefold()
    for fits in (
        lambda f: f.path.strip("/").casefold() == wanted,
        lambda f: f.name.casefold() == wanted,
        lambda f: fnmatch.fnmatchcase(f.path.strip("/").casefold(), wanted),
        lambda f: fnmatch.fnmatchcase(f.name.casefold(), wanted),
    ):
        found = [file for file in files if fits(file)]
        if len(found) == 1:
            return found[0]
        if found:
            paths = ", ".join(file.path for file in found[:4])
            raise SastrugiError(f"'{name}' fits {len(found)} files of the set ({paths} …): give a longer path")
    near = get_close_matches(name, [part for file in files for part in (file.path, file.name)], 3, 0.5)
    raise SastrugiError(
        f"no file of the set is called '{name}': " + (f"did you mean {', '.join(near)}?" if near else "see 'score'")
    )


def _pieces(file: TruthFile) -> tuple[Piece, ...]:
    gone = RangeSet(file.gone)
    out: list[Piece] = []
    for position, where, coding in file.map.owned():
        parts = [(part, True) for part in gone.overlap(where)] + [(part, False) for part in gone.gaps(where)]
        for part, lost in sorted(parts):
            out.append(Piece(position + (part.offset - where.offset if not coding else 0), part, lost, coding))
    out += [Piece(at, Extent(-1, length), coding == UNKNOWN, coding) for at, length, coding in file.map.nowhere()]
    return tuple(sorted(out, key=lambda piece: piece.position))


def _first_difference(specimen: Specimen, file: TruthFile, result: Result | None) -> int | None:
    if result is None:
        return None
    with result.opened() as read:
        for position in range(0, file.size, _PIECE):
            then = np.frombuffer(specimen.original(file, position, _PIECE), "u1")
            now = np.frombuffer(read(position, len(then)), "u1")
            wrong = np.flatnonzero(then[: len(now)] != now)
            if len(wrong):
                return position + int(wrong[0])
            if len(now) < len(then):
                return position + len(now)
    return file.size if result.size > file.size else None
