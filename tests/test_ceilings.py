"""Ceilings: they come from the truth alone, and what they promise can be reached."""

from __future__ import annotations

import random
import shutil
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from sastrugi.errors import RecipeError
from sastrugi.media import open_medium
from sastrugi.progress import Progress
from sastrugi.specimen.adopt import adopt
from sastrugi.specimen.audit import audit
from sastrugi.specimen.build import build
from sastrugi.specimen.recipe import parse_recipe
from sastrugi.specimen.truth import Specimen
from tests.conftest import Program
from tests.perfect import perfect_results, require_reachable, scored
from tests.recipes import FILE_SYSTEMS, random_recipe


@pytest.mark.parametrize("file_system", FILE_SYSTEMS)
@settings(max_examples=3)
@given(seed=st.integers(0, 1 << 32))
def test_what_a_ceiling_promises_can_be_reached(
    tmp_path_factory: pytest.TempPathFactory, file_system: str, seed: int
) -> None:
    """Of files of a few bytes, too (of others: test_end_to_end)."""
    folder = tmp_path_factory.mktemp("ceilings")
    try:
        build(random_recipe(seed, file_system, sizes="1 B..2 KiB"), folder / "s", Progress())
    except RecipeError as error:
        assert "matches no" in str(error) or "full" in str(error)
        return
    with Specimen(folder / "s") as specimen:
        require_reachable(specimen, folder)


# -- what stands and what does not ----------------------------------------------------------------------------------


def built(folder: Path, steps: str, size: str = "12 MiB") -> Path:
    """A specimen in `folder`/s, by these steps; a folder `mine` beside may hold files of one's own."""
    text = f'recipe = 1\nname = "small"\ntitle = "Small"\nseed = 1\nmedium.size = "{size}"\nsteps = [ {steps} ]\n'
    build(parse_recipe(text, "small.toml", folder), folder / "s", Progress())
    return folder / "s"


FAT = '{do = "format", file_system = "fat16", cluster = "2 KiB"}, {do = "store", folder = "mine"}'


def written(folder: Path, files: dict[str, bytes]) -> None:
    for name, data in files.items():
        (folder / name).parent.mkdir(parents=True, exist_ok=True)
        (folder / name).write_bytes(data)


@pytest.mark.parametrize("loss", ["fade", "overlay"])
def test_zeros_over_zeros_stand_and_what_cannot_be_read_does_not(tmp_path: Path, loss: str) -> None:
    """A file of ice and emptiness: its middle is zeros, over which zeros are written, or which cannot be read any more."""
    dice = random.Random(7)
    data = dice.randbytes(4096) + bytes(4096) + dice.randbytes(4096)
    written(tmp_path / "mine", {"frost.raw": data, "other.raw": dice.randbytes(5000)})
    build_plain = built(tmp_path, FAT)
    with Specimen(build_plain) as specimen:
        (file,) = (one for one in specimen.truth.files if one.name == "frost.raw")
        assert file.map.start is not None
        where = f'start = "{file.map.start + 4096} B", size = "4 KiB"'
    harm = f'{{do = "fade", range = {{ {where} }} }}'
    if loss == "overlay":
        harm = f'{{do = "overlay", fill = "zeros", {where.replace("start", "at")} }}'
    (tmp_path / "again" / "mine").parent.mkdir()
    shutil.copytree(tmp_path / "mine", tmp_path / "again" / "mine")
    folder = built(tmp_path / "again", f'{FAT}, {{do = "delete", what = ["frost.raw"]}}, {harm}')
    with Specimen(folder) as specimen:
        (file,) = specimen.truth.lost
        assert file.ceiling.bytes == (1 if loss == "overlay" else pytest.approx(2 / 3))
        assert not [fault for check in audit(specimen, Progress()) for fault in check.faults]
        require_reachable(specimen, tmp_path / "results")
    # Whoever adopts the image and has the originals comes to the same.
    with open_medium(folder / "medium.img") as image:
        adopt(image, tmp_path / "mine", tmp_path / "adopted", Progress(), lost=["frost.raw"])
    with Specimen(tmp_path / "adopted") as specimen:
        assert specimen.truth.lost[0].ceiling.bytes == pytest.approx(file.ceiling.bytes)


