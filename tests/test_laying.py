"""Specimens laid down by any sequence of steps: the books, the bytes, the readers and the system's tools must agree."""

from __future__ import annotations

import shutil
from contextlib import suppress
from pathlib import Path

import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from sastrugi.corpus.kept import VARIABLE as KEPT
from sastrugi.errors import RecipeError, SastrugiError
from sastrugi.media import open_medium
from sastrugi.progress import Progress
from sastrugi.specimen.audit import audit
from sastrugi.specimen.build import build
from sastrugi.specimen.recipe import Recipe, parse_recipe
from sastrugi.specimen.truth import Specimen, TruthFile
from tests.judges import EXT, HFS, assert_clean, driver_reads, mtools_attributes, require_drivers, volume_copy
from tests.recipes import FILE_SYSTEMS, random_recipe

MIB = 1 << 20


def laid(recipe: Recipe, into: Path) -> Path:
    return build(recipe, into, Progress())


def faults(folder: Path) -> list[tuple[str, str]]:
    with Specimen(folder) as specimen:
        return [(check.name, fault) for check in audit(specimen, Progress()) for fault in check.faults]


@pytest.mark.drivers
@pytest.mark.parametrize("file_system", FILE_SYSTEMS)
@settings(max_examples=12)
@example(seed=4294967287)  # on NTFS: zeros over the zeros of a file that is smaller than a block
@given(seed=st.integers(0, 1 << 32))
def test_books_bytes_and_judges_agree_after_any_steps(
    tmp_path_factory: pytest.TempPathFactory, file_system: str, seed: int
) -> None:
    require_drivers()
    folder = tmp_path_factory.mktemp("any") / "s"
    try:
        laid(random_recipe(seed, file_system), folder)
    except RecipeError as error:
        assert "matches no" in str(error) or "full" in str(error)
        return
    assert faults(folder) == []
    with Specimen(folder) as specimen:
        if not specimen.truth.medium.unreadable:
            assert_clean(folder / "medium.img", file_system)
        for file in specimen.truth.live[:6] if file_system != "exfat" else []:
            if file.on_volume.isascii():
                got = driver_reads(folder / "medium.img", file_system, file.on_volume)
                assert got == b"".join(specimen.blocks(file))
    shutil.rmtree(folder)


