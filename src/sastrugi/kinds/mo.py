"""Message catalogues of translated programs. Source: GNU gettext manual, section 10.3 (The Format of GNU MO Files)."""

from __future__ import annotations

import gettext
from pathlib import Path
from struct import pack

import numpy as np
from numpy.typing import NDArray

from sastrugi.kinds.base import Kind, Measure, Proof, Signature, Source, broken
from sastrugi.scenario.dice import Dice

_LITTLE, _BIG = b"\xde\x12\x04\x95", b"\x95\x04\x12\xde"
_HEADER = 28
_MOST, _MOST_PARTED, _MOST_PARTS = 1 << 20, 1 << 14, 64
_NO_PART = 0xFFFFFFFF


def measure(source: Source, deep: bool = False) -> Measure | None:
    head = source.read(0, _HEADER)
    if len(head) < _HEADER or head[:4] not in (_LITTLE, _BIG):
        return None
    word = "<u4" if head[:4] == _LITTLE else ">u4"
    revision, count, originals, translated, hashed, hashes = np.frombuffer(head[4:], word, 6).tolist()
    if revision >> 16 > 1 or not 0 < count <= _MOST:
        return broken("mo", 4, "its revision or number of messages cannot be")
    end = max(_HEADER, hashes + 4 * hashed if hashed else 0)
    for table in (originals, translated):
        rows = _words(source, table, 2 * count, word)
        if len(rows) < 2 * count:
            return broken("mo", source.size, "its tables reach beyond the end")
        ends = rows[0::2].astype(np.int64) + rows[1::2]
        last = int(ends.max())
        if last >= source.size:
            return broken("mo", source.size, "a message reaches beyond the end")
        if source.read(last, 1) != b"\0":
            return broken("mo", last, "a message does not end where it is said to")
        end = max(end, last + 1, table + 8 * count)
    if revision & 0xFFFF:
        end = max(end, _behind_parts(source, word))
    if end > source.size:
        return broken("mo", source.size, "its table of hashes reaches beyond the end")
    return Measure("mo", end, True, Proof.STRUCTURE, "tables of messages, each of which ends with a zero")


def _words(source: Source, at: int, count: int, word: str) -> NDArray[np.uint32]:
    """So many words from a byte on; fewer where there are not so many."""
    data = source.read(at, 4 * count)
    return np.frombuffer(data, word, len(data) // 4)


def _behind_parts(source: Source, word: str) -> int:
    """Behind the messages that are put together of parts, of which some depend on the system (minor revision 1)."""
    fields = _words(source, _HEADER, 5, word).tolist()
    if len(fields) < 5 or fields[2] > _MOST:
        return 0
    names, names_at, count, *tables = fields
    end = names_at + 8 * names
    for table in tables:
        places = _words(source, table, count, word).tolist()
        end = max(end, table + 4 * count)
        for place in places[:_MOST_PARTED]:
            rows = _words(source, place, 1 + 2 * _MOST_PARTS, word)
            parts = rows[1 : 1 + len(rows[1:]) // 2 * 2].reshape(-1, 2)
            (last, *_) = [*np.flatnonzero(parts[:, 1] == _NO_PART), len(parts) - 1]
            length = int(parts[: last + 1, 0].sum()) if len(parts) else 0
            end = max(end, (int(rows[0]) if len(rows) else 0) + length, place + 12 + 8 * int(last))
    return end if end < source.size else 0


def make(dice: Dice, size: int) -> bytes:
    messages = {"": "Content-Type: text/plain; charset=UTF-8\n"}
    have = 100
    while have < size:
        one, other = f"{dice.sentence()} {len(messages)}", dice.sentence()
        messages[one] = other
        have += len(one) + len(other) + 18
    names = sorted(messages)
    at = _HEADER + 16 * len(names)
    tables, texts = [b"", b""], b""
    for n, text in enumerate([*names, *(messages[name] for name in names)]):
        raw = text.encode()
        tables[n >= len(names)] += pack("<II", len(raw), at + len(texts))
        texts += raw + b"\0"
    head = _LITTLE + pack("<6I", 0, len(names), _HEADER, _HEADER + 8 * len(names), 0, at)
    return head + b"".join(tables) + texts


def check(path: Path) -> None:
    with path.open("rb") as file:
        gettext.GNUTranslations(file)


KIND = Kind(
    "mo", "Message catalogue", "data", ("mo", "gmo"), "application/x-gettext-translation", "tables of messages",
    Proof.STRUCTURE, measure, (Signature(_LITTLE), Signature(_BIG)), make=make, check=check,
)  # fmt: skip
