"""Corpora: made the same twice, named in every style, checked in child processes that nothing can take down."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import sysconfig
import time
from pathlib import Path

import pytest
from PIL import Image

from sastrugi.corpus.make import SPREADS, CorpusSpec, plan_files
from sastrugi.corpus.names import STYLE_NAMES
from sastrugi.kinds import all_kinds, recognise
from sastrugi.kinds.base import FileSource
from sastrugi.progress import Progress
from sastrugi.subprocess_pool import run_in_children
from sastrugi.volumes._fat_family.names import check_name
from tests.conftest import Program, program_path


@pytest.fixture(scope="module")
def corpus(sastrugi: Program, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Two files of every kind that can be made, in folders."""
    folder = tmp_path_factory.mktemp("corpus") / "reference"
    count = 2 * sum(kind.make is not None for kind in all_kinds().values())
    sastrugi("corpus", "make", folder, "--files", count, "--size", "6 KiB..60 KiB", "--depth", 2, "--seed", 9, "--json")
    return folder


def tree(folder: Path) -> dict[str, bytes]:
    return {p.relative_to(folder).as_posix(): p.read_bytes() for p in folder.rglob("*") if p.is_file()}


def test_a_corpus_repeats_and_every_file_differs(
    sastrugi: Program, corpus: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("TZ", "Pacific/Auckland")
    sastrugi(
        "corpus",
        "make",
        tmp_path / "again",
        "--files",
        len(tree(corpus)),
        "--size",
        "6 KiB..60 KiB",
        "--depth",
        2,
        "--seed",
        9,
    )
    one, other = tree(corpus), tree(tmp_path / "again")
    assert {path for path in one if one[path] != other.get(path)} == set() and len(one) == len(other)
    assert len(set(one.values())) == len(one)
    assert {path.count("/") for path in one} == {0, 1, 2}


def test_every_kind_opens_and_is_recognised_where_it_lies(sastrugi: Program, corpus: Path) -> None:
    ran = sastrugi("corpus", "check", corpus, "--json")
    assert ran.json["counts"] == {"opens": len(tree(corpus))}
    assert {f["kind"] for f in ran.json["files"]} >= {k.name for k in all_kinds().values() if k.make} - {
        "log",
        "eml",
        "mbox",
        "csv",
    }
    for path in corpus.rglob("*.*"):
        if path.is_file():
            with FileSource(path) as source:
                found = recognise(source)
            assert found is None or (found.whole and found.length == path.stat().st_size), path


def test_broken_files_are_named_with_the_reason(sastrugi: Program, corpus: Path, tmp_path: Path) -> None:
    (tmp_path / "c").mkdir()
    originals = {path.suffix: path for path in corpus.rglob("*.*") if path.is_file()}
    for suffix in (".png", ".docx", ".flac", ".gz", ".jpg"):
        data = originals[suffix].read_bytes()
        (tmp_path / "c" / f"cut{suffix}").write_bytes(data[: len(data) // 2])
    (tmp_path / "c" / "renamed.jpg").write_bytes(originals[".png"].read_bytes())
    (tmp_path / "c" / "fine.wav").write_bytes(originals[".wav"].read_bytes())
    (tmp_path / "c" / "strange.xyz").write_bytes(bytes(range(256)) * 9)
    ran = sastrugi("corpus", "check", tmp_path / "c", "--json", code=1)
    answers = {f["path"]: f["answer"] for f in ran.json["files"]}
    assert answers == {
        "cut.docx": "broken", "cut.flac": "broken", "cut.gz": "broken", "cut.jpg": "broken", "cut.png": "broken",
        "fine.wav": "opens", "renamed.jpg": "opens", "strange.xyz": "cannot tell",
    }  # fmt: skip
    assert all(f["why"] for f in ran.json["files"] if f["answer"] != "opens")
    assert "its name says JPEG" in next(f["why"] for f in ran.json["files"] if f["path"] == "renamed.jpg")
    ran = sastrugi("corpus", "check", tmp_path / "c", code=1)
    assert "cut.png" in ran.out and "fine.wav" not in ran.out and "1 cannot be told" in ran.err


def test_a_contact_sheet_shows_every_file(sastrugi: Program, corpus: Path, tmp_path: Path) -> None:
    sastrugi("corpus", "check", corpus, "--sheet", tmp_path / "sheet.png")
    with Image.open(tmp_path / "sheet.png") as sheet:
        assert sheet.width == 1260 and sheet.height > 2000
        colours = sheet.convert("RGB").getcolors(1 << 24)
    assert len(colours or []) > 5000
    assert (0xD5, 0x5E, 0) not in {colour for _, colour in colours or []}, "no tile is one that cannot be shown"


def test_kinds_are_listed(sastrugi: Program) -> None:
    listed = {kind["kind"]: kind for kind in sastrugi("corpus", "kinds", "--json").json}
    assert len(listed) >= 60 and {k["group"] for k in listed.values()} == {
        "picture", "video", "sound", "document", "archive", "program", "data"
    }  # fmt: skip
    assert [name for name, kind in listed.items() if not kind["make"]] == ["rar"]
    ran = sastrugi("corpus", "kinds", "--group", "sound")
    assert "opus" in ran.out and "jpeg" not in ran.out and max(map(len, ran.out.splitlines())) <= 100
    assert "picture" in sastrugi("corpus", "kinds", "--group", "pictures", code=2).err


@pytest.mark.parametrize("style", STYLE_NAMES)
def test_name_styles_give_names_that_fat_can_hold(style: str) -> None:
    plans = plan_files(CorpusSpec(40, "names", kinds=("txt", "jpeg"), names=style, depth=2))
    assert len({p.path for p in plans}) == 40
    for plan in plans:
        check_name(plan.path.rpartition("/")[2], "FAT")
    names = [p.path.rpartition("/")[2] for p in plans]
    if style == "longest":
        assert {len(name) for name in names} == {255}
    if style == "same":
        assert len(set(names)) < len(names)
    if style == "case":
        assert len({name.rpartition(".")[0].lower() for name in names}) < len(
            {name.rpartition(".")[0] for name in names}
        )


def test_a_full_disk_leaves_nothing_behind(tmp_path: Path) -> None:
    """The limit on the size of a file stands in for a disk that is full in mid-way."""
    line = f"ulimit -f 40; {program_path()} corpus make {tmp_path}/c --files 9 --kind wav --size '10 KiB..400 KiB'"
    ran = subprocess.run(["bash", "-c", line], capture_output=True, text=True)
    assert ran.returncode == 2 and "cannot be written" in ran.stderr and ran.stderr.count("\n") == 1
    assert not list(tmp_path.iterdir())


def test_sizes_follow_the_spread_and_the_total() -> None:
    for low, high in SPREADS.values():
        assert all(min(low, 10) <= p.size <= high for p in plan_files(CorpusSpec(60, "s", smallest=low, largest=high)))
    plans = plan_files(CorpusSpec(60, "s", groups=("video", "sound"), total=50 << 20))
    assert abs(sum(p.size for p in plans) - (50 << 20)) < 1 << 20


def stubborn(path: Path) -> str:
    """What a decoder may do with a hostile file."""
    match path.name:
        case "hangs":
            time.sleep(60)
        case "crashes":
            import os

            os._exit(3)
        case "eats":
            bytearray(8 << 30)
        case "fails":
            raise ValueError("no good")
    return path.name


def test_children_survive_what_files_do_to_them() -> None:
    names = ["one", "hangs", "two", "crashes", "eats", "three", "fails", "four"]
    began = time.monotonic()
    outcomes = run_in_children(
        "tests.test_corpus:stubborn", [Path(n) for n in names], Progress(), seconds=2, memory=3 << 30
    )
    assert time.monotonic() - began < 40
    assert [o.value for o in outcomes] == ["one", None, "two", None, None, "three", None, "four"]
    problems = {o.task.name: o.problem for o in outcomes if o.problem}
    assert set(problems) == {"hangs", "crashes", "eats", "fails"}
    assert "longer than 2" in problems["hangs"] and "crashed" in problems["crashes"]
    assert "memory" in problems["eats"] and problems["fails"] == "no good"


def test_children_do_not_outlive_a_program_that_is_killed(tmp_path: Path) -> None:
    call = (
        "from sastrugi.subprocess_pool import run_in_children; from sastrugi.progress import Progress; from pathlib import Path\n"
        "run_in_children('tests.test_corpus:spins', [Path(PATH)], Progress(), seconds=60)"
    )
    said = tmp_path / "pid"
    program = tmp_path / "program.py"
    program.write_text(f"if __name__ == '__main__':\n    PATH = {str(said)!r}\n    " + call.replace("\n", "\n    "))
    environment = {**os.environ, "PYTHONPATH": str(Path(__file__).parent.parent)}
    parent = subprocess.Popen([sys.executable, str(program)], env=environment)
    while not said.exists() or not said.read_text():
        time.sleep(0.05)
    child = int(said.read_text())
    parent.kill()
    parent.wait()
    deadline = time.monotonic() + 10
    while Path(f"/proc/{child}").exists() and "\nState:\tZ" not in Path(f"/proc/{child}/status").read_text():
        assert time.monotonic() < deadline
        time.sleep(0.05)


def spins(path: Path) -> None:
    """Says who it is, and never comes to an end."""
    path.write_text(str(os.getpid()))
    while True:
        pass


def test_real_files_are_measured_to_their_length() -> None:
    """What installed packages brought: pictures, archives, programs, pages."""
    roots = [Path(sysconfig.get_paths()[key]) for key in ("purelib", "stdlib")]
    wanted = {
        ".png",
        ".gif",
        ".jpg",
        ".ttf",
        ".otf",
        ".whl",
        ".zip",
        ".npy",
        ".ico",
        ".so",
        ".json",
        ".svg",
        ".parquet",
        ".h5",
        ".docx",
        ".pptx",
    }
    seen: dict[str, int] = {}
    wrong: list[str] = []
    for root in roots:
        for path in root.rglob("*"):
            suffix = path.suffix
            if (
                suffix not in wanted
                or seen.get(suffix, 0) >= 25
                or not path.is_file()
                or not 0 < path.stat().st_size < 1 << 22
            ):
                continue
            seen[suffix] = seen.get(suffix, 0) + 1
            with FileSource(path) as source:
                found = recognise(source)
            if found is not None and found.whole and found.length != path.stat().st_size:
                wrong.append(f"{path}: {found.length}")
    assert sum(seen.values()) > 60 and len(seen) >= 5
    assert len(wrong) <= sum(seen.values()) // 50, json.dumps(wrong, indent=1)


def test_a_corpus_that_is_killed_leaves_no_processes(tmp_path: Path) -> None:
    command = [program_path(), "corpus", "make", str(tmp_path / "season"), "--files", "600", "--size", "200 KiB..2 MiB"]
    process = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    children: set[int] = set()
    ends = time.monotonic() + 60
    while len(children) < 2 and time.monotonic() < ends and process.poll() is None:
        time.sleep(0.05)
        children |= set(children_of(process.pid))
    assert children, "it makes files in processes of their own"
    process.kill()
    process.wait()
    while any(is_alive(child) for child in children) and time.monotonic() < ends:
        time.sleep(0.1)
    assert not any(is_alive(child) for child in children)
    assert not (tmp_path / "season").exists()


def children_of(parent: int) -> list[int]:
    try:
        return [int(pid) for pid in Path(f"/proc/{parent}/task/{parent}/children").read_text().split()]
    except OSError:
        return []


def is_alive(pid: int) -> bool:
    try:
        return Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[0] != "Z"
    except OSError:
        return False


def test_making_stops_when_asked_whatever_is_being_made(tmp_path: Path) -> None:
    """A picture of many MiB takes half a minute; nobody waits for it, and nothing is left."""
    words = ["corpus", "make", tmp_path / "made", "--files", "4", "--kind", "heic", "--size", "8 MiB"]
    running = subprocess.Popen(
        [program_path(), *map(str, words)], stderr=subprocess.PIPE, env=os.environ | {"SASTRUGI_KEPT": ""},
        start_new_session=True, text=True,
    )  # fmt: skip
    time.sleep(4)  # until pictures are being made, mostly
    os.killpg(running.pid, signal.SIGINT)
    began = time.monotonic()
    _, said = running.communicate(timeout=60)
    assert running.returncode == 130 and "Traceback" not in said
    assert time.monotonic() - began < 8, "it waited for what was being made"
    assert not list(tmp_path.iterdir())
