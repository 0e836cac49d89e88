"""How well one cluster of text goes on where another one ends: by the word and the line that the seam would join, by
how the lines of both are built, and by the bytes that are in them."""

from __future__ import annotations

import math
import re
from bisect import bisect_left, bisect_right
from collections import Counter
from dataclasses import dataclass
from functools import cached_property
from itertools import groupby, islice, pairwise

import numpy as np
from numpy.typing import NDArray

WEIGHTS = {
    "base": -10.1, "word known": 4.9, "word unknown": -1.9, "number": -0.6, "edge known": 0.9, "edge unknown": -2.3,
    "letters": 0.7, "length": 0.5, "columns": 0.7, "no columns": -1.7, "shape": 0.8, "no shape": -0.4,
    "no prefix": -0.8, "quotes": 0.6, "bytes": 12.9, "order": 0.7, "no order": -4.8, "width": 3.8, "no width": -4.6,
}  # fmt: skip
"""Bits for what a seam shows: a logistic regression over 24,000 seams of 1,200 texts of 139 types, three in ten true
(`benchmarks/seams.py`). Of a true seam they make 4.6 bits in the middle, of one with another text of its type -4.6."""
_IN_WORDS = bytes(n for n in range(256) if n >= 128 or chr(n).isalnum() or n == ord("_"))
_FIRST_WORD = re.compile(rb"[0-9A-Za-z_\x80-\xff]*")
_WORDS = re.compile(rb"[0-9A-Za-z_\x80-\xff]+")
_NUMBER = re.compile(rb"[0-9a-fA-F]*[0-9][0-9a-fA-F]*")
_SEPARATORS = b",;\t|"
_LONGEST = 512
"""Bytes of a line that are looked at."""
_MOST_WORDS = 1 << 19
_CLEAR_LETTERS = 6.0
_MOSTLY, _FEW_LINES, _SHARED = 0.8, 4, 3
_SHAPED, _SHAPE, _LINES = 64, 10, 48
"""Bytes that a shape is made of; its characters; lines of a cluster of which shapes are taken."""
_SORTS = bytes(
    ord(
        "A" if chr(n).isupper() else "a" if chr(n).isalpha() else "0" if chr(n).isdigit() else " " if n < 33 else chr(n)
    )
    if n < 128
    else ord("a")
    for n in range(256)
)


