"""Bring findings back as files, to another place, without ever overwriting or leaving the destination."""

from __future__ import annotations

import contextlib
import errno
import hashlib
import os
import shutil
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from pathlib import Path

from blake3 import blake3

from sastrugi.errors import DestinationError, DestinationFull, Interrupted, ScanFileError, system_words
from sastrugi.media import Medium
from sastrugi.media.opening import SPECIMEN_IMAGE
from sastrugi.progress import Progress
from sastrugi.recovery.findings import Finding
from sastrugi.recovery.manifest import FIELDS, MANIFEST, Manifest, read_manifest
from sastrugi.recovery.names import safe_name, with_number
from sastrugi.recovery.safe_destination import Destination, counted_names, give_name
from sastrugi.recovery.scan_file import ScanFile, medium_identity
from sastrugi.safety import require_empty, require_outside
from sastrugi.units import format_size, printable

_TEMPORARY = ".sastrugi-{}.partial"
_CHUNK = 1 << 20
_ZEROS = bytes(_CHUNK)


@dataclass(frozen=True, slots=True)
class ExtractOptions:
    """How files are brought back.

    `arrange`: `tree` (the folders they had), `kind` (one folder a kind) or `flat`. `names`: a second file of one name
    is counted (`count`), gets its number in the scan (`number`), or is left out (`skip`). `fill`: bytes that cannot be
    read become zeros; otherwise such files are left out. `holes`: also files with more bytes that stand nowhere than
    the whole medium has. `sha256`: also this digest.
    """

    arrange: str = "tree"
    names: str = "count"
    fill: bool = True
    sha256: bool = False
    holes: bool = False


@dataclass(slots=True)
class ExtractSummary:
    """Counts of an extraction: what was written, of it what has a changed name, is shorter than its record says or
    reaches over unreadable sectors; and what was not written: there from an earlier run, without a place on the medium,
    left out for its name, for unreadable sectors, for its holes."""

    files: int = 0
    bytes: int = 0
    renamed: int = 0
    short: int = 0
    unreadable: int = 0
    skipped: int = 0
    placeless: int = 0
    clashed: int = 0
    left_out: int = 0
    hollow: int = 0


def check_destination(destination: Path, medium_path: Path, go_on: bool) -> None:
    """Raise DestinationError if files must not be written there."""
    require_outside(destination, medium_path, "the medium")
    if medium_path.name == SPECIMEN_IMAGE:
        require_outside(destination, medium_path.parent, "the folder of the specimen")
    if not go_on and (destination / MANIFEST).is_file():
        raise DestinationError(
            f"{destination}: holds what an earlier run wrote: add --go-on to continue it, --replace to write it anew, "
            "or name another folder"
        )
    if not go_on:
        require_empty(destination, "files brought back")
    elif not (destination / MANIFEST).is_file():
        raise DestinationError(f"{destination}: holds no {MANIFEST} of an earlier run to go on from: leave --go-on out")


def is_extracted(destination: Path) -> Callable[[str], bool]:
    """Tells by their paths which files below a folder an extraction wrote there: those that its manifest lists."""
    listed = set(read_manifest(destination / MANIFEST).values()) if (destination / MANIFEST).is_file() else set()
    return lambda path: path == MANIFEST or path in listed


def check_medium(scan_file: ScanFile, medium: Medium) -> None:
    """Raise ScanFileError if the medium is not the one that was scanned, or has changed."""
    if scan_file.get("medium_identity") != medium_identity(medium):
        raise ScanFileError(
            f"{medium.path}: is not the medium that was scanned, or has changed since: "
            "scan it again, or name the right one with --medium"
        )


def extract(
    medium: Medium,
    findings: list[Finding],
    destination: Path,
    progress: Progress,
    go_on: bool = False,
    manner: ExtractOptions | None = None,
) -> ExtractSummary:
    """Write `findings` below `destination`, with a manifest. Call `check_destination` and `check_medium` first.

    A run that was killed and goes on gives the same tree and the same manifest as one that was not.
    """
    done = read_manifest(destination / MANIFEST) if go_on else {}
    todo = [finding for finding in findings if not finding.placeless and finding.number not in done]
    placeless = sum(finding.placeless for finding in findings)
    out = ExtractSummary(skipped=len(findings) - len(todo) - placeless, placeless=placeless)
    manner = manner or ExtractOptions()
    if not manner.holes:
        hollow = {finding.number for finding in todo if _empty(finding) > medium.size}
        out.hollow = len(hollow)
        todo = [finding for finding in todo if finding.number not in hollow]
    needed = sum(finding.covered for finding in todo)
    try:
        with Destination(destination) as folder:
            free = shutil.disk_usage(destination).free
            if needed > free:
                raise DestinationError(
                    f"{destination}: {format_size(needed)} are needed, {format_size(free)} are free: "
                    "choose another place or fewer files"
                )
            progress.start("extract", needed)
            with Manifest(folder.handle, fresh=not go_on) as manifest:
                run = _Run(medium, folder, manner, set(done.values()), out)
                for finding in todo:
                    progress.check()
                    row = run.bring(finding)
                    if row is not None:
                        manifest.add(row)
                    progress.at(out.bytes, f"{out.files:,} files")
            progress.finish()
    except (KeyboardInterrupt, Interrupted):
        raise Interrupted(f"stopped; {out.files:,} files are written and listed in {destination / MANIFEST}") from None
    except OSError as error:
        told = f"{destination}: cannot be written: {system_words(error)}; what {MANIFEST} lists is whole"
        if error.errno in (errno.ENOSPC, errno.EDQUOT, errno.EFBIG):
            raise DestinationFull(f"{told} ({out.files:,} files): make room, then go on") from error
        raise DestinationError(told) from error
    return out


