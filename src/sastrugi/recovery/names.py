"""Hostile names made safe for any destination, with a note of what was changed."""

from __future__ import annotations

import re

MAX_BYTES = 255
_UNSAFE = re.compile(r'[\x00-\x1f\x7f-\x9f/\\:*?"<>|\ud800-\udfff]')
_DEVICES = re.compile(r"(con|prn|aux|nul|conin\$|conout\$|com[0-9¹²³]|lpt[0-9¹²³])(\..*)?", re.IGNORECASE)


def safe_name(name: str) -> str:
    """One path component that every common file system takes and that cannot lead elsewhere."""
    clean = _UNSAFE.sub("_", name).rstrip(" .").lstrip(" ")
    if not clean.strip("."):
        clean = "_" * max(len(name), 1) if len(name) < 8 else "unnamed"
    if _DEVICES.fullmatch(clean):
        clean = "_" + clean
    return shortened(clean, MAX_BYTES)


def shortened(name: str, limit: int) -> str:
    """The name cut to `limit` bytes of UTF-8, its extension kept where that is short."""
    if len(name.encode()) <= limit:
        return name
    stem, dot, extension = name.rpartition(".")
    tail = f".{extension}" if dot and len(extension.encode()) <= 16 else ""
    base = stem if tail else name
    return base.encode()[: limit - len(tail.encode())].decode("utf-8", "ignore") + tail


def with_number(name: str, number: int) -> str:
    """`IMG.JPG` as `IMG #17.JPG`: a second file of one name by its number in the scan."""
    stem, dot, extension = name.rpartition(".")
    if not dot or not stem:
        return shortened(name, MAX_BYTES - 24) + f" #{number}"
    return shortened(stem, MAX_BYTES - 24 - len(extension.encode()) - 1) + f" #{number}.{extension}"


def numbered(name: str, number: int) -> str:
    """`IMG.JPG` as `IMG (2).JPG`: what a second file of one name becomes."""
    stem, dot, extension = name.rpartition(".")
    if not dot or not stem:
        return shortened(name, MAX_BYTES - 12) + f" ({number})"
    return shortened(stem, MAX_BYTES - 12 - len(extension.encode()) - 1) + f" ({number}).{extension}"
