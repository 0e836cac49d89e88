"""Earlier lives: after quick formats by the system's own tools, names, folders and content come back; limits; pieces."""

from __future__ import annotations

import datetime as dt
import hashlib
import json
import random
import re
import subprocess
from collections import defaultdict
from collections.abc import Callable
from pathlib import Path
from urllib.parse import quote

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from sastrugi.media import Extent, FileMap, RangeSet, open_medium
from sastrugi.media.raw import RawImage
from sastrugi.progress import Progress
from sastrugi.recovery.bins import read_index, read_trash_info
from sastrugi.recovery.evidence import Clue
from sastrugi.recovery.findings import Finding
from sastrugi.recovery.layout import find_places
from sastrugi.recovery.placing import Budget
from sastrugi.recovery.reassembly import reassemble
from sastrugi.recovery.scan import scan
from sastrugi.recovery.scan_file import ScanFile
from sastrugi.specimen.build import build
from sastrugi.specimen.recipe import Recipe
from sastrugi.specimen.steps.delete import windows_index
from sastrugi.volumes.metadata_scan import families, heads_of, loose_tables, marked
from sastrugi.volumes.orphan_folders import loose_folders
from sastrugi.volumes.reader import Times
from tests.conftest import Program
from tests.judges import linux, make_volume, require_drivers
from tests.test_drivers import real_files
from tests.test_kinds import sample


def came_back(scan_file: Path, image: Path) -> dict[str, list[str]]:
    """Names (with their last folder) of what a scan found that is not live, by digest of the content."""
    out: dict[str, list[str]] = {}
    with ScanFile.open(scan_file) as scan, open_medium(image) as medium:
        for finding in scan.findings("state != 'live'"):
            digest = hashlib.sha256(medium.read_extents(finding.extents)).hexdigest()
            out.setdefault(digest, []).append("/".join(finding.path.split("/")[-2:]))
    return out


@pytest.mark.drivers
@pytest.mark.parametrize(
    ("before", "cluster", "after", "new_cluster"),
    [
        ("fat32", 512, "fat32", 512),
        ("fat16", 2048, "fat16", 4096),
        ("exfat", 4096, "exfat", 32768),
        ("fat32", 512, "exfat", 4096),
    ],
)
def test_a_quick_format_loses_little(
    sastrugi: Program, tmp_path: Path, before: str, cluster: int, after: str, new_cluster: int
) -> None:
    """Real files, written by the driver, then the system's mkfs over them: what is still on the medium comes back, with
    its name and the folder it lay in."""
    require_drivers()
    source = tmp_path / "source"
    real_files(source, random.Random(cluster))
    size = (120 if "fat16" in (before, after) else 96) << 20
    image = make_volume(tmp_path / "card.img", size, before, cluster)
    linux(image, f"mkdir season; cp -r {source}/. season", tmp_path, file_system=before)
    with image.open("rb") as file:
        kept = file.read()
    make_volume(tmp_path / "empty.img", size, after, new_cluster)
    _format(image, after, new_cluster)
    medium = image.read_bytes()
    sastrugi("scan", image, "--out", tmp_path / "card.scan")
    found = came_back(tmp_path / "card.scan", image)
    whole = named = placed = total = known = 0
    heads: defaultdict[bytes, list[int]] = defaultdict(list)
    for sector in range(0, len(kept), 512):
        heads[kept[sector : sector + 64]].append(sector)
    for path in source.rglob("*"):
        if not path.is_file():
            continue
        content = path.read_bytes()
        at = next((place for place in heads[content[:64]] if kept.startswith(content, place)), -1)
        if at < 0 or medium[at : at + len(content)] != content or len(content) < 600:
            continue  # in pieces, or written over by the format
        total += 1
        names = found.get(hashlib.sha256(content).hexdigest(), [])
        whole += bool(names)
        # The format wrote over some folders: their names are gone for everybody.
        known += bool(names) and _record_stands(path.name, before, medium)
        named += any(name.endswith(f"/{path.name}") for name in names)
        placed += f"{path.parent.name}/{path.name}" in names
    assert total > 80
    assert whole >= 0.98 * total, f"{whole} of {total}"
    assert named >= 0.97 * known and known > 0.7 * whole, f"{named} of {known}"
    assert (before, cluster) != (after, new_cluster) or placed >= 0.97 * named, f"{placed} of {named}"
    wanted = {hashlib.sha256(path.read_bytes()).hexdigest() for path in source.rglob("*") if path.is_file()}
    results = sum(len(names) for names in found.values())
    strange = sum(len(names) for digest, names in found.items() if digest not in wanted)
    assert strange <= 0.05 * results, f"{strange} of {results} results are no file that was there"


