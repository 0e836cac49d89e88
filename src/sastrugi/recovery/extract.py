"""Bring findings back as files, to another place, without ever overwriting or leaving the destination.

Folders are opened one by one without following links; a file is written under a temporary name and then linked to
its own, which fails rather than replace anything.
"""

from __future__ import annotations

import contextlib
import csv
import errno
import hashlib
import io
import os
import shutil
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path

from sastrugi.errors import DestinationError, Interrupted, ScanFileError
from sastrugi.media import Medium
from sastrugi.media.opening import SPECIMEN_IMAGE
from sastrugi.progress import Progress
from sastrugi.recovery.findings import Finding, ScanFile, medium_identity
from sastrugi.recovery.names import numbered, safe_name, shortened
from sastrugi.safety import require_empty, require_outside
from sastrugi.units import format_size, printable

MANIFEST = "manifest.csv"
_FIELDS = ("finding", "file", "size", "sha256", "confidence", "original_path", "extents", "note")
_TEMPORARY = ".sastrugi-{}.partial"
_CHUNK = 1 << 20
_MOST_CLASHES = 10_000


@dataclass(slots=True)
class Extracted:
    """Counts of an extraction."""

    files: int = 0
    bytes: int = 0
    renamed: int = 0
    short: int = 0
    skipped: int = 0
    placeless: int = 0


def check_destination(destination: Path, medium_path: Path, go_on: bool) -> None:
    """Raise DestinationError if files must not be written there."""
    require_outside(destination, medium_path, "the medium")
    if medium_path.name == SPECIMEN_IMAGE:
        require_outside(destination, medium_path.parent, "the folder of the specimen")
    if not go_on:
        require_empty(destination, "files brought back")
    elif not (destination / MANIFEST).is_file():
        raise DestinationError(f"{destination}: holds no {MANIFEST} of an earlier run to go on from: leave --go-on out")


def check_medium(scan_file: ScanFile, medium: Medium) -> None:
    """Raise ScanFileError if the medium is not the one that was scanned, or has changed."""
    if scan_file.get("medium_identity") != medium_identity(medium):
        raise ScanFileError(
            f"{medium.path}: is not the medium that was scanned, or has changed since: "
            "scan it again, or name the right one with --medium"
        )


def extract(
    medium: Medium, findings: list[Finding], destination: Path, progress: Progress, go_on: bool = False
) -> Extracted:
    """Write `findings` below `destination`, with a manifest. Call `check_destination` and `check_medium` first."""
    done = _read_manifest(destination / MANIFEST) if go_on else set()
    todo = [finding for finding in findings if not finding.placeless and finding.number not in done]
    needed = sum(finding.covered for finding in todo)
    placeless = sum(finding.placeless for finding in findings)
    out = Extracted(skipped=len(findings) - len(todo) - placeless, placeless=placeless)
    try:
        destination.mkdir(parents=True, exist_ok=True)
        free = shutil.disk_usage(destination).free
        if needed > free:
            raise DestinationError(
                f"{destination}: {format_size(needed)} are needed, {format_size(free)} are free: "
                "choose another place or fewer files"
            )
        root = os.open(destination, os.O_RDONLY | os.O_DIRECTORY)
    except OSError as error:
        raise DestinationError(f"{destination}: cannot be used: {error.strerror}") from error
    progress.start("extract", needed)
    try:
        with _Manifest(root, fresh=not go_on) as manifest:
            for finding in todo:
                progress.check()
                manifest.add(_extract_one(medium, finding, root, out))
                progress.at(out.bytes, f"{out.files:,} files")
    except (KeyboardInterrupt, Interrupted):
        raise Interrupted(f"stopped; {out.files:,} files are written and listed in {destination / MANIFEST}") from None
    except OSError as error:
        raise DestinationError(
            f"{destination}: cannot be written: {error.strerror}; what is listed in {MANIFEST} is whole"
        ) from error
    finally:
        os.close(root)
    progress.finish()
    return out


