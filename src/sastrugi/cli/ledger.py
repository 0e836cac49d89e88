"""`sastrugi ledger`: earlier trials, and how they went over time."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from sastrugi.cli.console import JsonOption, ink, quoted, say, show, show_json, show_lines, width
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
_ADD_HELP = """Keep trials that stand in folders, but not in the ledger: after a kill, a full disk, or from elsewhere.

\b
Example: sastrugi ledger add specimen.fast-look.trial"""
_VERIFY_HELP = """Check that no trial of the ledger was changed, taken out or put in since it was kept, nor its files.

\b
Example: sastrugi ledger verify --noted 3f2a9c01
Leaves with 1 if anything was touched, and says what. Note the last link elsewhere, and give it with --noted."""
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
    family.command("add", help=_ADD_HELP)(add)
    family.command("verify", help=_VERIFY_HELP)(verify)
    family.command("trend", help=_TREND_HELP)(trend)
    family.command("export", help=_EXPORT_HELP)(export)
    app.add_typer(family, name="ledger")


def keep_in_ledger(where: str, trial: Trial, card: Scorecard, folder: Path) -> str:
    """Keep a trial in the ledger that the call names, or in the default one; answers which, or nothing for none."""
    from sastrugi.campaign.ledger import open_ledger
    from sastrugi.errors import LedgerError

    where = where or DEFAULT
    if where == _NONE:
        return ""
    try:
        with open_ledger(where) as ledger:
            ledger.add(trial, card, folder)
            return ledger.told
    except LedgerError as error:
        mend = quoted("sastrugi", "ledger", "add", folder, *(("--ledger", where) if where != DEFAULT else ()))
        raise LedgerError(f"{error}; the trial stands in {folder}: keep it with {mend}") from error


def missing_in_ledger(where: str, trial: Trial) -> bool:
    """Whether a trial that stands is not in the ledger where it belongs: a kill or a full disk came between."""
    from sastrugi.campaign.ledger import open_ledger

    where = where or DEFAULT
    if where == _NONE:
        return False
    with open_ledger(where) as ledger:
        return trial.id not in ledger.numbers()


def add(
    folders: Annotated[list[Path], typer.Argument(help="The folders of trials.", metavar="TRIAL …")],
    ledger: LedgerOption = "",
    as_json: JsonOption = False,
) -> None:
    from sastrugi.campaign.ledger import open_ledger
    from sastrugi.campaign.record import read_trial, scorecard_of

    read = [(read_trial(folder), scorecard_of(folder), folder) for folder in folders]
    with open_ledger(ledger or DEFAULT) as opened:
        kept = [(folder, trial.id, opened.add(trial, card, folder)) for trial, card, folder in read]
    if as_json:
        show_json([{"trial": str(folder), "id": number, "added": added} for folder, number, added in kept])
        return
    for folder, number, added in kept:
        say(f"trial {number[:8]} in {folder}: {'added' if added else 'is in the ledger already'}")


def verify(
    noted: Annotated[str, typer.Option(help="A link that was noted: it must be in the chain.", metavar="LINK")] = "",
    files: Annotated[bool, typer.Option("--files/--no-files", help="Also look at the trials' folders.")] = True,
    ledger: LedgerOption = "",
    as_json: JsonOption = False,
) -> None:
    from dataclasses import asdict

    from rich.text import Text

    from sastrugi.campaign.ledger import open_ledger
    from sastrugi.report.style import VERMILION
    from sastrugi.units import plural, printable

    with open_ledger(ledger or DEFAULT, new=False) as opened:
        found = opened.verify(noted, files)
    if as_json:
        show_json(asdict(found))
    else:
        for fault in found.faults:
            show(Text(printable(fault), style=VERMILION))
        told = f"{plural(found.trials, 'trial')}; the last link is {found.link or 'none'}"
        show(Text(f"{'nothing was touched' if not found.faults else 'touched'}: {told}"))
    if found.absent:
        say(f"{plural(found.absent, 'trial')} not looked at in files: their folders are not where they were")
    if found.faults:
        raise typer.Exit(1)


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
