"""The engine: what a scan finds, how it goes on after a stop, and files brought back without harm."""

from __future__ import annotations

import os
import random
import shutil
import signal
import sqlite3
import subprocess
import time
from collections.abc import Iterator
from dataclasses import replace
from functools import partial
from multiprocessing import get_context
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from sastrugi.errors import SastrugiError
from sastrugi.media import open_medium
from sastrugi.progress import Progress
from sastrugi.recovery import passes
from sastrugi.recovery.extract import extract
from sastrugi.recovery.findings import PASSES, Finding
from sastrugi.recovery.scan import scan
from sastrugi.recovery.scan_file import ScanFile
from sastrugi.report.evidence import reasons
from sastrugi.specimen.build import build
from sastrugi.specimen.truth import Specimen
from sastrugi.volumes.fat.read import FatVolume
from sastrugi.volumes.reader import Entry
from tests.conftest import Program, program_path
from tests.harm import damage, structures
from tests.recipes import FILE_SYSTEMS, random_recipe
from tests.test_kinds import SIGNED, sample


def findings(path: Path, where: str = "") -> list[Finding]:
    with ScanFile.open(path) as file:
        return list(file.findings(where))


def test_findings_say_where_what_and_why(demo: Path) -> None:
    with Specimen(demo / "specimen") as specimen:
        truth = {f.path: f for f in specimen.truth.files}
    found = {f.path: f for f in findings(demo / "card.scan")}
    assert set(found) == set(truth)
    for path, finding in found.items():
        file = truth[path]
        assert (
            finding.state == file.end and finding.size == file.size and finding.kind == file.kind and finding.evidence
        )
        assert finding.times.created == file.created and finding.times.modified is not None
        assert (finding.confidence > 0.8) == (not file.gone), finding.evidence
        if not file.gone:
            assert finding.extents == file.extents
        if finding.state == "deleted":
            camera = "101FIRN" in path or "102FIRN" in path
            assert any("worked out" in one for one in reasons(finding.evidence)) == camera and (
                finding.name_sure > 0.95 or camera or "Carnets" in path
            )
    taken = next(f for f in found.values() if truth[f.path].gone)
    assert any("now belong to DCIM/103FIRN/" in reason for reason in reasons(taken.evidence))


def content_image(path: Path) -> dict[int, bytes]:
    """A medium without any volume: files at sectors, noise and zeros between them. Content by offset."""
    dice = random.Random(3)
    places: dict[int, bytes] = {}
    blocks = [dice.randbytes(1 << 16)]
    at = 1 << 16
    for name in [*SIGNED, *SIGNED, "txt"]:
        content = sample(name, 20_000 + 512 * len(places))
        places[at] = content
        padded = content + bytes(-len(content) % 512) + (dice.randbytes(512 * 5) if len(places) % 2 else bytes(512 * 3))
        blocks.append(padded)
        at += len(padded)
    path.write_bytes(b"".join([*blocks, bytes(1 << 16)]))
    return places


def test_content_finds_files_that_nothing_lists(sastrugi: Program, tmp_path: Path) -> None:
    places = content_image(tmp_path / "raw.img")
    sastrugi("scan", tmp_path / "raw.img", "--out", tmp_path / "raw.scan")
    found = {f.extents[0].offset: f for f in findings(tmp_path / "raw.scan")}
    assert {at: found[at].size for at in places} == {at: len(content) for at, content in places.items()}
    assert set(found) == set(places), "nothing inside another file, and no noise"
    assert all(f.state == "found" and 0 < f.confidence < 1 and f.name_sure == 0 for f in found.values())


def test_passes_can_be_chosen(sastrugi: Program, demo: Path, tmp_path: Path) -> None:
    sastrugi("scan", demo / "specimen", "--out", tmp_path / "fast.scan", "--passes", "tables")
    assert {f.passes for f in findings(tmp_path / "fast.scan")} == {("tables",)}
    sastrugi("scan", demo / "specimen", "--out", tmp_path / "content.scan", "--passes", "content")
    content = findings(tmp_path / "content.scan")
    with Specimen(demo / "specimen") as specimen:
        whole = {f.extents for f in specimen.truth.files if len(f.extents) == 1 and not f.gone and f.kind != "txt"}
    assert {f.passes for f in content} == {("content",)} and whole <= {f.extents for f in content}


