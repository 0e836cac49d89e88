"""The best that any program could hand over of a specimen, made from its truth alone."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from sastrugi.media import Extent, RangeSet
from sastrugi.progress import Progress
from sastrugi.scoring.scorecard import Figure, Scorecard
from sastrugi.scoring.scorer import judge
from sastrugi.specimen.ceiling import standing_blocks
from sastrugi.specimen.truth import Specimen, TruthFile

BLOCK = 512


def perfect_results(specimen: Specimen, folder: Path) -> None:
    """Of every lost file what still stands, at its place, all else wrong; under the best name that still stands."""
    folder.mkdir()
    (folder.parent / "nothing at all").mkdir(exist_ok=True)
    tells = {file.id: file.ceiling_tells for file in scored(specimen, folder.parent / "nothing at all").files}
    standing: dict[str, RangeSet] = {}
    for file in specimen.truth.files:
        known = standing.setdefault(file.blake3, RangeSet())
        for part in _standing(specimen, file):
            known.add(part)
    for file in specimen.truth.lost:
        if not file.ceiling.bytes:
            continue
        data = specimen.original(file)
        if not tells[file.id]:  # what stands is a few bytes, or the same byte again and again
            assert not any(_says_much(data[part.offset : part.end]) for part in standing[file.blake3])
            continue
        if not file.ceiling.intact:
            then = np.frombuffer(data, "u1")
            now = then ^ np.uint8(0xFF)
            for part in standing[file.blake3]:
                now[part.offset : part.end] = then[part.offset : part.end]
            data = now.tobytes()
        target = folder / f"file {file.id}" / best_name(file)
        target.parent.mkdir(parents=True, exist_ok=True)
        target.write_bytes(data)


def _says_much(data: bytes) -> bool:
    return len(data) > BLOCK and len(set(data)) > 16


def _standing(specimen: Specimen, file: TruthFile) -> RangeSet:
    if not file.map.coded or not file.kept:
        return file.map.right(RangeSet(file.gone))
    blocks = np.flatnonzero(standing_blocks(specimen, file)).tolist()
    return RangeSet(Extent(n * BLOCK, min(BLOCK, file.size - n * BLOCK)) for n in blocks)


def best_name(file: TruthFile) -> str:
    """A path that is as right as the ceiling of the file's name."""
    stem, dot, extension = file.name.rpartition(".")
    return {
        "full": file.path.lstrip("/"),
        "name": f"elsewhere/{file.name}",
        "near": file.name.swapcase() if file.name.swapcase() != file.name else file.name[1:],
        "type": f"found.{extension}",
        "none": "found",
    }[
        file.ceiling.name
        if stem and dot
        else "name"
        if file.ceiling.name == "full" and "/" not in file.path[1:]
        else file.ceiling.name
    ]


def scored(specimen: Specimen, results: Path) -> Scorecard:
    return judge(specimen, results, Progress()).scorecard()


def ceilings(card: Scorecard) -> list[object]:
    """Every ceiling that a scorecard states."""
    out: list[object] = [card.intact_bytes.of_ceiling, card.complete_bytes.of_ceiling, card.live_copies]
    out += [figure.of_ceiling for figure in headline(card)]
    for name, groups in card.groups.items():
        out += [(name, one.key, one.files, one.attainable, *(f.of_ceiling for f in headline(one))) for one in groups]
    return out


def headline(card: Scorecard | object) -> list[Figure]:
    return [getattr(card, name) for name in ("intact", "complete", "named", "all_three")]


def require_reachable(specimen: Specimen, folder: Path) -> None:
    """Perfect results read 100 % in every ceiling column, none read 0, and the ceilings are the same for both and for
    the originals themselves."""
    folder.mkdir(exist_ok=True)
    perfect_results(specimen, folder / "perfect")
    best = scored(specimen, folder / "perfect")
    figures = [*headline(best), best.intact_bytes, best.complete_bytes]
    figures += [figure for groups in best.groups.values() for one in groups for figure in headline(one)]
    for figure in figures:
        assert figure.value == pytest.approx(figure.of_ceiling, abs=1e-6)
    assert best.precision in (1, None) and not best.beyond_ceiling and not best.names_beyond
    (folder / "nothing").mkdir()
    none = scored(specimen, folder / "nothing")
    assert not any(figure.value for figure in headline(none)) and none.precision is None
    for file in specimen.truth.lost:
        target = folder / "originals" / str(file.id) / file.path.lstrip("/")
        target.parent.mkdir(parents=True)
        target.write_bytes(specimen.original(file))
    (folder / "originals").mkdir(exist_ok=True)
    assert ceilings(best) == ceilings(none) == ceilings(scored(specimen, folder / "originals"))
