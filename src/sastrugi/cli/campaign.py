"""`sastrugi campaign`: many specimens, many engines."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from sastrugi.cli.console import JsonOption, progress, quoted, say, show, show_json
from sastrugi.cli.ledger import DEFAULT, LedgerOption
from sastrugi.cli.targets import ReplaceOption, file_target

if TYPE_CHECKING:
    from sastrugi.campaign.run import CampaignState

_RUN_HELP = """Carry out a campaign: every specimen meets every engine. Run again, it goes on where it was.

\b
Example: sastrugi campaign run season.toml
Leaves with 1 if a cell is below the gate, with 2 if a cell could not be carried out."""
_SHOW_HELP = """Show a campaign, also while it runs: the matrix, a ranking, and with --out a page.

\b
Example: sastrugi campaign show season.campaign --out season.html"""

_FolderArgument = Annotated[Path, typer.Argument(help="The campaign's folder.", metavar="CAMPAIGN")]


def register(app: typer.Typer) -> None:
    family = typer.Typer(no_args_is_help=True, rich_markup_mode=None, help="Many specimens, many engines.")
    family.command("run", help=_RUN_HELP)(run)
    family.command("show", help=_SHOW_HELP)(show_campaign)
    app.add_typer(family, name="campaign")


def run(
    text: Annotated[Path, typer.Argument(help="The campaign's text (TOML).", metavar="CAMPAIGN.toml")],
    into: Annotated[
        Path | None, typer.Option(help="The campaign's folder [default: NAME.campaign]", metavar="DIR")
    ] = None,
    jobs: Annotated[
        int | None,
        typer.Option(help="Trials at once [default: as the text says, or one a core].", min=1, metavar="COUNT"),
    ] = None,
    cluster: Annotated[
        str, typer.Option(help="Carry it out on the Dask cluster of this scheduler.", metavar="tcp://HOST:PORT")
    ] = "",
    check: Annotated[bool, typer.Option("--check", help="Only say what would be done.")] = False,
    ledger: LedgerOption = "",
    as_json: JsonOption = False,
) -> None:
    from contextlib import ExitStack

    from sastrugi.campaign.ledger import open_ledger
    from sastrugi.campaign.matrix import load_campaign
    from sastrugi.campaign.run import run_campaign
    from sastrugi.campaign.trial import require_engine_works
    from sastrugi.units import plural

    campaign = load_campaign(text)
    for engine in campaign.engines:
        if not cluster:
            require_engine_works(engine)
    folder = into or Path(f"{campaign.text.name}.campaign")
    told = f"{plural(len(campaign.specimens), 'specimen')} × {plural(len(campaign.engines), 'engine')}"
    repeats = f" × {campaign.text.repeats} times" if campaign.text.repeats > 1 else ""
    say(f"{campaign.text.name}: {told}{repeats}, {plural(len(campaign.cells), 'cell')}")
    if check:
        if as_json:
            show_json([{"key": cell.key, "label": cell.label} for cell in campaign.cells])
        return
    where = ledger or DEFAULT
    line = quoted("sastrugi", "campaign", "run", text, "--into", folder)
    with ExitStack() as stack:
        kept = stack.enter_context(open_ledger(where)) if where != "none" else None
        watched = stack.enter_context(progress(line))
        state = run_campaign(campaign, folder, watched, kept, jobs, cluster)
    if as_json:
        show_json(_document(state))
    else:
        print_campaign(state)
        line = quoted("sastrugi", "campaign", "show", folder, "--out", "page.html")
        say(f"all of it is in {folder}; draw it with: {line}")
    _leave(state)


def show_campaign(
    folder: _FolderArgument,
    out: Annotated[
        Path | None, typer.Option(help="Also write the page (.html), or all cells (.csv, .json).", metavar="FILE")
    ] = None,
    replace: ReplaceOption = False,
    as_json: JsonOption = False,
) -> None:
    import json

    from sastrugi.campaign.run import read_campaign
    from sastrugi.errors import SastrugiError
    from sastrugi.report.campaign_page import campaign_csv, campaign_page
    from sastrugi.safety import write_text

    if out is not None and out.suffix.lower() not in (".html", ".csv", ".json"):
        raise SastrugiError(f"{out}: no format of this name: end it in .html, .csv or .json")
    target = file_target(out, "", replace, outside=(folder,)) if out is not None else None
    state = read_campaign(folder)
    if as_json:
        show_json(_document(state))
    else:
        print_campaign(state)
    if target is not None:
        kind = target.suffix.lower()
        if kind == ".html":
            with progress() as watched:
                text = campaign_page(state, watched)
        else:
            text = (
                campaign_csv(state)
                if kind == ".csv"
                else json.dumps(_document(state), ensure_ascii=False, indent=1) + "\n"
            )
        write_text(target, text)
        say(f"written: {target}")


def print_campaign(state: CampaignState) -> None:
    """The matrix, the ranking, and what went wrong."""
    from sastrugi.report.campaign_view import matrix_view, problems_view, ranking_table, tallies

    found = tallies(state)
    show(matrix_view(state, found), ranking_table(found), problems_view(state))


def _document(state: CampaignState) -> dict[str, Any]:
    from sastrugi.report.campaign_view import campaign_json

    return campaign_json(state)


def _leave(state: CampaignState) -> None:
    failed = [cell for cell in state.cells if cell.problem]
    below = [cell for cell in state.cells if cell.below_the_gate]
    for cell in below[:20]:
        say(f"below the gate: {cell.label}: {'; '.join(cell.below_the_gate)}")
    if failed:
        say(
            f"{len(failed):,} of {len(state.cells):,} cells could not be carried out, such as "
            f"{failed[0].label}: {failed[0].problem}"
        )
        raise typer.Exit(2)
    if below:
        raise typer.Exit(1)
