"""The scorecard: a verdict per reference file, a class per result, and the figures (docs/formats/scorecard.md)."""

from __future__ import annotations

from dataclasses import fields
from typing import TYPE_CHECKING, Annotated, Literal

from pydantic import BaseModel, ConfigDict, FailFast, Field
from pydantic.dataclasses import dataclass

from sastrugi.scoring.claimed_extents import PlaceWord
from sastrugi.scoring.names import NameWord
from sastrugi.scoring.significance import wilson
from sastrugi.scoring.times import TimeWord
from sastrugi.specimen.truth import STRICT

OpensWord = Literal["yes", "no", "untested"]

if TYPE_CHECKING:
    import pandas as pd

SCORECARD_VERSION = 5
METHOD = "Method 1"
"""What is measured and how: docs/method.md, by its version."""

ContentVerdict = Literal["intact", "padded", "cut", "mixed", "foreign", "missing"]
Cause = Literal["gone", "not found", "foreign", "cut", "padded", "mixed", "moved", "name", "none"]
ResultClass = Literal["reference", "live", "stale", "copy", "fragment", "noise", "bench"]


class _Value(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True)


Shortfall = Literal["left", "gone", "name", ""]
_ROUNDING = 1e-9
NOT_ASKED_FOR: tuple[ResultClass, ...] = ("noise", "fragment", "copy", "stale")
"""Classes of results that nobody has a use for, the worst first."""


@dataclass(frozen=True, slots=True, kw_only=True, config=STRICT)
class FileScore:
    """What came back of one reference file. `loss` is how it ended, `pieces` in how many it lay. `damage` holds one
    letter a 512-byte block, run-length coded; `wrong_runs` counts its runs that are not right, `longest_right` is in
    bytes. `nearness` is how near a damaged picture or sound is, in decibels. `confidence` is what the program said
    of the result that answers. Where none does, but one holds its bytes at another place, `shift` is how many bytes
    later, `shifted` the share of them. `has_content`: the result that answers, or bears its name, holds something of
    it; only then a name counts. `ceiling_live` is the share of its bytes that stands only inside live files, `copies`
    are these; `ceiling_tells` says whether what stands of it tells whose it is. `beyond_ceiling`: bytes came back that
    no longer stand; `name_beyond_ceiling`: a better name than still stands. `cause` is what most held it back,
    `reason` the same in words."""

    id: int
    path: str
    kind: str
    group: str
    volume: str
    life: int
    loss: str
    pieces: int
    size: int
    content: ContentVerdict
    completeness: float
    name: NameWord
    result: str | None
    first_wrong: int | None
    damage: str
    wrong_runs: int
    longest_right: int
    times: TimeWord
    place: PlaceWord
    opens: OpensWord
    nearness: float | None
    confidence: float | None
    ceiling_bytes: float
    ceiling_name: NameWord
    ceiling_live: float
    ceiling_tells: bool
    copies: tuple[str, ...]
    has_content: bool
    beyond_ceiling: bool
    name_beyond_ceiling: bool
    file_system: str = ""
    shift: int | None
    shifted: float
    cause: Cause
    reason: str

    @property
    def intact(self) -> bool:
        return self.content == "intact"

    @property
    def shortfall(self) -> Shortfall:
        """What it is short of: bytes that stood and that the program left, bytes that are lost for good, only its name,
        or nothing."""
        if self.intact:
            return "" if self.named else "name"
        left = self.ceiling_bytes - self.completeness > _ROUNDING or self.completeness >= 1
        return "left" if left else "gone"

    @property
    def named(self) -> bool:
        """Whether it came back under its whole name, with something of its content."""
        return self.name == "full" and self.has_content


@dataclass(frozen=True, slots=True, kw_only=True, config=STRICT)
class ResultScore:
    """One result and what it is; `of` is the path of the file it comes from, where one is known. `confidence` is what
    the program said of it, `problem` why it could not be read."""

    path: str
    size: int
    is_: ResultClass
    of: str | None
    confidence: float | None
    problem: str


class Figure(_Value):
    """A rate: `value` of `of_set` in all and `of_ceiling` attainable; Wilson 95 % intervals where files are counted."""

    value: float
    of_set: int
    of_ceiling: float
    share_of_set: float | None
    share_of_ceiling: float | None
    interval: tuple[float, float] | None = None


