"""`sastrugi score`: what came back, exactly."""

from __future__ import annotations

from enum import StrEnum
from pathlib import Path
from typing import Annotated

import typer

from sastrugi.cli.console import JsonOption, progress, say, show, show_json
from sastrugi.cli.selecting import Chosen, selecting

_HELP = """Score a folder of results, or (selected) findings of a scan file, against the truth of a specimen.

\b
Example: sastrugi score specimen results --by loss --by pieces --floor intact=0.95"""

SetOption = Annotated[
    str, typer.Option("--set", help="The files scored: lost, all, deleted, 'life N', or a pattern.", metavar="SET")
]
TableOption = Annotated[
    Path | None,
    typer.Option("--table", help="What the program says of its results (CSV or JSON).", metavar="FILE"),
]
FloorOption = Annotated[
    list[str] | None,
    typer.Option("--floor", help="Leave with 1 below this share of the set: intact=0.95.", metavar="FIGURE=SHARE"),
]
CeilingFloorOption = Annotated[
    list[str] | None,
    typer.Option("--ceiling-floor", help="The same of the ceiling: named=97%.", metavar="FIGURE=SHARE"),
]
NoiseOption = Annotated[
    float | None, typer.Option("--max-noise", help="Leave with 1 if more results are noise.", min=0.0, max=1.0)
]

OpenOption = Annotated[
    bool, typer.Option("--open", help="Let other libraries decode what came back, in processes with limits.")
]


class By(StrEnum):
    """What figures are given by."""

    kind = "kind"
    group = "group"
    loss = "loss"
    life = "life"
    volume = "volume"
    pieces = "pieces"
    size = "size"
    name = "name"
    ceiling = "ceiling"


_EXPLAIN_HELP = """Tell one file's whole story: where it lay, what happened to it, what still stands, what came back.

\b
Example: sastrugi explain specimen results FRN00003.JPG --out story.png
NAME: a path, a name, or a pattern that only one file of the set fits."""


def register(app: typer.Typer) -> None:
    app.command("explain", help=_EXPLAIN_HELP)(explain)
    app.command("score", help=_HELP)(selecting(score))


def score(
    specimen: Annotated[Path, typer.Argument(help="The specimen's folder.", metavar="SPECIMEN")],
    results: Annotated[Path, typer.Argument(help="A folder of results, or a scan file.", metavar="RESULTS")],
    out: Annotated[
        Path | None,
        typer.Option(help="The scorecard to write [default: RESULTS.scorecard.json]", metavar="FILE"),
    ] = None,
    limit: Annotated[int, typer.Option(help="Files that fell short to print; 0 prints all.", min=0)] = 20,
    files_of: SetOption = "lost",
    by: Annotated[
        list[By] | None, typer.Option("--by", help="Print figures by this (may be given again).", show_default=False)
    ] = None,
    table: TableOption = None,
    floor: FloorOption = None,
    ceiling_floor: CeilingFloorOption = None,
    max_noise: NoiseOption = None,
    open_them: OpenOption = False,
    as_json: JsonOption = False,
    *,
    chosen: Chosen,
) -> None:
    from sastrugi.errors import SastrugiError
    from sastrugi.recovery.findings import ScanFile
    from sastrugi.report.scorecard import (
        calibration_table,
        group_table,
        headline_table,
        results_line,
        short_files_table,
    )
    from sastrugi.safety import require_not_medium, write_text
    from sastrugi.scoring.floors import missed, parse_floors
    from sastrugi.scoring.score import score as run_score
    from sastrugi.specimen.truth import Specimen

    floors, ceiling_floors = parse_floors(floor or ()), parse_floors(ceiling_floor or ())
    with Specimen(specimen) as opened, progress() as watched:
        selection = None
        if not chosen.none:
            if results.is_dir():
                raise SastrugiError(f"{results}: a selection picks findings of a scan file, not files of a folder")
            with ScanFile.open(results) as scan:
                selection = chosen.of(scan, "")
                selection.pick(scan)
        card = run_score(opened, results, watched, selection, files_of, table, open_them)
        target = out or results.with_name(f"{results.resolve().name}.scorecard.json")
        require_not_medium(target, opened.medium.path)
    text = card.model_dump_json(indent=1, by_alias=True)
    write_text(target, text + "\n")
    if as_json:
        print(text)
    else:
        groups = [group_table(card, one.value) for one in by or (By.kind,)]
        show(headline_table(card), *groups, short_files_table(card, limit), results_line(card))
        if card.calibration is not None and by:
            show(calibration_table(card.calibration))
        say(f"scorecard in {target}")
    warn_beyond_ceiling(card)
    if short := missed(card, floors, ceiling_floors, max_noise):
        for line in short:
            say(f"below the floor: {line}")
        raise typer.Exit(1)


def explain(
    specimen: Annotated[Path, typer.Argument(help="The specimen's folder.", metavar="SPECIMEN")],
    results: Annotated[Path, typer.Argument(help="A folder of results, or a scan file.", metavar="RESULTS")],
    name: Annotated[str, typer.Argument(help="The reference file.", metavar="NAME")],
    out: Annotated[
        Path | None, typer.Option(help="Also draw original and result side by side, as PNG.", metavar="FILE")
    ] = None,
    files_of: SetOption = "lost",
    as_json: JsonOption = False,
) -> None:
    from sastrugi.report.story_view import draw_story, story_json, story_view
    from sastrugi.safety import require_not_medium
    from sastrugi.scoring.story import story_of
    from sastrugi.specimen.truth import Specimen

    with Specimen(specimen) as opened, progress() as watched:
        story = story_of(opened, results, name, files_of, watched)
        if out is not None:
            require_not_medium(out, opened.medium.path)
            draw_story(opened, story, out, watched)
        if as_json:
            show_json(story_json(story))
        else:
            show(story_view(opened, story))
            if out is not None:
                say(f"picture in {out}")


def warn_beyond_ceiling(card: object) -> None:
    """A score above its ceiling is a fault of the truth: say so loudly and leave with status 1."""
    from sastrugi.scoring.scorecard import Scorecard

    assert isinstance(card, Scorecard)
    if card.beyond_ceiling:
        say(
            f"the score of {card.beyond_ceiling[0].path} is above its ceiling ({len(card.beyond_ceiling)} in all): "
            "either the results hold copies from elsewhere, or the truth of this specimen is wrong"
        )
        raise typer.Exit(1)
