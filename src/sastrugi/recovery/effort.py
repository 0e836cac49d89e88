"""How much work putting pieces together may take.

Work is counted, not timed, so that the same medium gives the same findings on any machine: a byte of each kind costs
what measuring it takes (nanoseconds on a processor of 2024, from made files), and so does each try. Pieces are put
together in two stages, once records were read and once contents were. Together they may take twice as much as the rest
of the scan takes by the same table, or five seconds, times what the user asks for (`scan --effort`).
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass

_COSTS = {
    "bz2": 220.0, "jpeg": 130.0, "xz": 25.0, "class": 16.0, "pptx": 14.0, "flac": 13.0, "xlsx": 12.0, "docx": 11.0,
    "odp": 8.0, "epub": 8.0, "zip": 7.5, "ods": 7.5, "txt": 7.0, "odt": 6.0, "gpx": 5.5, "xml": 5.0, "svg": 4.0,
    "html": 4.0, "rtf": 3.0, "mp3": 3.0, "opus": 3.0, "gz": 3.0, "ogg": 3.0, "jar": 2.5, "pdf": 3.0,
}  # fmt: skip
_OTHERS, _SWEEP, _TRY = 1.0, 2.0, 100_000.0
"""Nanoseconds for a byte of a kind that is not listed, for a byte that is swept, and for a try, whatever its size."""
_FEED = 12_000.0
"""The same for a try to go on with a file, beside what its bytes cost."""
_LEAST, _TIMES = 5e9, 2.0


@dataclass(slots=True)
class Effort:
    """What is left, in nanoseconds."""

    left: float

    def spend(self, count: int, kind: str = "") -> None:
        """So many bytes were measured in one try."""
        self.left -= cost_of(kind) * count + _TRY

    def follow(self, count: int, cost: float) -> None:
        """A file was gone on with for so many bytes, each of which costs so much."""
        self.left -= cost * count + _FEED

    @contextmanager
    def part(self, share: float) -> Iterator[Effort]:
        """So large a share of what is left, for one of several searches: what it leaves goes back."""
        part = Effort(max(self.left, 0.0) * share)
        self.left -= part.left
        yield part
        self.left += part.left

    @property
    def spent(self) -> bool:
        return self.left <= 0


def cost_of(kind: str) -> float:
    """Nanoseconds that measuring a byte of a kind takes."""
    return _COSTS.get(kind, _OTHERS)


def allowed(times: float, swept: int, measured: Iterable[tuple[str, int]], left: int = 0) -> Effort:
    """For a scan of so many bytes of data, which measured so many bytes of each kind, and left so many nanoseconds of
    what it had before."""
    rest = swept * _SWEEP + sum(cost_of(kind) * count for kind, count in measured)
    return Effort(times * max(_LEAST, _TIMES * rest) + left)
