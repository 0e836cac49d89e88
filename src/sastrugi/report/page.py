"""A scorecard as one HTML page that needs nothing else: no network, no other file, and no script to be read."""

from __future__ import annotations

import base64
from collections import Counter
from collections.abc import Sequence
from typing import TYPE_CHECKING

from sastrugi.progress import Progress
from sastrugi.report import figures
from sastrugi.report.pages import page
from sastrugi.report.pairs import VISIBLE, draw_pairs
from sastrugi.report.scorecard import CAUSES, SHORTFALLS, bench_line, classes_line
from sastrugi.units import format_size, percent, span_of_shares

if TYPE_CHECKING:
    from sastrugi.scoring.scorecard import FileScore, Scorecard
    from sastrugi.scoring.scorer import Judgement
    from sastrugi.specimen.truth import Specimen

COLUMNS = (
    ("File", False), ("Kind", False), ("Size", True), ("Loss", False), ("Pieces", True), ("Content", False),
    ("Complete", True), ("Ceiling", True), ("Name", False), ("Times", False), ("Why", False),
)  # fmt: skip
_MOST_MAPS, _MOST_PICTURES, _MOST_RESULTS = 40, 12, 500
MOST_ROWS = 5000
"""Files that the page lists; of more, those that fell short come first, and a table beside the page has all."""
_VERDICTS = ("intact", "padded", "cut", "mixed", "foreign", "missing")
Pictures = dict[int, list[tuple[str, str, str]]]
"""By number of the file: what each picture is, its PNG in base64 (or nothing), and what is wrong with it."""


def render(
    card: Scorecard, title: str, pictures: Pictures | None = None, missed: Sequence[str] = (), table: str = ""
) -> str:
    """The page. `missed` are floors; `table` is the name of the file beside it that lists what has no room here."""
    short = card.short
    rows: Sequence[FileScore] = card.files
    if len(rows) > MOST_ROWS:
        fell_short = {file.id for file in short}
        rows = [*short, *(file for file in rows if file.id not in fell_short)][:MOST_ROWS]
    groups = [(words, own) for key, words in SHORTFALLS.items() if (own := [f for f in short if f.shortfall == key])]
    drawn = {
        "headline": figures.headline_bars(card),
        "heat": figures.heat_map(card),
        "size": figures.curve(card.groups["size"], "size"),
        "pieces": figures.curve(card.groups["pieces"], "pieces"),
        "reliability": figures.reliability(card.calibration) if card.calibration else "",
    }
    headline = [(name.replace("_", " "), getattr(card, name)) for name in ("intact", "complete", "named", "all_three")]
    by_bytes = [("intact, by bytes", card.intact_bytes), ("complete, by bytes", card.complete_bytes)]
    causes = [(count, CAUSES[cause]) for cause, count in Counter(file.cause for file in short).most_common()]
    return page(
        "report.html", card=card, title=title, figures=drawn, headline=headline, short=short, rows=rows, table=table,
        groups=groups, missed=missed, by_bytes=by_bytes, causes=causes, pictures=pictures or {}, columns=COLUMNS,
        verdicts=_VERDICTS, most_maps=_MOST_MAPS, most_results=_MOST_RESULTS, percent=percent, size=format_size,
        classes_line=classes_line, span_of_shares=span_of_shares, bench_line=bench_line,
        damage_map=figures.damage_map,
    )  # fmt: skip


def damaged_pictures(judged: Judgement, specimen: Specimen, card: Scorecard, progress: Progress) -> Pictures:
    """Original and result side by side of the pictures and sounds that came back damaged."""
    chosen = [f for f in card.files if f.content in ("cut", "mixed", "padded") and f.group in VISIBLE][:_MOST_PICTURES]
    found = [judged.of(score.id) for score in chosen]
    pairs = draw_pairs(specimen, [(file, result) for file, _, result in found], progress)
    return {
        score.id: [
            (told, base64.b64encode(one.picture).decode(), one.problem)
            for told, one in zip(("as it was", "as it came back"), pair, strict=True)
            if one is not None
        ]
        for score, pair in zip(chosen, pairs, strict=True)
    }
