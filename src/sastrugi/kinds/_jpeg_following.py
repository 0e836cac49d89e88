"""Photographs followed block by block: entropy-coded data whose codes are none soon show that they are foreign.

Source: ITU-T T.81, annex B (segments), F.2.2 (sequential decoding with Huffman codes), C (codes from lengths).
"""

from __future__ import annotations

import math
import re
from functools import lru_cache
from struct import Struct
from typing import Self

import numpy as np
from numpy.typing import NDArray

from sastrugi.kinds.following import UnitFollower

_EOI, _SOS, _DHT, _DRI, _DQT = 0xD9, 0xDA, 0xC4, 0xDD, 0xDB
_SEQUENTIAL = (0xC0, 0xC1)
_FRAMES = frozenset(range(0xC0, 0xD0)) - {_DHT, 0xC8, 0xCC}
_SEGMENTS = frozenset({*range(0xE0, 0xF0), _DQT, _DHT, 0xCC, _DRI, 0xDC, 0xFE, _SOS}) | _FRAMES
_RESTARTS = range(0xD0, 0xD8)
_MARKER = re.compile(b"\xff[^\x00]", re.DOTALL)
_FRAME = Struct(">BHHB")
_PEEK, _AHEAD = 16, 48
"""Bits that are looked up at once; and those that must be there for it: a code, and what it says follows."""
_LENGTHS, _ENDS = 0x3F, 1 << 13
"""Fields of an entry: bits of its codes (6), coefficients they make, or bits of the first one's difference (7), whether
the block ends."""
_SURVIVED = 1.44 / 16384
"""Bits for a byte that decodes: the codes of other photographs do for long."""
_SEGMENT_BITS = 8.0
_SLICE = 1 << 10
"""Bytes that are decoded at once: foreign ones often show in the first of them."""
_BEHIND = 64
"""Bytes behind the last block that may be there before a marker."""
_JUDGED, _FEWEST_ROWS, _MEMORY = 16, 2, 3
"""Units that are judged at once; rows of them before that begins, and that are remembered."""
_LEAST, _MOST, _ALIKE = -4.0, 2.0, 0.5
"""Bits that one unit can be worth (edges of a picture are no seams); and what bits for it count, as units beside each
other are alike."""
_FOREIGN = -60.0
"""Bits in a row by which a picture goes on with another one, and a quarter of a bit for each unit of a row."""
_FAR, _CLEARLY, _BESIDE = 1.5, 1.5, 0.7
"""How far units of another picture are from those above them: in times of the distance from the mean, and of that to
those above, at least; and how far units are from those above by how far they are from those beside them."""
_CHANGED = 10.0
"""Bits against a picture that becomes rougher or smoother at once, as pictures do now and then."""
_LIGHTEST = 1.25 * 1024
"""The first coefficient of the lightest block, and what rounding adds."""


@lru_cache(maxsize=64)
def _entries(lengths: bytes, symbols: bytes, first: bool) -> tuple[list[int], list[int]]:
    """What the next 16 bits are, for each of their values: the code they begin with, and as many codes as they hold, up
    to the end of a block; 0 where no code begins. `first`: of the table for the first coefficient of blocks."""
    one = np.zeros(1 << _PEEK, np.int64)  # bits, coefficients and whether the block ends, of one code
    code = at = 0
    for length, count in enumerate(lengths, 1):
        for symbol in symbols[at : at + count]:
            run, size = (0, symbol) if first else divmod(symbol, 16)
            ends = not first and size == 0 and run != 15
            made = size if first else run + 1
            entry = (length + size) | made << 6 | (_ENDS if ends else 0) if size < 16 else 0
            start = code << (_PEEK - length)
            one[start : start + (1 << (_PEEK - length))] = entry
            code += 1
        at += count
        code <<= 1
    both = one.copy()
    values = np.arange(1 << _PEEK, dtype=np.int64)
    for _ in range(3):
        used = both & _LENGTHS
        more = (both > 0) & (both < _ENDS) & (used < _PEEK)
        behind = one[(values << used) & 0xFFFF]
        fits = more & (behind > 0) & (used + (behind & _LENGTHS) <= _PEEK)
        both = np.where(fits, both + behind, both)
    return one.tolist(), both.tolist()


