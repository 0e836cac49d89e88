"""Random specimens through the whole job: build, scan, extract, score. What must hold of every score, whatever happened."""

from __future__ import annotations

import os
import shutil
from dataclasses import asdict, dataclass
from pathlib import Path

import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from sastrugi.errors import RecipeError
from sastrugi.progress import Progress
from sastrugi.recovery.extract import extract
from sastrugi.recovery.scan import scan
from sastrugi.recovery.scan_file import ScanFile
from sastrugi.recovery.select import Selection
from sastrugi.scoring.scorecard import FileScore, Scorecard
from sastrugi.scoring.scorer import judge
from sastrugi.specimen.build import build
from sastrugi.specimen.recipe import Recipe, parse_recipe
from sastrugi.specimen.truth import Specimen
from tests.perfect import require_reachable
from tests.recipes import FILE_SYSTEMS, random_recipe

NAMES = ("none", "type", "near", "name", "full")


@dataclass
class Campaign:
    """What came of a recipe: the scorecards of what was extracted, of the findings themselves, and of the originals."""

    extracted: Scorecard
    found: Scorecard
    originals: Scorecard


def carried_out(recipe: Recipe, folder: Path) -> Campaign:
    build(recipe, folder / "s", Progress())
    with Specimen(folder / "s") as specimen:
        scan(specimen.medium, folder / "x.scan", Progress())
        with ScanFile.open(folder / "x.scan") as found:
            lost = Selection("lost")
            if any(True for _ in lost.iterate(found, "number")):
                extract(specimen.medium, lost.pick(found), folder / "r", Progress())
        (folder / "r").mkdir(exist_ok=True)
        for file in specimen.truth.lost:
            target = folder / "originals" / file.path.lstrip("/")
            target.parent.mkdir(parents=True, exist_ok=True)
            target.write_bytes(b"".join(specimen.blocks(file)))
            os.utime(target, (file.modified.timestamp(),) * 2)
        (folder / "originals").mkdir(exist_ok=True)
        cards = [judge(specimen, folder / name, Progress()).scorecard() for name in ("r", "x.scan", "originals")]
    return Campaign(*cards)


def told(score: FileScore) -> tuple[object, ...]:
    """All that is said of a file but under which name its result was written."""
    return tuple(value for key, value in asdict(score).items() if key not in ("result", "reason"))


@pytest.mark.parametrize("file_system", FILE_SYSTEMS)
@settings(max_examples=8)
@example(1048575)  # on HFS+ two results of one name, foreign both
@example(1239)  # on ext4 a folder of the life before, whose inode and name a later folder has again
@given(seed=st.integers(0, 1 << 32))
def test_what_holds_of_every_score(tmp_path_factory: pytest.TempPathFactory, file_system: str, seed: int) -> None:
    folder = tmp_path_factory.mktemp("campaign")
    try:
        ran = carried_out(random_recipe(seed, file_system), folder)
    except RecipeError as error:
        assert "matches no" in str(error) or "full" in str(error)
        return
    # Read from the files that were extracted, or straight from the findings: the same in every figure and file.
    for one, other in zip(ran.extracted.files, ran.found.files, strict=True):
        assert told(one) == told(other)
    for key in ("intact", "complete", "named", "all_three", "intact_bytes", "complete_bytes", "classes", "precision"):
        assert getattr(ran.extracted, key) == getattr(ran.found, key), key
    with Specimen(folder / "s") as specimen:
        # What the ceilings promise can be reached, whatever the results.
        require_reachable(specimen, folder / "reach")
        again = {Path(file.path).parent for file in specimen.truth.files if file.standing}
    # Nothing comes back that is gone, and no name that nothing tells: but for folders that a later life has again.
    assert not ran.extracted.beyond_ceiling
    for score in ran.extracted.files:
        assert score.completeness <= score.ceiling_bytes + 1e-9, score.path
        told_again = score.name_beyond_ceiling and Path(score.path).parent in again
        above = NAMES.index(score.name) > NAMES.index(score.ceiling_name)
        assert score.content == "foreign" or not above or told_again, score.path
    # The originals themselves score everything; of what is gone it is told that no program can have it.
    assert all(score.content == "intact" and score.name == "full" for score in ran.originals.files)
    assert {score.times for score in ran.originals.files} <= {"same"}
    gone = {score.path for score in ran.originals.files if score.ceiling_bytes < 1}
    assert {score.path for score in ran.originals.files if score.beyond_ceiling} <= gone
    unnamed = {score.path for score in ran.originals.files if score.ceiling_name != "full"}
    assert {score.path for score in ran.originals.files if score.name_beyond_ceiling} == unnamed
    shutil.rmtree(folder)


