"""HTML pages. Source: WHATWG HTML, section 13.1 (writing HTML documents)."""

from __future__ import annotations

from pathlib import Path

from sastrugi.kinds._markup import measure_markup
from sastrugi.kinds.base import Kind, Measure, Proof, Signature, Source
from sastrugi.scenario.dice import Dice


def measure(source: Source, deep: bool = False) -> Measure | None:
    found = measure_markup(source)
    return found if found is not None and found.kind == "html" else None


def make(dice: Dice, size: int) -> bytes:
    from html import escape

    title = escape(dice.caption())
    head = f'<!DOCTYPE html>\n<html lang="en">\n<head><meta charset="utf-8"><title>{title}</title></head>\n'
    head += f"<body>\n<h1>{title}</h1>\n"
    body: list[str] = []
    have = len(head.encode())
    while have < size - 16:
        body.append(f"<p>{escape(dice.sentence())} {escape(dice.sentence())}</p>\n")
        have += len(body[-1].encode())
    return (head + "".join(body) + "</body>\n</html>\n").encode()


def check(path: Path) -> None:
    from html.parser import HTMLParser

    class Tags(HTMLParser):
        """Counts what opens and closes."""

        opened = closed = 0

        def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
            self.opened += tag == "html"

        def handle_endtag(self, tag: str) -> None:
            self.closed += tag == "html"

    tags = Tags()
    tags.feed(path.read_text("utf-8"))
    tags.close()
    if not tags.opened or tags.closed < tags.opened:
        raise ValueError("the page is not closed")


KIND = Kind(
    "html",
    "HTML page",
    "document",
    ("html", "htm"),
    "text/html",
    "text up to </html>",
    Proof.STRUCTURE,
    measure,
    tuple(Signature(mark) for mark in (b"<!DOCTYPE html", b"<!doctype html", b"<!DOCTYPE HTML", b"<html", b"<HTML")),
    make=make,
    check=check,
)
