"""Markup: text up to the closing tag of its root element. Source: W3C XML 1.0, 2.1; WHATWG HTML, 13.1."""

from __future__ import annotations

import re

from sastrugi.kinds._text import plain_length, utf8_length
from sastrugi.kinds.base import Measure, Proof, Source, broken

_ROOT = re.compile(rb"<([A-Za-z_][\w.:-]*)[\s/>]")
_PROLOGUE = re.compile(
    rb"(\xef\xbb\xbf)?\s*(<\?[^>]*\?>\s*|<!--.*?-->\s*|<!DOCTYPE[^>\[]*(\[[^\]]*\])?[^>]*>\s*)*",
    re.DOTALL | re.IGNORECASE,
)
_KINDS = {b"svg": "svg", b"gpx": "gpx", b"html": "html"}
_ENCODING = re.compile(rb"""(?:\xef\xbb\xbf)?<\?xml[^>]*?encoding\s*=\s*(["'])([\w.-]+)\1""")
_UTF8_NAMES = (b"utf-8", b"utf8", b"us-ascii")
_SPACE = b" \t\r\n"
_COMMENT = re.compile(rb"\s*<!--.*?-->", re.DOTALL)
_BLOCK, _LONGEST_TAG = 1 << 20, 1 << 14


def measure_markup(source: Source) -> Measure | None:
    """From the prologue to the root's closing tag and the white space behind it."""
    head = source.read(0, 8192)
    prologue = _PROLOGUE.match(head)
    root = _ROOT.match(head, prologue.end() if prologue else 0)
    if root is None:
        return None
    name = root[1]
    kind = _KINDS.get(name.lower().rpartition(b":")[2], "xml")
    declared = _ENCODING.match(head)
    other = declared is not None and declared[2].lower() not in _UTF8_NAMES
    text = plain_length(source) if other else utf8_length(source)
    if text < root.end():
        return None
    last = _closed(source, root.start(), text, name, kind == "html")
    if not last:
        return broken(kind, text, f"no </{name.decode('utf-8', 'replace')}> closes it")
    end = _behind_comment(source, last)
    while (more := source.read(end, 64)) and more[:1] in (b" ", b"\t", b"\r", b"\n"):
        end += len(more) - len(more.lstrip(_SPACE))
    return Measure(kind, end, True, Proof.STRUCTURE, f"text up to </{name.decode('utf-8', 'replace')}>")


def _closed(source: Source, start: int, text: int, name: bytes, is_html: bool) -> int:
    """Behind the closing tag of the root element; 0 if there is none. An element inside of it may have its name."""
    tags = re.compile(rb"<(/?)" + re.escape(name) + rb"(?=[\s/>])[^>]*?(/?)>", re.IGNORECASE if is_html else 0)
    tail, depth = b"", 0
    for at, block in source.blocks(start, text, _BLOCK):
        window = tail + block
        done = 0
        for tag in tags.finditer(window):
            closes, alone = tag.groups()
            done = tag.end()
            depth += 0 if alone and not closes else -1 if closes else 1
            if depth <= 0 or (is_html and closes):
                return at - len(tail) + tag.end()
        tail = window[max(done, len(window) - _LONGEST_TAG) :]
    return 0


def _behind_comment(source: Source, end: int) -> int:
    """Behind a comment that follows the root element, if one does."""
    more = source.read(end, _LONGEST_TAG)
    comment = _COMMENT.match(more)
    return end + comment.end() if comment else end