def _extract_one(medium: Medium, finding: Finding, root: int, out: Extracted) -> dict[str, object]:
    parts = [part for part in finding.folder.split("/") if part]
    folders = [safe_name(part) for part in parts]
    name = safe_name(finding.name)
    changed = folders != parts or name != finding.name
    folder, used = _open_folder(root, folders)
    notes = []
    try:
        temporary = _TEMPORARY.format(finding.number)
        with contextlib.suppress(FileNotFoundError):  # a leftover of a killed run
            os.unlink(temporary, dir_fd=folder)
        digest, written = _write(medium, finding, temporary, folder)
        final = _link(temporary, name, folder)
    finally:
        os.close(folder)
    changed |= final != name or used != folders
    path = "/".join((*used, final))
    if changed:
        notes.append("name changed")
        out.renamed += 1
    if written < finding.size:
        notes.append(f"only {written} bytes have a place on the medium")
        out.short += 1
    out.files += 1
    out.bytes += written
    extents = " ".join(f"{offset}+{length}" for offset, length in finding.extents)
    values = (
        finding.number,
        path,
        written,
        digest,
        f"{finding.confidence:.4f}",
        printable(finding.path),
        extents,
        "; ".join(notes),
    )
    return dict(zip(_FIELDS, values, strict=True))


def _write(medium: Medium, finding: Finding, name: str, folder: int) -> tuple[str, int]:
    digest = hashlib.sha256()
    written = 0
    handle = os.open(name, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW, 0o644, dir_fd=folder)
    with os.fdopen(handle, "wb") as file:
        for offset, length in finding.extents:
            for at in range(offset, offset + length, _CHUNK):
                data = medium.read(at, min(_CHUNK, offset + length - at))
                digest.update(data)
                file.write(data)
                written += len(data)
        file.flush()
        if finding.times.modified:
            moment = finding.times.modified.timestamp()
            os.utime(file.fileno(), (moment, moment))
    return digest.hexdigest(), written


def _link(temporary: str, name: str, folder: int) -> str:
    """Give the file its name, or the next free numbered one; answers which."""
    final = name
    for number in range(2, _MOST_CLASHES):
        try:
            os.link(temporary, final, src_dir_fd=folder, dst_dir_fd=folder, follow_symlinks=False)
            os.unlink(temporary, dir_fd=folder)
            return final
        except FileExistsError:
            final = numbered(name, number)
    raise DestinationError(f"{name}: {_MOST_CLASHES:,} files of this name are there already")


def _open_folder(root: int, parts: Iterable[str]) -> tuple[int, list[str]]:
    """Open (or make) a folder below `root`; a component that is a file or a link is passed by under another name."""
    at = os.dup(root)
    used: list[str] = []
    for part in parts:
        chosen = shortened(part, 200) if len(part.encode()) > 250 else part
        for number in range(2, _MOST_CLASHES):
            with contextlib.suppress(FileExistsError):
                os.mkdir(chosen, dir_fd=at)
            try:
                below = os.open(chosen, os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW, dir_fd=at)
                break
            except OSError as error:
                if error.errno not in (errno.ENOTDIR, errno.ELOOP):  # a file or a link stands there
                    raise
                chosen = numbered(part, number)
        else:
            raise DestinationError(f"{part}: no folder of this name can be made")
        os.close(at)
        at = below
        used.append(chosen)
    return at, used


class _Manifest:
    """The list of what was written; a line stands in it only when its file is whole."""

    def __init__(self, root: int, fresh: bool) -> None:
        flags = os.O_WRONLY | os.O_CREAT | os.O_NOFOLLOW | (os.O_EXCL if fresh else os.O_APPEND)
        self._file = os.fdopen(
            os.open(MANIFEST, flags, 0o644, dir_fd=root), "w" if fresh else "a", encoding="utf-8", newline=""
        )
        self._fresh = fresh

    def __enter__(self) -> _Manifest:
        if self._fresh:
            self._put(_FIELDS)
        return self

    def __exit__(self, *_: object) -> None:
        self._file.close()

    def add(self, row: dict[str, object]) -> None:
        self._put([row[field] for field in _FIELDS])

    def _put(self, values: Iterable[object]) -> None:
        line = io.StringIO()
        csv.writer(line, lineterminator="\n").writerow(values)
        self._file.write(line.getvalue())
        self._file.flush()


def _read_manifest(path: Path) -> set[int]:
    """Numbers of the findings a manifest lists; a last line that was cut by a kill does not count."""
    try:
        with path.open(encoding="utf-8", newline="") as file:
            text = file.read()
    except (OSError, UnicodeDecodeError) as error:
        raise DestinationError(f"{path}: cannot be read: {error}") from error
    whole = text[: text.rfind("\n") + 1]
    if len(whole) < len(text):
        path.write_text(whole, encoding="utf-8", newline="")
    rows = csv.DictReader(io.StringIO(whole))
    return {int(row["finding"]) for row in rows if row.get("finding", "").isdigit()}
