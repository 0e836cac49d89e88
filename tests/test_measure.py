"""The measure on files that are hard to tell apart: near-duplicates, repeated blocks, tiny and large ones, copies.

Every wrong result is judged by the plainest comparison there is as well; nothing but its own file may move.
"""

from __future__ import annotations

import json
import os
import random
import shutil
import subprocess
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from sastrugi.progress import Progress
from sastrugi.scoring.comparison import Comparison
from sastrugi.scoring.contents import Contents
from sastrugi.scoring.quick_match import Nearly, QuickMatch
from sastrugi.scoring.results import Result
from sastrugi.scoring.scorecard import Scorecard
from sastrugi.scoring.scorer import judge
from sastrugi.specimen.truth import Specimen
from tests.conftest import Program, program_path

BLOCK = 512
RECIPE = """recipe = 1
name = "hard-to-tell"
title = "Files that are hard to tell apart"
seed = 1
medium.size = "24 MiB"
steps = [ {do = "format", file_system = "fat16", cluster = "2 KiB"}, {do = "store", folder = "mine"},
          {do = "delete", what = ["*"]} ]
"""


def _originals() -> dict[str, bytes]:
    dice = random.Random(2031)
    log = "".join(f"2031-02-{n % 28 + 1:02d} wind {dice.random():.6f} m/s\n" for n in range(2500)).encode()
    rows = [
        "".join(f"{n:06d};{day};{dice.randrange(1000):04d}\r\n" for n in range(900)).encode() for day in ("mon", "tue")
    ]
    return {
        "logs/station.log": log,
        "logs/station-old.log": log[: 60 * BLOCK] + dice.randbytes(9 * BLOCK + 77),
        "repeated.bin": dice.randbytes(BLOCK) * 40,
        "small.txt": dice.randbytes(511),
        "large.bin": dice.randbytes((9 << 20) + 33),
        "a/same.bin": (same := dice.randbytes(7000)),
        "b/same.bin": same,
        "tables/mon.csv": rows[0],
        "tables/tue.csv": rows[1],
        "frost.raw": bytes(3000) + dice.randbytes(5000) + bytes(2500),
    }


ORIGINALS = _originals()


