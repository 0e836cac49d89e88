"""Original and result side by side: drawn by child processes with limits, from wherever their bytes are."""

from __future__ import annotations

import io
import tempfile
from collections.abc import Sequence
from contextlib import ExitStack
from dataclasses import dataclass
from itertools import zip_longest
from pathlib import Path
from textwrap import wrap
from typing import TYPE_CHECKING

from rich.text import Text

from sastrugi.recovery.temp_copy import TempCopy, plain_suffix
from sastrugi.report.style import FAINT
from sastrugi.report.tiles import bytes_tile, tile
from sastrugi.scoring.sources import Source, bytes_of, original_of
from sastrugi.subprocess_pool import problem_of, run_in_children

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray
    from rich.console import Console, ConsoleOptions, RenderResult

    from sastrugi.progress import Progress
    from sastrugi.scoring.results import Result
    from sastrugi.specimen.truth import Specimen, TruthFile

VISIBLE = frozenset({"picture", "sound", "video"})
"""Groups of kinds of which a person sees at once what is wrong."""
Sample = tuple[Source, str]
"""Where the bytes of a file are, and how its name ends."""
_LARGEST = 256 << 20
"""Bytes of one file that are looked at."""
_WIDTH, _LEAST_WIDTH, _RAMP = 46, 16, " .:-=+*#%@"


@dataclass(frozen=True, slots=True)
class Drawn:
    """A small picture (PNG bytes), and why it shows only bytes, or nothing."""

    picture: bytes
    problem: str


Pair = tuple[Drawn, Drawn | None]
"""A file as it was and as it came back, if it did."""


def draw_pairs(specimen: Specimen, pairs: Sequence[tuple[TruthFile, Result | None]], progress: Progress) -> list[Pair]:
    """In the order of `pairs`; drawn in child processes."""
    tasks: list[Sample] = []
    for file, result in pairs:
        suffix = plain_suffix(file.name)
        tasks.append((original_of(specimen, file), suffix))
        if result is not None:
            tasks.append((bytes_of(specimen, result, file.name), suffix))
    drawn = iter(draw_samples(tasks, progress))
    return [(next(drawn), next(drawn) if result is not None else None) for _, result in pairs]


def draw_samples(samples: Sequence[Sample], progress: Progress) -> list[Drawn]:
    """A small picture of each, drawn in child processes."""
    progress.start("draw", len(samples), "files")
    outcomes = run_in_children(f"{__name__}:draw_one", samples, progress)
    progress.finish()
    return [Drawn(*(outcome.value or (b"", outcome.problem))) for outcome in outcomes]


def draw_one(task: Sample) -> tuple[bytes, str]:
    """PNG bytes of a small picture of a file whose name ends as told, and why it shows only its bytes. Runs in a
    child."""
    where, suffix = task
    with ExitStack() as stack:
        if isinstance(where, TempCopy):
            path = stack.enter_context(where.as_file(_LARGEST))
        else:
            path = Path(stack.enter_context(tempfile.TemporaryDirectory(prefix="sastrugi-"))) / f"file{suffix}"
            path.symlink_to(where.resolve())
        try:
            return tile(path)[1], ""
        except MemoryError:
            raise
        except Exception as error:
            return bytes_tile(path), problem_of(error, path)


class SideBySide:
    """Pictures on a terminal, beside each other with a caption above: of half blocks, each of which is two points one
    above the other; where there are no colours, the darker the sign the darker the point."""

    def __init__(self, pictures: Sequence[tuple[str, Drawn]]) -> None:
        self._pictures = pictures

    def __rich_console__(self, console: Console, options: ConsoleOptions) -> RenderResult:
        coloured = console.color_system is not None and not console.no_color
        width = max(min(_WIDTH, options.max_width // len(self._pictures) - 2), _LEAST_WIDTH)
        columns = [self._lines(caption, drawn, coloured, width) for caption, drawn in self._pictures]
        for parts in zip_longest(*columns, fillvalue=Text()):
            line = Text()
            for part in parts:
                line.append_text(part).append(" " * (width - part.cell_len + 2))
            line.rstrip()
            yield line

    def _lines(self, caption: str, drawn: Drawn, coloured: bool, width: int) -> list[Text]:
        told = wrap(f"{caption}; cannot be shown: {drawn.problem}" if drawn.problem else caption, width)[:3]
        lines = [Text(words, style=FAINT) for words in told]
        if drawn.picture:
            lines += [
                _line(above, below, coloured)
                for above, below in zip(*(_points(drawn, width)[n::2] for n in (0, 1)), strict=True)
            ]
        return lines


def _points(drawn: Drawn, width: int) -> NDArray[np.uint8]:
    """The picture as points, shape (an even number of rows, `width`, 3)."""
    import numpy as np
    from PIL import Image

    with Image.open(io.BytesIO(drawn.picture)) as picture:
        rows = round(width * picture.height / picture.width / 2) * 2
        return np.asarray(picture.convert("RGB").resize((width, rows)))


def _line(above: NDArray[np.uint8], below: NDArray[np.uint8], coloured: bool) -> Text:
    if not coloured:
        dark = 1 - (above.mean(axis=1) + below.mean(axis=1)) / 510
        return Text("".join(_RAMP[round(share * (len(_RAMP) - 1))] for share in dark.tolist()))
    line = Text()
    for high, low in zip(above.tolist(), below.tolist(), strict=True):
        line.append("▀", f"rgb({high[0]},{high[1]},{high[2]}) on rgb({low[0]},{low[1]},{low[2]})")
    return line
