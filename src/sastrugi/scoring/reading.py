"""Scorecards that were written before, also by earlier versions of this program."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from pydantic import ValidationError

from sastrugi.errors import SastrugiError, system_words
from sastrugi.scoring.scorecard import SCORECARD_VERSION, Scorecard
from sastrugi.texts import parse_json, read_text, require_whole_characters

_FORMAT = "sastrugi-scorecard"
BEFORE_METHODS = "before Method 1"
_OLDEST = 2
_LARGEST = 1 << 30


def read_scorecard(path: Path) -> Scorecard:
    """The scorecard in a file. Raises SastrugiError where it is none, or of a version that cannot be read."""
    try:
        text = read_text(path, _LARGEST)
    except OSError as error:
        raise SastrugiError(f"{path}: cannot be read: {system_words(error)}") from error
    except ValueError as error:
        raise SastrugiError(f"{path}: is no scorecard: {error}") from error
    return parse_scorecard(text, str(path))


def parse_scorecard(text: str | bytes, origin: str) -> Scorecard:
    try:
        document = parse_json(text)
        if b"\\ud" in (text.encode() if isinstance(text, str) else text).lower():
            require_whole_characters(document)
    except ValueError as error:
        raise SastrugiError(f"{origin}: is no scorecard: {error}") from error
    if not isinstance(document, dict) or document.get("format") != _FORMAT:
        raise SastrugiError(f"{origin}: is no scorecard: make one with 'sastrugi score'")
    version = document.get("version")
    if not isinstance(version, int) or not _OLDEST <= version <= SCORECARD_VERSION:
        raise SastrugiError(
            f"{origin}: is version {version!s:.20} of the scorecard, this program reads "
            f"{_OLDEST} to {SCORECARD_VERSION}: score again"
        )
    try:
        return Scorecard.model_validate(document if version == SCORECARD_VERSION else _brought_up(document))
    except (ValidationError, KeyError, TypeError, AttributeError, RecursionError, OverflowError) as error:
        first = f" at {'.'.join(map(str, error.errors()[0]['loc']))}" if isinstance(error, ValidationError) else ""
        raise SastrugiError(f"{origin}: is damaged{first}: score again") from error


def _brought_up(document: dict[str, Any]) -> dict[str, Any]:
    """What a scorecard of an earlier version did not say, as far as it follows from what it says."""
    files = []
    for file in document["files"]:
        some = file["content"] not in ("missing", "foreign")
        later = {"ceiling_live": 0.0, "copies": [], "has_content": some, "name_beyond_ceiling": False}
        later["ceiling_tells"] = file["ceiling_bytes"] > 0
        files.append({**later, **file})
    names: dict[str, int] = {}
    for file in files:
        if file["has_content"]:
            names[file["name"]] = names.get(file["name"], 0) + 1
    known = {"live_copies": 0, "names": names, "names_beyond": 0, "method": BEFORE_METHODS}
    return {**known, **document, "files": files, "version": SCORECARD_VERSION}
