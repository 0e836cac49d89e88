"""How near a result's name is to its reference's: full, name, near, type or none."""

from __future__ import annotations

import re
import unicodedata
from enum import IntEnum
from typing import Literal

NameWord = Literal["none", "type", "near", "name", "full"]
_WORDS: tuple[NameWord, ...] = ("none", "type", "near", "name", "full")


class NameVerdict(IntEnum):
    """Best last, so that verdicts can be compared."""

    NONE = 0
    TYPE = 1
    NEAR = 2
    NAME = 3
    FULL = 4

    @property
    def word(self) -> NameWord:
        return _WORDS[self]


_ALIAS = re.compile(r"(?P<start>.{1,6})~\d{1,6}(\.(?P<extension>.{0,3}))?")


def worth_of_name(word: NameWord) -> int:
    """Verdicts and ceilings of names on one scale; the best is the greatest."""
    return _WORDS.index(word)


def _plain(text: str) -> str:
    return unicodedata.normalize("NFC", text)


def compare_names(result_path: str, reference_path: str) -> NameVerdict:
    """Compare a result's path (below the results folder) with the reference's path (from the volume's root).

    A program may put its own folders above: `full` asks that the result's path ends in the reference's.
    """
    found, wanted = _plain(result_path).strip("/"), _plain(reference_path).strip("/")
    if found == wanted or found.endswith("/" + wanted):
        return NameVerdict.FULL
    found_name, wanted_name = found.rpartition("/")[2], wanted.rpartition("/")[2]
    if found_name == wanted_name:
        return NameVerdict.NAME
    if _near(found_name, wanted_name):
        return NameVerdict.NEAR
    if _extension(found_name) == _extension(wanted_name) != "":
        return NameVerdict.TYPE
    return NameVerdict.NONE


def _near(found: str, wanted: str) -> bool:
    """Differs by case, by one character that is lost (or has a mark in its place), or is the short form."""
    a, b = found.casefold(), wanted.casefold()
    if a == b:
        return True
    wrong = [x for x, y in zip(a, b, strict=True) if x != y] if len(a) == len(b) else []
    if len(wrong) == 1 and not wrong[0].isalnum():  # a mark in place of a character; another letter is another name
        return True
    if len(a) + 1 == len(b):
        at = next((n for n, (x, y) in enumerate(zip(a, b, strict=False)) if x != y), len(a))
        if a[at:] == b[at + 1 :]:
            return True
    alias = _ALIAS.fullmatch(a)
    if alias is None:
        return False
    letters = re.sub(r"[ .]", "", b.rpartition(".")[0] or b)
    return letters.startswith(alias["start"]) and _extension(b)[:3] == (alias["extension"] or "")


def _extension(name: str) -> str:
    stem, dot, extension = name.rpartition(".")
    return extension.casefold() if dot and stem else ""
