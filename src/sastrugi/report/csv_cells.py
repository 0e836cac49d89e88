"""Cells of CSV that spreadsheets open and do not run."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from sastrugi.units import printable

if TYPE_CHECKING:
    import pandas as pd

_RUN = ("=", "+", "-", "@", "\t", "\r")
"""What begins a formula. A quote in front of it makes it a text."""


def text_cell(text: str) -> str:
    """A text as a cell: without what cannot be printed, and never a formula."""
    shown = printable(text)
    return f"'{shown}" if shown.startswith(_RUN) else shown


def csv_of(frame: pd.DataFrame) -> str:
    """A table as CSV, its texts as cells that are never run."""
    texts = frame.select_dtypes(exclude=["number", "bool"])
    return str(frame.assign(**texts.map(_cell)).to_csv(index=False, lineterminator="\n"))


def _cell(value: Any) -> Any:
    return text_cell(value) if isinstance(value, str) else value