@dataclass(frozen=True)
class TextCluster:
    """One cluster of text, without the zeros behind its end."""

    data: bytes

    @cached_property
    def _parts(self) -> list[bytes]:
        return self.data.split(b"\n")

    @cached_property
    def head(self) -> bytes:
        """What stands before its first line end."""
        return self._parts[0][:_LONGEST]

    @cached_property
    def tail(self) -> bytes:
        """What stands behind its last line end."""
        return self._parts[-1][-_LONGEST:]

    @cached_property
    def lines(self) -> list[bytes]:
        """Its whole lines."""
        return [line[:_LONGEST] for line in self._parts[1:-1]]

    @cached_property
    def last_word(self) -> bytes:
        """The letters and figures that it ends with."""
        end = self.data[-_LONGEST:]
        return end[len(end.rstrip(_IN_WORDS)) :]

    @cached_property
    def first_word(self) -> bytes:
        return _FIRST_WORD.match(self.data)[0]  # type: ignore[index]

    @property
    def words(self) -> set[bytes]:
        """The words in it, without those at its edges."""
        return set(_WORDS.findall(self.data)[1:-1])

    @cached_property
    def lengths(self) -> list[int]:
        """Of its lines, in order."""
        return sorted(map(len, self.lines))

    @cached_property
    def width(self) -> int:
        """How long nearly all of its lines are, as of packed data in a mail; 0 if they differ."""
        middle = self.lengths[len(self.lengths) // 2] if len(self.lengths) >= _FEW_LINES else 0
        return middle if self.lengths.count(middle) >= _MOSTLY * len(self.lengths) else 0

    @cached_property
    def shapes(self) -> set[bytes]:
        """How its lines begin."""
        return {_shape(line) for line in self.lines[:_LINES]}

    @cached_property
    def columns(self) -> dict[int, int]:
        """Separators of which nearly every line has as many as the others, with how many."""
        out = {}
        for separator in _SEPARATORS if len(self.lines) >= _FEW_LINES else b"":
            counts = Counter(line.count(separator) for line in self.lines)
            most, often = counts.most_common(1)[0]
            if most and often >= _MOSTLY * len(self.lines):
                out[separator] = most
        return out

    @cached_property
    def quotes_are_even(self) -> bool:
        quoted = [line.count(b'"') for line in self.lines]
        return len(quoted) >= _FEW_LINES and sum(quoted) > 0 and all(count % 2 == 0 for count in quoted)

    @cached_property
    def common(self) -> float:
        """Bytes that a line begins with as the one before it does, on average."""
        shared = [_common(a, b) for a, b in pairwise(self.lines[:64])]
        return sum(shared) / len(shared) if shared else 0.0

    @cached_property
    def is_rising(self) -> bool:
        """Whether its lines are in order, as of a log or a sorted list."""
        return len(self.lines) > _FEW_LINES and all(a <= b for a, b in pairwise(self.lines))

    @cached_property
    def histogram(self) -> NDArray[np.float64]:
        """Square roots of the shares of its bytes. Shape: (256,)."""
        counts = np.bincount(np.frombuffer(self.data, np.uint8), minlength=256)
        out: NDArray[np.float64] = np.sqrt(counts / max(len(self.data), 1))
        return out


def _shape(line: bytes) -> bytes:
    """How a line begins: letters and figures by their sort, each run of one sort once."""
    return bytes(sort for sort, _ in islice(groupby(line[:_SHAPED].translate(_SORTS)), _SHAPE))


def _common(a: bytes, b: bytes) -> int:
    """Bytes that two lines begin with alike."""
    n = 0
    for n, (one, other) in enumerate(zip(a[:_SHAPED], b, strict=False)):
        if one != other:
            return n
    return min(len(a), len(b), n + 1)


class Seams:
    """Judges seams between clusters that lie near each other. Words are known that any of them has."""

    def __init__(self) -> None:
        self._words: set[bytes] = set()
        self._pairs = np.zeros((256, 256))
        """How often a byte follows another. Shape: (first, second)."""
        self._bytes, self._count = np.ones(256), 256

    def learn(self, cluster: TextCluster) -> None:
        """A cluster that lies here."""
        if len(self._words) < _MOST_WORDS:
            self._words |= cluster.words
        data = np.frombuffer(cluster.data, np.uint8)
        np.add.at(self._pairs, (data[:-1], data[1:]), 1.0)
        self._bytes += np.bincount(data, minlength=256)
        self._count += len(data)

    def bits(self, a: TextCluster, b: TextCluster) -> float:
        """How much likelier it is that `b` goes on where `a` ends than that it is another's: the binary logarithm of
        the odds."""
        told = self.features(a, b)
        return WEIGHTS["base"] + sum(WEIGHTS[name] * value for name, value in told.items())

    def features(self, a: TextCluster, b: TextCluster) -> dict[str, float]:
        """What the seam shows, by the names of WEIGHTS."""
        line = a.tail + b.head
        out = {"bytes": float(a.histogram @ b.histogram), "letters": self._letters(a.data[-1], b.data[0])}
        word = self._word(a, b)
        if word:
            out[word] = 1.0
        count = len(a.lengths) + len(b.lengths)
        if count >= _FEW_LINES:
            near = max(2, len(line) // 8)
            lo, hi = len(line) - near, len(line) + near
            alike = sum(bisect_right(one.lengths, hi) - bisect_left(one.lengths, lo) for one in (a, b))
            out["length"] = math.log2((alike + 0.5) / (count + 1))
        if a.width and a.width == b.width:
            out["width" if len(line) == a.width else "no width"] = 1.0
        for separator, count in (*a.columns.items(), *b.columns.items()):
            out["columns" if line.count(separator) == count else "no columns"] = 1.0
        if a.tail and b.head and len(line) > 2 and (a.shapes or b.shapes):
            shape = _shape(line)
            out["shape" if shape in a.shapes or shape in b.shapes else "no shape"] = 1.0
        if a.lines and b.lines and a.common >= _SHARED:
            shared = _common(a.lines[-1], line), _common(line, b.lines[0]), _common(a.lines[-1], b.lines[0])
            out["no prefix"] = float(max(shared) < a.common * _MOSTLY)
        if a.quotes_are_even and b.quotes_are_even:
            out["quotes"] = 1.0 if line.count(b'"') % 2 == 0 else -1.0
        if a.is_rising and b.is_rising:
            out["order" if a.lines[-1] <= line <= b.lines[0] else "no order"] = 1.0
        return out

    def _word(self, a: TextCluster, b: TextCluster) -> str:
        """What kind of word the seam would make, or cut off."""
        end, start = a.last_word, b.first_word
        if _NUMBER.fullmatch(end + start):
            return "number" if end and start else ""
        if end and start:
            return "word known" if end + start in self._words else "word unknown"
        if end or start:
            return "edge known" if end + start in self._words else "edge unknown"
        return ""

    def _letters(self, last: int, first: int) -> float:
        """How much more often the second byte follows the first one than others, in bits."""
        alone = self._bytes[first] / self._count
        after = (self._pairs[last, first] + 2 * alone) / (self._bytes[last] + 1)
        return max(min(math.log2(after / alone), _CLEAR_LETTERS), -_CLEAR_LETTERS)
