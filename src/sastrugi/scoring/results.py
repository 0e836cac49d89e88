"""What is scored: the files of a results folder, or the findings of a scan file."""

from __future__ import annotations

import datetime as dt
from dataclasses import dataclass
from pathlib import Path

from sastrugi.errors import SastrugiError
from sastrugi.media import Extent, Medium
from sastrugi.recovery.findings import ScanFile, medium_identity
from sastrugi.recovery.manifest import MANIFEST, MANIFEST_HEAD
from sastrugi.recovery.select import Selection
from sastrugi.scoring.claims import Claim


@dataclass(frozen=True, slots=True)
class Result:
    """One result: its path below the results folder (or a finding's path), its size, and where its bytes are."""

    number: int
    path: str
    size: int
    file: Path | None = None
    extents: tuple[Extent, ...] = ()
    modified: dt.datetime | None = None
    confidence: float | None = None

    def head(self, length: int) -> bytes:
        """Its first bytes, where it is a file."""
        if self.file is None:
            return b""
        with self.file.open("rb") as file:
            return file.read(length)


def read_folder(folder: Path, claims: dict[str, Claim] | None = None) -> list[Result]:
    """Every regular file below `folder` that can be read, links not followed; our own manifest is no result. `claims`
    are what the program says of them."""
    if not folder.is_dir():
        raise SastrugiError(f"{folder}: is no folder of results: name the folder that holds the files brought back")
    out: list[Result] = []
    for path in sorted(folder.rglob("*")):
        if path.is_symlink() or not path.is_file():
            continue
        if path.parent == folder and path.name == MANIFEST and _is_manifest(path):
            continue
        name = str(path.relative_to(folder)).encode("utf-8", "replace").decode()
        status = path.stat()
        said = (claims or {}).get(name)
        modified = dt.datetime.fromtimestamp(status.st_mtime)
        out.append(Result(len(out), name, status.st_size, path, (), modified, said.confidence if said else None))
    return out


def _is_manifest(path: Path) -> bool:
    with path.open("rb") as file:
        return file.read(64).startswith(MANIFEST_HEAD.encode())


def read_findings(path: Path, selection: Selection, medium: Medium) -> list[Result]:
    """The findings of a scan of `medium` that a selection takes, as results that nobody extracted."""
    with ScanFile.open(path) as scan:
        if scan.get("medium_identity") != medium_identity(medium):
            raise SastrugiError(f"{path}: is a scan of another medium than this specimen's, or one of them has changed")
        return [
            Result(
                n,
                finding.path.lstrip("/"),
                finding.covered,
                None,
                finding.extents,
                finding.times.modified,
                finding.confidence,
            )
            for n, finding in enumerate(f for f in selection.iterate(scan, "number") if not f.placeless)
        ]