class StopAt(Progress):
    """Asks to stop after so many reports."""

    def __init__(self, reports: int) -> None:
        super().__init__()
        self.left = reports

    def at(self, done: int, note: str = "") -> None:
        self.left -= 1
        self.stop_asked = self.left <= 0


def rows(path: Path) -> list[tuple[object, ...]]:
    with sqlite3.connect(path) as db:
        return sorted(
            db.execute("SELECT state, folder, name, kind, size, passes, confidence, evidence, map FROM findings")
        )


@pytest.mark.parametrize("reports", [1, 2, 5, 9])
def test_a_stopped_scan_goes_on_to_the_same_findings(tmp_path: Path, reports: int) -> None:
    content_image(tmp_path / "raw.img")
    with open_medium(tmp_path / "raw.img") as medium:
        scan(medium, tmp_path / "whole.scan", Progress())
        with pytest.raises(SastrugiError, match="stopped"):
            scan(medium, tmp_path / "part.scan", StopAt(reports))
        assert len(rows(tmp_path / "part.scan")) < len(rows(tmp_path / "whole.scan"))
        scan(medium, tmp_path / "part.scan", Progress(), go_on=True)
    assert rows(tmp_path / "part.scan") == rows(tmp_path / "whole.scan")


def test_a_scan_stopped_while_pieces_are_put_together_goes_on_to_the_same(sastrugi: Program, tmp_path: Path) -> None:
    """Stopped at every report: what one pass has changed of another's findings is kept whole, or not at all."""
    sastrugi("build", "scattered", "--into", tmp_path / "s")
    with open_medium(tmp_path / "s") as medium:
        watch = StopAt(1 << 30)
        scan(medium, tmp_path / "whole.scan", watch)
        for reports in range(1, (1 << 30) - watch.left):
            part = tmp_path / f"{reports}.scan"
            with pytest.raises(SastrugiError, match="stopped"):
                scan(medium, part, StopAt(reports))
            scan(medium, part, Progress(), go_on=True)
            assert rows(part) == rows(tmp_path / "whole.scan"), reports


@pytest.mark.parametrize("step", ["executescript", "executemany", "commit"])
def test_a_scan_killed_while_its_file_is_made_leaves_none(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, step: str
) -> None:
    """What stands under the name can be gone on with, always."""

    class Killed(sqlite3.Connection):
        """A connection whose process ends at one of its calls."""

    monkeypatch.setattr(Killed, step, lambda *_: os._exit(9), raising=False)
    monkeypatch.setattr("sastrugi.recovery.scan_file.sqlite3.connect", partial(sqlite3.connect, factory=Killed))
    content_image(tmp_path / "raw.img")
    with open_medium(tmp_path / "raw.img") as medium:
        child = get_context("fork").Process(target=scan, args=(medium, tmp_path / "m.scan", Progress()))
        child.start()
        child.join()
        assert child.exitcode == 9
        monkeypatch.undo()
        assert not (tmp_path / "m.scan").exists()
        scan(medium, tmp_path / "m.scan", Progress())
    assert [one.name for one in tmp_path.iterdir() if "m.scan" in one.name] == ["m.scan"]


def big_image(path: Path) -> None:
    """Many small files over 96 MiB, so that a scan takes long enough to be killed."""
    noise = random.Random(4).randbytes(1 << 16)
    with path.open("wb") as file:
        for n in range(1500):
            content = sample(SIGNED[n % len(SIGNED)], 8000)
            file.write(content + bytes(-len(content) % 512) + noise)


def test_a_killed_scan_and_an_interrupted_one_go_on(sastrugi: Program, tmp_path: Path) -> None:
    big_image(tmp_path / "big.img")
    sastrugi("scan", tmp_path / "big.img", "--out", tmp_path / "whole.scan")
    words = [program_path(), "scan", str(tmp_path / "big.img"), "--out", str(tmp_path / "part.scan")]
    dice = random.Random(9)
    for n in range(40):
        resume = ["--go-on"] if (tmp_path / "part.scan").exists() else []
        process = subprocess.Popen([*words, *resume], stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True)
        time.sleep(dice.uniform(0.4, 1.6))
        process.send_signal(signal.SIGKILL if n % 2 else signal.SIGINT)
        said = process.communicate()[1]
        if "what was found so far" in said:
            assert process.returncode == 130 and "go on with: sastrugi scan" in said and "--go-on" in said
        if process.returncode == 0 or "is finished" in said:
            break
        part = tmp_path / "part.scan"
        if part.exists() and (part.stat().st_size == 0 or "no scan file" in said):
            part.unlink()  # killed before there was anything
    resume = ["--go-on"] if (tmp_path / "part.scan").exists() else []
    sastrugi("scan", tmp_path / "big.img", "--out", tmp_path / "part.scan", *resume, code=None)
    assert rows(tmp_path / "part.scan") == rows(tmp_path / "whole.scan")
    ran = sastrugi("scan", tmp_path / "big.img", "--out", tmp_path / "part.scan", "--go-on", code=2)
    assert "finished" in ran.err


