"""The scan file that holds findings (SQLite; the format is docs/formats/scan-file.md)."""

from __future__ import annotations

import hashlib
import json
import os
import shutil
import sqlite3
import tempfile
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import closing, contextmanager
from functools import lru_cache
from pathlib import Path
from typing import Any

from sastrugi.errors import ScanFileError, system_words
from sastrugi.media import Extent, Medium
from sastrugi.recovery.findings import Finding, FoundVolume, Tally
from sastrugi.recovery.scan_rows import (
    OF_VERSION_2,
    SCHEMA,
    SOUND_ROW,
    TALLIES,
    WORKING,
    finding_of,
    matches,
    number_of,
    object_of,
    path_as_text,
    path_from_text,
    ranges_of,
    row_of,
    sound_part,
    sound_row,
    tally_of,
    volume_of,
)
from sastrugi.safety import atomic_file
from sastrugi.texts import parse_json

SCAN_VERSION, _READ_AS_WELL = 3, 2
"""What is written; and the version before it, of which finished scans are read."""
_APPLICATION_ID = 0x53415354  # "SAST"
_HEAD, _TOGETHER = 1 << 20, 500


def is_scan_file(path: Path) -> bool:
    """Whether a file is a scan file, by its head."""
    if not path.is_file():  # a pipe would wait for somebody who writes
        return False
    try:
        with path.open("rb") as file:
            head = file.read(72)
    except OSError:
        return False
    return head.startswith(b"SQLite format 3\0") and head[68:72] == _APPLICATION_ID.to_bytes(4, "big")


def medium_identity(medium: Medium) -> str:
    """What a scan file remembers a medium by: its size and the SHA-256 of its first MiB."""
    return f"{medium.size}:{hashlib.sha256(medium.read(0, _HEAD)).hexdigest()}"


