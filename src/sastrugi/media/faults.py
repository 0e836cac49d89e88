"""A simulated failing medium: an image with a file beside it that says what goes wrong when it is read.

The format is docs/formats/faults.md: sectors that cannot be read, some that can at a later try, slow ones, and a device
that goes away.
"""

from __future__ import annotations

import errno
import json
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from sastrugi.errors import MediumError
from sastrugi.media.extents import Extent, RangeSet
from sastrugi.texts import LARGEST_NUMBER, parse_json, read_text

FAULTS_SUFFIX = ".faults.json"
_LARGEST, _SLOWEST = 64 << 20, 60.0
_FORMAT, _VERSION = "sastrugi-faults", 1
_KEYS = {"format", "version", "unreadable", "flaky", "slow", "drop_out"}


@dataclass(slots=True)
class Faults:
    """What is wrong with a medium. `flaky` are extents with the number of tries that fail, `slow` extents with the
    seconds that each read of them takes, `drop_out` the bytes after which the device is gone, until it is opened again.
    """

    unreadable: RangeSet = field(default_factory=RangeSet)
    flaky: list[tuple[Extent, int]] = field(default_factory=list)
    slow: list[tuple[Extent, float]] = field(default_factory=list)
    drop_out: int | None = None
    sleep: Callable[[float], None] = time.sleep
    _read: int = 0

    def before_read(self, offset: int, length: int) -> None:
        """Do what the medium does: wait, or raise OSError as a device would."""
        if self.drop_out is not None and self._read >= self.drop_out:
            raise OSError(errno.ENXIO, "the device is gone")
        for extent, seconds in self.slow:
            if extent.offset < offset + length and offset < extent.end:
                self.sleep(seconds)
        if self.unreadable.overlap(Extent(offset, length)):
            raise OSError(errno.EIO, "cannot be read")
        for n, (extent, times) in enumerate(self.flaky):
            if times > 0 and extent.offset < offset + length and offset < extent.end:
                self.flaky[n] = (extent, times - 1)
                raise OSError(errno.EIO, "cannot be read")
        self._read += length


def write_faults(image: Path, unreadable: Sequence[Extent]) -> Path:
    """Say beside an image which ranges cannot be read; answers the file."""
    path = image.with_name(image.name + FAULTS_SUFFIX)
    document = {"format": _FORMAT, "version": _VERSION, "unreadable": [list(extent) for extent in unreadable]}
    path.write_text(json.dumps(document, indent=1) + "\n", encoding="utf-8")
    return path


def read_faults(image: Path) -> Faults | None:
    """What is said to be wrong with an image; None where nothing says so."""
    path = image.with_name(image.name + FAULTS_SUFFIX)
    if not path.is_file():
        return None
    try:
        document = parse_json(read_text(path, _LARGEST))
        if document["format"] != _FORMAT or document["version"] != _VERSION:
            raise ValueError(f"is {document['format']} version {document['version']}, not {_FORMAT} version {_VERSION}")
        if unknown := set(document) - _KEYS:
            raise ValueError(f"'{min(unknown)}' is no key here: there are {', '.join(sorted(_KEYS))}")
        faults = Faults(
            RangeSet(_extent(*row) for row in document.get("unreadable", [])),
            [(_extent(*row[:2]), int(row[2])) for row in document.get("flaky", [])],
            [(_extent(*row[:2]), _seconds(row[2])) for row in document.get("slow", [])],
            None if document.get("drop_out") is None else int(document["drop_out"]),
        )
    except (OSError, ValueError, KeyError, TypeError, LookupError, AttributeError, OverflowError) as error:
        raise MediumError(f"{path}: is no list of faults: {error}") from error
    return faults


def _seconds(value: float) -> float:
    if not 0 <= float(value) <= _SLOWEST:
        raise ValueError(f"a slow read takes 0 to {_SLOWEST:g} seconds, not {value!r:.40}")
    return float(value)


def _extent(offset: int, length: int) -> Extent:
    if int(offset) < 0 or int(length) <= 0 or int(offset) + int(length) > LARGEST_NUMBER:
        raise ValueError("a range is empty, or lies where no medium is")
    return Extent(int(offset), int(length))