def _record_stands(name: str, file_system: str, medium: bytes) -> bool:
    """Whether the first part of a name stands somewhere as a folder keeps it."""
    letters = name.encode("utf-16-le")
    if file_system == "exfat":
        return b"\xc1\0" + letters[:30].ljust(30, b"\0") in medium
    stem, _, extension = name.rpartition(".")
    short = f"{stem or extension:8}{extension if stem else '':3}".encode()
    padded = (letters + b"\0\0")[:26].ljust(26, b"\xff")
    parts = (re.escape(padded[:10]), b"\x0f\0.", re.escape(padded[10:22]), b"\0\0", re.escape(padded[22:]))
    return short in medium or re.search(b"".join(parts), medium, re.S) is not None


def _format(image: Path, file_system: str, cluster: int) -> None:
    """The system's mkfs over what is there."""
    words = ["mkfs.exfat", "-c", str(cluster)]
    if file_system != "exfat":
        words = ["mkfs.vfat", "-F", file_system.removeprefix("fat"), "-s", str(cluster // 512)]
    path = "/usr/local/sbin:/usr/sbin:/sbin:/usr/bin:/bin"
    subprocess.run([*words, str(image)], check=True, capture_output=True, env={"PATH": path})


@given(st.binary(min_size=0, max_size=4096), st.integers(0, 1 << 30))
def test_noise_holds_no_folders(data: bytes, seed: int) -> None:
    noise = np.frombuffer(np.random.RandomState(seed).bytes(512 * 64), np.uint8).reshape(-1, 512)
    forged = np.frombuffer(data.ljust(4096, b"\0"), np.uint8).reshape(-1, 512)
    for name, test in families().items():
        assert not test(noise, heads_of(noise)).any(), name
        assert len(test(forged, heads_of(forged))) == 8


def test_every_folder_of_a_volume_is_found_by_its_shape(sastrugi: Program, tmp_path: Path) -> None:
    """The loose pieces hold every record that the volume's own reader lists."""
    for recipe in ("whole-folder", "by-turns"):
        sastrugi("build", recipe, "--into", tmp_path / recipe)
        with open_medium(tmp_path / recipe) as medium:
            tables = loose_tables(medium, marked(medium, [Extent(0, medium.size)]), {})
            loose = {(r.name[1:], r.size) for folder in loose_folders(tables) for r in folder.records}
            volume = find_places(medium)[0].volume
            assert volume is not None
            listed = {(entry.name[1:], entry.size) for entry in volume.entries() if not entry.folder}
        assert listed and listed <= loose


# -- limits -----------------------------------------------------------------------------------------------------------

LIMITS: list[tuple[tuple[str, ...], Callable[[Finding], bool]]] = [
    (("--kind", "jpeg"), lambda f: f.kind == "jpeg"),
    (("--group", "picture", "--group", "document"), lambda f: f.group in ("picture", "document")),
    (("--min-size", "20 KiB", "--max-size", "400 KiB"), lambda f: 20 << 10 <= f.size <= 400 << 10),
    (("--deleted-only",), lambda f: f.state != "live"),
    (("--volume", "1"), lambda f: True),
    (("--range", "2 MiB..4 MiB"), lambda f: bool(f.extents) and 2 << 20 <= f.extents[0].offset < 4 << 20),
]


@pytest.mark.parametrize(("words", "keeps"), LIMITS, ids=[words[0] for words, _ in LIMITS])
def test_a_limited_scan_finds_what_the_limit_leaves(
    sastrugi: Program, demo: Path, tmp_path: Path, words: tuple[str, ...], keeps: Callable[[Finding], bool]
) -> None:
    sastrugi("scan", demo / "specimen", "--out", tmp_path / "all.scan")
    sastrugi("scan", demo / "specimen", "--out", tmp_path / "some.scan", *words)
    with ScanFile.open(tmp_path / "all.scan") as every, ScanFile.open(tmp_path / "some.scan") as some:
        wanted = {(f.path, f.size, f.extents) for f in every.findings() if keeps(f) and f.extents}
        told = {(f.path, f.size, f.extents) for f in some.findings() if f.extents}
        assert wanted and told == wanted
        assert json.loads(some.get("limits"))


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (("--kind", "jpg"), "did you mean 'jpeg'"),
        (("--group", "pictures"), "no group of kinds"),
        (("--range", "4 MiB..2 MiB"), "turn it round"),
        (("--min-size", "2 MiB", "--max-size", "1 MiB"), "turn them round"),
        (("--volume", "9"), "no volume 9"),
        (("--passes", "guess"), "is no pass"),
    ],
)
def test_limits_that_make_no_sense(
    sastrugi: Program, demo: Path, tmp_path: Path, words: tuple[str, ...], said: str
) -> None:
    ran = sastrugi("scan", demo / "specimen", "--out", tmp_path / "x.scan", *words, code=2)
    assert said in ran.err and ran.err.count("\n") == 1


