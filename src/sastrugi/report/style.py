"""One look for everything: tables, shares, and the colour-blind-safe colours (Okabe-Ito), each with its letter."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from rich import box
from rich.cells import cell_len
from rich.console import Console, ConsoleOptions, Group, RenderResult
from rich.measure import Measurement
from rich.table import Table

from sastrugi.units import printable

_UNBOUNDED = 10_000
INK, PALE = "#222222", "#eeeeee"
ORANGE, SKY, GREEN, YELLOW, BLUE, VERMILION, PURPLE, GREY, TAN = (
    "#E69F00",
    "#56B4E9",
    "#009E73",
    "#F0E442",
    "#0072B2",
    "#D55E00",
    "#CC79A7",
    "#999999",
    "#B8A88A",
)


FAINT = "bright_black"
"""For what is beside the point, on terminals of any colours: a grey by its numbers becomes white where there are only
sixteen."""


class FittingTable(Table):
    """A table that gives up whole columns, those of `gives_way` in their order, where all of them do not fit; columns
    of `keys`, which hold what people type, are never cut."""

    gives_way: Sequence[str] = ()
    keys: Sequence[str] = ()

    def __rich_console__(self, console: Console, options: ConsoleOptions) -> RenderResult:
        wide = options.update(width=_UNBOUNDED)
        for column in self.columns:
            if column.header in self.keys:
                column.min_width = Measurement.get(console, wide, Group(*column.cells)).maximum
                column.no_wrap = True
        every, leaving = self.columns, list(self.gives_way)
        try:
            while leaving and self.__rich_measure__(console, wide).maximum > options.max_width:
                head = leaving.pop(0)
                left = (column for column in self.columns if column.header != head)
                self.columns = [replace(column, _index=n) for n, column in enumerate(left)]
            yield from super().__rich_console__(console, options)
        finally:
            self.columns = every


def table(title: str = "", gives_way: Sequence[str] = (), keys: Sequence[str] = ()) -> FittingTable:
    out = FittingTable(
        box=box.SIMPLE_HEAD,
        title=title or None,
        title_justify="left",
        title_style="bold",
        header_style="bold",
        pad_edge=False,
    )
    out.gives_way, out.keys = gives_way, keys
    return out


def shorten_path(path: str, room: int) -> str:
    """The end of a path, which tells files apart, in `room` columns (wide characters count as two)."""
    return _shortened(path, room, at_start=True)


def shorten_end(name: str, room: int) -> str:
    """The start of a name in `room` columns."""
    return _shortened(name, room, at_start=False)


def _shortened(text: str, room: int, at_start: bool) -> str:
    text = printable(text)
    room = max(room, 1)
    if text.isascii() and len(text) <= room:
        return text
    widths = [1] * len(text) if text.isascii() else [cell_len(char) for char in text]
    if sum(widths) <= room:
        return text
    order = range(len(text) - 1, -1, -1) if at_start else range(len(text))
    left, kept = room - 1, 0
    for n in order:
        left -= widths[n]
        if left < 0:
            break
        kept += 1
    return f"…{text[len(text) - kept :]}" if at_start else f"{text[:kept]}…"


@dataclass(frozen=True, slots=True)
class Ink:
    """How lines that are printed as they are get their two styles; none where `colour` is off."""

    colour: bool

    def bold(self, text: str) -> str:
        return f"\x1b[1m{text}\x1b[0m" if self.colour else text

    def grey(self, text: str) -> str:
        return f"\x1b[90m{text}\x1b[0m" if self.colour and text else text
