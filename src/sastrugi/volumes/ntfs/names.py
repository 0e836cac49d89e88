"""Names that files get besides their own: the short ones that DOS sees."""

from __future__ import annotations

import zlib
from collections.abc import Callable

from sastrugi.errors import VolumeError
from sastrugi.volumes.ntfs.file_record import Named
from sastrugi.volumes.ntfs.layout import DOS, WIN32, WIN32_AND_DOS

_PLAIN = frozenset("_-~$!#%&'()@^`{}")
_COUNTED = 4
"""Short names that are counted; behind that a hash of the name goes into them, as Windows does it."""


def with_short_name(name: str, parent: int, is_taken: Callable[[str], bool]) -> list[Named]:
    """The names of a file in a folder (its reference), as Windows gives them."""
    stem, _, suffix = name.rpartition(".") if "." in name[1:] else (name, "", "")
    if all(_is_plain(char) for char in stem + suffix) and 0 < len(stem) <= 8 and len(suffix) <= 3:
        return [Named(parent, name, WIN32_AND_DOS)]
    kept, end = _letters(stem)[:6] or "FILE", _letters(suffix)[:3]
    hashed = f"{kept[:2]}{zlib.crc32(name.encode('utf-16-le')) & 0xFFFF:04X}"
    for n in range(1, 1000):
        tail = f"~{n}" if n <= _COUNTED else f"~{n - _COUNTED}"
        short = (kept if n <= _COUNTED else hashed)[: 8 - len(tail)] + tail + (f".{end}" if end else "")
        if not is_taken(short):
            return [Named(parent, name, WIN32), Named(parent, short, DOS)]
    raise VolumeError(f"{name}: no short name is left for it in its folder")


def _is_plain(char: str) -> bool:
    return char.isascii() and (char.isalnum() or char in _PLAIN)


def _letters(text: str) -> str:
    return "".join(char for char in text.upper() if char.isascii() and char.isalnum())
