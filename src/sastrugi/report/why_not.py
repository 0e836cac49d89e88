"""Why a finding is not surer, as people and programs read it."""

from __future__ import annotations

import textwrap
from collections.abc import Iterator
from typing import Any

from sastrugi.recovery.why_not import WhyNot
from sastrugi.report.style import Ink
from sastrugi.units import format_size, plural, printable

_SHOWN_OWNERS, _SHOWN_PLACES = 4, 6
_LABEL = 14


def why_not_lines(told: WhyNot, width: int, ink: Ink) -> Iterator[str]:
    """One paragraph a finding."""
    one = told.finding
    path = printable(f"{one.folder.rstrip('/')}/{one.name}")
    yield ink.bold(f"{one.number:>4}  {path}") + f"  {one.state}, sure {one.confidence:.2f}, {format_size(one.size)}"
    for label, text in _facts(told):
        wrapped = textwrap.wrap(printable(text), max(width - 6 - _LABEL, 20)) or [""]
        for n, line in enumerate(wrapped):
            yield f"      {ink.grey((label if not n else '').ljust(_LABEL))}{line}"


def _facts(told: WhyNot) -> Iterator[tuple[str, str]]:
    one = told.finding
    yield "lies", _places(one.extents) if one.extents else "nowhere: no record tells a place"
    if told.content is not None:
        at = told.content.breaks_at
        where = f", from byte {at:,} on" if at is not None else ""
        yield "content", f"{'whole' if told.content.whole else 'broken'}{where}: {told.content.rule}"
    elif one.extents:
        yield "content", f"nothing in it begins as a file of a known kind does (it is called {one.kind})"
    if told.owners:
        shown = [f"{other.number} {other.name} ({format_size(count)})" for other, count in told.owners[:_SHOWN_OWNERS]]
        more = len(told.owners) - len(shown)
        yield "owned by", ", ".join(shown) + (f" and {more:,} more" if more else "")
    if not told.can_be_followed:
        yield "followed", "no: nothing in such files shows where a piece of them ends"
        return
    if told.better is not None:
        ran_out = "the scan stopped before that: scan again with a larger --effort"
        guess = "" if told.better.sound else "; others fit as well, so this is a guess"
        same = told.better.extents == one.extents
        yield (
            "followed",
            f"to its end: {_places(told.better.extents)}{guess}" + ("" if same or guess else f"; {ran_out}"),
        )
        return
    far = told.farthest
    if far is None or not far.reached:
        yield "followed", "no: another file owns its first cluster, or what it needs to know first was not found"
        return
    pieces = plural(len(far.places), "piece")
    of = f" of {one.size:,}" if one.state == "deleted" else ""
    yield "followed", f"to byte {far.reached:,}{of}, in {pieces}: {_places(far.places)}"
    tried = f"{plural(told.tries, 'cluster')} of {format_size(told.cluster)} tried"
    gained = f"the likeliest gained {max(far.gained, 0.0):.0f} bits of the {told.enough:.0f} that are needed"
    yield "lacks", f"what goes on there: {tried}, {gained}" + ("; then the effort was spent" if told.spent else "")


def _places(extents: Any) -> str:
    shown = [f"{extent.offset:,}+{extent.length:,}" for extent in extents[:_SHOWN_PLACES]]
    more = len(extents) - len(shown)
    return " ".join(shown) + (f" and {more:,} more" if more else "")


def why_not_json(told: WhyNot) -> dict[str, Any]:
    one, far, content = told.finding, told.farthest, told.content
    return {
        "number": one.number,
        "path": f"{one.folder.rstrip('/')}/{one.name}",
        "confidence": round(one.confidence, 4),
        "extents": [list(extent) for extent in one.extents],
        "content": None
        if content is None
        else {"kind": content.kind, "whole": content.whole, "breaks_at": content.breaks_at, "rule": content.rule},
        "owners": [{"number": other.number, "name": other.name, "bytes": count} for other, count in told.owners],
        "can_be_followed": told.can_be_followed,
        "reached": far.reached if far is not None else None,
        "reached_on": [list(extent) for extent in far.places] if far is not None else None,
        "clusters_tried": told.tries,
        "gained": round(far.gained, 1) if far is not None else None,
        "needed": told.enough,
        "spent": told.spent,
        "better": [list(extent) for extent in told.better.extents] if told.better is not None else None,
    }
