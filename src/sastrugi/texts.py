"""Texts that come from outside: bounded, from regular files only, and never deeper than they can be read."""

from __future__ import annotations

import csv
import io
import json
import os
import re
import stat
import tomllib
from collections.abc import Iterator
from pathlib import Path
from typing import Any, BinaryIO

from sastrugi.units import format_size

_MANY_PARTS = re.compile(r"(?:[\w\"'-]{1,80}[ \t]*\.[ \t]*){40}")
_LONG_NUMBER = re.compile(r"(?:=|,|\[)\s*[+-]?0[xob][0-9a-fA-F_]{64}")
_PIECE, _LEAST_OF_A_PART = 4 << 20, 8
_LONGEST_FIELD, _FIRST_LINE = 16 << 20, 4096
"""Of a CSV file: the extents of a file in very many pieces fit, and what has no end is no field."""
LARGEST_NUMBER = (1 << 63) - 1
"""What a database, an array or a file position can hold; no medium comes near it."""


def read_text(path: Path, most: int, encoding: str = "utf-8") -> str:
    """The text of a file of at most `most` bytes. Raises ValueError, with what is wrong, or OSError."""
    data = bytearray()
    with _opened(path, most) as file:
        while piece := file.read(_PIECE):
            if b"\0" in piece:  # no text has them, and holes of files are nothing else
                raise ValueError(f"it is no text (byte {len(data) + piece.index(0):,} is zero)")
            data += piece
            if len(data) > most:
                raise ValueError(f"it is larger than {format_size(most)}")
    try:
        return data.decode(encoding)
    except UnicodeDecodeError as error:
        raise ValueError(f"it is no text in UTF-8 (byte {error.start:,})") from None


def _opened(path: Path, most: int) -> BinaryIO:
    """A file of at most `most` bytes; nothing that a reader would wait for."""
    handle = os.open(path, os.O_RDONLY | getattr(os, "O_NONBLOCK", 0) | getattr(os, "O_CLOEXEC", 0))
    file = os.fdopen(handle, "rb")
    status = os.fstat(handle)
    if stat.S_ISREG(status.st_mode) and status.st_size <= most:
        return file
    file.close()
    if stat.S_ISREG(status.st_mode):
        raise ValueError(f"it is larger than {format_size(most)}")
    raise ValueError("it is no file (a device, a pipe or a folder)")


def csv_rows(path: Path, most: int, separators: str = ",") -> Iterator[list[str]]:
    """The rows of a CSV file of at most `most` bytes, one after the other, without empty ones; of several separators
    the one that its first line holds most of. Raises ValueError, with what is wrong, or OSError."""
    with _opened(path, most) as file, io.TextIOWrapper(file, "utf-8-sig", newline="") as text:
        csv.field_size_limit(_LONGEST_FIELD)
        try:
            first = text.readline(_FIRST_LINE)
            text.seek(0)
            for row in csv.reader(text, delimiter=max(separators, key=first.count)):
                if row:
                    yield row
        except UnicodeDecodeError as error:
            raise ValueError(f"it is no text in UTF-8 ({error.reason})") from None
        except csv.Error as error:
            raise ValueError(str(error)) from None


def require_whole_characters(document: Any) -> None:
    """Raise ValueError if a text in a JSON document holds half a character, which no file and no table takes."""
    try:
        json.dumps(document, ensure_ascii=False).encode()
    except UnicodeEncodeError:
        raise ValueError("it holds half a character") from None


def parse_toml(text: str) -> dict[str, Any]:
    """The tables of a TOML text. Raises ValueError, also for keys of so many parts that they make a text of a few
    kilobytes take gigabytes, for tables nested too deep, and for numbers that nothing could hold."""
    if _MANY_PARTS.search(text):
        raise ValueError("no key has so many parts")
    if _LONG_NUMBER.search(text):
        raise ValueError("it holds a number that nothing could hold")
    try:
        return tomllib.loads(text)
    except RecursionError:
        raise ValueError("it is nested too deep") from None


def parse_json(text: str | bytes) -> Any:
    """What a JSON text says. Raises ValueError, also for one that is nested too deep, and where `require_content`
    does."""
    require_content(text)
    try:
        return json.loads(text)
    except RecursionError:
        raise ValueError("it is nested too deep") from None


def require_content(text: str | bytes) -> None:
    """Raise ValueError for a long JSON text that is mostly brackets: empty lists take thirty times their text."""
    if len(text) > _PIECE:
        parts = text.count("[") + text.count("{") if isinstance(text, str) else text.count(b"[") + text.count(b"{")
        if parts * _LEAST_OF_A_PART > len(text):
            raise ValueError("it holds more lists than anything that this program writes")