class Bin(_Value):
    """Results whose stated confidence is in [low, high): what was stated, and what was true, as means."""

    low: float
    high: float
    count: int
    stated: float
    intact: float
    interval: tuple[float, float] | None


class Calibration(_Value):
    """Stated confidence against intact. `mean_gap` is how far they are apart, weighted by results."""

    count: int
    brier: float
    mean_gap: float
    bins: Annotated[tuple[Bin, ...], FailFast()]


class Group(_Value):
    """The headline figures of the files that share one property."""

    key: str
    files: int
    bytes: int
    attainable: int
    intact: Figure
    complete: Figure
    named: Figure
    all_three: Figure


class Scorecard(_Value):
    """All of it, by the rules of `method`. `specimen` is its name and `identity` the digest of its medium. Headline
    figures are out of the set and out of the ceiling; `groups` give them by each property. `names` counts the verdicts
    of names of files of which something came back, `names_beyond` those that came back under a better name than still
    stands, `live_copies` the files that could come back whole only because live files hold the same; `table_rows` and
    `table_matched` tell how much of a table of claims was of these results, `left_out` how many files a pattern took
    out of them, `assumed` what was taken for granted of their paths, names and times. `unreadable` are folders among
    the results that could not be read, and why; results of the class `bench` (files that the bench laid down to make
    the case) count in nothing else; `below_the_floor` the floors missed, in words."""

    format: Literal["sastrugi-scorecard"] = "sastrugi-scorecard"
    version: int = SCORECARD_VERSION
    method: str = METHOD
    specimen: str
    identity: str = ""
    title: str = ""
    set: str
    results_from: str
    intact: Figure
    complete: Figure
    named: Figure
    all_three: Figure
    intact_bytes: Figure
    complete_bytes: Figure
    groups: dict[str, tuple[Group, ...]]
    live_copies: int
    names_beyond: int
    names: dict[NameWord, int]
    times: dict[TimeWord, int]
    places: dict[PlaceWord, int]
    opens: dict[OpensWord, int]
    precision: float | None
    inflation: float
    calibration: Calibration | None
    classes: dict[str, int]
    files: Annotated[tuple[FileScore, ...], FailFast()]
    results: Annotated[tuple[ResultScore, ...], FailFast()]
    unreadable: Annotated[tuple[str, ...], FailFast()]
    table_rows: int = 0
    table_matched: int = 0
    left_out: int = 0
    assumed: tuple[str, ...] = ()
    below_the_floor: tuple[str, ...] = ()
    listed: tuple[ResultClass, ...] = Field(default=NOT_ASKED_FOR, exclude=True)
    """Classes of results that are told by name."""

    def frame(self) -> pd.DataFrame:
        """One row for each reference file, with the columns of FileScore."""
        import pandas as pd

        names = [field.name for field in fields(FileScore)]
        return pd.DataFrame({name: [getattr(file, name) for file in self.files] for name in names}, columns=names)

    @property
    def short(self) -> list[FileScore]:
        """The files that fell short: those that the program left first, in each group the most bytes first."""
        order = ("left", "gone", "name")
        short = [file for file in self.files if file.shortfall]
        return sorted(short, key=lambda f: (order.index(f.shortfall), f.completeness - f.ceiling_bytes))

    @property
    def listed_results(self) -> list[ResultScore]:
        """Results of the classes that are told by name: unless other ones are asked for, those that nobody has a use
        for, the worst first."""
        found = [result for result in self.results if result.is_ in self.listed]
        return sorted(found, key=lambda result: self.listed.index(result.is_))

    @property
    def listed_title(self) -> str:
        """What these results are, in words."""
        return "not asked for" if self.listed == NOT_ASKED_FOR else " and ".join(self.listed)

    @property
    def counted_results(self) -> int:
        """Results that count: all but the bench's own files."""
        return len(self.results) - self.classes.get("bench", 0)

    @property
    def invented(self) -> int:
        """Results that are no whole file of anybody's: copies, fragments and noise."""
        return sum(self.classes.get(name, 0) for name in ("copy", "fragment", "noise"))

    @property
    def beyond_ceiling(self) -> list[FileScore]:
        """The files that came back with bytes that nobody should be able to have."""
        return [file for file in self.files if file.beyond_ceiling]

    @property
    def names_beyond_ceiling(self) -> list[FileScore]:
        """The files that came back under a better name than still stands: somebody knew or guessed it."""
        return [file for file in self.files if file.name_beyond_ceiling]


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
