"""What is scored: the files of a results folder, or the findings of a scan file."""

from __future__ import annotations

import datetime as dt
import fnmatch
import os
import re
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

from sastrugi.errors import SastrugiError, system_words
from sastrugi.media import FileMap, Medium
from sastrugi.recovery.manifest import MANIFEST, MANIFEST_HEAD
from sastrugi.recovery.scan_file import ScanFile, medium_identity
from sastrugi.recovery.select import Selection
from sastrugi.scoring.claims import Claim, Claims, matched_claims
from sastrugi.specimen.digests import blake3_file, blake3_of

_PIECE = 4 << 20
_SHOWN = 100
"""Characters at the beginning and the end of a long path that are shown."""
_NOWHERE = FileMap()
Read = Callable[[int, int], bytes]
"""Bytes at a position, as many as asked for or as there are."""


@dataclass(slots=True)
class Result:
    """One result: its path below the results folder (or a finding's path) and its size. Its bytes are in `file`; or, of
    a finding (whose number is `finding`), where `map` says on `medium`. Of a file, `map` is what the program says."""

    number: int
    path: str
    size: int
    file: str | None = None
    map: FileMap = _NOWHERE
    modified: dt.datetime | None = None
    confidence: float | None = None
    claimed_path: str = ""
    finding: int = 0
    medium: Medium | None = None

    @property
    def named(self) -> str:
        """The path whose name is scored: what the program says the file was called, or else the result's own."""
        return self.claimed_path or self.path

    @contextmanager
    def opened(self) -> Iterator[Read]:
        """A function of position and length that reads its bytes, wherever they are. Raises OSError."""
        medium = self.medium
        if medium is not None:
            yield lambda position, length: self.map.read(medium, position, length)
            return
        assert self.file is not None
        with Path(self.file).open("rb") as file:

            def read(position: int, length: int) -> bytes:
                if length <= 0:
                    return b""
                file.seek(position)
                return file.read(length)

            yield read

    def read_into(self, buffer: memoryview) -> int:
        """Fill `buffer` with its first bytes and answer how many came. Raises OSError."""
        if self.file is not None:
            handle = os.open(self.file, os.O_RDONLY | getattr(os, "O_BINARY", 0))
            try:
                return os.readv(handle, [buffer])
            finally:
                os.close(handle)
        with self.opened() as read:
            data = read(0, len(buffer))
        buffer[: len(data)] = data
        return len(data)

    def blake3(self) -> str:
        """The digest of its bytes. Raises OSError."""
        if self.file is not None:
            return blake3_file(Path(self.file))
        with self.opened() as read:
            return blake3_of(read(at, _PIECE) for at in range(0, self.size, _PIECE))


@dataclass(frozen=True, slots=True)
class Folder:
    """What is in a folder of results, and which of its folders could not be read; and how many rows a table of claims
    has, and how many of them are of these results; and how many files were left out."""

    results: list[Result]
    unreadable: list[str]
    table_rows: int = 0
    table_matched: int = 0
    left_out: int = 0


def read_folder(folder: Path, claims: Claims, leave_out: Sequence[str] = ()) -> Folder:
    """Every regular file below `folder`, links not followed; our own manifest is no result, nor is what fits a pattern
    of `leave_out` by its name or by its path below the folder. `claims` are what the program says of them."""
    files: list[tuple[tuple[str, ...], str, os.stat_result]] = []
    unreadable: list[str] = []
    waiting: list[tuple[str, ...]] = [()]
    while waiting:
        parts = waiting.pop()
        try:
            with os.scandir(folder.joinpath(*parts)) as entries:
                for entry in entries:
                    if entry.is_dir(follow_symlinks=False):
                        waiting.append((*parts, entry.name))
                    elif entry.is_file(follow_symlinks=False):
                        files.append(((*parts, entry.name), entry.path, entry.stat(follow_symlinks=False)))
        except OSError as error:
            told = _told(parts) or "."
            if len(told) > 2 * _SHOWN:
                told = f"{told[:_SHOWN]} … {told[-_SHOWN:]}"
            unreadable.append(f"{told}: {system_words(error)}")
    files.sort(key=lambda item: item[0])
    if leave_out:
        fits = re.compile("|".join(map(fnmatch.translate, leave_out)))
        kept = [one for one in files if not (fits.match(one[0][-1]) or fits.match(_told(one[0])))]
        left, files = len(files) - len(kept), kept
    else:
        left = 0
    out: list[Result] = []
    unsaid = Claim()
    matched = matched_claims(claims.by_path, {_told(parts) for parts, _, _ in files})
    for parts, path, status in files:
        if parts == (MANIFEST,) and _is_manifest(path):
            continue
        name = _told(parts)
        said = matched.get(name, unsaid)
        when = None if said.no_time else said.modified or _moment(status.st_mtime)
        out.append(Result(0, name, status.st_size, path, said.map, when, said.confidence, said.original_path))
    return Folder(in_order(out), sorted(unreadable), claims.rows, len(matched), left)


def in_order(results: list[Result]) -> list[Result]:
    """The results numbered by their names, so that of equals the same one is taken however they came."""
    results.sort(key=lambda result: (result.named.lstrip("/"), result.path))
    for n, result in enumerate(results):
        result.number = n
    return results


def _told(parts: tuple[str, ...]) -> str:
    """A path as it is told: names that are no Unicode have marks in place of what is none."""
    return "/".join(parts).encode("utf-8", "replace").decode()


def _moment(seconds: float) -> dt.datetime | None:
    try:
        return dt.datetime.fromtimestamp(seconds)
    except (ValueError, OverflowError, OSError):
        return None


def _is_manifest(path: str) -> bool:
    try:
        with Path(path).open("rb") as file:
            return file.read(64).startswith(MANIFEST_HEAD.encode())
    except OSError:
        return False


def read_findings(path: Path, selection: Selection, medium: Medium) -> list[Result]:
    """The findings of a scan of `medium` that a selection takes, as results that nobody extracted."""
    with ScanFile.open(path) as scan:
        if scan.get("medium_identity") != medium_identity(medium):
            raise SastrugiError(f"{path}: is a scan of another medium than this specimen's, or one of them has changed")
        return in_order(
            [
                Result(
                    0,
                    finding.path.lstrip("/"),
                    finding.covered,
                    None,
                    finding.map.head(finding.covered),
                    finding.times.modified,
                    finding.confidence,
                    finding=finding.number,
                    medium=medium,
                )
                for finding in selection.iterate(scan, "number")
                if not finding.placeless
            ]
        )
