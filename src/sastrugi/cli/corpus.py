"""`sastrugi corpus`: reference files."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from sastrugi.cli.console import JsonOption, progress, say, show, show_json

_MAKE_HELP = """Make reference files of many kinds in a new folder, all from the Firnline field season.

\b
Example: sastrugi corpus make reference --files 30 --size "10 KiB..300 KiB" --names long"""


def register(app: typer.Typer) -> None:
    family = typer.Typer(help="Reference files: make them.", no_args_is_help=True, rich_markup_mode=None)
    family.command("make", help=_MAKE_HELP)(make)
    app.add_typer(family, name="corpus")


def make(
    folder: Annotated[Path, typer.Argument(help="The new folder to make.", metavar="DIR")],
    files: Annotated[int, typer.Option(help="How many files.")] = 20,
    kind: Annotated[list[str] | None, typer.Option(help="Only this kind (may be given again).")] = None,
    size: Annotated[str, typer.Option(help="Sizes from..to.")] = "4 KiB..200 KiB",
    names: Annotated[str, typer.Option(help="plain, camera, long or accented.")] = "plain",
    seed: Annotated[int, typer.Option(help="The same seed gives the same bytes.")] = 1,
    as_json: JsonOption = False,
) -> None:
    from sastrugi.corpus.make import CorpusSpec, write_corpus
    from sastrugi.report.tables import corpus_table
    from sastrugi.units import format_size, parse_size, plural

    low, dots, high = size.partition("..")
    smallest, largest = parse_size(low), parse_size(high if dots else low)
    spec = CorpusSpec(files, str(seed), tuple(kind or ()), smallest, largest, names)
    with progress() as watched:
        made = write_corpus(spec, folder, watched)
    if as_json:
        show_json({"folder": str(folder), "files": [{"name": n, "kind": k, "size": s} for n, k, s in made]})
        return
    show(corpus_table(made))
    say(f"{plural(len(made), 'file')}, {format_size(sum(size for _, _, size in made))} in {folder}")