def test_names_that_stand_only_in_blocks_of_indexes_that_were_freed(tmp_path: Path) -> None:
    """Records are another's, and the folder is gone: its blocks still spell names with sizes, and a program that puts to
    each the one content of that size is right, and accused of nothing."""
    corpus = 'corpus = { files = 30, kinds = ["txt"], names = "long", size = "5 KiB..20 KiB" }'
    later = '{do = "store", into = "/B", corpus = { files = 60, kinds = ["txt"], size = "5 KiB..15 KiB" } }'
    steps = f'{{do = "format", file_system = "ntfs"}}, {{do = "store", into = "/A", {corpus} }}'
    folder = built(tmp_path, f'{steps}, {{do = "delete", what = ["/A"]}}, {later}', "32 MiB")
    with Specimen(folder) as specimen:
        data = (folder / "medium.img").read_bytes()
        named = [one for one in specimen.truth.lost if one.ceiling.name == "name"]
        lacking = [one for one in specimen.truth.lost if one.ceiling.name not in ("full", "name")]
        assert 4 <= len(named) < 30 and all(one.ceiling.placed == "none" for one in named)
        assert not [one.path for one in lacking if one.name.encode("utf-16-le") in data]
        require_reachable(specimen, tmp_path / "results")
        honest = tmp_path / "honest"
        written(honest, {one.name: specimen.original(one) for one in named})
        card = scored(specimen, honest)
        assert card.classes["reference"] == len(named) and not card.names_beyond and not card.beyond_ceiling
        # A name that nothing spells is reported, and is nobody's fault.
        written(honest, {lacking[0].name: specimen.original(lacking[0])})
        card = scored(specimen, honest)
        assert card.names_beyond == 1 and not card.beyond_ceiling


@pytest.mark.parametrize("habits", ["linux", "old-linux"])
def test_names_in_old_folder_blocks_whose_inodes_are_gone(tmp_path: Path, sastrugi: Program, habits: str) -> None:
    """On ext a name stands in a folder's block by itself: the inode tells the place, and may be gone."""
    store = '{do = "store", into = "/Notes", corpus = { files = 12, kinds = ["txt"], size = "2 KiB..9 KiB" } }'
    steps = f'{{do = "format", file_system = "ext2", cluster = "1 KiB"}}, {store}'
    lose = f'{{do = "delete", what = ["/Notes/*"], acts_as = "{habits}"}}, {{do = "damage", what = "inodes"}}'
    folder = built(tmp_path, f"{steps}, {lose}")
    with Specimen(folder) as specimen:
        data = (folder / "medium.img").read_bytes()
        for file in specimen.truth.lost:
            stands = file.name.encode() in data
            assert stands == (habits == "old-linux") == (file.ceiling.name in ("full", "name")), file.path
            assert file.ceiling.placed == "none"


def test_the_bench_own_files_count_nowhere(tmp_path: Path, sastrugi: Program) -> None:
    """Buffers that make gaps and later use, whole and written over: brought back, they are neither found nor noise."""
    steps = """{do = "format", file_system = "ntfs"},
        {do = "store", into = "/Tracks", corpus = { files = 12, size = "9 KiB..60 KiB" }, pieces = 3},
        {do = "delete", what = ["/Tracks"]},
        {do = "churn", write = "900 KiB", delete = "500 KiB", size = "8 KiB..40 KiB", reuse = "first"}"""
    folder = built(tmp_path, steps, "24 MiB")
    with Specimen(folder) as specimen:
        own = [one for one in specimen.truth.files if specimen.truth.is_of_the_bench(one)]
        assert {one.role for one in own} == {"filler", "use"} and {one.standing for one in own} == {True, False}
        assert any(not one.kept for one in own), "some were written over, and no original is kept"
        perfect_results(specimen, tmp_path / "perfect")
        before = scored(specimen, tmp_path / "perfect")
        for one in own:  # as their records tell them; of what was written over only the name is theirs
            nameless = one.untouched and one.id % 3 == 0
            target = tmp_path / "perfect" / "all" / f"{one.id}" / ("no-name" if nameless else one.path.lstrip("/"))
            target.parent.mkdir(parents=True)
            target.write_bytes(one.map.read(specimen.medium, 0, one.size))
        after = scored(specimen, tmp_path / "perfect")
        assert after.classes["bench"] == len(own)
        for name in ("intact", "complete", "named", "all_three", "groups", "calibration"):
            assert getattr(after, name) == getattr(before, name), name
        assert after.precision == 1 and after.counted_results == len(after.results) - after.classes["bench"]
    told = sastrugi("score", folder, tmp_path / "perfect", "--out", tmp_path / "c.json").out
    assert f"Not counted: {after.classes['bench']} results that are the bench's own files" in " ".join(told.split())
    sastrugi("scan", folder, "--out", tmp_path / "s.scan")
    every = sastrugi("list", tmp_path / "s.scan", "--state", "any", "--limit", "0").out
    less = sastrugi("list", tmp_path / "s.scan", "--state", "any", "--limit", "0", "--specimen", folder)
    assert "/Buffers/" in every and "/Buffers/" not in less.out and "left out: " in less.err
    assert "the bench's own files" in sastrugi("map", folder, "--out", tmp_path / "m.png").out
    # On a medium that was adopted every file is somebody's.
    written(tmp_path / "mine", {"Buffers/B0000001.TMP": b"kept for the season" * 200})
    with open_medium(folder / "medium.img") as image, Specimen(folder) as specimen:
        file = specimen.truth.lost[0]
        written(tmp_path / "mine", {file.name: specimen.original(file)})
        adopt(image, tmp_path / "mine", tmp_path / "adopted", Progress())
    with Specimen(tmp_path / "adopted") as specimen:
        assert not any(specimen.truth.is_of_the_bench(one) for one in specimen.truth.files)


