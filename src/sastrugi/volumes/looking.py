"""What the bytes of one directory record say, whatever the file system: for checks that look instead of believing."""

from __future__ import annotations

from dataclasses import dataclass

from sastrugi.volumes.exfat.directory import parse_set
from sastrugi.volumes.fat import directory as fat
from sastrugi.volumes.fat.layout import ENTRY_SIZE


@dataclass(frozen=True, slots=True)
class SeenRecord:
    """Name, size and first cluster that a record tells. A name may begin with `fat.LOST` where a character is lost."""

    name: str
    size: int
    first_cluster: int


def look_at_record(file_system: str, data: bytes) -> SeenRecord | None:
    """The record that `data` holds, live or deleted; None if there is none any more."""
    if file_system == "exfat":
        seen = parse_set(data)
        return SeenRecord(seen.name, seen.size, seen.cluster) if seen else None
    width = int(file_system.removeprefix("fat"))
    found = fat.parse_table(data, width)
    if not found or found[-1].position + found[-1].length != len(data):
        # Long-name entries may be written over while the short entry, the last, stands.
        found = fat.parse_table(data[-ENTRY_SIZE:], width)
    return SeenRecord(found[-1].name, found[-1].size, found[-1].cluster) if found else None


def same_name(seen: str, name: str) -> bool:
    """Whether a name read from a record is this one, but for a first character that a deletion took."""
    return seen == name or (seen[:1] == fat.LOST and seen[1:].casefold() == name[1:].casefold())