@given(st.data())
def test_a_hostile_medium_is_scanned_without_harm(
    demo: Path, tmp_path_factory: pytest.TempPathFactory, draw: st.DataObject
) -> None:
    """Any bytes of a real volume changed, in its structures above all: the scan ends, and says no more than before."""
    folder = tmp_path_factory.mktemp("hostile")
    path = folder / "m.img"
    shutil.copyfile(demo / "specimen" / "medium.img", path)
    with path.open("r+b") as file:
        for _ in range(draw.draw(st.integers(1, 30))):
            base = draw.draw(
                st.sampled_from([0, 1 << 20, (1 << 20) + 32 * 512, (1 << 20) + 2080 * 512, (1 << 20) + 2080 * 512])
            )
            file.seek(base + draw.draw(st.integers(0, 3000)))
            file.write(draw.draw(st.binary(min_size=1, max_size=16)))
    with open_medium(path) as medium:
        result = scan(medium, folder / "m.scan", Progress(), as_is=True)
        found = findings(result.path)
        assert all(0 <= f.confidence <= 1 and f.size >= 0 for f in found)
        extract(medium, found, folder / "out", Progress())
    assert sum(len(f.extents) for f in found) < 100_000


@pytest.mark.parametrize("file_system", FILE_SYSTEMS)
@settings(max_examples=2)
@given(seed=st.integers(0, 1 << 30))
def test_a_damaged_medium_of_any_file_system_is_scanned_without_harm(
    tmp_path_factory: pytest.TempPathFactory, file_system: str, seed: int
) -> None:
    """Numbers, bytes and sectors changed, in structures above all: the scan ends soon, and what it says fits the medium;
    what it finds can be brought back. `benchmarks/fuzz_media.py` does the same for hours."""
    folder = tmp_path_factory.mktemp("damaged")
    build(random_recipe(seed % 3, file_system, 8, "200 B..9 KiB"), folder / "s", Progress())
    path = folder / "s" / "medium.img"
    damage(path, structures(folder / "s"), random.Random(seed))
    began = time.monotonic()
    with open_medium(path) as medium:
        scan(medium, folder / "m.scan", Progress(), as_is=True)
        extract(medium, findings(folder / "m.scan"), folder / "out", Progress())
    assert time.monotonic() - began < 40
    for f in findings(folder / "m.scan"):
        assert 0 <= f.confidence <= 1 and 0 <= f.sound <= max(f.size, f.covered)
        assert all(e.offset >= 0 and e.length > 0 for e in f.extents) or f.size == 0
    assert {one.name for one in folder.iterdir()} == {"s", "m.scan", "out"}


# -- history -----------------------------------------------------------------------------------


def test_what_only_the_history_of_a_volume_tells_is_found(
    demo: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A volume that keeps older copies of its metadata is asked for them; what others told is not told again."""

    def entries_of_old(self: FatVolume) -> Iterator[Entry]:
        for entry in list(self.entries()):
            if entry.deleted and not entry.folder:
                yield replace(entry, source="transaction 7")
                yield replace(entry, source="transaction 6")

    assert tuple(one.name for one in passes.PASSES) == PASSES
    told: dict[str, list[str]] = {}
    for name, named in (("alone", ["journals"]), ("after", list(PASSES)), ("none", list(PASSES))):
        if name == "none":
            monkeypatch.undo()
        else:
            monkeypatch.setattr(FatVolume, "history", entries_of_old)
        with open_medium(demo / "specimen") as medium:
            scan(medium, tmp_path / f"{name}.scan", Progress(), named)
        with ScanFile.open(tmp_path / f"{name}.scan") as file:
            told[name] = [f.name for f in file.findings("state != 'live'") if f.passes == ("journals",)]
            if name == "alone":
                first = [reasons(f.evidence)[0] for f in file.findings() if f.passes == ("journals",)]
    assert len(told["alone"]) == 16 and set(first) == {"told by transaction 7"}
    assert told["after"] == told["none"] == []
