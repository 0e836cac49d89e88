"""ZIP archives, and telling apart the kinds that are ZIP archives inside. Source: PKWARE APPNOTE.TXT 6.3.x."""

from __future__ import annotations

import io
import zipfile
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

from sastrugi.kinds._zip_following import Entries
from sastrugi.kinds._zip_records import LOCAL, Archive, first_damaged, walk
from sastrugi.kinds.base import Kind, Measure, Proof, Signature, Source, broken
from sastrugi.scenario.dice import Dice
from sastrugi.units import plural

if TYPE_CHECKING:
    from _typeshed import ReadableBuffer as Buffer

_BY_FOLDER = {"word/": "docx", "xl/": "xlsx", "ppt/": "pptx"}
_BY_MEDIA_TYPE = {
    b"application/vnd.oasis.opendocument.text": "odt", b"application/vnd.oasis.opendocument.spreadsheet": "ods",
    b"application/vnd.oasis.opendocument.presentation": "odp", b"application/epub+zip": "epub",
}  # fmt: skip


def measure(source: Source, deep: bool = False) -> Measure | None:
    if source.read(0, 4) != LOCAL:
        return None
    archive = walk(source)
    if not archive.members:
        return None
    kind = _inner_kind(archive)
    damaged = first_damaged(source, archive) if deep else None
    if archive.problem:
        problem = f"{archive.problem} ({plural(len(archive.members), 'entry', 'entries')} before it)"
        return replace(
            broken(kind, archive.end, problem), breaks_at=min(archive.end, damaged[1] if damaged else archive.end)
        )
    count = plural(len(archive.members), "entry", "entries")
    if not deep:
        return Measure(kind, archive.end, True, Proof.STRUCTURE, f"{count} and the central directory meet")
    if damaged is not None:
        rule = f"the checksum of {damaged[0].name} is wrong"
        return Measure(kind, archive.end, False, Proof.GUESS, rule, breaks_at=damaged[1])
    return Measure(kind, archive.end, True, Proof.CHECKSUM, f"ZIP checksums of {count} right, central directory meets")


def _inner_kind(archive: Archive) -> str:
    names = {member.name for member in archive.members}
    if archive.members[0].name == "mimetype":
        return _BY_MEDIA_TYPE.get(archive.first_content.strip(), "zip")
    if "[Content_Types].xml" in names:
        for folder, kind in _BY_FOLDER.items():
            if any(name.startswith(folder) for name in names):
                return kind
    return "jar" if "META-INF/MANIFEST.MF" in names else "zip"


def make(dice: Dice, size: int) -> bytes:
    """Logger downloads of several days, some of them stored as they are (they do not pack).

    In one of three forms: plain, with 64-bit lengths, or written to a pipe, with lengths behind the data.
    """
    out = io.BytesIO()
    days = dice.number(3, 6)
    form = dice.pick(("plain", "zip64", "pipe"))
    with zipfile.ZipFile(_Pipe(out) if form == "pipe" else out, "w") as archive:
        for day in range(days):
            stored = dice.chance(0.5)
            content = dice.noise(size // days) if stored else dice.log_text(size * 3 // days).encode()
            entry = zipfile.ZipInfo(
                f"logger/day-{day + 1:03d}.{'raw' if stored else 'txt'}", dice.moment().timetuple()[:6]
            )
            entry.compress_type = zipfile.ZIP_STORED if stored else zipfile.ZIP_DEFLATED
            with archive.open(entry, "w", force_zip64=form == "zip64") as file:
                file.write(content)
    return out.getvalue()


class _Pipe(io.RawIOBase):
    """Takes bytes one after the other: what is written to it cannot be gone back to."""

    def __init__(self, out: io.BytesIO) -> None:
        self._out = out

    def writable(self) -> bool:
        return True

    def write(self, data: Buffer) -> int:
        return self._out.write(data)


def check(path: Path) -> None:
    with zipfile.ZipFile(path) as archive:
        damaged = archive.testzip()
    if damaged is not None:
        raise zipfile.BadZipFile(f"the checksum of {damaged} is wrong")


def with_fixed_times(data: bytes) -> bytes:
    """The same archive with every entry dated 1 January 1980, so that the bytes do not depend on the day."""
    out = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(data)) as old, zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as new:
        for info in old.infolist():
            new.writestr(zipfile.ZipInfo(info.filename, (1980, 1, 1, 0, 0, 0)), old.read(info), zipfile.ZIP_DEFLATED)
    return out.getvalue()


KIND = Kind(
    "zip", "ZIP archive", "archive", ("zip", "whl"), "application/zip",
    "entries, central directory, end record", Proof.CHECKSUM, measure, (Signature(LOCAL),), follow=Entries,
    make=make, check=check,
)  # fmt: skip
