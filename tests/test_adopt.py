"""Truth found by looking: content located on media that real drivers or our writer laid down, whole and in part."""

from __future__ import annotations

import os
import random
import shutil
import subprocess
from dataclasses import dataclass
from itertools import pairwise
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from sastrugi.media import Extent
from sastrugi.media.raw import RawImage
from sastrugi.progress import Progress
from sastrugi.specimen.adopt import adopt
from sastrugi.specimen.audit import audit
from sastrugi.specimen.blocks import BLOCK
from sastrugi.specimen.catalogue import Catalogue
from sastrugi.specimen.locate import Locator
from sastrugi.specimen.truth import Specimen
from tests.conftest import Program


@dataclass(frozen=True)
class Held:
    """An original in memory."""

    data: bytes

    @property
    def size(self) -> int:
        return len(self.data)

    def read(self, position: int, length: int) -> bytes:
        return self.data[position : position + length]


def _content(dice: random.Random, size: int) -> bytes:
    """Bytes with stretches of zeros and of a repeated block, which tell nothing of their place."""
    out = b""
    while len(out) < size:
        part = dice.randrange(1, 6 * BLOCK)
        out += dice.choice((dice.randbytes(part), bytes(part), bytes(range(256)) * (part // 256 + 1)))
    return out[:size]


@settings(max_examples=60)
@given(seed=st.integers(0, 1 << 30))
def test_pieces_are_found_wherever_they_lie(tmp_path: Path, seed: int) -> None:
    """Files in pieces at any sectors, some of which are written over: what is said to stand does, and all that stands
    and can be told from other content is found."""
    dice = random.Random(seed)
    contents = [_content(dice, dice.choice((0, 5, 300, 512, 7000, 40_000, 90_001))) for _ in range(8)]
    contents.append(contents[-1])  # one file twice
    path = tmp_path / f"{seed}.img"
    path.unlink(missing_ok=True)
    with RawImage(path, 2 << 20) as image:
        free = list(range(4096))
        gone: set[int] = set()
        lay: list[list[tuple[int, Extent]]] = []
        for content in contents:
            blocks = -(-len(content) // BLOCK)
            cuts = sorted({0, blocks, *(dice.randrange(blocks + 1) for _ in range(dice.randrange(3)))})
            lay.append([])
            for lo, hi in pairwise(cuts):
                at = next(s for s in dice.sample(free, len(free)) if set(range(s, s + hi - lo)) <= set(free))
                free = [s for s in free if not at <= s < at + hi - lo]
                piece = content[lo * BLOCK : hi * BLOCK]
                image.write(at * BLOCK, piece)
                lay[-1].append((lo * BLOCK, Extent(at * BLOCK, len(piece))))
        for _ in range(dice.randrange(4)):
            at = dice.randrange(4000)
            gone |= set(range(at, at + 8))
            image.write(at * BLOCK, dice.randbytes(8 * BLOCK))
        catalogue = Catalogue([Held(content) for content in contents], Progress())
        found = Locator(catalogue, image, Progress()).locate({}, Progress())
        for content, one, laid in zip(contents, found, lay, strict=True):
            assert [piece.position for piece in one.pieces] == sorted({piece.position for piece in one.pieces})
            for position, extent, stands in one.pieces:
                if stands:
                    assert image.read(*extent) == content[position : position + extent.length]
            telling = {
                position + at
                for position, extent in laid
                for at in range(0, extent.length, BLOCK)
                if (extent.offset + at) // BLOCK not in gone and any(content[position + at : position + at + BLOCK])
                and len(block := content[position + at : position + at + BLOCK]) >= 8
                and sum(block in other for other in set(contents)) == 1 and content.count(block) == 1
            }  # fmt: skip
            # Pieces of two files of the same content may be told of either.
            twins = [other for other, same in zip(found, contents, strict=True) if same == content]
            assert telling <= {
                p.position + at for t in twins for p in t.pieces if p.stands for at in range(0, p.extent.length, BLOCK)
            }


@pytest.mark.parametrize(
    "recipe", ["camera-card", "by-turns", "two-volumes", "emptied-bin", "quick-format", "generations"]
)
def test_what_was_built_is_adopted_with_the_same_truth(sastrugi: Program, tmp_path: Path, recipe: str) -> None:
    """The medium of a built specimen with its files as originals: the same places, shares and ends as in the books."""
    sastrugi("build", recipe, "--into", tmp_path / "built")
    originals = tmp_path / "originals"
    with Specimen(tmp_path / "built") as built:
        files = [file for file in built.truth.files if file.role == "reference" and (file.lost or file.standing)]
        for file in files:
            target = originals / file.volume / str(file.id) / file.path.lstrip("/")
            target.parent.mkdir(parents=True, exist_ok=True)
            target.write_bytes(b"".join(built.blocks(file)))
        sastrugi("adopt", tmp_path / "built" / "medium.img", "--originals", originals, "--into", tmp_path / "adopted")
        with Specimen(tmp_path / "adopted") as adopted:
            assert not [fault for check in audit(adopted, Progress()) for fault in check.faults]
            by_content = {file.blake3: file for file in adopted.truth.files}
            for file in files:
                if not file.size or sum(file.blake3 == other.blake3 for other in built.truth.files) > 1:
                    continue
                own = by_content.get(file.blake3)
                if file.ceiling.bytes > 0:
                    assert own is not None, file.path
                    assert own.ceiling.bytes >= file.ceiling.bytes - 1e-12
                if own is not None and file.untouched:
                    assert own.extents == file.extents and own.standing == file.standing, file.path


def _ext4(image: Path, work: Path, *scripts: str) -> None:
    """Run each script in the root of an ext4 volume, which is unmounted after each."""
    if os.geteuid() or not shutil.which("mkfs.ext4"):
        pytest.skip("a loop mount needs root and mkfs.ext4")
    with image.open("wb") as file:
        file.truncate(64 << 20)
    subprocess.run(["mkfs.ext4", "-q", "-b", "1024", str(image)], check=True)
    point = work / "point"
    point.mkdir(exist_ok=True)
    for n, script in enumerate(scripts):
        done = subprocess.run(["mount", "-o", "loop", str(image), str(point)], capture_output=True, text=True)
        if done.returncode:
            pytest.skip(f"no loop mount here: {done.stderr}")
        try:
            subprocess.run(["sh", "-ec", script], check=True, cwd=point)
        finally:
            subprocess.run(["umount", str(point)], check=True)
        subprocess.run(["cp", "--sparse=always", str(image), str(work / f"{n}.img")], check=True)


def test_a_file_system_that_nobody_here_reads(sastrugi: Program, tmp_path: Path) -> None:
    """ext4, by the kernel's driver: located before the loss, and after it with what was written over."""
    originals = tmp_path / "originals"
    sastrugi("corpus", "make", originals, "--files", "40", "--size", "1 KiB..400 KiB", "--depth", "1")
    (originals / "changed.txt").write_text("as it was\n" * 500)
    (originals / "never there.bin").write_bytes(random.Random(5).randbytes(9000))
    files = sorted(path for path in originals.rglob("*") if path.is_file() and path.name != "never there.bin")
    lost = [path.relative_to(originals) for path in files[:30]]
    removals = "\n".join(f"rm -- '{path}'" for path in lost)
    copy = f"cp -r '{originals}/.' . ; rm 'never there.bin'; echo more >> changed.txt"
    refill = "head -c 60000000 /dev/urandom > later || true"
    _ext4(tmp_path / "card.img", tmp_path, copy, f"{removals}\n{refill}")
    first = sastrugi(
        "adopt", tmp_path / "0.img", "--originals", originals, "--into", tmp_path / "a", "--nothing-lost", "--json"
    ).json
    assert first["originals"]["gone"] == ["never there.bin"] and not first["originals"]["whole"]
    assert len(first["originals"]["listed"]) == len(files) and not first["originals"]["part"]
    second = sastrugi(
        "adopt", tmp_path / "1.img", "--before", tmp_path / "0.img", "--originals", originals, "--into",
        tmp_path / "b", "--json", *[word for path in lost for word in ("--lost", str(path))],
    ).json  # fmt: skip
    only_after = sastrugi(
        "adopt", tmp_path / "1.img", "--originals", originals, "--into", tmp_path / "c", "--json"
    ).json
    shares = [{f["path"]: f["ceiling"]["bytes"] for f in one["truth"]["files"]} for one in (second, only_after)]
    assert 0.0 in shares[0].values() and 1.0 in shares[0].values()
    for path, share in shares[0].items():
        assert abs(shares[1].get(path, 0.0) - share) < 1e-9 or share < 0.02, path
    assert {f["path"][1:] for f in second["truth"]["files"] if f["lost"]} == {str(path) for path in lost}
    for name in "abc":
        assert sastrugi("audit", tmp_path / name, "--json").json["sound"]


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (("--originals", "nowhere"), "no such folder"),
        (("--originals", "other"), "nothing of the originals is on it"),
        (("--originals", "files", "--lost", "nobody.*"), "names none of the originals"),
        (("--originals", "files", "--lost", "x", "--nothing-lost"), "leave one of them out"),
        (("--originals", "files", "--before", "small.img"), "must be of the same medium"),
        (("--originals", "files", "--into", "files/inside"), "inside the folder of originals"),
        (("--originals", "empty"), "holds no files"),
    ],
)
def test_adopt_refuses_in_one_line(sastrugi: Program, tmp_path: Path, words: tuple[str, ...], said: str) -> None:
    data = random.Random(1).randbytes(9000)
    for name, content in (("files", data), ("other", data[::-1])):
        (tmp_path / name).mkdir()
        (tmp_path / name / "x").write_bytes(content)
    (tmp_path / "empty").mkdir()
    (tmp_path / "card.img").write_bytes(bytes(1 << 16) + data.ljust(1 << 16, b"\1"))
    (tmp_path / "small.img").write_bytes(data.ljust(1 << 16, b"\1"))
    ran = sastrugi("adopt", "card.img", *words, cwd=tmp_path, code=2)
    assert said in ran.err and ran.err.count("\n") == 1
    assert not (tmp_path / "card.specimen").exists()


def test_adopt_is_a_function_too(tmp_path: Path) -> None:
    """Content below a sector, at any sector, with a wrong byte beside it."""
    (tmp_path / "files").mkdir()
    (tmp_path / "files" / "note.txt").write_bytes(b"snow pit 17, density 412 kg/m3\n")
    with RawImage(tmp_path / "card.img", 1 << 20) as image:
        image.write(77 * BLOCK, b"snow pit 17, density 412 kg/m3\n" + b"\xff" * 481)
        done = adopt(image, tmp_path / "files", tmp_path / "made", Progress())
    assert done.whole == ["note.txt"]
    with Specimen(tmp_path / "made") as specimen:
        assert specimen.truth.files[0].extents == (Extent(77 * BLOCK, 31),)
