"""All kinds there are, found by looking into this package."""

from __future__ import annotations

import pkgutil
from dataclasses import dataclass
from difflib import get_close_matches
from functools import cache
from importlib import import_module

import sastrugi.kinds as package
from sastrugi.errors import KindError
from sastrugi.kinds.base import Kind, Measure, Source

_NOT_KINDS = ("base", "following", "registry")
_HEAD = 512


@cache
def all_kinds() -> dict[str, Kind]:
    """Every kind by name, sorted by name."""
    found: dict[str, Kind] = {}
    for module in pkgutil.iter_modules(package.__path__):
        if module.name not in _NOT_KINDS and not module.name.startswith("_"):
            kind: Kind = import_module(f"{package.__name__}.{module.name}").KIND
            found[kind.name] = kind
    return dict(sorted(found.items()))


def kind_named(name: str) -> Kind:
    """The kind called `name`; raises KindError with the nearest one there is."""
    kinds = all_kinds()
    if name not in kinds:
        near = get_close_matches(name, kinds, 1)
        hint = f"did you mean '{near[0]}'?" if near else f"there are: {', '.join(kinds)}"
        raise KindError(f"'{name}' is not a kind: {hint}")
    return kinds[name]


@cache
def _by_extension() -> dict[str, Kind]:
    return {extension: kind for kind in all_kinds().values() for extension in kind.extensions}


def kind_for_name(name: str) -> Kind | None:
    """The kind that a file name's extension stands for, if we know it."""
    _, dot, extension = name.rpartition(".")
    return _by_extension().get(extension.lower()) if dot else None


def measuring_kind(kind: Kind) -> Kind:
    """The kind whose signature and measure apply: the one it refines, or itself."""
    return kind_named(kind.refines) if kind.refines else kind


_MARKUP = frozenset(("html", "json", "rtf", "svg", "xml"))


def is_textual(kind: Kind) -> bool:
    """Whether files of a kind are text from end to end."""
    measured = measuring_kind(kind)
    return measured.bare or measured.name in _MARKUP


@dataclass(frozen=True, slots=True)
class _Signatures:
    """What tells kinds soon: numbers of kinds (in their order) with the bytes of signatures that stand at the start, by
    their first byte; those that stand elsewhere in a head; and those that stand behind it."""

    kinds: list[Kind]
    at_start: dict[int, list[tuple[bytes, int]]]
    in_head: list[tuple[int, bytes, int]]
    behind: list[tuple[int, bytes, int]]


@cache
def _signatures() -> _Signatures:
    out = _Signatures([kind for kind in all_kinds().values() if kind.measure], {}, [], [])
    for number, kind in enumerate(out.kinds):
        for one in kind.signatures:
            if one.offset == 0:
                out.at_start.setdefault(one.data[0], []).append((one.data, number))
            else:
                inside = one.offset + len(one.data) <= _HEAD
                (out.in_head if inside else out.behind).append((one.offset, one.data, number))
    return out


def kinds_begun(source: Source) -> list[Kind]:
    """The kinds of which a signature stands at the start of the source, in their order."""
    head = source.read(0, _HEAD)
    known = _signatures()
    standing = [number for data, number in known.at_start.get(head[0], ()) if head.startswith(data)] if head else []
    standing += [number for at, data, number in known.in_head if head.startswith(data, at)]
    if source.size > _HEAD:
        standing += [number for at, data, number in known.behind if source.read(at, len(data)) == data]
    return [known.kinds[number] for number in sorted({*standing})]


def recognise(source: Source, deep: bool = False) -> Measure | None:
    """The measure of the first kind whose signature stands at the start of the source, or None."""
    for kind in kinds_begun(source):
        measure = kind.measure(source, deep) if kind.measure else None
        if measure is not None:
            return measure
    return None
