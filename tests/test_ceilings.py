"""Ceilings: they come from the truth alone, and what they promise can be reached."""

from __future__ import annotations

import os
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from sastrugi.errors import RecipeError
from sastrugi.progress import Progress
from sastrugi.specimen.build import build
from sastrugi.specimen.truth import Specimen
from tests.perfect import ceilings, headline, perfect_results, scored
from tests.recipes import FILE_SYSTEMS, random_recipe


def require_reachable(specimen: Specimen, folder: Path) -> None:
    """Perfect results read 100 % in every ceiling column, none read 0, and the ceilings are the same for both and for
    the originals themselves."""
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


@pytest.mark.parametrize("file_system", FILE_SYSTEMS)
@settings(max_examples=int(os.environ.get("EXAMPLES", "6")))
@given(seed=st.integers(0, 1 << 32), sizes=st.sampled_from(["1 KiB..20 KiB", "1 B..2 KiB"]))
def test_what_a_ceiling_promises_can_be_reached(
    tmp_path_factory: pytest.TempPathFactory, file_system: str, seed: int, sizes: str
) -> None:
    folder = tmp_path_factory.mktemp("ceilings")
    try:
        build(random_recipe(seed, file_system, sizes=sizes), folder / "s", Progress())
    except RecipeError as error:
        assert "matches no" in str(error) or "full" in str(error)
        return
    with Specimen(folder / "s") as specimen:
        require_reachable(specimen, folder)
