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
_BLOCK = 1 << 20


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
    closing = re.compile(rb"</" + re.escape(name) + rb"\s*>", re.IGNORECASE if kind == "html" else 0)
    tail, last = b"", 0
    for at, block in source.blocks(0, text, _BLOCK):
        window = tail + block
        hit = closing.search(window)
        if hit:
            last = at - len(tail) + hit.end()
            break
        tail = window[-(len(name) + 64) :]
    if not last:
        return broken(kind, text, f"no </{name.decode('utf-8', 'replace')}> closes it")
    end = last
    while (more := source.read(end, 64)) and more[:1] in (b" ", b"\t", b"\r", b"\n"):
        end += len(more) - len(more.lstrip(_SPACE))
    return Measure(kind, end, True, Proof.STRUCTURE, f"text up to </{name.decode('utf-8', 'replace')}>")
