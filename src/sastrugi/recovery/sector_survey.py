"""One look at every sector for all passes: which may begin a file, be part of a folder, or be a boot sector.

The marks are kept in the scan file, so that each sector is read and tested once, whichever pass asks first, and a scan
that goes on does not look again. Tests run in threads beside the reading.
"""

from __future__ import annotations

import zlib
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from sastrugi.kinds import Signature, all_kinds
from sastrugi.kinds.registry import measuring_kind
from sastrugi.media import Extent, Medium, RangeSet
from sastrugi.media.extents import total
from sastrugi.progress import Progress
from sastrugi.recovery.scan_file import ScanFile
from sastrugi.volumes.metadata_scan import boots_in, data_sectors, family_marks, heads_of
from sastrugi.volumes.registry import file_systems

SECTOR = 512
_BUFFER = 4 << 20
_WORKERS = 2
_LITTLE = 64 << 10
TEXT_HEAD = 16
_ASCII = np.zeros(256, bool)
_ASCII[[9, 10, 13, *range(0x20, 0x7F)]] = True
_LEAD, _FOLLOW = np.zeros(256, bool), np.zeros(256, bool)
_LEAD[0xC2:0xF5] = _FOLLOW[0x80:0xC0] = True  # RFC 3629, section 4
_TEXT_BYTES = _ASCII | _LEAD | _FOLLOW
_IN_TEXT = _TEXT_BYTES.copy()
_IN_TEXT[[12, 27]] = True  # form feeds and escapes, as the measure of a text allows them
_NOT_IN_TEXT = (~_IN_TEXT).tobytes()
_OPENS_JSON = np.zeros(256, bool)
_OPENS_JSON[[ord("{"), ord("[")]] = True


class Mark:
    """What a sector may be. Families of folders have the bits above (see volumes.relics)."""

    BOOT = np.uint16(1)
    SIGNED = np.uint16(2)
    """A signature of a kind stands in it."""
    TEXT = np.uint16(4)
    """It begins like text,"""
    THROUGH = np.uint16(8)
    """… and is text to its last byte."""
    LIST = np.uint16(16)
    """A list of a file's blocks can begin in it."""


@dataclass(frozen=True, slots=True)
class SurveyOptions:
    """What is looked for: folders (of earlier lives), files of these kinds (all if None), or neither."""

    folders: bool = True
    content: bool = True
    kinds: frozenset[str] | None = None


