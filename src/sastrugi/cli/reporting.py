"""`sastrugi report`: a scorecard as a page, or in the formats of other programs."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from sastrugi.cli.console import JsonOption, progress, say, show_json
from sastrugi.cli.judging import Judge, ResultsArgument, SpecimenArgument, in_order, judging
from sastrugi.cli.targets import ReplaceOption, file_target

if TYPE_CHECKING:
    from sastrugi.report.page import Pictures
    from sastrugi.scoring.scorecard import Scorecard

_HELP = """Score results, and write a report: an HTML page that needs nothing else, or other formats by the name's end.

\b
Example: sastrugi report specimen results --out card.html --out card.xml
html (page) · md (summary) · csv, parquet (a row for each file) · json (scorecard) · xml (JUnit)"""


def register(app: typer.Typer) -> None:
    app.command("report", help=_HELP)(judging(report))


def report(
    specimen: SpecimenArgument,
    results: ResultsArgument,
    out: Annotated[
        list[Path] | None,
        typer.Option(help="A file to write (may be given again) [default: RESULTS.html]", metavar="FILE"),
    ] = None,
    replace: ReplaceOption = False,
    title: Annotated[str, typer.Option(help="The heading [default: the specimen's title].", metavar="TEXT")] = "",
    as_json: JsonOption = False,
    *,
    judge: Judge,
) -> None:
    from sastrugi.errors import SastrugiError
    from sastrugi.report.page import damaged_pictures
    from sastrugi.safety import atomic_file
    from sastrugi.specimen.truth import Specimen

    in_order(specimen, results)
    for target in out or ():
        if target.suffix.lower() not in _FORMATS:
            raise SastrugiError(f"{target}: no format of this name: end it in {', '.join(_FORMATS)}")
    with progress() as watched, Specimen(specimen) as opened:
        default = f"{results.resolve().name}.html"
        guarded = (opened.medium.path, results)
        targets = [file_target(one, default, replace, *guarded, outside=(results, specimen)) for one in out or (None,)]
        judged = judge.of(opened, results, watched)
        card = judge.scorecard(judged)
        short = list(card.below_the_floor)
        pictures: Pictures = {}
        if any(target.suffix.lower() == ".html" for target in targets):
            pictures = damaged_pictures(judged, opened, card, watched)
        heading = title or opened.truth.title
    for target in targets:
        data = _FORMATS[target.suffix.lower()](card, heading, pictures, short)
        with atomic_file(target) as temporary:
            temporary.write_bytes(data if isinstance(data, bytes) else data.encode("utf-8", "replace"))
    if as_json:
        show_json({"written": [str(target) for target in targets], "below_the_floor": short})
    else:
        say(f"written: {', '.join(str(target) for target in targets)}")
    judge.leave(card)


def _html(card: Scorecard, title: str, pictures: Pictures, missed: list[str]) -> str:
    from sastrugi.report.page import render

    return render(card, title, pictures, missed)


def _markdown(card: Scorecard, title: str, _: object, missed: list[str]) -> str:
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


def _junit(card: Scorecard, _title: str, _: object, missed: list[str]) -> str:
    from sastrugi.report.exports import as_junit

    return as_junit(card, missed)


_FORMATS: dict[str, Callable[..., str | bytes]] = {
    ".html": _html, ".md": _markdown, ".csv": _csv, ".parquet": _parquet, ".json": _json, ".xml": _junit,
}  # fmt: skip
