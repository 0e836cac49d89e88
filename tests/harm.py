"""Media that somebody damaged at random, above all where they say what lies where."""

from __future__ import annotations

import random
from pathlib import Path

import numpy as np

from sastrugi.specimen.truth import Specimen

SECTOR = 512
_NUMBERS = (
    b"\0", b"\xff", b"\x80", b"\x7f", b"\x01", b"\0\0", b"\xff\xff", b"\0\0\0\0", b"\xff\xff\xff\xff", b"\xff\xff\xff\x7f", b"\x7f\xff\xff\xff",
    b"\0\0\0\x80", b"\0" * 8, b"\xff" * 8, b"\xff" * 7 + b"\x7f", b"\x7f" + b"\xff" * 7,
)  # fmt: skip
"""Values at the edges of numbers in either order of bytes."""


def structures(specimen: Path) -> list[int]:
    """Sectors that hold something which is not the content of a file: tables, folders, records."""
    with Specimen(specimen) as opened:
        data = np.fromfile(opened.medium.path, np.uint8)
        used = data[: data.size // SECTOR * SECTOR].reshape(-1, SECTOR).any(axis=1)
        for file in opened.truth.files:
            for extent in file.extents:
                used[extent.offset // SECTOR : extent.end // SECTOR] = False
    found: list[int] = np.flatnonzero(used).tolist()
    return found


def damage(image: Path, sectors: list[int], dice: random.Random) -> None:
    """Change numbers, bytes and whole sectors; seldom cut the medium."""
    size = image.stat().st_size
    with image.open("r+b") as file:

        def somewhere() -> int:
            if sectors and dice.random() < 0.9:
                return dice.choice(sectors[: dice.choice((8, 64, len(sectors)))]) * SECTOR
            return int(dice.randrange(size) // SECTOR * SECTOR)

        for _ in range(dice.choice((1, 2, 5, 20, 100))):
            at, what = somewhere(), dice.random()
            if what < 0.5:
                number = dice.choice(_NUMBERS)
                file.seek(at + dice.randrange(SECTOR) // len(number) * len(number))
                file.write(number)
            elif what < 0.8:
                file.seek(at + dice.randrange(SECTOR - 32))
                file.write(dice.randbytes(dice.choice((1, 1, 2, 4, 32))))
            elif what < 0.95:  # one structure in another's place
                file.seek(somewhere())
                block = file.read(dice.choice((1, 2, 8)) * SECTOR)
                file.seek(at)
                file.write(block)
            else:
                file.seek(at)
                file.write(bytes(SECTOR))
        file.truncate(size if dice.random() < 0.95 else dice.randrange(size))