def small(tmp_path: Path, steps: str, names: tuple[str, ...] = ("FRN00001.TXT",)) -> Campaign:
    """A FAT16 medium with `names` in DCIM/100FIRN, and then `steps`."""
    for n, name in enumerate(names):
        path = tmp_path / "mine" / "DCIM" / "100FIRN" / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(f"Depth, density, grain size {n}\n" * 300)
    text = f"""recipe = 1
name = "small"
title = "Small"
seed = 1
medium.size = "16 MiB"
steps = [ {{do = "format", file_system = "fat16", cluster = "2 KiB"}}, {{do = "store", folder = "mine"}}, {steps} ]
"""
    return carried_out(parse_recipe(text, "small.toml", tmp_path), tmp_path)


DELETED = '{do = "delete", what = ["*"]}'


@pytest.mark.parametrize(
    ("names", "steps", "ceiling", "got"),
    [
        # Nothing tells the first character of a short name, nor of its folders' …
        (("FRN00001.TXT",), DELETED, "near", "near"),
        # … but a picture taken later tells that of the name; not that of the folder it lay in.
        (("FRN00001.TXT",), DELETED + ', {do = "store", folder = "later"}', "name", "name"),
        # A long name stands whole; its folders' names are short ones.
        (("Firn core.txt",), DELETED, "name", "name"),
        (("FRN00001.TXT",), '{do = "format", file_system = "fat16", cluster = "2 KiB"}', "name", "name"),
        # The bin tells the names of a file and of a folder that went there; what lay in that keeps its own.
        (("FRN00001.TXT",), '{do = "bin", what = ["*.TXT"]}, {do = "empty-bin"}', "full", "full"),
        (("FRN00001.TXT",), '{do = "bin", what = ["*.TXT"], acts_as = "linux"}, {do = "empty-bin", acts_as = "linux"}',
         "full", "full"),
        (("FRN00001.TXT",), '{do = "bin", what = ["DCIM"]}, {do = "empty-bin"}', "near", "near"),
        (("Firn core.txt",), '{do = "bin", what = ["DCIM/100FIRN"]}, {do = "empty-bin"}', "full", "full"),
        (("Firn core.txt",),
         '{do = "bin", what = ["DCIM/100FIRN"], acts_as = "linux"}, {do = "empty-bin", acts_as = "linux"}', "full", "full"),
    ],
)  # fmt: skip
def test_the_best_name_that_something_still_tells(
    tmp_path: Path, names: tuple[str, ...], steps: str, ceiling: str, got: str
) -> None:
    later = tmp_path / "later" / "DCIM" / "100FIRN" / "FRN00031.TXT"
    later.parent.mkdir(parents=True)
    later.write_text("Later notes\n" * 400)
    ran = small(tmp_path, steps, names)
    assert [(s.content, s.ceiling_name, s.name) for s in ran.found.files] == [("intact", ceiling, got)] * len(names)


CORPUS = 'files = 150, kinds = ["txt"], size = "600 B..3 KiB", names = "long", depth = 1'


GONE, NO_BOOT = '{do = "delete", what = ["/Season"]}', '{do = "damage", what = "boot"}'


@pytest.mark.parametrize("reuse", ["first", "spread"])
@pytest.mark.parametrize(
    ("file_system", "size", "cluster", "loss"),
    [
        ("fat12", 6, "2 KiB", GONE),
        ("fat12", 6, "2 KiB", NO_BOOT),
        ("fat16", 9, "2 KiB", GONE),
        ("fat16", 9, "2 KiB", NO_BOOT),
        ("fat32", 40, "512 B", GONE),
    ],
)
def test_parts_of_folders_that_grew_by_turns(
    tmp_path: Path, file_system: str, size: int, cluster: str, loss: str, reuse: str
) -> None:
    """Names that reach from one cluster of a folder into the next tell which is of which, and times where none does
    (thirty clusters of two files each, spread over the volume, leave a choice here and there)."""
    text = f"""recipe = 1
name = "folders"
title = "Folders that grew by turns"
seed = 5
medium.size = "{size} MiB"
steps = [
    {{do = "format", file_system = "{file_system}", cluster = "{cluster}"}},
    {{do = "store", into = "/Season", reuse = "{reuse}", corpus = {{ {CORPUS} }} }},
    {loss},
]
"""
    found = carried_out(parse_recipe(text, "folders.toml", tmp_path), tmp_path).found.files
    attainable = [one for one in found if one.ceiling_name == "full" and one.has_content]
    assert len(attainable) > 100
    share = 0.8 if (file_system, reuse) == ("fat32", "spread") else 0.95
    assert sum(one.name == "full" for one in attainable) >= share * len(attainable)
