"""Files in pieces, and folders of earlier lives: what is put together is right or is not claimed to be."""

from __future__ import annotations

import itertools
import random
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from sastrugi.kinds import recognise
from sastrugi.media import Extent, RangeSet
from sastrugi.media.extents import join, total
from sastrugi.media.filemap import FileMap
from sastrugi.media.raw import RawImage
from sastrugi.progress import Progress
from sastrugi.recovery.by_turns import apart, groups, text_clusters, ways
from sastrugi.recovery.findings import Finding
from sastrugi.recovery.habits import Habit
from sastrugi.recovery.placing import Budget
from sastrugi.recovery.previous_volumes import LifeGeometry, find_geometries
from sastrugi.recovery.reassembly import _around, reassemble
from sastrugi.recovery.reassembly_pass import Assembly
from sastrugi.recovery.scan_file import ScanFile
from sastrugi.recovery.sources import MediumSource
from sastrugi.volumes.orphan_folders import LooseFolder, LooseRecord
from sastrugi.volumes.reader import Times
from tests.test_kinds import sample

CLUSTER = 2048
SIZE = 1 << 20
PROVED = ("png", "zip", "gz", "docx")
"""Kinds whose whole content is proved, also one that is measured as another."""


def finding_of(name: str, kind: str, size: int, start: int) -> Finding:
    """What a record without a chain tells: the file lies from its start on in one piece."""
    guess = FileMap.of((Extent(start, size),))
    return Finding("deleted", "/", name, kind, "data", size, guess, Times(), ("tables",), 0.1, 1.0, [], volume=1)


def lay(image: RawImage, content: bytes, clusters: list[int]) -> tuple[Extent, ...]:
    """Write a content on clusters of the medium; its places."""
    extents = []
    for n, cluster in enumerate(clusters):
        part = content[n * CLUSTER : (n + 1) * CLUSTER]
        image.write(cluster * CLUSTER, part)
        extents.append(Extent(cluster * CLUSTER, len(part)))
    return tuple(join(extents))


def scattered(count: int, dice: random.Random, pieces: int, first: int = 2) -> list[int]:
    """`count` clusters in so many runs, each behind the one before."""
    ends = sorted({0, count, *(dice.randrange(1, count) for _ in range(pieces - 1))})
    out: list[int] = []
    at = first
    for lo, hi in itertools.pairwise(ends):
        out += range(at, at + hi - lo)
        at += hi - lo + dice.randint(1, 9)
    return out


