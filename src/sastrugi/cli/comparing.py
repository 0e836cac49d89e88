"""`sastrugi compare`: two programs, builds, passes or losses, file by file."""

from __future__ import annotations

import json
from collections.abc import Sequence
from enum import StrEnum
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from sastrugi.cli.console import JsonOption, progress, say, show, show_json
from sastrugi.cli.ledger import DEFAULT, LedgerOption
from sastrugi.cli.score_options import SetOption
from sastrugi.cli.targets import ReplaceOption, file_target

if TYPE_CHECKING:
    from sastrugi.campaign.sides import Side
    from sastrugi.scoring.paired import Comparison

_HELP = """Compare two sides, or one with several, by the files that both have: is it more than chance?

\b
Example: sastrugi compare card.fast-look.trial card.all-passes.trial --by kind
A side: a scorecard, a trial's folder, a campaign's folder or CAMPAIGN:ENGINE, the number of a
trial in the ledger, or results with --specimen. The others are compared with the first side."""


class By(StrEnum):
    """What pairs are told by."""

    kind = "kind"
    loss = "loss"
    pieces = "pieces"
    size = "size"
    file_system = "file-system"


def register(app: typer.Typer) -> None:
    app.command("compare", help=_HELP)(compare)


def compare(
    sides: Annotated[list[str], typer.Argument(help="Two sides, or more.", metavar="SIDE SIDE [SIDE …]")],
    specimen: Annotated[
        Path | None, typer.Option(help="The specimen, where a side is a folder of results.", metavar="DIR")
    ] = None,
    files_of: SetOption = "lost",
    by: Annotated[
        list[By] | None, typer.Option("--by", help=f"Also by {', '.join(By)} (may be given again).", metavar="PROPERTY")
    ] = None,
    limit: Annotated[int, typer.Option(help="Files of each change; 0 prints all.", min=0, metavar="COUNT")] = 10,
    detect: Annotated[
        str, typer.Option(help="Say what it takes to show a difference of so many points: 5%.", metavar="SHARE")
    ] = "",
    fail_on_loss: Annotated[
        bool, typer.Option("--fail-on-loss", help="Leave with 1 if a later side is shown to bring back less.")
    ] = False,
    fail_on_any_loss: Annotated[
        bool,
        typer.Option("--fail-on-any-loss", help="Leave with 1 if any file came back whole before and does not now."),
    ] = False,
    out: Annotated[
        list[Path] | None,
        typer.Option(help="Also write it: .html, .md, .xml (JUnit), .json (may be given again).", metavar="FILE"),
    ] = None,
    replace: ReplaceOption = False,
    ledger: LedgerOption = "",
    as_json: JsonOption = False,
) -> None:
    from sastrugi.campaign.sides import side_of
    from sastrugi.errors import SastrugiError
    from sastrugi.report.comparison_page import comparison_document
    from sastrugi.report.trial_view import compare_table, comparison_view
    from sastrugi.safety import write_text
    from sastrugi.scoring.paired import compare as compare_scorecards

    if len(sides) < 2:
        raise SastrugiError("a comparison has two sides: name another one")
    for path in out or ():
        if path.suffix.lower() not in _FORMATS:
            raise SastrugiError(f"{path}: no format of this name: end it in {', '.join(_FORMATS)}")
    targets = [file_target(path, "", replace) for path in out or ()]
    smallest = _difference(detect) if detect else None
    with progress() as watched:
        read = [side_of(text, watched, specimen, ledger or DEFAULT, files_of) for text in sides]
    names = _told_apart([side.name for side in read], sides)
    read = [type(side)(name, side.scored) for side, name in zip(read, names, strict=True)]
    found = [compare_scorecards(read[0].cards, other.cards) for other in read[1:]]
    document = comparison_document(read, found, smallest)
    if as_json:
        show_json(document)
    else:
        show(compare_table(read, found))
        for other, one in zip(read[1:], found, strict=True):
            show(comparison_view(read[0].name, other.name, one, limit, [str(name) for name in by or ()], smallest))
    for target in targets:
        write_text(target, _FORMATS[target.suffix.lower()](read, found, smallest))
        say(f"written: {target}")
    for side in read:
        if side.outcomes:
            how = ", ".join(sorted(set(side.outcomes)))
            say(f"{side.name}: {len(side.outcomes)} of {len(side.scored)} trials did not end well: {how}")
    worse = _worse(read[1:], found) if fail_on_loss else []
    if worse:
        say(f"a loss against {read[0].name} is shown: {', '.join(worse)}")
    fewer = _any_lost(read[1:], found) if fail_on_any_loss else []
    for line in fewer:
        say(line)
    if worse or fewer:
        raise typer.Exit(1)


def _difference(text: str) -> float:
    from sastrugi.errors import SastrugiError
    from sastrugi.units import parse_share

    share = parse_share(text)
    if not 0 < share < 1:
        raise SastrugiError(f"'{text[:40]}' is no difference that could be shown: write 5% or 0.05")
    return share


def _page(sides: list[Side], found: list[Comparison], detect: float | None) -> str:
    from sastrugi.report.comparison_page import comparison_page

    return comparison_page(sides, found, detect)


def _markdown(sides: list[Side], found: list[Comparison], detect: float | None) -> str:
    from sastrugi.report.summaries import comparison_markdown

    return comparison_markdown(sides, found, detect)


def _junit(sides: list[Side], found: list[Comparison], _: float | None) -> str:
    from sastrugi.report.summaries import comparison_junit

    return comparison_junit(sides, found)


def _json(sides: list[Side], found: list[Comparison], detect: float | None) -> str:
    from sastrugi.report.comparison_page import comparison_document

    return json.dumps(comparison_document(sides, found, detect), ensure_ascii=False, indent=1) + "\n"


_FORMATS = {".html": _page, ".md": _markdown, ".xml": _junit, ".json": _json}


def _any_lost(sides: Sequence[Side], found: Sequence[Comparison]) -> list[str]:
    """What each side lost that the first one had whole, in words."""
    out: list[str] = []
    for side, one in zip(sides, found, strict=True):
        lost = one.of("lost")
        if lost:
            more = f" and {len(lost) - 1:,} more" if len(lost) > 1 else ""
            out.append(f"{side.name} lost {lost[0].first.path} of {lost[0].specimen}{more}")
    return out


def _worse(sides: Sequence[Side], found: Sequence[Comparison]) -> list[str]:
    """Sides that lost files, or names, by more than chance explains."""
    both = list(zip(sides, found, strict=True))
    files = [side.name for side, one in both if one.intact.shown and one.intact.difference < 0]
    names = [f"{side.name} (names)" for side, one in both if one.named.shown and one.named.difference < 0]
    return files + names


def _told_apart(names: list[str], given: list[str]) -> list[str]:
    """What the sides are called; two of one name by what the call says."""
    return [name if names.count(name) == 1 else f"{name} ({text})" for name, text in zip(names, given, strict=True)]