def test_progress_for_programs_is_one_document_a_line(sastrugi: Program, demo: Path, tmp_path: Path) -> None:
    ran = sastrugi("scan", demo / "specimen", "--out", tmp_path / "x.scan", "--progress", "json", "--json")
    lines = [json.loads(line) for line in ran.err.splitlines()]
    assert {"volume 1", "sweep", "files by their content"} <= {line["task"] for line in lines}
    assert [line["stage"] for line in lines if line["task"] == "volume 1"] == ["2/6 tables"]
    assert all(
        {"done", "total", "unit", "rate", "elapsed", "remaining", "note", "stage"} <= line.keys() for line in lines
    )


# -- pieces and bins --------------------------------------------------------------------------------------------------

CLUSTER = 4096


@pytest.mark.parametrize(
    ("kind", "gap_is_known"),
    [("png", True), ("jpeg", True), ("zip", True), ("pdf", True), ("png", False), ("jpeg", False)],
)
def test_pieces_are_put_together(tmp_path: Path, kind: str, gap_is_known: bool) -> None:
    """A file with something else between its two halves: around it if that is known, behind the gap if it is not."""
    content = sample(kind, 90_000)
    cut = len(content) // 2 // CLUSTER * CLUSTER
    first, second = Extent(CLUSTER, cut), Extent(6 * CLUSTER + cut, len(content) - cut)
    with RawImage(tmp_path / "m.img", 1 << 20) as image:
        image.write(first.offset, content[:cut])
        image.write(first.end, random.Random(3).randbytes(second.offset - first.end))
        image.write(second.offset, content[cut:])
        taken = RangeSet([Extent(first.end, second.offset - first.end)] if gap_is_known else [])
        guess = FileMap.of((Extent(CLUSTER, len(content)),))
        finding = Finding(
            "deleted", "/", f"x.{kind}", kind, "data", len(content), guess, Times(), ("tables",), 0.1, 1.0, []
        )
        better = reassemble(image, finding, CLUSTER, image.size, taken, Budget())
        assert better is not None and better.extents == (first, second)
        assert image.read_extents(better.extents) == content
        assert better.confidence > 0.8 and better.evidence[0].facts[0] == 2
        spent = Budget(left=1)
        assert gap_is_known or reassemble(image, finding, CLUSTER, image.size, taken, spent) is None


@given(
    parts=st.lists(st.text(st.characters(codec="utf-8", exclude_characters='\\/:*?"<>|\0'), min_size=1), min_size=1),
    size=st.integers(0, 1 << 40),
    version=st.sampled_from([1, 2]),
)
def test_an_index_of_the_bin_is_read_as_it_was_written(parts: list[str], size: int, version: int) -> None:
    parts = [part for part in parts if part.strip(". ")] or ["x"]
    path = "/".join(parts)[:200].rstrip("/. ") or "x"
    got = read_index(windows_index("/" + path, size, dt.datetime(2031, 2, 3), version))
    assert got is not None and got[0] == size
    assert "/".join(got[1]) == "/".join(part for part in path.split("/") if part not in ("", "."))


EMPTIED = """\
recipe = 1
name = "emptied"
title = "A stick whose bin was emptied"
seed = 4
medium.size = "16 MiB"
[[steps]]
do = "format"
file_system = "fat16"
[[steps]]
do = "store"
corpus = { files = 12, kinds = ["jpeg", "ogg", "zip"], size = "4 KiB..30 KiB", names = "camera" }
[[steps]]
do = "bin"
what = ["*"]
acts_as = "windows"
[[steps]]
do = "empty-bin"
acts_as = "windows"
"""


