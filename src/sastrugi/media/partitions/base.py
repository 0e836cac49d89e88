"""What every partition table says of a partition."""

from __future__ import annotations

from dataclasses import dataclass

from sastrugi.media.extents import Extent


@dataclass(frozen=True, slots=True)
class Partition:
    """One entry of a partition table. `where` is in bytes and may reach beyond the medium: `note` says so.

    `logical` ones stand in the extended partition of a master boot record. `label` is the name a GPT gives.
    """

    number: int
    type_name: str
    where: Extent
    bootable: bool = False
    logical: bool = False
    label: str = ""
    note: str = ""


def place_note(where: Extent, size: int) -> str:
    """What is wrong with a place on a medium of `size` bytes, in words; empty if nothing is."""
    if where.offset >= size:
        return "starts beyond the end of the medium"
    if where.end > size:
        return f"ends {where.end - size:,} bytes beyond the end of the medium"
    if where.offset == 0:
        return "starts at sector 0, where the table itself is"
    return ""
