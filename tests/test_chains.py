"""Files that nothing proves, on the chain of clusters that goes together best: the lattice against all chains that there
are, texts and other files woven together, and what stands behind an end."""

from __future__ import annotations

import itertools
import math
import random
from bisect import bisect_left
from collections.abc import Sequence
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from numpy.typing import NDArray

from sastrugi.media import Extent, RangeSet, open_medium
from sastrugi.media.extents import total
from sastrugi.media.filemap import FileMap
from sastrugi.media.raw import RawImage
from sastrugi.progress import Progress
from sastrugi.recovery.byte_chains import ByteReading
from sastrugi.recovery.chains import CLEARLY, Chains, Reading
from sastrugi.recovery.cluster_looks import IN_TEXT
from sastrugi.recovery.confidence import _by_its_end
from sastrugi.recovery.effort import Effort
from sastrugi.recovery.evidence import Clue, Evidence
from sastrugi.recovery.scan import scan
from sastrugi.recovery.scan_file import ScanFile
from sastrugi.recovery.text_chains import TextReading, text_lengths
from sastrugi.recovery.text_seams import Seams, TextCluster
from tests.conftest import Program
from tests.test_kinds import sample
from tests.test_pieces import CLUSTER, SIZE, finding_of, lay


class Thrown(Reading[bytes, bytes]):
    """Clusters whose seams are thrown: the first byte is a cluster's number, the second whether a file can end there."""

    seam = taken_apart = of_byte = looked_at = 1.0
    smooth = math.inf

    def __init__(self, bits: NDArray[np.float64]) -> None:
        self._bits = bits

    def looks(self, rows: NDArray[np.uint8]) -> list[bytes]:
        return [row[:2].tobytes() for row in rows]

    def is_inside(self, look: bytes) -> bool:
        return True

    def ends(self, look: bytes, rest: int) -> bool:
        return look[1] == 1

    def apart(self, data: bytes) -> bytes:
        return data

    def last(self, data: bytes) -> bytes:
        return data

    def bits(self, a: bytes, b: bytes) -> float:
        return float(self._bits[a[0], b[0]])