@pytest.fixture(scope="session")
def hard(sastrugi: Program, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A specimen of these files, all deleted, with nothing written over."""
    folder = tmp_path_factory.mktemp("hard")
    for name, data in ORIGINALS.items():
        (folder / "mine" / name).parent.mkdir(parents=True, exist_ok=True)
        (folder / "mine" / name).write_bytes(data)
    (folder / "r.toml").write_text(RECIPE)
    sastrugi("build", folder / "r.toml", "--into", folder / "s")
    return folder


def scored(specimen: Path, results: Path) -> Scorecard:
    with Specimen(specimen) as opened:
        return judge(opened, results, Progress()).scorecard()


def plainly_right(then: bytes, now: bytes) -> int:
    """Bytes in place, of blocks of which at least half of what came is right."""
    right = 0
    for at in range(0, len(then), BLOCK):
        a, b = then[at : at + BLOCK], now[at : at + BLOCK]
        same = sum(x == y for x, y in zip(a, b, strict=False))
        right += same if b and same * 2 >= len(b) else 0
    return right


def flip(data: bytes, *places: int) -> bytes:
    out = bytearray(data)
    for place in places:
        out[place] ^= 0x55
    return bytes(out)


CHANGES: dict[str, Callable[[bytes], bytes]] = {
    "first byte wrong": lambda d: flip(d, 0),
    "one byte wrong": lambda d: flip(d, len(d) // 2),
    "last byte wrong": lambda d: flip(d, len(d) - 1),
    "one wrong byte in every block": lambda d: flip(d, *range(min(100, len(d) - 1), len(d), BLOCK)),
    "cut to nine tenths": lambda d: d[: len(d) * 9 // 10],
    "cut to half": lambda d: d[: len(d) // 2],
    "bytes too many": lambda d: d + b"the next file",
    "a block of noise inside": lambda d: d[: len(d) // 3] + random.Random(5).randbytes(200) + d[len(d) // 3 + 200 :],
}
WITHOUT_NAME = ("one byte wrong", "last byte wrong", "cut to nine tenths", "bytes too many", "a block of noise inside")
CASES = [(name, change, True) for name in ORIGINALS for change in CHANGES] + [
    (name, change, False) for name in ORIGINALS for change in WITHOUT_NAME if name not in ("small.txt", "b/same.bin")
]


def test_there_are_enough_cases() -> None:
    from tests.test_scoring import FAULTS

    assert len(CASES) + len(FAULTS) >= 80


@pytest.mark.parametrize(("name", "change", "named"), CASES)
def test_damaged_results_of_files_that_are_alike(
    hard: Path, tmp_path: Path, name: str, change: str, named: bool
) -> None:
    results = tmp_path / "r"
    shutil.copytree(hard / "mine", results, copy_function=os.link)
    then, now = ORIGINALS[name], CHANGES[change](ORIGINALS[name])
    (results / name).unlink()
    (results / (name if named else "f0001.bin")).write_bytes(now)
    card = scored(hard / "s", results)
    right = plainly_right(then, now)
    by_path = {file.path.lstrip("/"): file for file in card.files}
    moved = by_path.pop(name)
    if not named and name.endswith("same.bin"):  # which of the two copies it is, nothing tells
        moved = min((moved, by_path["b/same.bin"]), key=lambda file: file.completeness)
        by_path.pop("b/same.bin")
    assert moved.completeness * moved.size == pytest.approx(right), (moved.content, moved.result)
    whole = "padded" if len(now) > len(then) else "cut" if right == len(now) else "mixed"
    assert moved.content == whole and not moved.beyond_ceiling
    assert card.classes["reference"] == len(ORIGINALS) and not card.classes["noise"]
    assert all(file.content == "intact" and file.named for file in by_path.values())


@given(st.data())
def test_the_quick_way_says_what_the_plain_one_does(hard: Path, data: st.DataObject) -> None:
    """Results told by their first blocks, many at once, are compared exactly as those that are looked at one by one."""
    dice = random.Random(data.draw(st.integers(0, 1 << 30)))
    folder = hard / "quick"
    folder.mkdir(exist_ok=True)
    results, made = [], []
    for n in range(6):
        name = dice.choice(["large.bin", "logs/station.log", "tables/mon.csv", "a/same.bin", "frost.raw"])
        then = ORIGINALS[name]
        now = flip(then, *(dice.randrange(len(then)) for _ in range(dice.randrange(4))))
        now = now[: dice.choice([len(now), len(now) - 700, len(now) // 2 + 1])]
        (folder / f"{n}").write_bytes(now)
        results.append(Result(n, f"{n}", len(now), folder / f"{n}"))
        made.append((name, then, now))
    with Specimen(hard / "s") as specimen:
        contents = Contents(specimen, list(specimen.truth.files))
        quick = QuickMatch(contents)
        for _ in range(2):  # the second time by first blocks first, where most were damaged
            for (name, then, now), told in zip(made, quick.look(results), strict=True):
                if told is None:
                    continue
                content = told.content if isinstance(told, Nearly) else told
                assert contents.files[content].path.lstrip("/") == name or name == "b/same.bin"
                if not isinstance(told, Nearly):
                    assert now == then
                    continue
                plain = Comparison(len(then), len(now), None)
                plain.add(0, np.frombuffer(then, "u1"), np.frombuffer(now, "u1"))
                wanted = plain.result(len(then))
                assert (told.compared.right, told.compared.first_wrong) == (wanted.right, wanted.first_wrong)
                assert told.compared.damage == wanted.damage


def test_a_fragment_from_deep_inside_is_one(hard: Path, tmp_path: Path) -> None:
    (tmp_path / "r").mkdir()
    (tmp_path / "r" / "piece.bin").write_bytes(ORIGINALS["large.bin"][(5 << 20) + 512 * 3 : 6 << 20])
    card = scored(hard / "s", tmp_path / "r")
    (result,) = card.results
    assert (result.is_, result.problem) == ("fragment", "")
    large = next(file for file in card.files if file.path == "/large.bin")
    assert large.shift == -((5 << 20) + 512 * 3) and large.shifted > 0.05


def test_names_on_content_that_is_not_theirs_do_not_count(sastrugi: Program, hard: Path, tmp_path: Path) -> None:
    for name, data in ORIGINALS.items():
        (tmp_path / "r" / name).parent.mkdir(parents=True, exist_ok=True)
        (tmp_path / "r" / name).write_bytes(random.Random(name).randbytes(len(data)))
    ran = sastrugi(
        "score",
        hard / "s",
        tmp_path / "r",
        "--floor",
        "named=1%",
        "--json",
        "--out",
        tmp_path / "c",
        "--replace",
        code=1,
    )
    card = ran.json
    assert card["named"]["value"] == 0 and card["names"] == {} and card["classes"]["noise"] == len(ORIGINALS)
    assert {file["content"] for file in card["files"]} == {"foreign"} and {f["name"] for f in card["files"]} == {"full"}
    assert card["below_the_floor"] == ["named: 0 % of the set, the floor is 1 %"]
    flat = tmp_path / "flat"
    flat.mkdir()
    for name, data in ORIGINALS.items():
        (flat / name.replace("/", " ")).write_bytes(data) if name == "b/same.bin" else (
            flat / Path(name).name
        ).write_bytes(data)
    told = sastrugi("score", hard / "s", flat, "--out", tmp_path / "c", "--replace")
    assert "right but for their folders" in told.out


def test_a_table_from_another_system_counts_with_its_times(sastrugi: Program, hard: Path, tmp_path: Path) -> None:
    """Windows paths of another machine, and times in the table where the files have none of theirs."""
    with Specimen(hard / "s") as specimen:
        modified = {file.path.lstrip("/"): file.modified for file in specimen.truth.files}
    rows = ["Result File;Original;Modified"]
    for n, (name, data) in enumerate(ORIGINALS.items()):
        (tmp_path / "r").mkdir(exist_ok=True)
        (tmp_path / "r" / f"{n:03d}.dat").write_bytes(data)
        rows.append(f"D:\\out\\run 7\\{n:03d}.dat;\\{name};{modified[name]}".replace("/", "\\"))
    (tmp_path / "t.csv").write_text("\n".join(rows))
    words = (
        "score",
        hard / "s",
        tmp_path / "r",
        "--json",
        "--replace",
        "--out",
        tmp_path / "c.json",
        "--table",
        tmp_path / "t.csv",
    )
    card = sastrugi(*words).json
    assert card["times"] == {"same": len(ORIGINALS)} and card["named"]["value"] == len(ORIGINALS)
    assert (card["table_rows"], card["table_matched"]) == (len(ORIGINALS), len(ORIGINALS))
    (tmp_path / "t.csv").write_text("file;confidence\nother.dat;0.5\nsecond.dat;0.7\n")
    assert "of 2 rows of the table 0 name a result" in sastrugi(*words).err
    (tmp_path / "t.csv").write_text("file;modified\n000.dat;yesterday\n")
    assert "is no time" in sastrugi(*words, code=2).err


def test_a_negative_control_passes_its_gate(sastrugi: Program, tmp_path: Path) -> None:
    recipe = RECIPE.replace("24 MiB", "8 MiB").replace("fat16", "fat12").replace(
        '{do = "delete", what = ["*"]}', '{do = "wipe", what = "medium"}'
    )  # fmt: skip
    (tmp_path / "mine").mkdir()
    (tmp_path / "mine" / "core.bin").write_bytes(random.Random(1).randbytes(9000))
    (tmp_path / "r.toml").write_text(recipe)
    sastrugi("build", tmp_path / "r.toml", "--into", tmp_path / "s")
    (tmp_path / "empty").mkdir()
    gate = (
        "--ceiling-floor",
        "intact=95%",
        "--ceiling-floor",
        "named=95%",
        "--max-noise",
        "2%",
        "--out",
        tmp_path / "c",
        "--replace",
    )
    sastrugi("score", tmp_path / "s", tmp_path / "empty", *gate)
    assert (
        "below the floor" in sastrugi("score", tmp_path / "s", tmp_path / "empty", "--floor", "intact=5%", code=1).err
    )
    (tmp_path / "empty" / "ghost.bin").write_bytes(random.Random(2).randbytes(9000))
    told = sastrugi("score", tmp_path / "s", tmp_path / "empty", *gate, code=1).err
    assert "intact" in told and "noise: 100 %" in told
    assert "is no share" in sastrugi("score", tmp_path / "s", tmp_path / "empty", "--max-noise", "many", code=2).err


def test_two_halves_of_one_content_make_a_whole_ceiling(sastrugi: Program, tmp_path: Path) -> None:
    """Two copies, each missing the other half; and a file of which the bytes stand only in a live copy."""
    (tmp_path / "mine").mkdir()
    data = random.Random(3).randbytes(64 << 10)
    (tmp_path / "mine" / "core.bin").write_bytes(data)
    steps = """{do = "format", file_system = "fat12", cluster = "2 KiB"}, {do = "store", folder = "mine"},
          {do = "copy", what = ["/core.bin"], into = "/Copies"}, """
    ends = {
        "halves": '{do = "delete", what = ["*"]}',
        "live": '{do = "delete", what = ["/core.bin"]}',
    }
    for name, end in ends.items():
        (tmp_path / f"{name}.toml").write_text(
            RECIPE.replace("24 MiB", "8 MiB")[: RECIPE.index("steps") - 1] + f"steps = [ {steps} {end} ]\n"
        )
        sastrugi("build", tmp_path / f"{name}.toml", "--into", tmp_path / name)
    for name in ends:
        image = tmp_path / name / "medium.img"
        raw = bytearray(image.read_bytes())
        first = raw.find(data[:4096])
        second = raw.find(data[:4096], first + 1)
        assert 0 < first < second
        if name == "halves":
            raw[first : first + (32 << 10)] = bytes(32 << 10)
            raw[second + (32 << 10) : second + (64 << 10)] = bytes(32 << 10)
        else:
            raw[first : first + (64 << 10)] = random.Random(9).randbytes(64 << 10)
        (tmp_path / f"{name}.img").write_bytes(raw)
    originals = tmp_path / "originals"
    for folder in ("", "Copies"):
        (originals / folder).mkdir(parents=True, exist_ok=True)
        (originals / folder / "core.bin").write_bytes(data)
    sastrugi("adopt", tmp_path / "halves.img", "--before", tmp_path / "halves" / "medium.img", "--originals", originals,
             "--into", tmp_path / "a")  # fmt: skip
    with Specimen(tmp_path / "a") as specimen:
        assert [file.ceiling.bytes for file in specimen.truth.lost] == [1.0, 1.0]
        assert all(0.4 < 1 - sum(part.length for part in file.gone) / file.size < 0.6 for file in specimen.truth.lost)
    assert sastrugi("audit", tmp_path / "a", "--json").json["sound"]
    sastrugi("adopt", tmp_path / "live.img", "--before", tmp_path / "live" / "medium.img", "--originals", originals,
             "--lost", "core.bin", "--into", tmp_path / "b")  # fmt: skip
    with Specimen(tmp_path / "b") as specimen:
        (lost,) = [file for file in specimen.truth.lost if file.path == "/core.bin"]
        assert lost.ceiling.bytes == lost.ceiling.live == 1 and lost.copies == ("/Copies/core.bin",)
    (tmp_path / "r").mkdir()
    card = sastrugi("score", tmp_path / "b", tmp_path / "r", "--json", "--out", tmp_path / "c").json
    assert card["live_copies"] == 1 and {g["key"] for g in card["groups"]["ceiling"]} == {"live copy"}
    assert "only inside of live files" in sastrugi("score", tmp_path / "b", tmp_path / "r").out
    told = sastrugi("explain", tmp_path / "b", tmp_path / "r", "core.bin").out
    assert "stand only in the live file /Copies/core.bin" in " ".join(told.split())


def test_the_longest_match_takes_a_place(sastrugi: Program, tmp_path: Path) -> None:
    """A file that is gone begins like one that stands: what stands is the other's, whole."""
    dice = random.Random(4)
    head = dice.randbytes(6 * BLOCK)
    gone, there = head + dice.randbytes(5000), head + dice.randbytes(9000)
    (tmp_path / "o").mkdir()
    (tmp_path / "o" / "a gone.bin").write_bytes(gone)
    (tmp_path / "o" / "b there.bin").write_bytes(there)
    (tmp_path / "card.img").write_bytes((bytes(1 << 20) + there).ljust(2 << 20, b"\0"))
    sastrugi("adopt", tmp_path / "card.img", "--originals", tmp_path / "o", "--into", tmp_path / "s")
    with Specimen(tmp_path / "s") as specimen:
        shares = {file.path: file.ceiling.bytes for file in specimen.truth.lost}
    assert shares == {"/a gone.bin": 0.0, "/b there.bin": 1.0}, "what is gone is in the set all the same"
    ran = sastrugi("score", tmp_path / "s", tmp_path / "o", "--out", tmp_path / "c", "--json", "--replace", code=1)
    beyond = [file["path"] for file in ran.json["files"] if file["beyond_ceiling"]]
    assert beyond == ["/a gone.bin"] and "above its ceiling" in ran.err


def test_output_goes_through_any_pipe(hard: Path, tmp_path: Path) -> None:
    """A reader that stops early, and encodings that have none of our marks."""
    program = program_path()
    (tmp_path / "r").mkdir()
    (tmp_path / "r" / "Rønne – station….log").write_bytes(ORIGINALS["logs/station.log"])
    words = f"'{program}' score '{hard / 's'}' '{tmp_path / 'r'}' --replace --out '{tmp_path / 'c'}'"
    for gate, code in (("", "0"), ("--floor intact=95%", "1")):
        shell = f"set -o pipefail; ({words} {gate} --limit 0; echo $? > '{tmp_path / 'code'}') | head -1"
        subprocess.run(["bash", "-c", shell], check=True, capture_output=True)
        assert (tmp_path / "code").read_text().strip() == code
    env = {**os.environ, "PYTHONIOENCODING": "latin-1", "LC_ALL": "C"}
    ran = subprocess.run(["bash", "-c", words], env=env, capture_output=True)
    assert ran.returncode == 0 and b"fault of Sastrugi" not in ran.stderr
    ran = subprocess.run(["bash", "-c", f"{words} --json"], env=env, capture_output=True)
    paths = [item["path"] for item in json.loads(ran.stdout.decode("latin-1"))["results"]]
    assert paths == ["Rønne – station….log"]
