"""Where the bytes of originals and results are, in a form that child processes can open."""

from __future__ import annotations

from pathlib import Path

from sastrugi.recovery.temp_copy import TempCopy, plain_suffix
from sastrugi.scoring.results import Result
from sastrugi.specimen.truth import Specimen, TruthFile

Source = Path | TempCopy


def original_of(specimen: Specimen, file: TruthFile) -> Source:
    where = specimen.original_at(file)
    return where if isinstance(where, Path) else TempCopy(specimen.medium.path, where, plain_suffix(file.name))


def size_of(source: Source) -> int:
    """Its bytes; 0 where it is gone."""
    if isinstance(source, Path):
        return source.stat().st_size if source.is_file() else 0
    return source.map.reach


def bytes_of(specimen: Specimen, result: Result, name: str) -> Source:
    """Those of a result; `name` ends as its kind asks."""
    return Path(result.file) if result.file else TempCopy(specimen.medium.path, result.map, plain_suffix(name))