class SectorTests:
    """Marks sectors. Made once a scan: it builds its look-up tables."""

    def __init__(self, wanted: SurveyOptions) -> None:
        self._folders = wanted.folders
        names = wanted.kinds
        chosen = [kind for kind in all_kinds().values() if wanted.content and (names is None or kind.name in names)]
        self._lists = [one.list_sectors for one in file_systems().values() if wanted.content and one.list_sectors]
        self._texts = any(measuring_kind(kind).bare for kind in chosen)
        self.signatures = Signatures({signature for kind in chosen for signature in kind.signatures})
        # Pairs of bytes (low byte first) that UTF-8 allows: a lead byte is followed by a following byte, and so on.
        pairs = (_ASCII[:, None] & (_ASCII | _LEAD)) | (_LEAD[:, None] & _FOLLOW) | (_FOLLOW[:, None] & _TEXT_BYTES)
        self._text_pairs = pairs.T.ravel()
        self._first_pairs = (pairs & ~_FOLLOW[:, None]).T.ravel()

    def marks(self, sectors: NDArray[np.uint8]) -> NDArray[np.uint16]:
        """The marks of sectors, shape (sectors, 512)."""
        heads = heads_of(sectors)
        if not heads.any() and not sectors.any():
            return np.zeros(len(sectors), np.uint16)
        out = family_marks(sectors, heads) if self._folders else np.zeros(len(sectors), np.uint16)
        out[boots_in(sectors, heads)] |= Mark.BOOT
        out[self.signatures.standing_in(sectors, heads)] |= Mark.SIGNED
        for test in self._lists:
            out[test(sectors, heads)] |= Mark.LIST
        if self._texts:
            words = heads.view("<u2")
            maybe = np.flatnonzero(self._first_pairs[words[:, 0]])
            for pair in range(1, TEXT_HEAD // 2):
                maybe = maybe[self._text_pairs[words[maybe, pair]]]
            begin = sectors[maybe]
            wrong = np.frombuffer(begin.tobytes().translate(_NOT_IN_TEXT), bool).reshape(begin.shape)
            first = wrong.argmax(axis=1)
            through = ~wrong[np.arange(len(wrong)), first]
            # What is neither text throughout nor text and then zeros is none, but for JSON, which tells its own end.
            rest = np.flatnonzero(~through)
            fits = through.copy()
            fits[rest] = np.count_nonzero(begin[rest], axis=1) == first[rest]
            fits |= _OPENS_JSON[begin[:, :4]].any(axis=1)
            out[maybe[fits]] |= Mark.TEXT
            out[maybe[through]] |= Mark.THROUGH
        return out


class Signatures:
    """Signatures of kinds, and a sieve of two bytes of each by which nearly all sectors fall through at once."""

    def __init__(self, signatures: Iterable[Signature]) -> None:
        # One beyond the first sector of its file (a CD image's) is looked for where it stands.
        self._by_pair: dict[int, dict[int, list[tuple[int, int, bytes]]]] = {}
        for one in signatures:
            back, offset = divmod(one.offset, SECTOR)
            at = _telling_pair(offset, one.data)
            pair = int.from_bytes(one.data[at - offset : at - offset + 2], "little")
            self._by_pair.setdefault(at, {}).setdefault(pair, []).append((back, offset, one.data))
        self._sieves = {at: np.zeros(1 << 16, bool) for at in self._by_pair}
        for at, pairs in self._by_pair.items():
            self._sieves[at][list(pairs)] = True

    def standing_in(self, sectors: NDArray[np.uint8], heads: NDArray[np.uint8]) -> list[int]:
        """Numbers of the sectors in which a signature stands."""
        marked = np.zeros(len(sectors), bool)
        for at, sieve in self._sieves.items():
            words = heads[:, at : at + 2] if at + 2 <= heads.shape[1] else sectors[:, at : at + 2]
            marked |= sieve[words.view("<u2")[:, 0]]
        return [int(n) for n in np.flatnonzero(marked) if self.backs(sectors[n].tobytes())]

    def backs(self, sector: bytes) -> set[int]:
        """For each signature in this sector: how many sectors before it the file begins."""
        return {
            back
            for at, pairs in self._by_pair.items()
            for back, offset, data in pairs.get(int.from_bytes(sector[at : at + 2], "little"), ())
            if sector[offset : offset + len(data)] == data
        }


def _telling_pair(offset: int, data: bytes) -> int:
    """The even offset of two bytes of a signature by which sectors are sifted: not both zero, and early."""
    first = offset + (offset & 1)
    pairs = [at for at in range(first, offset + len(data) - 1, 2) if data[at - offset : at - offset + 2] != b"\0\0"]
    return pairs[0]


def _near_joined(extents: Iterable[Extent]) -> list[Extent]:
    """Extents in order, those with little between them as one: to look at that as well costs less than to keep account
    of where not."""
    out: list[Extent] = []
    for extent in extents:
        if out and extent.offset - out[-1].end < _LITTLE:
            out[-1] = Extent(out[-1].offset, extent.end - out[-1].offset)
        else:
            out.append(extent)
    return out


class Survey:
    """The marks of a medium's sectors, made where they are asked for first."""

    def __init__(self, medium: Medium, store: ScanFile, wanted: SurveyOptions) -> None:
        self._medium, self._store = medium, store
        self.tests = SectorTests(wanted)
        self._known = RangeSet(store.surveyed())

    def over(
        self, ranges: Iterable[Extent], progress: Progress, so_far: Callable[[], str], between: Callable[[], None]
    ) -> int:
        """Look at those of `ranges` (in order) that were not looked at; holes are skipped. `between` is called now and
        then. Returns the bytes looked at."""
        left = _near_joined(gap for extent in ranges for gap in self._known.gaps(extent))
        pieces = [piece for piece in data_sectors(self._medium, left) for piece in self._known.gaps(piece)]
        if not pieces:
            return 0
        progress.start("sweep", total(pieces))
        done = 0
        waiting: deque[tuple[list[Extent], Future[NDArray[np.uint16]]]] = deque()
        spare = [np.empty(_BUFFER, np.uint8) for _ in range(_WORKERS + 2)]
        with ThreadPoolExecutor(_WORKERS) as workers:
            try:
                for group in _grouped(pieces):
                    if len(waiting) == len(spare):
                        done += self._keep(*waiting.popleft())
                        progress.at(done, so_far())
                        progress.check()
                        between()
                    buffer = spare[0]
                    spare.append(spare.pop(0))
                    waiting.append((group, workers.submit(self.tests.marks, self._filled(buffer, group))))
                while waiting:
                    done += self._keep(*waiting.popleft())
            finally:
                workers.shutdown(cancel_futures=True)
        progress.finish()
        return done

    def _filled(self, buffer: NDArray[np.uint8], group: list[Extent]) -> NDArray[np.uint8]:
        used = buffer[: total(group)]
        at = 0
        for offset, length in group:
            came = self._medium.read_into(offset, used[at : at + length].data)
            used[at + came : at + length] = 0
            at += length
        return used.reshape(-1, SECTOR)

    def _keep(self, group: list[Extent], made: Future[NDArray[np.uint16]]) -> int:
        marks = made.result()
        at = 0
        for extent in group:
            own = marks[at : at + extent.length // SECTOR]
            self._store.add_marks(extent, zlib.compress(own.tobytes(), 1) if own.any() else b"")
            self._known.add(extent)
            at += len(own)
        return total(group)

    def marks(self, start: int = 0) -> Iterator[tuple[int, NDArray[np.uint16]]]:
        """(offset, marks) of stretches with any mark, in order, of those that end behind `start`."""
        for extent, packed in self._store.marks(start):
            if packed:
                yield extent.offset, np.frombuffer(zlib.decompress(packed), np.uint16)


def sectors_of(base: int, marks: NDArray[np.bool_]) -> Iterator[int]:
    """Where marked sectors are, of marks from a byte of the medium on."""
    for n in np.flatnonzero(marks).tolist():
        yield base + n * SECTOR


def _grouped(pieces: Iterable[Extent]) -> Iterator[list[Extent]]:
    """The pieces cut and put together to as much as a buffer holds."""
    group: list[Extent] = []
    room = _BUFFER
    for offset, length in pieces:
        while length:
            part = min(length, room)
            group.append(Extent(offset, part))
            offset, length, room = offset + part, length - part, room - part
            if not room:
                yield group
                group, room = [], _BUFFER
    if group:
        yield group
