"""`sastrugi-plain-reader MEDIUM RESULTS`: a stand-in for a simple program under test.

It reads what the live tables of listed volumes still say of deleted files, believes that each lay in one piece from
where its record says, and looks at nothing else: not at contents, not at earlier formats, not at what was overwritten.
"""

from __future__ import annotations

import os
import sys
from collections.abc import Iterator
from pathlib import Path

from sastrugi.errors import SastrugiError
from sastrugi.media import Extent, Medium, open_medium
from sastrugi.media.extents import cut, within
from sastrugi.media.partitions import read_table
from sastrugi.recovery.names import safe_name, with_number
from sastrugi.volumes.probing import probe
from sastrugi.volumes.reader import Entry

_PIECE = 1 << 20
USAGE = "usage: {} MEDIUM RESULTS"


def lost_entries(medium: Medium) -> Iterator[Entry]:
    """Deleted files of which the live tables say where they began."""
    listed = [row.where for row in read_table(medium) or ()] or [Extent(0, medium.size)]
    for where in listed:
        volume = probe(medium, where)
        if volume is not None:
            yield from (e for e in volume.entries() if e.deleted and not e.folder and e.placements and e.size)


def in_one_piece(medium: Medium, entry: Entry) -> tuple[Extent, ...]:
    """From where it began on, as long as it was."""
    start = medium.size if entry.map.start is None else entry.map.start
    return cut((Extent(start, max(min(entry.size, medium.size - start), 0)),), entry.size)


def free_path(results: Path, entry: Entry) -> Path:
    """Where a file is written: under its folders, with a number where its name is taken."""
    *folders, name = (safe_name(part) for part in entry.path)
    folder = results.joinpath(*folders)
    folder.mkdir(parents=True, exist_ok=True)
    path, number = folder / name, 2
    while path.exists():
        path, number = folder / with_number(name, number), number + 1
    return path


def write_file(medium: Medium, extents: tuple[Extent, ...], path: Path, entry: Entry) -> None:
    size = sum(extent.length for extent in extents)
    with path.open("wb") as out:
        for at in range(0, size, _PIECE):
            out.write(medium.read_extents(within(extents, at, min(_PIECE, size - at))))
    if entry.times.modified is not None:
        seconds = entry.times.modified.timestamp()
        os.utime(path, (seconds, seconds))


def main() -> None:
    if len(sys.argv) != 3:
        sys.exit(USAGE.format("sastrugi-plain-reader"))
    results, count = Path(sys.argv[2]), 0
    try:
        with open_medium(sys.argv[1]) as medium:
            for entry in lost_entries(medium):
                write_file(medium, in_one_piece(medium, entry), free_path(results, entry), entry)
                count += 1
    except (SastrugiError, OSError) as error:
        sys.exit(f"sastrugi-plain-reader: {error}")
    print(f"{count} files in {results}")


if __name__ == "__main__":
    main()
