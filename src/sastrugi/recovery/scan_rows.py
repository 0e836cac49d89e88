"""The tables of a scan file and their rows (docs/formats/scan-file.md), checked whenever they are read."""

from __future__ import annotations

import datetime as dt
import json
import os
import re
from collections.abc import Sequence
from functools import lru_cache
from pathlib import Path
from typing import Any

from sastrugi.media import Extent, FileMap
from sastrugi.recovery.evidence import Clue, Evidence
from sastrugi.recovery.findings import Finding, FoundVolume, Tally
from sastrugi.texts import LARGEST_NUMBER, parse_json
from sastrugi.volumes.reader import Times

SCHEMA = """
CREATE TABLE scan (key TEXT PRIMARY KEY, value TEXT NOT NULL);
CREATE TABLE volumes (
    number INTEGER PRIMARY KEY, start INTEGER NOT NULL, length INTEGER NOT NULL, file_system TEXT NOT NULL,
    label TEXT NOT NULL, serial TEXT NOT NULL, cluster INTEGER NOT NULL, used INTEGER NOT NULL, free INTEGER NOT NULL,
    origin TEXT NOT NULL, health TEXT NOT NULL
);
CREATE TABLE findings (
    number INTEGER PRIMARY KEY, state TEXT NOT NULL, volume INTEGER, folder TEXT NOT NULL, name TEXT NOT NULL,
    kind TEXT NOT NULL, grp TEXT NOT NULL, size INTEGER NOT NULL, created TEXT, modified TEXT, accessed TEXT,
    passes TEXT NOT NULL, confidence REAL NOT NULL, name_sure REAL NOT NULL, evidence TEXT NOT NULL,
    start INTEGER, map TEXT NOT NULL, sound INTEGER NOT NULL
);
CREATE INDEX findings_start ON findings (start);
"""
SOUND_ROW = " AND ".join(
    [
        "typeof(number) = 'integer' AND number >= 0",
        "state IN ('live', 'deleted', 'found') AND typeof(volume) IN ('integer', 'null')",
        *(f"typeof({name}) = 'text'" for name in ("folder", "name", "kind", "grp", "passes", "evidence", "map")),
        *(f"typeof({name}) IN ('text', 'null')" for name in ("created", "modified", "accessed")),
        *(f"typeof({name}) = 'integer' AND {name} >= 0" for name in ("size", "sound")),
        *(f"typeof({name}) = 'real' AND {name} BETWEEN 0 AND 1" for name in ("confidence", "name_sure")),
        "typeof(start) IN ('integer', 'null')",
        *(f"CASE WHEN json_valid({name}) THEN json_type({name}) = 'array' ELSE 0 END" for name in ("evidence", "map")),
    ]
)
"""Whether a row is one that a scan wrote, as SQL: whoever passes rows on looks at no more of them."""
OF_VERSION_2 = """
CREATE TEMP VIEW findings AS SELECT number, state, volume, folder, name, kind, grp, size, created, modified, accessed,
    passes, confidence, name_sure,
    (SELECT json_group_array(json_array('said', 0.0, value)) FROM json_each(reasons)) AS evidence, start, map, sound
FROM main.findings
"""
"""What was written in version 2, which kept sentences, as this version keeps it: it stands in front of the table."""
WORKING = "CREATE TABLE IF NOT EXISTS marks (start INTEGER PRIMARY KEY, length INTEGER NOT NULL, marks BLOB NOT NULL)"
"""What an unfinished scan keeps for itself; dropped at its end."""
TALLIES = {
    "kind": "kind",
    "group": "grp",
    "volume": "volume",
    "pass": "passes",
    "date": "substr(modified, 1, 10)",
    "folder": "folder",
    "state": "state",
    "confidence": "printf('%.1f to %.1f', min(cast(confidence * 10 AS INT), 9) / 10.0, "
    "min(cast(confidence * 10 AS INT) + 1, 10) / 10.0)",
}
"""What findings can be counted by, each with the SQL that tells it."""
_CLUES = {clue.value: clue for clue in Clue}
_ONE_EXTENT = re.compile(r"\[\[(\d{1,18}), (\d{1,18})\]\]", re.ASCII)
"""A map as nearly every file's is, which needs no parser."""
_REMEMBERED, _SHORT = 1024, 2000
"""Rows of evidence that are remembered, as most findings give the same; characters of one that is."""


def path_as_text(path: Path) -> str:
    """A path as the scan file keeps it: as it is, or (one that is no Unicode) as a URL."""
    text = str(path)
    return path.as_uri() if _has_halves(text) else text


def _has_halves(text: str) -> bool:
    try:
        text.encode()
    except UnicodeEncodeError:
        return True
    return False


def path_from_text(text: str) -> Path:
    if text.startswith("file://"):
        from urllib.parse import unquote_to_bytes

        return Path(os.fsdecode(unquote_to_bytes(text.removeprefix("file://"))))
    return Path(text)


def number_of(value: int) -> int:
    """A number that a database can hold."""
    return max(min(value, LARGEST_NUMBER), -LARGEST_NUMBER)