def test_an_index_of_an_emptied_bin_is_no_broken_file_of_what_its_name_ends_in(
    sastrugi: Program, tmp_path: Path
) -> None:
    (tmp_path / "r.toml").write_text(EMPTIED)
    sastrugi("build", tmp_path / "r.toml", "--into", tmp_path / "s")
    sastrugi("scan", tmp_path / "s", "--out", tmp_path / "s.scan")
    with ScanFile.open(tmp_path / "s.scan") as scan:
        indexes = list(scan.findings("state = 'deleted' AND name LIKE '\\_I______.%' ESCAPE '\\'"))
        assert len(indexes) == 12
        assert {one.kind for one in indexes} == {"other"} and not any(one.tells(Clue.FOREIGN_START) for one in indexes)
        assert scan.count("state = 'deleted' AND kind = 'jpeg' AND confidence > 0.9") == 4


@given(st.binary(max_size=700))
def test_no_bytes_at_all_upset_the_index_reader(data: bytes) -> None:
    got = read_index(data)
    assert got is None or all(part and "\0" not in part for part in got[1])


def test_a_finding_that_cannot_be_read_whole_says_so(sastrugi: Program, tmp_path: Path) -> None:
    sastrugi("build", "worn-stick", "--into", tmp_path / "worn")
    sastrugi("scan", tmp_path / "worn", "--out", tmp_path / "worn.scan", code=3)
    with ScanFile.open(tmp_path / "worn.scan") as scan, open_medium(tmp_path / "worn") as medium:
        for finding in scan.findings():
            dead = sum(part.length for extent in finding.extents for part in medium.unreadable.overlap(extent))
            told = finding.tells(Clue.UNREADABLE)
            assert told == bool(dead) and (not dead or finding.confidence <= 0.05)
        assert any(finding.tells(Clue.UNREADABLE) for finding in scan.findings())


@given(
    st.lists(
        st.text(min_size=1, max_size=30).filter(lambda t: "/" not in t and t.strip(". \0")), min_size=1, max_size=5
    )
)
def test_an_index_of_a_linux_bin_is_read_as_it_was_written(parts: list[str]) -> None:
    encodable = [part.encode("utf-8", "replace").decode() for part in parts]
    text = f"[Trash Info]\nPath={quote('/'.join(encodable))}\nDeletionDate=2031-02-14T08:00:00\n"
    assert read_trash_info(text.encode("ascii")) == tuple(encodable)
    assert read_trash_info(text.replace("Path", "Way").encode("ascii")) is None


@given(st.binary(max_size=700))
def test_no_index_of_a_linux_bin_is_trusted_too_far(data: bytes) -> None:
    for path in (read_trash_info(data), read_trash_info(b"[Trash Info]\nPath=" + data)):
        assert path is None or (all(path) and "/" not in path)


@pytest.mark.parametrize("last", [b"\x85" + b"\x31" * 19, b"\xe5ORE    BIN\x20"])
def test_an_end_that_looks_like_a_part_of_a_folder_keeps_nothing_from_its_file(tmp_path: Path, last: bytes) -> None:
    """Files by turns, the last clusters of which hold a few bytes and zeros: a lone entry, or the head of one."""
    copies, dice = tmp_path / "copies", random.Random(6)
    copies.mkdir()
    for n in range(6):
        (copies / f"A{n}.PNG").write_bytes(sample("png", 20_000 + 4000 * n))
        readings = np.frombuffer(dice.randbytes(512 * (30 + 7 * n) - 128), "u1")
        np.save(copies / f"B{n}.NPY", np.append(readings, np.frombuffer(last, "u1")))
    form = {"do": "format", "file_system": "fat32", "cluster": "512 B"}
    store = {"do": "store", "folder": str(copies), "into": "/D", "pieces": 3, "gaps": "interleaved"}
    recipe = {
        "recipe": 1, "name": "ends", "title": "Ends", "seed": 2, "medium": {"size": "40 MiB"}, "steps": [form, store, form]
    }  # fmt: skip
    build(Recipe.model_validate(recipe), tmp_path / "specimen", Progress())
    with open_medium(tmp_path / "specimen" / "medium.img") as medium:
        scan(medium, tmp_path / "m.scan", Progress())
    wanted = {hashlib.sha256(path.read_bytes()).hexdigest(): path.name for path in copies.iterdir()}
    found = came_back(tmp_path / "m.scan", tmp_path / "specimen" / "medium.img")
    assert {wanted[digest] for digest in found if digest in wanted} == {*wanted.values()}
