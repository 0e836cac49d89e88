"""What a second writer must offer to carry out the same steps beside ours; this one does nothing."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from sastrugi.media import Extent
    from sastrugi.specimen.laid_files import LaidFile, Slot


@dataclass(slots=True)
class Turns:
    """The order in which files are written that are open at the same time: (number of the file, bytes) for each turn.
    `forced`: each turn reaches the medium before the next; else the driver decides when it writes."""

    order: list[tuple[int, int]]
    forced: bool = True

    @staticmethod
    def of(sizes: Sequence[int], step: int) -> Turns:
        """Turns of `step` bytes each."""
        last = max(sizes, default=0)
        rounds = ((n, min(step, size - at)) for at in range(0, last, step) for n, size in enumerate(sizes) if at < size)
        return Turns(list(rounds), forced=len(sizes) > 1)


class SecondWriter:
    """Is told everything that is done to volumes, after our own writer has done it; what ends before it ends."""

    def table(self, writes: Sequence[tuple[int, bytes]], zeros: Sequence[Extent] = ()) -> None:
        """The partition table was written, or cleared."""

    def format(self, place: Slot, full: bool) -> None:
        """The newest life of a place began."""

    def end_life(self, place: Slot) -> None:
        """All that is on a place is about to end."""

    def make_folder(self, place: Slot, laid: LaidFile) -> None:
        """A folder was made."""

    def store(self, place: Slot, lains: Sequence[LaidFile], turns: Turns) -> None:
        """Files were stored, by these turns."""

    def discard(self, place: Slot) -> None:
        """What is free was discarded."""

    def grow(self, place: Slot, laid: LaidFile, old_size: int) -> None:
        """A file grew at its end."""

    def before_change(self, laid: LaidFile) -> None:
        """The content of a file is about to change or to end."""

    def rewrite(self, place: Slot, laid: LaidFile, in_place: bool) -> None:
        """A file got the content of `laid`."""

    def rename(self, place: Slot, old_path: str, laid: LaidFile) -> None:
        """A file or folder got another path."""

    def link(self, place: Slot, laid: LaidFile, new: LaidFile) -> None:
        """A file got a second name, that of `new`."""

    def delete(self, place: Slot, path: str, folder: bool) -> None:
        """A file or an empty folder was deleted."""
