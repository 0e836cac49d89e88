"""Which reference files are scored: the lost ones, unless told otherwise."""

from __future__ import annotations

import fnmatch
import re
from collections.abc import Callable
from dataclasses import dataclass

from sastrugi.errors import SastrugiError
from sastrugi.specimen.truth import Truth, TruthFile

_LIFE = re.compile(r"life\s+(\d+)")


@dataclass(frozen=True, slots=True)
class FileSet:
    """A set by its name; `standing` says whether files can be in it that were never lost."""

    name: str
    takes: Callable[[TruthFile], bool]
    standing: bool = False


def parse_set(text: str, truth: Truth) -> FileSet:
    """`lost`, `all`, `deleted`, `life N`, or a pattern of lost names or paths; raises SastrugiError for none."""
    words = text.strip()
    life = _LIFE.fullmatch(words)
    if words == "lost":
        chosen = FileSet(words, lambda file: file.lost)
    elif words == "all":
        chosen = FileSet(words, lambda file: file.lost or (file.standing and file.role == "reference"), True)
    elif words == "deleted":
        chosen = FileSet(words, lambda file: file.lost and file.end == "deleted")
    elif life:
        number = int(life[1])
        chosen = FileSet(words, lambda file: file.life == number and file.role == "reference" and file.kept, True)
    else:
        pattern = re.compile(fnmatch.translate(words), re.IGNORECASE)
        chosen = FileSet(
            words, lambda file: file.lost and bool(pattern.match(file.name) or pattern.match(file.path.lstrip("/")))
        )
    if words != "lost" and not any(chosen.takes(file) for file in truth.files):
        lives = sorted({file.life for file in truth.files})
        raise SastrugiError(
            f"no file of this specimen is in the set '{words}': there are lost, all, deleted, "
            f"{', '.join(f'life {n}' for n in lives)}, and patterns such as '*.jpg'"
        )
    return chosen
