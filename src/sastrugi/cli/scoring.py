"""`sastrugi score`: what came back, exactly."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from sastrugi.cli.console import JsonOption, progress, say, show
from sastrugi.cli.selecting import Chosen, selecting

_HELP = """Score a folder of results, or (selected) findings of a scan file, against the truth of a specimen.

\b
Example: sastrugi score specimen results --out scorecard.json"""


def register(app: typer.Typer) -> None:
    app.command("score", help=_HELP)(selecting(score))


def score(
    specimen: Annotated[Path, typer.Argument(help="The specimen's folder.", metavar="SPECIMEN")],
    results: Annotated[Path, typer.Argument(help="A folder of results, or a scan file.", metavar="RESULTS")],
    out: Annotated[
        Path | None,
        typer.Option(help="The scorecard to write [default: RESULTS.scorecard.json]", metavar="FILE"),
    ] = None,
    limit: Annotated[int, typer.Option(help="Files that fell short to print; 0 prints all.", min=0)] = 20,
    as_json: JsonOption = False,
    *,
    chosen: Chosen,
) -> None:
    from sastrugi.errors import SastrugiError
    from sastrugi.recovery.findings import ScanFile
    from sastrugi.report.scorecard import headline_table, kind_table, results_line, short_files_table
    from sastrugi.safety import require_not_medium, write_text
    from sastrugi.scoring.score import score as run_score
    from sastrugi.specimen.truth import Specimen

    with Specimen(specimen) as opened, progress() as watched:
        selection = None
        if not chosen.none:
            if results.is_dir():
                raise SastrugiError(f"{results}: a selection picks findings of a scan file, not files of a folder")
            with ScanFile.open(results) as scan:
                selection = chosen.of(scan, "lost")
                selection.pick(scan)
        card = run_score(opened, results, watched, selection)
        target = out or results.with_name(f"{results.resolve().name}.scorecard.json")
        require_not_medium(target, opened.medium.path)
    text = card.model_dump_json(indent=1, by_alias=True)
    write_text(target, text + "\n")
    if as_json:
        print(text)
    else:
        show(headline_table(card), kind_table(card), short_files_table(card, limit), results_line(card))
        say(f"scorecard in {target}")
    warn_beyond_ceiling(card)


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
