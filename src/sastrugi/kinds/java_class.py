"""Java class files: a structure without any gap. Source: The Java Virtual Machine Specification, chapter 4."""

from __future__ import annotations

from pathlib import Path
from struct import pack

from sastrugi.kinds.base import FileSource, Kind, Measure, Proof, Signature, Source, broken
from sastrugi.scenario.dice import Dice

_MAGIC = b"\xca\xfe\xba\xbe"
_SIZES = {3: 4, 4: 4, 5: 8, 6: 8, 7: 2, 8: 2, 9: 4, 10: 4, 11: 4, 12: 4, 15: 3, 16: 2, 17: 4, 18: 4, 19: 2, 20: 2}
_UTF8, _WIDE = 1, (5, 6)
_HEAD, _WINDOW = 3, 1 << 18
"""Bytes of a constant that tell its length, at most; bytes that are read at once."""


def measure(source: Source, deep: bool = False) -> Measure | None:
    head = source.read(0, 10)
    if head[:4] != _MAGIC or len(head) < 10 or not 45 <= int.from_bytes(head[6:8], "big") <= 90:
        return None
    try:
        end = _end(source, int.from_bytes(head[8:10], "big"))
    except EOFError:
        return broken("class", source.size, "it ends inside its structure")
    except ValueError as error:
        return broken("class", min(int(error.args[0]), source.size), "a constant of an unknown sort")
    return Measure(
        "class", end, True, Proof.STRUCTURE, "constants, fields, methods and attributes follow without a gap"
    )


def _end(source: Source, constants: int) -> int:
    at = _behind_constants(source, constants)

    def number(width: int) -> int:
        nonlocal at
        data = source.read(at, width)
        if len(data) < width:
            raise EOFError
        at += width
        return int.from_bytes(data, "big")

    def attributes() -> None:
        nonlocal at
        for _ in range(number(2)):
            number(2)
            length = number(4)
            at += length

    at += 6
    interfaces = number(2)
    at += 2 * interfaces
    for _ in range(2):  # fields, methods
        for _ in range(number(2)):
            at += 6
            attributes()
    attributes()
    if at > source.size:
        raise EOFError
    return at


def _behind_constants(source: Source, constants: int) -> int:
    """Where the table of constants ends, whose entries number 1 to `constants` - 1. Raises ValueError with the place of
    an entry of an unknown sort, EOFError where the source ends before."""
    base, at, n = 0, 10, 1
    window, last = b"", -1  # `last`: the last place in the window of which a whole head stands in it
    while n < constants:
        if at > last:
            base += at
            window, at = source.read(base, _WINDOW), 0
            if not window:
                raise EOFError
            last = len(window) - (_HEAD if len(window) == _WINDOW else 1)
            window += bytes(_HEAD)
        sort = window[at]
        if sort == _UTF8:
            at += _HEAD + (window[at + 1] << 8 | window[at + 2])
        elif sort in _SIZES:
            at += 1 + _SIZES[sort]
        else:
            raise ValueError(base + at)
        n += 2 if sort in _WIDE else 1
    return base + at


def make(dice: Dice, size: int) -> bytes:
    """A class without methods whose constants are lines of a log."""

    def text(value: str) -> bytes:
        raw = value.encode()
        return b"\x01" + pack(">H", len(raw)) + raw

    constants = [
        text("firnline/Reading" + dice.word().title()),
        b"\x07" + pack(">H", 1),
        text("java/lang/Object"),
        b"\x07" + pack(">H", 3),
    ]
    have = sum(map(len, constants))
    while have < size - 24 and len(constants) < 60_000:
        constants.append(text(dice.sentence()))
        have += len(constants[-1])
    pool = pack(">H", len(constants) + 1) + b"".join(constants)
    return _MAGIC + pack(">HH", 0, 52) + pool + pack(">HHHHHHH", 0x21, 2, 4, 0, 0, 0, 0)


def check(path: Path) -> None:
    with FileSource(path) as source:
        measured = measure(source)
        if measured is None or not measured.whole or measured.length != source.size:
            raise ValueError(measured.rule if measured else "no class file")
        if not _name(source):
            raise ValueError("the class has no name")


def _name(source: Source) -> str:
    """The name of the class: a constant that a constant of the class names."""
    count = int.from_bytes(source.read(8, 2), "big")
    at, n = 10, 1
    places: dict[int, int] = {}
    while n < count:
        places[n] = at
        sort = source.read(at, 1)[0]
        at += 1 + (2 + int.from_bytes(source.read(at + 1, 2), "big") if sort == _UTF8 else _SIZES[sort])
        n += 2 if sort in _WIDE else 1
    own = places[int.from_bytes(source.read(at + 2, 2), "big")]
    text = places[int.from_bytes(source.read(own + 1, 2), "big")]
    return source.read(text + 3, int.from_bytes(source.read(text + 1, 2), "big")).decode()


KIND = Kind(
    "class", "Java class", "program", ("class",), "application/java-vm", "a structure without any gap", Proof.STRUCTURE,
    measure, (Signature(_MAGIC),), framed=True, make=make, check=check,
)  # fmt: skip