class ScanFile:
    """An open scan file. Use it in a `with`; what was added is safe after `commit`."""

    def __init__(self, path: Path, connection: sqlite3.Connection) -> None:
        self.path = path
        self._db = connection
        self._held: list[tuple[Any, ...]] = []

    @classmethod
    def create(
        cls, path: Path, medium: Medium, passes: Iterable[str], settings: Mapping[str, str] | None = None
    ) -> ScanFile:
        """A new scan file for `medium` without findings, with what else is to be kept under its keys. It stands under
        its name only when it can be gone on with. Raises ScanFileError and DestinationError if it cannot be made."""
        if path.exists():
            raise ScanFileError(
                f"{path}: is there already: give another --out, --replace, or --go-on to continue an unfinished scan"
            )
        about = {
            "medium": path_as_text(medium.path.resolve()),
            "medium_size": str(medium.size),
            "medium_identity": medium_identity(medium),
            "passes": ",".join(passes),
            "state": "started",
            **(settings or {}),
        }
        try:
            with atomic_file(path) as temporary, closing(sqlite3.connect(os.fsencode(temporary))) as db:
                db.executescript(
                    "PRAGMA journal_mode = OFF; "  # a kill leaves a temporary name alone, which the next run clears
                    f"PRAGMA application_id = {_APPLICATION_ID}; PRAGMA user_version = {SCAN_VERSION}; {SCHEMA}"
                )
                db.executemany("INSERT INTO scan VALUES (?, ?)", about.items())
                db.commit()
            db = sqlite3.connect(os.fsencode(path), timeout=10)
            db.execute("PRAGMA synchronous = NORMAL")
            return cls(path, db)
        except sqlite3.Error as error:
            why = "there is no permission, or no room" if isinstance(error, sqlite3.OperationalError) else str(error)
            raise ScanFileError(f"{path}: the scan file cannot be made: {why}") from error

    @classmethod
    def open(cls, path: Path, for_writing: bool = False) -> ScanFile:
        """An existing scan file; raises ScanFileError if it is none, damaged, locked or of another version."""
        if not path.is_file():
            made = "is a medium, and no scan file" if path.exists() else "there is no such scan file"
            raise ScanFileError(f"{path}: {made}: make one with 'sastrugi scan'")
        try:
            db, application, version = _opened(path, "rw" if for_writing else "ro")
        except sqlite3.Error as error:
            try:
                if for_writing or not _journal(path).exists():
                    raise error
                # Whoever wrote it was killed in the middle: what was not whole is taken back before anybody reads.
                db, application, version = _opened_after_a_kill(path)
            except (OSError, sqlite3.Error) as again:
                raise ScanFileError(f"{path}: is no scan file, or is damaged ({again})") from again
        if application != _APPLICATION_ID:
            raise ScanFileError(f"{path}: is a database, but no scan file of Sastrugi")
        if version not in (SCAN_VERSION, _READ_AS_WELL):
            raise ScanFileError(
                f"{path}: is version {version} of the scan file, this program reads {_READ_AS_WELL} and "
                f"{SCAN_VERSION}: scan again"
            )
        db.create_function("REGEXP", 2, matches, deterministic=True)
        scan = cls(path, db)
        if version == _READ_AS_WELL:
            scan._run(OF_VERSION_2)
            if not scan.finished:
                raise ScanFileError(f"{path}: was begun by an earlier version of this program: scan again")
        return scan

    def __enter__(self) -> ScanFile:
        return self

    def __exit__(self, *_: object) -> None:
        self._db.close()

    @contextmanager
    def _reading(self) -> Iterator[None]:
        """Whatever is wrong with what is read is said in one way."""
        try:
            yield
        except (sqlite3.Error, ValueError, TypeError, LookupError, OverflowError) as error:
            raise ScanFileError(f"{self.path}: is damaged: {error}") from error

    def _run(self, statement: str, values: tuple[Any, ...] = ()) -> sqlite3.Cursor:
        self._put_down()
        try:
            return self._db.execute(statement, values)
        except sqlite3.Error as error:
            raise ScanFileError(f"{self.path}: cannot be used: {error}") from error

    def _put_down(self) -> None:
        """Store the findings that are held."""
        if not self._held:
            return
        rows, self._held = self._held, []
        try:
            self._db.executemany("INSERT INTO findings VALUES (NULL,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?)", rows)
        except sqlite3.Error as error:
            raise ScanFileError(f"{self.path}: cannot be written: {error}") from error

    def commit(self) -> None:
        self._put_down()
        try:
            self._db.commit()
        except sqlite3.Error as error:
            raise ScanFileError(f"{self.path}: cannot be written: {error}") from error

    def rollback(self) -> None:
        """Forget what was not committed."""
        self._held = []
        self._db.rollback()

    def number(self, key: str) -> int:
        """A whole number that the scan file keeps; 0 where there is none."""
        return int(self._value(key, int, 0))

    def seconds(self) -> float:
        """How long the scan has taken so far."""
        return float(self._value("seconds", float, 0.0))

    def effort(self) -> float:
        """How much of the usual work may go into putting pieces together."""
        return float(self._value("effort", float, 1.0))

    def ranges(self, key: str) -> list[Extent]:
        """Extents that the scan file keeps under a key."""
        found: tuple[Extent, ...] = self._value(key, ranges_of, ())
        return list(found)

    def notes(self) -> list[str]:
        """What the scan left out, in words."""
        found: list[str] = self._value("notes", lambda text: [str(note) for note in parse_json(text)], [])
        return found

    def facts(self, key: str) -> dict[str, Any]:
        """An object that the scan file keeps under a key."""
        found: dict[str, Any] = self._value(key, object_of, {})
        return found

    def _value(self, key: str, read: Callable[[str], Any], without: Any) -> Any:
        text = self.get(key)
        try:
            return read(text) if text else without
        except (ValueError, TypeError, LookupError, OverflowError) as error:
            raise ScanFileError(f"{self.path}: is damaged: '{key}' holds {text[:40]!r}") from error

    @property
    def medium_path(self) -> Path:
        """Where the medium was when it was scanned."""
        return path_from_text(self.get("medium"))

    def put(self, key: str, value: str) -> None:
        self._run("INSERT OR REPLACE INTO scan VALUES (?, ?)", (key, value))

    def get(self, key: str, default: str = "") -> str:
        with self._reading():
            row = self._run("SELECT value FROM scan WHERE key = ?", (key,)).fetchone()
        return str(row[0]) if row else default

    @property
    def finished(self) -> bool:
        return self.get("state") == "finished"

    def add_volume(self, volume: FoundVolume) -> None:
        self._run(
            "INSERT OR REPLACE INTO volumes VALUES (?,?,?,?,?,?,?,?,?,?,?)",
            (
                volume.number,
                *map(number_of, volume.where),
                volume.file_system,
                volume.label,
                volume.serial,
                *map(number_of, (volume.cluster, volume.used, volume.free)),
                volume.origin,
                json.dumps(volume.health),
            ),
        )

    def forget_volumes(self, last: int) -> None:
        """Drop the volumes numbered above `last`: the earlier lives of a pass that begins anew."""
        self._run("DELETE FROM volumes WHERE number > ?", (last,))

    def volumes(self) -> list[FoundVolume]:
        with self._reading():
            rows = self._run("SELECT * FROM volumes ORDER BY number").fetchall()
            return [volume_of(row) for row in rows]

    def add(self, finding: Finding) -> None:
        """Store a finding; it gets its number there, behind all others. Some are held, to be stored together before
        anything else is done."""
        self._held.append(row_of(finding))
        if len(self._held) >= _TOGETHER:
            self._put_down()

    def replace(self, finding: Finding) -> None:
        """Store a finding in the place of the one with its number."""
        self._run(
            "INSERT OR REPLACE INTO findings VALUES (?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?)",
            (finding.number, *row_of(finding)),
        )

    def discard(self, from_pass: str) -> None:
        """Drop the findings of a pass that was broken off and begins anew."""
        self._run("DELETE FROM findings WHERE passes LIKE ?", (f"%{from_pass}%",))

    def drop_parts_of(self, finding: Finding) -> None:
        """Drop what was found by its bytes alone, and is hardly a file, where it is a part of this one."""
        for offset, length in finding.extents:
            self._run(
                "DELETE FROM findings WHERE state = 'found' AND confidence < 0.5 AND number != ? "
                "AND start >= ? AND start + size <= ?",
                (finding.number, offset, offset + length),
            )

    def drop(self, numbers: Iterable[int]) -> None:
        """Drop findings by their numbers."""
        self._db.executemany("DELETE FROM findings WHERE number = ?", ((number,) for number in numbers))

    def findings(self, where: str = "", values: tuple[Any, ...] = (), order: str = "number") -> Iterator[Finding]:
        """Findings that fulfil an SQL condition (all if it is empty), in order of `order`."""
        condition = f"WHERE {where}" if where else ""
        cursor = self._run(f"SELECT *, {SOUND_ROW} FROM findings {condition} ORDER BY {order}", values)
        with self._reading():
            for row in cursor:
                yield finding_of(sound_row(row))

    def numbers(self, where: str, values: tuple[Any, ...] = ()) -> list[int]:
        """The numbers of findings that fulfil an SQL condition, in order."""
        with self._reading():
            return [int(row[0]) for row in self._run(f"SELECT number FROM findings WHERE {where} ORDER BY 1", values)]

    def sound_extents(self, where: str = "sound > 0") -> Iterator[tuple[Extent, ...]]:
        """For each finding (that fulfils an SQL condition): where the bytes lie that nothing speaks against."""
        rows = self._run(f"SELECT map, size, sound FROM findings WHERE {where} ORDER BY start")
        with self._reading():
            for packed, size, sound in rows:
                yield sound_part(packed, size, sound)

    def places(self) -> Iterator[tuple[int, tuple[Extent, ...]]]:
        """The number of each finding, and what of the medium it stands on."""
        rows = self._run("SELECT number, map, size FROM findings WHERE size > 0 AND start IS NOT NULL")
        with self._reading():
            for number, packed, size in rows:
                yield number, sound_part(packed, size, size)

    def starts(self, where: str = "TRUE") -> dict[int, int]:
        """The size of a finding (that fulfils an SQL condition) by the place of its first byte."""
        with self._reading():
            return dict(self._run(f"SELECT start, size FROM findings WHERE start IS NOT NULL AND ({where})"))

    def add_marks(self, where: Extent, packed: bytes) -> None:
        """Keep what a survey saw in a stretch of the medium (see recovery.survey)."""
        self._run("INSERT OR REPLACE INTO marks VALUES (?, ?, ?)", (*where, packed))

    def surveyed(self) -> list[Extent]:
        """The stretches that were looked at, in order."""
        self._run(WORKING)
        return [Extent(*row) for row in self._run("SELECT start, length FROM marks ORDER BY start")]

    def marks(self, start: int = 0) -> Iterator[tuple[Extent, bytes]]:
        """What was kept of the stretches that end behind `start`, in order. Others may be written meanwhile."""
        last = -1
        while rows := self._run(
            "SELECT start, length, marks FROM marks WHERE start + length > ? AND start > ? ORDER BY start LIMIT 16",
            (start, last),
        ).fetchall():
            for at, length, packed in rows:
                yield Extent(at, length), packed
                last = at

    def measured(self) -> list[tuple[str, int]]:
        """Bytes of findings that are not live, by their kind."""
        rows = self._run("SELECT kind, sum(min(size, 1 << 40)) FROM findings WHERE state != 'live' GROUP BY kind")
        with self._reading():
            return [(str(kind), int(size)) for kind, size in rows]

    def restate(self, stated: Callable[[int | None, str, str, int, str, float], tuple[float, str]]) -> None:
        """State the confidence of every finding that is not live anew, with what each piece of evidence weighs, by a
        function of volume, state, kind, pieces, evidence (as the file has it) and confidence. Committed."""

        @lru_cache(64)  # SQLite asks twice for each row
        def cell(volume: int | None, state: str, kind: str, places: str, told: str, now: float) -> str:
            sure, weighed = stated(volume, state, kind, 1 if places.count("[") <= 2 else 2, told, now)
            return f"{sure:.4f} {weighed}"

        self._db.create_function("stated", 6, cell, deterministic=True)
        self._run(
            "UPDATE findings SET confidence = CAST(substr(new.cell, 1, 6) AS REAL), evidence = substr(new.cell, 8) "
            "FROM (SELECT number AS n, stated(volume, state, kind, map, evidence, confidence) AS cell FROM findings "
            "WHERE state != 'live' AND size > 0) AS new WHERE findings.number = new.n"
        )
        self.put("restated", "yes")
        self.commit()

    def told_evidence(self) -> Iterator[tuple[int | None, str, str]]:
        """Volume, state and evidence (as the file has it) of each finding that is not live."""
        rows = self._run("SELECT volume, state, evidence FROM findings WHERE state != 'live' AND size > 0")
        with self._reading():
            yield from rows

    def finish(self) -> None:
        """The scan has come to its end: what it kept for itself goes."""
        self.put("state", "finished")
        self._run("DROP TABLE IF EXISTS marks")
        self.commit()

    def folders(self, where: str) -> list[tuple[int | None, str]]:
        """The folders (with their volumes) of findings that fulfil an SQL condition."""
        with self._reading():
            return self._run(f"SELECT DISTINCT volume, folder FROM findings WHERE {where}").fetchall()

    def kinds(self) -> list[str]:
        """The kinds that findings are of."""
        with self._reading():
            return [str(row[0]) for row in self._run("SELECT DISTINCT kind FROM findings")]

    def last_number(self) -> int:
        """The highest number of a finding; 0 without any."""
        with self._reading():
            return int(self._run("SELECT coalesce(max(number), 0) FROM findings").fetchone()[0])

    def count(self, where: str, values: tuple[Any, ...] = ()) -> int:
        """How many findings fulfil an SQL condition."""
        with self._reading():
            return int(self._run(f"SELECT count(*) FROM findings WHERE {where}", values).fetchone()[0])

    def save_selection(self, name: str, text: str) -> None:
        """Keep a selection (see recovery.select) under a name, in the place of one of the same name."""
        self._run("CREATE TABLE IF NOT EXISTS selections (name TEXT PRIMARY KEY, conditions TEXT NOT NULL)")
        self._run("INSERT OR REPLACE INTO selections VALUES (?, ?)", (name, text))
        self.commit()

    def selections(self) -> dict[str, str]:
        """The saved selections by name."""
        with self._reading():
            there = self._run("SELECT 1 FROM sqlite_master WHERE name = 'selections'").fetchone()
            return dict(self._run("SELECT name, conditions FROM selections ORDER BY name").fetchall()) if there else {}

    def rows(
        self, where: str, values: tuple[Any, ...] = (), order: str = "number", limit: int = 0
    ) -> Iterator[tuple[Any, ...]]:
        """Findings as the file keeps them (docs/formats/scan-file.md), for those who pass them on; `limit` 0: all."""
        most = f" LIMIT {limit}" if limit else ""
        rows = self._run(f"SELECT *, {SOUND_ROW} FROM findings WHERE {where} ORDER BY {order}{most}", values)
        with self._reading():
            for row in rows:
                yield sound_row(row)

    def tally(self, by: str, where: str, values: tuple[Any, ...] = ()) -> list[Tally]:
        """Findings counted by one of TALLIES."""
        states = ", ".join(f"sum(state = '{state}')" for state in ("live", "deleted", "found"))
        columns = f"{states}, sum(size), sum(confidence >= 0.9), avg(confidence)"
        rows = self._run(
            f"SELECT {TALLIES[by]} AS what, {columns} FROM findings WHERE {where} GROUP BY what ORDER BY what", values
        )
        with self._reading():
            return [tally_of(row) for row in rows]

    def summary(self) -> list[tuple[str, int, int, int, int, int]]:
        """For each group: findings that are live, deleted, found; bytes of the last two that have a place,
        and those 0.9 sure or more."""
        states = ", ".join(f"sum(state = '{state}')" for state in ("live", "deleted", "found"))
        lost = "sum((state != 'live' AND start IS NOT NULL) * size), sum(state != 'live' AND confidence >= 0.9)"
        rows = self._run(f"SELECT grp, {states}, {lost} FROM findings GROUP BY grp ORDER BY grp")
        with self._reading():
            return [(str(group), *map(int, counts)) for group, *counts in rows]  # type: ignore[misc]

    def counts(self) -> dict[str, int]:
        """Findings by state."""
        rows = self._run("SELECT state, count(*) FROM findings GROUP BY state ORDER BY state")
        with self._reading():
            return {str(state): int(count) for state, count in rows}


