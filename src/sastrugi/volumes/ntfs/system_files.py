"""What the files of a new volume hold that it needs itself: attribute definitions, upper case, security."""

from __future__ import annotations

from functools import cache, lru_cache

import numpy as np
from numpy.typing import NDArray

from sastrugi.volumes.ntfs.index import Index, Item

_DEFINITIONS = (
    ("$STANDARD_INFORMATION", 0x10, 0x40, 0x30, 0x48), ("$ATTRIBUTE_LIST", 0x20, 0x80, 0, -1),
    ("$FILE_NAME", 0x30, 0x42, 0x44, 0x242), ("$OBJECT_ID", 0x40, 0x40, 0, 0x100),
    ("$SECURITY_DESCRIPTOR", 0x50, 0x80, 0, -1), ("$VOLUME_NAME", 0x60, 0x40, 2, 0x100),
    ("$VOLUME_INFORMATION", 0x70, 0x40, 0xC, 0xC), ("$DATA", 0x80, 0, 0, -1), ("$INDEX_ROOT", 0x90, 0x40, 0, -1),
    ("$INDEX_ALLOCATION", 0xA0, 0x80, 0, -1), ("$BITMAP", 0xB0, 0x80, 0, -1), ("$REPARSE_POINT", 0xC0, 0x80, 0, 0x4000),
    ("$EA_INFORMATION", 0xD0, 0x40, 8, 8), ("$EA", 0xE0, 0, 0, 0x10000),
    ("$LOGGED_UTILITY_STREAM", 0x100, 0x80, 0, 0x10000),
)  # fmt: skip
"""Name, type, flags (indexable, resident, may be outside), least and greatest size."""
_DEFINITION = np.dtype(
    [("name", "S128"), ("type", "<u4"), ("display", "<u4"), ("collation", "<u4"), ("flags", "<u4"), ("least", "<i8"),
     ("most", "<i8")]
)  # fmt: skip
SECURITY_ID = 0x100
_MIRRORED_AT = 0x40000
BY_HASH, BY_NUMBER, BY_OWNER, BY_WORDS = 0x12, 0x10, 0x11, 0x13
Views = list[tuple[str, int, Index]]
"""Indexes of one of the volume's own files: (name, how keys are sorted, index)."""


def attribute_definitions() -> bytes:
    """The content of $AttrDef."""
    rows = np.zeros(len(_DEFINITIONS) + 1, _DEFINITION)
    out = bytearray(rows.tobytes())
    for n, (name, kind, flags, least, most) in enumerate(_DEFINITIONS):
        row = np.zeros((), _DEFINITION)
        row["type"], row["flags"], row["least"], row["most"] = kind, flags, least, most
        row["collation"] = 1 if kind == 0x30 else 0
        data = bytearray(row.tobytes())
        text = name.encode("utf-16-le")
        data[: len(text)] = text
        out[n * _DEFINITION.itemsize : (n + 1) * _DEFINITION.itemsize] = data
    return bytes(out[: 16 * _DEFINITION.itemsize])


@cache
def upper() -> NDArray[np.uint16]:
    """For each 16-bit unit its upper-case one."""
    out = []
    for code in range(1 << 16):
        text = chr(code).upper() if not 0xD800 <= code < 0xE000 else ""
        out.append(ord(text) if len(text) == 1 and ord(text) < 1 << 16 else code)
    return np.array(out, np.uint16)


def upper_bytes() -> bytes:
    """The content of $UpCase."""
    return upper().astype("<u2").tobytes()


@lru_cache(1 << 12)
def order_of(name: str) -> tuple[bytes, bytes]:
    """What names are sorted by: in upper case, and then as they are."""
    if name.isascii():
        return name.upper().encode("utf-16-be"), name.encode("utf-16-be")
    units = np.frombuffer(name.encode("utf-16-le", "surrogatepass"), "<u2")
    return upper()[units].astype(">u2").tobytes(), units.astype(">u2").tobytes()


def descriptor() -> bytes:
    """A security descriptor by which everybody may do everything ([MS-DTYP], section 2.4.6)."""
    everyone = bytes([1, 1, 0, 0, 0, 0, 0, 1]) + bytes(4)
    administrators = bytes([1, 2, 0, 0, 0, 0, 0, 5]) + (32).to_bytes(4, "little") + (544).to_bytes(4, "little")
    entry = bytes([0, 3]) + (8 + len(everyone)).to_bytes(2, "little") + (0x1F01FF).to_bytes(4, "little") + everyone
    rights = bytes([2, 0]) + (8 + len(entry)).to_bytes(2, "little") + (1).to_bytes(2, "little") + bytes(2) + entry
    owner = 20 + len(rights)
    head = bytes([1, 0]) + (0x8004).to_bytes(2, "little") + owner.to_bytes(4, "little")
    head += (owner + len(administrators)).to_bytes(4, "little") + bytes(4) + (20).to_bytes(4, "little")
    return head + rights + administrators + administrators


def extended(block: int, room: int) -> dict[str, Views]:
    """The files of $Extend that every volume has, with their indexes: quotas, of which none is limited; object
    identifiers and reparse points, of which there are none."""
    by_owner, by_number = Index(block, room, 1), Index(block, room, 1)
    owner = bytes([1, 2, 0, 0, 0, 0, 0, 5]) + (32).to_bytes(4, "little") + (544).to_bytes(4, "little")
    number = SECURITY_ID.to_bytes(4, "little")
    by_owner.insert(Item((b"", b""), owner, 0, number))
    # [Linux drivers, quota control entry]: version 2, default limits, nothing used, nothing limited
    quota = (2).to_bytes(4, "little") + (1).to_bytes(4, "little") + bytes(16) + b"\xff" * 16 + bytes(8)
    by_number.insert(Item((b"\0", b""), (1).to_bytes(4, "little"), 0, quota))
    by_number.insert(Item((b"\1", b""), number, 0, quota + owner))
    return {
        "$Quota": [("$O", BY_OWNER, by_owner), ("$Q", BY_NUMBER, by_number)],
        "$ObjId": [("$O", BY_WORDS, Index(block, room, 1))],
        "$Reparse": [("$R", BY_WORDS, Index(block, room, 1))],
    }


def security(block: int, room: int) -> tuple[bytes, Views]:
    """The stream $SDS of $Secure, and its indexes: by hash and by number."""
    data = descriptor()
    total = 0
    for word in np.frombuffer(data.ljust(-(-len(data) // 4) * 4, b"\0"), "<u4").tolist():
        total = (word + (total >> 29 | total << 3)) & 0xFFFFFFFF
    head = total.to_bytes(4, "little") + SECURITY_ID.to_bytes(4, "little") + bytes(8)
    head += (20 + len(data)).to_bytes(4, "little")
    entry = head + data
    stream = entry.ljust(_MIRRORED_AT, b"\0") + entry
    by_hash, by_number = Index(block, room, 1), Index(block, room, 1)
    by_hash.insert(
        Item((b"", b""), total.to_bytes(4, "little") + SECURITY_ID.to_bytes(4, "little"), 0, head + b"I\0I\0")
    )
    by_number.insert(Item((b"", b""), SECURITY_ID.to_bytes(4, "little"), 0, head))
    return stream, [("$SDH", BY_HASH, by_hash), ("$SII", BY_NUMBER, by_number)]
