"""PDF: objects, a cross-reference section, and an end mark that points to it. Source: ISO 32000-1, 7.5."""

from __future__ import annotations

import datetime as dt
import re
from pathlib import Path

from sastrugi.kinds._pictures import filling_photographs
from sastrugi.kinds.base import Holds, Kind, Measure, Proof, Signature, Source, broken
from sastrugi.scenario.dice import Dice

_END = b"%%EOF"
_TAIL = re.compile(rb"startxref\s+(\d+)\s*$")
_OBJECT = re.compile(rb"\s*\d+\s+\d+\s+obj\b")
_FOLLOWS = re.compile(rb"\s*(\d+\s+\d+\s+obj\b|xref\b|%[^%])")
_ENTRY = re.compile(rb"(\d{10}) \d{5} n")
_LINEARIZED = re.compile(rb"/Linearized\b.{0,200}?/L\s+(\d+)", re.DOTALL)
_WITHOUT_OBJECTS = 64 << 20
_SECTOR = 512
_MAX_TABLE = 8 << 20


def measure(source: Source, deep: bool = False) -> Measure | None:
    head = source.read(0, 1024)
    if not re.match(rb"%PDF-[12]\.\d", head):
        return None
    linear = _LINEARIZED.search(head)
    declared = int(linear[1]) if linear else 0
    last_object = last_end = 0
    tail = b""
    reason = "it has no end mark"
    for at, block in source.blocks(8):
        window, base = tail + block, at - len(tail)
        hit = window.find(_END)
        other = _next_file(window, base)
        while hit >= 0 and base + hit < other:
            end = base + hit + len(_END)
            if _line_end(source, end) >= declared:
                last_end = _line_end(source, end)
                reason = _check_end(source, base + hit)
                if not reason and not _FOLLOWS.match(source.read(last_end, 64)):
                    rule = "every object stands where the cross-reference table says"
                    return Measure("pdf", last_end, True, Proof.STRUCTURE, rule)
            hit = window.find(_END, hit + 1)
        if b" obj" in window:
            last_object = at
        tail = window[-16:]
        if other < source.size or at - last_object > _WITHOUT_OBJECTS:
            break
    length = last_end or min(last_object + len(tail), source.size)
    return broken("pdf", length, reason or "an update begins after its last end mark and does not end")


def _next_file(window: bytes, base: int) -> int:
    """Where another PDF begins on a sector, far beyond everything if none does in this window."""
    hit = window.find(b"%PDF-")
    while hit >= 0 and (base + hit) % _SECTOR:
        hit = window.find(b"%PDF-", hit + 1)
    return base + hit if hit >= 0 else 1 << 62


def _line_end(source: Source, end: int) -> int:
    """The position behind the end-of-line mark that follows the end mark, if one does."""
    after = source.read(end, 2)
    if after == b"\r\n":
        return end + 2
    return end + 1 if after[:1] in (b"\r", b"\n") else end


def _check_end(source: Source, mark: int) -> str:
    """What is wrong with the end mark at `mark`: its cross-reference sections must name objects that are there."""
    before = source.read(max(mark - 64, 0), min(mark, 64))
    pointer = _TAIL.search(before)
    if pointer is None:
        return "an end mark has no pointer before it"
    start = int(pointer[1])
    if start >= mark:
        return "an end mark points behind itself"
    head = source.read(start, 64)
    if _OBJECT.match(head):
        return ""  # a cross-reference stream: its object is where it should be
    if not head.lstrip().startswith(b"xref"):
        return "no cross-reference section where the end mark says"
    table = source.read(start, min(mark - start, _MAX_TABLE))
    for entry in _ENTRY.finditer(table[: _section_end(table)]):
        offset = int(entry[1])
        if offset >= mark or not _OBJECT.match(source.read(offset, 32)):
            return f"no object at {offset:,}, where the cross-reference table says"
    return ""


def _section_end(table: bytes) -> int:
    end = table.find(b"trailer")
    return end if end >= 0 else len(table)


def make(dice: Dice, size: int) -> bytes:
    """A report of the season: pages of text, and photographs that bring it to its size."""
    import io

    from fpdf import FPDF

    report = FPDF()
    report.set_creation_date(dice.moment().replace(tzinfo=dt.UTC))
    report.set_author("Firnline station")
    pictures = filling_photographs(dice, size - 6000)
    for page in range(1 + len(pictures)):
        report.add_page()
        report.set_font("Helvetica", "B", 16)
        report.cell(0, 12, _latin(dice.caption()), new_x="LMARGIN", new_y="NEXT")
        report.set_font("Helvetica", size=10)
        report.multi_cell(0, 5, _latin(dice.log_text(1500)))
        if page < len(pictures):
            report.image(io.BytesIO(pictures[page]), w=150)
    plain = bytes(report.output())
    form = dice.pick(("plain", "streams", "updated"))
    if form == "streams":
        return _with_streams(plain)
    return _updated(plain, dice) if form == "updated" else plain


def _with_streams(plain: bytes) -> bytes:
    """The same document with its cross-references in a stream, as newer programs write it."""
    import io

    from pikepdf import ObjectStreamMode, Pdf

    out = io.BytesIO()
    with Pdf.open(io.BytesIO(plain)) as document:
        document.save(out, object_stream_mode=ObjectStreamMode.generate, deterministic_id=True)
    return out.getvalue()


def _updated(plain: bytes, dice: Dice) -> bytes:
    """The same document with an incremental update behind its end mark."""
    import io

    from pypdf import PdfWriter

    out = io.BytesIO()
    writer = PdfWriter(io.BytesIO(plain), incremental=True)
    writer.add_metadata({"/Subject": _latin(dice.sentence())})
    writer.write(out)
    return out.getvalue()


def _latin(text: str) -> str:
    """What the standard PDF fonts can show."""
    return text.encode("latin-1", "replace").decode("latin-1")


def check(path: Path) -> None:
    from pypdf import PdfReader

    with path.open("rb") as file:
        for page in PdfReader(file, strict=True).pages:
            page.extract_text()


KIND = Kind(
    "pdf", "PDF document", "document", ("pdf",), "application/pdf", "end mark whose cross-references hold",
    Proof.STRUCTURE,
    measure, (Signature(b"%PDF-"),), holds=Holds.ALL, make=make, check=check,
)  # fmt: skip
