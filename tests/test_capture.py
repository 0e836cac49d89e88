"""Capture: any container, failing media, and stops of every sort; the digest is always that of an unbroken one."""

from __future__ import annotations

import json
import random
import shutil
import signal
import subprocess
import time
from pathlib import Path

import pytest

from sastrugi.media import open_medium
from sastrugi.media.raw import RawImage
from sastrugi.specimen.digests import medium_digest
from tests.conftest import Program, program_path
from tests.warm import Fault, WarmProgram

MIB = 1 << 20
SIZE = 48 * MIB


@pytest.fixture(scope="module")
def card(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A medium with noise, zeros and a hole."""
    path = tmp_path_factory.mktemp("card") / "card.img"
    image, dice = RawImage(path, SIZE), random.Random(9)
    for at in (*range(0, 20), *range(30, 48)):
        image.write(at * MIB, dice.randbytes(MIB))
    image.close()
    return path


def digest_of(path: Path) -> str:
    with open_medium(path) as medium:
        return medium_digest(medium)


def with_faults(card: Path, folder: Path, **faults: object) -> Path:
    copy = folder / "failing.img"
    shutil.copy(card, copy)
    document = {"format": "sastrugi-faults", "version": 1, **faults}
    (folder / "failing.img.faults.json").write_text(json.dumps(document), "utf-8")
    return copy


@pytest.mark.parametrize("name", ["a.img", "a.vhd", "a.qcow2", "a.001"])
def test_a_capture_holds_the_same_bytes(sastrugi: Program, card: Path, tmp_path: Path, name: str) -> None:
    ran = sastrugi("capture", card, "--out", tmp_path / name, "--part-size", "16 MiB", "--json").json
    assert ran["digest"] == digest_of(card) == digest_of(tmp_path / name) and ran["read"] < SIZE - 9 * MIB
    assert not ran["unreadable"] and not list(tmp_path.glob(".*"))
    back = tmp_path / "back.img"
    sastrugi("capture", tmp_path / name, "--out", back)
    assert back.read_bytes() == card.read_bytes()


def test_scan_audit_and_map_are_the_same_in_any_container(sastrugi: Program, demo: Path, tmp_path: Path) -> None:
    known: set[str] = set()
    for name in ("a.img", "a.vhd", "a.qcow2", "a.001"):
        image = tmp_path / name
        sastrugi("capture", demo / "specimen", "--out", image, "--part-size", "20 MiB")
        sastrugi("scan", image, "--out", tmp_path / "a.scan")
        drawn = sastrugi("map", image, "--out", tmp_path / "m.png", "--json", "--replace").json
        found = sastrugi("list", tmp_path / "a.scan", "--json").out
        known.add(json.dumps([found, drawn["layers"]]))
        (tmp_path / "a.scan").unlink()
    assert len(known) == 1


def test_what_cannot_be_read_is_noted_and_the_rest_is_there(sastrugi: Program, card: Path, tmp_path: Path) -> None:
    dead = [[3 * MIB + 512, 1024], [40 * MIB, 70_144]]
    failing = with_faults(card, tmp_path, unreadable=dead, flaky=[[9 * MIB, 4096, 3]], slow=[[10 * MIB, 512, 0.01]])
    ran = sastrugi("capture", failing, "--out", tmp_path / "a.qcow2", "--json", code=3).json
    assert ran["unreadable"] == dead
    wanted = bytearray(card.read_bytes())
    for at, length in dead:
        wanted[at : at + length] = bytes(length)
    with open_medium(tmp_path / "a.qcow2") as medium:
        assert medium.read(0, SIZE) == wanted
        assert [list(part) for part in medium.unread] == dead, "the new image knows, too"
    said = sastrugi("capture", failing, "--out", tmp_path / "b.img", code=3).err
    assert "71,168 bytes could not be read, in 2 ranges" in said
    sastrugi("scan", tmp_path / "b.img", "--out", tmp_path / "b.scan", code=3)


def test_a_device_that_goes_away_is_gone_on_with(sastrugi: Program, card: Path, tmp_path: Path) -> None:
    failing = with_faults(card, tmp_path, drop_out=17 * MIB)
    out = tmp_path / "a.vhd"
    ran = sastrugi("capture", failing, "--out", out, code=130)
    assert "the source went away at byte" in ran.err and "--go-on" in ran.err and not out.exists()
    for _ in range(6):
        ran = sastrugi("capture", failing, "--out", out, "--go-on", code=None)
        if ran.code == 0:
            break
    assert ran.code == 0 and digest_of(out) == digest_of(card)


@pytest.mark.parametrize("how", [signal.SIGINT, signal.SIGKILL])
@pytest.mark.parametrize("name", ["a.img", "a.vhd", "a.qcow2", "a.001"])
def test_a_capture_that_is_stopped_goes_on(
    sastrugi: Program, card: Path, tmp_path: Path, name: str, how: signal.Signals
) -> None:
    slow = with_faults(card, tmp_path, slow=[[at * MIB, 512, 0.06] for at in range(0, 48, 4)])
    out = tmp_path / name
    words = ["capture", slow, "--out", out, "--part-size", "16 MiB"]
    process = subprocess.Popen([program_path(), *map(str, words)], stderr=subprocess.PIPE, text=True)
    journal = tmp_path / f".{name}.capture" / "journal.json"
    while not journal.exists():
        time.sleep(0.01)
    time.sleep(random.Random(f"{name}{how}").uniform(0.05, 0.4))
    process.send_signal(how)
    said = process.communicate(timeout=60)[1]
    assert process.returncode in (130, -signal.SIGKILL), said
    assert not out.exists()
    assert ("go on with: sastrugi capture" in said) == (how == signal.SIGINT)
    assert "was stopped: go on with --go-on" in sastrugi(*words, code=2).err
    sastrugi(*words, "--go-on")
    assert digest_of(out) == digest_of(card) and not list(tmp_path.glob(".*"))


@pytest.mark.parametrize("name", ["a.img", "a.vhd", "a.qcow2"])
def test_a_disk_that_takes_no_more(sastrugi: Program, card: Path, tmp_path: Path, name: str) -> None:
    """From the start, or in the middle of it: a line says so, and what was read is not read again."""
    out = tmp_path / name
    words = ["capture", str(card), "--out", str(out)]
    limited = ["sh", "-c", 'ulimit -f 20000; exec "$@"', "sh", program_path(), *words]
    ran = subprocess.run(limited, capture_output=True, text=True)
    assert ran.returncode == 2 and f"{out}: cannot be" in ran.stderr and not out.exists()
    assert len(ran.stderr.strip().splitlines()) == 1
    begun = list(tmp_path.glob(".*"))
    assert bool(begun) == ("go on with --go-on" in ran.stderr) == (name != "a.img")
    sastrugi(*words, *(["--go-on"] if begun else []))
    assert digest_of(out) == digest_of(card) and not list(tmp_path.glob(".*"))


def test_calls_that_cannot_be_carried_out(sastrugi: Program, card: Path, tmp_path: Path) -> None:
    (tmp_path / "there.img").write_bytes(b"x")
    cases = {
        (card, card): "is the medium itself", (card, tmp_path / "there.img"): "is there already",
        (card, tmp_path / "none" / "a.img"): "there is no such folder", (tmp_path / "none.img", tmp_path / "a.img"): "no such file",
    }  # fmt: skip
    for (source, out), message in cases.items():
        assert message in sastrugi("capture", source, "--out", out, code=2).err
    assert "no capture to go on with" in sastrugi("capture", card, "--out", tmp_path / "a.img", "--go-on", code=2).err
    assert "is no container" in sastrugi("capture", card, "--out", tmp_path / "a", "--container", "zip", code=2).err
    assert not (tmp_path / ".a.capture").exists()
    assert [path.name for path in tmp_path.iterdir() if path.is_file()] == ["there.img"]


@pytest.mark.parametrize(
    "text", ["{", "[]", '{"format": "x", "version": 1}', '{"format": "sastrugi-faults", "version": 1, "unreadable": [[-1, 5]]}',
             '{"format": "sastrugi-faults", "version": 1, "broken": []}'],
)  # fmt: skip
def test_a_damaged_list_of_faults_is_refused(sastrugi: Program, card: Path, tmp_path: Path, text: str) -> None:
    copy = with_faults(card, tmp_path)
    (tmp_path / "failing.img.faults.json").write_text(text, "utf-8")
    assert "is no list of faults" in sastrugi("look", copy, code=2).err


@pytest.mark.parametrize("name", ["a.img", "a.qcow2", "a.001"])
def test_a_capture_that_was_killed_before_it_read_begins_anew(
    sastrugi: Program, card: Path, tmp_path: Path, name: str
) -> None:
    """Its folder is there, with files in it, but no journal: there is nothing to go on with, and nothing in the way."""
    work = tmp_path / f".{name}.capture"
    work.mkdir()
    (work / name).write_bytes(b"begun")
    said = sastrugi("capture", card, "--out", tmp_path / name, "--go-on", code=2).err
    assert "leave --go-on out" in said
    sastrugi("capture", card, "--out", tmp_path / name, "--part-size", "16 MiB")
    assert digest_of(tmp_path / name) == digest_of(card) and not list(tmp_path.glob(".*"))


@pytest.mark.parametrize("name", ["a.img", "a.001"])
def test_a_capture_that_was_killed_while_it_moved_is_finished(
    sastrugi: Program, card: Path, tmp_path: Path, name: str
) -> None:
    """All is read, some parts are moved out, the rest and the journal stand: going on moves what is left."""
    told = tmp_path / "told"
    told.mkdir()
    program = WarmProgram(program_path())
    out = tmp_path / "out"
    out.mkdir()
    words = ["capture", str(card), "--out", str(out / name), "--part-size", "16 MiB"]
    program.run(words, tmp_path, told, Fault(str(out), 0, "kill"))
    changes = (told / "changes").read_text().split()
    for path in out.iterdir():
        path.unlink()
    renames = [n for n, change in enumerate(changes, 1) if change == "os.rename"]
    assert program.run(words, tmp_path, told, Fault(str(out), renames[-1], "kill"))[0] == -9
    assert (out / f".{name}.capture" / "journal.json").is_file()
    sastrugi(*words, "--go-on")
    assert digest_of(out / name) == digest_of(card) and not list(out.glob(".*"))
    program.close()
