"""Files that several programs write at the same time, each appended to in chunks of random size.

Which unit comes next is for the file system to say (`VolumeWriter.reserve_more`): some go on behind what was given out
last, so that files end up in each other, others keep room behind each file that is open.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

from sastrugi.media.extents import Extent, cut, join, total, within
from sastrugi.specimen.second_writer import Turns

if TYPE_CHECKING:
    from sastrugi.scenario.dice import Dice
    from sastrugi.specimen.builder import Content, SpecimenBuilder
    from sastrugi.specimen.laid_files import Slot
    from sastrugi.volumes.writer import VolumeWriter

_MOST_WAITING = 256 << 20
"""Bytes of files that wait for one that was opened before them; until it is closed no other is opened."""


@dataclass(slots=True)
class _Open:
    """A file that is being written: how much of it is, and what was given out to it."""

    number: int
    path: str
    content: Content
    written: int = 0
    given: list[Extent] = field(default_factory=list)


@dataclass(slots=True)
class Weaver:
    """Writes files as up to `writers` programs at once would, in chunks of `chunk` (fewest, most) bytes."""

    builder: SpecimenBuilder
    place: Slot
    writer: VolumeWriter[Any]
    writers: int
    chunk: tuple[int, int]

    def store(self, paths: Iterator[tuple[str, Content]], attributes: int) -> None:
        """Store all of them. Their records stand in the order in which they were opened."""
        dice = self.builder.dice(f"woven {self.builder.step}")
        turns = Turns([], forced=False)
        with self.builder.together(self.place, turns):
            for one in self._closed(paths, dice, turns):
                self.builder.store(self.place, one.path, one.content, one.given, attributes=attributes)

    def _closed(self, paths: Iterator[tuple[str, Content]], dice: Dice, turns: Turns) -> Iterator[_Open]:
        """The files in the order in which they were opened, each when it and all before it are written."""
        busy: list[_Open] = []
        begun: list[_Open] = []
        more = True
        count = waiting = 0
        while more or busy:
            if more and waiting < _MOST_WAITING and (not busy or (len(busy) < self.writers and dice.chance(0.5))):
                opened = next(paths, None)
                more = opened is not None
                if opened is None:
                    continue
                one = _Open(count, *opened)
                count += 1
                begun.append(one)
                waiting += one.content.size
                if one.content.size:
                    busy.append(one)
            elif busy:
                one = dice.pick(busy)
                self._append(one, dice.spread(*self.chunk), turns)
                if one.written == one.content.size:
                    busy.remove(one)
                    self._close(one)
            while begun and begun[0].written == begun[0].content.size:
                one = begun.pop(0)
                waiting -= one.content.size
                yield one

    def _append(self, one: _Open, size: int, turns: Turns) -> None:
        size = min(size, one.content.size - one.written)
        one.written += size
        turns.order.append((one.number, size))
        missing = self.writer.space_for(one.written) - total(one.given)
        if missing > self.writer.holds_back or (missing > 0 and one.written == one.content.size):
            one.given += self.writer.reserve_more(one.given, missing)

    def _close(self, one: _Open) -> None:
        """What was given out ahead is given back."""
        space = self.writer.space_for(one.content.size)
        own = join(cut(one.given, space))
        spare = total(one.given) - space
        if spare > 0:
            self.writer.give_back(within(one.given, space, spare))
        one.given = list(own)
