"""CD images: a volume descriptor counts the blocks. Source: ECMA-119, 8.4."""

from __future__ import annotations

import io
from pathlib import Path

from sastrugi.kinds.base import Holds, Kind, Measure, Proof, Signature, Source, broken
from sastrugi.scenario.dice import Dice

_DESCRIPTORS = 16 * 2048
_PRIMARY = b"\x01CD001\x01"
_RECORD = 156


def measure(source: Source, deep: bool = False) -> Measure | None:
    head = source.read(_DESCRIPTORS, 2048)
    if head[:7] != _PRIMARY or len(head) < 2048:
        return None
    blocks, blocks_again = int.from_bytes(head[80:84], "little"), int.from_bytes(head[84:88], "big")
    size, size_again = int.from_bytes(head[128:130], "little"), int.from_bytes(head[130:132], "big")
    if blocks != blocks_again or size != size_again or size not in (512, 1024, 2048):
        return broken("iso", _DESCRIPTORS + 80, "the two counts of blocks do not agree")
    root = int.from_bytes(head[_RECORD + 2 : _RECORD + 6], "little")
    if blocks * size > source.size:
        return broken("iso", source.size, "its blocks reach beyond the end")
    entry = source.read(root * size, 34)
    if len(entry) < 34 or int.from_bytes(entry[2:6], "little") != root:
        return broken("iso", min(root * size, source.size), "its root folder is not where it should be")
    return Measure(
        "iso", blocks * size, True, Proof.STRUCTURE, f"{blocks:,} blocks by the volume descriptor, root folder there"
    )


def make(dice: Dice, size: int) -> bytes:
    """An image with a few log files; the library dates it with the present, which is set to a fixed time behind it."""
    import time
    from unittest.mock import patch

    import pycdlib

    fixed = 1_927_000_000
    moment = time.gmtime(fixed)
    disc = pycdlib.PyCdlib()
    with (
        patch("time.time", lambda: float(fixed)),
        patch("time.localtime", lambda *_: moment),
        patch("time.gmtime", lambda *_: moment),
    ):
        disc.new(vol_ident="FIRNLINE", interchange_level=3)
        files = dice.number(2, 4)
        for n in range(files):
            content = dice.log_text(max((size - 57_344) // files, 64)).encode()
            disc.add_fp(io.BytesIO(content), len(content), f"/LOG{n}.TXT;1")
        out = io.BytesIO()
        disc.write_fp(out)
    disc.close()
    return out.getvalue()


def check(path: Path) -> None:
    import pycdlib

    disc = pycdlib.PyCdlib()
    disc.open(str(path))
    try:
        for folder, _, names in disc.walk(iso_path="/"):
            for name in names:
                out = io.BytesIO()
                disc.get_file_from_iso_fp(out, iso_path=f"{folder.rstrip('/')}/{name}")
    finally:
        disc.close()


KIND = Kind(
    "iso", "CD image", "archive", ("iso",), "application/x-iso9660-image", "blocks counted by the volume descriptor",
    Proof.STRUCTURE, measure, (Signature(_PRIMARY, _DESCRIPTORS),), holds=Holds.ALL, make=make, check=check,
)  # fmt: skip
