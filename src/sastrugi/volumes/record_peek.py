"""What the bytes of one record say, whatever the file system: for checks that look instead of believing."""

from __future__ import annotations

from collections.abc import Sequence

from sastrugi.media.extents import Extent
from sastrugi.volumes._fat_family.names import LOST
from sastrugi.volumes.registry import SeenRecord, family_of


def peek_record(file_system: str, data: bytes, where: Sequence[Extent], first: int, cluster: int) -> SeenRecord | None:
    """The record that `data` holds, live or deleted; None if there is none any more. `where` that stands; `first` is
    the byte at which the volume's clusters begin. A name may begin with LOST where a character is lost."""
    family = family_of(file_system)
    return family.peek(file_system, data, where, first, cluster) if family else None


def names_match(seen: str, name: str) -> bool:
    """Whether a name read from a record is this one, but for a first character that a deletion took."""
    return seen == name or (seen[:1] == LOST and seen[1:].casefold() == name[1:].casefold())
