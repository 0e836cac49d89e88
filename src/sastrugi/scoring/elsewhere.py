"""Results that were copied here from another computer: what their names and times may have lost on the way.

Nothing is assumed of results that a program wrote here. Whatever is assumed is said, in the scorecard too.
"""

from __future__ import annotations

import unicodedata
from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import replace

import numpy as np

from sastrugi.scoring.results import Folder, Result, in_order
from sastrugi.specimen.truth import TruthFile
from sastrugi.units import plural, printable

_MOST = 0.9
"""The share of results of which something holds, so that it is taken to hold of the copy and not of the files."""
_FEWEST = 3
_MOST_HOURS, _GRAIN = 26, 2.0
"""Hours by which zones differ at most, and seconds that file systems round to."""


def from_elsewhere(folder: Folder, references: Sequence[TruthFile]) -> tuple[Folder, tuple[str, ...]]:
    """The results with names and times as they were before they were copied, and what was assumed, in words."""
    results, assumed = folder.results, []
    results, told = _split_at_backslashes(results)
    assumed += told
    results, told = _spelled_as_known(results, references)
    assumed += told
    if any(not unicodedata.is_normalized("NFC", result.named) for result in results):
        assumed.append("names in another normalisation of Unicode are the same names")
    if _all_of_one_time(results, references):
        results = [replace(result, modified=None) for result in results]
        assumed.append("modified times are those of the copy, and tell nothing of the files")
    return replace(folder, results=in_order(results)), tuple(assumed)


def below_root(folder: Folder, root: str) -> tuple[Folder, tuple[str, ...]]:
    """The results with their paths counted from `root`, a folder among them; those elsewhere keep theirs."""
    start = root.replace("\\", "/").strip("/") + "/"
    inside = sum(result.named.startswith(start) for result in folder.results)
    results = [
        replace(result, claimed_path=result.named.removeprefix(start)) if result.named.startswith(start) else result
        for result in folder.results
    ]
    told = f"paths count from {printable(start)}, below which lie {inside:,} of {plural(len(results), 'result')}"
    return replace(folder, results=in_order(results)), (told,)


def folders_above(pairs: Sequence[tuple[str, str]]) -> tuple[str, ...]:
    """What the most whole names, of pairs (result, reference), had above them; nothing if most had nothing."""
    above = Counter(found.strip("/").removesuffix(wanted.strip("/")) for found, wanted in pairs)
    most = above.most_common(1)
    return (f"paths count from {printable(most[0][0])}",) if most and most[0][0] else ()


def _split_at_backslashes(results: list[Result]) -> tuple[list[Result], list[str]]:
    """Names with backslashes in them were paths."""
    if not _most_of(results, lambda result: "\\" in result.named):
        return results, []
    split = [replace(result, claimed_path=result.named.replace("\\", "/")) for result in results]
    return split, ["backslashes in names stood between folders"]


def _spelled_as_known(results: list[Result], references: Sequence[TruthFile]) -> tuple[list[Result], list[str]]:
    """Names all in one case have lost their own: they are spelled as the references are."""
    for fold in (str.lower, str.upper):
        one_case = _most_of(results, lambda result, fold=fold: _name(result) == fold(_name(result)))  # type: ignore[misc]
        if one_case and any(file.name != fold(file.name) for file in references):
            break
    else:
        return results, []
    paths = {file.path.strip("/").casefold(): file.path.strip("/") for file in references}
    names: dict[str, set[str]] = {}
    for file in references:
        names.setdefault(file.name.casefold(), set()).add(file.name)
    out = [replace(result, claimed_path=_spelled(result.named, paths, names)) for result in results]
    return out, ["names lost their case on the way, and are compared without it"]


def _name(result: Result) -> str:
    return result.named.rpartition("/")[2]


def _spelled(named: str, paths: dict[str, str], names: dict[str, set[str]]) -> str:
    parts = named.strip("/").split("/")
    for n in range(len(parts)):
        known = paths.get("/".join(parts[n:]).casefold())
        if known is not None:
            return "/".join([*parts[:n], known])
    spelled = names.get(parts[-1].casefold(), set())
    return "/".join([*parts[:-1], *spelled]) if len(spelled) == 1 else named


def _all_of_one_time(results: list[Result], references: Sequence[TruthFile]) -> bool:
    """Whether nearly no result has the time of any file, in any time zone."""
    times = np.array(sorted(file.modified.timestamp() for file in references if file.modified), np.float64)
    if not len(times):
        return False
    found = np.array([result.modified.timestamp() if result.modified else np.nan for result in results], np.float64)
    known = np.zeros(len(found), bool)
    for hours in range(-_MOST_HOURS, _MOST_HOURS + 1):
        wanted = found + hours * 3600
        at = np.clip(np.searchsorted(times, wanted - _GRAIN), 0, len(times) - 1)
        known |= np.abs(times[at] - wanted) <= _GRAIN
    return len(results) >= _FEWEST and int(known.sum()) <= (1 - _MOST) * len(results)


def _most_of(results: Sequence[Result], holds: Callable[[Result], bool]) -> bool:
    return len(results) >= _FEWEST and sum(map(holds, results)) >= _MOST * len(results)
