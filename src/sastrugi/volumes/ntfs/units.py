"""Content in units that are packed one by one: of 16 clusters each as many are given out as the packed bytes need."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence

from sastrugi.media.extents import Extent
from sastrugi.media.filemap import ZEROS, FileMap, Segment
from sastrugi.volumes.ntfs.file_record import UNIT, Stream
from sastrugi.volumes.ntfs.layout import LZNT1


def in_units(chunks: Iterable[bytes], unit: int) -> Iterator[bytes]:
    """The same bytes in pieces of `unit` bytes; the last may be shorter."""
    waiting = bytearray()
    for chunk in chunks:
        waiting += chunk
        while len(waiting) >= unit:
            yield bytes(waiting[:unit])
            del waiting[:unit]
    if waiting:
        yield bytes(waiting)


def joined_with_holes(runs: Iterable[tuple[int, int]]) -> list[tuple[int, int]]:
    """Neighbouring runs as one; holes as well."""
    out: list[tuple[int, int]] = []
    for start, count in runs:
        before = out[-1] if out else (-2, 0)
        if start >= 0 and before[0] >= 0 and before[0] + before[1] == start:
            out[-1] = (before[0], before[1] + count)
        elif start < 0 and before[0] == -1:
            out[-1] = (-1, before[1] + count)
        else:
            out.append((start, count))
    return out


def unit_map(
    stream: Stream, cluster: int, places: Callable[[Sequence[tuple[int, int]]], tuple[Extent, ...]]
) -> FileMap:
    """Where a stream in units lies; `places` tells where runs do."""
    segments: list[Segment] = []
    left = stream.size
    waiting = list(reversed(stream.runs))
    while waiting and left > 0:
        own: list[tuple[int, int]] = []
        need = UNIT
        while need and waiting:
            start, count = waiting.pop()
            taken = min(count, need)
            own.append((start, taken))
            need -= taken
            if count > taken:
                waiting.append((start + taken if start >= 0 else -1, count - taken))
        length = min(UNIT * cluster, left)
        stored = places([run for run in own if run[0] >= 0])
        if not stored:
            segments.append(Segment(length, (), ZEROS))
        elif need or any(start < 0 for start, _ in own):
            segments.append(Segment(length, stored, LZNT1))
        else:
            segments += FileMap.of(stored, length).segments
        left -= length
    return FileMap.made(segments)
