"""The program as people meet it: what it prints, what it answers to a wrong call, and its exit status."""

from __future__ import annotations

import re
import sys
from pathlib import Path
from types import ModuleType

import pytest
import typer

import sastrugi.__main__
import sastrugi.cli
from sastrugi.recovery.findings import PASSES
from sastrugi.recovery.scan_file import ScanFile
from sastrugi.units import format_size, parse_size
from tests.conftest import Program

COMMANDS = [
    "demo", "corpus make", "build", "adopt", "audit", "look", "map", "hex", "scan", "list", "preview", "extract", "score",
    "explain", "report", "trial", "compare", "campaign run", "campaign show", "ledger list", "ledger show", "ledger trend",
    "ledger export",
]  # fmt: skip


@pytest.mark.parametrize("command", COMMANDS)
def test_every_command_explains_itself_with_an_example(sastrugi: Program, command: str) -> None:
    ran = sastrugi(*command.split(), "--help")
    assert f"Example: sastrugi {command} " in ran.out and "--json" in ran.out
    assert max(len(line) for line in ran.out.splitlines()) <= 100
    assert command.split()[0] in sastrugi("--help").out


def test_heavy_libraries_are_not_loaded_for_help(sastrugi: Program) -> None:
    import subprocess
    import sys

    code = "import sys, sastrugi.cli; print([m for m in ('numpy', 'scipy', 'PIL', 'av', 'pydantic', 'rich.table') if m in sys.modules])"
    assert subprocess.run([sys.executable, "-c", code], capture_output=True, text=True).stdout.strip() == "[]"


def test_demo_tells_the_whole_story_on_one_screen(sastrugi: Program, tmp_path: Path) -> None:
    ran = sastrugi("demo", "--into", tmp_path / "d")
    lines = ran.out.splitlines()
    assert len(lines) <= 50 and max(map(len, lines)) <= 100 and "\x1b" not in ran.out
    for words in ("17 of them lost", "intact: same bytes", "complete: bytes in place", "named: folder and name", "all three",
                  "Of the set", "Of the ceiling", "overwritten by FRN00014.JPG", "Where things lie", "W lost, still whole"):  # fmt: skip
        assert words in ran.out, words
    assert re.search(r"intact +15 +88\.2 % of 17 +66–97 +100 % of 15", ran.out)
    assert {p.name for p in (tmp_path / "d").iterdir()} == {"specimen", "card.scan", "results", "scorecard.json"}
    assert "sastrugi list" in ran.err and len(ran.err.splitlines()) == 1, "quiet in pipes"
    again = sastrugi("demo", "--into", tmp_path / "d", code=2)
    assert "not empty" in again.err


def test_each_step_by_hand_gives_what_the_demo_gives(sastrugi: Program, demo: Path, tmp_path: Path) -> None:
    run = lambda *words: sastrugi(*words, cwd=tmp_path)  # noqa: E731
    run("build", "camera-card", "--into", "specimen")
    assert "agrees with its truth" in run("audit", "specimen").err
    look = run("look", "specimen", "--json").json
    assert [(v["file_system"], v["label"], v["start"]) for v in look["volumes"]] == [("FAT32", "FIRNLINE", 1 << 20)]
    assert "FIRNLINE" in run("look", "specimen").out
    assert "findings in specimen.scan" in run("scan", "specimen").err
    lost = run("list", "specimen.scan", "--state", "lost", "--json").json
    assert len(lost) == 17 and {"confidence", "reasons", "map", "name_sure", "passes"} <= set(lost[0])
    assert "worked out" in run("list", "specimen.scan", "--why", "--kind", "jpeg").out
    brought = run("extract", "specimen.scan", "--into", "results").out
    assert "16 files" in brought and "of 1 more nothing is left" in brought
    by_bytes = run("score", "specimen", "results", "--json").json
    by_extents = run("score", "specimen", "specimen.scan", "--json").json
    assert by_bytes["intact"] == by_extents["intact"] and by_bytes["intact"]["value"] == 15
    assert (tmp_path / "results.scorecard.json").is_file() and (tmp_path / "specimen.scan.scorecard.json").is_file()
    assert "overwritten by" in run("score", "specimen", "results", "--replace").out
    made = run("corpus", "make", "c", "--files", "3", "--kind", "txt", "--size", "1 KiB..2 KiB", "--json").json
    assert len(made["files"]) == 3 and all(
        (tmp_path / "c" / f["name"]).stat().st_size == f["size"] for f in made["files"]
    )


@pytest.fixture
def inputs(tmp_path: Path, demo: Path) -> Path:
    """Things that are not what a command asks for."""
    (tmp_path / "empty.img").touch()
    (tmp_path / "notes.img").write_text("Camp Firnline, calm and very cold.\n" * 400)
    (tmp_path / "odd.img").write_bytes(b"\1" * 1000)
    (tmp_path / "folder").mkdir()
    (tmp_path / "folder" / "file").touch()
    (tmp_path / "notes.scan").write_text("no database")
    (tmp_path / "empty.scan").touch()
    (tmp_path / "half.img").write_bytes((demo / "specimen" / "medium.img").read_bytes()[: 32 << 20])
    (tmp_path / "d").symlink_to(demo)
    return tmp_path