@given(count=st.integers(2, 9), need=st.integers(2, 6), seed=st.integers(0, 1 << 20), owned=st.sets(st.integers(1, 8)))
def test_no_chain_is_better_than_the_best(
    tmp_path_factory: pytest.TempPathFactory, count: int, need: int, seed: int, owned: set[int]
) -> None:
    """Against all chains there are, one by one: the best of them, and its share of all."""
    dice = np.random.default_rng(seed)
    bits = dice.normal(0, 4, (count, count))
    ends = dice.random(count) < 0.5
    free = [n for n in range(count) if n not in owned]
    with RawImage(tmp_path_factory.mktemp("best") / "m.img", 16 * 512) as image:
        for n in range(count):
            image.write(n * 512, bytes([n, int(ends[n]), 255]))
        taken = RangeSet(Extent(n * 512, 512) for n in owned)
        chains = Chains(Thrown(bits), image, 512, count * 512, (), Effort(math.inf))
        found = chains.find(finding_of("a", "other", need * 512 - 100, 0), taken)

    def whoever(seam: float) -> float:
        return math.log2(0.05 + 0.95 * 2**seam)

    def parting(a: int, b: int) -> float:
        """A piece ends between two clusters, which nothing tells where they are no neighbours."""
        both = b == a + 1 and a in free and b in free
        return math.log2(0.05) - whoever(min(bits[a, b], 8.0)) if both else 0.0

    def worth(chain: Sequence[int]) -> float:
        out = 0.0
        for a, b in itertools.pairwise(chain):
            seam = min(bits[a, b], 8.0)
            skipped = bisect_left(free, b) - bisect_left(free, a)
            if b == a + 1:
                out += seam - whoever(seam)
            elif skipped == 1 and b != chain[-1]:
                out += seam - 1.0
            else:
                out += seam + parting(a, a + 1) + parting(b - 1, b) - 2.0 - 0.5 * math.log2(skipped)
        return out

    every = {chain: worth(chain) for chain in itertools.combinations(free, need) if chain[0] == 0 and ends[chain[-1]]}
    if not every:
        assert found is None
        return
    assert found is not None
    best = tuple(place // 512 for place in found.places)
    share = 2 ** every[best] / sum(2**told for told in every.values())
    assert every[best] == pytest.approx(max(every.values()))
    assert found.probability == pytest.approx(share, rel=1e-6)


def woven(image: RawImage, contents: Sequence[bytes], dice: random.Random) -> list[list[int]]:
    """Write files by turns, up to eight clusters at a time; the clusters of each."""
    out: list[list[int]] = [[] for _ in contents]
    at = 2
    while left := [n for n, one in enumerate(contents) if len(out[n]) * CLUSTER < len(one)]:
        number = dice.choice(left)
        for _ in range(dice.randint(1, 8)):
            if len(out[number]) * CLUSTER < len(contents[number]):
                out[number].append(at)
                at += 1
    for content, clusters in zip(contents, out, strict=True):
        lay(image, content, clusters)
    return out


TEXTS = ("csv", "log", "json", "xml", "gpx", "mbox", "txt", "svg")
OTHERS = ("wav", "bmp", "psd", "npy", "elf", "tiff", "mo", "aiff")


@pytest.mark.parametrize(("kinds", "least", "sure"), [(TEXTS, 0.85, 0.95), (OTHERS, 0.25, 0.8)])
def test_files_that_were_woven_come_apart(tmp_path: Path, kinds: tuple[str, ...], least: float, sure: float) -> None:
    """Most of them are clear, and what is clear is right."""
    dice = random.Random(11)
    clear = right = tried = 0
    for turn in range(10):
        contents = [sample(kind, dice.randint(9_000, 60_000), turn) for kind in dice.sample(kinds, 4)]
        image = RawImage(tmp_path / f"{turn}.img", SIZE)
        whose = woven(image, contents, dice)
        walls = {clusters[0] * CLUSTER for clusters in whose}
        taken = RangeSet()
        sort: Reading[object, object] = (TextReading if kinds == TEXTS else ByteReading)(CLUSTER)  # type: ignore[assignment]
        chains = Chains(sort, image, CLUSTER, SIZE, walls, Effort(math.inf))
        for content, clusters in sorted(zip(contents, whose, strict=True), key=lambda one: len(one[0])):
            if len(content) % CLUSTER % 512 == 0:
                continue
            tried += 1
            one = finding_of("a", "other", len(content), clusters[0] * CLUSTER)
            chain = chains.find(one, taken)
            if chain is None or chain.probability < CLEARLY:
                continue
            clear += 1
            laid = chain.laid(one, CLUSTER)
            assert total(laid.extents) == laid.size == laid.sound == len(content)
            right += image.read_extents(laid.extents) == content
            for extent in laid.extents:
                taken.add(extent)
        image.close()
    assert clear >= least * tried and right >= sure * clear, (right, clear, tried)


@given(rows=st.lists(st.binary(max_size=1024), min_size=1, max_size=4), text=st.integers(0, 1024))
def test_bytes_of_text_that_a_cluster_begins_with(rows: list[bytes], text: int) -> None:
    """Against a loop over its bytes."""
    told = [((b"snow" * 256)[:text] + row).ljust(2048, b"\0")[:1024] for row in rows]
    lengths = text_lengths(np.frombuffer(b"".join(told), np.uint8).reshape(-1, 1024))
    for row, length in zip(told, lengths, strict=True):
        behind = next((n for n, byte in enumerate(row) if not IN_TEXT[byte]), 1024)
        clear = not row[behind : -(-behind // 512) * 512].strip(b"\0")
        assert length == (behind if clear else 0)


@given(a=st.binary(min_size=1, max_size=700), b=st.binary(min_size=1, max_size=700))
def test_any_bytes_have_a_seam(a: bytes, b: bytes) -> None:
    """Whatever they are: a number of bits comes of it, and the same once more."""
    for data in ((a, b), (b"2031-02-03 -11.5 C\n" * 30, a), (b'a,"b",c\n' * 40, b'd,"e",f\n' * 40)):
        seams = Seams()
        one, other = (TextCluster(part) for part in data)
        seams.learn(one)
        told = seams.bits(one, other)
        assert math.isfinite(told) and seams.bits(TextCluster(data[0]), TextCluster(data[1])) == told
        reading = ByteReading(512)
        assert math.isfinite(reading.bits(reading.apart(data[0]), reading.last(data[1])))


def test_a_seam_in_a_line_is_told_from_one_between_files() -> None:
    """A line of a log goes on with its own rest, and not with that of another log, a table or a page."""
    log = b"".join(b"2031-02-%02d 06:%02d wind %d m/s at the tower\n" % (n % 28, n % 60, n % 9) for n in range(400))
    table = b"".join(b"%d,%d,%d,snow pit\n" % (n, n * 7, n % 5) for n in range(900))
    page = b"<p>The trench was dug out again, and the cores were packed.</p>\n" * 80
    seams = Seams()
    parts = [TextCluster(data[at : at + 1000]) for data in (log, table, page) for at in range(0, 5000, 1000)]
    for part in parts:
        seams.learn(part)
    for n in (1, 6, 11):
        own = seams.bits(parts[n], parts[n + 1])
        assert own > 0 and all(own > seams.bits(parts[n], parts[k]) + 4 for k in range(15) if k // 5 != n // 5)


RECIPE = """
recipe = 1
name = "notes"
title = "Notes that four programs wrote at once"
seed = 3
medium.size = "16 MiB"
[[steps]]
do = "format"
file_system = "{file_system}"
cluster = "2 KiB"
[[steps]]
do = "store"
into = "/Notes"
writers = 4
chunk = "2 KiB..16 KiB"
corpus = {{ files = 40, kinds = ["csv", "log", "json", "gpx", "mbox", "txt", "eml", "xml"], size = "6 KiB..90 KiB" }}
[[steps]]
{loss}
"""
FORMAT = 'do = "format"\nfile_system = "exfat"\ncluster = "2 KiB"'
DELETE = 'do = "delete"\nwhat = ["/Notes/*"]'


@pytest.mark.parametrize(("file_system", "loss"), [("fat16", DELETE), ("exfat", FORMAT)])
def test_texts_that_four_programs_wrote_at_once_come_back(
    sastrugi: Program, tmp_path: Path, file_system: str, loss: str
) -> None:
    """By the command: nearly all of them, and the reasons say how."""
    (tmp_path / "r.toml").write_text(RECIPE.format(file_system=file_system, loss=loss))
    sastrugi("build", tmp_path / "r.toml", "--into", tmp_path / "s")
    sastrugi("scan", tmp_path / "s", "--out", tmp_path / "s.scan", code=None)
    sastrugi("score", tmp_path / "s", tmp_path / "s.scan", "--floor", "intact=85%")
    told = sastrugi("list", tmp_path / "s.scan", "--state", "deleted", "--why", code=None).out
    assert "on the chain of clusters that goes together best" in " ".join(told.split())


def test_what_was_found_is_laid_where_the_effort_ends(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, sastrugi: Program
) -> None:
    """The effort ends within the first round, behind the first chain."""
    (tmp_path / "r.toml").write_text(RECIPE.format(file_system="fat16", loss=DELETE))
    sastrugi("build", tmp_path / "r.toml", "--into", tmp_path / "s")
    find, found = Chains.find, []

    def once(self: Chains[object, object], *words: object) -> object:
        chain = find(self, *words)  # type: ignore[arg-type]
        if chain is not None:
            found.append(chain.places)
            self._effort.left = -1.0
        return chain

    monkeypatch.setattr(Chains, "find", once)
    with open_medium(tmp_path / "s" / "medium.img") as medium:
        scan(medium, tmp_path / "s.scan", Progress())
    with ScanFile.open(tmp_path / "s.scan") as file:
        laid = [one for one in file.findings() if one.tells(Clue.READS_ON)]
    assert found[0][0] in {one.map.start for one in laid}


@given(rest=st.integers(1, 511), behind=st.sampled_from([b"", b"x", b"\0\0x"]))
def test_what_stands_behind_an_end_tells(
    tmp_path_factory: pytest.TempPathFactory, rest: int, behind: bytes
) -> None:  # fmt: skip
    """Zeros begin right there, or what stands there goes on."""
    size = 2048 + rest
    seen: list[Evidence] = []
    with RawImage(tmp_path_factory.mktemp("end") / "m.img", 8192) as image:
        image.write(1024, b"snow" * (size // 4) + b"snow"[: size % 4])
        image.write(1024 + size, behind)
        where = FileMap.of((Extent(1024, size),))
        sure, sound = _by_its_end(image, where, None, 0.8, size, seen)
    room = 512 - rest
    if behind and room >= len(behind):
        assert [one.clue for one in seen] == [Clue.RUNS_ON] and sure <= 0.3 and not sound
    elif room >= 8 or not behind:
        assert [one.clue for one in seen] == ([Clue.ENDS_THERE] if room >= 8 else []) and sound == size
