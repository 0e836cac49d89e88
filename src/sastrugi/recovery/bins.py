"""Recycle bins: the index file of a binned file tells its right name and place.

Windows keeps the content as `$Rxxxxxx.ext` and beside it `$Ixxxxxx.ext`: a version (8 bytes), the size (8), the time of
deletion (8), then the path: 520 bytes in version 1, behind its length in characters (4 bytes) in version 2.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from dataclasses import replace
from pathlib import PureWindowsPath

from sastrugi.media import Medium
from sastrugi.recovery.findings import Finding

_CONTENT = re.compile(r"[$_]R([A-Z0-9]{6})(\..*)?", re.IGNORECASE)
_INDEX = re.compile(r"[$_]I([A-Z0-9]{6})(\..*)?", re.IGNORECASE)
_HEAD, _PATH_1 = 24, 520
_LARGEST = 28 + 2 * 32768


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


def with_bin_names(medium: Medium, findings: Iterable[Finding]) -> Iterator[Finding]:
    """The findings of a volume; lost files from a bin have the name and folder that their index tells. Of another
    record of the same bytes under the same name, only the one from the bin is kept."""
    every = list(findings)
    told: dict[tuple[str, str], tuple[int, tuple[str, ...]]] = {}
    for finding in every:
        match = _INDEX.fullmatch(finding.name)
        if match and _HEAD < finding.size <= _LARGEST and finding.extents:
            index = read_index(medium.read_extents(finding.extents))
            if index is not None:
                told[finding.folder, match[1].upper()] = index
    named: set[tuple[object, ...]] = set()
    out: list[Finding] = []
    for finding in every:
        match = _CONTENT.fullmatch(finding.name)
        index = told.get((finding.folder, match[1].upper())) if match and finding.state != "live" else None
        if index is not None and index[0] == finding.size:
            finding = _renamed(finding, index[1])
            named.add((finding.folder, finding.name, finding.extents))
        out.append(finding)
    seen: set[tuple[object, ...]] = set()
    for finding in out:
        key = (finding.folder, finding.name, finding.extents)
        if key in named and finding.state != "live" and finding.size:
            if key in seen:
                continue
            seen.add(key)
        yield finding


def _renamed(finding: Finding, path: tuple[str, ...]) -> Finding:
    reasons = [reason for reason in finding.reasons if not reason.startswith("name:")]
    reasons.append(f"name: its index file in the bin tells it; it stood there as {finding.name}")
    folder = "/" + "/".join(path[:-1])
    return replace(finding, folder=folder, name=path[-1], name_sure=max(finding.name_sure, 0.97), reasons=reasons)
