"""Long names and the short 8.3 aliases that go with them.

Source: FAT specification 1.03, sections "FAT Long Directory Entries" and "Name Limits and Character Sets".
"""

from __future__ import annotations

import zlib
from collections.abc import Container

import numpy as np

from sastrugi.errors import VolumeError
from sastrugi.volumes.fat.layout import (
    ATTR_LONG_NAME,
    CHARS_PER_LONG_ENTRY,
    DELETED,
    DELETED_ESCAPE,
    LAST_LONG_ENTRY,
    LONG_ENTRY,
    OEM_CODEPAGE,
    short_name_checksum,
)

_PLAIN_NUMBERS = 4
_NOT_IN_SHORT = set("+,;=[] ")


def fold(name: str) -> str:
    """The form in which two names are the same to FAT: upper case, character by character."""
    if name.isascii():
        return name.upper()
    return "".join(upper if len(upper := char.upper()) == 1 else char for char in name)


def _short_part(text: str, room: int) -> tuple[bytes, bool]:
    """Up to `room` bytes of a short name from `text`, and whether anything was lost."""
    out = bytearray()
    lossy = False
    for char in text:
        if char in " .":
            lossy = True
            continue
        upper = fold(char)
        try:
            code = b"_" if upper in _NOT_IN_SHORT else upper.encode(OEM_CODEPAGE)
        except UnicodeEncodeError:
            code = b"_"
        lossy |= code == b"_" and char != "_"
        out += code
    return bytes(out[:room]), lossy or len(out) > room


def short_alias(name: str, taken: Container[bytes]) -> tuple[bytes, bool]:
    """The eleven bytes of the short name for `name`, and whether long entries are needed to keep it.

    Raises VolumeError when every numeric tail is taken.
    """
    stem, dot, extension = name.rpartition(".")
    if not dot or not stem.strip(". "):
        stem, extension = name, ""
    base, lossy_base = _short_part(stem, 8)
    tail, lossy_tail = _short_part(extension, 3)
    plain = (base or b"_").ljust(8) + tail.ljust(3)
    lossy = lossy_base or lossy_tail or not base
    if not lossy and plain not in taken:
        exact = base + (b"." + tail if tail else b"")
        return _escaped(plain), exact.decode(OEM_CODEPAGE) != name
    hashed = (base[:2] or b"_") + f"{zlib.crc32(name.encode('utf-8', 'surrogatepass')) & 0xFFFF:04X}".encode()
    for number in range(1, 1_000_000):
        # As Windows does: a few numbers in plain, then a hash of the name, so that large folders stay quick.
        mark, stem_bytes = f"~{number}".encode(), base or b"_"
        if number > _PLAIN_NUMBERS:
            mark, stem_bytes = f"~{number - _PLAIN_NUMBERS}".encode(), hashed
        alias = (stem_bytes[: 8 - len(mark)] + mark).ljust(8) + tail.ljust(3)
        if alias not in taken:
            return _escaped(alias), True
    raise VolumeError(f"'{name}': no free short name is left in its folder")


def _escaped(name: bytes) -> bytes:
    return bytes([DELETED_ESCAPE]) + name[1:] if name[0] == DELETED else name


def long_entries(name: str, short: bytes) -> bytes:
    """The long-name entries of `name` as they stand before the short entry `short`."""
    units = np.frombuffer(name.encode("utf-16-le", "surrogatepass"), "<u2")
    count = -(-len(units) // CHARS_PER_LONG_ENTRY)
    padded = np.full(count * CHARS_PER_LONG_ENTRY, 0xFFFF, "<u2")
    padded[: len(units)] = units
    if len(units) < len(padded):
        padded[len(units)] = 0
    rows = padded.reshape(count, CHARS_PER_LONG_ENTRY)
    entries = np.zeros(count, LONG_ENTRY)
    entries["order"] = np.arange(1, count + 1)
    entries["order"][-1] |= LAST_LONG_ENTRY
    entries["name_1"], entries["name_2"], entries["name_3"] = rows[:, :5], rows[:, 5:11], rows[:, 11:]
    entries["attr"] = ATTR_LONG_NAME
    entries["checksum"] = short_name_checksum(short)
    return entries[::-1].tobytes()
