"""Findings in rows of text: a table that fits the width it gets, a tree of folders, paragraphs with reasons.

Written line by line and not through tables that measure themselves: there may be hundreds of thousands of rows.
"""

from __future__ import annotations

import textwrap
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from typing import Any, NamedTuple

from sastrugi.report.evidence import weighed_reasons
from sastrugi.report.style import Ink, shorten_end, shorten_path
from sastrugi.units import format_size, plural, printable

_LEAST_PATH = 12
_DEEPEST = 24
"""Folders in each other that a tree shows; names below them stand at the last one."""


class Column(NamedTuple):
    """One column: its head, its width (0: what is left), and whether numbers stand in it."""

    head: str
    width: int
    right: bool = False


_GIVE_WAY = ("Name", "Modified", "State", "Size")
"""What goes first where there is no room; number, confidence, kind and file always stay."""


def columns_for(width: int, last_number: int, kinds: Iterable[str]) -> list[Column]:
    """The columns that leave a path at least 30 places, or that must stay."""
    out = [
        Column("No", max(len(str(last_number)), 2), True), Column("State", 7), Column("Sure", 4, True),
        Column("Size", 10, True), Column("Kind", max(4, *map(len, kinds), 0)), Column("Modified", 10),
        Column("Name", 4, True), Column("File", 0),
    ]  # fmt: skip
    for name in _GIVE_WAY:
        if width - sum(column.width + 2 for column in out) >= 30:
            break
        out = [column for column in out if column.head != name]
    return out


def table_lines(rows: Iterable[tuple[Any, ...]], columns: list[Column], width: int, ink: Ink) -> Iterator[str]:
    """One line a finding; `Sure` is its confidence, `Name` how sure folder and name are (both 0 to 1)."""
    room = max(width - sum(column.width + 2 for column in columns[:-1]), _LEAST_PATH)
    yield ink.bold("  ".join(_placed(column.head, column) for column in columns))
    yield ink.grey("─" * width)
    for row in rows:
        cells = {
            "No": str(row[0]),
            "State": row[1],
            "Sure": f"{row[12]:.2f}",
            "Size": format_size(row[7]),
            "Kind": row[5],
            "Modified": (row[9] or "–")[:10],
            "Name": f"{row[13]:.2f}",
            "File": shorten_path(_path(row), room),
        }
        yield "  ".join(_placed(cells[column.head], column) for column in columns)


def _placed(text: str, column: Column) -> str:
    return text.rjust(column.width) if column.right else text.ljust(column.width)


def _path(row: tuple[Any, ...]) -> str:
    return f"{row[3].rstrip('/')}/{row[4]}"


def reason_lines(rows: Iterable[tuple[Any, ...]], width: int, ink: Ink) -> Iterator[str]:
    """One paragraph a finding: what it is, and a line for each piece of evidence, with the bits that it weighs for the
    file being whole."""
    for row in rows:
        modified = (row[9] or "–")[:16].replace("T", " ")
        yield ink.bold(f"{row[0]:>4}  {printable(_path(row))}") + _name_note(row)
        facts = f"{row[1]}, sure {row[12]:.2f}, {format_size(row[7])}, {row[5]}, modified {modified}"
        yield from (f"      {line}" for line in textwrap.wrap(facts, max(width - 6, 20)))
        for bits, reason in weighed_reasons(row[14]):
            mark = f"{bits:+5.1f}" if bits else "    –"
            wrapped = textwrap.wrap(printable(reason), max(width - 13, 20)) or [""]
            yield from (ink.grey(f"      {mark if not n else '     '}  {line}") for n, line in enumerate(wrapped))


def _name_note(row: tuple[Any, ...]) -> str:
    if row[1] != "deleted" or row[13] >= 0.95:
        return ""
    return "  (name worked out)" if row[13] > 0.2 else "  (name damaged)"


@dataclass(slots=True)
class _Folder:
    folders: dict[str, _Folder] = field(default_factory=dict)
    files: list[tuple[str, str]] = field(default_factory=list)
    size: int = 0


def tree_lines(rows: Iterable[tuple[Any, ...]], title: str, width: int, ink: Ink) -> Iterator[str]:
    """The findings in their folders, each folder with what is shown of it."""
    root = _Folder()
    for row in rows:
        here = root
        for part in row[3].strip("/").split("/")[:_DEEPEST] if row[3].strip("/") else ():
            here = here.folders.setdefault(part, _Folder())
        here.files.append((row[4], f"  {row[0]}  {row[1]} {format_size(row[7])} {row[12]:.2f}"))
        here.size += row[7]
    yield ink.bold(printable(title))
    yield from _branches(root, "", width, ink)


def _branches(folder: _Folder, before: str, width: int, ink: Ink) -> Iterator[str]:
    left = len(folder.folders) + len(folder.files)
    for name, inner in sorted(folder.folders.items()):
        left -= 1
        note = f"  {plural(len(inner.files), 'file')}, {format_size(inner.size)}" if inner.files else ""
        room = width - len(before) - 4 - len(note) - 1
        shown = ink.bold(f"{shorten_end(name, max(room, _LEAST_PATH))}/") + ink.grey(note)
        yield f"{ink.grey(before + ('├── ' if left else '└── '))}{shown}"
        yield from _branches(inner, before + ("│   " if left else "    "), width, ink)
    for name, note in folder.files:
        left -= 1
        room = max(width - len(before) - 4 - len(note), _LEAST_PATH)
        shown = shorten_end(name, room) + ink.grey(note)
        yield f"{ink.grey(before + ('├── ' if left else '└── '))}{shown}"
