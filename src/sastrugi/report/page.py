"""A scorecard as one HTML page that needs nothing else: no network, no other file, and no script to be read."""

from __future__ import annotations

import base64
import tempfile
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from sastrugi.children import run_in_children
from sastrugi.progress import Progress
from sastrugi.report import figures
from sastrugi.report.scorecard import urgency
from sastrugi.report.style import percent
from sastrugi.units import format_size

if TYPE_CHECKING:
    from sastrugi.scoring.scorecard import FileScore, Scorecard
    from sastrugi.specimen.truth import Specimen

COLUMNS = (
    ("File", False), ("Kind", False), ("Size", True), ("Loss", False), ("Pieces", True), ("Content", False),
    ("Complete", True), ("Ceiling", True), ("Name", False), ("Times", False), ("Why", False),
)  # fmt: skip
_MOST_MAPS, _MOST_PICTURES = 40, 12
_VERDICTS = ("intact", "padded", "cut", "mixed", "foreign", "missing")
Pictures = dict[int, list[tuple[str, str]]]


def render(card: Scorecard, title: str, pictures: Pictures | None = None, missed: Sequence[str] = ()) -> str:
    """The page. `pictures` are (what it is, PNG in base64 or nothing) by number of the file; `missed` are floors."""
    from jinja2 import Environment, PackageLoader

    from sastrugi import __version__

    environment = Environment(loader=PackageLoader("sastrugi.report"), autoescape=True, trim_blocks=True)
    short = sorted((f for f in card.files if not (f.intact and f.named)), key=urgency)
    drawn = {
        "headline": figures.headline_bars(card),
        "heat": figures.heat_map(card),
        "size": figures.curve(card.groups["size"], "size"),
        "pieces": figures.curve(card.groups["pieces"], "pieces"),
        "reliability": figures.reliability(card.calibration) if card.calibration else "",
    }
    headline = [(name.replace("_", " "), getattr(card, name)) for name in ("intact", "complete", "named", "all_three")]
    return environment.get_template("report.html").render(
        card=card, title=title, version=__version__, figures=drawn, headline=headline, short=short, missed=missed,
        pictures=pictures or {}, columns=COLUMNS, verdicts=_VERDICTS, most_maps=_MOST_MAPS, percent=percent,
        size=format_size, damage_map=figures.damage_map,
    )  # fmt: skip


def damaged_pictures(card: Scorecard, specimen: Specimen, results: Path, progress: Progress) -> Pictures:
    """Original and result side by side of the pictures and sounds that came back damaged; drawn by child processes."""
    chosen: list[FileScore] = [
        f for f in card.files if f.content in ("cut", "mixed") and f.group in ("picture", "sound", "video") and f.result
    ][:_MOST_PICTURES]
    by_number = {file.id: file for file in specimen.truth.files}
    with tempfile.TemporaryDirectory(prefix="sastrugi-") as folder:
        paths: list[Path] = []
        for score in chosen:
            original = Path(folder) / f"{score.id}{Path(score.path).suffix}"
            with original.open("wb") as file:
                file.writelines(specimen.blocks(by_number[score.id]))
            paths += [original, results / str(score.result)]
        progress.start("draw", len(paths), "files")
        outcomes = run_in_children("sastrugi.report.tiles:tile", paths, progress)
        progress.finish()
    out: Pictures = {}
    for n, score in enumerate(chosen):
        pair = zip(("as it was", "as it came back"), outcomes[2 * n : 2 * n + 2], strict=True)
        out[score.id] = [
            (told, base64.b64encode(outcome.value[1]).decode() if outcome.value else "") for told, outcome in pair
        ]
    return out
