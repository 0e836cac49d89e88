"""Recycle bins: the index file of a binned file tells its right name and place.

Windows keeps the content as `$Rxxxxxx.ext` and beside it `$Ixxxxxx.ext`: a version (8 bytes), the size (8), the time of
deletion (8), then the path: 520 bytes in version 1, behind its length in characters (4 bytes) in version 2. Linux keeps
the content in `files` and beside that, in `info`, `NAME.trashinfo`: lines of text, of which `Path=` tells the path from
the volume's root, percent-encoded (FreeDesktop.org Trash Specification 1.0, "Contents of a trash directory").
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace
from pathlib import PurePosixPath, PureWindowsPath
from urllib.parse import unquote

from sastrugi.media import Medium
from sastrugi.recovery.evidence import Clue, evidence
from sastrugi.recovery.findings import Finding

_CONTENT = re.compile(r"[$_]R([A-Z0-9]{6})(\..*)?", re.IGNORECASE)
_INDEX = re.compile(r"[$_]I([A-Z0-9]{6})(\..*)?", re.IGNORECASE)
_INFO = re.compile(r"(.+)\.trashinfo", re.IGNORECASE)
_INFO_PATH = re.compile(rb"\[Trash Info\]\r?\n(?:[^\n]{0,4096}\n){0,4}?Path=([^\r\n]{1,16384})")
_HEAD, _PATH_1 = 24, 520
LARGEST_INDEX = 28 + 2 * 32768


def read_index(data: bytes) -> tuple[int, tuple[str, ...]] | None:
    """Size and path (without the drive) that an index file tells, or None if it is none."""
    if len(data) < _HEAD + 4:
        return None
    version, size = int.from_bytes(data[:8], "little"), int.from_bytes(data[8:16], "little")
    if version == 1:
        text = data[_HEAD : _HEAD + _PATH_1]
    elif version == 2:
        count = int.from_bytes(data[_HEAD : _HEAD + 4], "little")
        text = data[_HEAD + 4 : _HEAD + 4 + 2 * count]
        if not count or len(text) < 2 * count:
            return None
    else:
        return None
    path = text[: len(text) & ~1].decode("utf-16-le", "replace").partition("\0")[0]
    parts = PureWindowsPath(path).parts[1:] if PureWindowsPath(path).drive else PureWindowsPath(path).parts
    return (size, tuple(parts)) if parts and "\ufffd" not in path else None


@dataclass(frozen=True, slots=True)
class Told:
    """What an index tells: the right path, and the size if the index has it (of a folder it means nothing)."""

    path: tuple[str, ...]
    size: int | None = None


class Indexes:
    """What the index files of all bins tell, by the folder and the name of the content."""

    def __init__(self, medium: Medium, findings: Iterable[Finding]) -> None:
        self._told: dict[tuple[str, str], Told] = {}
        self._own: set[tuple[object, ...]] = set()
        for finding in findings:
            windows, linux = _INDEX.fullmatch(finding.name), _INFO.fullmatch(finding.name)
            if finding.placeless or not _HEAD < finding.size <= LARGEST_INDEX:
                continue
            if windows:
                found = read_index(finding.map.read(medium, 0, finding.size))
                if found is not None:
                    self._own.add(_key(finding))
                    self._told[finding.folder, f"$r{windows[1].lower()}"] = Told(found[1], found[0])
            elif linux and finding.folder.endswith("/info"):
                path = read_trash_info(finding.map.read(medium, 0, finding.size))
                if path is not None:
                    self._told[f"{finding.folder.removesuffix('/info')}/files", linux[1].casefold()] = Told(path)
        # The same by what a deletion leaves of short names; None where it leaves two alike.
        self._marked: dict[tuple[str, str], Told | None] = {}
        for (folder, name), told in self._told.items():
            key = folder, name[1:]
            self._marked[key] = None if key in self._marked else told
        self._by_path = {_tails(told.path): told.path for told in self._told.values()}
        self._depths = {len(path) for path in self._by_path}

    def __contains__(self, finding: Finding) -> bool:
        """Whether a finding is an index of Windows, whatever kind of file its name calls for."""
        return _key(finding) in self._own

    def of(self, folder: str, name: str) -> Told | None:
        """Of something in a bin; its name may have lost its first character."""
        windows = _CONTENT.fullmatch(name)
        if windows:
            return self._told.get((folder, f"$r{windows[1].lower()}"))
        if name.startswith("_"):
            return self._marked.get((folder, name[1:].casefold()))
        return self._told.get((folder, name.casefold()))

    def path(self, finding: Finding) -> tuple[str, ...] | None:
        """The right path of a lost file that is in a bin, itself or with a folder above it."""
        if not self._told or finding.state == "live":
            return None
        own = self.of(finding.folder, finding.name)
        if own is not None and own.size in (None, finding.size):
            return own.path
        parts = [part for part in finding.folder.split("/") if part]
        for n, part in enumerate(parts):
            above = self.of("/" + "/".join(parts[:n]), part)
            if above is not None:
                return (*above.path, *parts[n + 1 :], finding.name)
        return self._by_old_record((*parts, finding.name))

    def _by_old_record(self, parts: tuple[str, ...]) -> tuple[str, ...] | None:
        """The path of what is still found where it stood before it went to the bin, first characters lost."""
        for depth in self._depths:
            own = parts[:depth]
            told = self._by_path.get(_tails(own))
            if told is not None and own != told and all(map(_like, own, told)):
                return (*told, *parts[depth:])
        return None


def _tails(path: tuple[str, ...]) -> tuple[str, ...]:
    """The names of a path without their first characters."""
    return tuple(name[1:].casefold() for name in path)


def _like(found: str, told: str) -> bool:
    """Whether a name is the one told, but for a first character that a deletion took."""
    return found == told or (found[:1] == "_" and found[1:].casefold() == told[1:].casefold())


def read_trash_info(data: bytes) -> tuple[str, ...] | None:
    """The path (from the root of the volume) that an index of a Linux bin tells, or None if it is none."""
    match = _INFO_PATH.match(data)
    parts = PurePosixPath(unquote(match[1].decode("ascii", "replace"))).parts if match else ()
    parts = tuple(part for part in parts if part != "/")
    return parts if parts and not any("\ufffd" in part for part in parts) else None


def with_bin_names(medium: Medium, findings: Iterable[Finding]) -> Iterator[Finding]:
    """The findings of a volume; lost files from a bin have the name and folder that their index tells. Of another
    record of the same bytes under the same name, only the one from the bin is kept."""
    every = list(findings)
    indexes = Indexes(medium, every)
    named: set[tuple[object, ...]] = set()
    out: list[Finding] = []
    for finding in every:
        if finding in indexes:
            finding = replace(finding, kind="other", group="data")
        path = indexes.path(finding)
        if path is not None:
            finding = _renamed(finding, path)
            named.add(_key(finding))
        out.append(finding)
    seen: set[tuple[object, ...]] = set()
    for finding in out:
        key = _key(finding)
        if key in named and finding.state != "live" and finding.size:
            if key in seen:
                continue
            seen.add(key)
        yield finding


def _key(finding: Finding) -> tuple[object, ...]:
    return finding.folder, finding.name, finding.map


def _renamed(finding: Finding, path: tuple[str, ...]) -> Finding:
    seen = [one for one in finding.evidence if not one.of_a_name]
    seen.append(evidence(Clue.NAME_BY_BIN, finding.path))
    folder = "/" + "/".join(path[:-1])
    return replace(finding, folder=folder, name=path[-1], name_sure=max(finding.name_sure, 0.97), evidence=seen)