def volume_of(row: tuple[Any, ...]) -> FoundVolume:
    number, start, length, cluster, used, free = (int(row[n]) for n in (0, 1, 2, 6, 7, 8))
    system, label, serial, origin = (str(row[n]) for n in (3, 4, 5, 9))
    health = tuple(str(note) for note in parse_json(row[10]))
    return FoundVolume(number, Extent(start, length), system, label, serial, cluster, used, free, origin, health)


def tally_of(row: tuple[Any, ...]) -> Tally:
    live, deleted, found, size, sure = (int(count or 0) for count in row[1:6])
    return Tally("" if row[0] is None else str(row[0]), live, deleted, found, size, sure, float(row[6] or 0))


def sound_row(row: tuple[Any, ...]) -> tuple[Any, ...]:
    """A row without the answer of SOUND_ROW behind it; raises ValueError where that is no."""
    if row[-1] != 1:
        raise ValueError(f"finding {row[0]!r:.40} is not as a scan writes it")
    return row[:-1]


def finding_of(row: tuple[Any, ...]) -> Finding:
    created, modified, accessed = (dt.datetime.fromisoformat(text) if text else None for text in row[8:11])
    return Finding(
        number=row[0],
        state=row[1],
        volume=row[2],
        folder=row[3],
        name=row[4],
        kind=row[5],
        group=row[6],
        size=row[7],
        times=Times(created, modified, accessed.date() if accessed else None),
        passes=tuple(row[11].split(",")),
        confidence=row[12],
        name_sure=row[13],
        evidence=evidence_of(row[14]),
        map=map_of(row[16], row[7]),
        sound=row[17],
    )


@lru_cache(64)
def _compiled(pattern: str) -> re.Pattern[str]:
    return re.compile(pattern, re.IGNORECASE)


def matches(pattern: str, text: str) -> bool:
    return _compiled(pattern).match(text) is not None


def evidence_of(text: str) -> list[Evidence]:
    """The evidence of a finding: for each piece its clue, what it weighs, and its facts. Raises ValueError."""
    return list(_few_pieces(text) if len(text) <= _SHORT else _pieces(text))


def evidence_text(pieces: Sequence[Evidence]) -> str:
    """The same for the table."""
    return _evidence_text(tuple(pieces))


def _pieces(text: str) -> tuple[Evidence, ...]:
    return tuple(_piece(told) for told in parse_json(text))


def _piece(told: Any) -> Evidence:
    if not (isinstance(told, list) and len(told) >= 2 and isinstance(told[1], int | float)):
        raise ValueError(f"{told!r:.60} is no evidence")
    name, weight, *facts = told
    if not all(isinstance(fact, str | int) for fact in facts):
        raise ValueError(f"{facts!r:.60} are no facts")
    if name not in _CLUES:
        raise ValueError(f"{name!r:.40} is no clue")
    return Evidence(_CLUES[name], tuple(facts), float(weight))


_few_pieces = lru_cache(_REMEMBERED)(_pieces)


@lru_cache(_REMEMBERED)
def _evidence_text(pieces: tuple[Evidence, ...]) -> str:
    return json.dumps([[one.clue, one.weight, *one.facts] for one in pieces], ensure_ascii=False)


def map_of(packed: str, size: int) -> FileMap:
    """Where a finding of `size` bytes lies. Raises ValueError."""
    if one := _ONE_EXTENT.fullmatch(packed):
        return FileMap.unpacked([[int(one[1]), int(one[2])]], size)
    return FileMap.unpacked(parse_json(packed), size)


def sound_part(packed: str, size: int, sound: int) -> tuple[Extent, ...]:
    """Where the first `sound` bytes of such a finding lie. Raises ValueError."""
    if (one := _ONE_EXTENT.fullmatch(packed)) and int(one[2]) == size > 0:
        return (Extent(int(one[1]), min(sound, size)),) if sound > 0 else ()
    return map_of(packed, size).head(sound).stored


def row_of(finding: Finding) -> tuple[Any, ...]:
    """A finding as the table has it, but for its number."""
    times = finding.times
    return (
        finding.state,
        finding.volume,
        finding.folder,
        finding.name,
        finding.kind,
        finding.group,
        number_of(finding.size),
        text_of(times.created),
        text_of(times.modified),
        text_of(times.accessed),
        ",".join(finding.passes),
        round(finding.confidence, 4),
        round(finding.name_sure, 4),
        evidence_text(finding.evidence),
        finding.map.start,
        packed_map(finding),
        finding.sound,
    )


def packed_map(finding: Finding) -> str:
    """The same for the table: an unknown end is left out, the size tells it."""
    extents = finding.extents
    if len(extents) == 1 and finding.map.plain:
        return f"[[{extents[0].offset}, {extents[0].length}]]"
    return json.dumps(finding.map.head(finding.map.reach).packed())


def text_of(moment: dt.date | None) -> str | None:
    return moment.isoformat() if moment else None


def ranges_of(text: str) -> tuple[Extent, ...]:
    """Extents that a scan file keeps under a key. Raises ValueError."""
    return FileMap.unpacked(parse_json(text)).stored


def object_of(text: str) -> dict[str, Any]:
    """An object that it keeps under a key. Raises ValueError."""
    found = parse_json(text)
    if not isinstance(found, dict):
        raise ValueError("it is no object")
    return found
