"""Tar archives: headers with checksums, sizes, and two blocks of zeros. Source: POSIX.1-2017, pax (ustar format)."""

from __future__ import annotations

import io
from pathlib import Path

import numpy as np

from sastrugi.kinds.base import Holds, Kind, Measure, Proof, Signature, Source, broken
from sastrugi.kinds.following import UnitFollower
from sastrugi.scenario.dice import Dice

_BLOCK, _RECORD = 512, 10240
_WITHOUT_DATA = (b"1", b"2", b"3", b"4", b"5", b"6")
_SPARSE_GOES_ON, _EXTENSION_GOES_ON = 482, 504


def _size(header: bytes) -> int | None:
    """The size in a header whose checksum is right, or None."""
    try:
        wanted = int(header[148:156].strip(b" \0") or b"-1", 8)
        if header[124] & 0x80:
            size = int.from_bytes(header[125:136], "big")
        else:
            size = int(header[124:136].strip(b" \0") or b"0", 8)
    except ValueError:
        return None
    if header[156:157] in _WITHOUT_DATA:
        size = 0
    rest = header[:148] + b" " * 8 + header[156:]
    totals = int(np.frombuffer(rest, "u1").sum()), int(np.frombuffer(rest, "i1").sum())  # some archivers sum signed
    return size if wanted in totals and size >= 0 else None


def measure(source: Source, deep: bool = False) -> Measure | None:
    at = count = 0
    while True:
        header = source.read(at, _BLOCK)
        if len(header) < _BLOCK or not header.strip(b"\0"):
            break
        size = _size(header)
        if size is None:
            return broken("tar", at, f"the header behind {count:,} entries is wrong") if count else None
        at, count = at + _BLOCK, count + 1
        more = header[156:157] == b"S" and header[_SPARSE_GOES_ON]
        while more:  # old GNU sparse files carry further maps in blocks of their own
            extension = source.read(at, _BLOCK)
            at += _BLOCK
            more = len(extension) == _BLOCK and extension[_EXTENSION_GOES_ON]
        at += -(-size // _BLOCK) * _BLOCK
        if at > source.size:
            return broken("tar", source.size, "an entry reaches beyond the end")
    if not count:
        return None
    if source.read(at, 2 * _BLOCK).strip(b"\0") or at + 2 * _BLOCK > source.size:
        return broken("tar", min(at, source.size), f"no two blocks of zeros behind {count:,} entries")
    end = at + 2 * _BLOCK
    record = -(-end // _RECORD) * _RECORD
    if record <= source.size and not source.read(end, record - end).strip(b"\0"):
        end = record  # archivers fill their last record with zeros
    return Measure(
        "tar", end, True, Proof.CHECKSUM, f"header checksums of all {count:,} entries right, up to the zeros"
    )


class _Entries(UnitFollower):
    """Headers by their checksums; nothing is known of what is between them."""

    cost = 1.0
    _zeros = 0

    def _may_begin(self, data: bytes, at: int) -> bool:
        header = data[at : at + _BLOCK]
        return len(header) < _BLOCK or not header.strip(b"\0") or (_size(header) is not None and not self._zeros)

    def _unit(self, kept: bytes, at: int) -> int:
        if len(kept) < _BLOCK:
            return 0
        header = kept[:_BLOCK]
        if not header.strip(b"\0"):
            self._zeros += 1
            if self._zeros == 2:
                self.end = -(-(at + _BLOCK) // _RECORD) * _RECORD
            return _BLOCK
        size = _size(header)
        if size is None or self._zeros:
            self.wrong = at + _BLOCK
            return 0
        self._passed(at + _BLOCK, 24.0)
        if header[156:157] == b"S" and header[_SPARSE_GOES_ON]:
            return 1 << 40  # further maps follow
        return _BLOCK + -(-size // _BLOCK) * _BLOCK


def make(dice: Dice, size: int) -> bytes:
    import tarfile

    out = io.BytesIO()
    files = dice.number(2, 5)
    with tarfile.open(fileobj=out, mode="w", format=tarfile.PAX_FORMAT) as archive:
        for n in range(files):
            content = dice.log_text(max(size // files - 1200, 20)).encode()
            entry = tarfile.TarInfo(f"firnline/{dice.word()}-{n}.txt")
            entry.size, entry.mtime = len(content), 1_927_000_000 + dice.number(0, 10**6)
            archive.addfile(entry, io.BytesIO(content))
    return out.getvalue()


def check(path: Path) -> None:
    import tarfile

    with tarfile.open(path, "r:") as archive:
        for entry in archive:
            content = archive.extractfile(entry)
            if content is not None and len(content.read()) != entry.size:
                raise tarfile.ReadError(f"{entry.name} is cut short")
        if path.stat().st_size < archive.offset + _BLOCK:
            raise tarfile.ReadError("the end is missing")


KIND = Kind(
    "tar", "tar archive", "archive", ("tar",), "application/x-tar", "entries up to two blocks of zeros",
    Proof.STRUCTURE, measure, (Signature(b"ustar", 257),), holds=Holds.ALL, follow=_Entries,
    make=make, check=check,
)  # fmt: skip
