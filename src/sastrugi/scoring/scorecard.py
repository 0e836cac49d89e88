"""The scorecard: a verdict per reference file, a class per result, and the figures (docs/formats/scorecard.md)."""

from __future__ import annotations

from math import sqrt
from typing import Literal

from pydantic import BaseModel, ConfigDict

from sastrugi.scoring.names import NameWord

SCORECARD_VERSION = 1
_Z95 = 1.959963984540054

ContentVerdict = Literal["intact", "padded", "cut", "mixed", "foreign", "missing"]
ResultClass = Literal["reference", "live", "stale", "copy", "fragment", "noise"]


class _Value(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)


class FileScore(_Value):
    """What came back of one reference file. `damage` holds one letter a 512-byte block, run-length coded."""

    id: int
    path: str
    kind: str
    size: int
    content: ContentVerdict
    completeness: float
    name: NameWord
    result: str | None
    first_wrong: int | None
    damage: str
    ceiling_bytes: float
    ceiling_name: str
    beyond_ceiling: bool
    reason: str

    @property
    def intact(self) -> bool:
        return self.content == "intact"

    @property
    def named(self) -> bool:
        return self.name == "full"


class ResultScore(_Value):
    """One result and what it is; `of` is the path of the file it comes from, where one is known."""

    path: str
    size: int
    is_: ResultClass
    of: str | None


class Figure(_Value):
    """A rate: `value` of `of_set` in all and `of_ceiling` attainable; Wilson 95 % intervals where files are counted."""

    value: float
    of_set: int
    of_ceiling: float
    share_of_set: float | None
    share_of_ceiling: float | None
    interval: tuple[float, float] | None = None


class Scorecard(_Value):
    """All of it. Headline figures are out of the set and out of the ceiling."""

    format: Literal["sastrugi-scorecard"] = "sastrugi-scorecard"
    version: int = SCORECARD_VERSION
    specimen: str
    set: str
    results_from: str
    intact: Figure
    complete: Figure
    complete_bytes: Figure
    named: Figure
    all_three: Figure
    precision: float | None
    inflation: float
    classes: dict[str, int]
    files: tuple[FileScore, ...]
    results: tuple[ResultScore, ...]

    @property
    def beyond_ceiling(self) -> list[FileScore]:
        return [file for file in self.files if file.beyond_ceiling]


def wilson(count: int, of: int) -> tuple[float, float] | None:
    """The Wilson 95 % interval of a share; None of nothing. Source: E. B. Wilson, JASA 22 (1927)."""
    if not of:
        return None
    p, z2 = count / of, _Z95**2
    middle = (p + z2 / (2 * of)) / (1 + z2 / of)
    half = _Z95 / (1 + z2 / of) * sqrt(p * (1 - p) / of + z2 / (4 * of * of))
    return max(middle - half, 0.0), min(middle + half, 1.0)


def figure(value: float, of_set: int, of_ceiling: float, counted: bool = True) -> Figure:
    """A figure with its shares; `counted` values are numbers of files and get an interval."""
    return Figure(
        value=value,
        of_set=of_set,
        of_ceiling=of_ceiling,
        share_of_set=value / of_set if of_set else None,
        share_of_ceiling=value / of_ceiling if of_ceiling else None,
        interval=wilson(int(value), of_set) if counted else None,
    )


def run_length(letters: str) -> str:
    """`RRRWWA` as `3R2W1A`."""
    out: list[str] = []
    start = 0
    for n in range(1, len(letters) + 1):
        if n == len(letters) or letters[n] != letters[start]:
            out.append(f"{n - start}{letters[start]}")
            start = n
    return "".join(out)
