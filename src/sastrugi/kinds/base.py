"""What a kind of file is to Sastrugi: how it begins, how long it is, whether it opens, and how to make one."""

from __future__ import annotations

import os
from abc import ABC, abstractmethod
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from enum import Enum, IntEnum
from pathlib import Path
from struct import Struct
from typing import Any

import numpy as np
from numpy.typing import NDArray

from sastrugi.kinds.following import Follower
from sastrugi.scenario.dice import Dice


@dataclass(slots=True)
class UnpackBudget:
    """Bytes that may still be unpacked beyond what packed data are expected to hold. Streams that are nothing but a
    burden (a kilobyte that unpacks to gigabytes) would else hold up whoever measures them."""

    left: int = 64 << 20

    def take(self, count: int) -> bool:
        """Whether there was something left."""
        self.left -= count
        return self.left > 0


class Source(ABC):
    """Bytes that begin where a file may begin. `size` is how many there are before the medium or the placement ends.
    All sources of one medium share its budget for `unpacking`."""

    size: int
    unpacking: UnpackBudget | None = None

    @abstractmethod
    def read(self, position: int, length: int) -> bytes:
        """Bytes from `position`; shorter only where the source ends."""

    def unpack(self, layout: Struct, position: int) -> tuple[Any, ...] | None:
        """The fields of `layout` at `position`, or None where the source ends first."""
        data = self.read(position, layout.size)
        return layout.unpack(data) if len(data) == layout.size else None

    def blocks(self, position: int, end: int | None = None, size: int = 1 << 20) -> Iterator[tuple[int, bytes]]:
        """(position, bytes) of consecutive blocks up to `end`."""
        stop = self.size if end is None else min(end, self.size)
        while position < stop:
            block = self.read(position, min(size, stop - position))
            if not block:
                return
            yield position, block
            position += len(block)


class BytesSource(Source):
    """A source over bytes in memory."""

    def __init__(self, data: bytes) -> None:
        self._data = data
        self.size = len(data)

    def read(self, position: int, length: int) -> bytes:
        return self._data[position : position + length] if position >= 0 else b""


class FileSource(Source):
    """A source over a file; close it, or use it in a `with`."""

    def __init__(self, path: Path) -> None:
        self._fd = os.open(path, os.O_RDONLY)
        self.size = os.fstat(self._fd).st_size

    def read(self, position: int, length: int) -> bytes:
        return os.pread(self._fd, length, position) if position >= 0 and length > 0 else b""

    def __enter__(self) -> FileSource:
        return self

    def __exit__(self, *_: object) -> None:
        os.close(self._fd)


class Proof(IntEnum):
    """How strongly a measure is proved, weakest first."""

    GUESS = 0
    STATISTICS = 1
    STRUCTURE = 2
    DECODES = 3
    CHECKSUM = 4


@dataclass(frozen=True, slots=True)
class Signature:
    """Bytes that stand at `offset` from the start of every file of a kind."""

    data: bytes
    offset: int = 0


@dataclass(frozen=True, slots=True)
class Measure:
    """How long a file is, as its own structure tells.

    `length` counts the bytes from the start that belong to the file; `whole` says the structure is right to its end;
    where it is not, `breaks_at` is the first position that is known to be wrong. `rule` is the reason in words.
    """

    kind: str
    length: int
    whole: bool
    proof: Proof
    rule: str
    breaks_at: int | None = None


def broken(kind: str, at: int, rule: str) -> Measure:
    """A measure that ends where the structure breaks."""
    return Measure(kind, at, False, Proof.GUESS, rule, at)


class Holds(Enum):
    """What files of other kinds a file may hold at any place, as they are: previews and colour profiles, or any."""

    NOTHING = ()
    PICTURES = ("jpeg", "png", "icc", "jp2")
    ALL = None


@dataclass(frozen=True, slots=True)
class Kind:
    """One kind. `measure(source, deep)` answers None when the bytes are not of this kind.

    `deep` asks to check all the proof there is, at the cost of reading every byte. `make` returns a file of about the
    wanted size; `check` opens a file with an independent library and raises whatever that raises if it is broken.
    `refines` names the kind whose signature and measure this one shares (docx refines zip). Files of
    a `bare` kind may begin without any of its signatures, as text does; those of a `framed` kind stand in the middle of
    its files too, or by chance. `holds` says what else may begin inside of it, `inside` which clusters, of shape
    (clusters, bytes), can lie in the middle of a file of this kind (most of those that do can; most others cannot).
    `follow` is how one is read on from piece to piece (see `following`).
    """

    name: str
    title: str
    group: str
    extensions: tuple[str, ...]
    media_type: str
    rule: str
    proof: Proof
    measure: Callable[[Source, bool], Measure | None] | None = None
    signatures: tuple[Signature, ...] = ()
    refines: str = ""
    bare: bool = False
    framed: bool = False
    holds: Holds = Holds.NOTHING
    inside: Callable[[NDArray[np.uint8]], NDArray[np.bool_]] | None = None
    follow: type[Follower] | None = None
    make: Callable[[Dice, int], bytes] | None = None
    check: Callable[[Path], None] | None = None
