"""`sastrugi ledger`: earlier trials, and how they went over time."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from sastrugi.cli.console import JsonOption, ink, say, show, show_json, show_lines, width
from sastrugi.cli.targets import ReplaceOption, file_target, picture_target

if TYPE_CHECKING:
    from sastrugi.campaign.ledger import LedgerRow
    from sastrugi.campaign.record import Trial
    from sastrugi.scoring.scorecard import Scorecard

DEFAULT = "trials.ledger"
_NONE = "none"

LedgerOption = Annotated[
    str,
    typer.Option(
        "--ledger",
        help=f"The ledger: a file or postgresql://…; '{_NONE}' keeps nothing [default: {DEFAULT}].",
        envvar="SASTRUGI_LEDGER",
        metavar="URL",
        show_default=False,
        show_envvar=True,
    ),
]
_EngineFilter = Annotated[str, typer.Option(help="Only engines of this name or pattern.", metavar="PATTERN")]
_SpecimenFilter = Annotated[str, typer.Option(help="Only specimens of this name or pattern.", metavar="PATTERN")]
_CampaignFilter = Annotated[str, typer.Option(help="Only trials of this campaign.", metavar="PATTERN")]
_OutcomeFilter = Annotated[str, typer.Option(help="Only trials that ended so.", metavar="WORD")]

_LIST_HELP = """List the trials of the ledger, the newest first.

\b
Example: sastrugi ledger list --engine 'fast*'"""
_SHOW_HELP = """Show one trial with its score, by the beginning of its number.

\b
Example: sastrugi ledger show 3f2a"""
_TREND_HELP = """How an engine's figures went from version to version, or from day to day.

\b
Example: sastrugi ledger trend --engine mine --out trend.png"""
_EXPORT_HELP = """Write the trials of the ledger: a row each (.csv, .json, .parquet), or whole with scorecards (.jsonl).

