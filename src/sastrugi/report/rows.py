"""Rows of short texts as lines: for tables of any length, whose columns are as wide as what they hold."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from sastrugi.report.style import Ink
from sastrugi.units import printable

RIGHT = ">"
"""Before the head of a column with numbers in it."""


def row_lines(
    heads: Sequence[str], rows: Sequence[Sequence[str]], width: int, ink: Ink, gives_way: Sequence[str] = ()
) -> Iterator[str]:
    """The lines of a table; columns of `gives_way` go first, in that order, where there is no room. Texts are cut
    before they come here."""
    columns = [[printable(cell) for cell in column] for column in zip(*rows, strict=True)] or [[] for _ in heads]
    shown = list(range(len(heads)))
    named = [head.removeprefix(RIGHT) for head in heads]
    widths = [max(len(named[n]), *map(len, columns[n]), 0) for n in shown]
    for head in gives_way:
        if sum(widths[n] + 2 for n in shown) - 2 <= width:
            break
        shown = [n for n in shown if named[n] != head]
    right = [head.startswith(RIGHT) for head in heads]

    def line(cells: Sequence[str]) -> str:
        return "  ".join(
            cell.rjust(widths[n]) if right[n] else cell.ljust(widths[n]) for n, cell in zip(shown, cells, strict=True)
        ).rstrip()

    yield ink.bold(line([named[n] for n in shown]))
    yield ink.grey("─" * min(sum(widths[n] + 2 for n in shown) - 2, width))
    for cells in zip(*(columns[n] for n in shown), strict=True):
        yield line(cells)
