"""The options with which results are judged, the same for every command that scores."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from sastrugi.cli.console import say
from sastrugi.cli.options import sharing

if TYPE_CHECKING:
    from sastrugi.progress import Progress
    from sastrugi.recovery.select import Selection
    from sastrugi.scoring.scorecard import ResultClass, Scorecard
    from sastrugi.scoring.scorer import Judgement
    from sastrugi.specimen.truth import Specimen

SpecimenArgument = Annotated[Path, typer.Argument(help="The specimen's folder.", metavar="SPECIMEN")]
ResultsArgument = Annotated[Path, typer.Argument(help="A folder of results, or a scan file.", metavar="RESULTS")]
SetOption = Annotated[
    str, typer.Option("--set", help="The files scored: lost, all, deleted, 'life N', or a pattern.", metavar="SET")
]
TableOption = Annotated[
    Path | None,
    typer.Option("--table", help="What the program says of its results (CSV or JSON).", metavar="FILE"),
]
LeaveOutOption = Annotated[
    list[str] | None,
    typer.Option(
        "--leave-out", help="Files like this are no results: '*.log' (may be given again).", metavar="PATTERN"
    ),
]
RootOption = Annotated[
    str | None,
    typer.Option("--results-root", help="Paths of results count from this folder among them.", metavar="FOLDER"),
]
_CopiedOption = Annotated[
    bool,
    typer.Option(
        "--copied", help="The results were copied here from another computer: names may have lost their case."
    ),
]
_FloorOption = Annotated[
    list[str] | None,
    typer.Option("--floor", help="Leave with 1 below this share of the set: intact=0.95.", metavar="FIGURE=SHARE"),
]
_CeilingFloorOption = Annotated[
    list[str] | None,
    typer.Option("--ceiling-floor", help="The same of the ceiling: named=97%.", metavar="FIGURE=SHARE"),
]
_NoiseOption = Annotated[
    str | None,
    typer.Option("--max-noise", help="Leave with 1 if more results are noise: 0.02 or 2%.", metavar="SHARE"),
]
_ResultsOption = Annotated[
    list[str] | None,
    typer.Option(
        "--results", help="Tell results of this class by name: noise, stale … (may be given again).", metavar="CLASS"
    ),
]
_OpenOption = Annotated[
    bool, typer.Option("--open", help="Let other libraries decode what came back, in processes with limits.")
]


class ScoreOptions:
    """What the options of a call say; floors that cannot be read are refused before anything is done."""

    def __init__(self, given: dict[str, Any]) -> None:
        from sastrugi.scoring.floors import parse_floors
        from sastrugi.units import parse_share

        self._given = given
        self._most_noise = None if given["max_noise"] is None else parse_share(given["max_noise"])
        self._listed = _classes(given["listed"] or ())
        self._floors, self._ceiling_floors = (parse_floors(given[name] or ()) for name in ("floor", "ceiling_floor"))

    def of(
        self, specimen: Specimen, results: Path, progress: Progress, selection: Selection | None = None
    ) -> Judgement:
        from sastrugi.scoring.scorer import judge

        files_of, table, left_out = (self._given[name] for name in ("files_of", "table", "leave_out"))
        copied, root = self._given["copied"], self._given["results_root"]
        judged = judge(specimen, results, progress, selection, files_of, table, tuple(left_out or ()), copied, root)
        if self._given["open_them"]:
            judged.open_results(progress)
        return judged

    def scorecard(self, judged: Judgement) -> Scorecard:
        """The scorecard, with the floors that it falls short of, in words."""
        return self.held_against(judged.scorecard())

    def held_against(self, card: Scorecard) -> Scorecard:
        """A scorecard, held against the floors of this call, with the results listed that it asks for."""
        listed = {"listed": self._listed} if self._listed else {}
        return card.model_copy(update={"below_the_floor": tuple(self._missed(card)), **listed})

    def require_nothing_to_judge(self) -> None:
        """Raise SastrugiError where the call says how to judge, though the judgement is made already."""
        from sastrugi.errors import SastrugiError

        given = {"--table": "table", "--leave-out": "leave_out", "--results-root": "results_root", "--copied": "copied",
                 "--open": "open_them"}  # fmt: skip
        for option, name in given.items():
            if self._given[name]:
                raise SastrugiError(
                    f"{option} says how results are judged, and a scorecard is judged already: leave it out"
                )
        if self._given["files_of"] != "lost":
            raise SastrugiError("--set says how results are judged, and a scorecard is judged already: leave it out")

    def _missed(self, card: Scorecard) -> list[str]:
        from sastrugi.scoring.floors import missed

        return missed(card, self._floors, self._ceiling_floors, self._most_noise)

    def leave(self, card: Scorecard) -> None:
        """Say what is wrong with a score, and leave with status 1 if a floor was missed or a ceiling passed."""
        warn(card)
        for line in card.below_the_floor:
            say(f"below the floor: {line}")
        if card.below_the_floor or card.beyond_ceiling:
            raise typer.Exit(1)


def _classes(words: Sequence[str]) -> tuple[ResultClass, ...]:
    from sastrugi.errors import SastrugiError
    from sastrugi.scoring.scorer import RESULT_CLASSES

    for word in words:
        if word not in RESULT_CLASSES:
            raise SastrugiError(f"'{word[:40]}' is no class of results: there are {', '.join(RESULT_CLASSES)}")
    return tuple(dict.fromkeys(words))  # type: ignore[arg-type]


judging = sharing(
    {
        "files_of": (SetOption, "lost"),
        "table": (TableOption, None),
        "leave_out": (LeaveOutOption, None),
        "copied": (_CopiedOption, False),
        "results_root": (RootOption, None),
        "listed": (_ResultsOption, None),
        "floor": (_FloorOption, None),
        "ceiling_floor": (_CeilingFloorOption, None),
        "max_noise": (_NoiseOption, None),
        "open_them": (_OpenOption, False),
    },
    "judge",
    ScoreOptions,
)
"""Gives a command these options, as `judge`."""


def in_order(specimen: Path, results: Path) -> None:
    """Raise SastrugiError where specimen and results were given the wrong way round."""
    from sastrugi.errors import SastrugiError
    from sastrugi.specimen.truth import TRUTH_FILE

    if (results / TRUTH_FILE).is_file() and not (specimen / TRUTH_FILE).is_file():
        raise SastrugiError(f"{results}: is the specimen, which comes first: write {specimen} behind it")


def warn(card: Scorecard) -> None:
    """What was assumed and what could not be read; a table that tells of other results; names that nothing tells any
    more; and bytes above their ceiling, which is a fault of the truth or of the results."""
    from sastrugi.units import plural

    for line in card.assumed:
        say(f"assumed: {line}")
    unread = [*card.unreadable, *(f"{item.path}: {item.problem}" for item in card.results if item.problem)]
    if unread:
        say(f"{len(unread):,} of the results could not be read, such as {unread[0]}")
    if card.table_matched * 2 < card.table_rows:
        say(
            f"of {card.table_rows:,} rows of the table {card.table_matched:,} name a result that is there: "
            "its column 'file' should hold paths below the folder of results"
        )
    if named := card.names_beyond_ceiling:
        say(
            f"{plural(len(named), 'file')} came back under a better name than still stands on the medium, such as "
            f"{named[0].path}: the program knew it from elsewhere, or guessed it"
        )
    if beyond := card.beyond_ceiling:
        say(
            f"the score of {beyond[0].path} is above its ceiling ({len(beyond)} in all): "
            "either the results hold copies from elsewhere, or the truth of this specimen is wrong"
        )