\b
Example: sastrugi ledger export --out trials.csv"""


def register(app: typer.Typer) -> None:
    family = typer.Typer(no_args_is_help=True, rich_markup_mode=None, help="Earlier trials, and trends.")
    family.command("list", help=_LIST_HELP)(list_trials)
    family.command("show", help=_SHOW_HELP)(show_trial)
    family.command("trend", help=_TREND_HELP)(trend)
    family.command("export", help=_EXPORT_HELP)(export)
    app.add_typer(family, name="ledger")


def keep_in_ledger(where: str, trials: Iterable[tuple[Trial, Scorecard]]) -> str:
    """Keep trials in the ledger that the call names, or in the default one; answers which, or nothing for none."""
    from sastrugi.campaign.ledger import open_ledger

    where = where or DEFAULT
    if where == _NONE:
        return ""
    with open_ledger(where) as ledger:
        for trial, card in trials:
            ledger.add(trial, card)
        return ledger.told


def _rows(where: str, limit: int = 0, newest_first: bool = True, **filters: str) -> list[LedgerRow]:
    from sastrugi.campaign.ledger import open_ledger

    with open_ledger(where or DEFAULT, new=False) as ledger:
        return ledger.rows({name: value for name, value in filters.items() if value}, limit, newest_first)


def list_trials(
    engine: _EngineFilter = "",
    specimen: _SpecimenFilter = "",
    campaign: _CampaignFilter = "",
    outcome: _OutcomeFilter = "",
    limit: Annotated[int, typer.Option(help="Trials to print; 0 prints all.", min=0, metavar="COUNT")] = 50,
    ledger: LedgerOption = "",
    as_json: JsonOption = False,
) -> None:
    from sastrugi.report.trial_view import ledger_lines

    rows = _rows(ledger, limit, engine=engine, specimen=specimen, campaign=campaign, outcome=outcome)
    if as_json:
        show_json([_row_json(row) for row in rows])
        return
    if not rows:
        say("no trial in the ledger fits")
        return
    show_lines(ledger_lines(rows, width(), ink()))
    if limit and len(rows) == limit:
        say(f"the newest {limit:,}; --limit 0 prints all")


def _row_json(row: LedgerRow) -> dict[str, Any]:
    from dataclasses import asdict

    return asdict(row)


def show_trial(
    number: Annotated[str, typer.Argument(help="How the trial's number begins.", metavar="NUMBER")],
    limit: Annotated[
        int, typer.Option(help="Files that fell short to print; 0 prints all.", min=0, metavar="COUNT")
    ] = 10,
    ledger: LedgerOption = "",
    as_json: JsonOption = False,
) -> None:
    from sastrugi.campaign.ledger import open_ledger
    from sastrugi.report.scorecard import headline_table, results_line, short_files_tables
    from sastrugi.report.trial_view import outcome_line

    with open_ledger(ledger or DEFAULT, new=False) as opened:
        trial, card = opened.read(number)
    if as_json:
        show_json({**trial.model_dump(mode="json"), "scorecard": card.model_dump(mode="json", by_alias=True)})
        return
    show(outcome_line(trial), headline_table(card), short_files_tables(card, limit), results_line(card))
    if trial.notes:
        say(f"notes: {trial.notes}")


def trend(
    engine: _EngineFilter = "",
    specimen: _SpecimenFilter = "",
    campaign: _CampaignFilter = "",
    by: Annotated[
        str, typer.Option(help="What a point is: version (of the engine), day or trial.", metavar="WORD")
    ] = "version",
    out: Annotated[Path | None, typer.Option(help="Also draw it, as PNG.", metavar="FILE.png")] = None,
    replace: ReplaceOption = False,
    ledger: LedgerOption = "",
    as_json: JsonOption = False,
) -> None:
    from sastrugi.campaign.ledger import open_ledger
    from sastrugi.campaign.trends import POINTS, trend_of
    from sastrugi.errors import SastrugiError
    from sastrugi.report.trends import draw_trend, trend_lines

    if by not in POINTS:
        raise SastrugiError(f"'{by[:40]}' is no point of a trend: say {', '.join(POINTS)}")
    target = picture_target(out, "", replace) if out is not None else None
    filters = {"engine": engine, "specimen": specimen, "campaign": campaign}
    with open_ledger(ledger or DEFAULT, new=False) as opened:
        lines = trend_of(opened.sums(by, {name: value for name, value in filters.items() if value}))
    if as_json:
        show_json([line.as_json() for line in lines])
    elif not lines:
        say("no trial in the ledger fits")
    else:
        show_lines(trend_lines(lines, by, width(), ink()))
    if target is not None and lines:
        draw_trend(lines, by, target)
        say(f"picture in {target}")


def export(
    out: Annotated[Path, typer.Option(help="The file: .csv, .json, .parquet or .jsonl.", metavar="FILE")],
    replace: ReplaceOption = False,
    engine: _EngineFilter = "",
    specimen: _SpecimenFilter = "",
    campaign: _CampaignFilter = "",
    ledger: LedgerOption = "",
    as_json: JsonOption = False,
) -> None:
    from sastrugi.errors import SastrugiError
    from sastrugi.report.ledger_exports import FORMATS, export_rows, export_whole
    from sastrugi.safety import atomic_file

    target = file_target(out, "", replace, *(one for one in (Path(ledger or DEFAULT),) if one.is_file()))
    if out.suffix not in FORMATS:
        raise SastrugiError(f"{out}: no format of this name: end it in {', '.join(FORMATS)}")
    rows = _rows(ledger, 0, False, engine=engine, specimen=specimen, campaign=campaign)
    with atomic_file(target) as temporary:
        if out.suffix == ".jsonl":
            from sastrugi.campaign.ledger import open_ledger

            with open_ledger(ledger or DEFAULT, new=False) as opened:
                export_whole(temporary, (opened.read(row.id) for row in rows))
        else:
            temporary.write_bytes(export_rows(rows, out.suffix))
    if as_json:
        show_json({"written": str(target), "trials": len(rows)})
    else:
        say(f"{len(rows):,} trials in {target}")
