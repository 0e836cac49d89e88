"""Names as HFS Plus keeps them: decomposed, in UTF-16, and in an order that pays no regard to case.

Source: TN1150, "Unicode Subtleties" and "Case-Insensitive String Comparison Algorithm". Letters are decomposed as
Unicode 3.2 has it but for some ranges, as systems since 2003 do (the table of the note is older and leaves some whole);
the order is that of the folded code units, of which some count as nothing.
"""

from __future__ import annotations

import re
import unicodedata
from functools import cache

from sastrugi.errors import VolumeError
from sastrugi.volumes.hfsplus.layout import MOST_NAME

_UNICODE = unicodedata.ucd_3_2_0
_KEPT = re.compile("([\u2000-\u2fff\uf900-\ufaff\U0002f800-\U0002faff]+)")
"""Never decomposed."""
_IGNORED = frozenset([*range(0x200C, 0x2010), *range(0x202A, 0x202F), *range(0x206A, 0x2070), 0xFEFF])
_GEORGIAN = range(0x10A0, 0x10C6)
_GEORGIAN_SHIFT = 0x30
_LAST = 0xFFFF
"""What a zero counts as."""
_CASED = (
    *range(0x41, 0x5B), 0xC6, 0xD0, 0xD8, 0xDE, 0x110, 0x126, 0x132, 0x13F, 0x141, 0x14A, 0x152, 0x166,
    *range(0x181, 0x1A6), *range(0x1A7, 0x1C6), 0x1C7, 0x1C8, 0x1CA, 0x1CB, 0x1E4, 0x1F1, 0x1F2, *range(0x391, 0x3AA),
    *range(0x3E2, 0x3EF), *range(0x402, 0x430), *range(0x460, 0x482), *range(0x490, 0x4C0), 0x4C3, 0x4C7, 0x4CB,
    *range(0x531, 0x557), *range(0x2160, 0x2170), *range(0xFF21, 0xFF3B),
)  # fmt: skip
"""Letters that have a small form in the table of the note, which is older than many others."""


@cache
def _folding() -> dict[int, int | None]:
    """What code units are compared as; None for those that count as nothing."""
    table: dict[int, int | None] = dict.fromkeys(_IGNORED)
    for code in _CASED:
        small = _UNICODE.normalize("NFC", chr(code)).lower()
        if len(small) == 1 and small != chr(code) and not _UNICODE.decomposition(chr(code)).startswith("0"):
            table[code] = ord(small)
    table |= {code: code + _GEORGIAN_SHIFT for code in _GEORGIAN}
    table[0] = _LAST
    return table


def decomposed(name: str) -> str:
    """A name as it is stored; a colon is a slash there, as a slash parts folders elsewhere."""
    name = name.replace(":", "/")
    if name.isascii():
        return name
    return "".join(part if n % 2 else _UNICODE.normalize("NFD", part) for n, part in enumerate(_KEPT.split(name)))


def composed(name: str) -> str:
    """A stored name as systems list it."""
    name = name.replace("/", ":")
    if name.isascii():
        return name
    return "".join(part if n % 2 else _UNICODE.normalize("NFC", part) for n, part in enumerate(_KEPT.split(name)))


def to_units(name: str) -> bytes:
    """The UTF-16 units of a name as it is stored. Raises VolumeError for what cannot be a name."""
    try:
        units = decomposed(name).encode("utf-16-be")
    except UnicodeEncodeError as error:
        raise VolumeError(f"{name!a} cannot be a name: it is no text") from error
    if len(units) > 2 * MOST_NAME:
        raise VolumeError(f"'{name[:40]}…' is too long: a name has at most {MOST_NAME} characters, marks counted")
    return units


def text_of(units: bytes) -> str:
    """A name from its UTF-16 units."""
    return composed(units.decode("utf-16-be", "replace"))


def folded(units: bytes) -> bytes:
    """What a name is compared by, of a volume on which case does not count: bytes in the order of names."""
    text = units.decode("utf-16-be", "surrogatepass")
    return text.translate(_folding()).encode("utf-16-be", "surrogatepass")