class Blocks(UnitFollower):
    """Segments, then blocks of one scan by their codes. Photographs that come in several scans are followed by their
    markers alone."""

    ends = packed = True
    cost = 500.0
    _sequential = False
    _units: tuple[tuple[int, int], ...] = ()
    """The tables of each block of a unit: of the first coefficient, and of the others."""
    _interval = _wanted = 0
    _in_scan = False
    _bits = b""
    _bright = 0
    _at_bit = _unit_number = _coefficient = _done = _since_restart = 0
    _next_restart = 0
    _light = 0
    """The first coefficient of the last block of brightness: eight times how light it is, in steps of its table."""
    _row = 0
    """Units in a row."""
    _step_of = 0
    """The table of steps of brightness."""
    _lightest = 0
    """How light or dark a block can be at most; 0 where that is not known."""
    _seen: NDArray[np.int32] = np.zeros(0, np.int32)
    """How light the last units were, of a row at most."""
    _differed: NDArray[np.float64] = np.zeros(0)
    """How far each of them was from the one above it."""
    _waiting: tuple[int, ...] = ()
    """Units that are not judged yet, as there are too few of them."""
    _near = _far = 0.0
    """How far the last units are from those above them, and from the mean."""
    _counted = _settling = 0
    _against = 0.0
    _forgiven = 0

    def __init__(self) -> None:
        self._tables: dict[int, tuple[list[int], list[int]]] = {}
        self._components: dict[int, int] = {}
        self._steps: dict[int, int] = {}

    def _unit(self, kept: bytes, at: int) -> int:
        if self._in_scan:
            return self._scan(kept, at)
        if len(kept) < 4:
            if kept[:2] == b"\xff\xd9":
                self.end = at + 2
            return 0
        if not at:
            return 2
        if kept[0] != 0xFF or kept[1] not in _SEGMENTS | {_EOI, 0xFF}:
            self.wrong = at + 2
            return 0
        if kept[1] == 0xFF:
            return 1
        if kept[1] == _EOI:
            self.end = at + 2
            return 0
        length = 2 + int.from_bytes(kept[2:4], "big")
        if kept[1] in _FRAMES or kept[1] in (_SOS, _DHT, _DRI, _DQT):
            if len(kept) < length:
                return 0
            self._segment(kept[1], kept[4:length])
        self._passed(at + 4, _SEGMENT_BITS)
        return length

    def _segment(self, code: int, data: bytes) -> None:
        if code in _FRAMES and len(data) >= 6:
            self._sequential = code in _SEQUENTIAL
            _, height, width, count = _FRAME.unpack_from(data)
            parts = [data[6 + 3 * n : 9 + 3 * n] for n in range(count)]
            self._components = {part[0]: part[1] for part in parts if len(part) == 3}
            self._step_of = parts[0][2] if parts and len(parts[0]) == 3 else 0
            across = max((one >> 4 for one in self._components.values()), default=1) or 1
            down = max((one & 15 for one in self._components.values()), default=1) or 1
            if count == 1:
                across = down = 1
            self._row = -(-width // (8 * across))
            self._wanted = self._row * -(-height // (8 * down))
        elif code == _DHT:
            self._tables = dict(self._tables)
            while len(data) >= 17:
                count = sum(data[1:17])
                if sum(n / 2**length for length, n in enumerate(data[1:17], 1)) <= 1:
                    self._tables[data[0]] = _entries(data[1:17], data[17 : 17 + count], data[0] < 16)
                data = data[17 + count :]
        elif code == _DQT:
            self._steps = dict(self._steps)
            while data:
                wide = data[0] >> 4
                self._steps[data[0] & 15] = int.from_bytes(data[1 : 2 + (wide > 0)], "big")
                data = data[65 + (64 if wide else 0) :]
        elif code == _DRI and len(data) >= 2:
            self._interval = int.from_bytes(data[:2], "big")
        elif code == _SOS and data:
            self._begin_scan(data)

    def _begin_scan(self, data: bytes) -> None:
        self._in_scan = True
        self._bits, self._at_bit, self._unit_number, self._coefficient = b"", 0, 0, 0
        self._done = self._since_restart = self._next_restart = 0
        parts = [data[1 + 2 * n : 3 + 2 * n] for n in range(data[0])]
        units: list[tuple[int, int]] = []
        for part in parts:
            if len(part) == 2:
                sampling = self._components.get(part[0], 0x11)
                blocks = (sampling >> 4) * (sampling & 15) if len(parts) > 1 else 1
                units += [(part[1] >> 4, 16 | part[1] & 15)] * blocks
        known = all(first in self._tables and rest in self._tables for first, rest in units)
        step = self._steps.get(self._step_of, 0)
        self._lightest = int(_LIGHTEST) // step if step else 0
        self._bright = sum(first == units[0][0] for first, _ in units) if len(parts) > 1 else len(units)
        self._units = tuple(units) if known and self._sequential and len(parts) == len(self._components) else ()

    def _scan(self, kept: bytes, at: int) -> int:
        """Decode up to the next marker, or as far as there is something."""
        marker = _MARKER.search(kept, 0, _SLICE)
        whole = min(len(kept), _SLICE - 1)
        usable = marker.start() if marker else whole - (kept[whole - 1 : whole] == b"\xff")
        if marker is None and usable <= 0:
            return 0
        if self._units:
            broke = self._decoded(kept[:usable].replace(b"\xff\x00", b"\xff"), marker is not None)
            if broke is not None:
                self.wrong = min(at + max(broke, 0), self.fed)
                return 0
            self.bits += _SURVIVED * usable
        if marker is None:
            return usable
        code = kept[usable + 1]
        if code in _RESTARTS:
            if code - 0xD0 != self._next_restart or (self._units and self._interval != self._since_restart):
                self.wrong = at + usable + 2
                return 0
            self._next_restart = (self._next_restart + 1) % 8
            self._light = 0
            self._bits, self._at_bit, self._unit_number, self._coefficient, self._since_restart = b"", 0, 0, 0, 0
            self._passed(at + usable + 2, 12.0)
            return usable + 2
        complete = not self._units or self._done >= self._wanted
        if code not in _SEGMENTS | {_EOI, 0xFF} or not complete:
            self.wrong = at + usable + 2
            return 0
        if self._units:
            self._passed(at + usable, _SEGMENT_BITS, 0)
        self._in_scan = False
        return usable or self._unit(kept, at)

    def _decoded(self, data: bytes, last: bool) -> int | None:
        """Decode as many blocks as these bytes hold behind those that were kept; all if they are the `last`. Returns
        after how many of them (as they are written) a code is none, or None."""
        before = len(self._bits)
        data = self._bits + data
        padded = data + (b"\xff" * 8 if last else b"")
        size = 8 * len(data) if last else 8 * len(data) - _AHEAD
        raw = np.frombuffer(padded + bytes(4), np.uint8).astype(np.uint32)
        words = (raw[:-3] << 24 | raw[1:-2] << 16 | raw[2:-1] << 8 | raw[3:]).tolist()
        tables = [(self._tables[first][0], *self._tables[rest]) for first, rest in self._units]
        at, number, index, count = self._at_bit, self._unit_number, self._coefficient, len(tables)
        done = self._since_restart
        most = min(self._interval or self._wanted, done + self._wanted - self._done)
        first, single, rest = tables[number]
        light, bright = self._light, self._bright
        lights: list[int] = []
        places: list[int] = []
        wrong = False
        while at < size and done < most:
            if not index:
                entry = first[(words[at >> 3] >> (16 - (at & 7))) & 0xFFFF]
                if not entry:
                    wrong = True
                    break
                at += entry & 0x3F
                if number < bright:
                    bits = entry >> 6 & 0x7F
                    if bits:
                        begins = at - bits
                        value = words[begins >> 3] >> (32 - (begins & 7) - bits) & (1 << bits) - 1
                        light += value if value >> (bits - 1) else value - (1 << bits) + 1
                    if not number:
                        lights.append(light)
                        places.append(at)
                index = 1
                continue
            entry = rest[(words[at >> 3] >> (16 - (at & 7))) & 0xFFFF]
            if index + (entry >> 6 & 0x7F) >= 64:  # what is behind the last one is no code of this block
                entry = single[(words[at >> 3] >> (16 - (at & 7))) & 0xFFFF]
            if not entry:
                wrong = True
                break
            at += entry & 0x3F
            index += entry >> 6 & 0x7F
            if entry >= 8192 or index >= 64:
                if index > 64:
                    wrong = True
                    break
                index = 0
                number += 1
                if number == count:
                    number = 0
                    done += 1
                first, single, rest = tables[number]
        self._done += done - self._since_restart
        self._since_restart = done
        self._light = light
        if lights and self._lightest and max(map(abs, lights)) > self._lightest:
            beyond = next(n for n, one in enumerate(lights) if abs(one) > self._lightest)
            wrong, at = True, places[beyond]
            del lights[beyond:]
        foreign = self._looks_foreign(lights)
        if foreign is not None:
            wrong, at, self.suspected = True, places[foreign], True
        if wrong or (last and at > 8 * len(data)):
            reached = at >> 3
            return reached + data[before:reached].count(b"\xff") - before + 4
        cut = min(at >> 3, len(data))
        if done >= most and len(data) - cut > _BEHIND:  # a marker should stand there
            return cut + data[before:cut].count(b"\xff") - before + _BEHIND
        self._bits, self._at_bit, self._unit_number, self._coefficient = data[cut:], at - 8 * cut, number, index
        return None

    def forgiven(self) -> Self:
        other = self.copy()
        other._forgiven, other._against = 2 * self._row, 0.0
        return other

    def _looks_foreign(self, lights: list[int]) -> int | None:
        """Whether the picture goes on as another one, by how light its units are: they are like those above them. None,
        or the number of the unit by which that is clear."""
        waiting = (*self._waiting, *lights)
        before = len(self._waiting)
        at = 0
        if self._row:
            while len(waiting) - at >= _JUDGED:
                if not self._goes_on(np.array(waiting[at : at + _JUDGED], np.int32)):
                    return max(at + _JUDGED - before, 1) - 1
                at += _JUDGED
        self._waiting = waiting[at:] if self._row else ()
        return None

    def _goes_on(self, new: NDArray[np.int32]) -> bool:
        """Whether so many units more may be the picture's."""
        row, before = self._row, self._seen
        both = np.concatenate((before, new))
        self._seen = both[-row:]
        if len(before) < row:
            self._differed = np.zeros(len(self._seen))
            return True
        differ = np.abs(new - both[: len(new)]).astype(float)
        # Without the two that differ most: one is the end of a row, one may be an edge.
        beside = _BESIDE * float(np.sort(np.abs(np.diff(both[-len(new) - 1 :])))[:-2].mean())
        if self._counted > _FEWEST_ROWS * row:
            self._judge(differ, beside)
        apart = np.abs(new - float(before.mean()))
        self._near = _followed_mean(self._near, differ, self._counted, row)
        self._far = _followed_mean(self._far, apart, self._counted, row)
        self._counted += len(differ)
        self._differed = np.concatenate((self._differed, differ))[-row:]
        return self._against >= _FOREIGN - row / 4

    def _judge(self, differ: NDArray[np.float64], beside: float) -> None:
        """What some units are worth, by how far they are from those above them, and from those beside them. Both are
        taken for distributed exponentially, with larger means where the picture goes on as another."""
        local = float(self._differed[: 2 * len(differ)].mean())
        near = max(self._near, local, beside, 1.0)
        far = max(_FAR * self._far, _CLEARLY * near)
        bits = np.clip((np.log(near / far) + differ * (1 / near - 1 / far)) * -1.44, _LEAST, _MOST)
        gained = float(bits.sum())
        if self._forgiven > 0:
            self._forgiven -= len(bits)
            gained = 0.0
        self._against = min(self._against + gained, 0.0)
        self.bits += min(gained, gained * _ALIKE)
        self._settling = max(self._settling - len(differ), 0)
        rough = max(float(differ.mean()), beside, 1.0)
        if not self._settling and abs(math.log2(rough / max(self._near, 1.0))) > 1.0:
            self.bits -= _CHANGED
            self._settling = _MEMORY * self._row


def _followed_mean(mean: float, new: NDArray[np.float64], counted: int, row: int) -> float:
    """The mean of the last rows, when some more were counted."""
    if not len(new):
        return mean
    share = len(new) / (len(new) + min(counted, _MEMORY * row))
    return mean + share * (float(new.mean()) - mean)
