"""One look for everything: tables, shares, and the colour-blind-safe colours (Okabe-Ito), each with its letter."""

from __future__ import annotations

from rich import box
from rich.table import Table

from sastrugi.units import printable

INK, PALE = "#222222", "#eeeeee"
ORANGE, SKY, GREEN, YELLOW, BLUE, VERMILION, PURPLE, GREY = (
    "#E69F00",
    "#56B4E9",
    "#009E73",
    "#F0E442",
    "#0072B2",
    "#D55E00",
    "#CC79A7",
    "#999999",
)


def table(title: str = "", **options: object) -> Table:
    return Table(
        box=box.SIMPLE_HEAD,
        title=title or None,
        title_justify="left",
        title_style="bold",
        header_style="bold",
        pad_edge=False,
        **options,  # type: ignore[arg-type]
    )


def percent(share: float | None) -> str:
    """`94.1 %`; 100 and 0 only when they are exact."""
    if share is None:
        return "–"
    shown = f"{share * 100:.1f}"
    if shown == "100.0" and share < 1:
        shown = "99.9"
    if shown == "0.0" and share > 0:
        shown = "0.1"
    return f"{shown.removesuffix('.0')} %"


def shorten_path(path: str, room: int) -> str:
    """The end of a path, which tells files apart, in `room` columns (wide characters count as two)."""
    from rich.cells import cell_len

    path = printable(path)
    if cell_len(path) <= room:
        return path
    kept = path
    while cell_len(kept) > room - 1:
        kept = kept[1:]
    return "…" + kept
