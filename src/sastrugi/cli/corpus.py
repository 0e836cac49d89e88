"""`sastrugi corpus`: reference files."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from sastrugi.cli.console import JsonOption, progress, say, show, show_json
from sastrugi.cli.targets import ReplaceOption, picture_target, renamed

_MAKE_HELP = """Make reference files of many kinds in a new folder, all from the Firnline field season.

\b
Example: sastrugi corpus make reference --files 60 --size mixed --names mixed --depth 2
Sizes: a spread such as "10 KiB..300 KiB", or tiny, small, middle, large, mixed.
Names: plain, camera, long, accented, same, case, longest, dots, bare, double, mixed."""
_KINDS_HELP = """List the kinds of files: what can be made, measured and checked, and how their length is known.

\b
Example: sastrugi corpus kinds --group picture"""
_CHECK_HELP = """Open every file of a folder to its end, with libraries that are not ours; any folder will do.

\b
Example: sastrugi corpus check reference --out reference.png
Leaves with status 1 if a file is broken."""

_CACHE_HELP = """Show what is kept of reference files that were made, or clear it.

\b
Example: sastrugi corpus cache --clear
Files that take long to make are kept, so that the same seed gives them at once the next time.
The environment variable SASTRUGI_KEPT names another folder; where it is empty, nothing is kept."""


def register(app: typer.Typer) -> None:
    family = typer.Typer(
        help="Reference files: make them, list the kinds, open every file; what is kept of them.",
        no_args_is_help=True,
        rich_markup_mode=None,
    )
    family.command("make", help=_MAKE_HELP)(make)
    family.command("kinds", help=_KINDS_HELP)(kinds)
    family.command("check", help=_CHECK_HELP)(check)
    family.command("cache", help=_CACHE_HELP)(cache)
    app.add_typer(family, name="corpus")


def make(
    folder: Annotated[Path, typer.Argument(help="The new folder to make.", metavar="DIR")],
    files: Annotated[int, typer.Option(help="How many files.", min=1, max=1_000_000, metavar="COUNT")] = 20,
    kind: Annotated[list[str] | None, typer.Option(help="Only this kind (may be given again).", metavar="KIND")] = None,
    group: Annotated[
        list[str] | None, typer.Option(help="Only kinds of this group (may be given again).", metavar="GROUP")
    ] = None,
    size: Annotated[
        str, typer.Option(help="Sizes from..to, or the name of a spread.", metavar="FROM..TO")
    ] = "4 KiB..200 KiB",
    total: Annotated[
        str | None, typer.Option(help="Bytes in all, about: sizes are scaled to it.", metavar="SIZE")
    ] = None,
    names: Annotated[str, typer.Option(help="The style of names.", metavar="STYLE")] = "plain",
    depth: Annotated[int, typer.Option(help="Levels of folders; 0: none.", metavar="COUNT")] = 0,
    breadth: Annotated[int, typer.Option(help="Folders at each level.", metavar="COUNT")] = 3,
    seed: Annotated[int, typer.Option(help="The same seed gives the same bytes.", metavar="NUMBER")] = 1,
    as_json: JsonOption = False,
) -> None:
    from sastrugi.corpus.make import CorpusSpec, parse_spread, write_corpus
    from sastrugi.report.tables import corpus_table
    from sastrugi.units import format_size, parse_size, plural

    smallest, largest = parse_spread(size)
    spec = CorpusSpec(
        files,
        str(seed),
        tuple(kind or ()),
        tuple(group or ()),
        smallest,
        largest,
        parse_size(total) if total else 0,
        names,
        depth=depth,
        breadth=breadth,
    )
    with progress() as watched:
        made = write_corpus(spec, folder, watched)
    if as_json:
        show_json({"folder": str(folder), "files": [{"name": n, "kind": k, "size": s} for n, k, s in made]})
        return
    show(corpus_table(made))
    say(f"{plural(len(made), 'file')}, {format_size(sum(size for _, _, size in made))} in {folder}")


def kinds(
    group: Annotated[
        list[str] | None, typer.Option(help="Only this group (may be given again).", metavar="GROUP")
    ] = None,
    as_json: JsonOption = False,
) -> None:
    from sastrugi.errors import SastrugiError
    from sastrugi.kinds import all_kinds
    from sastrugi.report.tables import kind_json, kinds_table

    known = sorted({kind.group for kind in all_kinds().values()})
    for name in group or ():
        if name not in known:
            raise SastrugiError(f"'{name}' is no group of kinds: there are {', '.join(known)}")
    chosen = [kind for kind in all_kinds().values() if not group or kind.group in group]
    if as_json:
        show_json([kind_json(kind) for kind in chosen])
        return
    show(kinds_table(chosen))


def check(
    folder: Annotated[Path, typer.Argument(help="The folder to open the files of.", metavar="DIR")],
    out: Annotated[Path | None, typer.Option(help="Also draw a contact sheet of it.", metavar="FILE.png")] = None,
    old_sheet: Annotated[Path | None, typer.Option("--sheet", hidden=True)] = None,
    replace: ReplaceOption = False,
    seconds: Annotated[
        float, typer.Option(help="The most time a file may take; 0: as its size asks for.", min=0, metavar="SECONDS")
    ] = 0,
    memory: Annotated[str, typer.Option(help="The most memory a file may take.", metavar="SIZE")] = "448 MiB",
    everything: Annotated[bool, typer.Option("--all", help="List the files that open as well.")] = False,
    as_json: JsonOption = False,
) -> None:
    from collections import Counter

    from sastrugi.corpus.check import check_files, files_below
    from sastrugi.report.sheet import draw_sheet
    from sastrugi.report.tables import checked_table
    from sastrugi.units import parse_size, plural

    if old_sheet is not None:
        renamed("--sheet", "--out")
    sheet = out or old_sheet
    if sheet is not None:
        picture_target(sheet, "", replace, outside=(folder,))
    paths = files_below(folder)
    with progress() as watched:
        checked = check_files(paths, watched, seconds, parse_size(memory))
        if sheet is not None:
            draw_sheet(folder, paths, sheet, watched)
    counts = Counter(one.answer for one in checked)
    if as_json:
        listed = [
            {"path": str(one.path.relative_to(folder)), "kind": one.kind, "answer": one.answer, "why": one.why}
            for one in checked
        ]
        show_json({"folder": str(folder), "counts": counts, "files": listed})
    else:
        show(checked_table(folder, checked, everything))
        answers = f"{counts['opens']:,} open, {counts['broken']:,} broken, {counts['cannot tell']:,} cannot be told"
        say(f"{plural(len(checked), 'file')}: {answers}")
        if sheet is not None:
            say(f"contact sheet in {sheet}")
    if counts["broken"]:
        raise typer.Exit(1)


def cache(
    clear: Annotated[bool, typer.Option("--clear", help="Take all of it away.")] = False,
    as_json: JsonOption = False,
) -> None:
    from sastrugi.corpus.kept import clear_kept, kept_files
    from sastrugi.errors import SastrugiError, system_words
    from sastrugi.units import format_size, plural

    try:
        kept = clear_kept() if clear else kept_files()
    except OSError as error:
        raise SastrugiError(f"{error.filename}: cannot be taken away: {system_words(error)}") from error
    if as_json:
        folder = str(kept.folder) if kept.folder else None
        show_json({"folder": folder, "files": kept.files, "bytes": kept.size, "most": kept.most, "cleared": clear})
    elif kept.folder is None:
        say("nothing is kept: SASTRUGI_KEPT is empty")
    else:
        what = f"{plural(kept.files, 'made file')}, {format_size(kept.size)}"
        say(
            f"{what} taken away from {kept.folder}" if clear else f"{what} of {format_size(kept.most)} in {kept.folder}"
        )
