"""Media that somebody damaged at random, above all where they say what lies where."""

from __future__ import annotations

import copy
import random
import tomllib
from pathlib import Path
from typing import Any

import numpy as np

from sastrugi.specimen.recipe import shipped_recipes
from sastrugi.specimen.truth import Specimen
from sastrugi.units import parse_size

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
        file.truncate(size if dice.random() < 0.95 else dice.randrange(1, size // SECTOR) * SECTOR)


_ODD = (
    0, 1, -1, 2, 255, 1 << 31, 1 << 63, 1.5, -0.0, float("inf"), True, "", " ", "/", "..", "/../..", "a/../../b", "*", "**", "[", "\0",
    "\n", "\u202e", "é" * 300, "0 B", "1 B", "511 B", "64 KiB", "1 MiB", "8 EiB", "1 KiB..0 B", "1 B..1 GiB", "{n}", "{", "rest", "all",
    [], {}, ["/**"], ["*", "*"], "2031-02-03", "fat12", "ntfs", "ext4", "hfs+", "linux",
)  # fmt: skip


def changed_recipe(dice: random.Random) -> dict[str, Any]:
    """A shipped recipe for a small medium, with values, keys and steps changed, doubled, moved or left out."""
    while True:
        recipe = tomllib.loads(dice.choice(sorted(shipped_recipes().items()))[1])
        if parse_size(str(recipe["medium"]["size"])) <= 64 << 20:
            break
    for _ in range(dice.choice((1, 1, 2, 4))):
        steps = recipe["steps"]
        what = dice.random()
        if what < 0.15:
            steps.insert(dice.randrange(len(steps) + 1), copy.deepcopy(dice.choice(steps)))
        elif what < 0.25 and len(steps) > 1:
            del steps[dice.randrange(len(steps))]
        elif what < 0.35:
            dice.shuffle(steps)
        else:
            _change(dice.choice([recipe, recipe["medium"], *steps, *steps]), dice)
    return recipe


def _change(table: dict[str, Any], dice: random.Random) -> None:
    key = dice.choice([key for key in table if key not in ("steps", "recipe")] or ["do"])
    value = table.get(key)
    if isinstance(value, dict) and value and dice.random() < 0.8:
        _change(value, dice)
    elif isinstance(value, list) and value and isinstance(value[0], dict) and dice.random() < 0.8:
        _change(dice.choice(value), dice)
    elif dice.random() < 0.1:
        table.pop(key, None)
    else:
        table[key] = dice.choice(_ODD)
