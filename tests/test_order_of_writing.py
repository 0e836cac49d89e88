"""Names without a place and content without a name, joined by the order in which files were written."""

from __future__ import annotations

import random
from collections.abc import Iterator
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from sastrugi.kinds.registry import kind_named
from sastrugi.recovery.evidence import Clue
from sastrugi.recovery.findings import Finding
from sastrugi.recovery.order_of_writing import Piece, Slot, agreement, align
from sastrugi.recovery.scan_file import ScanFile
from sastrugi.scenario.dice import Dice
from sastrugi.volumes.reader import Numbered, Times
from tests.conftest import Program
from tests.disks import Disk
from tests.test_hfsplus import new_disk

KINDS = {"png": "png", "txt": "txt", "pdf": "pdf", "xq7": "", "jpg": "jpeg"}


def piece(n: int, kind: str) -> Piece:
    """A stretch of content of a kind; of none where that is empty."""
    finding = (
        Finding("found", "/", "x", kind, "data", 1, Numbered(0, None, False, None), Times(), (), 0.9, 0.0)
        if kind
        else None
    )  # type: ignore[arg-type]
    return Piece(n * 4096, (n + 1) * 4096, finding)


def slot(n: int, extension: str) -> Slot:
    path = ("Season", f"core {n}.{extension}") if extension else None
    return Slot(n, Numbered(n, path, False, None))


def test_names_and_kinds_agree_or_not() -> None:
    for extension, kind, good in (
        ("png", "png", True), ("png", "pdf", False), ("jpg", "jpeg", True), ("html", "txt", True), ("xq7", "txt", True),
        ("xq7", "", True), ("png", "", False), ("csv", "txt", True), ("", "png", True), ("xq7", "png", False),
    ):  # fmt: skip
        assert (agreement(slot(1, extension).file, piece(1, kind)) > 0) == good, (extension, kind)
    assert agreement(None, piece(1, "png")) == agreement(slot(1, "").file, piece(1, ""))


@given(
    extensions=st.lists(st.sampled_from(sorted(KINDS)), min_size=1, max_size=25),
    unnamed=st.sets(st.integers(0, 24), max_size=6),
    lost=st.sets(st.integers(0, 24), max_size=4),
)
def test_rows_are_aligned_in_order(extensions: list[str], unnamed: set[int], lost: set[int]) -> None:
    """Pairs rise in both rows and never contradict; where every file is there, each goes with its own."""
    slots = [slot(n, "" if n in unnamed else one) for n, one in enumerate(extensions)]
    pieces = [piece(n, KINDS[one]) for n, one in enumerate(extensions) if n not in lost]
    pairs = align(slots, pieces)
    assert pairs == sorted(set(pairs)) and len({i for i, _ in pairs}) == len({j for _, j in pairs}) == len(pairs)
    assert all(agreement(slots[i].file, pieces[j]) > 0 for i, j in pairs)
    if not lost & set(range(len(extensions))):
        assert pairs == [(n, n) for n in range(len(slots))]
    assert align(slots, []) == align([], pieces) == []


@pytest.fixture
def disk(tmp_path: Path) -> Iterator[tuple[Disk, dict[str, bytes]]]:
    """Files of known kinds and of none, one behind the other, of which the records of some stand and the names of others."""
    made = new_disk(tmp_path / "v.img", "hfs+", 4096, 24 << 20)
    made.writer.make_folder("Season", made.now)
    dice = random.Random(5)
    kinds = ["png", "pdf", "txt", "wav", "gz"]
    for n in range(120):
        kind = kinds[n % 5]
        unknown = n % 4 == 3
        data = dice.randbytes(3000 + 41 * n) + b"\1" if unknown else _made(kind, n)
        made.store(f"Season/{n:03} {dice.randrange(1 << 30)}.{'xq7' if unknown else kind}", data)
    content = dict(made.content)
    yield made, content
    made.image.close()