def remove_scan_file(path: Path) -> None:
    """Take a scan file away, with what SQLite keeps beside it; raises ScanFileError where something else is there."""
    if not path.exists():
        return
    if not is_scan_file(path):
        raise ScanFileError(f"{path}: is no scan file: --replace replaces nothing else, name another --out")
    for one in (path, _journal(path)):
        try:
            one.unlink(missing_ok=True)
        except OSError as error:
            raise ScanFileError(f"{path}: cannot be replaced: {system_words(error)}") from error


def _journal(path: Path) -> Path:
    return path.with_name(path.name + "-journal")


def _opened(path: Path, mode: str) -> tuple[sqlite3.Connection, int, int]:
    """A connection, with the application and the version that the file names. Raises sqlite3.Error."""
    from urllib.parse import quote

    db = sqlite3.connect(f"file:{quote(os.fsencode(path.resolve()))}?mode={mode}", uri=True, timeout=10)
    try:
        application, version = (
            db.execute(f"PRAGMA {name}").fetchone()[0] for name in ("application_id", "user_version")
        )
        db.execute("SELECT count(*) FROM sqlite_master").fetchone()
    except (sqlite3.Error, ValueError) as error:
        db.close()
        raise error if isinstance(error, sqlite3.Error) else sqlite3.DatabaseError(str(error)) from error
    return db, application, version


def _opened_after_a_kill(path: Path) -> tuple[sqlite3.Connection, int, int]:
    """The same of a file whose writer was killed; a copy of one that cannot be written here."""
    try:
        return _opened(path, "rw")
    except sqlite3.Error:
        with tempfile.TemporaryDirectory(prefix="sastrugi-") as folder:
            copy = Path(folder) / "copy.scan"
            shutil.copyfile(path, copy)
            shutil.copyfile(_journal(path), _journal(copy))
            found = _opened(copy, "rw")
            into = sqlite3.connect(":memory:")
            found[0].backup(into)
            found[0].close()
        return into, found[1], found[2]
