"""How reference files are named: the styles people meet."""

from __future__ import annotations

from collections.abc import Callable

from sastrugi.errors import SastrugiError
from sastrugi.kinds import Kind
from sastrugi.scenario import season
from sastrugi.scenario.dice import Dice


def _plain(dice: Dice, number: int) -> str:
    return f"{dice.word()}-{dice.word()}-{number:03d}"


def _camera(dice: Dice, number: int) -> str:
    return f"FRN{number:05d}"


def _long(dice: Dice, number: int) -> str:
    moment = dice.moment()
    return f"{moment:%Y-%m-%d} {dice.caption()} ({dice.person()}) no {number}"


def _accented(dice: Dice, number: int) -> str:
    return f"{dice.pick(season.FOREIGN_TITLES)} {number}"


STYLES: dict[str, Callable[[Dice, int], str]] = {
    "plain": _plain, "camera": _camera, "long": _long, "accented": _accented
}  # fmt: skip


def file_name(style: str, kind: Kind, dice: Dice, number: int) -> str:
    """The name of the `number`th file of a corpus, with the kind's first extension."""
    extension = kind.extensions[0]
    return f"{STYLES[style](dice, number)}.{extension.upper() if style == 'camera' else extension}"


def check_style(style: str) -> None:
    if style not in STYLES:
        raise SastrugiError(f"'{style}' is not a name style: there are {', '.join(STYLES)}")
