"""`sastrugi score`: what came back, exactly."""

from __future__ import annotations

from enum import StrEnum
from pathlib import Path
from typing import Annotated

import typer

from sastrugi.cli.console import JsonOption, progress, say, show, show_json, show_json_text
from sastrugi.cli.score_options import (
    LeaveOutOption,
    ResultsArgument,
    ScoreOptions,
    SetOption,
    SpecimenArgument,
    TableOption,
    in_order,
    judging,
)
from sastrugi.cli.selection_options import SelectionOptions, selecting
from sastrugi.cli.targets import ReplaceOption, file_target, picture_target

_HELP = """Score a folder of results, or (selected) findings of a scan file, against the truth of a specimen.

\b
Example: sastrugi score specimen results --by loss --by pieces --floor intact=0.95"""


class By(StrEnum):
    """What figures are given by."""

    kind = "kind"
    group = "group"
    loss = "loss"
    life = "life"
    volume = "volume"
    file_system = "file-system"
    pieces = "pieces"
    size = "size"
    name = "name"
    ceiling = "ceiling"


_EXPLAIN_HELP = """Tell one file's whole story: where it lay, what happened to it, what still stands, what came back.

\b
Example: sastrugi explain specimen results FRN00003.JPG --out story.png
NAME: a path, a name, or a pattern that only one file of the set fits."""


def register(app: typer.Typer) -> None:
    app.command("explain", help=_EXPLAIN_HELP)(selecting(explain))
    app.command("score", help=_HELP)(selecting(judging(score)))


def score(
    specimen: SpecimenArgument,
    results: ResultsArgument,
    out: Annotated[
        Path | None,
        typer.Option(help="The scorecard to write [default: RESULTS.scorecard.json]", metavar="FILE"),
    ] = None,
    replace: ReplaceOption = False,
    limit: Annotated[
        int, typer.Option(help="Files that fell short to print; 0 prints all.", min=0, metavar="COUNT")
    ] = 20,
    by: Annotated[
        list[By] | None,
        typer.Option(
            "--by",
            help=f"Print figures by {', '.join(By)} (may be given again).",
            show_default=False,
            metavar="PROPERTY",
        ),
    ] = None,
    as_json: JsonOption = False,
    *,
    judge: ScoreOptions,
    chosen: SelectionOptions,
) -> None:
    from sastrugi.report.scorecard import (
        calibration_table,
        group_table,
        headline_table,
        other_results_table,
        results_line,
        short_files_tables,
    )
    from sastrugi.safety import write_text
    from sastrugi.specimen.truth import Specimen

    in_order(specimen, results)
    with progress() as watched, Specimen(specimen) as opened:
        default = f"{results.resolve().name}.scorecard.json"
        target = file_target(out, default, replace, opened.medium.path, results, outside=(results, specimen))
        card = judge.scorecard(judge.of(opened, results, watched, chosen.of_results(results)))
    text = card.model_dump_json(indent=1, by_alias=True)
    write_text(target, text + "\n")
    if as_json:
        show_json_text(text)
    else:
        groups = [group_table(card, one.value) for one in by or (By.kind,)]
        show(headline_table(card), *groups, short_files_tables(card, limit), other_results_table(card, limit))
        show(results_line(card))
        if card.calibration is not None and by:
            show(calibration_table(card.calibration))
        say(f"scorecard in {target}")
    judge.leave(card)


def explain(
    specimen: SpecimenArgument,
    results: ResultsArgument,
    name: Annotated[str, typer.Argument(help="The reference file.", metavar="NAME")],
    out: Annotated[
        Path | None, typer.Option(help="Also draw original and result side by side, as PNG.", metavar="FILE.png")
    ] = None,
    replace: ReplaceOption = False,
    files_of: SetOption = "lost",
    table: TableOption = None,
    leave_out: LeaveOutOption = None,
    as_json: JsonOption = False,
    *,
    chosen: SelectionOptions,
) -> None:
    from sastrugi.report.file_report_view import draw_story, story_json, story_view
    from sastrugi.report.pairs import VISIBLE, draw_pairs
    from sastrugi.scoring.file_report import story_of
    from sastrugi.specimen.truth import Specimen

    in_order(specimen, results)
    with progress() as watched, Specimen(specimen) as opened:
        if out is not None:
            out = picture_target(out, "", replace, opened.medium.path, outside=(results, specimen))
        story = story_of(
            opened, results, name, watched, files_of, table, tuple(leave_out or ()), chosen.of_results(results)
        )
        shown = not as_json and story.result is not None and story.score.group in VISIBLE
        pair = draw_pairs(opened, [(story.file, story.result)], watched)[0] if shown or out is not None else None
        if out is not None and pair is not None:
            draw_story(story, pair, out)
        if as_json:
            show_json(story_json(story))
        else:
            show(story_view(opened, story, pair if shown else None))
            if out is not None:
                say(f"picture in {out}")
