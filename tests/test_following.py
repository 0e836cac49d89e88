"""Files followed from piece to piece: what is right is never called wrong, and foreign bytes are told soon."""

from __future__ import annotations

import io
import random
import zipfile
from functools import cache
from itertools import accumulate
from pathlib import Path
from typing import Any

import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st
from PIL import Image

from sastrugi.kinds import all_kinds
from sastrugi.kinds.following import Follower
from sastrugi.kinds.registry import measuring_kind
from sastrugi.media import Extent, RangeSet
from sastrugi.media.extents import join
from sastrugi.media.filemap import FileMap
from sastrugi.media.raw import RawImage
from sastrugi.recovery.effort import Effort
from sastrugi.recovery.evidence import Clue
from sastrugi.recovery.findings import Finding
from sastrugi.recovery.follow import follow
from sastrugi.recovery.placing import Budget
from sastrugi.specimen.truth import Specimen
from sastrugi.volumes.reader import Times
from tests.conftest import Program
from tests.test_kinds import sample as made

FOLLOWED = {name: measuring_kind(kind).follow for name, kind in all_kinds().items() if measuring_kind(kind).follow}
TELLING = ("flac", "mp3", "png", "docx", "mkv", "webm", "avi", "ts", "mpg", "ogg", "gif", "mp4", "mov", "gz", "jpeg")
"""Kinds of which any break shows, wherever pieces end."""
FAR_APART = ("mkv", "avi", "ogg")
CLUSTER = 2048
sample = cache(made)
FEW = settings(max_examples=6)


def begun(kind: str) -> Follower:
    follower = FOLLOWED[kind]
    assert follower is not None
    return follower()


def fed(follower: Follower, data: bytes, lengths: list[int]) -> Follower:
    at = 0
    for end in [*accumulate(lengths), len(data)]:
        follower.feed(data[at:end])
        at = max(at, min(end, len(data)))
    return follower


