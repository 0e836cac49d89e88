"""Records of the three trees, packed as they are written."""

from __future__ import annotations

import datetime as dt
import struct
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from sastrugi.volumes.allocation import Run
from sastrugi.volumes.hfsplus.layout import (
    FILE,
    FILE_RECORD,
    FILE_THREAD,
    FOLDER,
    FOLDER_RECORD,
    FOLDER_THREAD,
    FORK,
    HAS_ATTRIBUTES,
    HAS_THREAD,
    INLINE_ATTRIBUTE,
    INSIDE,
    INVISIBLE,
    IS_FILE,
    IS_FOLDER,
    LINK_CREATOR,
    LINK_TYPE,
    LOCKED,
    to_seconds,
)
from sastrugi.volumes.writer import ATTRIBUTES

_FILE_MODE, _FOLDER_MODE, _OWNER, _GROUP = 0o644, 0o755, 501, 20


@dataclass(slots=True)
class ForkState:
    """A fork: its bytes and the blocks that it has, as (first, number)."""

    size: int = 0
    runs: list[Run] = field(default_factory=list)


@dataclass(slots=True, eq=False)
class FileState:
    """A file or folder, whatever its names are. Of one that has several, `home` is the key of its record, which stands
    apart from them."""

    number: int
    folder: bool
    created: dt.datetime
    modified: dt.datetime
    changed: dt.datetime
    data: ForkState = field(default_factory=ForkState)
    resource: ForkState = field(default_factory=ForkState)
    bits: int = 0
    """Of `ATTRIBUTES`."""
    links: int = 1
    valence: int = 0
    mode: int = 0
    attributes: dict[str, bytes] = field(default_factory=dict)
    home: tuple[int, bytes] | None = None


def catalog_key(parent: int, units: bytes) -> bytes:
    """A key of the catalog, with its length."""
    return struct.pack(">HIH", 6 + len(units), parent, len(units) // 2) + units


def packed_fork(fork: ForkState, clump: int = 0) -> Any:
    row = np.zeros((), FORK)
    row["size"], row["clump"], row["blocks"] = fork.size, clump, sum(count for _, count in fork.runs)
    for n, run in enumerate(fork.runs[:INSIDE]):
        row["extents"][n] = run
    return row


def packed_file(state: FileState) -> bytes:
    """The data of the record of a file or folder."""
    row = np.zeros((), FOLDER if state.folder else FILE)
    row["type"] = FOLDER_RECORD if state.folder else FILE_RECORD
    flags = 0 if state.folder else HAS_THREAD
    flags |= LOCKED if state.bits & ATTRIBUTES["read-only"] else 0
    row["flags"] = flags | (HAS_ATTRIBUTES if state.attributes else 0)
    row["number"] = state.number
    row["created"], row["modified"] = to_seconds(state.created), to_seconds(state.modified)
    row["changed"] = row["accessed"] = to_seconds(state.changed)
    row["owner"], row["group"] = _OWNER, _GROUP
    row["mode"] = state.mode or (IS_FOLDER | _FOLDER_MODE if state.folder else IS_FILE | _FILE_MODE)
    row["finder_flags"] = INVISIBLE if state.bits & ATTRIBUTES["hidden"] else 0
    if state.folder:
        row["valence"] = state.valence
    else:
        row["special"] = state.links
        row["data"], row["resource"] = packed_fork(state.data), packed_fork(state.resource)
    return row.tobytes()


def packed_link(number: int, to: int, created: dt.datetime, when: dt.datetime) -> bytes:
    """The data of the record of one of several names of a file: it says under what number the file itself is kept."""
    row = np.zeros((), FILE)
    row["type"], row["flags"], row["number"] = FILE_RECORD, HAS_THREAD, number
    row["created"] = to_seconds(created)
    row["modified"] = row["changed"] = row["accessed"] = to_seconds(when)
    row["mode"], row["special"] = IS_FILE | 0o444, to
    row["file_type"], row["creator"] = np.void(LINK_TYPE), np.void(LINK_CREATOR)
    return row.tobytes()


def packed_thread(folder: bool, parent: int, units: bytes) -> bytes:
    """The data of a thread record, by which a name is found by its number."""
    kind = FOLDER_THREAD if folder else FILE_THREAD
    return struct.pack(">HHIH", kind, 0, parent, len(units) // 2) + units


def extents_key(fork: int, number: int, first: int) -> bytes:
    return struct.pack(">HBBII", 10, fork, 0, number, first)


def overflow(fork: int, number: int, runs: Sequence[Run]) -> list[tuple[tuple[int, int, int], bytes]]:
    """The records of a fork's extents that its own record has no room for: keys and records."""
    out: list[tuple[tuple[int, int, int], bytes]] = []
    first = sum(count for _, count in runs[:INSIDE])
    for n in range(INSIDE, len(runs), INSIDE):
        some = runs[n : n + INSIDE]
        data = b"".join(struct.pack(">II", *run) for run in some).ljust(INSIDE * 8, b"\0")
        out.append(((number, fork, first), extents_key(fork, number, first) + data))
        first += sum(count for _, count in some)
    return out


def attribute_record(number: int, name: str, value: bytes) -> tuple[tuple[int, bytes, int], bytes]:
    """Key and record of an attribute whose value stands in the tree."""
    units = name.encode("utf-16-be")
    key = struct.pack(">HHIIH", 12 + len(units), 0, number, 0, len(units) // 2) + units
    data = struct.pack(">IIII", INLINE_ATTRIBUTE, 0, 0, len(value)) + value
    return (number, units, 0), key + data + bytes(len(data) & 1)
