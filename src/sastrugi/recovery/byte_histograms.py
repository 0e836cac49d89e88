"""Files whose content proves nothing, compared with others of the same folder and extension.

Loggers and cameras write files that are alike; one among them whose bytes are distributed otherwise was written over.
"""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass
from itertools import islice
from pathlib import PurePosixPath

import numpy as np
from numpy.typing import NDArray

from sastrugi.media import Medium
from sastrugi.recovery.findings import Finding
from sastrugi.recovery.scan_file import ScanFile

_LOOKED_AT = 64 << 10
_SHORTEST = 4096
_FEWEST, _SHARE = 4, 0.5
_TRUSTED = 0.7
_NEAR = 0.12
"""Total variation distance of two distributions of bytes; two samples of 24 KiB of one differ by half of it."""
_CENTRES, _MOST = 64, 4096
"""Files that others are compared with, and files of a folder that are looked at."""


@dataclass(frozen=True, slots=True)
class HistogramGroups:
    """Lost files that are like most of those beside them that can be trusted, and lost files that are not, by number,
    with the count of the trusted ones."""

    alike: dict[int, int]
    unlike: dict[int, int]

    @property
    def compared(self) -> set[int]:
        return {*self.alike, *self.unlike}


def compare(medium: Medium, scan_file: ScanFile) -> HistogramGroups:
    """Compare files of no known kind, of each folder that has lost ones and of each extension, with those of them that
    are live or not in doubt."""
    out = HistogramGroups({}, {})
    for volume, folder in scan_file.folders("kind = 'other' AND state = 'deleted' AND size > 0"):
        groups: dict[str, list[Finding]] = defaultdict(list)
        of_folder = "kind = 'other' AND size >= ? AND folder = ? AND volume IS ?"
        for finding in islice(scan_file.findings(of_folder, (_SHORTEST, folder, volume)), _MOST):
            if finding.extents:
                groups[PurePosixPath(finding.name).suffix.lower()].append(finding)
        for group in groups.values():
            _compare(medium, group, out)
    return out


def _compare(medium: Medium, group: list[Finding], out: HistogramGroups) -> None:
    if len(group) < _FEWEST or all(finding.state == "live" for finding in group):
        return
    trusted = np.array([finding.state == "live" or finding.confidence >= _TRUSTED for finding in group])
    near = _nearest(np.array([_distribution(medium, finding) for finding in group]), trusted)
    count = int((near & trusted).sum())
    if count >= max(_FEWEST, _SHARE * trusted.sum()):
        for finding, is_near in zip(group, near, strict=True):
            if finding.state != "live":
                (out.alike if is_near else out.unlike)[finding.number] = count


def _distribution(medium: Medium, finding: Finding) -> NDArray[np.float32]:
    data = finding.map.read(medium, 0, min(finding.size, _LOOKED_AT))
    counts = np.bincount(np.frombuffer(data, np.uint8), minlength=256)
    return (counts / max(len(data), 1)).astype(np.float32)


def _nearest(rows: NDArray[np.float32], trusted: NDArray[np.bool_]) -> NDArray[np.bool_]:
    """Which rows, shape (findings, 256), are near the trusted one (of a sample) that has the most trusted near it."""
    best = np.zeros(len(rows), bool)
    centres = np.flatnonzero(trusted)
    for n in centres[:: max(len(centres) // _CENTRES, 1)].tolist():
        near = np.abs(rows - rows[n]).sum(axis=1) / 2 < _NEAR
        if (near & trusted).sum() > (best & trusted).sum():
            best = near
    return best