# -- what counts as a file's ------------------------------------------------------------------------------------------


def test_a_small_file_of_which_much_is_right_came_back_in_part(tmp_path: Path) -> None:
    """384 of 512 bytes right under the right path are not another file's; under another name they prove nothing."""
    dice = random.Random(3)
    data = dice.randbytes(512)
    written(tmp_path / "mine", {"pit/note.bin": data, "other.bin": dice.randbytes(9000)})
    folder = built(tmp_path, f'{FAT}, {{do = "delete", what = ["*"]}}')
    half_right = bytes(byte if n % 4 else byte ^ 1 for n, byte in enumerate(data))
    with Specimen(folder) as specimen:
        for path, content in (("pit/note.bin", "mixed"), ("elsewhere/note.bin", "mixed"), ("x.bin", "missing")):
            written(tmp_path / content / path.replace("/", "-"), {path: half_right})
            card = scored(specimen, tmp_path / content / path.replace("/", "-"))
            (file,) = (one for one in card.files if one.path == "/pit/note.bin")
            assert (file.content, file.completeness) == (content, 0.75 if content == "mixed" else 0), path
        third = bytes(byte if n % 3 == 0 else byte ^ 1 for n, byte in enumerate(data))
        written(tmp_path / "third", {"pit/note.bin": third})
        assert scored(specimen, tmp_path / "third").files[1].completeness == 0, "less than half may be chance"


def test_attainable_files_have_bytes_everywhere(tmp_path: Path) -> None:
    """Empty files count in names, in groups as in the headline."""
    written(tmp_path / "mine", {"empty.txt": b"", "full.txt": b"wind 12 m/s\n" * 90})
    with Specimen(built(tmp_path, f'{FAT}, {{do = "delete", what = ["*"]}}')) as specimen:
        (tmp_path / "r").mkdir()
        card = scored(specimen, tmp_path / "r")
        assert card.intact.of_ceiling == 1 == card.intact.of_set and card.named.of_set == 2
        assert [group.attainable for group in card.groups["loss"]] == [1]


@pytest.mark.parametrize("file_system", ["ext4", "ntfs"])
def test_content_of_a_link_that_still_lives_is_live(tmp_path: Path, file_system: str) -> None:
    written(tmp_path / "mine", {"core.txt": b"bubbles at 41 m\n" * 200, "other.txt": b"sastrugi\n" * 300})
    steps = f'{{do = "format", file_system = "{file_system}"}}, {{do = "store", folder = "mine"}}'
    link = '{do = "link", what = ["core.txt"], into = "/Links"}, {do = "delete", what = ["core.txt", "other.txt"]}'
    with Specimen(built(tmp_path, f"{steps}, {link}", "24 MiB")) as specimen:
        assert {one.end for one in specimen.truth.files if one.name == "core.txt"} == {"unlinked", "live"}
        written(tmp_path / "r", {"core.txt": b"bubbles at 41 m\n" * 200})
        assert scored(specimen, tmp_path / "r").classes["live"] == 1


def test_an_empty_original_that_was_deleted_since_is_lost(tmp_path: Path) -> None:
    written(tmp_path / "mine", {"empty.txt": b"", "stays.txt": b"", "full.txt": b"wind 12 m/s\n" * 90})
    before = built(tmp_path, FAT) / "medium.img"
    (tmp_path / "after").mkdir()
    shutil.copytree(tmp_path / "mine", tmp_path / "after" / "mine")
    after = built(tmp_path / "after", f'{FAT}, {{do = "delete", what = ["empty.txt"]}}') / "medium.img"
    with open_medium(after) as image, open_medium(before) as then:
        adopt(image, tmp_path / "mine", tmp_path / "adopted", Progress(), before=then)
    with Specimen(tmp_path / "adopted") as specimen:
        assert [one.path for one in specimen.truth.lost] == ["/empty.txt"]


def test_patterns_of_files_pick_no_streams(tmp_path: Path, sastrugi: Program) -> None:
    """On NTFS what goes to the bin, or gets another name, takes its streams along."""
    corpus = 'corpus = { files = 3, kinds = ["txt"], size = "2 KiB..4 KiB" }'
    written(tmp_path / "mine", {"core.txt": b"41 m\n" * 300, "core.txt:where": b"North ridge\n" * 20})
    steps = f"""{{do = "format", file_system = "ntfs"}}, {{do = "store", into = "/Strom", folder = "mine"}},
        {{do = "store", into = "/Strom", {corpus} }},
        {{do = "rename", what = ["/Strom/core*"], to = "{{stem}}-2{{suffix}}"}},
        {{do = "bin", what = ["/Strom/*"]}}, {{do = "empty-bin"}}"""
    with Specimen(built(tmp_path, steps, "24 MiB")) as specimen:
        lost = {one.path for one in specimen.truth.lost}
        assert {"/Strom/core-2.txt", "/Strom/core-2.txt:where"} < lost and len(lost) == 5, lost
