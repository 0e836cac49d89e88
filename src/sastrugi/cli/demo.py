"""`sastrugi demo`: the whole job on made-up data."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Annotated

import typer

from sastrugi.cli.console import JsonOption, progress, quoted, say, show, show_json, width
from sastrugi.cli.targets import ReplaceOption

_HELP = """The whole job on one made-up camera card: build it, lose files, scan, bring back, score. Takes seconds.

\b
Example: sastrugi demo --into demo
With --full a whole campaign, with a page at its end: sixteen media, three programs.
That takes a minute or two."""
_RECIPE = "camera-card"


def register(app: typer.Typer) -> None:
    app.command("demo", help=_HELP)(demo)


def _own(folder: Path) -> Callable[[str], bool]:
    """Which files below a folder a demo made there."""
    from sastrugi.recovery.extract import is_extracted
    from sastrugi.specimen.truth import is_of_specimen

    extracted = is_extracted(folder / "results")

    def own(path: str) -> bool:
        first, _, rest = path.partition("/")
        if first in ("specimen", "results"):
            return is_of_specimen(rest) if first == "specimen" else extracted(rest)
        return path in ("card.scan", "scorecard.json")

    return own


def demo(
    into: Annotated[Path, typer.Option(help="The new folder for everything.", metavar="DIR")] = Path("sastrugi-demo"),
    replace: ReplaceOption = False,
    full: Annotated[bool, typer.Option("--full", help="A campaign of many media and three programs instead.")] = False,
    as_json: JsonOption = False,
) -> None:
    if full:
        _campaign(into, replace, as_json)
        return
    from rich.text import Text

    from sastrugi.cli.score_options import warn
    from sastrugi.recovery.extract import extract
    from sastrugi.recovery.scan import scan
    from sastrugi.recovery.scan_file import ScanFile
    from sastrugi.recovery.select import Selection
    from sastrugi.report.layers import layers_of_specimen
    from sastrugi.report.medium_map import map_text
    from sastrugi.report.scorecard import (
        group_table,
        headline_table,
        other_results_table,
        results_line,
        short_files_tables,
    )
    from sastrugi.report.tables import specimen_line
    from sastrugi.safety import clear_folder, require_empty, require_replaceable, write_text
    from sastrugi.scoring.scorer import judge
    from sastrugi.specimen.build import build
    from sastrugi.specimen.recipe import load_recipe
    from sastrugi.specimen.truth import Specimen

    if replace:
        require_replaceable(into, "scorecard.json", "what a demo made", _own(into))
        clear_folder(into)
    require_empty(into, "demo")
    folder, scan_path, results, card_path = (
        into / name for name in ("specimen", "card.scan", "results", "scorecard.json")
    )
    with progress() as watched:
        build(load_recipe(_RECIPE), folder, watched)
        with Specimen(folder) as specimen:
            scan(specimen.medium, scan_path, watched)
            with ScanFile.open(scan_path) as found:
                extract(specimen.medium, Selection("lost").pick(found), results, watched)
            card = judge(specimen, results, watched).scorecard()
            truth = specimen.truth
            layers = layers_of_specimen(specimen)
    write_text(card_path, card.model_dump_json(indent=1, by_alias=True) + "\n")
    if as_json:
        show_json(
            {
                "specimen": str(folder),
                "scan": str(scan_path),
                "results": str(results),
                "scorecard": str(card_path),
                "score": card.model_dump(mode="json", by_alias=True, exclude={"files", "results"}),
            }
        )
    else:
        show(
            specimen_line(truth),
            headline_table(card),
            group_table(card, "kind"),
            short_files_tables(card, 5),
            other_results_table(card, 5),
            results_line(card),
            Text(),
        )
        show(*map_text(layers, min(width(), 96)))
        say(f"all of it is in {into}; look around with: {quoted('sastrugi', 'list', scan_path, '--why')}")
    warn(card)
    if card.beyond_ceiling:
        raise typer.Exit(1)


def _campaign(into: Path, replace: bool, as_json: bool) -> None:
    """The campaign that ships. In a folder where it was begun it goes on."""
    import tomllib
    from importlib import resources

    from sastrugi.campaign.ledger import open_ledger
    from sastrugi.campaign.matrix import make_campaign
    from sastrugi.campaign.run import CAMPAIGN_FILE, run_campaign
    from sastrugi.cli.campaign import print_campaign
    from sastrugi.errors import SastrugiError
    from sastrugi.report.campaign_page import campaign_page
    from sastrugi.report.campaign_view import campaign_json
    from sastrugi.safety import require_empty, write_text

    if replace:
        raise SastrugiError(
            "a campaign goes on where it was, and replaces nothing: leave --replace out, or name another --into"
        )
    if not (into / CAMPAIGN_FILE).is_file():
        require_empty(into, "campaign", "")
    text = (resources.files("sastrugi.campaign") / "season.toml").read_text("utf-8")
    campaign = make_campaign(tomllib.loads(text), "season.toml", Path())
    page = into / "season.html"
    with progress(quoted("sastrugi", "demo", "--full", "--into", into)) as watched:
        into.mkdir(parents=True, exist_ok=True)
        with open_ledger(str(into / "trials.ledger")) as ledger:
            state = run_campaign(campaign, into, watched, ledger)
        drawn = campaign_page(state, watched)
    write_text(page, drawn)
    if as_json:
        show_json({"campaign": str(into), "page": str(page), **campaign_json(state)})
    else:
        print_campaign(state)
        one, other = (f"{into}:{engine}" for engine in ("plain-reader", "all-passes"))
        say(f"all of it is in {into}; look at {page}, or compare: {quoted('sastrugi', 'compare', one, other)}")
