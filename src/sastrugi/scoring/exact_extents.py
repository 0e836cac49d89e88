"""Contents told by place alone: a finding that lies where a reference lay, of which nothing was written over since, is
that reference, and nobody need read a byte of it."""

from __future__ import annotations

from collections.abc import Sequence

from sastrugi.media import FileMap
from sastrugi.scoring.results import Result
from sastrugi.specimen.truth import TruthFile


class ExactPlaces:
    """The places of references that stand whole on the medium."""

    def __init__(self, files: Sequence[TruthFile]) -> None:
        self._digests: dict[FileMap, str] = {file.map: file.blake3 for file in files if file.untouched and file.size}

    def digest(self, result: Result) -> str | None:
        """The digest of a finding by its place; None if that does not tell (a claimed one never does)."""
        if result.medium is None:
            return None
        return self._digests.get(result.map)
