"""An Exif header as a camera writes it. Source: Exif 2.3 (CIPA DC-008), sections 4.5 and 4.6; TIFF 6.0, section 2."""

from __future__ import annotations

from struct import pack

_ASCII, _SHORT, _LONG = 2, 3, 4
_EXIF_IFD, _PREVIEW, _PREVIEW_LENGTH = 0x8769, 0x0201, 0x0202
IMAGE_DESCRIPTION, MAKE, MODEL, DATE_TIME, COMPRESSION = 0x010E, 0x010F, 0x0110, 0x0132, 0x0103
DATE_TIME_ORIGINAL = 0x9003
Fields = dict[int, bytes | int]
"""By tag: a text, or a number of 16 bits."""


def exif_header(main: Fields, camera: Fields, preview: bytes) -> bytes:
    """The content of the segment: the main directory, that of the camera, and (if there is one) a JPEG preview."""
    at = 8
    first = _Directory(at, main, (_EXIF_IFD,), linked=True)
    second = _Directory(first.end, camera, (), linked=False)
    third = _Directory(second.end, {COMPRESSION: 6}, (_PREVIEW, _PREVIEW_LENGTH), linked=True)
    bare = _without_application_data(preview)
    out = b"Exif\0\0MM\0*" + pack(">I", at)
    out += first.written([first.end], third.at if preview else 0)
    out += second.written([], 0)
    return out + (third.written([third.end, len(bare)], 0) + bare if preview else b"")


class _Directory:
    """Entries of twelve bytes, and behind them the values that do not fit in; `later` are tags of offsets that follow
    from the rest. `linked` tells that the place of the next directory stands between the two."""

    def __init__(self, at: int, fields: Fields, later: tuple[int, ...], linked: bool) -> None:
        self.at, self._fields, self._later, self._linked = at, fields, later, linked
        self._values_at = at + 2 + 12 * (len(fields) + len(later)) + 4 * linked
        texts = (value + b"\0" for value in fields.values() if isinstance(value, bytes))
        self.end = self._values_at + sum(len(text) for text in texts if len(text) > 4)

    def written(self, offsets: list[int], following: int) -> bytes:
        entries, values = pack(">H", len(self._fields) + len(self._later)), b""
        for tag, value in sorted(self._fields.items()):
            if isinstance(value, int):
                entries += pack(">HHIHH", tag, _SHORT, 1, value, 0)
                continue
            text = value + b"\0"
            place = pack(">I", self._values_at + len(values)) if len(text) > 4 else text.ljust(4, b"\0")
            entries += pack(">HHI", tag, _ASCII, len(text)) + place
            values += text if len(text) > 4 else b""
        for tag, offset in zip(self._later, offsets, strict=True):
            entries += pack(">HHII", tag, _LONG, 1, offset)
        return entries + (pack(">I", following) if self._linked else b"") + values


def _without_application_data(jpeg: bytes) -> bytes:
    """A preview holds no segments for applications (section 4.5.5)."""
    at = 2
    while jpeg[at : at + 1] == b"\xff" and 0xE0 <= jpeg[at + 1] <= 0xEF:
        at += 2 + int.from_bytes(jpeg[at + 2 : at + 4], "big")
    return jpeg[:2] + jpeg[at:]
