"""`sastrugi report`: a scorecard as a page, or in the formats of other programs."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from sastrugi.cli.console import JsonOption, progress, say, show_json
from sastrugi.cli.score_options import ScoreOptions, in_order, judging
from sastrugi.cli.selection_options import SelectionOptions, selecting
from sastrugi.cli.targets import ReplaceOption, file_target

if TYPE_CHECKING:
    from sastrugi.report.page import Pictures
    from sastrugi.scoring.scorecard import Scorecard

_HELP = """Score results, or take a score that is there, and write a report: a page, or what the name ends in.

\b
Example: sastrugi report specimen results --out card.html --out card.xml
SPECIMEN RESULTS, or one that holds a score: a scorecard, a trial's or a campaign's folder.
html (page) · md (summary) · csv, parquet (a row for a file) · json (scorecard) · xml (JUnit)"""


def register(app: typer.Typer) -> None:
    app.command("report", help=_HELP)(selecting(judging(report)))


def report(
    specimen: Annotated[
        Path, typer.Argument(help="The specimen's folder, or what holds a score.", metavar="SPECIMEN|SCORED")
    ],
    results: Annotated[
        Path | None,
        typer.Argument(help="A folder of results, or a scan file.", metavar="[RESULTS]", show_default=False),
    ] = None,
    out: Annotated[
        list[Path] | None,
        typer.Option(help="A file to write (may be given again) [default: RESULTS.html]", metavar="FILE"),
    ] = None,
    replace: ReplaceOption = False,
    title: Annotated[str, typer.Option(help="The heading [default: the specimen's title].", metavar="TEXT")] = "",
    as_json: JsonOption = False,
    *,
    judge: ScoreOptions,
    chosen: SelectionOptions,
) -> None:
    from sastrugi.errors import SastrugiError
    from sastrugi.safety import atomic_file

    for target in out or ():
        if target.suffix.lower() not in _FORMATS:
            raise SastrugiError(f"{target}: no format of this name: end it in {', '.join(_FORMATS)}")
    if results is None and (specimen / "campaign.json").is_file():
        _campaign(specimen, out, replace, as_json)
        return
    if results is None:
        targets, card, heading, pictures = _of_score(specimen, out, replace, judge, chosen)
    else:
        targets, card, heading, pictures = _of_results(specimen, results, out, replace, judge, chosen)
    short = list(card.below_the_floor)
    table = _table_beside(targets, card, replace)
    targets += [table] if table is not None and table not in targets else []
    for target in targets:
        data = _FORMATS[target.suffix.lower()](card, title or heading, pictures, short, table.name if table else "")
        with atomic_file(target) as temporary:
            temporary.write_bytes(data if isinstance(data, bytes) else data.encode("utf-8", "replace"))
    if as_json:
        show_json({"written": [str(target) for target in targets], "below_the_floor": short})
    else:
        say(f"written: {', '.join(str(target) for target in targets)}")
    judge.leave(card)


def _table_beside(targets: list[Path], card: Scorecard, replace: bool) -> Path | None:
    """The table that lists all files where a page has no room for them: one that was asked for, in the folder of the
    page, or one of its own."""
    from sastrugi.report.page import MOST_ROWS

    page = next((target for target in targets if target.suffix.lower() == ".html"), None)
    if page is None or len(card.files) <= MOST_ROWS:
        return None
    asked = [one for one in targets if one.suffix.lower() in (".csv", ".parquet") and one.parent == page.parent]
    return asked[0] if asked else file_target(page.with_suffix(".files.csv"), "", replace)


_Ready = tuple[list[Path], "Scorecard", str, "Pictures"]


def _of_results(
    specimen: Path, results: Path, out: list[Path] | None, replace: bool, judge: ScoreOptions, chosen: SelectionOptions
) -> _Ready:
    """Score, and draw what came back damaged if a page is asked for."""
    from sastrugi.report.page import damaged_pictures
    from sastrugi.specimen.truth import Specimen

    in_order(specimen, results)
    with progress() as watched, Specimen(specimen) as opened:
        default = f"{results.resolve().name}.html"
        guarded = (opened.medium.path, results)
        targets = [file_target(one, default, replace, *guarded, outside=(results, specimen)) for one in out or (None,)]
        judged = judge.of(opened, results, watched, chosen.of_results(results))
        card = judge.scorecard(judged)
        drawn = any(target.suffix.lower() == ".html" for target in targets)
        pictures = damaged_pictures(judged, opened, card, watched) if drawn else {}
        return targets, card, opened.truth.title, pictures


def _of_score(
    source: Path, out: list[Path] | None, replace: bool, judge: ScoreOptions, chosen: SelectionOptions
) -> _Ready:
    """Take a score that is there."""
    from sastrugi.campaign.sides import is_scored, scored_at
    from sastrugi.errors import SastrugiError

    if not is_scored(source):
        raise SastrugiError(f"{source}: holds no score: give results behind a specimen, or name a scorecard or a trial")
    judge.require_nothing_to_judge()
    if not chosen.none:
        raise SastrugiError("a selection picks findings to be judged, and a scorecard is judged already: leave it out")
    scored = scored_at(source)
    card = judge.held_against(scored.card)
    if scored.trial is not None:
        card = card.model_copy(update={"results_from": scored.trial.spoken})
    default = f"{source.resolve().name.removesuffix('.json').removesuffix('.scorecard')}.html"
    outside = (source,) if source.is_dir() else ()
    guarded = () if source.is_dir() else (source,)
    targets = [file_target(one, default, replace, *guarded, outside=outside) for one in out or (None,)]
    return targets, card, card.title or card.specimen, {}


def _campaign(folder: Path, out: list[Path] | None, replace: bool, as_json: bool) -> None:
    """A campaign, as a page or a summary."""
    from sastrugi.campaign.run import read_campaign
    from sastrugi.errors import SastrugiError
    from sastrugi.report.campaign_page import campaign_page
    from sastrugi.report.summaries import campaign_junit, campaign_markdown
    from sastrugi.safety import write_text

    targets = [file_target(one, f"{folder.resolve().name}.html", replace, outside=(folder,)) for one in out or (None,)]
    if any(target.suffix.lower() not in (".html", ".md", ".xml") for target in targets):
        raise SastrugiError(
            "a campaign is reported as .html, .md or .xml (JUnit); 'sastrugi campaign show --out' writes its cells"
        )
    state = read_campaign(folder)
    for target in targets:
        if target.suffix.lower() == ".html":
            with progress() as watched:
                text = campaign_page(state, watched)
        else:
            text = campaign_markdown(state) if target.suffix.lower() == ".md" else campaign_junit(state)
        write_text(target, text)
    if as_json:
        show_json({"written": [str(target) for target in targets]})
    else:
        say(f"written: {', '.join(str(target) for target in targets)}")


def _html(card: Scorecard, title: str, pictures: Pictures, missed: list[str], table: str) -> str:
    from sastrugi.report.page import render

    return render(card, title, pictures, missed, table)


def _markdown(card: Scorecard, title: str, _: object, missed: list[str], _table: str) -> str:
    from sastrugi.report.exports import as_markdown

    return as_markdown(card, title, missed)


def _csv(card: Scorecard, *_: object) -> str:
    from sastrugi.report.exports import as_csv

    return as_csv(card)


def _parquet(card: Scorecard, *_: object) -> bytes:
    from sastrugi.report.exports import as_parquet

    return as_parquet(card)


def _json(card: Scorecard, *_: object) -> str:
    return card.model_dump_json(indent=1, by_alias=True) + "\n"


def _junit(card: Scorecard, _title: str, _: object, missed: list[str], _table: str) -> str:
    from sastrugi.report.exports import as_junit

    return as_junit(card, missed)


_FORMATS: dict[str, Callable[..., str | bytes]] = {
    ".html": _html, ".md": _markdown, ".csv": _csv, ".parquet": _parquet, ".json": _json, ".xml": _junit,
}  # fmt: skip
