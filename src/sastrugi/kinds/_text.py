"""Text: how long it goes on, in which encoding, and what sort of text it is. Source: RFC 3629 (UTF-8), RFC 2781."""

from __future__ import annotations

import codecs
import json
import re
from itertools import chain

import numpy as np

from sastrugi.kinds.base import Source

_CONTROL = bytes({*range(32), 0x7F} - {9, 10, 12, 13, 27})
_BLOCK = 1 << 16
_FIRST_BLOCK = 1 << 12
"""Most that looks like text at first is none soon after."""
SHORTEST = 16
UTF16 = {b"\xff\xfe": "utf-16-le", b"\xfe\xff": "utf-16-be"}
_MOST_READ = 4 << 20
"""A JSON document of so many bytes is read as one; of a longer one, which takes many times its size, only where it
closes is looked for."""
_BYTE_ORDER_MARK = b"\xef\xbb\xbf"
_OUTSIDE = np.isin(np.arange(256), np.frombuffer(b' \t\r\n{}[]:,"+-.0123456789eEtrufalsn', np.uint8))
"""Bytes that JSON has outside of its strings."""
_HEADER_LINE = re.compile(
    r"(From|To|Subject|Date|Received|Return-Path|Message-ID|MIME-Version|Delivered-To|X-[\w-]+): ", re.IGNORECASE
)
_LOG_LINE = re.compile(r"\[?\d{4}-\d\d-\d\d[T ]\d\d:\d\d:\d\d")


def utf8_length(source: Source) -> int:
    """Bytes from the start that are UTF-8 text without control characters."""
    decoder = codecs.getincrementaldecoder("utf-8")()
    length = 0
    for at, block in chain(source.blocks(0, _FIRST_BLOCK), source.blocks(_FIRST_BLOCK, size=_BLOCK)):
        text = block[: _first_control(block)]
        try:
            decoder.decode(text)
        except UnicodeDecodeError as error:
            pending = len(error.object) - len(text)  # bytes of a character begun in the block before
            return at + error.start - pending
        length = at + len(text)
        if len(text) < len(block):
            break
    return length - len(decoder.getstate()[0])


def plain_length(source: Source) -> int:
    """Bytes from the start without control characters, in whatever eight-bit encoding."""
    length = 0
    for at, block in source.blocks(0, size=_BLOCK):
        text = _first_control(block)
        length = at + text
        if text < len(block):
            break
    return length


def _first_control(block: bytes) -> int:
    """The position of the first byte that no text holds."""
    if len(block.translate(None, _CONTROL)) == len(block):
        return len(block)
    return min(at for code in _CONTROL if (at := block.find(code)) >= 0)


def utf16_length(source: Source, encoding: str) -> int:
    """Bytes from the start (with the mark) that are UTF-16 text: assigned characters, no control characters."""
    length = 2
    for at, block in source.blocks(2, size=_BLOCK):
        usable = block[: len(block) & ~1]
        text = usable.decode(encoding, "surrogatepass")
        for n, char in enumerate(re.finditer(r"[\x00-\x08\x0b\x0e-\x1f\ud800-\udfff\ue000-\uf8ff\ufff0-\uffff]", text)):
            if n == 0:
                return at + len(text[: char.start()].encode(encoding, "surrogatepass"))
        length = at + len(usable)
    return length


def sort_of_text(source: Source, length: int) -> tuple[str, int]:
    """Which kind of text (json, eml, mbox, csv, log or txt), by its first lines (JSON by all of it), and its length."""
    head = source.read(0, min(length, 4096)).decode("utf-8", "ignore").lstrip("\ufeff")
    if head.lstrip()[:1] in ("{", "[") and (closes := _json_length(source, length)):
        return "json", closes
    return _sort_by_lines(head.splitlines(), length), length


def _sort_by_lines(lines: list[str], length: int) -> str:
    if lines and lines[0].startswith("From ") and len(lines) > 1 and _HEADER_LINE.match(lines[1]):
        return "mbox"
    if len(lines) > 1 and all(_HEADER_LINE.match(line) or line[:1] in " \t" for line in lines[:2]):
        return "eml"
    if _is_table(lines[:12] if length <= 4096 else lines[:12][: len(lines) - 1]):
        return "csv"
    if len(lines) >= 3 and all(_LOG_LINE.match(line) for line in lines[:3]):
        return "log"
    return "txt"


def _is_table(lines: list[str]) -> bool:
    """Whether all lines have as many separators, and at least one."""
    for separator in (",", ";", "\t"):
        counts = {line.count(separator) for line in lines if line}
        if len(lines) >= 3 and len(counts) == 1 and counts.pop() >= 1:
            return True
    return False


def _json_length(source: Source, length: int) -> int:
    """The length of the JSON document at the start with the white space behind it, 0 if there is none."""
    if length > _MOST_READ:
        end = _closes(source, length)
        behind = source.read(end, min(_FIRST_BLOCK, length - end)) if end else b""
        length = end + len(behind) - len(behind.lstrip())
        if length > _MOST_READ or not end:
            return length
    text = source.read(0, length).decode("utf-8", "ignore").lstrip("\ufeff")
    begin = len(text) - len(text.lstrip())
    try:
        _, end = json.JSONDecoder().raw_decode(text, begin)
    except (ValueError, RecursionError):
        return 0
    rest = text[end:]
    space = len(rest) - len(rest.lstrip())
    mark = len(_BYTE_ORDER_MARK) if source.read(0, 3) == _BYTE_ORDER_MARK else 0
    return mark + len(text[: end + space].encode())


def _closes(source: Source, length: int) -> int:
    """Behind the bracket that closes the first one, by brackets outside of strings (RFC 8259, sections 2 and 7); 0
    where something stands outside of strings that JSON does not have there, or nothing closes."""
    depth, inside, slashes = 0, 0, 0
    first = len(_BYTE_ORDER_MARK) if source.read(0, 3) == _BYTE_ORDER_MARK else 0
    for at, block in source.blocks(first, size=_BLOCK):
        data = np.frombuffer(block[: length - at], np.uint8)
        if not data.size:
            break
        place = np.arange(data.size)
        solid = np.maximum.accumulate(np.where(data != 0x5C, place, -1 - slashes))
        before = place - 1 - np.concatenate(([-1 - slashes], solid[:-1]))  # backslashes just before each byte
        slashes = int(place[-1] - solid[-1])
        marks = (data == 0x22) & (before % 2 == 0)
        outside = (np.cumsum(marks) + inside) % 2 == 0
        inside = (inside + int(marks.sum())) % 2
        wrong = np.flatnonzero(outside & ~_OUTSIDE[data])
        steps = np.isin(data, (0x5B, 0x7B)).astype(np.int64) - np.isin(data, (0x5D, 0x7D))
        depths = depth + np.cumsum(np.where(outside, steps, 0))
        ends = np.flatnonzero(outside & (steps < 0) & (depths <= 0))
        if ends.size and not (wrong.size and wrong[0] < ends[0]):
            return at + int(ends[0]) + 1
        if wrong.size:
            return 0
        depth = int(depths[-1])
    return 0