WRONG = [
    ("scan missing.img", "there is no such file"),
    ("scan empty.img", "empty"),
    ("scan notes.img", "a text file"),
    ("scan odd.img", "no whole number of 512-byte sectors"),
    ("scan folder", "no specimen"),
    ("scan half.img", "cut short"),
    ("scan d/specimen --out d/specimen/medium.img", "the medium itself"),
    ("scan d/specimen --passes tabels", "'tabels' is no pass"),
    ("scan d/specimen --out d/card.scan", "is there already"),
    ("scan d/specimen --out new.scan --go-on", "no such scan file"),
    ("look missing.img", "there is no such file"),
    ("list missing.scan", "no such scan file"),
    ("list notes.scan", "no scan file"),
    ("list empty.scan", "no scan file"),
    ("list d/card.scan --state gone", "no state of a finding"),
    ("list d/card.scan --kind jpge", "no kind: did you mean 'jpeg'"),
    ("extract notes.scan --into new", "no scan file"),
    ("build missing.toml --into new", "cannot be read"),
    ("build camera-crad --into new", "did you mean 'camera-card'"),
    ("build camera-card --into folder", "not empty"),
    ("audit folder", "no specimen"),
    ("score folder d/results", "no specimen"),
    ("score d/specimen missing", "neither a folder of results nor a scan file"),
    ("score d/specimen d/specimen", "the specimen itself"),
    ("corpus make folder", "not empty"),
    ("corpus make new --kind jpge", "did you mean 'jpeg'"),
    ("corpus make new --size 5parsec", "is not a size"),
    ("corpus make new --size 9KiB..2KiB", "must not be above"),
    ("corpus make new --names fancy", "no" "t a name style"),
]  # fmt: skip


@pytest.mark.parametrize(("line", "message"), WRONG)
def test_a_wrong_call_gets_one_clear_line_and_writes_nothing(
    sastrugi: Program, inputs: Path, line: str, message: str
) -> None:
    before = sorted(inputs.rglob("*")), sorted((inputs / "d").rglob("*"))
    ran = sastrugi(*line.split(), cwd=inputs, code=2)
    assert message in ran.err and ran.err.startswith("sastrugi: ") and ran.err.count("\n") == 1 and not ran.out
    assert (sorted(inputs.rglob("*")), sorted((inputs / "d").rglob("*"))) == before


def test_half_an_image_can_be_scanned_on_request(sastrugi: Program, inputs: Path) -> None:
    ran = sastrugi("look", "half.img", cwd=inputs, code=3)
    assert "FAT32" in ran.out and "cut short" in ran.err
    sastrugi("scan", "half.img", "--as-is", "--out", "half.scan", cwd=inputs)
    assert len(sastrugi("list", "half.scan", "--state", "lost", "--json", cwd=inputs).json) == 17


@pytest.mark.parametrize(
    ("text", "size"), [("512", 512), ("4 GiB", 4 << 30), ("4 GB", 4 * 10**9), ("1.5 KiB", 1536), ("7b", 7)]
)
def test_sizes_are_read_as_written(text: str, size: int) -> None:
    assert parse_size(text) == size
    assert format_size(1536) == "1.5 KiB" and format_size(64 << 20) == "64 MiB" and format_size(3) == "3 B"


def test_the_version_is_printed_without_a_command(sastrugi: Program) -> None:
    assert sastrugi("--version").out.startswith("sastrugi 0.")


def test_a_ctrl_c_while_the_program_is_being_loaded_ends_it_without_a_word(
    monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    class Loading(ModuleType):
        def __getattr__(self, name: str) -> None:
            raise KeyboardInterrupt

    monkeypatch.setitem(sys.modules, "sastrugi.cli", Loading("sastrugi.cli"))
    with pytest.raises(SystemExit) as left:
        sastrugi.__main__.main()
    assert left.value.code == 130 and capsys.readouterr() == ("", "")


def test_each_command_is_found_in_its_own_module() -> None:
    """A call imports the module of its command alone: the table that says which is the whole truth."""
    modules = sastrugi.cli.COMMANDS
    for module, commands in modules.items():
        alone = typer.main.get_command(sastrugi.cli.command_line([commands[0]]))
        assert isinstance(alone, typer.core.TyperGroup)
        assert sorted(alone.commands) == sorted(commands), module
    whole = typer.main.get_command(sastrugi.cli.command_line(["--help"]))
    assert isinstance(whole, typer.core.TyperGroup)
    assert sorted(whole.commands) == sorted(name for commands in modules.values() for name in commands)
    here = Path(sastrugi.cli.__file__).parent
    assert set(modules) == {path.stem for path in here.glob("*.py") if "def register(" in path.read_text()}


def test_a_scan_makes_all_passes_unless_told_otherwise(sastrugi: Program, demo: Path, tmp_path: Path) -> None:
    sastrugi("scan", demo / "specimen", "--out", tmp_path / "all.scan")
    sastrugi("scan", demo / "specimen", "--out", tmp_path / "some.scan", "--passes", "pieces,tables")
    made = []
    for name in ("all", "some"):
        with ScanFile.open(tmp_path / f"{name}.scan") as file:
            made.append(file.get("passes").split(","))
    assert made == [list(PASSES), ["layout", "tables", "pieces"]]
