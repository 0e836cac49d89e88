"""How reference files are named: the styles people meet, and those that break programs."""

from __future__ import annotations

from collections.abc import Callable
from difflib import get_close_matches

from sastrugi.errors import SastrugiError
from sastrugi.kinds import Kind
from sastrugi.scenario import season
from sastrugi.scenario.dice import Dice

_LONGEST = 255


def _plain(dice: Dice, number: int, extension: str) -> str:
    return f"{dice.word()}-{dice.word()}-{number:03d}.{extension}"


def _camera(dice: Dice, number: int, extension: str) -> str:
    return f"FRN{number:05d}.{extension.upper()}"


def _long(dice: Dice, number: int, extension: str) -> str:
    return f"{dice.moment():%Y-%m-%d} {dice.caption()} ({dice.person()}) no {number}.{extension}"


def _accented(dice: Dice, number: int, extension: str) -> str:
    return f"{dice.pick(season.FOREIGN_TITLES)} {number}.{extension}"


def _same(dice: Dice, number: int, extension: str) -> str:
    return f"notes.{extension}"


def _case(dice: Dice, number: int, extension: str) -> str:
    """Two and two differ by case only."""
    name = f"stake line {number // 2}"
    return f"{name.upper() if number % 2 else name}.{extension}"


def _longest(dice: Dice, number: int, extension: str) -> str:
    """255 characters, the most that common file systems hold."""
    start = f"{number} "
    while len(start) < _LONGEST:
        start += f"{dice.word()} "
    return (
        f"{start[: _LONGEST - len(extension) - 2].rstrip()}x".ljust(_LONGEST - len(extension) - 1, "x")
        + f".{extension}"
    )


def _dots(dice: Dice, number: int, extension: str) -> str:
    return f".{dice.word()}-{number:03d}.{extension}"


def _bare(dice: Dice, number: int, extension: str) -> str:
    return f"{dice.word()}-{number:03d}"


def _double(dice: Dice, number: int, extension: str) -> str:
    return f"{dice.word()}-{number:03d}.old.{extension}"


STYLES: dict[str, Callable[[Dice, int, str], str]] = {
    "plain": _plain,
    "camera": _camera,
    "long": _long,
    "accented": _accented,
    "same": _same,
    "case": _case,
    "longest": _longest,
    "dots": _dots,
    "bare": _bare,
    "double": _double,
}
_MIXED = ("plain", "camera", "long", "accented", "dots", "bare", "double")
MIXED = "mixed"
STYLE_NAMES = (*STYLES, MIXED)


def file_name(style: str, kind: Kind, dice: Dice, number: int) -> str:
    """The name of the `number`th file of a corpus, with the kind's first extension where the style has one."""
    chosen = dice.pick(_MIXED) if style == MIXED else style
    return STYLES[chosen](dice, number, kind.extensions[0])


def check_style(style: str) -> None:
    """Raise SastrugiError with the nearest style if there is none of this name."""
    if style not in STYLE_NAMES:
        near = get_close_matches(style, STYLE_NAMES, 1)
        hint = f"did you mean '{near[0]}'?" if near else f"there are {', '.join(STYLE_NAMES)}"
        raise SastrugiError(f"'{style}' is not a name style: {hint}")
