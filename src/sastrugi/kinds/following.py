"""Files that are read on from their start, piece by piece, and can go on elsewhere from any state of that.

Trying where a file goes on costs the bytes that are tried, where a measure would begin again at its start.
"""

from __future__ import annotations

import zlib
from abc import ABC, abstractmethod
from typing import ClassVar, Self

_GRAIN = 1024
"""Where packed data break is told as exactly as this."""
_SURVIVED = 1.44 / 8192
"""Bits for a byte that unpacks: foreign data come upon a code that is none within ten thousand bytes or so."""
UNPACKED = 8
"""Bytes that are unpacked in the time in which one is looked at."""
_MOST_KEPT = 5 << 20
"""Bytes of one unit that are waited for."""
_MOST_AT_ONCE = 1 << 20
_PEEK = 8
"""Bytes that tell at a glance whether a unit begins with them."""
_PARTS = 2
"""Of a file's parts none is as long as this share of it without a check."""
_MOST_RATIO, _FREE = 100, 1 << 19
"""What is unpacked of any stream: so many times its packed size, and so many bytes more."""


class Follower(ABC):
    """A file as far as it was followed.

    fed: bytes that it was given.
    work: bytes that were looked at for that, and unpacked.
    right: bytes of these that are the file's beyond doubt.
    unseen: the most bytes in a row of which no check told.
    bits: what all of its checks so far are worth: other bytes pass them once in 2 ** bits.
    wrong: bytes from the start of which some are none of this file's; None while nothing is known to be wrong.
    end: bytes of the file, once its end was reached.
    suspected: whether that is not known, but seems so by the content: it may go on all the same (see `forgiven`).
    ahead: the byte of the file at which a box stands that should be known first, if one does (see `learn`).
    ends: whether files of this sort say themselves where their end is.
    packed: whether all bytes are about equally frequent in such a file.
    cost: nanoseconds that a byte takes, on a processor of 2024.
    """

    fed = 0
    work = 0
    right = 0
    unseen = 0
    bits = 0.0
    wrong: int | None = None
    end: int | None = None
    suspected = False
    ahead: int | None = None
    ends: ClassVar[bool] = False
    packed: ClassVar[bool] = False
    cost: ClassVar[float] = 25.0

    def feed(self, data: bytes) -> None:
        """Go on with the bytes behind those that were fed."""
        at, self.fed = self.fed, self.fed + len(data)
        self.work += len(data)
        if self.wrong is None and self.end is None:
            self._look(data, at)

    @abstractmethod
    def _look(self, data: bytes, at: int) -> None:
        """Look at the bytes of the file from `at` on."""

    def could_go_on(self, data: bytes) -> bool:
        """Whether the file may go on with these bytes, at a glance. What is refused would go wrong among them."""
        return True

    def saw_most(self) -> bool:
        """Whether checks told of all parts of what was fed."""
        return _PARTS * max(self.unseen, self.fed - self.right) <= self.fed

    def copy(self) -> Self:
        """The same state, that goes on by itself."""
        other = object.__new__(type(self))
        other.__dict__.update(self.__dict__)
        return other

    def forgiven(self) -> Self:
        """The state before what was suspected, that lets it pass."""
        return self.copy()

    def may_be_ahead(self, data: bytes) -> bool:
        """Whether what is asked for `ahead` can begin so."""
        return False

    def learn(self, data: bytes) -> bool:
        """What stands `ahead`, from there on. Returns whether that is it, and of use."""
        return False

    def _passed(self, at: int, bits: float, unseen: int | None = None) -> None:
        """Checks came out that tell of the bytes up to one, and left so many in a row unseen; by default, all since
        what was right before."""
        self.unseen = max(self.unseen, at - self.right if unseen is None else unseen)
        self.right = at
        self.bits += bits


class UnitFollower(Follower):
    """A file of units one after the other. What is not known yet is kept until it can be judged."""

    _kept = b""
    _skip = 0
    """Bytes ahead that nothing is known of."""

    def _look(self, data: bytes, at: int) -> None:
        if self._skip:
            jump = min(self._skip, len(data))
            self._skip -= jump
            data = data[jump:]
            if self._skip:
                return
        self._kept += data
        while self.wrong is None and self.end is None:
            used = self._unit(self._kept, self.fed - len(self._kept))
            if not used:
                if len(self._kept) > _MOST_KEPT:
                    self.wrong = self.fed
                return
            self._skip, self._kept = max(used - len(self._kept), 0), self._kept[used:]
            if self._skip:
                return

    def could_go_on(self, data: bytes) -> bool:
        return bool(self._kept) or self._skip + _PEEK > len(data) or self._may_begin(data, self._skip)

    def _may_begin(self, data: bytes, at: int) -> bool:
        """Whether the next unit may begin at byte `at` of these, of which 8 are there."""
        return True

    @abstractmethod
    def _unit(self, kept: bytes, at: int) -> int:
        """Judge the unit that begins at byte `at` of the file, of which these bytes are there (none where all were
        judged). Returns how many bytes it has, maybe more than are there; 0 to wait for more of it."""


class Unpacking:
    """A deflated stream as far as it was unpacked: to `out` bytes, of `taken`."""

    def __init__(self, window: int) -> None:
        self._unpacker = zlib.decompressobj(window)
        self.out = self.taken = 0

    def copy(self) -> Unpacking:
        """The same state, that goes on by itself."""
        other = object.__new__(Unpacking)
        other._unpacker, other.out, other.taken = self._unpacker.copy(), self.out, self.taken
        return other

    @property
    def ended(self) -> bool:
        return self._unpacker.eof

    def feed(self, data: bytes) -> tuple[list[bytes], int | None]:
        """What so many bytes unpack to; and, where they break or are a mere burden, after how many of them. What is
        behind the end is not taken."""
        out: list[bytes] = []
        for at in range(0, len(data), _GRAIN):
            part = data[at : at + _GRAIN]
            try:
                rest = part
                while rest and not self._unpacker.eof:
                    out.append(self._unpacker.decompress(rest, _MOST_AT_ONCE))
                    self.out += len(out[-1])
                    rest = self._unpacker.unconsumed_tail
                    if self.out > _FREE + _MOST_RATIO * (self.taken + _GRAIN):
                        return out, at + len(part)
            except zlib.error:
                return out, at + len(part)
            self.taken += len(part) - len(self._unpacker.unused_data)
            if self._unpacker.eof:
                break
        return out, None


def survived(count: int) -> float:
    """Bits for so many bytes that unpack."""
    return count * _SURVIVED