def test_what_lies_between_two_files_is_one(
    disk: tuple[Disk, dict[str, bytes]], sastrugi: Program, tmp_path: Path
) -> None:
    """Every third file is deleted: those of no known kind come back too, as what lies between two that stand; nothing else
    is told."""
    made, content = disk
    lost = sorted(content)[::3]
    for path in lost:
        made.delete(path)
    made.volume()
    sastrugi("scan", made.image.path, "--out", tmp_path / "v.scan")
    with ScanFile.open(tmp_path / "v.scan") as scan:
        found = {b"".join(one.map.chunks(made.image)): one for one in scan.findings("state <> 'live'")}
    assert {content[path] for path in lost} <= set(found) and len(found) <= len(lost) + 1
    for path in lost:
        one = found[content[path]]
        named = one.name == path.rpartition("/")[2]
        assert named or one.folder == "/unnamed", (path, one.name)
        assert not path.endswith("xq7") or one.tells(Clue.BETWEEN_FILES) or one.tells(Clue.PLACED)


def test_names_go_to_what_was_written_then(tmp_path: Path, sastrugi: Program) -> None:
    """A driver makes a file empty and tells its places later: the old record names it. All is deleted; of each file that a
    name stands of, the name goes to its own content."""
    made = new_disk(tmp_path / "v.img", "hfs+", 4096, 24 << 20)
    writer = made.writer
    writer.make_folder("Season", made.now)
    content: dict[str, bytes] = {}
    for n in range(90):
        kind = ("png", "txt", "pdf")[n % 3]
        path = f"Season/{n:03} reading.{kind}"
        content[path] = _made(kind, n)
        node = writer.store(path, 0, [], made.tick())
        writer.grow(node, len(content[path]), [content[path]], made.tick())
    made.content = dict(content)
    for path in sorted(content):
        made.delete(path)
    volume = made.volume()
    names = {one.path[-1] for one in volume.numbered() if one.path and not one.folder and not one.extents}
    assert len(names) > 10 and not any(entry.size == 0 for entry in volume.entries() if entry.deleted)
    sastrugi("scan", made.image.path, "--out", tmp_path / "v.scan")
    right = wrong = 0
    with ScanFile.open(tmp_path / "v.scan") as scan:
        for one in scan.findings("state = 'deleted'"):
            data = b"".join(one.map.chunks(made.image))
            right += data == content.get(one.path.lstrip("/"))
            wrong += data != content.get(one.path.lstrip("/")) and data in content.values()
    assert right >= len(names) * 0.9 and wrong <= right // 50, (right, wrong, len(names))


def _made(kind: str, n: int) -> bytes:
    make = kind_named(kind).make
    assert make is not None
    return make(Dice(f"{kind} {n}"), 4000 + 700 * n)


@pytest.mark.parametrize("words", [("--kind", "png"), ("--passes", "tables,content"), ("--range", "0 B..20 MiB")])
def test_a_scan_that_leaves_something_out_joins_nothing(
    disk: tuple[Disk, dict[str, bytes]], sastrugi: Program, tmp_path: Path, words: tuple[str, str]
) -> None:
    """What it did not look for would be taken for what lies between two files."""
    made, content = disk
    for path in sorted(content)[::3]:
        made.delete(path)
    made.volume()
    sastrugi("scan", made.image.path, "--out", tmp_path / "v.scan", *words)
    with ScanFile.open(tmp_path / "v.scan") as scan:
        assert not [one for one in scan.findings() if one.tells(Clue.BETWEEN_FILES)]


def test_a_file_inside_of_which_words_stand_is_one(tmp_path: Path, sastrugi: Program) -> None:
    """A text that begins at a block of a file of no known kind does not part it."""
    made = new_disk(tmp_path / "v.img", "hfs+", 4096, 24 << 20)
    dice = random.Random(11)
    for n in range(30):
        data = bytearray(dice.randbytes(40_000) + b"\1")
        if n % 3 == 1:
            data[8192:8292] = b"words of the season, which stand here alone " * 2 + bytes(12)
        made.store(f"core {n:02}.xq7", bytes(data))
    lost = {path: made.content[path] for path in sorted(made.content)[1::3]}
    for path in lost:
        made.delete(path)
    made.volume()
    sastrugi("scan", made.image.path, "--out", tmp_path / "v.scan")
    with ScanFile.open(tmp_path / "v.scan") as scan:
        found = [b"".join(one.map.chunks(made.image)) for one in scan.findings("state <> 'live' AND sound = size")]
    assert sorted(found) == sorted(lost.values())
