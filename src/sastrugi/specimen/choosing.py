"""What the patterns of a step name among the files of a volume."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from difflib import get_close_matches
from fnmatch import fnmatchcase

from sastrugi.errors import SpecimenError
from sastrugi.scenario.dice import Dice
from sastrugi.specimen.laid_files import LaidFile
from sastrugi.volumes.writer import Node


def choose(
    standing: Iterable[LaidFile], patterns: Sequence[str], share: float, files_only: bool, dice: Dice
) -> list[LaidFile]:
    """What the patterns name, each once, or a share of it; nothing that lies in a folder that is chosen.

    Raises SpecimenError, with the nearest path, for a pattern that matches nothing.
    """
    live = {one.node.path: one for one in standing if not (files_only and one.folder)}
    nothing = "no file" if files_only else "nothing"
    found = {id(one): one for pattern in patterns for one in _matching(pattern, live, nothing)}
    inside = {id(one.node) for one in found.values() if one.folder}
    chosen = [one for one in found.values() if not any(id(above) in inside for above in parents(one.node))]
    if share < 1:
        count = max(round(share * len(chosen)), 1)
        keep = {id(one) for one in dice.shuffled(chosen)[:count]}
        chosen = [one for one in chosen if id(one) in keep]
    return chosen


def _matching(pattern: str, live: dict[str, LaidFile], nothing: str) -> list[LaidFile]:
    wanted = ("/" + pattern.strip("/")).lower()
    hits = [one for path, one in live.items() if fnmatchcase(path.lower(), wanted)]
    if not hits:
        near = get_close_matches(wanted, live, 1, 0.3)
        hint = f": did you mean '{near[0]}'?" if near else ""
        raise SpecimenError(f"'{pattern}' matches {nothing} that is there{hint}")
    return hits


def parents(node: Node) -> Iterator[Node]:
    """The folders above a node, the nearest first."""
    at = node.parent
    while at is not None:
        yield at
        at = at.parent


def is_under(node: Node, folder: Node) -> bool:
    return any(above is folder for above in parents(node))
