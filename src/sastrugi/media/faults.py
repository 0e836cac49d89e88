"""A simulated failing medium: an image with a file beside it that says which sectors cannot be read any more.

The format is docs/formats/faults.md. The image holds zeros there, so that a program that knows nothing of the file
reads what a capture with unreadable sectors would have left.
"""

from __future__ import annotations

import json
from collections.abc import Sequence
from pathlib import Path

from sastrugi.errors import MediumError
from sastrugi.media.extents import Extent, RangeSet

FAULTS_SUFFIX = ".faults.json"
_FORMAT, _VERSION = "sastrugi-faults", 1


def write_faults(image: Path, unreadable: Sequence[Extent]) -> Path:
    """Say beside an image which ranges cannot be read; answers the file."""
    path = image.with_name(image.name + FAULTS_SUFFIX)
    document = {"format": _FORMAT, "version": _VERSION, "unreadable": [list(extent) for extent in unreadable]}
    path.write_text(json.dumps(document, indent=1) + "\n", encoding="utf-8")
    return path


def read_faults(image: Path) -> RangeSet:
    """The ranges of an image that cannot be read; none where nothing says so."""
    path = image.with_name(image.name + FAULTS_SUFFIX)
    if not path.is_file():
        return RangeSet()
    try:
        document = json.loads(path.read_text("utf-8"))
        if document["format"] != _FORMAT or document["version"] != _VERSION:
            raise ValueError(f"is {document['format']} version {document['version']}, not {_FORMAT} version {_VERSION}")
        ranges = [Extent(int(offset), int(length)) for offset, length in document["unreadable"]]
        if any(offset < 0 or length <= 0 for offset, length in ranges):
            raise ValueError("an unreadable range lies before the start or is empty")
    except (OSError, ValueError, KeyError, TypeError) as error:
        raise MediumError(f"{path}: is no list of faults: {error}") from error
    return RangeSet(ranges)
