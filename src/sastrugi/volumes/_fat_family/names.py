"""Names of files on FAT and exFAT."""

from __future__ import annotations

from sastrugi.errors import VolumeError

_UNSAFE = set('"*/:<>?\\|') | {chr(code) for code in range(32)} | {"\x7f"}
MAX_NAME = 255
LOST = "_"
"""In the place of a first character that a deletion took."""


def check_name(name: str, file_system: str) -> None:
    """Raise VolumeError if FAT or exFAT cannot hold `name`, saying why."""
    bad = sorted(_UNSAFE & set(name))
    if bad:
        raise VolumeError(f"'{name}': {file_system} names cannot hold {' '.join(repr(char) for char in bad)}")
    if name in ("", ".", "..") or name[-1] in " .":
        raise VolumeError(f"'{name}': {file_system} names cannot be empty or end in a space or a dot")
    units = len(name.encode("utf-16-le", "surrogatepass")) // 2
    if units > MAX_NAME:
        raise VolumeError(f"'{name[:40]}…': {units} characters, {file_system} holds {MAX_NAME}")