@given(
    kind=st.sampled_from(PROVED), seed=st.integers(0, 1 << 32), pieces=st.integers(2, 5), told=st.booleans(),
    harmed=st.booleans(),
)  # fmt: skip
def test_what_is_put_together_is_the_file(
    tmp_path_factory: pytest.TempPathFactory, kind: str, seed: int, pieces: int, told: bool, harmed: bool
) -> None:
    """Around what others own it is found in as many pieces as there are; across a gap in two. A file with a wrong
    byte in it is nowhere proved, so it is never called sound."""
    dice = random.Random(seed)
    content = sample(kind, 40_000)
    clusters = scattered(-(-len(content) // CLUSTER), dice, pieces if told else 2)
    folder = tmp_path_factory.mktemp("pieces")
    with RawImage(folder / "m.img", SIZE) as image:
        image.write(0, dice.randbytes(SIZE))
        places = lay(image, content, clusters)
        taken = RangeSet([Extent(0, SIZE)] if told else [])
        for extent in places if told else ():
            taken.remove(Extent(extent.offset, -(-extent.length // CLUSTER) * CLUSTER))
        if harmed:
            at = places[0].offset + min(len(content) // 3, places[0].length - 1)
            image.write(at, bytes(64))
        budget = Budget()
        found = reassemble(
            image, finding_of(f"a.{kind}", kind, len(content), places[0].offset), CLUSTER, SIZE, taken, budget
        )
        assert budget.tries <= budget.most
        if harmed:
            assert found is None or (image.read_extents(found.extents) != content and not found.sound)
        elif len(places) > 1:
            assert found is not None or not told, "a file that only had to be laid around others"
            if found is not None:
                assert found.extents == places and found.sound == found.size == len(content)
                assert image.read_extents(found.extents) == content


@given(
    taken=st.lists(st.tuples(st.integers(0, 60), st.integers(1, 8)), max_size=12), start=st.integers(0, 40),
    size=st.integers(1, 40_000), end=st.integers(1, 64),
)  # fmt: skip
def test_around_is_cluster_after_cluster(taken: list[tuple[int, int]], start: int, size: int, end: int) -> None:
    claims = RangeSet(Extent(first * CLUSTER, count * CLUSTER) for first, count in taken)
    owned = {cluster for first, count in taken for cluster in range(first, first + count)}
    free = [cluster for cluster in range(start, end) if cluster not in owned]
    wanted = [Extent(cluster * CLUSTER, CLUSTER) for cluster in free[: -(-size // CLUSTER)]]
    around = _around(claims, start * CLUSTER, size, CLUSTER, end * CLUSTER)
    assert total(around) == min(size, len(wanted) * CLUSTER)
    covered = RangeSet(Extent(e.offset, -(-e.length // CLUSTER) * CLUSTER) for e in around)
    assert list(covered) == list(RangeSet(wanted))


def test_files_among_each_other_come_apart(tmp_path: Path) -> None:
    """Files of which each lies in the gaps of the one before: what is proved of one tells where the others are not.
    None is called sound where it is not."""
    right = [sum(come_apart(tmp_path / f"{seed}", seed)) for seed in range(8)]
    assert sum(right) >= 8 and max(right) >= 2, right


def come_apart(folder: Path, seed: int) -> list[bool]:
    """Which of three files are found where they lie."""
    folder.mkdir()
    dice = random.Random(seed)
    contents = {f"{n}.{kind}": sample(kind, 24_000) for n, kind in enumerate(dice.sample(PROVED, 3))}
    free = list(range(2, 400))
    with RawImage(folder / "m.img", SIZE) as image:
        image.write(0, dice.randbytes(SIZE))
        there = {}
        for name, content in contents.items():
            count = -(-len(content) // CLUSTER)
            cut, gap = dice.randrange(1, count), dice.randint(1, 6)
            clusters = free[:cut] + free[cut + gap : cut + gap + count - cut]
            there[name] = lay(image, content, clusters)
            free = [cluster for cluster in free if cluster not in clusters]
        with ScanFile.create(folder / "m.scan", image, ("tables",)) as scan:
            for name, places in there.items():
                scan.add(finding_of(name, name.split(".")[1], len(contents[name]), places[0].offset))
            Assembly(image, scan, {1: (CLUSTER, SIZE)}, []).run(Progress())
            found = {finding.name: finding for finding in scan.findings()}
    right = {name: finding.extents == there[name] for name, finding in found.items()}
    assert not any(finding.sound and not right[name] for name, finding in found.items())
    return list(right.values())


@pytest.mark.parametrize("how", ["holes", "whole", "nothing", "bare"])
def test_what_there_is_nothing_to_guess_of_stays(tmp_path: Path, how: str) -> None:
    content = sample("png", 9_000)
    with RawImage(tmp_path / "m.img", SIZE) as image:
        image.write(4 * CLUSTER, content)
        finding = finding_of("a.png", "png", len(content), 4 * CLUSTER)
        if how == "holes":
            finding = replace(finding, map=FileMap.of(finding.extents, valid=2000))
        elif how == "nothing":
            finding = replace(finding, map=FileMap())
        elif how == "bare":  # no structure speaks for it, and nobody claims its places
            finding = replace(finding, kind="")
        assert reassemble(image, finding, CLUSTER, SIZE, RangeSet(), Budget()) is None


def test_a_budget_ends_the_search(tmp_path: Path) -> None:
    content = sample("jpeg", 60_000)
    with RawImage(tmp_path / "m.img", SIZE) as image:
        image.write(0, random.Random(4).randbytes(SIZE))
        lay(image, content, [*range(2, 9), *range(40, 40 + -(-len(content) // CLUSTER) - 7)])
        budget = Budget(most=12)
        finding = finding_of("a.jpg", "jpeg", len(content), 2 * CLUSTER)
        assert reassemble(image, finding, CLUSTER, SIZE, RangeSet(), budget) is None
        assert budget.spent and budget.tries == 12


# -- geometries of earlier lives --------------------------------------------------------------------------------------


def fat_folders(line: LifeGeometry, numbers: list[int], dice: random.Random) -> list[LooseFolder]:
    """Folders that tell their own cluster, each with some files' records."""
    return [
        LooseFolder(
            line.family, line.offset(number), bytes(512), own=number, parent=0,
            records=[
                LooseRecord(
                    f"F{n}.TXT", False, False, dice.randint(2, 90), 600, Times(), Extent(line.offset(number) + 32 * n, 32), 1.0, ""
                )
                for n in range(3)
            ],
        )
        for number in numbers
    ]  # fmt: skip


@given(
    lives=st.lists(
        st.tuples(st.integers(0, 400), st.sampled_from([512, 1024, 4096, 32768]), st.integers(2, 6)), min_size=1, max_size=3,
        unique_by=lambda life: (life[0] % 8, life[1]),
    ),
    strays=st.integers(0, 3), seed=st.integers(0, 1 << 32),
)  # fmt: skip
def test_two_folders_of_a_life_tell_its_clusters(lives: list[tuple[int, int, int]], strays: int, seed: int) -> None:
    """Of lives over each other, each with its own cluster size and start, every folder goes to one whose line it fits;
    and all folders of a life that no other line explains as well come under its own."""
    dice = random.Random(seed)
    folders: list[LooseFolder] = []
    lines = [LifeGeometry("fat", base * 512, cluster, 0) for base, cluster, _ in lives]
    for line, (_, _, count) in zip(lines, lives, strict=True):
        folders += fat_folders(line, dice.sample(range(3, 400), count), dice)
    for _ in range(strays):
        at = dice.randrange(0, 1 << 15) * 512
        folders.append(LooseFolder("fat", at, bytes(512), own=dice.randint(2, 1 << 20), parent=0))
    head: Callable[[str, int], bool | None] = lambda name, offset: None  # noqa: E731
    found = find_geometries(folders, [], 1 << 26, head)
    told = [(line.base, line.cluster) for line, _ in found]
    for line, own in found:
        assert all(line.offset(folder.own or 0) == folder.offset for folder in own)
    largest = max(lives, key=lambda life: life[2])
    if sum(life[2] == largest[2] for life in lives) == 1 and largest[2] > 3:
        assert (largest[0] * 512, largest[1]) in told
    assert len({id(folder) for _, own in found for folder in own}) == sum(len(own) for _, own in found)


def test_signatures_decide_between_lines(tmp_path: Path) -> None:
    """One folder fits many cluster sizes; where the files it lists begin as their names say, it is the right one."""
    dice = random.Random(5)
    line = LifeGeometry("fat", 64 * 512, 2048, 0)
    folders = fat_folders(line, [9, 30], dice)
    for folder in folders:
        folder.own = None
    begins = {line.offset(record.cluster) for folder in folders for record in folder.records}
    known = [LifeGeometry("fat", 64 * 512, cluster, 0) for cluster in (512, 1024, 2048, 4096)]
    found = find_geometries(folders, known, 1 << 26, lambda name, offset: offset in begins)
    assert [(one.base, one.cluster, len(own)) for one, own in found] == [(64 * 512, 2048, 2)]


@given(
    begun=st.sets(st.integers(0, 5)), misled=st.booleans(), named=st.booleans(),
)  # fmt: skip
def test_texts_decide_where_no_name_calls_for_a_signature(begun: set[int], misled: bool, named: bool) -> None:
    """Three texts that begin by a geometry that can be read are enough to believe it; fewer, or names that call for
    signatures which are not there, are not."""
    line, other = LifeGeometry("exfat", 64 * 512, 2048, 0), LifeGeometry("exfat", 64 * 512, 4096, 0)
    records = [
        LooseRecord(f"T{n}.CSV", False, False, 10 + 3 * n, 5000, Times(), Extent(0, 96), 1.0, "") for n in range(6)
    ]
    folder = LooseFolder("exfat", line.offset(5), bytes(512), own=None, parent=0, records=records)
    begins = {line.offset(records[n].cluster) for n in begun} | ({other.offset(10)} if misled else set())
    head: Callable[[str, int], bool | None] = lambda name, offset: False if named else None  # noqa: E731
    found = find_geometries([folder], [other, line], 1 << 26, head, begins.__contains__)
    wanted = [(line.base, line.cluster)] if len(begun) >= 3 and not named else []
    assert [(one.base, one.cluster) for one, own in found if own] == wanted


# -- where a file breaks ----------------------------------------------------------------------------------------------

GRAIN = {"gz": 1 << 17, "bz2": 1 << 20, "xz": 1 << 17, "zip": 1 << 16, "png": 1 << 20, "flac": 1 << 16}
"""How far behind the first wrong byte it may be told that a file breaks: what has a checksum for a large part tells only
of which part that is."""


@given(kind=st.sampled_from(sorted(GRAIN)), share=st.floats(0.3, 0.9), seed=st.integers(0, 1 << 32))
def test_a_broken_file_says_where_it_breaks(
    tmp_path_factory: pytest.TempPathFactory, kind: str, share: float, seed: int
) -> None:
    """Bytes of another file from some place on: the measure is not whole, and tells a place that is not far behind."""
    content = bytearray(sample(kind, 150_000))
    at = int(len(content) * share) // CLUSTER * CLUSTER
    content[at:] = random.Random(seed).randbytes(len(content) - at)
    with RawImage(tmp_path_factory.mktemp("broken") / "m.img", SIZE) as image:
        image.write(CLUSTER, bytes(content))
        measure = recognise(MediumSource(image, FileMap.of((Extent(CLUSTER, len(content)),))), deep=True)
    if measure is None:
        assert kind in ("bz2", "flac"), "what is begun is known by its beginning"
        return
    assert not measure.whole and measure.rule
    assert measure.breaks_at is not None and 0 < measure.breaks_at <= at + GRAIN[kind]


@pytest.mark.parametrize("kind", PROVED)
def test_a_whole_file_does_not_break(tmp_path: Path, kind: str) -> None:
    content = sample(kind, 150_000)
    with RawImage(tmp_path / "m.img", SIZE) as image:
        image.write(CLUSTER, content + random.Random(1).randbytes(5000))
        measure = recognise(MediumSource(image, FileMap.of((Extent(CLUSTER, len(content) + 5000),))), deep=True)
    assert measure is not None and measure.whole and measure.length == len(content) and measure.breaks_at is None


# -- by turns ---------------------------------------------------------------------------------------------------------


def by_turns(one: bytes, other: bytes, dice: random.Random) -> list[tuple[int, int]]:
    """Two files' clusters in the order in which they are written by turns: which file, which of its clusters."""
    left = [list(range(-(-len(data) // CLUSTER))) for data in (one, other)]
    order: list[tuple[int, int]] = []
    whose = 0
    while any(left):
        for _ in range(dice.randint(1, 4)):
            if left[whose]:
                order.append((whose, left[whose].pop(0)))
        whose = 1 - whose
    return order


@given(seed=st.integers(0, 1 << 32), swapped=st.booleans(), harmed=st.booleans())
def test_a_text_and_another_file_are_told_apart(
    tmp_path_factory: pytest.TempPathFactory, seed: int, swapped: bool, harmed: bool
) -> None:
    """However their clusters alternate, as long as each begins at its own; not where one cluster is neither's."""
    dice = random.Random(seed)
    text = "".join(f"{n:05d} wind {dice.randrange(40)} m/s, drift\n" for n in range(dice.randint(300, 1500))).encode()
    files = [text, sample("png", 30_000)]
    if swapped:
        files.reverse()
    order = by_turns(files[0], files[1], dice)
    with RawImage(tmp_path_factory.mktemp("turns") / "m.img", SIZE) as image:
        for at, (whose, n) in enumerate(order, 5):
            image.write(at * CLUSTER, files[whose][n * CLUSTER : (n + 1) * CLUSTER])
        if harmed:
            image.write(CLUSTER * (5 + len(order) // 2), bytes([1, 2, 3, 200]) * (CLUSTER // 4))
        starts = [CLUSTER * (5 + order.index((whose, 0))) for whose in (0, 1)]
        kinds = [("txt", "png"), ("png", "txt")][swapped]
        both = [
            finding_of(f"a.{kind}", kind, len(data), start)
            for kind, data, start in zip(kinds, files, starts, strict=True)
        ]
        told = list(groups(image, both, CLUSTER, SIZE, RangeSet()))
        parted = [one for group in told for one in apart(image, group, Habit(), Budget())]
        needed = -(-len(files[0]) // CLUSTER)
        if harmed or starts[1] >= starts[0] + needed * CLUSTER:
            lie = {
                kind: [CLUSTER * (5 + n) for n, (whose, _) in enumerate(order) if whose == w]
                for w, kind in enumerate(kinds)
            }
            for one in parted:
                right = [at for e in one.extents for at in range(e.offset, e.end, CLUSTER)] == lie[one.kind]
                assert right or one.confidence < 0.9, "a guess that is not right is not called sure"
            return
        right = {one.name: image.read_extents(one.extents) for one in parted}
        assert right["a.png"] == files[kinds.index("png")], "what is proved"
        assert right.get("a.txt", text) == text


@st.composite
def turns(draw: st.DrawFn) -> tuple[list[bytes], list[int]]:
    """Files that took turns, and whose each cluster is: even turns, or turns of one length each."""
    count = draw(st.integers(2, 4))
    kinds = draw(st.lists(st.sampled_from(["png", "npy", "wav", "zip", "csv"]), min_size=count, max_size=count))
    files = [sample(kind, draw(st.integers(12, 40)) << 10) for kind in kinds]
    needs = [-(-len(data) // CLUSTER) for data in files]
    if draw(st.booleans()):
        number = draw(st.integers(2, 4))
        shares = [[n * (turn + 1) // number - n * turn // number for turn in range(number)] for n in needs]
    else:
        lengths = [draw(st.integers(1, 4)) for _ in needs]
        shares = [[min(length, n - at) for at in range(0, n, length)] for n, length in zip(needs, lengths, strict=True)]
    order = []
    for turn in itertools.zip_longest(*shares, fillvalue=0):
        order += [whose for whose, clusters in enumerate(turn) for _ in range(clusters)]
    return files, order


@given(made=turns(), closed=st.booleans(), seed=st.integers(0, 1 << 32))
def test_files_that_took_turns_are_told_apart(
    tmp_path_factory: pytest.TempPathFactory, made: tuple[list[bytes], list[int]], closed: bool, seed: int
) -> None:
    """The way they took is among those that are tried; what is called proved is right; all of them are, where all but
    one are of kinds that prove themselves and what is behind them is another's."""
    files, order = made
    starts = [CLUSTER * (5 + order.index(whose)) for whose in range(len(files))]
    with RawImage(tmp_path_factory.mktemp("turns") / "m.img", SIZE) as image:
        image.write(0, random.Random(seed).randbytes(SIZE))
        for whose, data in enumerate(files):
            lay(
                image,
                data.ljust(-len(data) % CLUSTER + len(data), b"\0"),
                [5 + n for n, one in enumerate(order) if one == whose],
            )
        findings = []
        for n, (data, start) in enumerate(zip(files, starts, strict=True)):
            measure = recognise(MediumSource(image, FileMap.of((Extent(start, SIZE - start),))))
            findings.append(finding_of(f"{n}", measure.kind if measure else "csv", len(data), start))
        taken = RangeSet([Extent(CLUSTER * (5 + len(order)), CLUSTER)] if closed else [])
        told = list(groups(image, findings, CLUSTER, SIZE, taken))
        if len(told) != 1 or len(told[0].files) != len(files):
            return  # some were at their ends before the last began
        group = told[0]
        assert order in [way.labels.tolist() for way in ways(group.firsts, group.needs)]
        parted = {one.name: one for one in apart(image, group, Habit(), Budget())}
        proved = [one.kind in ("png", "zip") for one in findings]
        for n, data in enumerate(files):
            if proved[n] and str(n) in parted:
                assert image.read_extents(parted[str(n)].extents) == data
        if closed and sum(proved) >= len(files) - 1 and proved[0]:
            assert [image.read_extents(parted[str(n)].extents) for n in range(len(files))] == files


@pytest.mark.parametrize(
    ("behind", "taken", "closed"),
    [(b"", False, True), (b"\0" * CLUSTER, False, True), (b"\0" * 700 + b"x", False, False), (b"x", True, True)],
)
def test_a_group_is_closed_by_what_is_anothers_or_nobodys(
    tmp_path: Path, behind: bytes, taken: bool, closed: bool
) -> None:
    """And two groups that follow each other close the first one."""
    with RawImage(tmp_path / "m.img", SIZE) as image:
        image.write(2 * CLUSTER, random.Random(1).randbytes(20 * CLUSTER))
        image.write(22 * CLUSTER, behind)
        starts = (2, 5, 12, 15)
        files = [finding_of(str(n), "npy", 5 * CLUSTER - n, start * CLUSTER) for n, start in enumerate(starts)]
        others = RangeSet([Extent(22 * CLUSTER, CLUSTER)] if taken else [])
        told = list(groups(image, files, CLUSTER, SIZE, others))
        assert [[one.name for one in group.files] for group in told] == [["0", "1"], ["2", "3"]]
        assert [group.closed for group in told] == [True, closed]
        assert told[1].places == tuple(range(12 * CLUSTER, 22 * CLUSTER, CLUSTER))


def test_those_beside_them_tell_how_files_took_turns() -> None:
    """A habit is what nearly all of the nearest groups did; not what one did, nor what groups far away did."""
    habit = Habit()
    assert not habit.near(5)
    habit.learn(10, ["a", "b"])
    assert not habit.near(5)
    for place in (20, 30):
        habit.learn(place, ["b"])
    assert habit.near(5) == {"b"}
    for place in range(1000, 1010):
        habit.learn(place, ["c"])
    assert habit.near(5) == set() and habit.near(1005) == {"c"}


@given(
    kind=st.sampled_from(["png", "gz", "zip", "flac"]),
    length=st.integers(1, 4),
    gap=st.integers(1, 6),
    seed=st.integers(0, 99),
)
def test_pieces_of_one_length_are_found(
    tmp_path_factory: pytest.TempPathFactory, kind: str, length: int, gap: int, seed: int
) -> None:
    """A file whose turns were always as long, of which nothing else tells: also where a wrong piece shows late."""
    content = sample(kind, 40_000)
    clusters = [5 + n // length * (length + gap) + n % length for n in range(-(-len(content) // CLUSTER))]
    with RawImage(tmp_path_factory.mktemp("turns") / "m.img", SIZE) as image:
        image.write(0, random.Random(seed).randbytes(SIZE))
        places = lay(image, content, clusters)
        finding = finding_of(f"a.{kind}", kind, len(content), places[0].offset)
        found = reassemble(image, finding, CLUSTER, SIZE, RangeSet(), Budget())
        assert found is not None and found.extents == places and image.read_extents(found.extents) == content


@given(data=st.binary(max_size=4 * CLUSTER), tail=st.integers(0, CLUSTER))
def test_clusters_of_text(data: bytes, tail: int) -> None:
    """Of any bytes: those are text that hold some, no control characters but those of texts, and zeros behind alone."""
    data = data[: max(len(data) - tail, 0)] + bytes(min(tail, len(data)))
    padded = np.frombuffer(data.ljust(-(-len(data) // CLUSTER) * CLUSTER, b"\0"), np.uint8)
    seen = text_clusters(padded.reshape(-1, CLUSTER)).tolist()
    rows = [data[at : at + CLUSTER].rstrip(b"\0") for at in range(0, len(data), CLUSTER)]
    allowed = {9, 10, 12, 13, *range(32, 127), *range(128, 256)}
    assert seen == [bool(row) and set(row) <= allowed for row in rows]


@given(seed=st.integers(0, 1 << 20), even=st.booleans(), count=st.integers(6, 12))
def test_beginnings_tell_of_turns_that_no_content_proves(
    tmp_path_factory: pytest.TempPathFactory, seed: int, even: bool, count: int
) -> None:
    """Pairs of sounds and arrays: that all begin where two even turns have them tells how they lie; where they begin
    anywhere, nothing does, and no pair is called sure."""
    dice = random.Random(seed)
    findings, there, at = [], {}, 5
    with RawImage(tmp_path_factory.mktemp("turns") / "m.img", 8 * SIZE) as image:
        for n in range(count):
            pair = [sample(kind, dice.randint(20, 60) << 10) for kind in dice.sample(["wav", "npy"], 2)]
            needs = [-(-len(data) // CLUSTER) for data in pair]
            cut = [need // 2 if even else dice.randrange(1, need) for need in needs]
            order = [0] * cut[0] + [1] * cut[1] + [0] * (needs[0] - cut[0]) + [1] * (needs[1] - cut[1])
            for whose, data in enumerate(pair):
                lie = [at + n for n, one in enumerate(order) if one == whose]
                places = lay(image, data.ljust(needs[whose] * CLUSTER, b"\0"), lie)
                name = f"{n}-{whose}"
                kind = "wav" if data[:4] == b"RIFF" else "npy"
                findings.append(finding_of(name, kind, len(data), places[0].offset))
                there[name] = lie
            at += len(order)
        habit, budget = Habit(), Budget(1 << 30, 1 << 20)
        told = list(groups(image, findings, CLUSTER, 8 * SIZE, RangeSet([Extent(at * CLUSTER, CLUSTER)])))
        for group in told:
            group.offer_to(habit)
        parted = [one for group in told for one in apart(image, group, habit, budget)]
        right = [
            [p for e in one.extents for p in range(e.offset // CLUSTER, -(-e.end // CLUSTER))] == there[one.name]
            for one in parted
        ]
        assert all(right) and len(parted) >= 2 * len(told) if even else all(one.confidence < 0.9 for one in parted)