@pytest.fixture(scope="module")
def small(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A small specimen with everything an audit looks at: live, lost, overwritten and unreadable files."""
    recipe = recipe_of(
        """
        [[steps]]
        do = "delete"
        what = ["/Notes/*.txt"]
        [[steps]]
        do = "churn"
        write = "20 KiB"
        size = "4 KiB..8 KiB"
        reuse = "first"
        [[steps]]
        do = "fade"
        what = ["/Notes/*.csv"]
        """
    )
    return laid(recipe, tmp_path_factory.mktemp("small") / "s")


def recipe_of(steps: str, file_system: str = "fat12", size: str = "2 MiB", medium: str = "") -> Recipe:
    """A recipe that stores twelve notes and then does `steps`."""
    head = f"""
        recipe = 1
        name = "small"
        title = "Small"
        seed = 7
        [medium]
        size = "{size}"
        {medium}
        [[steps]]
        do = "format"
        file_system = "{file_system}"
        [[steps]]
        do = "store"
        into = "/Notes"
        corpus = {{ files = 12, kinds = ["txt", "csv", "png"], size = "3 KiB..9 KiB", names = "long" }}
        """
    return parse_recipe("\n".join(line.strip() for line in (head + steps).splitlines()), "small.toml")


@settings(max_examples=60)
@given(st.data())
def test_audit_finds_any_flipped_byte(
    small: Path, tmp_path_factory: pytest.TempPathFactory, data: st.DataObject
) -> None:
    copy = tmp_path_factory.mktemp("flip") / "s"
    shutil.copytree(small, copy)
    names = sorted(p.relative_to(copy).as_posix() for p in copy.rglob("*") if p.is_file())
    assert {"SHA256SUMS", "medium.img", "medium.img.faults.json", "recipe.toml", "truth.json"} < set(names)
    path = copy / data.draw(st.sampled_from(names))
    content = bytearray(path.read_bytes())
    at = data.draw(st.integers(0, len(content) - 1))
    content[at] ^= 1 << data.draw(st.integers(0, 7))
    path.write_bytes(content)
    try:
        assert faults(copy), f"{path.name}, byte {at}"
    except SastrugiError as error:  # too damaged to be opened: that is found, too
        assert path.name in str(error)
    shutil.rmtree(copy)


def test_audit_tells_of_an_original_that_is_missing(small: Path, tmp_path: Path) -> None:
    copy = tmp_path / "s"
    shutil.copytree(small, copy)
    gone = next((copy / "originals").iterdir())
    gone.unlink()
    told = faults(copy)
    assert told and all(name == "originals of lost files" and gone.name in fault for name, fault in told)


def files_of(folder: Path) -> list[TruthFile]:
    with Specimen(folder) as specimen:
        return list(specimen.truth.files)


def references(steps: str, tmp_path: Path, file_system: str = "fat12", size: str = "2 MiB") -> list[TruthFile]:
    """The reference files of a specimen, which must be sound."""
    folder = laid(recipe_of(steps, file_system, size), tmp_path / "s")
    assert faults(folder) == []
    return [file for file in files_of(folder) if file.role == "reference"]


DELETE_ALL = '[[steps]]\ndo = "delete"\nwhat = ["/Notes/*"]\n'
ENDS = {
    "linux": (DELETE_ALL, "fat12", "deleted", 1.0, "whole", "full"),
    "exfat": (DELETE_ALL, "exfat", "deleted", 1.0, "whole", "full"),
    "format, same clusters": ('[[steps]]\ndo = "format"\n', "fat12", "formatted", 1.0, "whole", "name"),
    "format, exfat": ('[[steps]]\ndo = "format"\n', "exfat", "formatted", 1.0, "whole", "name"),
    "full format": ('[[steps]]\ndo = "format"\nhow = "full"\n', "fat12", "formatted", 0.0, "none", "none"),
    "wipe": ('[[steps]]\ndo = "wipe"\nwhat = "medium"\n', "fat12", "wiped", 0.0, "none", "none"),
    "wipe with noise": ('[[steps]]\ndo = "wipe"\nwhat = "volume"\nfill = "noise"\n', "exfat", "wiped", 0.0, "none", "none"),
    "wiped free space": (DELETE_ALL + '[[steps]]\ndo = "wipe"\nwhat = "free"\n', "fat12", "deleted", 0.0, "whole", "full"),
    "boot sector": ('[[steps]]\ndo = "damage"\nwhat = "boot"\n', "fat12", "damaged", 1.0, "whole", "full"),
    "root": ('[[steps]]\ndo = "damage"\nwhat = "root"\n', "exfat", "damaged", 1.0, "whole", "name"),
    "folder": ('[[steps]]\ndo = "damage"\nwhat = "folder"\npath = "/Notes"\n', "fat12", "damaged", 1.0, "none", "type"),
    "overlaid": ('[[steps]]\ndo = "overlay"\nfill = "noise"\n', "fat12", "overlaid", 0.0, "none", "none"),
    "emptied bin": ('[[steps]]\ndo = "bin"\nwhat = ["/Notes/*"]\n[[steps]]\ndo = "empty-bin"\n', "exfat", "emptied", 1.0, "whole", "full"),
    "emptied bin of macOS": ('[[steps]]\ndo = "bin"\nwhat = ["/Notes/*"]\nacts_as = "macos"\n[[steps]]\ndo = "empty-bin"\nacts_as = "macos"\n', "fat12", "emptied", 1.0, "whole", "full"),
}  # fmt: skip


@pytest.mark.parametrize("case", ENDS)
def test_what_each_loss_leaves(tmp_path: Path, case: str) -> None:
    steps, file_system, end, share, placed, name = ENDS[case]
    files = references(steps, tmp_path, file_system)
    assert len(files) == 12 and all(file.lost for file in files)
    assert {file.end for file in files} == {end}
    assert {file.ceiling.bytes for file in files} == {share}
    assert {file.ceiling.placed for file in files} == {placed}
    assert {file.ceiling.name for file in files} == {name}


def test_windows_takes_the_high_word_of_the_first_cluster(tmp_path: Path) -> None:
    """Only of files beyond cluster 65,535, on FAT32, that is more than nothing."""
    filler = '[[steps]]\ndo = "churn"\nwrite = "34 MiB"\nsize = "34 MiB"\n[[steps]]\ndo = "store"\ninto = "/Late"\ncorpus = { files = 2, kinds = ["txt"] }\n'
    delete = '[[steps]]\ndo = "delete"\nacts_as = "windows"\nwhat = ["/Notes", "/Late"]\n'
    files = references(filler + delete, tmp_path, "fat32", "40 MiB")
    placed = {file.path.split("/")[1]: file.ceiling.placed for file in files}
    assert placed == {"Notes": "whole", "Late": "hint"}


@pytest.mark.parametrize("file_system", ["fat12", "exfat"])
@pytest.mark.parametrize("gaps", ["fillers", "interleaved"])
def test_files_come_to_lie_in_pieces(tmp_path: Path, gaps: str, file_system: str) -> None:
    store = f"""[[steps]]
        do = "store"
        into = "/Pieces"
        corpus = {{ files = 3, kinds = ["png"], size = "30 KiB..40 KiB" }}
        pieces = 4
        gaps = "{gaps}"
        [[steps]]
        do = "delete"
        what = ["/Pieces/*"]
        """
    files = references(store, tmp_path, file_system, "4 MiB")
    pieces = [file for file in files if file.path.startswith("/Pieces")]
    assert [len(file.extents) for file in pieces] == [4, 4, 4]
    # FAT forgets the chain when it deletes; exFAT leaves it.
    assert {file.ceiling.placed for file in pieces} == {"start" if file_system == "fat12" else "whole"}


def test_generations_of_one_name_are_told_apart(tmp_path: Path) -> None:
    edit = '[[steps]]\ndo = "edit"\nwhat = ["/Notes/*.txt"]\nhow = "{}"\n'
    files = references(
        edit.format("replace") + edit.format("truncate") + edit.format("in-place") + DELETE_ALL, tmp_path
    )
    by_path: dict[str, list[TruthFile]] = {}
    for file in files:
        by_path.setdefault(file.path, []).append(file)
    texts = [versions for path, versions in by_path.items() if path.endswith(".txt")]
    assert [[file.end for file in versions] for versions in texts] == [["replaced"] * 3 + ["deleted"]] * 4
    for versions in texts:
        assert len({file.blake3 for file in versions}) == 4
        assert [file.lost for file in versions] == [False, False, False, True]
        assert versions[2].ceiling.bytes < 1, "written over in place"


def test_lives_are_counted_through_formats_and_partitions(tmp_path: Path) -> None:
    text = """
        recipe = 1
        name = "lives"
        title = "Lives"
        seed = 3
        [medium]
        size = "24 MiB"
        [[steps]]
        do = "partition"
        table = "gpt"
        volumes = [{ name = "card", size = "8 MiB" }, { name = "rest" }]
        [[steps]]
        do = "format"
        volume = "card"
        file_system = "fat12"
        [[steps]]
        do = "store"
        volume = "card"
        corpus = { files = 4, kinds = ["txt"] }
        [[steps]]
        do = "format"
        volume = "card"
        file_system = "exfat"
        label = "SECOND"
        [[steps]]
        do = "store"
        volume = "card"
        into = "/Two"
        corpus = { files = 4, kinds = ["png"] }
        [[steps]]
        do = "format"
        volume = "rest"
        file_system = "fat16"
        acts_as = "camera"
        [[steps]]
        do = "drop-partition"
        volume = "card"
        [[steps]]
        do = "partition"
        volumes = [{ name = "boot", size = "2 MiB" }]
        [[steps]]
        do = "format"
        volume = "boot"
        file_system = "fat12"
        """
    folder = laid(parse_recipe("\n".join(line.strip() for line in text.splitlines()), "lives.toml"), tmp_path / "s")
    assert faults(folder) == []
    with Specimen(folder) as specimen:
        lives = {
            v.name: [(life.file_system, life.end, life.ended_by) for life in v.lives] for v in specimen.truth.volumes
        }
        assert lives == {
            "card": [("fat12", "formatted", 4), ("exfat", "dropped", 7)],
            "rest": [("fat16", "dropped", 8)],
            "boot": [("fat12", "live", None)],
        }
        assert [v.listed for v in specimen.truth.volumes] == [False, False, True]
        assert {f.life: f.end for f in specimen.truth.files} == {1: "formatted", 2: "dropped"}
        assert all(f.ceiling.bytes < 1 for f in specimen.truth.files if f.life == 2) is False


def test_a_medium_of_large_sectors(tmp_path: Path) -> None:
    require_drivers()
    for file_system in FILE_SYSTEMS:
        size = "300 MiB" if file_system == "fat32" else "16 MiB"
        size = "272 MiB" if file_system == "fat16" else size
        recipe = recipe_of('[[steps]]\ndo = "delete"\nwhat = ["/Notes/*.png"]\n', file_system, size, "sector = 4096")
        folder = laid(recipe, tmp_path / file_system)
        assert faults(folder) == []
        assert_clean(folder / "medium.img", file_system)
        with open_medium(folder) as medium:
            assert medium.sector == 4096 or file_system in (*EXT, *HFS)  # these do not tell it


REFUSED = {
    "more than there is room": ('[[steps]]\ndo = "churn"\nwrite = "9 MiB"\n', r"step 3 \(churn\), line 16: the volume is full: /Season/USE\d+\.DAT .* needs .* more"),
    "no bin": ('[[steps]]\ndo = "empty-bin"\n', "the bin .* is empty"),
    "a camera's bin": ('[[steps]]\ndo = "bin"\nwhat = ["/Notes/*"]\nacts_as = "camera"\n', "a camera has no bin"),
    "after a wipe": ('[[steps]]\ndo = "wipe"\nwhat = "volume"\n' + DELETE_ALL, r"step 4 \(delete\), line \d+: volume 'medium' cannot be used \(its .* was written over\): a 'format' step"),
    "no such structure": ('[[steps]]\ndo = "damage"\nwhat = "bitmap"\n', "FAT12 has no 'bitmap': there are boot, fat1"),
    "no table": ('[[steps]]\ndo = "damage"\nwhat = "table"\n', "no partition table that could be damaged"),
    "nothing to drop": ('[[steps]]\ndo = "drop-partition"\n', "no partition table lists it"),
    "beyond the end": ('[[steps]]\ndo = "fade"\nrange = { start = "1 MiB", size = "3 MiB" }\n', "3 MiB from 1 MiB on reach beyond the medium of 2 MiB"),
    "a volume that is none": ('[[steps]]\ndo = "format"\nvolume = "mediun"\n', "did you mean 'medium'"),
    "into itself": ('[[steps]]\ndo = "rename"\nwhat = ["/Notes"]\ninto = "/Notes/Deep"\n', "cannot be moved into itself"),
    "a name that is taken": ('[[steps]]\ndo = "rename"\nwhat = ["/Notes/*"]\nto = "same"\n', "already a file of this name"),
    "an image that is not there": ('[[steps]]\ndo = "overlay"\nimage = "boot.img"\n', "boot.img: there is no such file"),
    "too small for it": ('[[steps]]\ndo = "format"\nfile_system = "fat32"\n', "2 MiB gives .* choose another cluster size or volume size"),
}  # fmt: skip


@pytest.mark.parametrize("case", REFUSED)
def test_a_step_that_cannot_be_carried_out_says_why(tmp_path: Path, case: str) -> None:
    steps, message = REFUSED[case]
    recipe = recipe_of(steps)
    with pytest.raises(RecipeError, match=message):
        laid(recipe.model_copy(update={"base": tmp_path}), tmp_path / "s")
    assert not list(tmp_path.iterdir()), "nothing half-built stays"


OVERLAPPING = '[{ name = "a", start = "1 MiB", size = "4 MiB" }, { name = "b", start = "3 MiB", size = "4 MiB" }]'


@pytest.mark.parametrize(
    ("volumes", "message"),
    [
        (OVERLAPPING, "volume 'b' overlaps 'a', which lies from 1 MiB to 5 MiB"),
        ('[{ name = "a", size = "9 GiB" }]', "do not fit"),
        ('[{ name = "a", start = "1000 B" }]', "whole sectors"),
        ("[" + ", ".join(f'{{ name = "v{n}", size = "1 MiB" }}' for n in range(6)) + "]", "make some 'logical = true'"),
        ('[{ name = "a", size = "4 MiB" }, { name = "a", size = "4 MiB" }]', "two volumes are called 'a'"),
    ],
)
def test_partitions_that_cannot_be(tmp_path: Path, volumes: str, message: str) -> None:
    text = f'recipe = 1\nname = "p"\ntitle = "P"\nseed = 1\n[medium]\nsize = "32 MiB"\n[[steps]]\ndo = "partition"\nvolumes = {volumes}\n'
    with pytest.raises(RecipeError, match=message):
        laid(parse_recipe(text, "p.toml"), tmp_path / "s")


def test_unreadable_sectors_read_as_zeros_and_are_told(tmp_path: Path) -> None:
    folder = laid(recipe_of('[[steps]]\ndo = "fade"\nwhat = ["/Notes/*"]\nsectors = 2\n'), tmp_path / "s")
    with Specimen(folder) as specimen:
        faded = specimen.truth.medium.unreadable
        assert sum(extent.length for extent in faded) >= 12 * 512
        assert {file.end for file in specimen.truth.files} == {"damaged"}
        medium = specimen.medium
        assert not medium.unread
        assert medium.read(*faded[0]) == bytes(faded[0].length)
        assert list(medium.unread) == [faded[0]]
        assert set(medium.unread) <= set(medium.unreadable)


def test_a_large_medium_costs_what_its_files_cost(tmp_path: Path) -> None:
    """The same files on 8 GiB and on 4 TiB: blocks of the disk that are used, by the file system of each."""
    used = {}
    for size in ("8 GiB", "4 TiB"):
        folder = laid(recipe_of(DELETE_ALL, "exfat", size), tmp_path / size[:1])
        assert faults(folder) == []
        used[size] = (folder / "medium.img").stat().st_blocks * 512
    assert used["4 TiB"] < 1.5 * used["8 GiB"] + MIB


def test_the_volume_of_a_specimen_is_judged_where_it_lies(tmp_path: Path) -> None:
    """Boot sectors name the place of their partition: fsck is content with a volume cut out of its medium."""
    require_drivers()
    for n, table in enumerate(("mbr", "gpt")):
        text = recipe_of("").text.replace(
            "[[steps]]", f'[[steps]]\ndo = "partition"\ntable = "{table}"\nvolumes = [{{ name = "a" }}]\n[[steps]]', 1
        )
        folder = laid(
            parse_recipe(text.replace("2 MiB", "16 MiB").replace("fat12", "exfat"), "t.toml"), tmp_path / table
        )
        assert_clean(volume_copy(folder / "medium.img", MIB, tmp_path / f"{n}.img"), "exfat")
        assert faults(folder) == []


@pytest.mark.parametrize(
    ("what", "lost"), [("bitmap", 0), ("backup-boot", 0), ("fat1", 0), ("upcase", 12), ("root", 12), ("boot", 12)]
)
def test_damage_loses_what_a_driver_could_no_longer_give(tmp_path: Path, what: str, lost: int) -> None:
    """On exFAT, files in one piece need no FAT."""
    files = references(f'[[steps]]\ndo = "damage"\nwhat = "{what}"\nfill = "noise"\n', tmp_path, "exfat")
    assert sum(file.lost for file in files) == lost


@settings(max_examples=6)
@given(seed=st.integers(0, 1 << 32), file_system=st.sampled_from(list(FILE_SYSTEMS)))
def test_a_recipe_gives_the_same_bytes_again(
    tmp_path_factory: pytest.TempPathFactory, monkeypatch: pytest.MonkeyPatch, seed: int, file_system: str
) -> None:
    monkeypatch.setenv(KEPT, "")
    work = tmp_path_factory.mktemp("again")
    recipe = random_recipe(seed, file_system)
    contents = []
    for name in ("a", "b"):
        with suppress(RecipeError):
            laid(recipe, work / name)
        contents.append({p.relative_to(work / name): p.read_bytes() for p in (work / name).rglob("*") if p.is_file()})
    assert contents[0] == contents[1]
    shutil.rmtree(work)


@pytest.mark.drivers
def test_attributes_are_those_the_system_reads(tmp_path: Path) -> None:
    require_drivers()
    store = '[[steps]]\ndo = "store"\ninto = "/Kept"\ncorpus = { files = 1, kinds = ["txt"], names = "camera" }\nattributes = ["read-only", "hidden"]\n'
    folder = laid(recipe_of(store), tmp_path / "s")
    assert mtools_attributes(folder / "medium.img", "/Kept/FRN00001.TXT").split()[:2] == ["A", "HR"]


def test_a_partitioned_medium_can_become_one_volume_and_back(tmp_path: Path) -> None:
    format_all = '[[steps]]\ndo = "format"\nvolume = "medium"\n'
    parts = '[[steps]]\ndo = "partition"\nvolumes = [{ name = "a" }]\n[[steps]]\ndo = "format"\nvolume = "a"\nfile_system = "exfat"\n'
    store = '[[steps]]\ndo = "store"\nvolume = "a"\ncorpus = { files = 3, kinds = ["txt"] }\n'
    folder = laid(recipe_of(parts + store + format_all, size="8 MiB"), tmp_path / "s")
    assert faults(folder) == []
    with Specimen(folder) as specimen:
        ends = {v.name: [(life.file_system, life.end) for life in v.lives] for v in specimen.truth.volumes}
        assert ends == {"medium": [("fat12", "dropped"), ("fat12", "live")], "a": [("exfat", "formatted")]}
        assert not any(volume.listed for volume in specimen.truth.volumes)
        assert {f.end for f in specimen.truth.files if f.volume == "a"} == {"formatted"}


@pytest.mark.parametrize("container", ["vhd", "vhd-fixed", "qcow2", "qcow2-packed"])
def test_a_specimen_in_a_container_is_the_same_specimen(tmp_path: Path, container: str) -> None:
    steps = DELETE_ALL + '[[steps]]\ndo = "fade"\nrange = { start = "1 MiB", size = "4 KiB" }\n'
    plain = laid(recipe_of(steps), tmp_path / "plain")
    folder = laid(recipe_of(steps, medium=f'container = "{container}"'), tmp_path / "s")
    assert faults(folder) == []
    with Specimen(plain) as one, Specimen(folder) as other:
        assert one.truth.medium == other.truth.medium and one.truth.files == other.truth.files
        assert one.medium.path.read_bytes() != other.medium.path.read_bytes()


def test_dead_sectors_that_are_written_again_can_be_read(tmp_path: Path) -> None:
    steps = """
        [[steps]]
        do = "fade"
        what = ["/Notes/*.txt"]
        sectors = 3
        [[steps]]
        do = "delete"
        what = ["/Notes"]
        [[steps]]
        do = "churn"
        write = "60 KiB"
        size = "60 KiB"
        reuse = "first"
        """
    before = laid(recipe_of(steps.partition('[[steps]]\n        do = "delete"')[0]), tmp_path / "before")
    after = laid(recipe_of(steps), tmp_path / "after")
    assert faults(before) == faults(after) == []
    with Specimen(before) as one, Specimen(after) as other:
        assert len(other.truth.medium.unreadable) < len(one.truth.medium.unreadable)