def _empty(finding: Finding) -> int:
    """Bytes of a finding that stand nowhere: a record of a few bytes can tell of any number."""
    return sum(length for _, length, _ in finding.map.head(finding.covered).nowhere())


class _Run:
    """One extraction; `listed` are the files of the manifest so far."""

    def __init__(
        self, medium: Medium, folder: Destination, manner: ExtractOptions, listed: set[str], out: ExtractSummary
    ) -> None:
        self._medium, self._folder, self._manner, self._listed, self._out = medium, folder, manner, listed, out
        self._counts: dict[str, list[int]] = {}
        """For each name: up to which number it was given, so that the next of thousands does not begin anew."""

    def bring(self, finding: Finding) -> dict[str, object] | None:
        """Write one finding; its row of the manifest, or None if it was left out."""
        out = self._out
        lost = sum(map(self._medium.unreadable.count, finding.extents))
        if lost and not self._manner.fill:
            out.left_out += 1
            return None
        parts = self._parts(finding)
        folders = [safe_name(part) for part in parts]
        name = safe_name(finding.name)
        folder, used = self._folder.open_folder(folders)
        try:
            temporary = _TEMPORARY.format(finding.number)
            with contextlib.suppress(FileNotFoundError):  # a leftover of a killed run
                os.unlink(temporary, dir_fd=folder)
            digests, written = self._write(finding, temporary, folder)
            lost = sum(map(self._medium.unreadable.count, finding.extents))
            if lost and not self._manner.fill:  # which nobody knew before it was read
                os.unlink(temporary, dir_fd=folder)
                out.left_out += 1
                return None
            prefix = "".join(f"{part}/" for part in used)
            names = self._names(prefix, name, finding)
            final = give_name(folder, temporary, names, lambda n: f"{prefix}{n}" in self._listed)
        finally:
            os.close(folder)
        if not final:
            out.clashed += 1
            return None
        self._listed.add(f"{prefix}{final}")
        notes = []
        if folders != parts or used != folders or final != finding.name:
            notes.append("name changed")
            out.renamed += 1
        if written < finding.size:
            notes.append(f"only {written} bytes have a place on the medium")
            out.short += 1
        if lost:
            notes.append(f"{lost} bytes could not be read and are zeros")
            out.unreadable += 1
        out.files += 1
        out.bytes += written
        values = (
            finding.number, f"{prefix}{final}", written, *digests, f"{finding.confidence:.4f}",
            printable(finding.path), finding.times.modified or "", finding.map.text(), "; ".join(notes),
        )  # fmt: skip
        return dict(zip(FIELDS, values, strict=True))

    def _parts(self, finding: Finding) -> list[str]:
        if self._manner.arrange == "flat":
            return []
        if self._manner.arrange == "kind":
            return [finding.group, finding.kind]
        return [part for part in finding.folder.split("/") if part]

    def _names(self, prefix: str, name: str, finding: Finding) -> Iterable[str]:
        if self._manner.names == "count":
            return counted_names(name, self._counts.setdefault(f"{prefix}{name}", [1]))
        if self._manner.names == "number":
            return (name, with_number(name, finding.number))
        return (name,)

    def _write(self, finding: Finding, name: str, folder: int) -> tuple[tuple[str, str], int]:
        fast, slow = blake3(), hashlib.sha256() if self._manner.sha256 else None
        written = 0
        handle = os.open(name, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW, 0o644, dir_fd=folder)
        try:
            for data in finding.map.head(finding.covered).chunks(self._medium, _CHUNK):
                fast.update(data)
                if slow is not None:
                    slow.update(data)
                written += len(data)
                if data == _ZEROS[: len(data)]:
                    os.lseek(handle, len(data), os.SEEK_CUR)  # a hole costs no room
                    continue
                view = memoryview(data)
                while view:
                    view = view[os.write(handle, view) :]
            os.truncate(handle, written)
            if finding.times.modified:
                moment = finding.times.modified.timestamp()
                os.utime(handle, (moment, moment))
        except OSError:
            with contextlib.suppress(OSError):
                os.unlink(name, dir_fd=folder)
            raise
        finally:
            os.close(handle)
        return (fast.hexdigest(), slow.hexdigest() if slow is not None else ""), written