@pytest.mark.parametrize("kind", FOLLOWED)
@FEW
@given(
    size=st.sampled_from([3_000, 60_000, 300_000]), step=st.sampled_from([61, 512, 4096, 65536]), seed=st.integers(0, 3)
)
def test_a_right_file_is_right_to_its_end_however_it_comes(kind: str, size: int, step: int, seed: int) -> None:
    content = sample(kind, size, seed)
    whole, parts = begun(kind), begun(kind)
    whole.feed(content)
    for at in range(0, len(content), step):
        parts.feed(content[at : at + step])
    assert told(parts) == told(whole)
    assert whole.suspected or whole.wrong is None or whole.wrong > len(content)
    assert whole.suspected or not whole.ends or whole.end == len(content)
    assert whole.end in (None, len(content)) and whole.right <= whole.fed == len(content)
    half = begun(kind)
    half.feed(content[: len(content) // 2])
    copied = half.copy()
    half.feed(bytes(70_000))
    copied.feed(content[len(content) // 2 :])
    assert told(copied) == told(whole)


def told(follower: Follower) -> tuple[object, ...]:
    return follower.end, follower.right, follower.suspected, round(follower.bits, 3), follower.unseen


@pytest.mark.parametrize("kind", FOLLOWED)
@pytest.mark.parametrize("cluster", [512, 4096])
def test_a_glance_refuses_nothing_that_goes_on(kind: str, cluster: int) -> None:
    """And what it refuses is wrong when it is looked at."""
    content, dice = sample(kind, 200_000), random.Random(1)
    follower, refused = begun(kind), 0
    for at in range(0, len(content), cluster):
        part, foreign = content[at : at + cluster], dice.randbytes(cluster)
        assert follower.could_go_on(part), at
        if not follower.could_go_on(foreign):
            other = follower.copy()
            other.feed(foreign + dice.randbytes(200))
            assert other.wrong is not None
            refused += 1
        follower.feed(part)
        if follower.wrong is not None or follower.end is not None:
            break
    assert refused or kind not in ("mp3", "avi", "ts", "mpg", "mkv", "webm", "ogg", "opus")


def test_few_photographs_seem_to_become_others() -> None:
    """A horizon, the edge of a thing, and where snow begins are no seams."""
    suspected = 0
    for seed in range(12):
        follower = begun("jpeg")
        follower.feed(sample("jpeg", (25_000, 60_000, 200_000)[seed % 3], seed))
        suspected += follower.wrong is not None
    assert suspected <= 1


@pytest.mark.parametrize("kind", TELLING)
@FEW
@given(cut=st.integers(3, 60), seed=st.integers(0, 99))
def test_foreign_bytes_are_never_right(kind: str, cut: int, seed: int) -> None:
    """What breaks is told behind the cut, never in front of it; and nothing behind it is called right."""
    content = sample(kind, 300_000)
    cut = min(cut, len(content) // CLUSTER - 1)
    follower = begun(kind)
    follower.feed(content[: cut * CLUSTER])
    if follower.wrong is not None and follower.suspected:
        return
    assert follower.wrong is None
    before = follower.bits
    follower.feed(random.Random(seed).randbytes(256 << 10))
    assert follower.right < cut * CLUSTER + 1024 or follower.bits < before + 10, "but by chance"
    assert follower.wrong is None or follower.wrong > cut * CLUSTER
    assert follower.end is None
    if kind not in ("png", "docx", "gz", "mp4", "mov"):
        assert follower.wrong is not None, "within a quarter of a mebibyte"


@given(kind=st.sampled_from(sorted(FOLLOWED)), data=st.binary(max_size=3000), keep=st.integers(0, 600))
def test_any_bytes_are_followed_without_harm(kind: str, data: bytes, keep: int) -> None:
    content = sample(kind, 3_000)[:keep]
    follower = fed(begun(kind), content + data, [keep, 100, 1])
    follower.copy().feed(data)
    follower.forgiven().feed(data)
    assert follower.fed == len(content + data) and follower.bits < 1e6
    assert follower.may_be_ahead(data) in (True, False) and follower.learn(data) in (True, False)


@example(at=21, value=0x7F)  # a difference of 127 bits
@given(at=st.integers(0, 700), value=st.integers(0, 255))
def test_a_photograph_with_any_header_is_followed_without_harm(at: int, value: int) -> None:
    """Its tables say how many bits are read: whatever they say."""
    out = io.BytesIO()
    Image.effect_noise((320, 240), 40).save(out, "JPEG")
    content = bytearray(out.getvalue())
    tables = content.find(b"\xff\xc4")
    content[tables + at] = value
    assert fed(begun("jpeg"), bytes(content), [4096]).fed == len(content)


def woven(kind: str, size: int, dice: random.Random, image: RawImage) -> tuple[bytes, list[Extent]]:
    """A file in chunks of any length, among others of noise and text."""
    content = sample(kind, size)
    clusters = -(-len(content) // CLUSTER)
    places: list[int] = []
    at = 8
    while len(places) < clusters:
        run = min(dice.randint(2, 40), clusters - len(places))
        places += range(at, at + run)
        at += run + dice.randint(1, 60)
    noise, text = dice.randbytes(image.size), b"by noon the stake stands\n" * (image.size // 25)
    for start in range(0, at + 8, 7):
        part = dice.choice((noise, text))
        image.write(start * CLUSTER, part[start * CLUSTER : (start + 7) * CLUSTER])
    for n, place in enumerate(places):
        image.write(place * CLUSTER, content[n * CLUSTER : (n + 1) * CLUSTER].ljust(CLUSTER, b"\0"))
    return content, list(join(Extent(place * CLUSTER, CLUSTER) for place in places))


@pytest.mark.parametrize("seed", [1, 2])
@pytest.mark.parametrize("kind", ["flac", "mp3", "png", "mkv", "avi", "ts", "mpg", "ogg"])
def test_a_file_written_by_turns_of_any_length_is_followed(tmp_path: Path, kind: str, seed: int) -> None:
    """Whatever lengths its pieces and the gaps between them have; where checks are so far apart that several ways pass
    them, none is sure."""
    dice = random.Random(seed)
    with RawImage(tmp_path / "m.img", 2 << 20) as image:
        content, places = woven(kind, 250_000, dice, image)
        guess = FileMap.of((Extent(places[0].offset, len(content)),))
        lost = Finding(
            "deleted", "/", f"x.{kind}", kind, "data", len(content), guess, Times(), ("tables",), 0.1, 1.0, []
        )
        effort = Effort(3e9)
        found = follow(image, lost, CLUSTER, image.size, RangeSet(), Budget(1 << 40, 1000, 0, effort))
        assert effort.left < 3e9
        right = found is not None and found.map.read(image, 0, found.size) == content
        assert right or (kind in FAR_APART and (found is None or not found.sure))


@pytest.mark.parametrize("kind", ["ts", "mpg", "mp3"])
def test_a_stream_of_which_nothing_tells_the_length_comes_to_where_nothing_goes_on(tmp_path: Path, kind: str) -> None:
    """Found by its head alone. Its end is a guess, and is told as one."""
    with RawImage(tmp_path / "m.img", 2 << 20) as image:
        content, places = woven(kind, 250_000, random.Random(3), image)
        head = FileMap.of((Extent(places[0].offset, places[0].length),))
        found = Finding("found", "/", f"x.{kind}", kind, "data", head.reach, head, Times(), ("content",), 0.1, 1.0, [])
        budget = Budget(1 << 40, 1 << 20)
        came = follow(image, found, CLUSTER, image.size, RangeSet(), budget, patience=2.0)
        assert came is not None and came.map.read(image, 0, came.size) == content
        if kind == "ts":  # the others say it themselves: by a mark, and by how many frames the first announces
            assert came.tells(Clue.GUESSED_END)
            early = follow(image, found, CLUSTER, image.size, RangeSet(), budget, patience=0.5)
            assert early is None, "before others had their turn"


@pytest.mark.parametrize("method", [zipfile.ZIP_STORED, zipfile.ZIP_DEFLATED])
def test_a_picture_in_an_archive_shows_where_another_begins(method: int) -> None:
    """Long before the checksum of its entry does; a right one is right."""
    archives = []
    for seed in (1, 2):
        out = io.BytesIO()
        with zipfile.ZipFile(out, "w", method) as archive:
            archive.writestr("first.txt", "the stakes of the ridge\n" * 200)
            archive.writestr("photo.jpg", sample("jpeg", 300_000, seed))
        archives.append(out.getvalue())
    right, other = archives
    whole = begun("zip")
    whole.feed(right)
    assert whole.end == len(right)
    cut = len(right) // 3 // CLUSTER * CLUSTER
    follower = begun("zip")
    follower.feed(right[:cut])
    follower.feed(other[cut + 5 * CLUSTER :][: 64 << 10])
    assert follower.wrong is not None and cut < follower.wrong < cut + (48 << 10)


def test_an_index_behind_the_media_is_found_first(tmp_path: Path) -> None:
    """A film's pictures can be followed only by its index, which stands behind them, in a piece of its own."""
    content = sample("mov", 200_000)
    cut, tail = 30 * CLUSTER, len(content) // CLUSTER * CLUSTER
    with RawImage(tmp_path / "m.img", 2 << 20) as image:
        image.write(0, random.Random(1).randbytes(2 << 20))
        places = [Extent(CLUSTER, cut), Extent(50 * CLUSTER, tail - cut), Extent(400 * CLUSTER, len(content) - tail)]
        at = 0
        for place in places:
            image.write(place.offset, content[at : at + place.length])
            at += place.length
        guess = FileMap.of((Extent(CLUSTER, len(content)),))
        lost = Finding("deleted", "/", "x.mov", "mov", "data", len(content), guess, Times(), ("tables",), 0.1, 1.0, [])
        found = follow(image, lost, CLUSTER, image.size, RangeSet(), Budget(1 << 40, 1000), patience=4.0)
        assert found is not None
        last = found.extents[-1]
        assert last.end == places[-1].end, "its index was found"


RECIPE = """\
recipe = 1
name = "woven"
title = "A camp disk that four programs wrote to at once"
seed = 5
medium.size = "48 MiB"
[[steps]]
do = "format"
file_system = "{file_system}"
cluster = "4 KiB"
[[steps]]
do = "store"
into = "/Day"
writers = 4
chunk = "8 KiB..128 KiB"
corpus = {{ files = 24, kinds = ["flac", "mp3", "png", "webm", "ts", "docx"], size = "60 KiB..900 KiB" }}
[[steps]]
do = "delete"
what = ["/Day/*"]
"""


@pytest.mark.parametrize(("file_system", "floor", "named"), [("fat16", 75, 90), ("exfat", 90, 95), ("hfs+", 75, 0)])
def test_files_that_four_programs_wrote_at_once_come_back(
    sastrugi: Program, tmp_path: Path, file_system: str, floor: int, named: int
) -> None:
    """By the command, on a medium of its own: nearly all that lie in many pieces, and nothing sure that is wrong."""
    (tmp_path / "r.toml").write_text(RECIPE.format(file_system=file_system))
    sastrugi("build", tmp_path / "r.toml", "--into", tmp_path / "s")
    sastrugi("scan", tmp_path / "s", "--out", tmp_path / "s.scan", code=None)
    with Specimen(tmp_path / "s") as specimen:
        lost = [one for one in specimen.truth.files if not one.standing and one.ceiling.intact]
        assert sum(len(one.extents) > 3 for one in lost) >= 8
    floors = ("--floor", f"intact={floor}%", "--floor", f"named={named}%")
    sastrugi("score", tmp_path / "s", tmp_path / "s.scan", *floors)


def test_why_not_says_how_far_a_search_comes_and_what_it_lacks(sastrugi: Program, tmp_path: Path) -> None:
    """A whole file, one whose later clusters were given away, one that needs more effort, and one that shows nothing."""
    (tmp_path / "r.toml").write_text(RECIPE.format(file_system="fat16").replace('"docx"]', '"txt"]'))
    sastrugi("build", tmp_path / "r.toml", "--into", tmp_path / "s")
    sastrugi("scan", tmp_path / "s", "--out", tmp_path / "s.scan", "--effort", 0)
    with Specimen(tmp_path / "s") as specimen:
        files = [one for one in specimen.truth.files if len(one.extents) > 2]
        image = specimen.folder / "medium.img"
        png, flac, text = (next(one for one in files if one.kind == kind) for kind in ("png", "flac", "txt"))

    def told(name: str) -> Any:
        (one,) = sastrugi("list", tmp_path / "s.scan", "--name", name, "--state", "deleted", "--why-not", "--json").json
        return one

    right = told(Path(png.path).name)
    assert right["better"] == [list(extent) for extent in png.extents] and not right["content"]["whole"]
    assert not told(Path(text.path).name)["can_be_followed"]
    with image.open("r+b") as file:  # its last piece is gone
        file.seek(flac.extents[-1].offset)
        file.write(random.Random(2).randbytes(flac.extents[-1].length))
    broken = told(Path(flac.path).name)
    behind = flac.size - flac.extents[-1].length
    assert broken["better"] is None and behind - 4096 <= broken["reached"] <= behind + 20_000
    assert broken["clusters_tried"] > 100 and broken["gained"] < broken["needed"]
    words = ("list", tmp_path / "s.scan", "--state", "deleted", "--why-not")
    said = " ".join(sastrugi(*words, "--name", Path(flac.path).name).out.split())
    assert f"to byte {broken['reached']:,}" in said and "bits of the 18 that are needed" in said
    assert "pick a few" in sastrugi(*words, code=2).err
